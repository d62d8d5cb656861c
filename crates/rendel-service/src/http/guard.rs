//! What every request passes first: the budget of its address.

use std::sync::Arc;
use std::time::Instant;

use actix_web::body::{self, BoxBody, MessageBody};
use actix_web::dev::{ServiceRequest, ServiceResponse};
use actix_web::http::Method;
use actix_web::http::header::{self, HeaderValue};
use actix_web::middleware::Next;
use actix_web::{Error, HttpRequest, ResponseError as _, web};

use crate::addresses::address_of;
use crate::app::App;
use crate::auth::{COOKIE, bearer};
use crate::budget::Cost;
use crate::failure::Failure;
use crate::metrics::OfCall;

/// The methods that are counted by their names.
const KNOWN: [Method; 6] =
    [Method::GET, Method::POST, Method::PATCH, Method::DELETE, Method::PUT, Method::OPTIONS];

/// Charges the address that a request comes from, unless it is the backend's, and answers `HEAD` as
/// `GET` without a body.
pub(crate) async fn guard(
    mut request: ServiceRequest,
    next: Next<impl MessageBody + 'static>,
) -> Result<ServiceResponse<BoxBody>, Error> {
    let app = request.app_data::<web::Data<Arc<App>>>().cloned();
    if let Some(app) = app.filter(|app| !is_backend(request.request(), app)) {
        let address = address_of(request.request(), app.config.trust_forwarded);
        if let Err(problem) = app.budget.charge_address(&address, Cost::Call, &app.metrics) {
            let refused = Failure(problem).error_response();
            return Ok(request.into_response(refused));
        }
    }
    let began = Instant::now();
    let metrics = request.app_data::<web::Data<Arc<App>>>().map(|app| app.metrics.clone());
    let is_head = *request.method() == Method::HEAD;
    if is_head {
        request.head_mut().method = Method::GET;
    }
    let mut answered = next.call(request).await?;
    if let Some(metrics) = metrics {
        let of = answered.request();
        let call = OfCall {
            // A caller may make methods up, and each would be counted for ever.
            method: KNOWN
                .iter()
                .find(|known| *known == of.method())
                .map_or("other", Method::as_str),
            path: of.match_pattern().unwrap_or_else(|| "other".to_owned()),
            status: answered.status().as_u16(),
        };
        metrics.called(&call, began.elapsed().as_secs_f64());
    }
    keep_apart(&mut answered);
    Ok(match is_head {
        // Without a length, which would be that of no body.
        true => answered.map_body(|_, _| BoxBody::new(body::None::new())),
        false => answered.map_into_boxed_body(),
    })
}

/// An answer is for whoever asked, unless its call says otherwise.
fn keep_apart<B>(answered: &mut ServiceResponse<B>) {
    if !answered.request().path().starts_with("/v1/") {
        return;
    }
    let headers = answered.headers_mut();
    if !headers.contains_key(header::CACHE_CONTROL) {
        headers.insert(header::CACHE_CONTROL, HeaderValue::from_static("private, no-cache"));
    }
    headers.append(header::VARY, HeaderValue::from_static("Authorization, Cookie"));
}

fn is_backend(request: &HttpRequest, app: &App) -> bool {
    match bearer(request) {
        Ok(Some(token)) => app.keys.is_service(token),
        _ => {
            request.cookie(COOKIE).is_some_and(|cookie| app.sign_ins.find(cookie.value()).is_some())
        }
    }
}
