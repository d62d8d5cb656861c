//! The connections of a session, and which audience each is of.

use std::collections::BTreeMap;

use rendel_core::{Actor, Teller};
use rendel_wire::CueFor;

use crate::input::{ConnectionId, Entry, WayIn};

/// A connection that entered.
#[derive(Debug)]
pub(crate) struct Member {
    pub(crate) who: Actor,
    pub(crate) name: String,
    pub(crate) audience: usize,
    /// A guest's token, which each welcome tells.
    pub(crate) token: Option<String>,
    /// Each welcome says how the fields are declared.
    pub(crate) fields: bool,
    pub(crate) way: WayIn,
    /// Whether it was shown its welcome; updates go to it from then on.
    is_welcome: bool,
    /// Its last proposal that was refused before the sequencer heard of it.
    pub(crate) refused: u64,
    /// Its last proposal that was refused for good without a trace in the order.
    pub(crate) denied: u64,
}

impl Member {
    /// Whose presence it tells.
    pub(crate) fn teller(&self) -> Teller {
        (self.who.id.clone(), self.who.client)
    }
}

/// All of them.
#[derive(Debug, Default)]
pub(crate) struct Members(BTreeMap<ConnectionId, Member>);

impl Members {
    pub(crate) fn len(&self) -> usize {
        self.0.len()
    }

    pub(crate) fn get(&self, connection: ConnectionId) -> Option<&Member> {
        self.0.get(&connection)
    }

    /// Adds a connection; gives those of the same client, whose place it takes.
    pub(crate) fn add(&mut self, entry: Entry, audience: usize) -> Vec<ConnectionId> {
        let Entry { connection, who, name, way, fields, token, .. } = entry;
        let is_same = |member: &Member| member.who.client == who.client && member.who.id == who.id;
        let replaced = self.all_that(is_same);
        let member = Member {
            who,
            name,
            audience,
            token,
            fields,
            way,
            is_welcome: false,
            refused: 0,
            denied: 0,
        };
        self.0.insert(connection, member);
        replaced
    }

    pub(crate) fn remove(&mut self, connection: ConnectionId) -> Option<Member> {
        self.0.remove(&connection)
    }

    /// From here on it is shown what its audience is shown, or from here on it is not.
    pub(crate) fn set_welcome(&mut self, connection: ConnectionId, is_welcome: bool) {
        if let Some(member) = self.0.get_mut(&connection) {
            member.is_welcome = is_welcome;
        }
    }

    pub(crate) fn note_refused(&mut self, connection: ConnectionId, n: u64) {
        if let Some(member) = self.0.get_mut(&connection) {
            member.refused = member.refused.max(n);
        }
    }

    /// A proposal is refused, and will be whenever it comes over this connection: its client may
    /// send it again before it has read that.
    pub(crate) fn note_denied(&mut self, connection: ConnectionId, n: u64) {
        self.note_refused(connection, n);
        if let Some(member) = self.0.get_mut(&connection) {
            member.denied = member.denied.max(n);
        }
    }

    pub(crate) fn renew(
        &mut self,
        connection: ConnectionId,
        claims: BTreeMap<String, serde_json::Value>,
    ) {
        if let Some(member) = self.0.get_mut(&connection) {
            member.who.claims = claims;
        }
    }

    /// A connection is of somebody with another name or role: gives its audience before, or `None`
    /// if neither is another.
    pub(crate) fn amend(
        &mut self,
        connection: ConnectionId,
        name: &str,
        role: &str,
        audience: usize,
    ) -> Option<usize> {
        let member = self.0.get_mut(&connection)?;
        if (member.name.as_str(), member.who.role.as_str()) == (name, role) {
            return None;
        }
        name.clone_into(&mut member.name);
        role.clone_into(&mut member.who.role);
        if let WayIn::Events { after, .. } = &mut member.way {
            // They begin anew.
            *after = None;
        }
        Some(std::mem::replace(&mut member.audience, audience))
    }

    fn all_that(&self, is_meant: impl Fn(&Member) -> bool) -> Vec<ConnectionId> {
        self.0.iter().filter(|(_, member)| is_meant(member)).map(|(id, _)| *id).collect()
    }

    pub(crate) fn all(&self) -> Vec<ConnectionId> {
        self.all_that(|_| true)
    }

    pub(crate) fn of_participant(&self, id: &str) -> Vec<ConnectionId> {
        self.all_that(|member| member.who.id == id)
    }

    /// Whether something that an audience is shown has somebody to see it.
    pub(crate) fn has_audience(&self, audience: usize) -> bool {
        self.0.values().any(|member| member.is_welcome && member.audience == audience)
    }

    /// Whether somebody of an audience follows by patches.
    pub(crate) fn has_follower(&self, audience: usize) -> bool {
        let follows = |member: &Member| matches!(member.way, WayIn::Events { patches: true, .. });
        self.0.values().any(|member| member.audience == audience && follows(member))
    }

    /// Those whose replica can be asked for its digest, each with its audience.
    pub(crate) fn replicas(&self) -> BTreeMap<ConnectionId, usize> {
        let is_asked =
            |member: &Member| member.is_welcome && matches!(member.way, WayIn::Replica { .. });
        let asked = self.0.iter().filter(|(_, member)| is_asked(member));
        asked.map(|(id, member)| (*id, member.audience)).collect()
    }

    /// Those who get a cue, by their audiences.
    pub(crate) fn cued(&self, by: &str, to: &CueFor) -> BTreeMap<usize, Vec<ConnectionId>> {
        let mut cued = BTreeMap::<_, Vec<_>>::new();
        for (id, member) in self.0.iter().filter(|(_, member)| member.is_welcome) {
            let is_meant = match to {
                CueFor::Everyone => true,
                CueFor::EveryoneElse => member.who.id != by,
                CueFor::Role(role) => member.who.role == *role,
                CueFor::Participant(id) => member.who.id == *id,
            };
            if is_meant {
                cued.entry(member.audience).or_default().push(*id);
            }
        }
        cued
    }
}
