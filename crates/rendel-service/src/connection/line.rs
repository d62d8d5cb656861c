//! A connection where no WebSocket gets through: the service's frames come as Server-Sent Events,
//! and the participant's are posted. Everything else is the same.

use std::collections::HashMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use actix_web::http::header;
use actix_web::{HttpRequest, HttpResponse, get, post, rt, web};
use bytes::Bytes;
use bytestring::ByteString;
use futures_util::stream;
use parking_lot::Mutex;
use rendel_core::{Problem, ProblemKind};
use tokio::sync::mpsc;
use uuid::Uuid;

use super::encoding::Encoding;
use super::messages::{Message, Messages, Unread};
use super::socket::Socket;
use super::{Connection, FIRST_FRAME, check_origin};
use crate::addresses::address_of;
use crate::app::App;
use crate::auth::bearer;
use crate::budget::Cost;
use crate::failure::{Failure, shutting_down};
use crate::http::{Answer, Shared, text_body};

/// Frames that were posted and not read yet.
const POSTED: usize = 64;

/// The open lines, by their ids: whoever knows one may speak on it.
#[derive(Debug, Default)]
pub(crate) struct Lines(Mutex<HashMap<Uuid, Way>>);

/// The way to a line's connection.
#[derive(Clone, Debug)]
struct Way {
    frames: mpsc::Sender<ByteString>,
    /// Bytes that a frame may have.
    limit: Arc<AtomicUsize>,
}

/// What is posted to a line, as its connection reads it.
pub(super) struct Posted {
    app: Arc<App>,
    id: Uuid,
    frames: mpsc::Receiver<ByteString>,
    limit: Arc<AtomicUsize>,
    /// Whether the other side still reads.
    events: mpsc::Sender<Bytes>,
}

impl Posted {
    pub(super) fn allow(&self, limit: usize) {
        self.limit.store(limit, Ordering::Relaxed);
    }

    pub(super) async fn next(&mut self) -> Result<Message, Unread> {
        tokio::select! {
            biased;
            frame = self.frames.recv() => {
                let frame = frame.ok_or(Unread::Gone)?;
                let limit = self.limit.load(Ordering::Relaxed);
                match frame.len() > limit {
                    true => Err(Unread::TooLarge(limit)),
                    false => Ok(Message::Text(frame)),
                }
            }
            () = self.events.closed() => Err(Unread::Gone),
        }
    }
}

impl Drop for Posted {
    fn drop(&mut self) {
        self.app.lines.0.lock().remove(&self.id);
    }
}

/// Opens a line. Its first event, `line`, has the id under which frames are posted; of the others
/// each is a `frame`. It ends after a `bye`, and is lost where it ends without one.
#[utoipa::path(tag = "participants", params(("session" = String, Path)), responses(
    (status = 200, body = String, content_type = "text/event-stream")))]
#[get("/sessions/{session}/lines")]
pub(crate) async fn open(request: HttpRequest, session: web::Path<String>, app: Shared) -> Answer {
    if app.is_stopping() {
        return Err(Failure(shutting_down()));
    }
    check_origin(&request, &app)?;
    let token = bearer(&request)?.map(str::to_owned);
    let address = address_of(&request, app.config.trust_forwarded);
    app.budget.charge_address(&address, Cost::Page, &app.metrics)?;
    let admitted = app.addresses.admit(address);
    let admission = admitted.inspect_err(|problem| app.metrics.count(problem))?;
    let (events, told) = mpsc::channel(1);
    let (posted, frames) = mpsc::channel(POSTED);
    let (id, limit) = (Uuid::new_v4(), Arc::new(AtomicUsize::new(FIRST_FRAME)));
    app.lines.0.lock().insert(id, Way { frames: posted, limit: limit.clone() });
    let app = app.get_ref().clone();
    let messages =
        Messages::Line(Posted { app: app.clone(), id, frames, limit, events: events.clone() });
    let connection = Connection::new(app, Socket::Line(events), Encoding::Json, admission);
    rt::spawn(connection.run(messages, session.into_inner(), token));
    let first = Bytes::from(format!("event: line\ndata: \"{id}\"\n\n"));
    let rest = stream::unfold(told, |mut told| async { Some((told.recv().await?, told)) });
    let events = stream::once(std::future::ready(first));
    let events = futures_util::StreamExt::chain(events, rest);
    let events = futures_util::StreamExt::map(events, Ok::<_, Problem>);
    Ok(HttpResponse::Ok()
        .content_type("text/event-stream")
        .insert_header((header::CACHE_CONTROL, "no-store"))
        .insert_header((header::CONTENT_ENCODING, "identity"))
        .insert_header(("X-Accel-Buffering", "no"))
        .streaming(events))
}

/// Says something on a line: frames as JSON Lines, the first of all of them `enter`. What is wrong
/// with one is told on the line.
#[utoipa::path(tag = "participants", request_body(content = String, content_type = "application/jsonl"), params(("session" = String, Path), ("line" = String, Path)), responses(
    (status = 204, description = "They are on their way"), (status = 404, description = "`not-found`: no such line is open")))]
#[post("/sessions/{session}/lines/{line}")]
pub(crate) async fn say(
    request: HttpRequest,
    which: web::Path<(String, String)>,
    payload: web::Payload,
    app: Shared,
) -> Answer {
    check_origin(&request, &app)?;
    let (_, line) = which.into_inner();
    let way = Uuid::parse_str(&line).ok().and_then(|id| app.lines.0.lock().get(&id).cloned());
    let way = way.ok_or_else(no_line)?;
    let text = text_body(payload, way.limit.load(Ordering::Relaxed).max(FIRST_FRAME)).await?;
    for frame in text.lines().filter(|line| !line.trim().is_empty()) {
        way.frames.send(frame.into()).await.map_err(|_| no_line())?;
    }
    Ok(HttpResponse::NoContent().finish())
}

fn no_line() -> Problem {
    let detail = "This line is not open any more. Open another with GET on the session's lines.";
    Problem::new(ProblemKind::NotFound, detail)
}
