//! What it costs that only some see something: the same work in a session where all see everything.

use std::time::Duration;

use anyhow::Result;
use serde_json::json;

use crate::report::{Goal, Report};
use crate::server::Rendel;
use crate::writing;

/// How often both are measured in turn.
const TURNS: usize = 3;
const RECORDS: usize = 20_000;

fn rules(see: &str) -> String {
    format!(
        "[session]\nparticipants = 5000\n[roles.participant]\nedit = [\"/**\"]\nroster = \"count\"\nsee = [\"/**\"{see}]\n\
         [state.cards]\nkind = \"map\"\n[state.cards.each.face]\nkind = \"register\"\n\
         [state.cards.each.holder]\nkind = \"register\"\n"
    )
}

const UNLESS: &str = ", { but = \"/cards/*/face\", unless = \"record.holder == who.id\" }";

/// A session with a card for each of `count`, held by them, and their tokens.
async fn dealt(
    rendel: &Rendel,
    see: &str,
    count: usize,
    held: bool,
) -> Result<(String, Vec<String>)> {
    let (session, tokens) = rendel.people(if held { count } else { 0 }, &rules(see)).await?;
    for from in (0..count).step_by(200) {
        let card = |index: usize| {
            let value = json!({ "face": "plum", "holder": format!("picker-{index}") });
            json!({ "at": "/cards", "op": "put", "id": format!("c{index}"), "value": value })
        };
        let edits: Vec<_> = (from..count.min(from + 200)).map(card).collect();
        rendel.propose(&session, json!(edits)).await?;
    }
    Ok((session, tokens))
}

/// Each writes its own card's face; where `passes`, it hands the card on every eighth time.
async fn play(
    rendel: &Rendel,
    (session, tokens): &(String, Vec<String>),
    writers: usize,
    passes: bool,
    time: Duration,
) -> Result<f64> {
    let players = tokens.len();
    let edit = move |index: usize, n: u64| {
        // Away and back.
        let to = (index as u64 + n / 8 % 2) % players as u64;
        match passes && n.is_multiple_of(8) {
            true => {
                json!({ "at": format!("/cards/c{index}/holder"), "op": "set", "value": format!("picker-{to}") })
            }
            false => {
                json!({ "at": format!("/cards/c{index}/face"), "op": "set", "value": format!("face {n}") })
            }
        }
    };
    writing::measure(rendel, session, tokens, writers, edit, time).await
}

pub(crate) async fn measure(report: &mut Report, time: Duration) -> Result<()> {
    eprintln!("secrets …");
    let rendel = Rendel::start().await?;
    for (what, players, writers, passes, goal) in [
        ("a card game of 8, where each sees their own cards", 8, 8, true, 0.7),
        (
            "2,000 participants of whom each has a private record, 4 of them write",
            2_000,
            4,
            false,
            0.6,
        ),
    ] {
        let mut best = [0.0_f64; 2];
        let open = dealt(&rendel, "", players, true).await?;
        let closed = dealt(&rendel, UNLESS, players, true).await?;
        for _ in 0..TURNS {
            for (which, dealt) in [&closed, &open].into_iter().enumerate() {
                let settled = play(&rendel, dealt, writers, passes, time).await?;
                best[which] = best[which].max(settled);
            }
        }
        report.ratio(
            &format!("{what}: proposals per second"),
            best[0],
            "the same where all see all",
            best[1],
            Goal::AtLeast(goal),
        );
    }
    rendel.stop().await;
    let mut grown = Vec::new();
    for see in ["", UNLESS] {
        let rendel = Rendel::start().await?;
        // What reading and writing takes once is not counted.
        drop(dealt(&rendel, see, 2_000, false).await?);
        let before = rendel.memory()?;
        let (session, _) = dealt(&rendel, see, RECORDS, false).await?;
        let token = rendel.token_as(&session, "picker-0", "participant").await?;
        play(&rendel, &(session, vec![token]), 0, false, Duration::from_millis(200)).await?;
        grown.push(rendel.memory()?.saturating_sub(before) as f64 * 1024.0 / RECORDS as f64);
        rendel.stop().await;
    }
    report.ratio(
        "bytes of memory for each of 20,000 private records",
        grown[1],
        "the same where all see all",
        grown[0],
        Goal::None,
    );
    Ok(())
}
