//! What goes into a sequencer and what comes out of it, in the shapes that travel on the wire.

use std::collections::BTreeMap;
use std::sync::Arc;

use serde::de::Error as _;
use serde::ser::SerializeMap as _;
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use serde_json::Value;
use smallvec::SmallVec;
use uuid::Uuid;

use crate::actor::{Actor, ClientKey};
use crate::edit::Edit;
use crate::grantees::Grantees;
use crate::op::{Back, Op};
use crate::path::{Path, inner};
use crate::stamp::Stamp;

/// The effects of an update. Most have one, which is kept in place.
pub type Effects = SmallVec<[Effect; 1]>;

/// What a settled edit did, in final form.
#[derive(Clone, Debug, PartialEq)]
pub struct Effect {
    /// Where.
    pub at: Path,
    /// What.
    pub op: Op,
    /// Where it brings earlier work back: of which update.
    pub restores: Option<u64>,
}

impl Effect {
    /// An effect at a path.
    pub fn new(at: impl Into<Path>, op: Op) -> Self {
        Self { at: at.into(), op, restores: None }
    }
}

/// What an effect did to the state, for all that depend on it: holds, presence, guards, references.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Change {
    /// A record or element is there that was not, with all that is in it.
    Came(Path),
    /// A record or element was removed, with everything in it.
    Went(Path),
    /// A field has another value, or an element another place.
    Changed(Path),
    /// Everything is another.
    Reset,
}

impl Change {
    /// The path of what it speaks of.
    pub fn path(&self) -> Option<&Path> {
        match self {
            Self::Came(path) | Self::Went(path) | Self::Changed(path) => Some(path),
            Self::Reset => None,
        }
    }
}

impl Effect {
    /// What it did.
    pub fn change(&self) -> Change {
        match &self.op {
            Op::Put { id, .. } | Op::Insert { id, .. } => {
                Change::Came(inner(&self.at, id.as_deref().unwrap_or_default()))
            }
            Op::Revive { id, .. } => Change::Came(inner(&self.at, id)),
            Op::Drop | Op::Remove => Change::Went(self.at.clone()),
            Op::Reset(_) => Change::Reset,
            Op::Set(_)
            | Op::SetBeside { .. }
            | Op::Clear
            | Op::Add { .. }
            | Op::Include(_)
            | Op::Exclude(_)
            | Op::Move { .. }
            | Op::Splice { .. }
            | Op::Test(_)
            | Op::Act(_)
            | Op::TakeBack { .. }
            | Op::Show(_)
            | Op::Hide
            | Op::Unknown { .. } => Change::Changed(self.at.clone()),
        }
    }
}

impl Serialize for Effect {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let mut map = serializer.serialize_map(None)?;
        map.serialize_entry("at", &self.at)?;
        map.serialize_entry("op", self.op.name())?;
        self.op.serialize_members(&mut map)?;
        self.restores.iter().try_for_each(|seq| map.serialize_entry("restores", seq))?;
        map.end()
    }
}

impl<'de> Deserialize<'de> for Effect {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let mut edit = Edit::deserialize(deserializer)?;
        let at = Path::parse(&edit.at).map_err(|problem| D::Error::custom(problem.detail()))?;
        let restores = edit.args.remove("restores").and_then(|seq| seq.as_u64());
        Ok(Self { at, op: Op::settled(&edit), restores })
    }
}

/// One or more edits that take effect together or not at all.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Proposal {
    /// 1, 2, 3 … per client; 0 for one that is not sent again, of which nothing is remembered.
    pub n: u64,
    /// The `seq` that the proposer had applied; `None` stands for the present one.
    pub seen: Option<u64>,
    /// The highest own `n` whose outcome was known.
    pub answered: u64,
    /// The changes.
    pub edits: Vec<Edit>,
    /// A name shared by proposals that undo as one step.
    pub gesture: Option<String>,
    /// A word of the proposer on why; kept in the journal.
    pub note: Option<String>,
    /// Whether it brings an earlier state back. Such a proposal has as many edits as that takes, and
    /// references are checked only in the state that all of them lead to. No client can say so.
    #[serde(skip)]
    pub is_revert: bool,
}

impl Proposal {
    /// A proposal by somebody who knows none of their outcomes.
    pub fn new(n: u64, seen: Option<u64>, edits: Vec<Edit>) -> Self {
        Self { n, seen, answered: 0, edits, gesture: None, note: None, is_revert: false }
    }
}

/// A proposal that took its place in the order.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Settled {
    /// Its place: 1, 2, 3 … without a gap.
    pub seq: u64,
    /// Where it stands for several of which nothing is shown: the place of the first.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub first: Option<u64>,
    /// The participant.
    pub by: String,
    /// The tab or process.
    pub client: Uuid,
    /// The client's number of the proposal; 0 if it has none.
    pub n: u64,
    /// When, in milliseconds since 1970 UTC.
    pub at: u64,
    /// What it did.
    pub effects: Effects,
    /// The outcome of each edit; omitted if all were `applied`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub verdicts: Vec<Verdict>,
    /// The gesture it belongs to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub gesture: Option<String>,
    /// The proposer's word on why.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
    /// What rules of the session did in it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub rules: Vec<RuleMark>,
    /// The updates that it undoes or redoes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub undoes: Option<Undoes>,
    /// The arrival or departure that is its cause: in the journal alone.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub passage: Option<Passage>,
    /// What is announced to other systems with it, which is stored apart from the journal.
    #[serde(skip)]
    pub announced: Vec<Announced>,
    /// How it changed visibility: in the journal alone.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub disclosures: Vec<Disclosure>,
    /// The number of its effects, from the first on, that its proposer caused and may undo, unless
    /// that is all of them: in the journal alone.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub own: Option<usize>,
    /// For each effect the update that changed its place before it, 0 where none did or that is not
    /// known: in the journal alone.
    #[serde(default, skip_serializing_if = "SmallVec::is_empty")]
    pub since: SmallVec<[u64; 1]>,
}

/// What an update undoes or redoes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Undoes {
    /// Whether it undoes what somebody did, or redoes what they undid.
    pub way: Back,
    /// The updates whose work it undoes or redoes.
    pub updates: Vec<u64>,
    /// Of those that it passed over, the last update of each.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub passed: Vec<u64>,
}

/// What one rule of the session did in an update.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct RuleMark {
    /// Its name.
    pub rule: String,
    /// The index of its first effect.
    pub first: usize,
    /// How many effects it had.
    pub count: usize,
    /// Why it failed, if it did.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub failed: Option<String>,
}

/// Of what arrivals and departures are counted.
#[derive(Clone, Copy, Debug, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Whose {
    /// Of participants.
    Participant,
    /// Of their connections.
    Connection,
}

/// Somebody who came or went.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Passage {
    /// The participant.
    pub who: String,
    /// Their role, from now on.
    pub role: String,
    /// Which way.
    pub way: Way,
    /// Whether the participant or one of their connections came or went.
    pub of: Whose,
}

/// Which way somebody went.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Way {
    /// Into the session.
    In,
    /// Out of it.
    Out,
    /// They stay, with another role.
    Role,
}

/// Something that other systems are to learn.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Announced {
    /// Its type, such as `barrel.sold`.
    pub kind: String,
    /// The rule that announces it, if one does.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub rule: Option<String>,
    /// What it says.
    pub values: BTreeMap<String, Value>,
}

/// A place that is hidden from some participants and that an update touches, with the participants
/// that see it before and after.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Disclosure {
    /// The number of its condition in the charter.
    pub secret: usize,
    /// The place.
    pub at: Path,
    /// The participants that saw it.
    pub from: Grantees,
    /// The participants that see it.
    pub to: Grantees,
    /// Whether something around it came or went, and all that was shown of it with that.
    #[serde(default, rename = "anew", skip_serializing_if = "is_false")]
    pub is_anew: bool,
    /// Whether the place around it exists no more.
    #[serde(default, rename = "gone", skip_serializing_if = "is_false")]
    pub is_gone: bool,
    /// Whether it was hidden in the middle of the update from participants that see it before and
    /// after. They are shown only the value that it ends with.
    #[serde(default, rename = "interrupted", skip_serializing_if = "is_false")]
    pub is_interrupted: bool,
    /// The value now, if a participant who did not see the place before sees it now. A register
    /// that holds nothing is shown as `null`.
    #[serde(default, skip_serializing_if = "Option::is_none", deserialize_with = "given")]
    pub value: Option<Value>,
}

/// Reads a member that is present as its value, `null` included.
fn given<'de, D: Deserializer<'de>>(deserializer: D) -> Result<Option<Value>, D::Error> {
    Value::deserialize(deserializer).map(Some)
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde gives a reference")]
fn is_false(flag: &bool) -> bool {
    !flag
}

/// What an update also did, for a participant that sees more of it than their whole audience.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct PrivatePatch {
    /// Its place.
    pub seq: u64,
    /// Its author.
    pub by: String,
    /// The tab or process.
    pub client: Uuid,
    /// The client's number of the proposal.
    pub n: u64,
    /// What it did there, to be applied after the effects that all are shown.
    pub effects: Effects,
    /// The outcomes of the edits for this participant, if they differ from those for the audience.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub verdicts: Vec<Verdict>,
}

impl PrivatePatch {
    /// The whole update, as this participant is shown it.
    #[must_use]
    pub fn joined(&self, shown: &Settled) -> Settled {
        let mut whole = shown.clone();
        whole.by.clone_from(&self.by);
        (whole.client, whole.n) = (self.client, self.n);
        whole.effects.extend(self.effects.iter().cloned());
        if !self.verdicts.is_empty() {
            whole.verdicts.clone_from(&self.verdicts);
        }
        whole
    }
}

/// A stored update without what is kept for the journal alone and stands last in it: `own` and
/// `since`. Cost O(its size), for a copy.
pub fn told(stored: &Arc<str>) -> Arc<str> {
    let digits = |text: &str| {
        let ends_with = |sign: &char| sign.is_ascii_digit() || *sign == ',';
        text.len() - text.chars().rev().take_while(ends_with).count()
    };
    let Some(body) = stored.strip_suffix('}') else { return stored.clone() };
    let mut rest = body;
    if let Some(seqs) = rest.strip_suffix(']')
        && let Some(before) = seqs[..digits(seqs)].strip_suffix(",\"since\":[")
    {
        rest = before;
    }
    if let Some(before) = rest[..digits(rest)].strip_suffix(",\"own\":") {
        rest = before;
    }
    if rest.len() == body.len() { stored.clone() } else { format!("{rest}}}").into() }
}

impl Settled {
    /// Stands for updates of which nothing is shown, from `first` to `seq`.
    pub fn blank(first: u64, seq: u64, at: u64) -> Self {
        Self {
            seq,
            first: Some(first).filter(|first| *first < seq),
            by: String::new(),
            client: Uuid::nil(),
            n: 0,
            at,
            effects: Effects::new(),
            verdicts: Vec::new(),
            gesture: None,
            note: None,
            rules: Vec::new(),
            undoes: None,
            own: None,
            since: SmallVec::new(),
            passage: None,
            announced: Vec::new(),
            disclosures: Vec::new(),
        }
    }

    /// The update without the members that only the journal keeps.
    #[must_use]
    pub fn without_what_is_kept(self) -> Self {
        Self { passage: None, own: None, since: SmallVec::new(), disclosures: Vec::new(), ..self }
    }

    /// Whether it shows nothing.
    pub fn is_blank(&self) -> bool {
        self.by.is_empty() && self.effects.is_empty() && self.verdicts.is_empty()
    }

    /// The first place that it stands for.
    pub fn first(&self) -> u64 {
        self.first.unwrap_or(self.seq)
    }

    /// The client that made it. Costs a hash: ask once.
    pub fn key(&self) -> ClientKey {
        ClientKey::of(&self.by, self.client)
    }

    /// Its effects with their stamps, given its client: what rules did, the session did.
    pub(crate) fn stamped(&self, key: ClientKey) -> impl Iterator<Item = (&Effect, Stamp)> {
        let (seq, own) = (self.seq, Actor::session().key());
        let is_of_rule = |index: usize| {
            self.rules.iter().any(|mark| (mark.first..mark.first + mark.count).contains(&index))
        };
        self.effects.iter().enumerate().map(move |(index, effect)| {
            let client = if is_of_rule(index) { own } else { key };
            (effect, Stamp { seq, client })
        })
    }
}

/// What became of a settled edit.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum VerdictKind {
    /// Nothing concurrent was in its way.
    Applied,
    /// It and what it met both count.
    Merged,
    /// It took effect at a place moved by what it met.
    Rebased,
    /// It replaced what it met.
    Overrode,
    /// What it met prevailed; it had no effect.
    Dropped,
    /// A part of an undo or redo that stays, since another update stands in the way.
    Skipped,
}

/// What became of one edit of a settled update, and why.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Verdict {
    /// The rule of the session that made the edit, unless the proposer did.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rule: Option<String>,
    /// The index of the edit in its proposal, or in its rule.
    pub edit: usize,
    /// The path of the edit.
    pub at: String,
    /// The outcome.
    pub verdict: VerdictKind,
    /// The updates that it met, by `seq`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub met: Vec<u64>,
    /// One sentence that says why.
    pub because: String,
    /// The value that lost, where one did.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lost: Option<Value>,
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;
    use smallvec::smallvec;

    #[test]
    fn what_is_told_is_what_is_stored_without_what_stands_last() {
        let value = |value: Value| Effect::new(Path::of(["title"]), Op::Set(value.into()));
        for (own, since) in [
            (None, smallvec![]),
            (Some(1), smallvec![]),
            (None, smallvec![3, 12]),
            (Some(0), smallvec![7]),
        ] {
            for effect in [
                value(json!("x\",\"since\":[1]}")),
                value(json!({ "since": [1, 2] })),
                value(json!(5)),
            ] {
                let told_alone = Settled { effects: smallvec![effect], ..Settled::blank(4, 4, 12) };
                let stored = Settled { own, since: SmallVec::clone(&since), ..told_alone.clone() };
                let text = |update: &Settled| -> Arc<str> {
                    serde_json::to_string(update).unwrap().into()
                };
                assert_eq!(told(&text(&stored)), text(&told_alone));
                assert_eq!(serde_json::from_str::<Settled>(&text(&stored)).unwrap(), stored);
            }
        }
    }
}
