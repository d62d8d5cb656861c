//! What it costs that only some see something: the same work in a session where all see everything.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};

use anyhow::{Context as _, Result};
use futures_util::{SinkExt as _, StreamExt as _};
use serde_json::json;
use tokio::sync::Semaphore;
use tokio::task::JoinSet;
use tokio_tungstenite::tungstenite::Message;
use tokio_tungstenite::tungstenite::client::IntoClientRequest as _;
use uuid::Uuid;

use crate::report::{Goal, Report};
use crate::server::Rendel;

/// Proposals that a writer has on the way.
const WINDOW: usize = 16;
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

/// Lets all of a session come, and some of them write; gives the proposals that were settled a
/// second. Each writes its own card's face; where `passes`, it hands the card on every eighth time.
async fn play(
    rendel: &Rendel,
    session: &str,
    tokens: &[String],
    writers: usize,
    passes: bool,
    time: Duration,
) -> Result<f64> {
    let (settled, is_over) = (Arc::new(AtomicU64::new(0)), Arc::new(AtomicBool::new(false)));
    let mut tasks = JoinSet::new();
    // Nobody writes before all are here.
    let mut writing = Vec::new();
    for (index, token) in tokens.iter().enumerate() {
        let url = format!("ws://127.0.0.1:{}/v1/sessions/{session}/connect", rendel.port());
        let mut request = url.into_client_request()?;
        request.headers_mut().insert("Sec-WebSocket-Protocol", "rendel.v1.json".parse()?);
        let (mut socket, _) =
            tokio_tungstenite::connect_async_with_config(request, None, true).await?;
        let client = Uuid::now_v7();
        let enter = json!({ "type": "enter", "token": token, "client": client });
        socket.send(Message::text(enter.to_string())).await?;
        socket.next().await.context("no welcome")??;
        let (mut out, mut back) = socket.split();
        let (space, count) = (Arc::new(Semaphore::new(WINDOW)), settled.clone());
        let own = format!("\"client\":\"{client}\"");
        let freed = space.clone();
        tasks.spawn(async move {
            while let Some(Ok(Message::Text(text))) = back.next().await {
                // One's own is known by its client, in the update or beside it; an `outcome`
                // answers what its author no longer sees.
                let outcome = usize::from(text.starts_with("{\"type\":\"outcome\""));
                let answered =
                    if index < writers { text.matches(&own).count() + outcome } else { 0 };
                freed.add_permits(answered);
                count.fetch_add(answered as u64, Ordering::Relaxed);
            }
        });
        if index >= writers {
            continue;
        }
        let (is_over, players) = (is_over.clone(), tokens.len());
        writing.push(async move {
            for n in 1_u64.. {
                let Ok(permit) = space.acquire().await else { return };
                permit.forget();
                if is_over.load(Ordering::Relaxed) {
                    return;
                }
                // Away and back.
                let to = (index as u64 + n / 8 % 2) % players as u64;
                let edit = match passes && n.is_multiple_of(8) {
                    true => json!({ "at": format!("/cards/c{index}/holder"), "op": "set", "value": format!("picker-{to}") }),
                    false => json!({ "at": format!("/cards/c{index}/face"), "op": "set", "value": format!("face {n}") }),
                };
                let frame = json!({ "type": "propose", "n": n, "seen": 0, "answered": n - 1, "edits": [edit] });
                if out.send(Message::text(frame.to_string())).await.is_err() {
                    return;
                }
            }
        });
    }
    for writer in writing {
        tasks.spawn(writer);
    }
    tokio::time::sleep(Duration::from_secs(1)).await;
    let (before, began) = (settled.load(Ordering::Relaxed), Instant::now());
    tokio::time::sleep(time).await;
    let count = settled.load(Ordering::Relaxed) - before;
    let per_second = count as f64 / began.elapsed().as_secs_f64();
    is_over.store(true, Ordering::Relaxed);
    tasks.shutdown().await;
    Ok(per_second)
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
            for (which, (session, tokens)) in [&closed, &open].into_iter().enumerate() {
                let settled = play(&rendel, session, tokens, writers, passes, time).await?;
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
        play(&rendel, &session, &[token], 0, false, Duration::from_millis(200)).await?;
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
