//! Who is here, and what they tell of themselves, hold and call out: none of it is in the journal.

use std::collections::{BTreeMap, BTreeSet};
use std::num::NonZeroU32;
use std::sync::Arc;
use std::time::Duration;

use governor::clock::FakeRelativeClock;
use governor::middleware::NoOpMiddleware;
use governor::state::keyed::DefaultKeyedStateStore;
use governor::{Quota, RateLimiter};
use rendel_core::{
    Actor, Charter, CueTo, Effect, Facts, HoldChange, Holds, Path, Power, Presence, Problem,
    ProblemKind, RosterSight, Teller,
};
use rendel_wire::{CueFor, CueFrame, Left, LeftWhy, Participant, Roster, SendCue};

use crate::input::{ConnectionId, Person};
use crate::roster::{Present, absorb};

/// How often each may send a cue. Its clock is set to the session's.
type CueRate = RateLimiter<
    String,
    DefaultKeyedStateStore<String>,
    FakeRelativeClock,
    NoOpMiddleware<governor::nanos::Nanos>,
>;

/// Milliseconds between two counts of who is here.
const COUNT_EVERY: u64 = 1_000;

#[derive(Debug)]
pub(crate) struct People {
    charter: Arc<Charter>,
    present: Present,
    /// What changed in the roster and was not told yet.
    roster: Roster,
    /// Those who look on: nobody is told their names.
    unnamed: BTreeSet<String>,
    /// How many are here, as it was told, and when it may be told again.
    count_told: u64,
    count_at: u64,
    presence: Presence,
    /// When presence was last told, and when it is told next, where something waits.
    told_at: u64,
    /// How often it was told.
    times_told: u64,
    tell_at: Option<u64>,
    /// Whether it waits for its turn in the order of what is shown.
    is_queued: bool,
    holds: Holds,
    /// Nothing lapses before this.
    lapse_from: u64,
    cue_rates: BTreeMap<String, CueRate>,
    cue_clock: FakeRelativeClock,
    cue_now: u64,
}

impl People {
    pub(crate) fn of(charter: Arc<Charter>, now: u64) -> Self {
        let cue_clock = FakeRelativeClock::default();
        let rate = |rate: u32| {
            let quota = Quota::per_second(NonZeroU32::new(rate)?);
            Some(RateLimiter::new(quota, DefaultKeyedStateStore::default(), cue_clock.clone()))
        };
        let cues = charter.cues.iter();
        let cue_rates = cues.filter_map(|(name, cue)| Some((name.clone(), rate(cue.rate)?)));
        Self {
            cue_rates: cue_rates.collect(),
            charter,
            present: Present::default(),
            roster: Roster::default(),
            unnamed: BTreeSet::new(),
            count_told: 0,
            count_at: 0,
            presence: Presence::default(),
            told_at: 0,
            times_told: 0,
            tell_at: None,
            is_queued: false,
            holds: Holds::default(),
            lapse_from: u64::MAX,
            cue_clock,
            cue_now: now,
        }
    }

    pub(crate) fn len(&self) -> usize {
        self.present.len()
    }

    /// All who are here.
    pub(crate) fn all(&self) -> Vec<Participant> {
        self.present.list(|_| true)
    }

    /// All who are here and are named.
    pub(crate) fn named(&self) -> Vec<Participant> {
        self.present.list(|role| self.is_named(role))
    }

    /// How many are here in all, if some may not be named.
    pub(crate) fn count(&self) -> Option<u64> {
        self.charter.has_onlookers().then_some(self.present.len() as u64)
    }

    fn is_named(&self, role: &str) -> bool {
        self.charter.roster_sight(role) == RosterSight::Names
    }

    /// Takes a change of the roster in; nobody is told of those who are not named.
    fn note(&mut self, mut change: Roster) {
        change.joined.retain(|one| !self.unnamed.contains(&one.id));
        change.changed.retain(|one| !self.unnamed.contains(&one.id));
        for left in &change.left {
            self.presence.hide(&left.id, false);
        }
        change.left.retain(|left| !self.unnamed.remove(&left.id));
        absorb(&mut self.roster, change);
    }

    /// How many are here, if that is to be told now: at most once in a while, however many come.
    pub(crate) fn poll_count(&mut self, now: u64) -> Option<u64> {
        let count = self.count().filter(|count| *count != self.count_told)?;
        if now < self.count_at {
            return None;
        }
        self.count_told = count;
        self.count_at = now.saturating_add(COUNT_EVERY);
        Some(count)
    }

    /// Whether somebody is here, or away for a moment.
    pub(crate) fn has(&self, id: &str) -> bool {
        self.present.has(id)
    }

    /// Whether somebody has a connection.
    pub(crate) fn is_here(&self, id: &str) -> bool {
        self.present.is_here(id)
    }

    pub(crate) fn hue(&self, id: &str) -> u16 {
        self.present.hue(id)
    }

    pub(crate) fn presence(&self) -> &Presence {
        &self.presence
    }

    pub(crate) fn holds(&self) -> &Holds {
        &self.holds
    }

    /// Somebody has another name or role.
    pub(crate) fn amend(&mut self, id: &str, name: &str, role: &str) {
        let change = self.present.amend(id, name, role);
        self.turn(id, role, change);
    }

    /// Takes a change in that says a role: whoever is named from now on is new to all, and whoever
    /// is not has left for them.
    fn turn(&mut self, id: &str, role: &str, change: Roster) {
        let (was_named, is_named) = (!self.unnamed.contains(id), self.is_named(role));
        let gone = Left { id: id.to_owned(), why: LeftWhy::Left };
        match (was_named, is_named) {
            (true, true) => self.note(change),
            (false, true) => {
                self.unnamed.remove(id);
                self.presence.hide(id, false);
                self.note(Roster { joined: change.changed, ..Roster::default() });
            }
            (true, false) => {
                self.note(Roster { left: vec![gone], ..Roster::default() });
                self.unnamed.insert(id.to_owned());
                self.presence.hide(id, true);
            }
            (false, false) => {}
        }
    }

    /// A connection enters: `crowded` beyond the charter's participants, and beyond `most_each`
    /// connections of one.
    pub(crate) fn enter(&mut self, who: &Person, most_each: u32) -> Result<(), Problem> {
        // The backend looks on, and takes part by its calls: it is nobody to see among people.
        if who.role == Actor::SERVICE {
            return Ok(());
        }
        let change = self.present.add(who, self.charter.session.participants, most_each)?;
        if !change.joined.is_empty() && !self.is_named(&who.role) {
            self.unnamed.insert(who.id.clone());
            self.presence.hide(&who.id, true);
        }
        self.turn(&who.id, &who.role, change);
        Ok(())
    }

    /// A connection is gone.
    pub(crate) fn leave(
        &mut self,
        teller: &Teller,
        connection: ConnectionId,
        why: LeftWhy,
        now: u64,
    ) {
        self.presence.handle_gone(teller, connection);
        self.plan_presence(now);
        let linger = millis(self.charter.presence.linger);
        self.lapse_from = self.lapse_from.min(now.saturating_add(linger));
        let change = self.present.remove(&teller.0, why, linger, now);
        self.has_left(change);
    }

    /// A participant is gone with all connections.
    pub(crate) fn remove(&mut self, id: &str) {
        let change = self.present.remove_all(id, LeftWhy::Removed);
        self.has_left(change);
    }

    /// A change of the roster in which somebody may have left: what they held is free.
    fn has_left(&mut self, change: Roster) {
        for Left { id, .. } in &change.left {
            self.holds.handle_left(id);
        }
        self.note(change);
    }

    /// What changed since the last time.
    pub(crate) fn poll_changed(&mut self) -> (Option<Roster>, Option<HoldChange>) {
        let roster = std::mem::take(&mut self.roster);
        let holds = self.holds.poll_changed();
        (
            Some(roster).filter(|change| *change != Roster::default()),
            Some(holds).filter(|change| *change != HoldChange::default()),
        )
    }

    /// Takes facts that were read against the state.
    pub(crate) fn said(
        &mut self,
        teller: &Teller,
        connection: ConnectionId,
        facts: Facts,
        now: u64,
    ) {
        let told = facts.keys().filter_map(|name| self.charter.presence.facts.get(name)?.linger);
        let lapses = told.map(|linger| now.saturating_add(millis(linger)));
        self.lapse_from = lapses.min().unwrap_or(u64::MAX).min(self.lapse_from);
        self.presence.handle_said(&self.charter, teller, connection, facts, now);
        self.plan_presence(now);
    }
    /// Updates are shown: what is told of places in them moves along.
    pub(crate) fn handle_shown(&mut self, updates: &[crate::audiences::Stored], now: u64) {
        if self.presence.follows_state(&self.charter) {
            for (update, _) in updates {
                self.presence.handle_settled(&self.charter, update);
            }
        }
        self.plan_presence(now);
    }

    /// An update is settled: what is held in it goes on or is free.
    pub(crate) fn handle_settled(&mut self, by: &str, effects: &[Effect], now: u64) {
        self.holds.handle_settled(by, effects, now);
    }

    /// Presence is told at the charter's rate, all that changed since the last time at once.
    fn plan_presence(&mut self, now: u64) {
        if self.presence.has_changed() && self.tell_at.is_none() {
            let wait = 1_000 / u64::from(self.charter.presence.rate.max(1));
            self.tell_at = Some((self.told_at + wait).max(now));
        }
    }

    /// Whether it is time to tell presence, in its turn; said once until it was told.
    pub(crate) fn queue_presence(&mut self, now: u64) -> bool {
        let is_due = self.tell_at.is_some_and(|at| at <= now) && !self.is_queued;
        self.is_queued |= is_due;
        is_due
    }

    /// Whose presence changed since it was last told, where it is to be told now.
    pub(crate) fn poll_presence(&mut self, now: u64) -> Option<BTreeMap<Teller, BTreeSet<String>>> {
        self.is_queued = false;
        self.tell_at.filter(|at| *at <= now)?;
        self.tell_at = None;
        self.told_at = now;
        self.times_told += 1;
        Some(self.presence.poll_changed())
    }

    /// How often presence has been told.
    pub(crate) fn times_told(&self) -> u64 {
        self.times_told
    }

    pub(crate) fn hold(
        &mut self,
        actor: &Actor,
        path: &Path,
        for_ms: Option<u64>,
        over: bool,
        now: u64,
    ) -> Result<(), Problem> {
        if over && !self.charter.has_power(&actor.role, Power::TakeOver) {
            let role = &actor.role;
            let detail = format!("The role {role:?} has not the charter's power \"take-over\".");
            return Err(Problem::new(ProblemKind::NotAllowed, detail).at(path));
        }
        let rules = &self.charter.holds;
        let lasts = for_ms.unwrap_or(millis(rules.standard.min(rules.longest)));
        self.lapse_from = self.lapse_from.min(now.saturating_add(lasts));
        self.holds.handle_hold(&self.charter, actor, path, for_ms, over, now)
    }

    /// What is not theirs any more is as free of them as they want it.
    pub(crate) fn release(&mut self, who: &str, path: &Path) {
        self.holds.handle_release(who, path);
    }

    /// A cue on its way: to whom the charter says, or whom its sender names where the charter
    /// leaves that to them.
    pub(crate) fn cue(
        &mut self,
        actor: &Actor,
        cue: SendCue,
        now: u64,
    ) -> Result<(CueFrame, CueFor), Problem> {
        let SendCue { name, data, to, .. } = cue;
        let Some(declared) = self.charter.cues.get(&name) else {
            let known: Vec<&str> = self.charter.cues.keys().map(String::as_str).collect();
            let detail = format!("There is no cue {name:?}; the charter has {}.", known.join(", "));
            return Err(Problem::new(ProblemKind::UnknownPath, detail));
        };
        if actor.role != Actor::SERVICE && !declared.from.contains(&actor.role) {
            let detail = format!("The role {:?} may not send the cue {name:?}.", actor.role);
            return Err(Problem::new(ProblemKind::NotAllowed, detail));
        }
        declared.check(&name, data.as_ref())?;
        let to = cued(&name, &declared.to, to)?;
        if let Some(rates) = self.cue_rates.get(&name).filter(|_| actor.role != Actor::SERVICE) {
            self.cue_clock.advance(Duration::from_millis(now.saturating_sub(self.cue_now)));
            self.cue_now = now;
            let (most, wait) = (declared.rate, 1_000 / declared.rate.max(1));
            rates.check_key(&actor.id).map_err(|_| {
                let detail = format!("The cue {name:?} is sent at most {most} times per second.");
                Problem::new(ProblemKind::TooFast, detail)
                    .with("limit", "cue")
                    .with("wait_ms", wait)
            })?;
            // Who sends no more is not remembered.
            rates.retain_recent();
        }
        Ok((CueFrame { name, by: actor.id.clone(), data }, to))
    }

    /// What has lapsed by itself.
    pub(crate) fn handle_timeout(&mut self, now: u64) {
        if now < self.lapse_from {
            return;
        }
        self.presence.handle_timeout(now);
        self.holds.handle_timeout(now);
        let change = self.present.handle_timeout(now);
        self.has_left(change);
        self.plan_presence(now);
        self.lapse_from = self.next_lapse().unwrap_or(u64::MAX);
    }

    fn next_lapse(&self) -> Option<u64> {
        let lapses =
            [self.presence.poll_timeout(), self.holds.poll_timeout(), self.present.poll_timeout()];
        lapses.into_iter().flatten().min()
    }

    /// When something lapses or is told next.
    pub(crate) fn poll_timeout(&self) -> Option<u64> {
        let counted = self.count().is_some_and(|count| count != self.count_told);
        let count_at = counted.then_some(self.count_at);
        let tell_at = self.tell_at.filter(|_| !self.is_queued);
        self.next_lapse().into_iter().chain(tell_at).chain(count_at).min()
    }
}

fn millis(duration: Duration) -> u64 {
    u64::try_from(duration.as_millis()).unwrap_or(u64::MAX)
}

/// Who gets a cue.
fn cued(name: &str, declared: &CueTo, to: Option<CueFor>) -> Result<CueFor, Problem> {
    match (declared, to) {
        (CueTo::Choice, Some(to)) => Ok(to),
        (CueTo::Participant, Some(to @ CueFor::Participant(_))) => Ok(to),
        (CueTo::Participant, _) => {
            let detail = format!("The cue {name:?} goes to one participant: name them in \"to\".");
            Err(Problem::new(ProblemKind::Malformed, detail))
        }
        (CueTo::Everyone, None | Some(CueFor::Everyone)) | (CueTo::Choice, None) => {
            Ok(CueFor::Everyone)
        }
        (CueTo::EveryoneElse, None | Some(CueFor::EveryoneElse)) => Ok(CueFor::EveryoneElse),
        (CueTo::Role(role), None) => Ok(CueFor::Role(role.clone())),
        (_, Some(_)) => {
            let detail =
                format!("The charter says to whom the cue {name:?} goes: leave \"to\" out.");
            Err(Problem::new(ProblemKind::NotAllowed, detail))
        }
    }
}
