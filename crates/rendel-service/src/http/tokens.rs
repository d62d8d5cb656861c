//! Tokens for participants.

use actix_web::{HttpRequest, HttpResponse, post, web};
use chrono::{DateTime, Utc};
use rendel_core::{Actor, Charter, Problem, ProblemKind};
use rendel_store::{NewRevocation, Note};
use rendel_wire::decode_object;
use rendel_wire::http::{IssueToken, RevokeTokens, TokenAnswer};
use serde_json::json;

use super::keys::rfc3339;
use super::once::{Once, once};
use super::{Answer, SMALL_BODY, Shared, body};
use crate::access::ends_of_tokens;
use crate::app::App;
use crate::auth::backend;
use crate::clock::now_ms;
use crate::failure::{Failure, no_session};
use crate::token::{Claims, MOST_SECONDS, check_name};

const STANDARD_SECONDS: u64 = 3_600;

/// Issues a token for one participant of one session. With an `Idempotency-Key` the call may be
/// made again within a day and gives the same token.
#[utoipa::path(tag = "tokens", request_body = IssueToken, params(("Idempotency-Key" = Option<String>, Header)), responses(
    (status = 201, body = TokenAnswer), (status = 404, description = "`no-session`"),
    (status = 422, description = "`out-of-bounds`: no such role or duration")), security(("bearer" = [])))]
#[post("/tokens")]
pub(crate) async fn issue(request: HttpRequest, payload: web::Payload, app: Shared) -> Answer {
    backend(&request, &app)?;
    let body = body(payload, SMALL_BODY).await?;
    let asked: IssueToken = decode_object(&body)?;
    check_whom(&asked.sub, asked.name.as_deref())?;
    let seconds = check_seconds(asked.expires_in)?;
    let charter = charter_of(&app, &asked.session).await?;
    check_role(&charter, &asked.role)?;
    asked.seat.iter().try_for_each(|seat| charter.check_seat(seat))?;
    let IssueToken { session, sub, name, role, seat, .. } = asked;
    let until = now_ms() / 1000 + seconds;
    let claims = Claims { seat, ..Claims::new(&session, &sub, name.as_deref(), &role, until) };
    let detail = json!({ "sub": sub, "role": role, "seconds": seconds });
    let note = Note::of_session(&session, Actor::SERVICE, "issued a token", detail);
    let call = Once::of(&request, &body)?;
    let act = async |call| Ok(app.store.note(note.by_call(call)).await?);
    let (claims, _) = once(&app, call.as_ref(), claims, act).await?;
    Ok(HttpResponse::Created().json(signed(&app, &claims)?))
}

/// Refuses an id or a name that no participant can have.
pub(super) fn check_whom(sub: &str, name: Option<&str>) -> Result<(), Problem> {
    check_name("sub", sub, 128)?;
    name.map_or(Ok(()), |name| check_name("name", name, 128))?;
    if sub == Actor::SERVICE {
        let detail = "\"service\" is the backend itself; choose another id.";
        return Err(Problem::new(ProblemKind::OutOfBounds, detail));
    }
    Ok(())
}

/// For how long a token is to be good.
pub(super) fn check_seconds(expires_in: Option<u64>) -> Result<u64, Problem> {
    let seconds = expires_in.unwrap_or(STANDARD_SECONDS);
    if (1..=MOST_SECONDS).contains(&seconds) {
        return Ok(seconds);
    }
    let detail = format!("\"expires_in\" goes from 1 to {MOST_SECONDS} seconds.");
    Err(Problem::new(ProblemKind::OutOfBounds, detail))
}

pub(super) fn issued(
    app: &App,
    session: &str,
    sub: &str,
    name: Option<&str>,
    role: &str,
    seconds: u64,
) -> Result<TokenAnswer, Problem> {
    signed(app, &Claims::new(session, sub, name, role, now_ms() / 1000 + seconds))
}

fn signed(app: &App, claims: &Claims) -> Result<TokenAnswer, Problem> {
    let token = app.keys.sign(claims)?;
    let expires =
        i64::try_from(claims.exp).ok().and_then(|until| DateTime::<Utc>::from_timestamp(until, 0));
    Ok(TokenAnswer { token, expires: rfc3339(expires.unwrap_or_default()) })
}

/// Refuses a role that no participant of a session can have.
pub(super) async fn check_role_of(app: &App, session: &str, role: &str) -> Result<(), Failure> {
    check_role(&charter_of(app, session).await?, role)
}

async fn charter_of(app: &App, session: &str) -> Result<Charter, Failure> {
    let (row, _) =
        app.store.session(session.to_owned()).await?.ok_or_else(|| no_session(session))?;
    let charter = app.store.charter(row.charter, Some(row.version)).await?;
    let charter = charter.and_then(|row| Charter::parse(&row.source).ok());
    let unread = || Problem::new(ProblemKind::Charter, "The stored charter cannot be read.");
    Ok(charter.ok_or_else(unread)?)
}

pub(super) fn check_role(charter: &Charter, role: &str) -> Result<(), Failure> {
    if role != Actor::SERVICE && charter.has_role(role) {
        return Ok(());
    }
    let names: Vec<_> = charter.role_names().collect();
    let detail =
        format!("The charter has no role {role:?} for participants; it has {}.", names.join(", "));
    Err(Failure(
        Problem::new(ProblemKind::OutOfBounds, detail).did_you_mean(charter.nearest_role(role)),
    ))
}

/// Revokes one token, or all that a participant of a session has. Whoever is connected by one is
/// disconnected within a second.
#[utoipa::path(tag = "tokens", request_body = RevokeTokens, responses((status = 204, description = "They are not good any more"),
    (status = 400, description = "`malformed`"), (status = 401, description = "`bad-token`: it \
        was none")), security(("bearer" = [])))]
#[post("/tokens/revoked")]
pub(crate) async fn revoke(request: HttpRequest, payload: web::Payload, app: Shared) -> Answer {
    backend(&request, &app)?;
    let asked: RevokeTokens = decode_object(&body(payload, SMALL_BODY).await?)?;
    let now = now_ms() as f64 / 1000.0;
    let (session, sub, jti, until) = match (asked.token, asked.session, asked.sub) {
        (Some(token), None, None) => {
            let (claims, _) = app.keys.verify(&token)?;
            match claims.jti {
                Some(jti) => (claims.session, None, Some(jti), now),
                // Without an id of its own it goes with all that its participant had until then.
                None => {
                    (claims.session, Some(claims.sub), None, claims.iat.unwrap_or(now).max(now))
                }
            }
        }
        (None, Some(session), Some(sub)) => (session, Some(sub), None, now),
        _ => {
            let detail = "Give a \"token\", or a \"session\" and a \"sub\" for all tokens of that \
                participant.";
            return Err(Failure(Problem::new(ProblemKind::Malformed, detail)));
        }
    };
    let detail = json!({ "sub": sub, "jti": jti });
    let note = Note::of_session(&session, Actor::SERVICE, "revoked tokens", detail);
    let (issued_until, kept_until) = (until, ends_of_tokens());
    let revoking = NewRevocation { session, sub, jti, issued_until, kept_until };
    app.take_revocation(app.store.revoke(revoking, note).await?).await;
    Ok(HttpResponse::NoContent().finish())
}
