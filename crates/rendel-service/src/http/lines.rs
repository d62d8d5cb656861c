//! A connection where no WebSocket gets through: the service's frames come as Server-Sent Events,
//! and the participant's are posted. Everything else is the same.

use actix_web::http::header;
use actix_web::{HttpRequest, HttpResponse, get, post, web};
use bytes::Bytes;
use futures_util::{StreamExt as _, stream};
use rendel_core::{Problem, ProblemKind};
use uuid::Uuid;

use super::{Answer, Shared, text_body};
use crate::connection::{FIRST_FRAME, check_origin, connect_line};

/// Opens a line. Its first event, `line`, has the id under which frames are posted; of the others
/// each is a `frame`. It ends after a `bye`, and is lost where it ends without one.
#[utoipa::path(tag = "participants", params(("session" = String, Path)), responses(
    (status = 200, body = String, content_type = "text/event-stream")))]
#[get("/sessions/{session}/lines")]
pub(crate) async fn open(request: HttpRequest, session: web::Path<String>, app: Shared) -> Answer {
    let (id, told) = connect_line(&request, session.into_inner(), &app)?;
    let first = Bytes::from(format!("event: line\ndata: \"{id}\"\n\n"));
    let rest = stream::unfold(told, |mut told| async { Some((told.recv().await?, told)) });
    let events = stream::once(std::future::ready(first)).chain(rest).map(Ok::<_, Problem>);
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
    let way = Uuid::parse_str(&line).ok().and_then(|id| app.lines.way_to(id));
    let way = way.ok_or_else(no_line)?;
    let text = text_body(payload, way.limit().max(FIRST_FRAME)).await?;
    for frame in text.lines().filter(|line| !line.trim().is_empty()) {
        way.frames.send(frame.into()).await.map_err(|_| no_line())?;
    }
    Ok(HttpResponse::NoContent().finish())
}

fn no_line() -> Problem {
    let detail = "This line is not open any more. Open another with GET on the session's lines.";
    Problem::new(ProblemKind::NotFound, detail)
}
