//! The life of a session, as the backend steers it.

use actix_web::{HttpRequest, HttpResponse, get, post, web};
use rendel_core::Actor;
use rendel_store::StoreError;
use rendel_wire::decode_json;
use rendel_wire::http::{ConnectionList, ResetSession, SessionInfo};
use uuid::Uuid;

use super::sessions::{info_of, kept};
use super::state::settled;
use super::{Answer, BACKEND_BODY, Shared, body};
use crate::auth::backend;
use crate::carry;
use crate::failure::{Failure, no_session};
use crate::session::{SessionHandle, Status};

async fn held(request: &HttpRequest, app: &Shared, session: &str) -> Result<SessionHandle, Failure> {
    backend(request, app)?;
    Ok(app.session(session).await?)
}

async fn change(request: &HttpRequest, app: &Shared, session: &str, status: Status) -> Answer {
    let held = held(request, app, session).await?;
    held.change_status(status, Actor::SERVICE.to_owned()).await?;
    Ok(HttpResponse::Ok().json(info_of(app, session).await?))
}

/// Freezes a session: participants look on, and nobody but the backend changes anything.
#[utoipa::path(tag = "sessions", params(("session" = String, Path)), responses((status = 200, body = SessionInfo), (status = 410, description = "`ended`")),
    security(("bearer" = [])))]
#[post("/sessions/{session}/freeze")]
pub(crate) async fn freeze(request: HttpRequest, session: web::Path<String>, app: Shared) -> Answer {
    change(&request, &app, &session, Status::Frozen).await
}

/// Lets participants go on.
#[utoipa::path(tag = "sessions", params(("session" = String, Path)), responses((status = 200, body = SessionInfo), (status = 410, description = "`ended`")),
    security(("bearer" = [])))]
#[post("/sessions/{session}/thaw")]
pub(crate) async fn thaw(request: HttpRequest, session: web::Path<String>, app: Shared) -> Answer {
    change(&request, &app, &session, Status::Open).await
}

/// Ends a session for good. Its state and its journal can still be read.
#[utoipa::path(tag = "sessions", params(("session" = String, Path)), responses((status = 200, body = SessionInfo)), security(("bearer" = [])))]
#[post("/sessions/{session}/end")]
pub(crate) async fn end(request: HttpRequest, session: web::Path<String>, app: Shared) -> Answer {
    change(&request, &app, &session, Status::Ended).await
}

/// Gives the state its opening data again, or those of the body, as one update of the journal.
#[utoipa::path(tag = "sessions", request_body = Option<ResetSession>, params(("session" = String, Path)), responses(
    (status = 200, description = "The settled update", body = Object), (status = 410, description = "`ended`"),
    (status = 422, description = "The data do not fit the charter")), security(("bearer" = [])))]
#[post("/sessions/{session}/reset")]
pub(crate) async fn reset(
    request: HttpRequest,
    session: web::Path<String>,
    payload: web::Payload,
    app: Shared,
) -> Answer {
    let held = held(&request, &app, &session).await?;
    let body = body(payload, BACKEND_BODY).await?;
    let ResetSession { opening } = if body.is_empty() { ResetSession::default() } else { decode_json(&body)? };
    let actor = Actor { id: Actor::SERVICE.to_owned(), role: Actor::SERVICE.to_owned(), client: Uuid::now_v7() };
    Ok(settled(held.reset(opening, actor).await?))
}

/// Who is connected, and how far behind each is.
#[utoipa::path(tag = "sessions", params(("session" = String, Path)), responses((status = 200, body = ConnectionList), (status = 404, description = "`no-session`")),
    security(("bearer" = [])))]
#[get("/sessions/{session}/connections")]
pub(crate) async fn connections(request: HttpRequest, session: web::Path<String>, app: Shared) -> Answer {
    backend(&request, &app)?;
    let connections = match app.session_in_memory(&session) {
        Some(held) => held.connections().await?,
        None if app.store.session(session.clone()).await?.is_some() => Vec::new(),
        None => return Err(Failure(no_session(&session))),
    };
    Ok(HttpResponse::Ok().json(ConnectionList { connections }))
}

/// The whole session as JSON Lines: a head, its past, and a last line with a checksum.
#[utoipa::path(tag = "sessions", params(("session" = String, Path)), responses(
    (status = 200, body = String, content_type = "application/jsonl"), (status = 404, description = "`no-session`")), security(("bearer" = [])))]
#[get("/sessions/{session}/export")]
pub(crate) async fn export(request: HttpRequest, session: web::Path<String>, app: Shared) -> Answer {
    backend(&request, &app)?;
    let id = session.into_inner();
    let whole = app.store.whole(id.clone()).await?.ok_or_else(|| no_session(&id))?;
    let charter = app.store.charter(whole.charter.clone(), Some(whole.version)).await?;
    let source = charter.map(|row| row.source).unwrap_or_default();
    let text = web::block(move || carry::write(&whole, &source)).await.map_err(|_| crate::failure::unavailable())?;
    let name = format!("attachment; filename=\"{id}.jsonl\"");
    Ok(HttpResponse::Ok().content_type("application/jsonl").insert_header(("Content-Disposition", name)).body(text))
}

#[derive(Debug, serde::Deserialize, utoipa::IntoParams)]
#[serde(deny_unknown_fields)]
pub(crate) struct As {
    /// The id that it gets here; its own where it is left out.
    id: Option<String>,
}

/// Brings in a session that was exported, here or elsewhere. Everything is checked and replayed before anything is kept.
#[utoipa::path(tag = "sessions", request_body(content = String, content_type = "application/jsonl"), params(As), responses(
    (status = 201, body = SessionInfo), (status = 400, description = "`malformed`: damaged, or of another version"),
    (status = 409, description = "`exists`: the id is taken, or the charter's version has another text")), security(("bearer" = [])))]
#[post("/sessions/import")]
pub(crate) async fn import(request: HttpRequest, asked: web::Query<As>, payload: web::Payload, app: Shared) -> Answer {
    backend(&request, &app)?;
    let body = body(payload, app.config.import_bytes).await.inspect_err(|problem| app.metrics.count(problem))?;
    let id = asked.into_inner().id;
    let read = web::block(move || carry::read(&body, id)).await.map_err(|_| crate::failure::unavailable())??;
    let id = read.whole.id.clone();
    super::sessions::check_id(&id)?;
    if app.store.session(id.clone()).await?.is_some() {
        kept(&id, Err(StoreError::Exists))?;
    }
    super::charters::keep(&app, &read.charter).await?;
    kept(&id, app.store.bring_in(read.whole).await)?;
    Ok(HttpResponse::Created().json(info_of(&app, &id).await?))
}
