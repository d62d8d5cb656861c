//! Arrivals and departures as updates of the session's own, if its charter has rules or announcements
//! about them.
//!
//! The journal keeps the participants in the session, so each arrival and each departure is settled
//! once, whatever happens to the service in between. After a restart, participants have as long to
//! return as after a lost connection.

use std::collections::BTreeSet;

use rendel_core::{Actor, Passage, Way, Whose};

use super::Session;
use crate::order::Origin;

/// Arrivals and departures that are yet to be settled.
#[derive(Debug, Default)]
pub(super) struct Passing {
    /// Participants that may have come or gone.
    participants: BTreeSet<String>,
    /// Whether anybody may have.
    anybody: bool,
    /// Connections that came and went.
    connections: Vec<(Actor, Way)>,
    /// How long the session waits for participants of before it was loaded, in milliseconds since
    /// 1970 UTC.
    until: Option<u64>,
}

impl Session {
    fn follows(&self, whose: Whose) -> bool {
        self.charter.rules.follow_people(whose)
    }

    /// Somebody came or went over a connection.
    pub(super) fn note_connection(&mut self, who: &Actor, way: Way) {
        if self.follows(Whose::Connection) {
            self.passing.connections.push((who.clone(), way));
        }
        if self.follows(Whose::Participant) {
            self.passing.participants.insert(who.id.clone());
        }
    }

    /// A participant has another role.
    pub(super) fn note_role(&mut self, who: &str) {
        self.passing.participants.insert(who.to_owned());
    }

    /// Somebody may have gone who had lost their connection.
    pub(super) fn note_lapse(&mut self) {
        self.passing.anybody = true;
    }

    /// The participants that the journal lists may return.
    pub(super) fn wait_for_those_who_were_here(&mut self) {
        self.passing.anybody = true;
        let is_empty = self.order.sequencer().here().next().is_none();
        let linger = u64::try_from(self.charter.presence.linger.as_millis()).unwrap_or(u64::MAX);
        self.passing.until = (!is_empty).then(|| self.now.saturating_add(linger));
    }

    /// When those who were here before are waited for no more.
    pub(super) fn next_passage(&self) -> Option<u64> {
        self.passing.until
    }

    /// Settles who came and went.
    pub(super) fn settle_passages(&mut self) {
        if !self.may_act() {
            return;
        }
        for (who, way) in std::mem::take(&mut self.passing.connections) {
            self.pass_by(&who, way, Whose::Connection);
        }
        if self.passing.until.is_some_and(|until| until <= self.now) {
            self.passing.until = None;
            self.passing.anybody = true;
        }
        let anybody = std::mem::take(&mut self.passing.anybody);
        let mut whose = std::mem::take(&mut self.passing.participants);
        if !self.follows(Whose::Participant) {
            return;
        }
        if anybody {
            let here = self.order.sequencer().here().map(|(who, _)| who.to_owned());
            whose.extend(here.chain(self.people.all().into_iter().map(|shown| shown.id)));
        }
        for id in whose {
            let (is_here, was_here) = (self.people.has(&id), self.order.sequencer().has_here(&id));
            match (is_here, was_here) {
                (true, _) => {
                    let member = self.members.of_participant(&id).into_iter().next();
                    let who = member.and_then(|connection| self.members.get(connection));
                    let Some(who) = who.map(|member| member.who.clone()) else { continue };
                    let way = if was_here { Way::Role } else { Way::In };
                    if self.order.sequencer().role_of(&id) != Some(&who.role) {
                        self.pass_by(&who, way, Whose::Participant);
                    }
                }
                (false, true) if self.passing.until.is_none() => {
                    let here = self.order.sequencer().here().find(|(who, _)| *who == id);
                    let role = here.map(|(_, role)| role.to_owned()).unwrap_or_default();
                    let who = Actor::new(id, role, uuid::Uuid::nil());
                    self.pass_by(&who, Way::Out, Whose::Participant);
                }
                _ => {}
            }
        }
    }

    fn pass_by(&mut self, who: &Actor, way: Way, of: Whose) {
        let passage = Passage { who: who.id.clone(), role: who.role.clone(), way, of };
        let outcome = self.order.sequencer_mut().handle_passage(who, &passage, self.now);
        self.note_unanswered();
        self.come_out(0, outcome, Origin::Own);
    }
}
