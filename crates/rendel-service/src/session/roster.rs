//! Who is in a session.

use std::collections::BTreeMap;
use std::sync::Arc;

use rendel_core::{Actor, Problem, ProblemKind};
use rendel_wire::{Participant, Roster};
use sha2::{Digest as _, Sha256};

use super::Rate;
use crate::auth::Identity;

/// Who is here, each with the connections that they have open.
#[derive(Debug, Default)]
pub(super) struct Present {
    participants: BTreeMap<String, Here>,
}

#[derive(Debug)]
struct Here {
    shown: Participant,
    rate: Arc<Rate>,
}

impl Present {
    pub(super) fn len(&self) -> usize {
        self.participants.len()
    }

    pub(super) fn list(&self) -> Vec<Participant> {
        self.participants.values().map(|here| here.shown.clone()).collect()
    }

    /// Adds a connection: `full` beyond `most` participants, and beyond `most_each` connections of one. Gives the
    /// participant's rate and the change of the roster.
    pub(super) fn add(
        &mut self,
        who: &Identity,
        most: usize,
        most_each: u32,
        rate: u32,
    ) -> Result<(Arc<Rate>, Roster), Problem> {
        if let Some(here) = self.participants.get_mut(&who.id) {
            if here.shown.connections >= most_each && who.role != Actor::SERVICE {
                let detail = format!("{:?} has {most_each} connections here already. Close one of them.", who.id);
                return Err(Problem::new(ProblemKind::Full, detail).with("limit", "connections_per_participant"));
            }
            here.shown.connections += 1;
            here.shown.name.clone_from(&who.name);
            here.shown.role.clone_from(&who.role);
            let changed = vec![here.shown.clone()];
            return Ok((here.rate.clone(), Roster { changed, ..Roster::default() }));
        }
        if self.participants.len() >= most && who.role != Actor::SERVICE {
            let detail = format!("The session has its {most} participants. Come back when somebody has left.");
            return Err(Problem::new(ProblemKind::Full, detail).with("limit", "participants"));
        }
        let rate = Arc::new(if who.role == Actor::SERVICE { Rate::unbounded() } else { Rate::new(rate) });
        let shown = Participant {
            id: who.id.clone(),
            name: who.name.clone(),
            role: who.role.clone(),
            hue: hue(&who.id),
            connections: 1,
        };
        self.participants.insert(who.id.clone(), Here { shown: shown.clone(), rate: rate.clone() });
        Ok((rate, Roster { joined: vec![shown], ..Roster::default() }))
    }

    pub(super) fn rate(&self, id: &str) -> Option<Arc<Rate>> {
        self.participants.get(id).map(|here| here.rate.clone())
    }

    /// Takes a connection away.
    pub(super) fn remove(&mut self, id: &str) -> Roster {
        let Some(here) = self.participants.get_mut(id) else { return Roster::default() };
        here.shown.connections -= 1;
        if here.shown.connections > 0 {
            return Roster { changed: vec![here.shown.clone()], ..Roster::default() };
        }
        self.participants.remove(id);
        Roster { left: vec![id.to_owned()], ..Roster::default() }
    }
}

/// Adds a later change to an earlier one, so that both are told at once.
pub(super) fn absorb(change: &mut Roster, later: Roster) {
    for gone in later.left {
        let (joined, changed) = (change.joined.len(), change.changed.len());
        change.joined.retain(|one| one.id != gone);
        change.changed.retain(|one| one.id != gone);
        // Who came and went meanwhile was never seen.
        let was_here = change.joined.len() == joined || change.changed.len() < changed;
        if was_here && !change.left.contains(&gone) {
            change.left.push(gone);
        }
    }
    change.joined.extend(later.joined);
    for one in later.changed {
        let known = change.joined.iter_mut().chain(&mut change.changed).find(|known| known.id == one.id);
        match known {
            Some(known) => *known = one,
            None => change.changed.push(one),
        }
    }
}

/// The colour that goes with an id: the same everywhere and always.
pub(super) fn hue(id: &str) -> u16 {
    let hash = Sha256::digest(id.as_bytes());
    u16::from_be_bytes([hash[0], hash[1]]) % 360
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn changes_that_are_told_together_say_what_came_of_them() {
        let who = |id: &str, connections| Participant {
            id: id.into(),
            name: id.into(),
            role: "picker".into(),
            hue: 0,
            connections,
        };
        let joined = |id: &str| Roster { joined: vec![who(id, 1)], ..Roster::default() };
        let changed = |id: &str, connections| Roster { changed: vec![who(id, connections)], ..Roster::default() };
        let left = |id: &str| Roster { left: vec![id.into()], ..Roster::default() };
        let told = |changes: Vec<Roster>| {
            let mut all = Roster::default();
            changes.into_iter().for_each(|change| absorb(&mut all, change));
            all
        };
        assert_eq!(
            told(vec![joined("oda"), changed("oda", 2)]),
            Roster { joined: vec![who("oda", 2)], ..Roster::default() }
        );
        assert_eq!(told(vec![joined("oda"), left("oda")]), Roster::default());
        assert_eq!(told(vec![changed("oda", 3), changed("oda", 2)]), changed("oda", 2));
        assert_eq!(told(vec![changed("oda", 2), left("oda")]), left("oda"));
        let back = told(vec![left("oda"), joined("oda")]);
        assert_eq!((back.left.len(), back.joined.len()), (1, 1), "who went and came is another arrival");
        assert_eq!(told(vec![left("oda"), joined("oda"), left("oda")]), left("oda"));
    }
}
