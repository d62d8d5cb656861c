//! A session as one file: JSON Lines (one JSON value a line), written by an export and read by an
//! import.
//!
//! The first line is the head: the version of this form, the session, its charter as text. Then
//! come the snapshot before which nothing is kept (where there is one), the updates in order and
//! the remembered refusals. The last line has the SHA-256 of all bytes before it and the number of
//! lines.

use std::sync::Arc;

use rendel_core::{Charter, Problem, ProblemKind, Sequencer, SequencerSnapshot, Settled};
use rendel_store::Whole;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use serde_json::value::RawValue;
use sha2::{Digest as _, Sha256};
use uuid::Uuid;

/// The version of the form.
const VERSION: u32 = 2;

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
    Refusal { client: Uuid, n: u64, at_seq: u64, problem: Box<RawValue> },
    End { sha256: String, lines: usize },
}

/// What an import found.
#[derive(Debug)]
pub(crate) struct Carried {
    pub(crate) whole: Whole,
    pub(crate) charter: Arc<Charter>,
}

/// The file of a session. Cost O(its journal), all of it in memory.
pub(crate) fn write(whole: &Whole, source: &str) -> String {
    let raw = |json: &str| RawValue::from_string(json.to_owned()).unwrap_or_default();
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
    let mut put = |one: &Line| {
        text += &line(one);
        lines += 1;
    };
    whole.base.iter().for_each(|(_, body)| put(&Line::Snapshot(raw(body))));
    whole.updates.iter().for_each(|(_, body, _)| put(&Line::Update(raw(body))));
    for (client, n, at_seq, problem) in &whole.refusals {
        put(&Line::Refusal { client: *client, n: *n, at_seq: *at_seq, problem: raw(problem) });
    }
    let sha256 = hex::encode(Sha256::digest(text.as_bytes()));
    text + &line(&Line::End { sha256, lines })
}

fn line<T: Serialize>(value: &T) -> String {
    serde_json::to_string(value).unwrap_or_default() + "\n"
}

/// Reads a file and plays it through, so that nothing is kept of one that does not fit.
pub(crate) fn read(bytes: &[u8], id: Option<String>) -> Result<Carried, Problem> {
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
        match serde_json::from_str(text).map_err(|error| fault(error.to_string()))? {
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
            Line::Refusal { .. } if form < VERSION => {}
            Line::Refusal { client, n, at_seq, problem } => {
                whole.refusals.push((client, n, at_seq, problem.get().to_owned()));
            }
            Line::End { .. } => return Err(fault("the end comes before the end".to_owned())),
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
