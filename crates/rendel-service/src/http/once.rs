//! Calls of the backend that may be made again: each counts once, and is answered as at first.

use actix_web::HttpRequest;
use rendel_core::{Problem, ProblemKind};
use rendel_store::{OnceCall, StoreError};
use serde::Serialize;
use serde::de::DeserializeOwned;
use sha2::{Digest as _, Sha256};

use crate::app::App;
use crate::failure::Failure;

/// The `Idempotency-Key` of a call, if it has one.
pub(super) fn key_of(request: &HttpRequest) -> Result<Option<&str>, Problem> {
    let Some(key) = request.headers().get("Idempotency-Key") else { return Ok(None) };
    let key = key.to_str().ok().filter(|key| (1..=256).contains(&key.len()));
    let detail = "An Idempotency-Key has 1 to 256 printable characters.";
    key.map(Some).ok_or_else(|| Problem::new(ProblemKind::Malformed, detail))
}

/// A call with an `Idempotency-Key`: known again by its path and key. Such calls are remembered for
/// a day.
#[derive(Debug)]
pub(super) struct Once {
    key: String,
    fingerprint: String,
}

impl Once {
    pub(super) fn of(request: &HttpRequest, body: &[u8]) -> Result<Option<Self>, Problem> {
        let digest = |parts: &[&[u8]]| hex::encode(Sha256::digest(parts.join(&b'\n')));
        Ok(key_of(request)?.map(|key| Self {
            key: digest(&[request.path().as_bytes(), key.as_bytes()]),
            fingerprint: digest(&[body]),
        }))
    }

    /// Bytes that only whoever knows `secret` can compute, the same ones when the call is made
    /// again.
    pub(super) fn made_with(&self, secret: &[u8]) -> [u8; 16] {
        let made = crate::signature::hmac(secret, self.key.as_bytes());
        std::array::from_fn(|at| made[at])
    }

    /// From what the first answer can be made again, if the call was made before.
    async fn first<T: DeserializeOwned>(&self, app: &App) -> Result<Option<T>, Failure> {
        let Some(known) = app.store.call(self.key.clone()).await? else { return Ok(None) };
        if known.fingerprint != self.fingerprint {
            let detail = "Another body was sent under this Idempotency-Key. Take a new key for \
                another call.";
            return Err(Failure(Problem::new(ProblemKind::KeyReused, detail)));
        }
        let answer = serde_json::from_str(&known.answer);
        answer.map(Some).map_err(|error| StoreError::Damaged(error.to_string()).into())
    }
}

/// Does something by a call, unless it was done by the same call before: gives from what the answer
/// is made, and whether it was done just now. `act` keeps the call with what it does.
pub(super) async fn once<T: Serialize + DeserializeOwned>(
    app: &App,
    call: Option<&Once>,
    answer: T,
    act: impl AsyncFnOnce(Option<OnceCall>) -> Result<(), Failure>,
) -> Result<(T, bool), Failure> {
    let Some(call) = call else {
        act(None).await?;
        return Ok((answer, true));
    };
    if let Some(first) = call.first(app).await? {
        return Ok((first, false));
    }
    let stored =
        serde_json::to_string(&answer).map_err(|error| StoreError::Damaged(error.to_string()))?;
    let (key, fingerprint) = (call.key.clone(), call.fingerprint.clone());
    match act(Some(OnceCall { key, fingerprint, answer: stored })).await {
        Ok(()) => Ok((answer, true)),
        // Either the same call at the same moment, or what it was to make is there already.
        Err(failure) if failure.0.kind() == ProblemKind::Exists => {
            call.first(app).await?.map(|first| (first, false)).ok_or(failure)
        }
        Err(failure) => Err(failure),
    }
}
