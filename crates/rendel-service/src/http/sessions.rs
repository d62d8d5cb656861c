//! Sessions, as the backend manages them.

use std::collections::BTreeMap;

use actix_web::http::header;
use actix_web::{HttpRequest, HttpResponse, get, post, put, web};
use rendel_core::{BuiltIn, Charter, Problem, ProblemKind, Sequencer};
use rendel_store::{CharterRow, Findable, OnceCall, SessionRow, Sought, StoreError};
use rendel_wire::decode_object;
use rendel_wire::http::{OpenSession, SessionInfo, SessionList};
use serde::Deserialize;

use super::charters::no_charter;
use super::once::{Once, once};
use super::{Answer, BACKEND_BODY, Shared, body};
use crate::announcing::{Subject, event};
use crate::app::App;
use crate::auth::backend;
use crate::clock::now_ms;
use crate::failure::{Failure, no_session};

const PAGE: i64 = 100;

/// Opens a session. With an `Idempotency-Key` the call may be made again within a day and opens one
/// session.
#[utoipa::path(tag = "sessions", request_body = OpenSession, params(("Idempotency-Key" = Option<String>, Header)), responses(
    (status = 201, body = SessionInfo), (status = 409, description = "`exists`"), (status = 404, description = "`not-found`: no such charter"),
    (status = 422, description = "The opening state does not fit the charter")), security(("bearer" = [])))]
#[post("/sessions")]
pub(crate) async fn open(request: HttpRequest, payload: web::Payload, app: Shared) -> Answer {
    backend(&request, &app)?;
    let body = body(payload, BACKEND_BODY).await?;
    let asked: OpenSession = decode_object(&body)?;
    let call = Once::of(&request, &body)?;
    let id = asked.id.clone().unwrap_or_else(|| uuid::Uuid::now_v7().to_string());
    check_id(&id)?;
    let (id, _) =
        once(&app, call.as_ref(), id.clone(), async |call| keep(&app, id, &asked, call).await)
            .await?;
    let location = (header::LOCATION, format!("/v1/sessions/{id}"));
    Ok(HttpResponse::Created().insert_header(location).json(info_of(&app, &id).await?))
}

/// Opens a session under an id, or gets the one that is there: `exists` if that is of another
/// charter. The opening state is used only where the session is new, and has to fit all the same.
#[utoipa::path(tag = "sessions", request_body = OpenSession, params(("session" = String, Path)), responses(
    (status = 201, body = SessionInfo, description = "It is opened"), (status = 200, body = SessionInfo, description = "It was there"),
    (status = 409, description = "`exists`: there is one of another charter or version"), (status = 404, description = "`not-found`: no such charter"),
    (status = 422, description = "The opening state does not fit the charter")), security(("bearer" = [])))]
#[put("/sessions/{session}")]
pub(crate) async fn ensure(
    request: HttpRequest,
    session: web::Path<String>,
    payload: web::Payload,
    app: Shared,
) -> Answer {
    backend(&request, &app)?;
    let id = session.into_inner();
    check_id(&id)?;
    let asked: OpenSession = decode_object(&body(payload, BACKEND_BODY).await?)?;
    if asked.id.as_ref().is_some_and(|other| *other != id) {
        let detail = "The body names another session than the path. Leave \"id\" out.";
        return Err(Failure(Problem::new(ProblemKind::Malformed, detail)));
    }
    let is_new = match app.store.session(id.clone()).await? {
        Some(_) => false,
        None => match keep(&app, id.clone(), &asked, None).await {
            Ok(()) => true,
            // Somebody else opened it at the same moment.
            Err(Failure(problem)) if problem.kind() == ProblemKind::Exists => false,
            Err(failure) => return Err(failure),
        },
    };
    let info = info_of(&app, &id).await?;
    let is_other = info.charter != asked.charter
        || asked.version.is_some_and(|version| version != info.version);
    if is_other {
        let detail = format!(
            "There is a session {id:?} of {} version {} already. Choose another id.",
            info.charter, info.version
        );
        return Err(Failure(Problem::new(ProblemKind::Exists, detail)));
    }
    if !is_new {
        fitting(&app, &asked, &id).await?;
    }
    let location = (header::LOCATION, format!("/v1/sessions/{id}"));
    Ok(match is_new {
        true => HttpResponse::Created().insert_header(location).json(info),
        false => HttpResponse::Ok().json(info),
    })
}

/// Keeps a session that is opened.
async fn keep(
    app: &App,
    id: String,
    asked: &OpenSession,
    once: Option<OnceCall>,
) -> Result<(), Failure> {
    let (row, findable) = fitting(app, asked, &id).await?;
    let opening = asked.opening.as_ref().map(ToString::to_string);
    let opened =
        app.store.open_session(id.clone(), row.name, row.version, opening, findable, once).await;
    app.opened.notify_one();
    app.note_announced();
    kept(&id, opened).map(drop)
}

/// The charter of a session that is asked for, and by what it would be found. Refused where it
/// could not be opened like this, whether it has to be or not.
async fn fitting(
    app: &App,
    asked: &OpenSession,
    id: &str,
) -> Result<(CharterRow, Findable), Failure> {
    let version = asked.version.map(|version| i32::try_from(version).unwrap_or(i32::MAX));
    let row = app.store.charter(asked.charter.clone(), version).await?;
    let Some(row) = row else { return Err(no_charter(app, &asked.charter, version).await) };
    let charter = Charter::parse(&row.source)
        .map_err(|_| Problem::new(ProblemKind::Charter, "The stored charter cannot be read."))?;
    let findable = findable(charter, asked, id, None)?;
    Ok((row, findable))
}

/// By what a session is found that is to be opened like this. Refused where it cannot be.
pub(super) fn findable(
    charter: Charter,
    asked: &OpenSession,
    id: &str,
    sought: Option<(String, i64)>,
) -> Result<Findable, Problem> {
    charter.check_labels(&asked.labels)?;
    let opened = charter.rules.announces(BuiltIn::Opened).then(|| {
        event(&Subject::of(id, &charter), BuiltIn::Opened.name(), now_ms(), BTreeMap::new())
    });
    let wakes = charter.acts_from_opening().then_some(1);
    let sequencer = Sequencer::open(charter.into(), asked.opening.as_ref())?;
    let free = sequencer.free_seats().map(|free| i32::try_from(free).unwrap_or(i32::MAX));
    let labels = in_words(&asked.labels);
    Ok(Findable { labels, free_seats: free, sought, wakes, announcement: opened })
}

/// Labels as they are stored, in the order of their names.
pub(super) fn in_words(labels: &BTreeMap<String, String>) -> Vec<String> {
    labels.iter().map(|(name, value)| format!("{name}={value}")).collect()
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
    /// Only sessions with these labels, as `level=easy`, joined by commas.
    label: Option<String>,
    /// Only sessions that are open and have a free seat.
    #[serde(rename = "free-seats")]
    free_seats: Option<bool>,
}

/// Lists sessions by id, a hundred at a time, with the participants present.
#[utoipa::path(tag = "sessions", params(Filter), responses((status = 200, body = SessionList)), security(("bearer" = [])))]
#[get("/sessions")]
pub(crate) async fn list(request: HttpRequest, filter: web::Query<Filter>, app: Shared) -> Answer {
    backend(&request, &app)?;
    let Filter { charter, after, label, free_seats } = filter.into_inner();
    let labels: Vec<String> =
        label.iter().flat_map(|labels| labels.split(',')).map(str::to_owned).collect();
    if let Some(wrong) = labels.iter().find(|label| !label.contains('=')) {
        let detail =
            format!("\"label\" is given as NAME=VALUE, such as level=easy; not {wrong:?}.");
        return Err(Failure(Problem::new(ProblemKind::Malformed, detail)));
    }
    let sought = Sought { charter, labels, has_free_seats: free_seats == Some(true), after };
    let rows = app.store.sessions(sought, PAGE).await?;
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
        labels: row
            .labels
            .iter()
            .filter_map(|label| label.split_once('='))
            .map(|(name, value)| (name.to_owned(), value.to_owned()))
            .collect(),
        free_seats: row.free_seats.and_then(|free| u32::try_from(free).ok()),
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
