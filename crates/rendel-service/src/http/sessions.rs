//! Sessions, as the backend manages them.

use actix_web::http::header;
use actix_web::{HttpRequest, HttpResponse, get, post, web};
use rendel_core::{Charter, Problem, ProblemKind, Sequencer};
use rendel_store::{SessionRow, StoreError};
use rendel_wire::decode_json;
use rendel_wire::http::{OpenSession, SessionInfo, SessionList};
use serde::Deserialize;

use super::{Answer, BACKEND_BODY, Shared, body};
use crate::app::App;
use crate::auth::backend;
use crate::failure::{Failure, no_session};

const PAGE: i64 = 100;

/// Opens a session.
#[utoipa::path(tag = "sessions", request_body = OpenSession, responses(
    (status = 201, body = SessionInfo), (status = 409, description = "`exists`"), (status = 404, description = "`not-found`: no such charter"),
    (status = 422, description = "The opening state does not fit the charter")), security(("bearer" = [])))]
#[post("/sessions")]
pub(crate) async fn open(request: HttpRequest, payload: web::Payload, app: Shared) -> Answer {
    backend(&request, &app)?;
    let asked: OpenSession = decode_json(&body(payload, BACKEND_BODY).await?)?;
    let id = asked.id.unwrap_or_else(|| uuid::Uuid::now_v7().to_string());
    check_id(&id)?;
    let version = asked.version.map(|version| i32::try_from(version).unwrap_or(i32::MAX));
    let row = app.store.charter(asked.charter.clone(), version).await?;
    let row = row.ok_or_else(|| {
        Problem::new(
            ProblemKind::NotFound,
            format!("There is no charter {:?} in that version. Publish it first.", asked.charter),
        )
    })?;
    let charter = Charter::parse(&row.source)
        .map_err(|_| Problem::new(ProblemKind::Charter, "The stored charter cannot be read."))?;
    Sequencer::open(charter.into(), asked.opening.as_ref())?;
    let opening = asked.opening.map(|opening| opening.to_string());
    let opened =
        kept(&id, app.store.open_session(id.clone(), row.name, row.version, opening).await)?;
    let location = (header::LOCATION, format!("/v1/sessions/{id}"));
    let opened = info(&app, opened, 0, row.title).await;
    Ok(HttpResponse::Created().insert_header(location).json(opened))
}

/// What became of a session that was to be kept under an id.
pub(super) fn kept(
    id: &str,
    result: Result<SessionRow, StoreError>,
) -> Result<SessionRow, Failure> {
    result.map_err(|error| match error {
        StoreError::Exists => {
            let detail =
                format!("There is a session {id:?} already. Use it, or choose another id.");
            Failure(Problem::new(ProblemKind::Exists, detail))
        }
        other => other.into(),
    })
}

#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[serde(deny_unknown_fields)]
pub(crate) struct Filter {
    /// Only sessions of this charter.
    charter: Option<String>,
    /// The page after this id.
    after: Option<String>,
}

/// Lists sessions by id, a hundred at a time, with the participants present.
#[utoipa::path(tag = "sessions", params(Filter), responses((status = 200, body = SessionList)), security(("bearer" = [])))]
#[get("/sessions")]
pub(crate) async fn list(request: HttpRequest, filter: web::Query<Filter>, app: Shared) -> Answer {
    backend(&request, &app)?;
    let Filter { charter, after } = filter.into_inner();
    let rows = app.store.sessions(charter, after, PAGE).await?;
    let after =
        (rows.len() as i64 == PAGE).then(|| rows.last().map(|(row, ..)| row.id.clone())).flatten();
    let mut sessions = Vec::with_capacity(rows.len());
    for (row, seq, title) in rows {
        sessions.push(info(&app, row, seq, title).await);
    }
    Ok(HttpResponse::Ok().json(SessionList { sessions, after }))
}

/// One session with its figures.
#[utoipa::path(tag = "sessions", params(("session" = String, Path)), responses(
    (status = 200, body = SessionInfo), (status = 404, description = "`no-session`")), security(("bearer" = [])))]
#[get("/sessions/{session}")]
pub(crate) async fn show(request: HttpRequest, session: web::Path<String>, app: Shared) -> Answer {
    backend(&request, &app)?;
    Ok(HttpResponse::Ok().json(info_of(&app, &session).await?))
}

/// A session as the backend sees it.
pub(super) async fn info_of(app: &App, id: &str) -> Result<SessionInfo, Failure> {
    let (row, seq) = app.store.session(id.to_owned()).await?.ok_or_else(|| no_session(id))?;
    let charter = app.store.charter(row.charter.clone(), Some(row.version)).await?;
    Ok(info(app, row, seq, charter.map(|charter| charter.title).unwrap_or_default()).await)
}

async fn info(app: &App, row: SessionRow, seq: u64, title: String) -> SessionInfo {
    let figures = match app.session_in_memory(&row.id) {
        Some(session) => session.figures().await.ok(),
        None => None,
    };
    let figures = figures.as_ref();
    SessionInfo {
        expression_faults: figures
            .map_or_else(Vec::new, |figures| figures.expression_faults.clone()),
        frozen_except: serde_json::from_str(&row.frozen_except).unwrap_or_default(),
        charter: row.charter,
        version: u32::try_from(row.version).unwrap_or(0),
        title,
        status: figures.map_or(row.status, |figures| figures.status.name().to_owned()),
        kept_from: u64::try_from(row.kept_from).unwrap_or(0),
        seq: figures.map_or(seq, |figures| figures.seq),
        epoch: figures.map_or(u64::try_from(row.epoch).unwrap_or(0), |figures| figures.epoch),
        participants: figures.map_or(0, |figures| figures.participants),
        connections: figures.map_or(0, |figures| figures.connections),
        agreed: figures.map_or(0, |figures| figures.agreed),
        agreed_seq: figures.map_or(0, |figures| figures.agreed_seq),
        remembered: figures.map_or(0, |figures| figures.remembered),
        differed: figures.map_or(0, |figures| figures.differed),
        opened: row.opened.to_rfc3339_opts(chrono::SecondsFormat::Secs, true),
        id: row.id,
    }
}

pub(super) fn check_id(id: &str) -> Result<(), Problem> {
    let is_id = (1..=64).contains(&id.len())
        && id.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'-' || byte == b'_');
    let detail = "A session's id has 1 to 64 letters, digits, dashes and underscores.";
    if is_id { Ok(()) } else { Err(Problem::new(ProblemKind::Malformed, detail)) }
}
