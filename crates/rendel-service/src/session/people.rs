//! What people tell of themselves, hold and call out: none of it is in the journal.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;

use governor::{DefaultKeyedRateLimiter, Quota, RateLimiter};
use rendel_core::{
    Actor, CueTo, Facts, Hold, HoldChange, Path, Power, Problem, ProblemKind, placed,
};
use rendel_wire::http::{ParticipantInfo, ParticipantList};
use rendel_wire::{
    AnswerFrame, CueFor, CueFrame, FromService, Left, LeftWhy, Roster, Said, SendCue,
};
use tokio::time::Instant;
use uuid::Uuid;

use super::audience::AudienceId;
use super::roster::absorb;
use super::task::{Member, Output, Task};
use super::{Act, ConnectionId};
use crate::app::now_ms;
use crate::auth::Identity;
use crate::connection::{Beat, Frame, Item};
use crate::failure::removed;

/// How often each may send each cue.
pub(super) type CueRates = BTreeMap<String, DefaultKeyedRateLimiter<String>>;

pub(super) fn cue_rates(charter: &rendel_core::Charter) -> CueRates {
    let quota = |rate: u32| std::num::NonZeroU32::new(rate).map(Quota::per_second);
    let cues = charter
        .cues
        .iter()
        .filter_map(|(name, cue)| Some((name.clone(), RateLimiter::keyed(quota(cue.rate)?))));
    cues.collect()
}

impl Task {
    /// Takes what somebody tells of themselves. A place in a text means something in the order of
    /// the updates around it only.
    pub(super) fn said(&mut self, connection: ConnectionId, said: Said) {
        let Some(member) = self.members.get(&connection) else { return };
        if self.adrift.is_some() {
            return;
        }
        let Said { seen, set } = said;
        let seen = seen.unwrap_or(self.sequencer.seq()).min(self.sequencer.seq());
        match placed(&self.charter, &self.sequencer.state(), set, seen, member.who.key()) {
            Ok(facts) => self.batch.outputs.push(Output::Said { connection, facts }),
            Err(problem) => {
                self.app.metrics.count(&problem);
                self.tell(connection, &FromService::Notice(rendel_wire::Notice { problem }));
            }
        }
    }

    pub(super) fn show_said(&mut self, connection: ConnectionId, facts: Facts) {
        let Some(member) = self.members.get(&connection) else { return };
        let teller = member.teller();
        self.presence.handle_said(&self.charter, &teller, connection, facts, now_ms());
        self.plan_presence_beat();
    }

    /// Presence is told at the charter's rate, all that changed since the last time at once.
    pub(super) fn plan_presence_beat(&mut self) {
        if self.presence.has_changed() && self.presence_beat.is_none() {
            let wait = Duration::from_secs(1) / self.charter.presence.rate.max(1);
            self.presence_beat = Some((self.last_presence + wait).max(Instant::now()));
        }
    }

    pub(super) fn show_presence(&mut self) {
        let now = Instant::now();
        // Under load presence is told less often, and what waits is the newest; updates do not wait
        // for it.
        let rest =
            self.last_beats.iter().map(|beat| beat.rest(now.into_std())).max().unwrap_or_default();
        if !rest.is_zero() {
            self.presence_beat = Some(now + rest);
            return;
        }
        self.presence_beat = None;
        self.last_presence = now;
        self.last_beats.clear();
        let changed = self.presence.poll_changed();
        for audience in 0..self.audiences.all.len() {
            let sight = &self.audiences.all[audience].sight;
            // Nobody needs to hear what they said themselves.
            let is_told = |member: &&Member| {
                member.is_welcome
                    && member.audience == audience
                    && (changed.len() > 1 || !changed.contains(&member.teller()))
            };
            let told: Vec<&Member> = self.members.values().filter(is_told).collect();
            if told.is_empty() {
                continue;
            }
            let mut of = crate::connection::Told::new();
            for teller in &changed {
                let facts = self.presence.facts(&self.charter, sight, teller);
                of.entry(teller.0.clone()).or_default().insert(teller.1, facts);
            }
            let beat = Arc::new(Beat::new(of, told.len()));
            told.iter().for_each(|member| member.outbound.put_presence(&beat));
            self.app.metrics.presence.inc_by(told.len() as u64);
            self.last_beats.push(beat);
        }
    }

    /// All that is told now, for somebody who arrives.
    pub(super) fn presence_for(
        &self,
        audience: AudienceId,
    ) -> BTreeMap<String, BTreeMap<Uuid, Facts>> {
        let sight = &self.audiences.all[audience].sight;
        let mut all = BTreeMap::<_, BTreeMap<_, _>>::new();
        for teller in self.presence.tellers() {
            if let Some(facts) = self.presence.facts(&self.charter, sight, teller) {
                all.entry(teller.0.clone()).or_default().insert(teller.1, facts);
            }
        }
        all
    }

    pub(super) fn holds_for(&self, audience: AudienceId) -> Vec<Hold> {
        self.holds.list().into_iter().filter(|hold| self.is_seen(audience, &hold.at)).collect()
    }

    fn is_seen(&self, audience: AudienceId, at: &str) -> bool {
        let sight = &self.audiences.all[audience].sight;
        let is_shown =
            |path: Path| sight.extent(&self.charter.fields, &path) != rendel_core::Extent::Nothing;
        sight.is_whole() || Path::parse(at).is_ok_and(is_shown)
    }

    pub(super) fn show_holds(&mut self, change: &HoldChange) {
        for audience in 0..self.audiences.all.len() {
            let taken = change
                .taken
                .iter()
                .filter(|hold| self.is_seen(audience, &hold.at))
                .cloned()
                .collect();
            let freed =
                change.freed.iter().filter(|at| self.is_seen(audience, at)).cloned().collect();
            let seen = HoldChange { taken, freed };
            if seen != HoldChange::default() {
                let frame = Frame::new(FromService::Holds(seen).encode());
                let members = self
                    .members
                    .values()
                    .filter(|member| member.audience == audience && member.is_welcome);
                for member in members {
                    member.outbound.put(Item::Frame(frame.clone()));
                }
            }
        }
    }

    /// Something that somebody asks for and is answered alone.
    pub(super) fn act(&mut self, connection: ConnectionId, n: u64, act: Act) {
        let Some(member) = self.members.get(&connection) else { return };
        let actor = member.who.clone();
        let result = match act {
            Act::Hold { at, for_ms, over } => self.hold(&actor, &at, for_ms, over),
            // What is not theirs any more is as free of them as they want it.
            Act::Release { at } => Path::parse(&at).map(|path| {
                self.holds.handle_release(&actor.id, &path);
            }),
            Act::Cue(cue) => self.cue(&actor, cue),
            Act::Renewed(who) => {
                self.renew(connection, *who);
                Ok(())
            }
        };
        let problem = result.err().inspect(|problem| self.app.metrics.refused(problem));
        self.batch.outputs.push(Output::Acted { connection, answer: AnswerFrame { n, problem } });
    }

    fn hold(
        &mut self,
        actor: &Actor,
        at: &str,
        for_ms: Option<u64>,
        over: bool,
    ) -> Result<(), Problem> {
        if let Some(problem) = self.refusal(actor) {
            return Err(problem);
        }
        let path = Path::parse(at)?;
        if !self.is_seen(self.audiences.of_role(&actor.role), at)
            || self.sequencer.plain_at(&path).is_none()
        {
            return Err(super::nothing_at(&path));
        }
        if over && !self.charter.has_power(&actor.role, Power::TakeOver) {
            let detail = format!(
                "The role {:?} has not the power \"take-over\" of the charter.",
                actor.role
            );
            return Err(Problem::new(ProblemKind::NotAllowed, detail).at(at));
        }
        self.holds.handle_hold(&self.charter, actor, &path, for_ms, over, now_ms())?;
        if over {
            let (app, session, by) = (self.app.clone(), self.head.id.clone(), actor.id.clone());
            let detail = serde_json::json!({ "at": at });
            tokio::spawn(async move { app.note(Some(&session), &by, "took over", detail).await });
        }
        Ok(())
    }

    fn renew(&mut self, connection: ConnectionId, who: Identity) {
        if let Some(member) = self.members.get_mut(&connection) {
            member.who.claims.clone_from(&who.claims);
            member.identity = who;
        }
    }

    /// Sends a cue: to whom the charter says, or whom its sender names where the charter leaves
    /// that to them.
    pub(super) fn cue(&mut self, actor: &Actor, cue: SendCue) -> Result<(), Problem> {
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
        let to = match (&declared.to, to) {
            (CueTo::Choice, Some(to)) => to,
            (CueTo::Participant, Some(to @ CueFor::Participant(_))) => to,
            (CueTo::Participant, _) => {
                return Err(Problem::new(
                    ProblemKind::Malformed,
                    format!("The cue {name:?} goes to one participant: name them in \"to\"."),
                ));
            }
            (CueTo::Everyone, None | Some(CueFor::Everyone)) | (CueTo::Choice, None) => {
                CueFor::Everyone
            }
            (CueTo::EveryoneElse, None | Some(CueFor::EveryoneElse)) => CueFor::EveryoneElse,
            (CueTo::Role(role), None) => CueFor::Role(role.clone()),
            (_, Some(_)) => {
                return Err(Problem::new(
                    ProblemKind::NotAllowed,
                    format!("The charter says to whom the cue {name:?} goes: leave \"to\" out."),
                ));
            }
        };
        if let Some(rates) = self.cue_rates.get(&name).filter(|_| actor.role != Actor::SERVICE) {
            let detail =
                format!("The cue {name:?} is sent at most {} times per second.", declared.rate);
            let too_fast = || {
                Problem::new(ProblemKind::TooFast, detail)
                    .with("limit", "cue")
                    .with("wait_ms", 1_000 / declared.rate.max(1))
            };
            rates.check_key(&actor.id).map_err(|_| too_fast())?;
        }
        let frame = FromService::Cue(CueFrame { name, by: actor.id.clone(), data }).encode();
        self.batch.outputs.push(Output::Cue { frame: Frame::new(frame), by: actor.id.clone(), to });
        Ok(())
    }

    pub(super) fn show_cue(&mut self, frame: &Arc<Frame>, by: &str, to: &CueFor) {
        for member in self.members.values().filter(|member| member.is_welcome) {
            let is_meant = match to {
                CueFor::Everyone => true,
                CueFor::EveryoneElse => member.who.id != by,
                CueFor::Role(role) => member.who.role == *role,
                CueFor::Participant(id) => member.who.id == *id,
            };
            if is_meant {
                member.outbound.put(Item::Frame(frame.clone()));
            }
        }
    }

    /// Ends the connections of a participant who was removed.
    pub(super) fn remove(&mut self, sub: &str) {
        let why = self.removals.check(sub).err().unwrap_or_else(|| removed(now_ms()));
        let theirs: Vec<_> = self
            .members
            .iter()
            .filter(|(_, member)| member.who.id == sub)
            .map(|(id, _)| *id)
            .collect();
        for connection in theirs {
            if let Some(member) = self.members.get(&connection) {
                member.outbound.end(why.clone());
            }
            self.leave(connection, LeftWhy::Removed);
        }
        let change = self.present.remove_all(sub, LeftWhy::Removed);
        self.has_left(change);
    }

    /// Lets go of those whose token was revoked.
    pub(super) fn recheck(&mut self) {
        for member in self.members.values() {
            if let Err(problem) = self.app.revoked.check(&self.head.id, &member.identity) {
                member.outbound.end(problem);
            }
        }
    }

    /// A change of the roster in which somebody may have left: what they held is free and what they
    /// told is gone.
    pub(super) fn has_left(&mut self, change: Roster) {
        for Left { id, .. } in &change.left {
            self.holds.handle_left(id);
        }
        absorb(&mut self.roster, change);
    }

    /// What lapses by itself.
    pub(super) fn handle_timeout(&mut self) {
        let now = now_ms();
        self.presence.handle_timeout(now);
        self.holds.handle_timeout(now);
        let change = self.present.handle_timeout(now);
        self.has_left(change);
        self.plan_presence_beat();
    }

    /// When something lapses next.
    pub(super) fn next_timeout(&self) -> Option<Instant> {
        let next =
            [self.presence.poll_timeout(), self.holds.poll_timeout(), self.present.poll_timeout()];
        let wait = next.into_iter().flatten().min()?.saturating_sub(now_ms());
        Some(Instant::now() + Duration::from_millis(wait))
    }

    pub(super) fn who(&self) -> ParticipantList {
        let holds = self.holds.list();
        let mut presence = self.presence_for(self.audiences.of_role(Actor::SERVICE));
        let info = |shown: rendel_wire::Participant| ParticipantInfo {
            presence: presence.remove(&shown.id).unwrap_or_default(),
            holds: holds
                .iter()
                .filter(|hold| hold.by == shown.id)
                .map(|hold| hold.at.clone())
                .collect(),
            id: shown.id,
            name: shown.name,
            role: shown.role,
            hue: shown.hue,
            connections: shown.connections,
            away: shown.away,
        };
        ParticipantList { participants: self.present.list().into_iter().map(info).collect(), holds }
    }
}
