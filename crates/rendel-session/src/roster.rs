//! Who is in a session.

use std::collections::BTreeMap;

use rendel_core::{Actor, Problem, ProblemKind};
use rendel_wire::{Left, LeftWhy, Participant, Roster};
use sha2::{Digest as _, Sha256};

use crate::input::Person;

/// Who is here, each with the connections that they have open.
#[derive(Debug, Default)]
pub(crate) struct Present {
    participants: BTreeMap<String, Here>,
}

#[derive(Debug)]
struct Here {
    shown: Participant,
    /// When they have left, in milliseconds since 1970 UTC, while they are away.
    away_until: Option<u64>,
}

impl Present {
    pub(crate) fn len(&self) -> usize {
        self.participants.len()
    }

    /// Those whose role is meant.
    pub(crate) fn list(&self, is_meant: impl Fn(&str) -> bool) -> Vec<Participant> {
        let shown = self.participants.values().map(|here| &here.shown);
        shown.filter(|shown| is_meant(&shown.role)).cloned().collect()
    }

    /// Adds a connection: `crowded` beyond `most` participants, and beyond `most_each` connections of
    /// one. Gives the change of the roster.
    pub(crate) fn add(
        &mut self,
        who: &Person,
        most: usize,
        most_each: u32,
    ) -> Result<Roster, Problem> {
        if let Some(here) = self.participants.get_mut(&who.id) {
            if here.shown.connections >= most_each && who.role != Actor::SERVICE {
                let detail = format!(
                    "{:?} has {most_each} connections here already. Close one of them.",
                    who.id
                );
                return Err(Problem::new(ProblemKind::Crowded, detail)
                    .with("limit", "connections_per_participant"));
            }
            here.shown.connections += 1;
            here.shown.away = false;
            here.away_until = None;
            here.shown.name.clone_from(&who.name);
            here.shown.role.clone_from(&who.role);
            let changed = vec![here.shown.clone()];
            return Ok(Roster { changed, ..Roster::default() });
        }
        if self.participants.len() >= most && who.role != Actor::SERVICE {
            let detail = format!(
                "The session has its {most} participants. Come back when somebody has left."
            );
            return Err(Problem::new(ProblemKind::Crowded, detail).with("limit", "participants"));
        }
        let shown = Participant {
            id: who.id.clone(),
            name: who.name.clone(),
            role: who.role.clone(),
            hue: self.free_hue(hue(&who.id)),
            connections: 1,
            away: false,
        };
        self.participants.insert(who.id.clone(), Here { shown: shown.clone(), away_until: None });
        Ok(Roster { joined: vec![shown], ..Roster::default() })
    }

    /// Somebody has another name or role.
    pub(crate) fn amend(&mut self, id: &str, name: &str, role: &str) -> Roster {
        let Some(here) = self.participants.get_mut(id) else { return Roster::default() };
        name.clone_into(&mut here.shown.name);
        role.clone_into(&mut here.shown.role);
        Roster { changed: vec![here.shown.clone()], ..Roster::default() }
    }

    /// Whether somebody has a connection.
    /// Whether somebody is here, or away for a moment.
    pub(crate) fn has(&self, id: &str) -> bool {
        self.participants.contains_key(id)
    }

    pub(crate) fn is_here(&self, id: &str) -> bool {
        self.participants.get(id).is_some_and(|here| here.shown.connections > 0)
    }

    /// The colour of somebody who is here.
    pub(crate) fn hue(&self, id: &str) -> u16 {
        self.participants.get(id).map_or_else(|| hue(id), |here| here.shown.hue)
    }

    /// The wanted colour, or the one after it that stands apart from all that are here, as far as
    /// there is one. Each step turns by the golden angle, so that steps never fall together.
    fn free_hue(&self, wanted: u16) -> u16 {
        if self.participants.len() > CROWD {
            return wanted;
        }
        let apart = |hue: u16| {
            let apart = self.participants.values().map(|here| here.shown.hue.abs_diff(hue));
            apart.map(|by| by.min(360 - by)).min().unwrap_or(180)
        };
        let steps = (0..32u32).map(|step| {
            u16::try_from((u32::from(wanted) * 10 + step * 1_375) / 10 % 360).unwrap_or(0)
        });
        let steps: Vec<u16> = steps.collect();
        let enough = steps.iter().copied().find(|hue| apart(*hue) >= APART);
        enough.or_else(|| steps.into_iter().max_by_key(|hue| apart(*hue))).unwrap_or(wanted)
    }

    /// Takes a connection away. Who loses the last one is away for `linger` milliseconds, since
    /// they may be back at once.
    pub(crate) fn remove(&mut self, id: &str, why: LeftWhy, linger: u64, now: u64) -> Roster {
        let Some(here) = self.participants.get_mut(id) else { return Roster::default() };
        here.shown.connections = here.shown.connections.saturating_sub(1);
        let is_away = here.shown.connections == 0 && why == LeftWhy::Lost && linger > 0;
        if is_away {
            here.shown.away = true;
            here.away_until = Some(now.saturating_add(linger));
        }
        if here.shown.connections > 0 || is_away {
            return Roster { changed: vec![here.shown.clone()], ..Roster::default() };
        }
        self.remove_all(id, why)
    }

    /// Takes a participant away with all connections.
    pub(crate) fn remove_all(&mut self, id: &str, why: LeftWhy) -> Roster {
        match self.participants.remove(id) {
            Some(_) => Roster { left: vec![Left { id: id.to_owned(), why }], ..Roster::default() },
            None => Roster::default(),
        }
    }

    /// Those who were away for too long have left.
    pub(crate) fn handle_timeout(&mut self, now: u64) -> Roster {
        let over = |here: &Here| here.away_until.is_some_and(|until| until <= now);
        let gone: Vec<_> = self
            .participants
            .iter()
            .filter(|(_, here)| over(here))
            .map(|(id, _)| id.clone())
            .collect();
        gone.iter().for_each(|id| drop(self.participants.remove(id)));
        let left = gone.into_iter().map(|id| Left { id, why: LeftWhy::Lost }).collect();
        Roster { left, ..Roster::default() }
    }

    /// When somebody has been away for too long next.
    pub(crate) fn poll_timeout(&self) -> Option<u64> {
        self.participants.values().filter_map(|here| here.away_until).min()
    }
}

/// Among more than so many no colour stands apart, and to look for one would cost each arrival more.
const CROWD: usize = 64;

/// Degrees by which colours differ enough to be told apart at a glance.
const APART: u16 = 24;

/// Adds a later change to an earlier one, so that both are told at once.
pub(crate) fn absorb(change: &mut Roster, later: Roster) {
    for gone in later.left {
        let (joined, changed) = (change.joined.len(), change.changed.len());
        change.joined.retain(|one| one.id != gone.id);
        change.changed.retain(|one| one.id != gone.id);
        // Who came and went meanwhile was never seen.
        let was_here = change.joined.len() == joined || change.changed.len() < changed;
        if was_here && !change.left.iter().any(|left| left.id == gone.id) {
            change.left.push(gone);
        }
    }
    change.joined.extend(later.joined);
    for one in later.changed {
        let known =
            change.joined.iter_mut().chain(&mut change.changed).find(|known| known.id == one.id);
        match known {
            Some(known) => *known = one,
            None => change.changed.push(one),
        }
    }
}

/// The colour that goes with an id: the same everywhere and always.
pub(crate) fn hue(id: &str) -> u16 {
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
            away: false,
        };
        let joined = |id: &str| Roster { joined: vec![who(id, 1)], ..Roster::default() };
        let changed = |id: &str, connections| Roster {
            changed: vec![who(id, connections)],
            ..Roster::default()
        };
        let left = |id: &str| Roster {
            left: vec![Left { id: id.into(), why: LeftWhy::Left }],
            ..Roster::default()
        };
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
        assert_eq!(
            (back.left.len(), back.joined.len()),
            (1, 1),
            "who went and came is another arrival"
        );
        assert_eq!(told(vec![left("oda"), joined("oda"), left("oda")]), left("oda"));
    }

    fn person(id: &str) -> Person {
        Person { id: id.into(), name: id.into(), role: "picker".into() }
    }

    #[test]
    fn a_lost_connection_is_away_for_a_while_and_a_reload_is_no_coming_and_going() {
        let mut present = Present::default();
        let oda = person("oda");
        present.add(&oda, 9, 9).unwrap();
        let lost = present.remove("oda", LeftWhy::Lost, 1_000, 5_000);
        assert!(lost.left.is_empty() && lost.changed[0].away && lost.changed[0].connections == 0);
        assert_eq!(present.poll_timeout(), Some(6_000));
        let back = present.add(&oda, 9, 9).unwrap();
        assert!(
            back.joined.is_empty() && !back.changed[0].away && back.changed[0].connections == 1
        );
        assert_eq!(present.handle_timeout(9_000), Roster::default());
        present.remove("oda", LeftWhy::Lost, 1_000, 9_000);
        assert_eq!(present.handle_timeout(9_999), Roster::default(), "an early call does no harm");
        assert_eq!(
            present.handle_timeout(10_000).left,
            [Left { id: "oda".into(), why: LeftWhy::Lost }]
        );
        present.add(&oda, 9, 9).unwrap();
        assert_eq!(present.remove("oda", LeftWhy::Left, 1_000, 0).left[0].why, LeftWhy::Left);
        assert_eq!(present.len(), 0);
    }

    #[test]
    fn everyone_has_a_colour_apart_from_those_who_are_here() {
        let mut present = Present::default();
        let mut hues: Vec<u16> = Vec::new();
        for at in 0..12 {
            let change = present.add(&person(&format!("picker-{at}")), 99, 9).unwrap();
            let hue = change.joined[0].hue;
            let apart =
                hues.iter().map(|other| other.abs_diff(hue)).map(|by| by.min(360 - by)).min();
            assert!(hue < 360 && apart.is_none_or(|apart| apart >= 12), "{hue} among {hues:?}");
            hues.push(hue);
        }
        let hue = present.hue("picker-3");
        present.remove("picker-4", LeftWhy::Left, 0, 0);
        assert_eq!(present.hue("picker-3"), hue, "it stays while they are here");
    }
}
