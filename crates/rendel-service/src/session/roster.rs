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

    /// Adds a connection: `full` beyond `most` participants. Gives the participant's rate and the change of the roster.
    pub(super) fn add(&mut self, who: &Identity, most: usize, rate: u32) -> Result<(Arc<Rate>, Roster), Problem> {
        if let Some(here) = self.participants.get_mut(&who.id) {
            here.shown.connections += 1;
            here.shown.name.clone_from(&who.name);
            here.shown.role.clone_from(&who.role);
            let changed = vec![here.shown.clone()];
            return Ok((here.rate.clone(), Roster { changed, ..Roster::default() }));
        }
        if self.participants.len() >= most && who.role != Actor::SERVICE {
            let detail = format!("The session has its {most} participants. Come back when somebody has left.");
            return Err(Problem::new(ProblemKind::Full, detail));
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

/// The colour that goes with an id: the same everywhere and always.
pub(super) fn hue(id: &str) -> u16 {
    let hash = Sha256::digest(id.as_bytes());
    u16::from_be_bytes([hash[0], hash[1]]) % 360
}
