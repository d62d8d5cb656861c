//! Tokens for participants.

use actix_web::{HttpRequest, HttpResponse, post, web};
use chrono::{DateTime, SecondsFormat, Utc};
use rendel_core::{Actor, Charter, Problem, ProblemKind};
use rendel_wire::decode_json;
use rendel_wire::http::{IssueToken, TokenAnswer};

use super::{Answer, BACKEND_BODY, Shared, body};
use crate::app::now_ms;
use crate::auth::backend;
use crate::failure::{Failure, no_session};
use crate::token::{Claims, MOST_SECONDS, check_name};

const STANDARD_SECONDS: u64 = 3_600;

/// Issues a token for one participant of one session.
#[utoipa::path(tag = "tokens", request_body = IssueToken, responses(
    (status = 201, body = TokenAnswer), (status = 404, description = "`no-session`"),
    (status = 422, description = "`out-of-bounds`: no such role or duration")), security(("bearer" = [])))]
#[post("/tokens")]
pub(crate) async fn issue(request: HttpRequest, payload: web::Payload, app: Shared) -> Answer {
    backend(&request, &app)?;
    let asked: IssueToken = decode_json(&body(payload, BACKEND_BODY).await?)?;
    check_name("sub", &asked.sub, 128)?;
    asked.name.iter().try_for_each(|name| check_name("name", name, 128))?;
    let seconds = asked.expires_in.unwrap_or(STANDARD_SECONDS);
    if !(1..=MOST_SECONDS).contains(&seconds) {
        let detail = format!("\"expires_in\" goes from 1 to {MOST_SECONDS} seconds.");
        return Err(Failure(Problem::new(ProblemKind::OutOfBounds, detail)));
    }
    let (row, _) = app.store.session(asked.session.clone()).await?.ok_or_else(|| no_session(&asked.session))?;
    let charter =
        app.store.charter(row.charter, Some(row.version)).await?.and_then(|row| Charter::parse(&row.source).ok());
    let charter = charter.ok_or_else(|| Problem::new(ProblemKind::Charter, "The stored charter cannot be read."))?;
    if asked.role == Actor::SERVICE || asked.sub == Actor::SERVICE || !charter.has_role(&asked.role) {
        let names: Vec<_> = charter.role_names().collect();
        let detail = format!("The charter has no role {:?} for participants; it has {}.", asked.role, names.join(", "));
        return Err(Failure(
            Problem::new(ProblemKind::OutOfBounds, detail).did_you_mean(charter.nearest_role(&asked.role)),
        ));
    }
    let until = now_ms() / 1000 + seconds;
    let token =
        app.config.key.sign(&Claims::new(&asked.session, &asked.sub, asked.name.as_deref(), &asked.role, until))?;
    let expires =
        i64::try_from(until).ok().and_then(|until| DateTime::<Utc>::from_timestamp(until, 0)).unwrap_or_default();
    let expires = expires.to_rfc3339_opts(SecondsFormat::Secs, true);
    Ok(HttpResponse::Created().json(TokenAnswer { token, expires }))
}
