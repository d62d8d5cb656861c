//! The circumstances in which one edit is settled, and what settling it gives.

use serde_json::Value;
use smallvec::smallvec;

use super::{Before, Memory};
use crate::actor::ClientKey;
use crate::canonical::weight;
use crate::op::{Op, Unread};
use crate::path::{Path, Token};
use crate::problem::{Problem, ProblemKind};
use crate::stamp::Stamp;
use crate::suggest::nearest;
use crate::update::{Effect, Effects, Verdict, VerdictKind};

/// The circumstances in which one edit is settled.
#[derive(Clone, Copy, Debug)]
pub(crate) struct EditContext<'a> {
    /// What it asks for.
    pub(crate) op: &'a Result<Op, Unread>,
    /// Its path.
    pub(crate) path: &'a Path,
    /// Its index in the proposal.
    pub(crate) index: usize,
    /// The client that proposes.
    pub(crate) client: ClientKey,
    /// What the proposer had applied.
    pub(crate) seen: u64,
    /// What the session remembers of what is gone.
    pub(crate) memory: &'a Memory,
    /// Whether an earlier proposal of the client was refused without it knowing that when it made
    /// this one.
    pub(crate) follows_refused: bool,
    /// The other clients that are the proposer's own.
    pub(crate) own: &'a [ClientKey],
}

/// What settling one edit gives.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Settlement {
    pub(crate) effects: Effects,
    pub(crate) verdict: Verdict,
}

/// What applying an effect changes apart from the cell.
#[derive(Debug)]
pub(crate) struct Applying<'a> {
    /// The update.
    pub(crate) stamp: Stamp,
    /// What the session remembers of what is gone.
    pub(crate) memory: &'a mut Memory,
    /// The bytes of plain JSON by which the state has grown; negative if it has shrunk.
    pub(crate) growth: i64,
    /// Receives what the effect finds.
    pub(crate) before: Option<&'a mut Before>,
    /// The update that made the record around the place; 0 if there is none.
    pub(crate) record: u64,
}

impl Applying<'_> {
    /// Something that took so many bytes takes so many now.
    pub(crate) fn grow(&mut self, old: usize, new: usize) {
        self.growth +=
            i64::try_from(new).unwrap_or(i64::MAX) - i64::try_from(old).unwrap_or(i64::MAX);
    }

    /// A value has taken the place of another.
    pub(crate) fn grow_to(&mut self, old: &Value, new: &Value) {
        self.grow(weight(old), weight(new));
    }
}

impl EditContext<'_> {
    /// Whether `stamp` is by another client and was not seen by the proposer. What a client itself
    /// did earlier is part of its own view, seen or not.
    pub(crate) fn is_concurrent(&self, stamp: Stamp) -> bool {
        stamp.seq > self.seen && stamp.client != self.client && !self.own.contains(&stamp.client)
    }

    /// The operation, if it can be read; `what` has the operations that it takes.
    pub(crate) fn op(&self, what: &str, known: &[&str]) -> Result<&Op, Problem> {
        match self.op {
            Ok(op) => Ok(op),
            Err(Unread::Name(name)) => Err(self.no_op(name, what, known)),
            // One that the field does not have is that first, whatever its members.
            Err(Unread::Member(name, _)) if !known.contains(name) => {
                Err(self.no_op(name, what, known))
            }
            Err(Unread::Member(_, problem)) => Err(problem.clone()),
        }
    }

    /// The refusal of an operation that the field does not have.
    pub(crate) fn unknown_op(&self, what: &str, known: &[&str]) -> Problem {
        let name = match self.op {
            Ok(op) => op.name(),
            Err(Unread::Member(name, _)) => name,
            Err(Unread::Name(name)) => name,
        };
        self.no_op(name, what, known)
    }

    fn no_op(&self, name: &str, what: &str, known: &[&str]) -> Problem {
        Problem::new(
            ProblemKind::UnknownOp,
            format!("{what} has no \"{name}\"; it takes {}.", known.join(", ")),
        )
        .at(self.path)
        .did_you_mean(nearest(name, known.iter().copied()))
    }

    /// Refuses what is positioned on top of a refused proposal: its positions mean nothing.
    pub(crate) fn is_on_firm_ground(&self) -> Result<(), Problem> {
        if !self.follows_refused {
            return Ok(());
        }
        let detail = "An earlier proposal of this client was refused, and this one counts \
            positions on top of it. Make it anew against what is there.";
        Err(Problem::new(ProblemKind::FollowsRefused, detail).at(self.path))
    }

    /// The refusal of positions in a text or list that came back with its record after what the
    /// proposer had seen.
    pub(crate) fn came_back(&self, at: &Path) -> Problem {
        let detail = format!(
            "{at} came back with its record after what you had seen ({}). Look at it and decide \
             again.",
            self.seen
        );
        Problem::new(ProblemKind::Stale, detail).at(self.path)
    }

    /// The refusal of a path that continues below a field without inner parts.
    pub(crate) fn leaf(&self, rest: &[Token], what: &str) -> Result<(), Problem> {
        let Some(beyond) = rest.first() else { return Ok(()) };
        let whole = self.path.tokens().len() - rest.len();
        let whole = Path::of(self.path.tokens()[..whole].iter().cloned());
        Err(Problem::new(
            ProblemKind::UnknownPath,
            format!("{whole} is a {what}, which is changed as a whole: it has no part {beyond:?}."),
        )
        .at(self.path)
        .did_you_mean(Some(whole.to_string())))
    }

    /// An operation that takes effect at the path without a change.
    pub(crate) fn applied(&self, op: Op) -> Settlement {
        Settlement {
            effects: smallvec![Effect::new(self.path, op)],
            verdict: self.applied_verdict(),
        }
    }

    /// An edit that changes nothing.
    pub(crate) fn nothing(&self) -> Settlement {
        Settlement { effects: Effects::new(), verdict: self.applied_verdict() }
    }

    /// The verdict of an edit that met no other update, which needs no words.
    pub(crate) fn applied_verdict(&self) -> Verdict {
        Verdict {
            rule: None,
            edit: self.index,
            at: String::new(),
            verdict: VerdictKind::Applied,
            met: Vec::new(),
            because: String::new(),
            lost: None,
        }
    }

    pub(crate) fn verdict(
        &self,
        verdict: VerdictKind,
        met: Vec<u64>,
        because: impl Into<String>,
    ) -> Verdict {
        Verdict {
            rule: None,
            edit: self.index,
            at: self.path.to_string(),
            verdict,
            met,
            because: because.into(),
            lost: None,
        }
    }
}

pub(crate) fn listed(seqs: &[u64]) -> String {
    let word = if seqs.len() == 1 { "update" } else { "updates" };
    let list: Vec<_> = seqs.iter().map(u64::to_string).collect();
    format!("{word} {}", list.join(", "))
}

/// The refusal of a stored effect that a kind does not have.
pub(crate) fn stored_op(effect: &Effect) -> String {
    format!("no effect {:?}", effect.op.name())
}

/// A value as it reads in a sentence: shortened, quoted as JSON.
pub(crate) fn shown(value: &Value) -> String {
    let text = value.to_string();
    match text.char_indices().nth(40) {
        None => text,
        Some((end, _)) => format!("{}…", &text[..end]),
    }
}
