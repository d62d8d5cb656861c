//! What has to be so, all the time and in the end.

use std::collections::{BTreeMap, BTreeSet};

use rendel_core::{Actor, ClientKey, Problem, ProblemKind, Queries, Settled, told};
use rendel_session::{Answer, Ask, Input, Output, Shown, UpdateRow};
use rendel_wire::http::ParticipantList;
use rendel_wire::{FollowQuery, FromParticipant, FromService, LeftWhy};
use sha2::Digest as _;

use super::{EMPTY, Outcome, World};
use crate::follower::Follower;
use crate::journal::BEGIN;
use crate::participant::{Heard, Part};

/// A call that is refused like this may be sent again.
const LATER: [ProblemKind; 2] = [ProblemKind::Unavailable, ProblemKind::ShuttingDown];

impl World {
    /// What a replica holds is what the journal says.
    pub(super) fn check_replica(&self, person: usize) -> Result<(), String> {
        let of = &self.people[person];
        let (Some(ours), seq) = (of.replica.confirmed(), of.replica.seq()) else { return Ok(()) };
        match self.journal.truth(seq, &of.id, &of.shown_as) {
            Some(truth) if truth == *ours => Ok(()),
            Some(_) => Err(format!(
                "{person} ({:?}) holds something else at {seq} than the journal says: {ours}",
                of.shown_as
            )),
            None => Err(format!(
                "{person} was shown update {seq}, and the journal has {}",
                self.journal.seq()
            )),
        }
    }

    /// What patches make of the state is what the journal says.
    pub(super) fn check_followers(&self, host: usize) -> Result<(), String> {
        for Follower { id, audience, state, seq, .. } in &self.hosts[host].followers {
            let part = Part::new(id.trim_start_matches("follows-as-"));
            if audience.is_some() && self.journal.truth(*seq, id, &part).as_ref() != Some(state) {
                return Err(format!("{id} holds something else at {seq}: {state}"));
            }
        }
        Ok(())
    }

    /// A refusal that is told is written, but for those that leave no trace.
    pub(super) fn check_told(&self, person: usize, frame: &FromService) -> Result<(), String> {
        let FromService::Refused(refused) = frame else { return Ok(()) };
        let (kind, of) = (refused.problem.kind(), &self.people[person]);
        let key = ClientKey::of(&of.id, of.replica.client());
        let leaves_none = LATER.contains(&kind) || kind == ProblemKind::TooFast;
        match leaves_none || self.journal.has_refused(key, refused.n) {
            true => Ok(()),
            false => Err(format!("{person} was told a refusal that is not written: {refused:?}")),
        }
    }

    /// The rows of a query are what evaluating it anew gives, of the state at their place.
    pub(super) fn check_rows(&self, person: usize, query: u64) -> Result<(), String> {
        let of = &self.people[person];
        let followed = of.replica.followed_queries().into_iter().find_map(|frame| match frame {
            FromParticipant::FollowQuery(frame) if frame.query == query => Some(frame.ask),
            _ => None,
        });
        let Some((asked, rows)) = followed.zip(of.replica.rows(query)) else { return Ok(()) };
        let Some(state) = self.journal.state_at(rows.seq) else {
            return Err(format!("{person} was told rows of {}, which is not written", rows.seq));
        };
        let who = of.shown_as.actor(&of.id, of.replica.client());
        match Queries::once(&self.charter, state, rows.seq, &who, &asked) {
            Ok(fresh) if fresh == *rows => Ok(()),
            fresh => Err(format!("{person} has {rows:?} of {asked:?}, and there are {fresh:?}")),
        }
    }

    /// At rest the rows are those of now, where the role may ask for them.
    fn check_rows_at_rest(&self, person: usize) -> Result<(), String> {
        let of = &self.people[person];
        let (seq, who) = (self.journal.seq(), of.shown_as.actor(&of.id, of.replica.client()));
        let Some(state) = self.journal.state_at(seq) else { return Ok(()) };
        for frame in of.replica.followed_queries() {
            let FromParticipant::FollowQuery(frame) = frame else { continue };
            let FollowQuery { query, ask, .. } = *frame;
            let fresh = Queries::once(&self.charter, state, seq, &who, &ask).ok();
            let kept = of.replica.rows(query);
            if kept.map(|rows| &rows.rows) != fresh.as_ref().map(|rows| &rows.rows) {
                return Err(format!("{person} has {kept:?} of {ask:?} at rest, not {fresh:?}"));
            }
        }
        Ok(())
    }

    pub(super) fn check_answer(
        &mut self,
        call: u64,
        answer: Result<Answer, Shown<Problem>>,
    ) -> Result<(), String> {
        if let Some(key) = self.keys.remove(&call) {
            let came_to = match &answer {
                Ok(Answer::Settled { seq, .. }) => Some(Ok(*seq)),
                Err(problem) if LATER.contains(&problem.get().kind()) => None,
                Err(problem) => Some(Err(problem.get().kind())),
                Ok(_) => None,
            };
            if let Some(came_to) = came_to {
                let first = *self.first.entry(key).or_insert(came_to);
                if first != came_to {
                    return Err(format!(
                        "a call came to {first:?} and, sent again, to {came_to:?}"
                    ));
                }
            }
        }
        let (seq, json) = match answer {
            Ok(Answer::Settled { seq, json }) => (seq, json.into_inner()),
            Ok(Answer::Reading { seq, .. }) => (seq, None),
            _ => return Ok(()),
        };
        let last = self.journal.seq();
        if seq > last {
            return Err(format!("a call was told of {seq}, and the journal has {last}"));
        }
        let written = self.journal.update(seq).map(|(json, _)| told(json));
        match json {
            Some(json) if written.as_ref() != Some(&json) => {
                Err(format!("a call was told another update {seq}: {json}"))
            }
            _ => Ok(()),
        }
    }

    /// Nothing of participants comes past a gate.
    pub(super) fn check_gates(&self, updates: &[UpdateRow]) -> Result<(), String> {
        for row in updates {
            let Ok(update) = serde_json::from_str::<Settled>(&row.body) else { continue };
            let is_about = update.effects.iter().any(|effect| effect.at.to_string() == "/gated");
            if is_about
                && update.by != Actor::SERVICE
                && !self.passed.contains(&(update.key(), update.n))
            {
                return Err(format!("update {} was not asked about at its gate", update.seq));
            }
        }
        Ok(())
    }

    /// Nothing has gone wrong for a while: everybody has everything.
    pub(super) fn check_rest(&mut self) -> Result<(), String> {
        let Some(host) = self.host() else { return Err("no process owns the session".to_owned()) };
        if !self.hosts[host].calls.is_empty() {
            return Err(format!("calls without an answer: {:?}", self.hosts[host].calls));
        }
        let list = self.who(host)?;
        let nobody = BTreeSet::new();
        let present = || self.people.iter().filter(|of| !of.has_gone);
        let followers = &self.hosts[host].followers;
        let all: BTreeSet<&str> = present()
            .map(|of| of.id.as_str())
            .chain(followers.iter().map(|follower| follower.id.as_str()))
            .collect();
        let known: BTreeMap<&str, &str> =
            list.participants.iter().map(|one| (one.id.as_str(), one.role.as_str())).collect();
        if !known.keys().eq(all.iter()) {
            return Err(format!("the session knows {known:?}, and here are {all:?}"));
        }
        // Whoever is in a role that the charter does not have is told of nobody, and nobody of them.
        let is_named = |role: &str| self.charter.has_role(role);
        let here: BTreeSet<&str> =
            known.iter().filter(|(_, role)| is_named(role)).map(|(id, _)| *id).collect();
        for (person, of) in present().enumerate() {
            let seq = self.journal.seq();
            if of.link.is_none_or(|link| !link.is_in) {
                return Err(format!("{person} is not connected"));
            }
            if of.replica.seq() != seq {
                return Err(format!(
                    "{person} is at {}, and the session at {seq}",
                    of.replica.seq()
                ));
            }
            self.check_rows_at_rest(person)?;
            if !of.open.is_empty() {
                return Err(format!("proposals of {person} have no outcome: {:?}", of.open));
            }
            let roster: BTreeSet<&str> =
                of.replica.roster().iter().map(|one| one.id.as_str()).collect();
            if roster != *if is_named(&of.part.role) { &here } else { &nobody } {
                return Err(format!("{person} knows {roster:?}, and here are {here:?}"));
            }
            let key = ClientKey::of(&of.id, of.replica.client());
            for (n, heard) in &of.heard {
                let is_true = match heard {
                    Heard::Settled(seq) => self
                        .journal
                        .update(*seq)
                        .is_some_and(|(_, update)| (update.key(), update.n) == (key, *n)),
                    Heard::Refused | Heard::Moot => !self.journal.has(key, *n),
                };
                if !is_true {
                    return Err(format!("proposal {n} of {person} did not come to {heard:?}"));
                }
            }
        }
        self.check_play(&all)?;
        self.check_timing(&all)?;
        self.check_people_at_rest(&here)
    }

    /// What participants tell of themselves has come to all who see the same part of the state, and
    /// so have holds.
    fn check_people_at_rest(&self, named: &BTreeSet<&str>) -> Result<(), String> {
        let present: Vec<_> = self.people.iter().filter(|of| !of.has_gone).collect();
        for (at, one) in present.iter().enumerate() {
            for other in present[at + 1..].iter().filter(|other| other.part == one.part) {
                let [of_one, of_other] = [one, other].map(|of| {
                    let mut told = of.replica.presence().clone();
                    // Nobody is told of themselves.
                    told.retain(|id, _| *id != one.id && *id != other.id);
                    (told, of.replica.holds().clone())
                });
                if of_one != of_other {
                    return Err(format!(
                        "{} and {} see others differently: {of_one:?} and {of_other:?}",
                        one.id, other.id
                    ));
                }
            }
            for other in present.iter().filter(|other| other.id != one.id) {
                let told = one.replica.presence().get(&other.id);
                let told = told.and_then(|told| told.get(&other.replica.client()));
                let told = told.and_then(|facts| facts.get("pointer"));
                let said = other.replica.enter(None).presence;
                let said = said.as_ref().and_then(|facts| facts.get("pointer"));
                // A role that the charter does not have tells nothing and is told nothing.
                let is_told = [one, other].iter().all(|of| self.charter.has_role(&of.part.role));
                let said = said.filter(|_| is_told && named.contains(other.id.as_str()));
                if told != said.filter(|said| !said.is_null()) {
                    return Err(format!(
                        "{} sees the pointer of {} at {told:?}, and it is at {said:?}",
                        one.id, other.id
                    ));
                }
            }
        }
        Ok(())
    }

    /// Who is here, as the session says.
    fn who(&mut self, host: usize) -> Result<ParticipantList, String> {
        let machine = self.hosts[host].machine.as_mut().ok_or("the process has ended")?;
        machine.handle(self.now, Input::Call { call: 0, ask: Ask::Who });
        let answer = machine.poll_outputs().into_iter().find_map(|output| match output {
            Output::Answer { answer: Ok(Answer::Who(list)), .. } => Some(list),
            _ => None,
        });
        answer.ok_or_else(|| "nobody says who is here".to_owned())
    }

    /// Everybody goes: nothing is left of them.
    pub(super) fn empty(&mut self) -> Result<Outcome, String> {
        let Some(host) = self.host() else { return Err("no process owns the session".to_owned()) };
        for follower in std::mem::take(&mut self.hosts[host].followers) {
            self.feed(host, Input::Left { connection: follower.link, why: LeftWhy::Left })?;
        }
        for person in 0..self.people.len() {
            if let Some(link) = self.people[person].link.take() {
                let why = if self.chance.one_in(2) { LeftWhy::Left } else { LeftWhy::Lost };
                let input = Input::Left { connection: link.id, why };
                self.arrive(link.host, input)?;
            }
        }
        let passed = self.now - BEGIN;
        let until = self.now + EMPTY;
        while self.planned.keys().next().is_some_and(|(at, _)| *at <= until) {
            self.step()?;
        }
        self.now = until;
        let list = self.who(host)?;
        let machine = self.hosts[host].machine.as_ref().ok_or("the process has ended")?;
        if !list.participants.is_empty() || !list.holds.is_empty() || !machine.is_idle() {
            return Err(format!("something is left of those who went: {list:?}"));
        }
        Ok(Outcome {
            settled: self.journal.updates().count() as u64,
            frames: self.frames,
            passed,
            sha256: hex::encode(self.hash.clone().finalize()),
        })
    }
}
