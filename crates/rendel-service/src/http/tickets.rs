//! Tickets for calls that cannot send headers.

use actix_web::{HttpRequest, HttpResponse, post, web};
use chrono::{SecondsFormat, Utc};
use rendel_wire::http::TicketAnswer;

use super::participants::{Speaking, inside};
use super::{Answer, Shared};
use crate::tickets::LIFE;

/// Issues a ticket that is good for one call within 30 seconds, for `EventSource`, which cannot
/// send headers.
#[utoipa::path(tag = "participants", params(Speaking, ("session" = String, Path)), responses((status = 201, body = TicketAnswer),
    (status = 429, description = "`too-fast`")), security(("bearer" = [])))]
#[post("/sessions/{session}/tickets")]
pub(crate) async fn issue(
    request: HttpRequest,
    session: web::Path<String>,
    _speaking: web::Query<Speaking>,
    app: Shared,
) -> Answer {
    let (session, who) = inside(&request, &app, &session).await?;
    let ticket =
        app.tickets.issue(session.id(), who).inspect_err(|problem| app.metrics.count(problem))?;
    let expires = (Utc::now() + LIFE).to_rfc3339_opts(SecondsFormat::Secs, true);
    Ok(HttpResponse::Created().json(TicketAnswer { ticket: ticket.simple().to_string(), expires }))
}
