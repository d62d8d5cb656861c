//! Time and the session's own rules, checked by a slow look at all that was ever settled.

use std::collections::BTreeSet;

use rendel_core::{Actor, Way};

use super::World;
use crate::participant::Part;

impl World {
    /// Whatever happened: a deadline fired once for each time that it was given, at that time or
    /// later, and nothing was settled between the two; that was announced as often; and who is here
    /// came once more than they went.
    pub(super) fn check_timing(&self, here: &BTreeSet<&str>) -> Result<(), String> {
        let service = Part::new(Actor::SERVICE);
        let truth = |seq: u64| {
            let state = self.journal.truth(seq, Actor::SERVICE, &service);
            state.map(|mut state| {
                let turn = state["turn"]["due"].as_u64();
                (state["closing"].take(), state["closed"].take(), turn)
            })
        };
        let mut people = BTreeSet::new();
        let (mut before, mut closed, mut turn) = truth(0).unwrap_or_default();
        for update in self.journal.updates() {
            let (seq, at) = (update.seq, update.at);
            let (now, closed_now, turn_now) = truth(seq).unwrap_or_default();
            let due = before["due"].as_u64().filter(|_| before["fired"].is_null());
            let fires = due.is_some() && now["due"] == before["due"] && !now["fired"].is_null();
            // A turn whose time was over before that passes first.
            let is_earlier = turn.is_some_and(|turn| Some(turn) <= due) && turn_now != turn;
            if due.is_some_and(|due| due <= at) && !fires && !is_earlier {
                return Err(format!("settled at {at}, and {before} was due: {update:?}"));
            }
            if fires && (due > Some(at) || now["fired"].as_u64() > Some(at)) {
                return Err(format!("update {seq} at {at} fires {before} as {now}"));
            }
            let count = closed_now.as_i64().unwrap_or(0) - closed.as_i64().unwrap_or(0);
            let announced = self.journal.announced(seq, "season.over");
            if fires && (count, announced) != (1, 1) || !fires && announced > 0 {
                return Err(format!("update {seq} counts {count} and announces {announced}"));
            }
            (before, closed, turn) = (now, closed_now, turn_now);
            let Some(passage) = &update.passage else { continue };
            let is_new = match passage.way {
                Way::In => people.insert(passage.who.as_str()),
                Way::Out => people.remove(passage.who.as_str()),
                Way::Role => people.contains(passage.who.as_str()),
            };
            if !is_new {
                return Err(format!("update {seq} tells once more of {passage:?}"));
            }
        }
        match people == *here {
            true => Ok(()),
            false => Err(format!("{people:?} have come and not gone, and here are {here:?}")),
        }
    }
}
