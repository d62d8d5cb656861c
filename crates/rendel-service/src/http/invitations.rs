//! Invitations: links that a backend hands out, each good for a few uses and for a while.

use actix_web::{HttpRequest, HttpResponse, delete, get, post, web};
use chrono::{TimeDelta, Utc};
use rendel_core::{Actor, Problem, ProblemKind};
use rendel_store::{InvitationRow, NewInvitation, Note};
use rendel_wire::decode_object;
use rendel_wire::http::{
    AcceptInvitation, AcceptedInvitation, InvitationInfo, InvitationList, MakeInvitation,
};
use serde_json::json;
use sha2::{Digest as _, Sha256};
use uuid::Uuid;

use super::keys::rfc3339;
use super::once::{Once, once};
use super::tokens::{check_role_of, issued};
use super::{Answer, SMALL_BODY, Shared, body};
use crate::addresses::address_of;
use crate::auth::backend;
use crate::budget::Cost;
use crate::failure::Failure;
use crate::guests::made_up_name;
use crate::token::{MOST_SECONDS, check_name};

const STANDARD_SECONDS: u64 = 86_400;
/// How long the token of who came by an invitation is good.
const TOKEN_SECONDS: u64 = 12 * 3_600;

fn info(row: InvitationRow) -> InvitationInfo {
    let count = |number: i32| u32::try_from(number).unwrap_or(0);
    InvitationInfo {
        id: row.id.to_string(),
        session: row.session,
        role: row.role,
        uses: count(row.uses),
        used: count(row.used),
        until: rfc3339(row.until),
        withdrawn: row.withdrawn,
        code: None,
        link: None,
    }
}

fn digest(code: &str) -> String {
    hex::encode(Sha256::digest(code.as_bytes()))
}

/// Makes an invitation. Its code is told here and never again.
#[utoipa::path(tag = "tokens", request_body = MakeInvitation, params(("session" = String, Path)), responses((status = 201, body = InvitationInfo),
    (status = 404, description = "`no-session`"), (status = 422, description = "`out-of-bounds`: \
        no such role, uses or time")), security(("bearer" = [])))]
#[post("/sessions/{session}/invitations")]
pub(crate) async fn make(
    request: HttpRequest,
    session: web::Path<String>,
    payload: web::Payload,
    app: Shared,
) -> Answer {
    backend(&request, &app)?;
    let body = body(payload, SMALL_BODY).await?;
    let MakeInvitation { role, uses, expires_in } = decode_object(&body)?;
    check_role_of(&app, &session, &role).await?;
    let (uses, seconds) = (uses.unwrap_or(1), expires_in.unwrap_or(STANDARD_SECONDS));
    if !(1..=1_000).contains(&uses) || !(1..=MOST_SECONDS).contains(&seconds) {
        let detail = format!(
            "\"uses\" goes from 1 to 1,000, \"expires_in\" from 1 to {MOST_SECONDS} seconds."
        );
        return Err(Failure(Problem::new(ProblemKind::OutOfBounds, detail)));
    }
    let call = Once::of(&request, &body)?;
    let made = |call: &Once| call.made_with(&app.keys.derived("invitations"));
    let code = hex::encode(call.as_ref().map_or_else(rand::random, made));
    let until = Utc::now() + TimeDelta::seconds(i64::try_from(seconds).unwrap_or(0));
    let (id, uses) = (Uuid::now_v7(), i32::try_from(uses).unwrap_or(1));
    let detail = json!({ "invitation": id, "role": role, "uses": uses });
    let note = Note::of_session(&session, Actor::SERVICE, "invited", detail);
    let (code_digest, session) = (digest(&code), session.into_inner());
    let new = NewInvitation { id, code: code_digest.clone(), session, role, uses, until };
    let act = async |call| Ok(app.store.invite(new, note.by_call(call)).await?);
    once(&app, call.as_ref(), (), act).await?;
    let row = app.store.invitation(code_digest).await?.ok_or_else(|| {
        let detail = "The invitation of this Idempotency-Key is gone, or its code cannot be told \
            again since the service has another key. Take a new one.";
        Problem::new(ProblemKind::Forgotten, detail)
    })?;
    let link = Some(format!("/join#{code}"));
    Ok(HttpResponse::Created().json(InvitationInfo { code: Some(code), link, ..info(row) }))
}

/// Lists the invitations of a session, without their codes.
#[utoipa::path(tag = "tokens", params(("session" = String, Path)), responses((status = 200, body = InvitationList)), security(("bearer" = [])))]
#[get("/sessions/{session}/invitations")]
pub(crate) async fn list(request: HttpRequest, session: web::Path<String>, app: Shared) -> Answer {
    backend(&request, &app)?;
    let invitations =
        app.store.invitations(session.into_inner()).await?.into_iter().map(info).collect();
    Ok(HttpResponse::Ok().json(InvitationList { invitations }))
}

/// Takes an invitation back. Who came by it stays.
#[utoipa::path(tag = "tokens", params(("session" = String, Path), ("invitation" = String, Path)), responses((status = 204, description = "It is taken back"),
    (status = 404, description = "`not-found`")), security(("bearer" = [])))]
#[delete("/sessions/{session}/invitations/{invitation}")]
pub(crate) async fn withdraw(
    request: HttpRequest,
    which: web::Path<(String, String)>,
    app: Shared,
) -> Answer {
    backend(&request, &app)?;
    let (session, invitation) = which.into_inner();
    let detail = json!({ "invitation": invitation });
    let note = Note::of_session(&session, Actor::SERVICE, "took an invitation back", detail);
    let found = match Uuid::parse_str(&invitation) {
        Ok(id) => app.store.withdraw(session, id, note).await?,
        Err(_) => false,
    };
    if !found {
        return Err(Failure(Problem::new(
            ProblemKind::NotFound,
            "There is no such invitation to this session.",
        )));
    }
    Ok(HttpResponse::NoContent().finish())
}

/// Accepts an invitation: uses it up by one and gives a token. Nothing but the code is needed.
#[utoipa::path(tag = "tokens", request_body = AcceptInvitation, responses((status = 201, body = AcceptedInvitation),
    (status = 401, description = "`bad-token`: it is used up, has ended or was taken back"), (status = 429, description = "`too-fast`: too many tries from one address")))]
#[post("/invitations/accepted")]
pub(crate) async fn accept(request: HttpRequest, payload: web::Payload, app: Shared) -> Answer {
    // Codes cannot be guessed; this keeps anyone who tries from keeping the database busy.
    let address = address_of(&request, app.config.trust_forwarded);
    app.budget.charge_address(&address, Cost::Document, &app.metrics)?;
    let AcceptInvitation { code, name } = decode_object(&body(payload, SMALL_BODY).await?)?;
    name.iter().try_for_each(|name| check_name("name", name, 128))?;
    let number: u64 = rand::random();
    let (sub, name) =
        (format!("invited-{number:016x}"), name.unwrap_or_else(|| made_up_name(number)));
    let (by, named) = (sub.clone(), name.clone());
    let note = move |row: &InvitationRow| {
        let detail = json!({ "invitation": row.id, "name": named });
        Note::of_session(&row.session, &by, "came by an invitation", detail)
    };
    let row = app.store.accept(digest(&code), note).await?.ok_or_else(|| {
        let detail = "This invitation is used up, has ended or was taken back. Ask for another.";
        Problem::new(ProblemKind::BadToken, detail)
    })?;
    let answer = issued(&app, &row.session, &sub, Some(&name), &row.role, TOKEN_SECONDS)?;
    let (token, expires) = (answer.token, answer.expires);
    let accepted =
        AcceptedInvitation { session: row.session, sub, name, role: row.role, token, expires };
    Ok(HttpResponse::Created().json(accepted))
}
