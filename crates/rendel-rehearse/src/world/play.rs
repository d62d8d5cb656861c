//! Rules of play, checked by a slow look at all that was ever settled.

use std::collections::{BTreeMap, BTreeSet};

use rendel_core::{Actor, DrawKey, Op, Settled};
use serde_json::{Value, json};

use super::World;
use crate::participant::Part;

impl World {
    /// Whatever happened: each sits once, whoever is gone is known to be, nobody but the seat whose
    /// turn it was moved, no draw was made twice or otherwise than it was bound, and totals are
    /// those of the records.
    pub(super) fn check_play(&self, here: &BTreeSet<&str>) -> Result<(), String> {
        let seq = self.journal.seq();
        let service = Part::new(Actor::SERVICE);
        let truth = |seq: u64| self.journal.truth(seq, Actor::SERVICE, &service);
        let state = truth(seq).unwrap_or_default();
        check_seats(&state, here)?;
        check_totals(&state)?;
        check_ballot(&state)?;
        let mut bag = truth(0).unwrap_or_default()["bag"].take();
        for update in self.journal.updates() {
            let before = truth(update.seq - 1).unwrap_or_default();
            check_turn(&before, update)?;
            let told = update.effects.iter().filter_map(|effect| match &effect.op {
                Op::Set(value) if effect.at.to_string() == "/bag" => Some((**value).clone()),
                Op::Reset(state) => Some(state["bag"].clone()),
                _ => None,
            });
            for now in told {
                check_draw(&bag, &now).map_err(|why| format!("update {}: {why}", update.seq))?;
                bag = now;
            }
        }
        Ok(())
    }
}

fn check_seats(state: &Value, here: &BTreeSet<&str>) -> Result<(), String> {
    let seats = &state["seats"];
    let mut seen = BTreeSet::new();
    for (seat, by) in seats["by"].as_object().into_iter().flatten() {
        let Some(by) = by.as_str() else { continue };
        if !seen.insert(by) {
            return Err(format!("{by} sits twice: {seats}"));
        }
        if here.contains(by) == seats["away"].get(seat).is_some() {
            return Err(format!("{by} on {seat} is here or away, and here are {here:?}: {seats}"));
        }
    }
    let turn = &state["turn"]["seat"];
    let is_taken = turn.as_str().is_some_and(|seat| seats["by"][seat].is_string());
    match is_taken || seen.is_empty() {
        true => Ok(()),
        false => Err(format!("the turn is that of {turn}, and there sit {seats}")),
    }
}

fn check_turn(before: &Value, update: &Settled) -> Result<(), String> {
    let has = |path: &str| update.effects.iter().any(|effect| effect.at.to_string() == path);
    // Whoever sits down and moves in one go may have got the turn by that.
    let moves = has("/best") && !has("/seats");
    let seat = before["turn"]["seat"].as_str();
    let by = seat.map(|seat| &before["seats"]["by"][seat]);
    match !moves || update.by == Actor::SERVICE || by == Some(&update.by.clone().into()) {
        true => Ok(()),
        false => Err(format!("{} moved in the turn of {by:?}", update.by)),
    }
}

fn check_draw(was: &Value, now: &Value) -> Result<(), String> {
    let (before, after) = (was["draws"].as_u64(), now["draws"].as_u64());
    if after == before {
        return match was["next"].is_null() || was["next"] == now["next"] {
            true => Ok(()),
            false => Err(format!("the next draw was bound to another key: {was}, {now}")),
        };
    }
    let draw = &now["last"];
    if after != before.map(|before| before + 1) || draw["draw"].as_u64() != after {
        return Err(format!("a draw was left out or made twice: {was}, {now}"));
    }
    let Some(key) = draw["key"].as_str().and_then(DrawKey::from_hex) else { return Ok(()) };
    let dice = draw["values"].as_array().map_or(0, Vec::len);
    let entropy = serde_json::from_value(draw["entropy"].clone()).unwrap_or_default();
    let again = json!(key.with_entropy(&entropy).roll(draw["sides"].as_u64().unwrap_or(1), dice));
    match json!(key.commitment()) == was["next"] && again == draw["values"] {
        true => Ok(()),
        false => Err(format!("a draw is not what it was bound to: {was}, {now}")),
    }
}

fn check_ballot(state: &Value) -> Result<(), String> {
    let (blend, ballots) = (&state["blend"], state["blend-ballots"].as_object());
    let mut tally = BTreeMap::from([("dry", 0u64), ("mellow", 0), ("sweet", 0)]);
    for choice in
        ballots.into_iter().flatten().filter_map(|(_, ballot)| ballot["choice"][0].as_str())
    {
        *tally.entry(choice).or_default() += 1;
    }
    let is_counted = blend["cast"] == json!(ballots.map_or(0, |ballots| ballots.len()));
    let is_right = match blend["open"] == true {
        true => blend["results"]["tally"] == json!(tally),
        false => blend["results"].is_null(),
    };
    match is_counted && is_right {
        true => Ok(()),
        false => Err(format!("{tally:?} was cast, and the ballot is {state}")),
    }
}

fn check_totals(state: &Value) -> Result<(), String> {
    let mut held: BTreeMap<&str, u64> = BTreeMap::new();
    let mut places = 0u64;
    for card in state["cards"].as_object().into_iter().flatten().map(|(_, card)| card) {
        places += u64::from(!card["place"].is_null());
        if let Some(holder) = card["holder"].as_str() {
            *held.entry(holder).or_default() += 1;
        }
    }
    match state["held-by"] == json!(held) && state["at-places"] == places {
        true => Ok(()),
        false => Err(format!("totals are wrong: {state}")),
    }
}
