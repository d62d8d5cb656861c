//! A session whose participants propose from what they had seen.

use std::collections::BTreeMap;
use std::sync::Arc;

use rendel_core::{
    Actor, Charter, ClientKey, Edit, Outcome, Problem, Proposal, Sequencer, Settled, State, Verdict,
};
use serde_json::Value;
use uuid::Uuid;

pub(crate) struct Session {
    pub(crate) sequencer: Sequencer,
    pub(crate) journal: Vec<Settled>,
    opening: Option<Value>,
    sent: BTreeMap<String, u64>,
}

pub(crate) fn key(who: &str) -> ClientKey {
    ClientKey::of(who, client(who))
}

fn client(who: &str) -> Uuid {
    Uuid::new_v5(&Uuid::NAMESPACE_OID, who.as_bytes())
}

pub(crate) fn splice(index: usize, delete: usize, insert: &str) -> Edit {
    Edit::new("/notes", "splice").with("index", index).with("delete", delete).with("insert", insert)
}

impl Session {
    pub(crate) fn open(state: &str, opening: Option<Value>) -> Self {
        Self::remembering(100_000, state, opening)
    }

    /// A session that remembers the places in texts and lists over so many changes.
    pub(crate) fn remembering(changes: usize, state: &str, opening: Option<Value>) -> Self {
        let source = format!("charter = \"orchard\"\nversion = 1\n{state}");
        let charter = Charter::parse(&source).unwrap_or_else(|faults| panic!("{faults:?}"));
        let charter = charter.remembering(1_000, changes);
        let sequencer = Sequencer::open(Arc::new(charter), opening.as_ref()).unwrap();
        Self { sequencer, journal: Vec::new(), opening, sent: BTreeMap::new() }
    }

    /// A session with one text, `notes`.
    pub(crate) fn of_text(opening: &str) -> Self {
        Self::open(
            "[limits]\nedits = 256\n[state.notes]\nkind = \"text\"",
            Some(serde_json::json!({ "notes": opening })),
        )
    }

    pub(crate) fn propose(
        &mut self,
        who: &str,
        seen: u64,
        answered: u64,
        edits: Vec<Edit>,
    ) -> Result<Settled, Problem> {
        let n = self.sent(who) + 1;
        self.sent.insert(who.to_owned(), n);
        let actor = Actor::new(who, "participant", client(who));
        let proposal = Proposal { answered, ..Proposal::new(n, Some(seen), edits) };
        match self.sequencer.handle_proposal(&actor, &proposal, 0) {
            Outcome::Settled(update) => {
                self.journal.push(update.clone());
                Ok(update)
            }
            Outcome::Refused(problem) => Err(problem),
            Outcome::Repeated(outcome) => panic!("{outcome:?}"),
        }
    }

    /// The number of the last proposal of somebody.
    pub(crate) fn sent(&self, who: &str) -> u64 {
        self.sent.get(who).copied().unwrap_or_default()
    }

    /// One edit that settles; who proposes knows of all its refusals.
    pub(crate) fn settle(&mut self, who: &str, seen: u64, edit: Edit) -> Settled {
        self.propose(who, seen, self.sent(who), vec![edit]).unwrap()
    }

    pub(crate) fn refuse(&mut self, who: &str, seen: u64, edit: Edit) -> Problem {
        let before = self.sequencer.plain();
        let problem = self.propose(who, seen, self.sent(who), vec![edit]).unwrap_err();
        assert_eq!(self.sequencer.plain(), before, "a refusal changes nothing");
        problem
    }

    pub(crate) fn verdict(update: &Settled) -> &Verdict {
        update.verdicts.first().expect("more than `applied`")
    }

    pub(crate) fn notes(&self) -> String {
        self.sequencer.plain()["notes"].as_str().unwrap().to_owned()
    }

    /// The journal makes the same state, merge memory included; so does a snapshot; so do the
    /// patches.
    pub(crate) fn check_recovery(&self) {
        let charter = self.sequencer.charter().clone();
        let snapshot = serde_json::to_value(self.sequencer.snapshot()).unwrap();
        let restored =
            Sequencer::restore(charter.clone(), serde_json::from_value(snapshot.clone()).unwrap());
        let mut replayed = Sequencer::open(charter.clone(), self.opening.as_ref()).unwrap();
        let mut state = State::open(&charter, self.opening.as_ref()).unwrap();
        let mut plain = state.plain(&charter.fields);
        for update in &self.journal {
            replayed.replay(update).unwrap();
            let patch = serde_json::to_value(
                state.patch(&charter.fields, update, &rendel_core::Sight::WHOLE).unwrap(),
            )
            .unwrap();
            let patch: json_patch::Patch = serde_json::from_value(patch).unwrap();
            json_patch::patch(&mut plain, &patch).unwrap();
        }
        assert_eq!(serde_json::to_value(restored.snapshot()).unwrap()["state"], snapshot["state"]);
        assert_eq!(serde_json::to_value(replayed.snapshot()).unwrap()["state"], snapshot["state"]);
        assert_eq!(plain, self.sequencer.plain(), "the patches give the state");
        assert_eq!(
            self.sequencer.weight(),
            plain.to_string().len() as u64 + escapes(&plain),
            "the weight is kept right"
        );
    }
}

/// By how much the weight, which does not look at escapes, is below the text.
fn escapes(plain: &Value) -> u64 {
    let text = plain.to_string();
    0u64.wrapping_sub(text.matches('\\').count() as u64)
}
