//! Queries over HTTP: their rows now, or as Server-Sent Events from now on.

use actix_web::http::header::{self, EntityTag, Header as _, IfNoneMatch};
use actix_web::{HttpRequest, HttpResponse, get, post, web};
use rendel_core::{Asked, Problem, ProblemKind, Queries, RowPlace, digest};
use rendel_session::WayIn;
use rendel_wire::{FollowQuery, HadRows, decode_object, described};
use serde::Deserialize;
use serde_json::{Map, Value};

use super::events::{Events, whose};
use super::journal::Form;
use super::{Answer, SMALL_BODY, Shared, body};
use crate::budget::Cost;
use crate::identity::Identity;
use crate::session::SessionHandle;

/// The number that the one query of a stream has.
const ONLY: u64 = 1;

#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[serde(deny_unknown_fields)]
pub(crate) struct Asking {
    /// The parameters, as a JSON object.
    with: Option<String>,
    /// At most so many rows.
    limit: Option<usize>,
    /// Only rows behind this place: the `end` of a page, as JSON.
    after: Option<String>,
    /// Of a stream: `updates` for steps, or `json-patch` for one RFC 6902 patch of the array of rows
    /// per update; `updates` where it is left out.
    #[serde(default)]
    #[param(inline)]
    form: Form,
    /// In place of a token.
    ticket: Option<String>,
    /// A role, for calls with the service key.
    #[serde(rename = "as")]
    #[param(rename = "as")]
    _as: Option<String>,
    /// With `as`: the participant whose eyes it is seen with.
    #[serde(rename = "sub")]
    #[param(rename = "sub")]
    _sub: Option<String>,
}

/// The rows of a query of the charter. `ETag` is the same while they are. With `Accept:
/// text/event-stream` first the `rows`, then `row-steps` (or `patch`) as they change, each with its
/// `id`: with it as `Last-Event-ID` it goes on from there, or with `rows` beyond the recent past.
#[utoipa::path(tag = "participants", params(Asking, ("session" = String, Path), ("name" = String, Path), ("If-None-Match" = Option<String>, Header), ("Last-Event-ID" = Option<String>, Header)), responses(
    (status = 200, body = described::Rows), (status = 304, description = "Nothing has changed"), (status = 403, description = "`not-allowed`: it reads what is hidden from the role"),
    (status = 404, description = "`no-session`, `not-found`"), (status = 409, description = "`full`"), (status = 422, description = "`out-of-bounds`: a parameter")),
    security(("bearer" = [])))]
#[get("/sessions/{session}/queries/{name}")]
pub(crate) async fn rows(
    request: HttpRequest,
    path: web::Path<(String, String)>,
    asking: web::Query<Asking>,
    app: Shared,
) -> Answer {
    let (session, name) = path.into_inner();
    let Asking { with, limit, after, form, ticket, .. } = asking.into_inner();
    let with = match with {
        None => Map::new(),
        Some(json) => serde_json::from_str(&json).map_err(|_| malformed("with", "an object"))?,
    };
    let after = after.map(|json| serde_json::from_str::<Vec<Value>>(&json).map(RowPlace));
    let after = after.transpose().map_err(|_| malformed("after", "an array"))?;
    let asked = Asked { name: Some(name), with, limit, after, ..Asked::default() };
    let (session, who) = whose(&request, &app, &session, ticket.as_deref()).await?;
    match accepts_events(&request) {
        true => stream(&request, &app, session, who, form, asked).await,
        false => once(&request, &app, session, who, asked).await,
    }
}

/// The rows of a query of the moment, or what is at one path: `{ "of": { "from": "/pickers" } }`. With
/// `Accept: text/event-stream` as above.
#[utoipa::path(tag = "participants", request_body = described::Asked, params(super::participants::Speaking, ("session" = String, Path), ("If-None-Match" = Option<String>, Header), ("Last-Event-ID" = Option<String>, Header)), responses(
    (status = 200, body = described::Rows), (status = 304, description = "Nothing has changed"), (status = 403, description = "`not-allowed`: without the power `ask`"),
    (status = 404, description = "`no-session`, `not-found`, `unknown-path`"), (status = 422, description = "`out-of-bounds`: what of it does not fit")),
    security(("bearer" = [])))]
#[post("/sessions/{session}/queries")]
pub(crate) async fn ask(
    request: HttpRequest,
    session: web::Path<String>,
    _speaking: web::Query<super::participants::Speaking>,
    payload: web::Payload,
    app: Shared,
) -> Answer {
    let (session, who) = whose(&request, &app, &session, None).await?;
    let asked: Asked = decode_object(&body(payload, SMALL_BODY).await?)?;
    match accepts_events(&request) {
        true => stream(&request, &app, session, who, Form::default(), asked).await,
        false => once(&request, &app, session, who, asked).await,
    }
}

fn accepts_events(request: &HttpRequest) -> bool {
    let accepts = request.headers().get(header::ACCEPT).and_then(|value| value.to_str().ok());
    accepts.is_some_and(|accepts| accepts.contains("text/event-stream"))
}

async fn stream(
    request: &HttpRequest,
    app: &Shared,
    session: SessionHandle,
    who: Identity,
    form: Form,
    asked: Asked,
) -> Answer {
    let had = had(request)?;
    let mut events = Events::enter(request, app, session, who, form, WayIn::Queries).await?;
    events.follow_query(FollowQuery { query: ONLY, ask: asked, had }).await?;
    Ok(events.stream())
}

/// The rows that a stream left off with, by the `id` of its last event.
fn had(request: &HttpRequest) -> Result<Option<HadRows>, Problem> {
    let Some(id) = request.headers().get("Last-Event-ID") else { return Ok(None) };
    let unfit = || {
        let detail = "\"Last-Event-ID\" is the \"id\" of an event of this query.";
        Problem::new(ProblemKind::Malformed, detail)
    };
    let id = id.to_str().map_err(|_| unfit())?.trim();
    let (seq, mark) = id.split_once('.').map_or((id, None), |(seq, mark)| (seq, Some(mark)));
    let seq = seq.parse().map_err(|_| unfit())?;
    Ok(mark.map(|mark| HadRows { mark: mark.to_owned(), seq }))
}

/// Evaluates a query aside, since it may look at a whole map.
async fn once(
    request: &HttpRequest,
    app: &Shared,
    session: SessionHandle,
    who: Identity,
    asked: Asked,
) -> Answer {
    app.budget.charge(session.id(), &who, Cost::Document, &app.metrics)?;
    let (seq, state) = session.state().await?;
    let charter = session.charter().clone();
    let actor = who.actor(uuid::Uuid::nil());
    let work = move || Queries::once(&charter, &state, seq, &actor, &asked);
    let result = app.documents.turn().await?.work(work).await?;
    let mut json = serde_json::to_value(&result).unwrap_or_default();
    // What the rows are, whatever else has happened.
    if let Some(members) = json.as_object_mut() {
        members.remove("seq");
    }
    let tag = EntityTag::new_strong(digest(&json)[..32].to_owned());
    let known = IfNoneMatch::parse(request).unwrap_or(IfNoneMatch::Items(Vec::new()));
    let is_known = match known {
        IfNoneMatch::Any => true,
        IfNoneMatch::Items(items) => items.iter().any(|item| item.weak_eq(&tag)),
    };
    let mut response = if is_known { HttpResponse::NotModified() } else { HttpResponse::Ok() };
    response.insert_header((header::ETAG, tag.to_string()));
    Ok(if is_known { response.finish() } else { response.json(result) })
}

fn malformed(name: &str, what: &str) -> Problem {
    let detail = format!("{name:?} is {what} as JSON, escaped for a URL.");
    Problem::new(ProblemKind::Malformed, detail)
}
