//! What participants call.

use std::collections::VecDeque;
use std::sync::Arc;

use actix_web::http::header;
use actix_web::web::Bytes;
use actix_web::{HttpRequest, HttpResponse, get, post, web};
use futures_util::{StreamExt as _, stream};
use rendel_core::{Actor, Path, Problem, ProblemKind, Proposal, Settled};
use rendel_store::Store;
use rendel_wire::decode_json;
use rendel_wire::http::ProposeBody;
use serde::Deserialize;
use uuid::Uuid;

use super::patches::Patches;
use super::{Answer, Shared, body};
use crate::app::App;
use crate::auth::{Identity, participant};
use crate::failure::Failure;
use crate::session::SessionHandle;

/// Updates that are read from the journal at one time.
const PAGE: i64 = 1_000;
/// The name space of the clients that stand for an `Idempotency-Key`.
const KEYS: Uuid = Uuid::from_u128(0x6f1b_0c52_5d7a_4b6e_9c1d_7a2f_3e44_10c9);

#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[serde(deny_unknown_fields)]
pub(crate) struct Part {
    /// A JSON Pointer; the whole state where it is left out.
    path: Option<String>,
    /// A role, for calls with the service key.
    #[serde(rename = "as")]
    #[param(rename = "as")]
    _as: Option<String>,
}

/// The state as plain JSON. `ETag` is its `seq`.
#[utoipa::path(tag = "participants", params(Part, ("session" = String, Path), ("If-None-Match" = Option<String>, Header)), responses(
    (status = 200, body = Object), (status = 304, description = "Nothing has changed"), (status = 404, description = "`no-session`, `unknown-path`")),
    security(("bearer" = [])))]
#[get("/sessions/{session}/state")]
pub(crate) async fn state(
    request: HttpRequest,
    session: web::Path<String>,
    part: web::Query<Part>,
    app: Shared,
) -> Answer {
    let (session, _) = inside(&request, &app, &session).await?;
    let path = part.path.as_deref().map(Path::parse).transpose()?;
    let reading = session.read(path).await?;
    let tag = format!("\"{}\"", reading.seq);
    let known = request.headers().get(header::IF_NONE_MATCH).and_then(|value| value.to_str().ok());
    if known.is_some_and(|known| {
        known.trim() == "*" || known.split(',').any(|one| one.trim().trim_start_matches("W/") == tag)
    }) {
        return Ok(HttpResponse::NotModified().insert_header((header::ETAG, tag)).finish());
    }
    let mut response = HttpResponse::Ok();
    response.insert_header((header::ETAG, tag)).insert_header((header::CACHE_CONTROL, "no-cache"));
    Ok(response.content_type("application/json").body(reading.json.into_bytes()))
}

#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[serde(deny_unknown_fields)]
pub(crate) struct Speaking {
    /// A role, for calls with the service key.
    #[serde(rename = "as")]
    #[param(rename = "as")]
    _as: Option<String>,
}

/// Proposes edits. With an `Idempotency-Key` the call may be repeated: it counts once and is answered with its first outcome.
#[utoipa::path(tag = "participants", request_body = ProposeBody, params(Speaking, ("session" = String, Path), ("Idempotency-Key" = Option<String>, Header)),
    responses((status = 200, description = "The settled update", body = Object), (status = 409, description = "`stale` and others, with the present value"),
    (status = 422, description = "`wrong-type`, `out-of-bounds`"), (status = 429, description = "`too-fast`"), (status = 503, description = "`unavailable`")),
    security(("bearer" = [])))]
#[post("/sessions/{session}/proposals")]
pub(crate) async fn propose(
    request: HttpRequest,
    session: web::Path<String>,
    _speaking: web::Query<Speaking>,
    payload: web::Payload,
    app: Shared,
) -> Answer {
    let (session, who) = inside(&request, &app, &session).await?;
    let client = client_of(&request, &who)?;
    let ProposeBody { edits, seen, gesture, note } = decode_json(&body(payload, session.charter.limits.frame).await?)?;
    let proposal = Proposal { n: 1, seen, answered: 0, edits, gesture, note };
    let actor = Actor { id: who.id, role: who.role, client };
    let update = session.propose_once(actor, proposal).await?;
    Ok(HttpResponse::Ok().content_type("application/json").body(update.into_bytes()))
}

/// The client that a call counts as: one for each `Idempotency-Key` of a participant, else a new one.
fn client_of(request: &HttpRequest, who: &Identity) -> Result<Uuid, Problem> {
    let Some(key) = request.headers().get("Idempotency-Key") else { return Ok(Uuid::now_v7()) };
    let key = key.to_str().ok().filter(|key| (1..=256).contains(&key.len()));
    let key = key
        .ok_or_else(|| Problem::new(ProblemKind::Malformed, "An Idempotency-Key has 1 to 256 printable characters."))?;
    Ok(Uuid::new_v5(&KEYS, format!("{}\n{key}", who.id).as_bytes()))
}

/// The session's charter as JSON, for clients that make an editor for each field.
#[utoipa::path(tag = "participants", params(Speaking, ("session" = String, Path)), responses((status = 200, body = Object)),
    security(("bearer" = [])))]
#[get("/sessions/{session}/charter")]
pub(crate) async fn charter(
    request: HttpRequest,
    session: web::Path<String>,
    _speaking: web::Query<Speaking>,
    app: Shared,
) -> Answer {
    let (session, _) = inside(&request, &app, &session).await?;
    Ok(HttpResponse::Ok().json(session.charter.to_json()))
}

#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[serde(deny_unknown_fields)]
pub(crate) struct Range {
    /// The first `seq`; 1 where it is left out.
    from: Option<u64>,
    /// The last `seq`; the present one where it is left out.
    to: Option<u64>,
    /// `updates`, or `json-patch` for one RFC 6902 patch per update against the plain state; `updates` where it is left out.
    #[serde(default)]
    form: Form,
    /// A role, for calls with the service key.
    #[serde(rename = "as")]
    #[param(rename = "as")]
    _as: Option<String>,
}

/// How updates are told.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum Form {
    #[default]
    Updates,
    JsonPatch,
}

/// The settled updates as JSON Lines, in order: as they are, or each as `{"seq", "patch"}`.
#[utoipa::path(tag = "participants", params(Range, ("session" = String, Path)), responses(
    (status = 200, body = String, content_type = "application/jsonl"), (status = 404, description = "`no-session`")), security(("bearer" = [])))]
#[get("/sessions/{session}/journal")]
pub(crate) async fn journal(
    request: HttpRequest,
    session: web::Path<String>,
    range: web::Query<Range>,
    app: Shared,
) -> Answer {
    let session_id = session.into_inner();
    let (session, _) = inside(&request, &app, &session_id).await?;
    let now = session.figures().await?.seq;
    let (from, to) = (range.from.unwrap_or(1).max(1), range.to.unwrap_or(now).min(now));
    let store = app.store.clone();
    let pages = match range.form {
        Form::Updates => Pages { store, session: session.ord, next: from, to, rows: VecDeque::new(), patches: None },
        // A patch is made against the state before it, so the journal is read from its beginning.
        Form::JsonPatch => {
            let patches = Patches::open(&app, &session_id, &session.charter, from).await?;
            Pages { store, session: session.ord, next: 1, to, rows: VecDeque::new(), patches: Some(patches) }
        }
    };
    // The first page is read before the answer begins, so that a database that is away is a problem and not a broken body.
    let (first, pages) = pages.turn().await?;
    // A page that fails later breaks the body off, which tells the reader that this is not all.
    let rest = stream::try_unfold(pages, |pages| async {
        let (lines, pages) = pages.turn().await?;
        Ok::<_, Problem>((!lines.is_empty()).then_some((lines, pages)))
    });
    let lines = stream::once(std::future::ready(Ok(first))).chain(rest);
    Ok(HttpResponse::Ok().content_type("application/jsonl").streaming(lines))
}

#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[serde(deny_unknown_fields)]
pub(crate) struct Before {
    /// Only those before this `seq`.
    before: Option<u64>,
    /// At most so many, 1 to 1,000; 100 where it is left out.
    most: Option<i64>,
    /// A role, for calls with the service key.
    #[serde(rename = "as")]
    #[param(rename = "as")]
    _as: Option<String>,
}

/// The updates whose verdicts are more than `applied`, newest first.
#[utoipa::path(tag = "participants", params(Before, ("session" = String, Path)), responses((status = 200, body = Vec<Object>)),
    security(("bearer" = [])))]
#[get("/sessions/{session}/conflicts")]
pub(crate) async fn conflicts(
    request: HttpRequest,
    session: web::Path<String>,
    asked: web::Query<Before>,
    app: Shared,
) -> Answer {
    let (session, _) = inside(&request, &app, &session).await?;
    let most = asked.most.unwrap_or(100);
    if !(1..=1_000).contains(&most) {
        return Err(Failure(Problem::new(ProblemKind::OutOfBounds, "\"most\" goes from 1 to 1,000.")));
    }
    let rows = app.store.conflicts(session.ord, asked.before.unwrap_or(u64::MAX), most).await?;
    let updates: Vec<Settled> = rows.iter().filter_map(|row| serde_json::from_str(row).ok()).collect();
    let told: Vec<_> = updates.into_iter().filter(|update| !update.verdicts.is_empty()).collect();
    Ok(HttpResponse::Ok().json(told))
}

/// The journal, page by page.
struct Pages {
    store: Store,
    session: i64,
    next: u64,
    to: u64,
    /// Read and not told yet.
    rows: VecDeque<String>,
    patches: Option<Patches>,
}

impl Pages {
    /// The next lines; none only at the end.
    async fn turn(mut self) -> Result<(Bytes, Self), Problem> {
        loop {
            if self.rows.is_empty() && self.next <= self.to {
                let rows = self.store.journal(self.session, self.next, self.to, PAGE).await;
                self.rows = rows.map_err(|error| crate::failure::from_store(&error))?.into();
                self.next += self.rows.len() as u64;
                if self.rows.is_empty() {
                    self.next = self.to + 1;
                }
            }
            let lines: String = match &mut self.patches {
                Some(patches) => patches.tell(&mut self.rows)?,
                None => self.rows.drain(..).flat_map(|row| [row, "\n".to_owned()]).collect(),
            };
            if !lines.is_empty() || (self.rows.is_empty() && self.next > self.to) {
                return Ok((lines.into(), self));
            }
        }
    }
}

/// The session, and who calls in it. Who calls is found out first: a stranger does not learn which sessions there are.
async fn inside(request: &HttpRequest, app: &Shared, session: &str) -> Result<(SessionHandle, Identity), Failure> {
    let app: &Arc<App> = app;
    let who = participant(request, app, session)?;
    let session = app.session(session).await?;
    if !session.charter.has_role(&who.role) {
        let detail = format!("The charter has no role {:?}.", who.role);
        let problem = Problem::new(ProblemKind::BadToken, detail).did_you_mean(session.charter.nearest_role(&who.role));
        return Err(Failure(problem));
    }
    Ok((session, who))
}
