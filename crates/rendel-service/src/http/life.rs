//! The life of a session, as the backend steers it.

use actix_web::http::header;
use actix_web::{HttpRequest, HttpResponse, delete, get, post, web};
use rendel_core::{Actor, Power, Problem, ProblemKind};
use rendel_session::{SessionStatus, Status};
use rendel_store::{Note, StoreError};
use rendel_wire::decode_object;
use rendel_wire::described;
use rendel_wire::http::{ConnectionList, FreezeSession, ResetSession, SessionInfo};
use serde_json::json;

use super::participants::{counted_as, inside};
use super::sessions::{info_of, kept};
use super::{Answer, BACKEND_BODY, SMALL_BODY, Shared, body, settled};
use crate::auth::{backend, check_power};
use crate::carry;
use crate::failure::{Failure, no_session};
use crate::identity::Identity;
use crate::session::SessionHandle;

/// A session, and who may steer it: the backend, or a participant whose role has the power.
async fn steered(
    request: &HttpRequest,
    app: &Shared,
    session: &str,
    power: Option<Power>,
) -> Result<(SessionHandle, Identity), Failure> {
    let Some(power) = power else {
        backend(request, app)?;
        return Ok((app.session(session).await?, Identity::service()));
    };
    let (held, who) = inside(request, app, session).await?;
    check_power(held.charter(), &who, power)?;
    Ok((held, who))
}

async fn change(
    app: &Shared,
    session: &str,
    (held, who): (SessionHandle, Identity),
    standing: SessionStatus,
) -> Answer {
    let charter = held.charter();
    if let Some(unknown) = standing.except.iter().find(|role| !charter.has_role(role)) {
        let problem =
            Problem::new(ProblemKind::OutOfBounds, format!("The charter has no role {unknown:?}."));
        return Err(Failure(problem.did_you_mean(charter.nearest_role(unknown))));
    }
    held.change_status(standing, who.id).await?;
    Ok(HttpResponse::Ok().json(info_of(app, session).await?))
}

/// Freezes a session: participants look on, and nobody but the backend changes anything, nor the
/// roles that are excepted.
#[utoipa::path(tag = "sessions", request_body = Option<FreezeSession>, params(("session" = String, Path)), responses((status = 200, body = SessionInfo),
    (status = 403, description = "`not-allowed`: the role has not the power"), (status = 410, description = "`ended`")), security(("bearer" = [])))]
#[post("/sessions/{session}/freeze")]
pub(crate) async fn freeze(
    request: HttpRequest,
    session: web::Path<String>,
    payload: web::Payload,
    app: Shared,
) -> Answer {
    let steered = steered(&request, &app, &session, Some(Power::Freeze)).await?;
    let body = body(payload, SMALL_BODY).await?;
    let FreezeSession { except } =
        if body.is_empty() { FreezeSession::default() } else { decode_object(&body)? };
    let standing = SessionStatus { status: Status::Frozen, except };
    change(&app, &session, steered, standing).await
}

/// Lets participants go on.
#[utoipa::path(tag = "sessions", params(("session" = String, Path)), responses((status = 200, body = SessionInfo),
    (status = 403, description = "`not-allowed`: the role has not the power"), (status = 410, description = "`ended`")), security(("bearer" = [])))]
#[post("/sessions/{session}/thaw")]
pub(crate) async fn thaw(request: HttpRequest, session: web::Path<String>, app: Shared) -> Answer {
    let steered = steered(&request, &app, &session, Some(Power::Freeze)).await?;
    change(&app, &session, steered, Status::Open.into()).await
}

/// Ends a session for good. Its state and its journal can still be read.
#[utoipa::path(tag = "sessions", params(("session" = String, Path)), responses((status = 200, body = SessionInfo)), security(("bearer" = [])))]
#[post("/sessions/{session}/end")]
pub(crate) async fn end(request: HttpRequest, session: web::Path<String>, app: Shared) -> Answer {
    let steered = steered(&request, &app, &session, None).await?;
    change(&app, &session, steered, Status::Ended.into()).await
}

/// Deletes a session with all that is kept of it: state, journal, snapshots, outcomes, invitations,
/// and what the audit says of it but that it was. Whoever is connected is disconnected. Tokens for it
/// are good for no later session of that id.
#[utoipa::path(tag = "sessions", params(("session" = String, Path)), responses((status = 204, description = "It is deleted"), (status = 404, description = "`no-session`")),
    security(("bearer" = [])))]
#[delete("/sessions/{session}")]
pub(crate) async fn delete(
    request: HttpRequest,
    session: web::Path<String>,
    app: Shared,
) -> Answer {
    backend(&request, &app)?;
    let note = Note::of_session(&session, Actor::SERVICE, "deleted", json!({}));
    match app.delete_session(&session, note).await? {
        true => Ok(HttpResponse::NoContent().finish()),
        false => Err(Failure(no_session(&session))),
    }
}

/// Gives the state its opening data again, or those of the body, as one update of the journal. With
/// an `Idempotency-Key` the call may be made again: it counts once.
#[utoipa::path(tag = "sessions", request_body = Option<ResetSession>, params(("session" = String, Path), ("Idempotency-Key" = Option<String>, Header)), responses(
    (status = 200, description = "The settled update", body = described::SettledUpdate), (status = 403, description = "`not-allowed`: the role has not the power"), (status = 410, description = "`ended`"),
    (status = 422, description = "The data do not fit the charter")), security(("bearer" = [])))]
#[post("/sessions/{session}/reset")]
pub(crate) async fn reset(
    request: HttpRequest,
    session: web::Path<String>,
    payload: web::Payload,
    app: Shared,
) -> Answer {
    let (held, who) = steered(&request, &app, &session, Some(Power::Reset)).await?;
    let body = body(payload, BACKEND_BODY).await?;
    let ResetSession { opening } =
        if body.is_empty() { ResetSession::default() } else { decode_object(&body)? };
    if opening.is_some() && who.role != Actor::SERVICE {
        let detail = "Other opening data are the backend's to give; leave them out.";
        return Err(Failure(Problem::new(ProblemKind::NotAllowed, detail)));
    }
    let (actor, n) = counted_as(&request, &who, &held, &body)?;
    // The journal has the update itself; that somebody asked for it is written down before.
    app.store.note(Note::of_session(&session, &who.id, "reset", json!({}))).await?;
    Ok(settled(held.reset(opening, actor, n).await?))
}

/// Who is connected, and how far behind each is.
#[utoipa::path(tag = "sessions", params(("session" = String, Path)), responses((status = 200, body = ConnectionList), (status = 404, description = "`no-session`")),
    security(("bearer" = [])))]
#[get("/sessions/{session}/connections")]
pub(crate) async fn connections(
    request: HttpRequest,
    session: web::Path<String>,
    app: Shared,
) -> Answer {
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
pub(crate) async fn export(
    request: HttpRequest,
    session: web::Path<String>,
    app: Shared,
) -> Answer {
    backend(&request, &app)?;
    let id = session.into_inner();
    let turn = app.documents.turn().await?;
    let whole = app.store.whole(id.clone()).await?.ok_or_else(|| no_session(&id))?;
    let charter = app.store.charter(whole.charter.clone(), Some(whole.version)).await?;
    let source = charter.map(|row| row.source).unwrap_or_default();
    let key = app.keys.derived(carry::PURPOSE);
    let text = turn.work(move || carry::write(&whole, &source, &key)).await?;
    let name = format!("attachment; filename=\"{id}.jsonl\"");
    Ok(HttpResponse::Ok()
        .content_type("application/jsonl")
        .insert_header(("Content-Disposition", name))
        .body(text))
}

#[derive(Debug, serde::Deserialize, utoipa::IntoParams)]
#[serde(deny_unknown_fields)]
pub(crate) struct As {
    /// The id that it gets here; its own where it is left out.
    id: Option<String>,
}

/// Brings in a session that was exported, here or elsewhere. Everything is checked and replayed
/// before anything is kept.
#[utoipa::path(tag = "sessions", request_body(content = String, content_type = "application/jsonl"), params(As), responses(
    (status = 201, body = SessionInfo), (status = 400, description = "`malformed`: damaged, or of \
        another version"),
    (status = 409, description = "`exists`: the id is taken, or the charter's version has another \
        text")), security(("bearer" = [])))]
#[post("/sessions/import")]
pub(crate) async fn import(
    request: HttpRequest,
    asked: web::Query<As>,
    payload: web::Payload,
    app: Shared,
) -> Answer {
    backend(&request, &app)?;
    let body = body(payload, app.config.import_bytes)
        .await
        .inspect_err(|problem| app.metrics.count(problem))?;
    let id = asked.into_inner().id;
    let turn = app.documents.turn().await?;
    let keys = app.keys.all_derived(carry::PURPOSE);
    let read = turn.work(move || carry::read(&body, id, &keys)).await?;
    let id = read.whole.id.clone();
    super::sessions::check_id(&id)?;
    if app.store.session(id.clone()).await?.is_some() {
        kept(&id, Err(StoreError::Exists))?;
    }
    super::charters::keep(&app, &read.charter).await?;
    kept(&id, app.store.bring_in(read.whole).await)?;
    let location = (header::LOCATION, format!("/v1/sessions/{id}"));
    Ok(HttpResponse::Created().insert_header(location).json(info_of(&app, &id).await?))
}
