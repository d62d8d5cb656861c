//! What participants call.

use std::sync::Arc;

use actix_web::{HttpRequest, HttpResponse, get, post, web};
use rendel_core::{Actor, Problem, Proposal};
use rendel_wire::decode_object;
use rendel_wire::described;
use rendel_wire::http::ProposeBody;
use serde::Deserialize;
use uuid::Uuid;

use super::once::key_of;
use super::{Answer, Shared, body, settled};
use crate::addresses::address_of;
use crate::app::App;
use crate::auth::{check_role, participant};
use crate::budget::Cost;
use crate::failure::Failure;
use crate::guests::is_guest;
use crate::identity::Identity;
use crate::session::SessionHandle;
use crate::signature::hmac;

/// Numbers of proposals stay where every client's arithmetic is exact.
pub(super) const MOST_NUMBER: u64 = (1 << 53) - 1;

#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[serde(deny_unknown_fields)]
pub(crate) struct Speaking {
    /// A role, for calls with the service key.
    #[serde(rename = "as")]
    #[param(rename = "as")]
    _as: Option<String>,
}

/// Proposes edits. With an `Idempotency-Key` the call may be repeated: it counts once and is
/// answered with its first outcome.
#[utoipa::path(tag = "participants", request_body = ProposeBody, params(Speaking, ("session" = String, Path), ("Idempotency-Key" = Option<String>, Header)),
    responses((status = 200, description = "The settled update", body = described::SettledUpdate), (status = 409, description = "`stale` and others, with the present value"),
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
    let limit = session.charter().limits.frame;
    let body = body(payload, limit).await.inspect_err(|problem| app.metrics.count(problem))?;
    let (actor, n) = counted_as(&request, &who, &session, &body)?;
    let ProposeBody { edits, seen, gesture, note } = decode_object(&body)?;
    let proposal = Proposal { gesture, note, ..Proposal::new(n, seen, edits) };
    let answered = session.propose_once(actor, proposal).await?;
    Ok(settled(answered))
}

/// Who proposes by a call, and the number of the proposal. A call with an `Idempotency-Key` is a
/// client of its own, made from the key; the number of its one proposal stands for the method and
/// the body, so that another body under the same key is noticed. A call without one is a new client
/// and has the number 0: nothing is remembered of it.
pub(super) fn counted_as(
    request: &HttpRequest,
    who: &Identity,
    session: &SessionHandle,
    body: &[u8],
) -> Result<(Actor, u64), Problem> {
    let actor = |client| who.actor(client);
    let Some(key) = key_of(request)? else { return Ok((actor(Uuid::now_v7()), 0)) };
    let made = |what: &str, from: &[u8]| -> [u8; 16] {
        let hash = hmac(session.secret().as_bytes(), &[what.as_bytes(), b"\n", from].concat());
        std::array::from_fn(|at| hash[at])
    };
    let client =
        uuid::Builder::from_custom_bytes(made("key", format!("{}\n{key}", who.id).as_bytes()))
            .into_uuid();
    let [number @ .., _, _, _, _, _, _, _, _] = made(request.method().as_str(), body);
    Ok((actor(client), u64::from_be_bytes(number) % MOST_NUMBER + 1))
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

/// The session, and who calls in it. Who calls is found out first: a stranger does not learn which
/// sessions there are.
pub(super) async fn inside(
    request: &HttpRequest,
    app: &Shared,
    session: &str,
) -> Result<(SessionHandle, Identity), Failure> {
    let app: &Arc<App> = app;
    let who = participant(request, app, session)?;
    app.budget.charge(session, &who, Cost::Call, &app.metrics)?;
    if is_guest(&who.id) {
        let address = address_of(request, app.config.trust_forwarded);
        let touched = app.guests.touch(&address, &who.id);
        touched.inspect_err(|problem| app.metrics.count(problem))?;
    }
    let session = app.session(session).await?;
    let who = session.amendments().over(&who);
    check_role(session.charter(), &who)?;
    session.removals().check(&who.id)?;
    Ok((session, who))
}
