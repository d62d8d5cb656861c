//! Keys that sign participants' tokens, beside the service key.

use actix_web::{HttpRequest, HttpResponse, delete, get, post, web};
use chrono::{DateTime, SecondsFormat, Utc};
use rendel_core::{Problem, ProblemKind};
use rendel_store::{KeyRow, Note, StoreError};
use rendel_wire::decode_object;
use rendel_wire::http::{AddKey, KeyInfo, KeyList};
use serde_json::json;

use super::sessions::check_id;
use super::{Answer, SMALL_BODY, Shared, body};
use crate::auth::backend;
use crate::failure::Failure;
use crate::token::key_material;

pub(super) fn rfc3339(time: DateTime<Utc>) -> String {
    time.to_rfc3339_opts(SecondsFormat::Secs, true)
}

fn info(row: KeyRow) -> KeyInfo {
    let KeyRow { kid, algorithm, added, retired, .. } = row;
    KeyInfo { kid, algorithm, added: rfc3339(added), retired: retired.map(rfc3339) }
}

/// Lists the keys that the backend added, the retired ones too. Secrets are never told.
#[utoipa::path(tag = "tokens", responses((status = 200, body = KeyList)), security(("bearer" = [])))]
#[get("/keys")]
pub(crate) async fn list(request: HttpRequest, app: Shared) -> Answer {
    backend(&request, &app)?;
    let keys = app.store.keys().await?.into_iter().map(info).collect();
    Ok(HttpResponse::Ok().json(KeyList { keys }))
}

/// Adds a key: tokens that name it as `kid` in their header and are signed with it are good from
/// now on. Two or more may be good at one time, which is how one takes over from another.
#[utoipa::path(tag = "tokens", request_body = AddKey, responses((status = 201, body = KeyInfo), (status = 409, description = "`exists`"),
    (status = 422, description = "`wrong-type`: the key cannot be read")), security(("bearer" = [])))]
#[post("/keys")]
pub(crate) async fn add(request: HttpRequest, payload: web::Payload, app: Shared) -> Answer {
    backend(&request, &app)?;
    let AddKey { kid, algorithm, secret, public } =
        decode_object(&body(payload, SMALL_BODY).await?)?;
    check_id(&kid).map_err(|_| {
        Problem::new(
            ProblemKind::Malformed,
            "A key's id has 1 to 64 letters, digits, dashes and underscores.",
        )
    })?;
    let (name, given) = match algorithm.as_str() {
        "HS256" => ("HS256", secret),
        "EdDSA" => ("EdDSA", public),
        _ => {
            return Err(Failure(Problem::new(
                ProblemKind::WrongType,
                "The algorithm of a key is HS256 or EdDSA.",
            )));
        }
    };
    let lacking = || {
        let detail = "Give the \"secret\" of an HS256 key, or the \"public\" key of an EdDSA key.";
        Problem::new(ProblemKind::Malformed, detail)
    };
    let material = key_material(name, &given.ok_or_else(lacking)?)?;
    let note = Note::of_service("added a key", json!({ "kid": kid, "algorithm": name }));
    let added =
        app.store.add_key(kid.clone(), name, material, note).await.map_err(
            |error| match error {
                StoreError::Exists => {
                    let detail =
                        format!("There is a key {kid:?} already, or was. Choose another id.");
                    Failure(Problem::new(ProblemKind::Exists, detail))
                }
                other => other.into(),
            },
        )?;
    app.look_at_access().await?;
    Ok(HttpResponse::Created().json(info(added)))
}

/// Retires a key: tokens that it signed are not good any more, and whoever is connected by one is
/// disconnected within a second.
#[utoipa::path(tag = "tokens", params(("kid" = String, Path)), responses((status = 204, description = "It is retired"),
    (status = 404, description = "`not-found`")), security(("bearer" = [])))]
#[delete("/keys/{kid}")]
pub(crate) async fn retire(request: HttpRequest, kid: web::Path<String>, app: Shared) -> Answer {
    backend(&request, &app)?;
    let kid = kid.into_inner();
    let note = Note::of_service("retired a key", json!({ "kid": kid }));
    if !app.store.retire_key(kid.clone(), note).await? {
        return Err(Failure(Problem::new(
            ProblemKind::NotFound,
            format!("There is no key {kid:?} that is good."),
        )));
    }
    app.look_at_access().await?;
    Ok(HttpResponse::NoContent().finish())
}
