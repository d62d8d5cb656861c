//! What participants call.

use std::sync::Arc;

use actix_web::{HttpRequest, HttpResponse, get, post, web};
use rendel_core::{Actor, Problem, ProblemKind, Proposal};
use rendel_wire::decode_json;
use rendel_wire::http::ProposeBody;
use serde::Deserialize;
use uuid::Uuid;

use super::state::settled;
use super::{Answer, Shared, body};
use crate::app::App;
use crate::auth::{Identity, participant};
use crate::connection::check_role;
use crate::failure::Failure;
use crate::session::SessionHandle;

/// The name space of the clients that stand for an `Idempotency-Key`.
const KEYS: Uuid = Uuid::from_u128(0x6f1b_0c52_5d7a_4b6e_9c1d_7a2f_3e44_10c9);

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
    let limit = session.charter().limits.frame;
    let ProposeBody { edits, seen, gesture, note } =
        decode_json(&body(payload, limit).await.inspect_err(|problem| app.metrics.count(problem))?)?;
    let proposal = Proposal { n: 1, seen, answered: 0, edits, gesture, note };
    let actor = Actor { id: who.id, role: who.role, client };
    let answered = session.propose_once(actor, proposal).await?;
    Ok(settled(answered))
}

/// The client that a call counts as: one for each `Idempotency-Key` of a participant, else a new one.
pub(super) fn client_of(request: &HttpRequest, who: &Identity) -> Result<Uuid, Problem> {
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
    let (session, who) = inside(&request, &app, &session).await?;
    Ok(HttpResponse::Ok().json(session.charter().shown_to(&who.role)))
}

/// The session, and who calls in it. Who calls is found out first: a stranger does not learn which sessions there are.
pub(super) async fn inside(
    request: &HttpRequest,
    app: &Shared,
    session: &str,
) -> Result<(SessionHandle, Identity), Failure> {
    let app: &Arc<App> = app;
    let who = participant(request, app, session)?;
    let session = app.session(session).await?;
    check_role(&session, &who)?;
    Ok((session, who))
}
