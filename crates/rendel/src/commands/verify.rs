//! `rendel verify`: makes all draws of a session again that are open.

use std::collections::BTreeMap;
use std::fmt;

use anyhow::{Context as _, Result, bail};
use rendel_core::{Draw, DrawKey, Op, Path, Settled};
use rendel_wire::http::SessionInfo;
use serde::Serialize;
use serde_json::Value;

use crate::api::Api;
use crate::cli::Which;
use crate::out::Out;

/// What is known of a draw.
#[derive(Debug, Serialize)]
struct Checked {
    field: String,
    draw: u64,
    seq: u64,
    what: String,
    outcome: Outcome,
}

#[derive(Clone, Copy, Debug, PartialEq, Serialize)]
#[serde(rename_all = "lowercase")]
enum Outcome {
    /// It is what its key makes, and the key is the one that was bound.
    Right,
    /// Its key is not told.
    Closed,
    /// It is something else.
    Wrong,
}

/// A draw as the journal has it.
struct Drawn {
    field: String,
    seq: u64,
    draw: Draw,
    bound: Option<String>,
    /// What a shuffle gave each record.
    dealt: BTreeMap<String, Value>,
}

pub(crate) async fn run(which: &Which, out: Out) -> Result<()> {
    let api = Api::backend(&which.reach)?;
    let session = &which.session;
    let info: SessionInfo = api.read(api.get(&format!("/sessions/{session}"))).await?;
    let charter: Value = api.read(api.get(&format!("/sessions/{session}/charter"))).await?;
    let fields = charter["state"].as_object().into_iter().flatten();
    let fields: Vec<&String> =
        fields.filter(|(_, field)| field["kind"] == "random").map(|(name, _)| name).collect();
    if fields.is_empty() {
        bail!("the charter of {session} has no field of the kind \"random\"");
    }
    let begin = state(&api, session, info.kept_from).await?;
    let mut bound: BTreeMap<&String, Option<String>> = fields
        .iter()
        .map(|name| (*name, begin[*name]["next"].as_str().map(str::to_owned)))
        .collect();
    let (mut drawn, mut keys) = (Vec::new(), BTreeMap::new());
    // Draws are numbered in the order in which they are made.
    let mut last_of: BTreeMap<&String, u64> = BTreeMap::new();
    for update in journal(&api, session, info.kept_from).await? {
        for name in &fields {
            let at = format!("/{name}");
            for effect in &update.effects {
                let value = match &effect.op {
                    Op::Set(value) if effect.at.to_string() == at => &**value,
                    Op::Reset(whole) => &whole[*name],
                    _ => continue,
                };
                let draw: Option<Draw> = serde_json::from_value(value["last"].clone()).ok();
                let last = last_of.get(name).copied().unwrap_or(0);
                let is_new = |draw: &Draw| draw.number() > last;
                if let Some(draw) = draw.filter(is_new) {
                    last_of.insert(name, draw.number());
                    let bound = bound.get(name).cloned().flatten();
                    drawn.push(Drawn {
                        field: at.clone(),
                        seq: update.seq,
                        draw,
                        bound,
                        dealt: dealt(&update),
                    });
                }
                if let (Some(draw), Some(key)) =
                    (value["opened"]["draw"].as_u64(), value["opened"]["key"].as_str())
                {
                    keys.insert((at.clone(), draw), key.to_owned());
                }
                bound.insert(name, value["next"].as_str().map(str::to_owned));
            }
        }
    }
    let mut wrong = 0u32;
    for one in &drawn {
        let key = keys.get(&(one.field.clone(), one.draw.number()));
        let checked = check(&api, session, one, key).await?;
        wrong += u32::from(checked.outcome == Outcome::Wrong);
        out.value(&checked, || checked.to_string());
    }
    if drawn.is_empty() {
        out.note("Nothing was drawn yet.");
    }
    if wrong > 0 {
        bail!("{wrong} of {} draws are not what they were bound to", drawn.len());
    }
    Ok(())
}

/// Whether a draw is what its key makes, and the key is the one that was bound.
async fn check(api: &Api, session: &str, one: &Drawn, opened: Option<&String>) -> Result<Checked> {
    let (what, key) = match &one.draw {
        Draw::Roll { key, sides, values, .. } => {
            let values: Vec<String> = values.iter().map(u64::to_string).collect();
            (format!("{} of {sides}", values.join(", ")), Some(key))
        }
        Draw::Shuffle { of, field, .. } => (format!("{of} dealt anew by {field}"), opened),
    };
    let outcome = match key.and_then(|key| DrawKey::from_hex(key)) {
        None => Outcome::Closed,
        Some(key) => {
            let is_bound = one.bound.as_deref() == Some(key.commitment().as_str());
            let made = key.with_entropy(one.draw.entropy());
            let is_made = match &one.draw {
                Draw::Roll { sides, values, .. } => made.roll(*sides, values.len()) == *values,
                Draw::Shuffle { of, field, .. } => {
                    let before = state(api, session, one.seq - 1).await?;
                    let records = before.pointer(&of.to_string()).and_then(Value::as_object);
                    let records: BTreeMap<&String, &Value> =
                        records.into_iter().flatten().collect();
                    let mut values: Vec<Value> =
                        records.values().map(|record| record[field].clone()).collect();
                    made.shuffle(&mut values);
                    let top = || of.tokens().iter().map(|token| token.as_str());
                    let paths = records
                        .keys()
                        .map(|id| Path::of(top().chain([id.as_str(), field.as_str()])).to_string());
                    paths.zip(values).collect::<BTreeMap<String, Value>>() == one.dealt
                }
            };
            if is_bound && is_made { Outcome::Right } else { Outcome::Wrong }
        }
    };
    let (field, draw, seq) = (one.field.clone(), one.draw.number(), one.seq);
    Ok(Checked { field, draw, seq, what, outcome })
}

/// What the registers are that an update set or cleared.
fn dealt(update: &Settled) -> BTreeMap<String, Value> {
    let register = |effect: &rendel_core::Effect| match &effect.op {
        Op::Set(value) if effect.at.tokens().len() == 3 => {
            Some((effect.at.to_string(), (**value).clone()))
        }
        Op::Clear => Some((effect.at.to_string(), Value::Null)),
        _ => None,
    };
    update.effects.iter().filter_map(register).collect()
}

async fn state(api: &Api, session: &str, at: u64) -> Result<Value> {
    api.read(api.get(&format!("/sessions/{session}/state")).query(&[("at", at)])).await
}

async fn journal(api: &Api, session: &str, after: u64) -> Result<Vec<Settled>> {
    let request = api.get(&format!("/sessions/{session}/journal")).query(&[("from", after + 1)]);
    let text = api.send(request).await?.text().await.context("the journal broke off")?;
    let update = |line: &str| serde_json::from_str(line).context("an update cannot be read");
    text.lines().map(update).collect()
}

impl fmt::Display for Checked {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let outcome = match self.outcome {
            Outcome::Right => "as it was bound",
            Outcome::Closed => "not opened",
            Outcome::Wrong => "WRONG: not what it was bound to",
        };
        let Self { field, draw, seq, what, .. } = self;
        write!(f, "{field} draw {draw:<4} #{seq:<6} {what:<36} {outcome}")
    }
}
