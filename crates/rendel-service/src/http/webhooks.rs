//! Webhooks: to whom announcements are sent, and what became of each.

use actix_web::{HttpRequest, HttpResponse, delete, get, post, web};
use chrono::Utc;
use rendel_core::{Problem, ProblemKind};
use rendel_store::{Delivery, DeliveryState, Note, WebhookRow};
use rendel_wire::decode_object;
use rendel_wire::http::{
    DeliveryInfo, DeliveryList, MakeWebhook, Resend, Resent, WebhookInfo, WebhookList,
};
use serde::Deserialize;
use serde_json::json;
use uuid::Uuid;

use super::keys::rfc3339;
use super::{Answer, SMALL_BODY, Shared, body};
use crate::announcing::check_address;
use crate::auth::backend;
use crate::failure::Failure;
use crate::signature::WebhookSecret;

/// Webhooks of one service, and types or charters of one.
const MOST: usize = 100;

fn info(row: WebhookRow) -> WebhookInfo {
    WebhookInfo {
        id: row.id.to_string(),
        url: row.url,
        types: row.types,
        charters: row.charters,
        ordered: row.ordered,
        made: rfc3339(row.made),
        secret: None,
    }
}

/// Makes a webhook, which is sent what is announced from now on. Its secret is told here and never again.
#[utoipa::path(tag = "service", request_body = MakeWebhook, responses((status = 201, body = WebhookInfo),
    (status = 422, description = "`out-of-bounds`: no such address, secret or name"), (status = 409, description = "`full`")), security(("bearer" = [])))]
#[post("/webhooks")]
pub(crate) async fn make(request: HttpRequest, payload: web::Payload, app: Shared) -> Answer {
    backend(&request, &app)?;
    let MakeWebhook { url, types, charters, ordered, secret } =
        decode_object(&body(payload, SMALL_BODY).await?)?;
    let wrong = |detail: String| Failure(Problem::new(ProblemKind::OutOfBounds, detail));
    check_address(&url, app.config.webhooks_to_private_addresses)
        .map_err(|expected| wrong(format!("\"url\" is not {expected}.")))?;
    let names = types.iter().chain(&charters);
    if types.len().max(charters.len()) > MOST
        || names.clone().any(|name| name.len() > 64 || name.is_empty())
    {
        let detail =
            "\"types\" and \"charters\" have at most 100 names of 1 to 64 characters each.";
        return Err(wrong(detail.to_owned()));
    }
    let secret = match secret {
        None => WebhookSecret::generate(),
        Some(given) => WebhookSecret::parse(&given).ok_or_else(|| {
            wrong("\"secret\" is whsec_ and 24 to 64 random bytes in base64.".to_owned())
        })?,
    };
    if app.store.webhooks().await?.len() >= MOST {
        let detail = format!("A service has at most {MOST} webhooks. Remove one.");
        return Err(Failure(Problem::new(ProblemKind::Full, detail).with("limit", "webhooks")));
    }
    let note = Note::of_service("made a webhook", json!({ "url": url }));
    let row = WebhookRow {
        id: Uuid::now_v7(),
        url,
        types,
        charters,
        secret: secret.reveal(),
        ordered: ordered.unwrap_or(true),
        after: 0,
        made: Utc::now(),
    };
    let row = app.store.add_webhook(row, note).await?;
    let secret = Some(row.secret.clone());
    Ok(HttpResponse::Created().json(WebhookInfo { secret, ..info(row) }))
}

/// Lists webhooks, without their secrets.
#[utoipa::path(tag = "service", responses((status = 200, body = WebhookList)), security(("bearer" = [])))]
#[get("/webhooks")]
pub(crate) async fn list(request: HttpRequest, app: Shared) -> Answer {
    backend(&request, &app)?;
    let webhooks = app.store.webhooks().await?.into_iter().map(info).collect();
    Ok(HttpResponse::Ok().json(WebhookList { webhooks }))
}

/// Removes a webhook with all that was still to be sent to it.
#[utoipa::path(tag = "service", params(("webhook" = String, Path)), responses((status = 204, description = "It is removed"),
    (status = 404, description = "`not-found`")), security(("bearer" = [])))]
#[delete("/webhooks/{webhook}")]
pub(crate) async fn remove(
    request: HttpRequest,
    webhook: web::Path<String>,
    app: Shared,
) -> Answer {
    backend(&request, &app)?;
    let id = id(&webhook)?;
    let note = Note::of_service("removed a webhook", json!({ "webhook": id }));
    match app.store.remove_webhook(id, note).await? {
        true => Ok(HttpResponse::NoContent().finish()),
        false => Err(none()),
    }
}

#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[serde(deny_unknown_fields)]
pub(crate) struct Which {
    /// Only those that stand like this: `waiting`, `delivered` or `dead`.
    status: Option<String>,
    /// Only those of announcements before this `cursor`.
    before: Option<i64>,
    /// At most so many, 1 to 1,000; 100 where it is left out.
    most: Option<i64>,
}

/// Lists the deliveries of a webhook, the newest first.
#[utoipa::path(tag = "service", params(Which, ("webhook" = String, Path)), responses((status = 200, body = DeliveryList),
    (status = 404, description = "`not-found`"), (status = 422, description = "`out-of-bounds`")), security(("bearer" = [])))]
#[get("/webhooks/{webhook}/deliveries")]
pub(crate) async fn deliveries(
    request: HttpRequest,
    webhook: web::Path<String>,
    which: web::Query<Which>,
    app: Shared,
) -> Answer {
    backend(&request, &app)?;
    let most = which.most.unwrap_or(100);
    let state = which.status.as_deref().map(DeliveryState::named);
    if !(1..=1_000).contains(&most) || state == Some(None) {
        let detail = "\"most\" goes from 1 to 1,000; \"status\" is waiting, delivered or dead.";
        return Err(Failure(Problem::new(ProblemKind::OutOfBounds, detail)));
    }
    let read = app.store.deliveries(id(&webhook)?, state.flatten(), which.before, most);
    let deliveries = read.await?.ok_or_else(none)?.into_iter().map(delivery).collect();
    Ok(HttpResponse::Ok().json(DeliveryList { deliveries }))
}

fn delivery(row: Delivery) -> DeliveryInfo {
    DeliveryInfo {
        cursor: row.announcement,
        id: row.id.to_string(),
        kind: row.kind,
        session: row.session,
        status: row.status,
        attempts: u32::try_from(row.attempts).unwrap_or(0),
        at: rfc3339(row.due),
        why: row.why,
    }
}

/// Sends again: the announcements with these ids, or all that are dead where there are none.
#[utoipa::path(tag = "service", request_body = Resend, params(("webhook" = String, Path)), responses((status = 200, body = Resent),
    (status = 404, description = "`not-found`")), security(("bearer" = [])))]
#[post("/webhooks/{webhook}/resend")]
pub(crate) async fn resend(
    request: HttpRequest,
    webhook: web::Path<String>,
    payload: web::Payload,
    app: Shared,
) -> Answer {
    backend(&request, &app)?;
    let Resend { ids } = decode_object(&body(payload, SMALL_BODY).await?)?;
    let parsed: Result<Vec<Uuid>, _> = ids.iter().map(|id| Uuid::parse_str(id)).collect();
    let ids = parsed.map_err(|_| {
        Problem::new(ProblemKind::OutOfBounds, "\"ids\" are the ids of announcements.")
    })?;
    let (webhook, note) = (id(&webhook)?, json!({ "webhook": *webhook, "ids": ids }));
    let note = Note::of_service("sent announcements again", note);
    let count = app.store.resend(webhook, ids, note).await?.ok_or_else(none)?;
    app.note_announced();
    Ok(HttpResponse::Ok().json(Resent { count: count as u64 }))
}

fn id(given: &str) -> Result<Uuid, Failure> {
    Uuid::parse_str(given).map_err(|_| none())
}

fn none() -> Failure {
    let detail = "There is no such webhook; GET /v1/webhooks lists them.";
    Failure(Problem::new(ProblemKind::NotFound, detail))
}
