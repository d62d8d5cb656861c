//! Charters: publish, check, list, show.

use actix_web::{HttpRequest, HttpResponse, get, post, web};
use rendel_core::{Charter, Fault, Problem, ProblemKind, nearest};
use rendel_store::{CharterRow, Note, StoreError};
use rendel_wire::http::{CharterEntry, CharterList, CheckAnswer};
use serde::Deserialize;

use super::{Answer, BACKEND_BODY, Shared, text_body};
use crate::app::App;
use crate::auth::backend;
use crate::failure::Failure;

/// Publishes a charter. The same text again is answered with 200.
#[utoipa::path(tag = "charters", request_body(content = String, content_type = "application/toml"), responses(
    (status = 201, body = CharterEntry), (status = 200, body = CharterEntry, description = "The same text was there already"),
    (status = 409, description = "`exists`: this version has another text"), (status = 422, description = "`charter`, with `faults`"),
), security(("bearer" = [])))]
#[post("/charters")]
pub(crate) async fn publish(request: HttpRequest, payload: web::Payload, app: Shared) -> Answer {
    backend(&request, &app)?;
    let source = text_body(payload, BACKEND_BODY).await?;
    let charter = Charter::parse(&source).map_err(|faults| with_faults(&faults))?;
    let (is_new, entry) = keep(&app, &charter).await?;
    Ok(if is_new { HttpResponse::Created() } else { HttpResponse::Ok() }.json(entry))
}

/// Keeps a charter; gives whether it was not there already. `exists` where its version has another
/// text.
pub(super) async fn keep(app: &Shared, charter: &Charter) -> Result<(bool, CharterEntry), Failure> {
    let version = i32::try_from(charter.version)
        .map_err(|_| Problem::new(ProblemKind::OutOfBounds, "`version` is too large."))?;
    let (name, source) = (charter.name.clone(), charter.source.clone());
    let detail = serde_json::json!({ "charter": name, "version": version });
    let note = Note::of_service("published a charter", detail);
    let kept = app
        .store
        .publish_charter(name.clone(), version, charter.title.clone(), source.clone(), note)
        .await;
    let row = app.store.charter(name.clone(), Some(version)).await?;
    let entry = row.as_ref().map(entry).ok_or_else(crate::failure::unavailable)?;
    match kept {
        Ok(()) => Ok((true, entry)),
        Err(StoreError::Exists) if row.is_some_and(|row| row.source == source) => {
            Ok((false, entry))
        }
        Err(StoreError::Exists) => {
            let next = version.saturating_add(1);
            let detail = format!(
                "Version {version} of {name:?} is published with another text. Sessions rely on \
                 it: publish this one as version {next}."
            );
            Err(Failure(Problem::new(ProblemKind::Exists, detail)))
        }
        Err(error) => Err(error.into()),
    }
}

/// Checks a charter and keeps nothing.
#[utoipa::path(tag = "charters", request_body(content = String, content_type = "application/toml"), responses(
    (status = 200, body = CheckAnswer)), security(("bearer" = [])))]
#[post("/charters/check")]
pub(crate) async fn check(request: HttpRequest, payload: web::Payload, app: Shared) -> Answer {
    backend(&request, &app)?;
    let source = text_body(payload, BACKEND_BODY).await?;
    let faults = Charter::parse(&source).err().unwrap_or_default();
    Ok(HttpResponse::Ok().json(CheckAnswer { faults }))
}

/// Lists the newest version of each charter.
#[utoipa::path(tag = "charters", responses((status = 200, body = CharterList)), security(("bearer" = [])))]
#[get("/charters")]
pub(crate) async fn list(request: HttpRequest, app: Shared) -> Answer {
    backend(&request, &app)?;
    let charters = app.store.charters().await?.iter().map(entry).collect();
    Ok(HttpResponse::Ok().json(CharterList { charters }))
}

#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[serde(deny_unknown_fields)]
pub(crate) struct Which {
    /// Which version; the newest where it is left out.
    version: Option<i32>,
}

/// One charter, as the TOML that was published, or as JSON where `Accept` asks for it.
#[utoipa::path(tag = "charters", params(Which, ("name" = String, Path)), responses(
    (status = 200, body = String, content_type = "application/toml"), (status = 404, description = "`not-found`")), security(("bearer" = [])))]
#[get("/charters/{name}")]
pub(crate) async fn show(
    request: HttpRequest,
    name: web::Path<String>,
    which: web::Query<Which>,
    app: Shared,
) -> Answer {
    backend(&request, &app)?;
    let name = name.into_inner();
    let row = app.store.charter(name.clone(), which.version).await?;
    let Some(row) = row else { return Err(no_charter(&app, &name, which.version).await) };
    let accepts = request
        .headers()
        .get("Accept")
        .and_then(|accepts| accepts.to_str().ok())
        .unwrap_or_default();
    if accepts.contains("application/json") {
        let charter = Charter::parse(&row.source).map_err(|faults| with_faults(&faults))?;
        return Ok(HttpResponse::Ok().json(charter.to_json()));
    }
    Ok(HttpResponse::Ok().content_type("application/toml").body(row.source))
}

fn entry(row: &CharterRow) -> CharterEntry {
    CharterEntry {
        charter: row.name.clone(),
        version: u32::try_from(row.version).unwrap_or(0),
        title: row.title.clone(),
        published: Some(row.published.to_rfc3339_opts(chrono::SecondsFormat::Secs, true)),
    }
}

fn with_faults(faults: &[Fault]) -> Problem {
    let count = faults.len();
    let plural = if count == 1 { "fault" } else { "faults" };
    let first = faults.first().map(ToString::to_string).unwrap_or_default();
    Problem::new(
        ProblemKind::Charter,
        format!("The charter has {count} {plural}. The first: {first}"),
    )
    .with("faults", serde_json::to_value(faults).unwrap_or_default())
}

/// The refusal of a charter that is not there, with what might have been meant.
pub(super) async fn no_charter(app: &App, name: &str, version: Option<i32>) -> Failure {
    let known = match app.store.charters().await {
        Ok(known) => known,
        Err(error) => return error.into(),
    };
    let newest = known.iter().find(|row| row.name == name).map(|row| row.version);
    let detail = match (newest, version) {
        (Some(newest), Some(version)) => format!(
            "The charter {name:?} has no version {version}; the newest is {newest}. Publish it first."
        ),
        _ => format!("There is no charter {name:?}. Publish it first."),
    };
    let meant = nearest(name, known.iter().map(|row| row.name.as_str()));
    Failure(
        Problem::new(ProblemKind::NotFound, detail)
            .did_you_mean(meant.filter(|_| newest.is_none())),
    )
}
