//! What a call over HTTP fails with.

use actix_web::http::{StatusCode, header};
use actix_web::{HttpResponse, ResponseError};
use rendel_core::{Problem, ProblemKind};
pub(crate) use rendel_session::{shutting_down, unavailable};
use rendel_store::StoreError;

/// A problem as a response: `application/problem+json` (RFC 9457).
#[derive(Debug)]
pub(crate) struct Failure(pub(crate) Problem);

impl std::fmt::Display for Failure {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        self.0.fmt(f)
    }
}

impl From<Problem> for Failure {
    fn from(problem: Problem) -> Self {
        Self(problem)
    }
}

impl From<StoreError> for Failure {
    fn from(error: StoreError) -> Self {
        Self(from_store(&error))
    }
}

impl ResponseError for Failure {
    fn status_code(&self) -> StatusCode {
        StatusCode::from_u16(self.0.kind().status()).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR)
    }

    fn error_response(&self) -> HttpResponse {
        let mut response = HttpResponse::build(self.status_code());
        response.content_type("application/problem+json");
        if self.0.kind().status() == 401 {
            response.insert_header((header::WWW_AUTHENTICATE, "Bearer"));
        }
        if self.0.kind() == ProblemKind::WrongMedia {
            let accepted = "application/json-patch+json, application/merge-patch+json";
            response.insert_header(("Accept-Patch", accepted));
        }
        if self.0.kind().status() == 503 {
            response.insert_header((header::RETRY_AFTER, 1));
        }
        if let Some(wait) = self.0.member("wait_ms").and_then(serde_json::Value::as_u64) {
            response.insert_header((header::RETRY_AFTER, wait.div_ceil(1000)));
        }
        response.body(serde_json::to_vec(&self.0).unwrap_or_default())
    }
}

/// What a participant or backend is told of a failed call of the store. Detail goes to the log.
pub(crate) fn from_store(error: &StoreError) -> Problem {
    match error {
        StoreError::Exists => Problem::new(ProblemKind::Exists, "It exists already."),
        StoreError::Away(_) => unavailable(),
        StoreError::Forgotten { at, kept_from } => too_old(*at, *kept_from),
        StoreError::NotKept(_) | StoreError::Damaged(_) | StoreError::Database(_) => {
            tracing::error!(%error, "the store failed");
            Problem::new(
                ProblemKind::Unavailable,
                "The stored session cannot be read. The service's log says why.",
            )
        }
    }
}

/// The refusal of a place that is not kept any more.
pub(crate) fn too_old(at: u64, kept_from: u64) -> Problem {
    let detail = format!("What was before {kept_from} is not kept; {at} lies before it.");
    Problem::new(ProblemKind::TooOld, detail).with("kept_from", kept_from)
}

pub(crate) fn no_session(id: &str) -> Problem {
    let id: String = id.chars().take(64).collect();
    Problem::new(
        ProblemKind::NoSession,
        format!("There is no session {id:?}. Open it with POST /v1/sessions."),
    )
}

/// Somebody was removed, and may come back then, in milliseconds since 1970 UTC.
pub(crate) fn removed(until: u64) -> Problem {
    let wait_ms = until.saturating_sub(crate::clock::now_ms());
    let detail = match wait_ms {
        0 => "You were removed from this session. You may enter again.".to_owned(),
        wait => format!(
            "You were removed from this session, and may come back in {} s.",
            wait.div_ceil(1_000)
        ),
    };
    Problem::new(ProblemKind::Removed, detail).with("until", until)
}
