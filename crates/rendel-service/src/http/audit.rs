//! Who did what among powers, tokens and charters.

use actix_web::{HttpRequest, HttpResponse, get, web};
use rendel_core::{Problem, ProblemKind};
use rendel_store::AuditRow;
use rendel_wire::http::{AuditEntry, AuditList};
use serde::Deserialize;

use super::keys::rfc3339;
use super::{Answer, Shared};
use crate::auth::backend;
use crate::failure::Failure;

#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[serde(deny_unknown_fields)]
pub(crate) struct Before {
    /// Only what came before this `ord`.
    before: Option<i64>,
    /// At most so many, 1 to 1,000; 100 where it is left out.
    most: Option<i64>,
}

async fn told(app: &Shared, session: Option<String>, asked: &Before) -> Answer {
    let most = asked.most.unwrap_or(100);
    if !(1..=1_000).contains(&most) {
        return Err(Failure(Problem::new(
            ProblemKind::OutOfBounds,
            "\"most\" goes from 1 to 1,000.",
        )));
    }
    let entries =
        app.store.audit(session, asked.before, most).await?.into_iter().map(entry).collect();
    Ok(HttpResponse::Ok().json(AuditList { entries }))
}

pub(super) fn entry(row: AuditRow) -> AuditEntry {
    AuditEntry {
        ord: row.ord,
        at: rfc3339(row.at),
        by: row.by,
        what: row.what,
        detail: serde_json::from_str(&row.detail).unwrap_or_default(),
    }
}

/// What was done in a session by powers, and about its tokens and invitations; newest first.
#[utoipa::path(tag = "sessions", params(Before, ("session" = String, Path)), responses((status = 200, body = AuditList)), security(("bearer" = [])))]
#[get("/sessions/{session}/audit")]
pub(crate) async fn of_session(
    request: HttpRequest,
    session: web::Path<String>,
    asked: web::Query<Before>,
    app: Shared,
) -> Answer {
    backend(&request, &app)?;
    told(&app, Some(session.into_inner()), &asked).await
}

/// What was done about charters, keys and the console; newest first.
#[utoipa::path(tag = "service", params(Before), responses((status = 200, body = AuditList)), security(("bearer" = [])))]
#[get("/audit")]
pub(crate) async fn of_service(
    request: HttpRequest,
    asked: web::Query<Before>,
    app: Shared,
) -> Answer {
    backend(&request, &app)?;
    told(&app, None, &asked).await
}
