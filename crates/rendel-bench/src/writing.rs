//! Many in one session, of whom some write as fast as they are answered.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};

use anyhow::{Context as _, Result};
use futures_util::{SinkExt as _, StreamExt as _};
use serde_json::{Value, json};
use tokio::sync::Semaphore;
use tokio::task::JoinSet;
use tokio_tungstenite::tungstenite::Message;
use tokio_tungstenite::tungstenite::client::IntoClientRequest as _;
use uuid::Uuid;

use crate::server::Rendel;

/// Proposals that a writer has on the way.
const WINDOW: usize = 16;

/// Lets all of a session come, and some of them write; gives the proposals that were settled a
/// second. `edit` makes the one of a writer's `n`th proposal.
pub(crate) async fn measure(
    rendel: &Rendel,
    session: &str,
    tokens: &[String],
    writers: usize,
    edit: impl Fn(usize, u64) -> Value + Clone + Send + 'static,
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
        let (is_over, edit) = (is_over.clone(), edit.clone());
        writing.push(async move {
            for n in 1_u64.. {
                let Ok(permit) = space.acquire().await else { return };
                permit.forget();
                if is_over.load(Ordering::Relaxed) {
                    return;
                }
                let frame = json!({ "type": "propose", "n": n, "seen": 0, "answered": n - 1, "edits": [edit(index, n)] });
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
