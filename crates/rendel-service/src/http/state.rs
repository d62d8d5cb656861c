//! The state: read, at present or in the past, and changed by documents that say what it should
//! become.

use actix_web::http::header;
use actix_web::web::Bytes;
use actix_web::{HttpRequest, HttpResponse, get, patch, web};
use rendel_core::{Document, Lens, Path, Problem, ProblemKind, Proposal, Reader, differences};
use rendel_session::nothing_at;
use rendel_wire::decode_json;
use rendel_wire::described;
use rendel_wire::http::StateDifference;
use serde::Deserialize;
use serde_json::Value;

use super::participants::{Speaking, counted_as, inside};
use super::{Answer, Shared, Tags, body, settled};
use crate::budget::Cost;
use crate::failure::Failure;
use crate::session::{Begun, state_at};

const JSON_PATCH: &str = "application/json-patch+json";
const MERGE_PATCH: &str = "application/merge-patch+json";

#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[serde(deny_unknown_fields)]
pub(crate) struct Part {
    /// A JSON Pointer; the whole state where it is left out.
    path: Option<String>,
    /// The state as it was at this `seq`; the present one where it is left out.
    at: Option<u64>,
    /// A role, for calls with the service key.
    #[serde(rename = "as")]
    #[param(rename = "as")]
    _as: Option<String>,
    /// With `as`: the participant whose eyes it is seen with.
    #[serde(rename = "sub")]
    #[param(rename = "sub")]
    _sub: Option<String>,
}

/// The state as plain JSON. `ETag` is its `seq`.
#[utoipa::path(tag = "participants", params(Part, ("session" = String, Path), ("If-None-Match" = Option<String>, Header)), responses(
    (status = 200, body = Object), (status = 304, description = "Nothing has changed"), (status = 404, description = "`no-session`, `unknown-path`"),
    (status = 409, description = "`from-the-future`"), (status = 410, description = "`too-old`: \
        not kept any more")),
    security(("bearer" = [])))]
#[get("/sessions/{session}/state")]
pub(crate) async fn show(
    request: HttpRequest,
    session: web::Path<String>,
    part: web::Query<Part>,
    app: Shared,
) -> Answer {
    let (session, who) = inside(&request, &app, &session).await?;
    let path = part.path.as_deref().map(Path::parse).transpose()?;
    let known = Tags::of(&request, &header::IF_NONE_MATCH)?;
    let figures = session.figures().await?;
    let is_known = |seq: u64| known.as_ref().is_some_and(|known| known.has(seq));
    // It counts before anybody encodes it.
    let held = app.answers.hold(&request, session.id(), &who, figures.state_bytes, &app.metrics)?;
    let read = async |path| {
        let reading = session.read(path, who.reader()).await?;
        Ok::<_, Problem>((reading.seq, reading.json.into_bytes()))
    };
    let (seq, json) = match part.at {
        // Whoever has it already costs no encoding.
        None if path.is_none() && is_known(figures.seq) => (figures.seq, Bytes::new()),
        None => read(path).await?,
        Some(at) => {
            app.budget.charge(session.id(), &who, Cost::Document, &app.metrics)?;
            let turn = app.documents.turn().await?;
            let state = state_at(&app, &session, at, &turn).await?;
            let path = path.unwrap_or_else(|| Path::of::<String>([]));
            let charter = session.charter().clone();
            let made = turn.work(move || {
                let reader = who.reader();
                let sight = charter.sight(&reader.role);
                let lens = Lens::new(&charter, sight, Some(&reader.viewer), &state);
                let shown = lens.plain_at(&path);
                Ok(shown.ok_or_else(|| nothing_at(&path))?.to_string())
            });
            (at, made.await?.into())
        }
    };
    let mut response = HttpResponse::Ok();
    let is_known = is_known(seq);
    if is_known {
        response = HttpResponse::NotModified();
    }
    response.insert_header((header::ETAG, format!("\"{seq}\"")));
    if is_known {
        return Ok(response.finish());
    }
    let mut response = response.content_type("application/json").body(json);
    response.extensions_mut().insert(held);
    Ok(response)
}

/// Changes the state by a JSON Patch (RFC 6902) or a JSON Merge Patch (RFC 7396), which is turned
/// into edits against the state as it is when the call comes. With `If-Match` only where that is
/// the state it was made for.
#[utoipa::path(tag = "participants", request_body(content(
    (Object = "application/merge-patch+json"), (Vec<described::PatchOperation> = "application/json-patch+json"))),
    params(Speaking, ("session" = String, Path), ("If-Match" = Option<String>, Header), ("Idempotency-Key" = Option<String>, Header)),
    responses((status = 200, description = "The settled update", body = described::SettledUpdate), (status = 204, description = "Nothing was to be changed"),
    (status = 400, description = "`malformed`"), (status = 404, description = "`unknown-path`"), (status = 415, description = "`wrong-media`, with `Accept-Patch`"), (status = 412, description = "`test-failed`, with the present value"),
    (status = 422, description = "`wrong-type`, `out-of-bounds`"), (status = 429, description = "`too-fast`"), (status = 503, description = "`unavailable`")),
    security(("bearer" = [])))]
#[patch("/sessions/{session}/state")]
pub(crate) async fn change(
    request: HttpRequest,
    session: web::Path<String>,
    _speaking: web::Query<Speaking>,
    payload: web::Payload,
    app: Shared,
) -> Answer {
    let (session, who) = inside(&request, &app, &session).await?;
    app.budget.charge(session.id(), &who, Cost::Page, &app.metrics)?;
    let if_match = Tags::of(&request, &header::IF_MATCH)?.map(Tags::states);
    let kind = request
        .headers()
        .get(header::CONTENT_TYPE)
        .and_then(|kind| kind.to_str().ok())
        .unwrap_or_default();
    let kind = kind.split(';').next().unwrap_or_default().trim().to_ascii_lowercase();
    let read: fn(Value) -> Result<Document, Problem> = match kind.as_str() {
        JSON_PATCH => Document::patch,
        MERGE_PATCH => |document| Ok(Document::Merge(document)),
        _ => {
            let detail = format!("The Content-Type of a change is {JSON_PATCH} or {MERGE_PATCH}.");
            return Err(Failure(Problem::new(ProblemKind::WrongMedia, detail)));
        }
    };
    let body = body(payload, session.charter().limits.frame)
        .await
        .inspect_err(|problem| app.metrics.count(problem))?;
    let (actor, n) = counted_as(&request, &who, &session, &body)?;
    let (seq, state) = match session.begin_patch(actor.clone(), n, if_match.clone()).await? {
        Begun::Known(first) => return Ok(settled(first)),
        Begun::Against { seq, state } => (seq, state),
    };
    let (charter, reader) = (session.charter().clone(), Reader::of(&actor));
    let turn = app.documents.turn().await?;
    let edits = turn.work(move || {
        let change = read(decode_json(&body)?)?;
        state.edits_for(&charter, &change, charter.sight(&reader.role), Some(&reader.viewer))
    });
    let edits = edits.await.inspect_err(|problem| app.metrics.count(problem))?;
    let proposal = Proposal::new(n, Some(seq), edits);
    Ok(settled(session.end_patch(actor, proposal, if_match).await?))
}

#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[serde(deny_unknown_fields)]
pub(crate) struct Between {
    /// The first `seq`.
    from: u64,
    /// The second; the present one where it is left out.
    to: Option<u64>,
    /// A role, for calls with the service key.
    #[serde(rename = "as")]
    #[param(rename = "as")]
    _as: Option<String>,
    /// With `as`: the participant whose eyes it is seen with.
    #[serde(rename = "sub")]
    #[param(rename = "sub")]
    _sub: Option<String>,
}

/// What differs between the states at two places of the journal.
#[utoipa::path(tag = "participants", params(Between, ("session" = String, Path)), responses((status = 200, body = StateDifference),
    (status = 409, description = "`from-the-future`"), (status = 410, description = "`too-old`: \
        not kept any more")),
    security(("bearer" = [])))]
#[get("/sessions/{session}/diff")]
pub(crate) async fn diff(
    request: HttpRequest,
    session: web::Path<String>,
    between: web::Query<Between>,
    app: Shared,
) -> Answer {
    let (session, who) = inside(&request, &app, &session).await?;
    app.budget.charge(session.id(), &who, Cost::Document, &app.metrics)?;
    let figures = session.figures().await?;
    let to = between.to.unwrap_or(figures.seq);
    // At most both states.
    let most = 2 * figures.state_bytes;
    let held = app.answers.hold(&request, session.id(), &who, most, &app.metrics)?;
    let turn = app.documents.turn().await?;
    let was = state_at(&app, &session, between.from, &turn).await?;
    let now = state_at(&app, &session, to, &turn).await?;
    let charter = session.charter().clone();
    let made = turn.work(move || {
        let reader = who.reader();
        let sight = charter.sight(&reader.role);
        let [was, now] = [was, now]
            .map(|state| Lens::new(&charter, sight, Some(&reader.viewer), &state).plain());
        Ok(serde_json::to_value(differences(&was, &now)).unwrap_or_default())
    });
    let differences = made.await?;
    let told = StateDifference { from: between.from, to, differences };
    let mut response = HttpResponse::Ok().json(told);
    response.extensions_mut().insert(held);
    Ok(response)
}
