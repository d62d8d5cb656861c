//! The service itself: health, metrics, what describes it.

use std::time::Duration;

use actix_web::{HttpResponse, get, web};

use super::{Answer, Shared};

/// How long a commit may take before the service is not ready.
const PROBE_WITHIN: Duration = Duration::from_millis(1_500);

/// Whether the process is alive.
#[utoipa::path(tag = "service", responses((status = 200, body = String)))]
#[get("/healthz")]
pub(crate) async fn health() -> HttpResponse {
    HttpResponse::Ok().content_type("text/plain; charset=utf-8").body("alive\n")
}

/// Whether the service can settle proposals: the journal's writer gets a commit through within a
/// second and a half, and no stop is under way.
#[utoipa::path(tag = "service", responses((status = 200, body = String), (status = 503, description = "`unavailable`, `shutting-down`")))]
#[get("/readyz")]
pub(crate) async fn ready(app: Shared) -> Answer {
    if app.is_draining() || app.is_stopping() {
        return Err(crate::failure::shutting_down().into());
    }
    if let Err(error) = app.writer.probe(PROBE_WITHIN).await {
        tracing::warn!(%error, "not ready");
        return Err(crate::failure::unavailable().into());
    }
    Ok(HttpResponse::Ok().content_type("text/plain; charset=utf-8").body("ready\n"))
}

/// What the service counts, in OpenMetrics.
#[utoipa::path(tag = "service", responses((status = 200, body = String, content_type = "application/openmetrics-text")))]
#[get("/metrics")]
pub(crate) async fn metrics(app: Shared) -> HttpResponse {
    HttpResponse::Ok()
        .content_type("application/openmetrics-text; version=1.0.0; charset=utf-8")
        .body(app.metrics.text())
}

/// The JSON Schema of the charter language.
#[utoipa::path(tag = "charters", responses((status = 200, body = Object, content_type = "application/schema+json")))]
#[get("/charter-schema.json")]
pub(crate) async fn charter_schema() -> HttpResponse {
    HttpResponse::Ok().content_type("application/schema+json").body(rendel_core::charter_schema())
}

/// This description.
#[utoipa::path(tag = "service", responses((status = 200, body = Object)))]
#[get("/openapi.json")]
pub(crate) async fn openapi(described: web::Data<Described>) -> HttpResponse {
    HttpResponse::Ok().content_type("application/json").body(described.json.clone())
}

/// The description of the interface, which knows all of its calls.
#[derive(Debug)]
pub(crate) struct Described {
    /// As JSON.
    pub(crate) json: String,
    /// The methods that a path takes.
    pub(crate) methods: fn(&str) -> Vec<&'static str>,
}
