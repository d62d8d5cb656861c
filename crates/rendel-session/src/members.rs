//! The connections of a session, and which audience each is of.

use std::collections::{BTreeMap, BTreeSet};

use rendel_core::{Actor, Reader, SightKey, Teller, Undoable, Viewer};
use rendel_wire::CueFor;

use crate::input::{ConnectionId, Entry, WayIn};

/// A connection that entered.
#[derive(Debug)]
pub(crate) struct Member {
    pub(crate) who: Actor,
    pub(crate) viewer: Viewer,
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
    /// Who reads what it is told.
    pub(crate) fn reader(&self) -> Reader {
        Reader { role: self.who.role.clone(), viewer: self.viewer.clone() }
    }

    /// Whether it is shown what its audience is shown.
    fn is_told(&self) -> bool {
        self.is_welcome && self.way != WayIn::Queries
    }

    fn is_replica(&self) -> bool {
        matches!(self.way, WayIn::Replica { .. })
    }

    fn is_patched(&self) -> bool {
        matches!(self.way, WayIn::Events { patches: true, .. })
    }

    /// Whose presence it tells.
    pub(crate) fn teller(&self) -> Teller {
        (self.who.id.clone(), self.who.client)
    }
}

/// All of them.
#[derive(Debug, Default)]
pub(crate) struct Members {
    all: BTreeMap<ConnectionId, Member>,
    /// Those who are told what they can undo, with what they were told last.
    undo: BTreeMap<ConnectionId, Undoable>,
    /// Those of each audience by the keys that they see more by.
    by_key: BTreeMap<(usize, SightKey), BTreeSet<ConnectionId>>,
    /// How many of each audience are shown updates, and how many of them as patches.
    told: BTreeMap<usize, usize>,
    patched: BTreeMap<usize, usize>,
    replicas: usize,
}

impl Members {
    pub(crate) fn len(&self) -> usize {
        self.all.len()
    }

    pub(crate) fn get(&self, connection: ConnectionId) -> Option<&Member> {
        self.all.get(&connection)
    }

    /// A connection is told what its participant can undo from now on.
    pub(crate) fn follow_undo(&mut self, connection: ConnectionId) {
        if self.all.contains_key(&connection) {
            self.undo.entry(connection).or_default();
        }
    }

    /// Those who are told what they can undo.
    pub(crate) fn following_undo(
        &self,
    ) -> impl Iterator<Item = (ConnectionId, &Member, &Undoable)> {
        let following = self.undo.iter();
        following.filter_map(|(id, told)| Some((*id, self.all.get(id)?, told)))
    }

    /// A connection is told what it can undo.
    pub(crate) fn note_undoable(&mut self, connection: ConnectionId, undoable: Undoable) {
        self.undo.insert(connection, undoable);
    }

    /// Adds a connection; gives those of the same client, whose place it takes.
    pub(crate) fn add(&mut self, entry: Entry, audience: usize) -> Vec<ConnectionId> {
        let Entry { connection, who, name, way, fields, token, .. } = entry;
        let is_same = |member: &Member| member.who.client == who.client && member.who.id == who.id;
        let replaced = self.all_that(is_same);
        let member = Member {
            viewer: Viewer::of(&who),
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
        self.all.insert(connection, member);
        self.list(connection);
        replaced
    }

    pub(crate) fn remove(&mut self, connection: ConnectionId) -> Option<Member> {
        self.undo.remove(&connection);
        self.unlist(connection);
        self.all.remove(&connection)
    }

    fn list(&mut self, connection: ConnectionId) {
        let Some(member) = self.all.get(&connection) else { return };
        self.replicas += usize::from(member.is_replica());
        if member.is_told() {
            *self.told.entry(member.audience).or_default() += 1;
        }
        if member.is_patched() {
            *self.patched.entry(member.audience).or_default() += 1;
        }
        for key in member.viewer.keys() {
            self.by_key.entry((member.audience, key)).or_default().insert(connection);
        }
    }

    fn unlist(&mut self, connection: ConnectionId) {
        fn one_less(counts: &mut BTreeMap<usize, usize>, audience: usize) {
            if let Some(count) = counts.get_mut(&audience) {
                *count -= 1;
                if *count == 0 {
                    counts.remove(&audience);
                }
            }
        }
        let Some(member) = self.all.get(&connection) else { return };
        self.replicas -= usize::from(member.is_replica());
        if member.is_told() {
            one_less(&mut self.told, member.audience);
        }
        if member.is_patched() {
            one_less(&mut self.patched, member.audience);
        }
        for key in member.viewer.keys() {
            let entry = (member.audience, key);
            if let Some(listed) = self.by_key.get_mut(&entry) {
                listed.remove(&connection);
                if listed.is_empty() {
                    self.by_key.remove(&entry);
                }
            }
        }
    }

    /// The connections of an audience that are shown updates and have one of some keys, by viewer.
    pub(crate) fn seers<'k>(
        &self,
        audience: usize,
        keys: impl Iterator<Item = &'k SightKey>,
    ) -> BTreeMap<Viewer, Vec<ConnectionId>> {
        let mut found = BTreeMap::<_, Vec<_>>::new();
        let listed = keys.filter_map(|key| self.by_key.get(&(audience, key.clone())));
        for connection in listed.flatten().collect::<BTreeSet<_>>() {
            if let Some(member) = self.all.get(connection).filter(|member| member.is_told()) {
                found.entry(member.viewer.clone()).or_default().push(*connection);
            }
        }
        found
    }

    /// Whether a connection has a replica, and not only what happens.
    pub(crate) fn has_replica(&self, connection: ConnectionId) -> bool {
        self.all.get(&connection).is_some_and(Member::is_replica)
    }

    /// Whether some connection has one.
    pub(crate) fn has_replicas(&self) -> bool {
        self.replicas > 0
    }

    /// From here on it is shown what its audience is shown, or from here on it is not.
    pub(crate) fn set_welcome(&mut self, connection: ConnectionId, is_welcome: bool) {
        self.unlist(connection);
        if let Some(member) = self.all.get_mut(&connection) {
            member.is_welcome = is_welcome;
        }
        self.list(connection);
    }

    pub(crate) fn note_refused(&mut self, connection: ConnectionId, n: u64) {
        if let Some(member) = self.all.get_mut(&connection) {
            member.refused = member.refused.max(n);
        }
    }

    /// A proposal is refused, and will be whenever it comes over this connection: its client may
    /// send it again before it has read that.
    pub(crate) fn note_denied(&mut self, connection: ConnectionId, n: u64) {
        self.note_refused(connection, n);
        if let Some(member) = self.all.get_mut(&connection) {
            member.denied = member.denied.max(n);
        }
    }

    pub(crate) fn renew(
        &mut self,
        connection: ConnectionId,
        claims: BTreeMap<String, serde_json::Value>,
    ) {
        self.unlist(connection);
        if let Some(member) = self.all.get_mut(&connection) {
            member.who.claims = claims;
            member.viewer = Viewer::of(&member.who);
        }
        self.list(connection);
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
        let is_other = {
            let member = self.all.get(&connection)?;
            (member.name.as_str(), member.who.role.as_str()) != (name, role)
        };
        if !is_other {
            return None;
        }
        self.unlist(connection);
        let member = self.all.get_mut(&connection)?;
        name.clone_into(&mut member.name);
        role.clone_into(&mut member.who.role);
        if let WayIn::Events { after, .. } = &mut member.way {
            // They begin anew.
            *after = None;
        }
        let before = std::mem::replace(&mut member.audience, audience);
        self.list(connection);
        Some(before)
    }

    fn all_that(&self, is_meant: impl Fn(&Member) -> bool) -> Vec<ConnectionId> {
        self.all.iter().filter(|(_, member)| is_meant(member)).map(|(id, _)| *id).collect()
    }

    pub(crate) fn all(&self) -> Vec<ConnectionId> {
        self.all_that(|_| true)
    }

    pub(crate) fn of_participant(&self, id: &str) -> Vec<ConnectionId> {
        self.all_that(|member| member.who.id == id)
    }

    /// Whether something that an audience is shown has somebody to see it.
    pub(crate) fn has_audience(&self, audience: usize) -> bool {
        self.told.contains_key(&audience)
    }

    /// Whether somebody of an audience follows by patches.
    pub(crate) fn has_follower(&self, audience: usize) -> bool {
        self.patched.contains_key(&audience)
    }

    /// Those whose replica can be asked for its digest, each with its audience.
    pub(crate) fn replicas(&self) -> BTreeMap<ConnectionId, (usize, Viewer)> {
        let is_asked = |member: &Member| member.is_welcome && member.is_replica();
        let asked = self.all.iter().filter(|(_, member)| is_asked(member));
        asked.map(|(id, member)| (*id, (member.audience, member.viewer.clone()))).collect()
    }

    /// Those who get a cue, by their audiences.
    pub(crate) fn cued(&self, by: &str, to: &CueFor) -> BTreeMap<usize, Vec<ConnectionId>> {
        let mut cued = BTreeMap::<_, Vec<_>>::new();
        for (id, member) in self.all.iter().filter(|(_, member)| member.is_welcome) {
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
