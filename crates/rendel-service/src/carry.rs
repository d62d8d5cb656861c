//! A session as one file: JSON Lines (one JSON value a line), written by an export and read by an
//! import.
//!
//! The first line is the head: the version of this form, the session, its charter as text. Then
//! come the snapshot before which nothing is kept (where there is one), the updates in order and
//! the remembered refusals. The last line has the SHA-256 of all bytes before it and the number of
//! lines.
//!
//! A line that could tell what was cast on a secret ballot is sealed (XChaCha20-Poly1305, keyed by
//! HKDF from the service key), so only a service with the same key brings such a session in.

use std::sync::Arc;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use chacha20poly1305::aead::Aead as _;
use chacha20poly1305::{KeyInit as _, XChaCha20Poly1305};
use rendel_core::{Charter, Problem, ProblemKind, Sequencer, SequencerSnapshot, Settled};
use rendel_store::Whole;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use serde_json::value::RawValue;
use sha2::{Digest as _, Sha256};
use uuid::Uuid;

use crate::failure::unavailable;

/// The version of the form. Since the second it says whose a refusal was, since the third lines may
/// be sealed.
const VERSION: u32 = 3;
const WITH_CLIENTS: u32 = 2;
/// What the key that seals is derived for.
pub(crate) const PURPOSE: &str = "exports";
/// Bytes of a nonce.
const NONCE: usize = 24;

#[derive(Serialize, Deserialize)]
struct Head {
    rendel: u32,
    session: String,
    charter: String,
    version: i32,
    source: String,
    status: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    opening: Option<Box<RawValue>>,
    epoch: u64,
    epochs: Vec<(u64, u64)>,
    /// Since version 2: without it the repeat of a call with an `Idempotency-Key` would count anew.
    #[serde(default)]
    secret: Option<Uuid>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    labels: Vec<String>,
}

#[derive(Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
enum Line {
    Snapshot(Box<RawValue>),
    Update(Box<RawValue>),
    Refusal {
        client: Uuid,
        n: u64,
        at_seq: u64,
        problem: Box<RawValue>,
    },
    /// Any of these, sealed: its nonce and what that gives, in base64.
    Sealed(String),
    End {
        sha256: String,
        lines: usize,
    },
}

/// What an import found.
#[derive(Debug)]
pub(crate) struct Carried {
    pub(crate) whole: Whole,
    pub(crate) charter: Arc<Charter>,
}

/// The file of a session. Cost O(its journal), all of it in memory.
pub(crate) fn write(whole: &Whole, source: &str, key: &[u8; 32]) -> Result<String, Problem> {
    let raw = |json: &str| RawValue::from_string(json.to_owned()).unwrap_or_default();
    let secret: Vec<String> = Charter::parse(source)
        .map(|charter| charter.secret_ballots().map(str::to_owned).collect())
        .unwrap_or_default();
    let head = Head {
        rendel: VERSION,
        session: whole.id.clone(),
        charter: whole.charter.clone(),
        version: whole.version,
        source: source.to_owned(),
        status: whole.status.clone(),
        opening: whole.opening.as_deref().map(raw),
        epoch: whole.epoch,
        epochs: whole.epochs.clone(),
        secret: Some(whole.secret),
        labels: whole.labels.clone(),
    };
    let mut text = line(&head);
    let mut lines = 1;
    let mut put = |one: &Line, tells: bool| {
        text += &match tells {
            true => line(&sealed(one, key)?),
            false => line(one),
        };
        lines += 1;
        Ok::<_, Problem>(())
    };
    if let Some((_, body)) = &whole.base {
        put(&Line::Snapshot(raw(body)), !secret.is_empty())?;
    }
    for (_, body, _) in &whole.updates {
        let tells = secret.iter().any(|ballots| body.contains(ballots.as_str()));
        put(&Line::Update(raw(body)), tells)?;
    }
    for (client, n, at_seq, problem) in &whole.refusals {
        let (client, n, at_seq, problem) = (*client, *n, *at_seq, raw(problem));
        put(&Line::Refusal { client, n, at_seq, problem }, !secret.is_empty())?;
    }
    let sha256 = hex::encode(Sha256::digest(text.as_bytes()));
    Ok(text + &line(&Line::End { sha256, lines }))
}

fn sealed(one: &Line, key: &[u8; 32]) -> Result<Line, Problem> {
    let nonce: [u8; NONCE] = rand::random();
    let cipher = XChaCha20Poly1305::new(&(*key).into());
    let sealed = cipher.encrypt(&nonce.into(), line(one).as_bytes()).map_err(|_| unavailable())?;
    Ok(Line::Sealed(STANDARD.encode([&nonce[..], &sealed].concat())))
}

fn unsealed(sealed: &str, keys: &[[u8; 32]]) -> Option<Line> {
    let bytes = STANDARD.decode(sealed).ok()?;
    let (nonce, sealed) = bytes.split_first_chunk::<NONCE>()?;
    let open = |key: &[u8; 32]| {
        XChaCha20Poly1305::new(&(*key).into()).decrypt(&(*nonce).into(), sealed).ok()
    };
    serde_json::from_slice(&keys.iter().find_map(open)?).ok()
}

fn line<T: Serialize>(value: &T) -> String {
    serde_json::to_string(value).unwrap_or_default() + "\n"
}

/// Reads a file and plays it through, so that nothing is kept of one that does not fit. What is
/// sealed is opened with the first of `keys` that does.
pub(crate) fn read(
    bytes: &[u8],
    id: Option<String>,
    keys: &[[u8; 32]],
) -> Result<Carried, Problem> {
    let text = std::str::from_utf8(bytes).map_err(|_| unfit("it is not UTF-8"))?;
    let text = text.strip_suffix('\n').ok_or_else(|| unfit("its last line is not whole"))?;
    let (body, last) = text.rsplit_once('\n').ok_or_else(|| unfit("it has one line only"))?;
    let Ok(Line::End { sha256, lines }) = serde_json::from_str(last) else {
        return Err(unfit("it has no last line with a checksum, so part of it is missing"));
    };
    let found = hex::encode(Sha256::digest(format!("{body}\n").as_bytes()));
    let count = body.split('\n').count();
    if found != sha256 || count != lines {
        return Err(unfit(&format!(
            "its checksum does not fit: {count} of {lines} lines, {found} in place of {sha256}"
        )));
    }
    let mut rest = body.split('\n');
    let head = rest.next().unwrap_or_default();
    let form = version_of(head)?;
    let head: Head =
        serde_json::from_str(head).map_err(|error| unfit(&format!("line 1: {error}")))?;
    let mut whole = Whole {
        id: id.unwrap_or(head.session),
        charter: head.charter,
        version: head.version,
        status: head.status,
        opening: head.opening.map(|opening| opening.get().to_owned()),
        epoch: head.epoch,
        epochs: head.epochs,
        secret: head.secret.unwrap_or_else(|| Uuid::from_u128(rand::random())),
        labels: head.labels.clone(),
        ..Whole::default()
    };
    let charter = Charter::parse(&head.source).map_err(|faults| {
        unfit(&format!(
            "its charter has faults: {}",
            faults.first().map(ToString::to_string).unwrap_or_default()
        ))
    })?;
    if (charter.name.as_str(), i32::try_from(charter.version).ok())
        != (&whole.charter, Some(whole.version))
    {
        return Err(unfit("its charter has another name or version than it says"));
    }
    let charter = Arc::new(charter);
    let mut sequencer = None;
    for (index, text) in rest.enumerate() {
        let fault = |why: String| unfit(&format!("line {}: {why}", index + 2));
        let one = match serde_json::from_str(text).map_err(|error| fault(error.to_string()))? {
            Line::Sealed(sealed) => unsealed(&sealed, keys).ok_or_else(|| {
                fault("it is sealed by a service with another key; import it there".to_owned())
            })?,
            one => one,
        };
        match one {
            Line::Snapshot(body) => {
                let stored =
                    serde_json::from_str(body.get()).map_err(|error| fault(error.to_string()))?;
                let snapshot =
                    SequencerSnapshot::read(stored).map_err(|error| fault(error.to_string()))?;
                let body =
                    serde_json::to_string(&snapshot).map_err(|error| fault(error.to_string()))?;
                whole.base = Some((snapshot.seq, body));
                sequencer = Some(Sequencer::restore(charter.clone(), snapshot));
            }
            Line::Update(body) => {
                let update: Settled =
                    serde_json::from_str(body.get()).map_err(|error| fault(error.to_string()))?;
                opened(&mut sequencer, &charter, &whole)?
                    .replay(&update)
                    .map_err(|misfit| fault(misfit.to_string()))?;
                whole.updates.push((
                    update.seq,
                    body.get().to_owned(),
                    !update.verdicts.is_empty(),
                ));
            }
            // The first version does not say whose a refusal was.
            Line::Refusal { .. } if form < WITH_CLIENTS => {}
            Line::Refusal { client, n, at_seq, problem } => {
                whole.refusals.push((client, n, at_seq, problem.get().to_owned()));
            }
            Line::End { .. } => return Err(fault("the end comes before the end".to_owned())),
            Line::Sealed(_) => return Err(fault("it is sealed twice".to_owned())),
        }
    }
    opened(&mut sequencer, &charter, &whole)?;
    Ok(Carried { whole, charter })
}

fn opened<'s>(
    sequencer: &'s mut Option<Sequencer>,
    charter: &Arc<Charter>,
    whole: &Whole,
) -> Result<&'s mut Sequencer, Problem> {
    if sequencer.is_none() {
        let opening = whole.opening.as_deref().map(serde_json::from_str::<Value>).transpose();
        let opening = opening.map_err(|error| unfit(&format!("its opening data: {error}")))?;
        *sequencer = Some(Sequencer::open(charter.clone(), opening.as_ref())?);
    }
    sequencer.as_mut().ok_or_else(|| unfit("it has no state"))
}

fn version_of(head: &str) -> Result<u32, Problem> {
    #[derive(Deserialize)]
    struct Which {
        rendel: u32,
    }
    match serde_json::from_str::<Which>(head) {
        Ok(Which { rendel: form @ 1..=VERSION }) => Ok(form),
        Ok(Which { rendel }) => {
            Err(unfit(&format!("its form is version {rendel}, and this service reads {VERSION}")))
        }
        Err(_) => Err(unfit("its first line is not the head of a session")),
    }
}

fn unfit(why: &str) -> Problem {
    Problem::new(
        ProblemKind::Malformed,
        format!("This is no exported session: {why}. Nothing was kept."),
    )
}
