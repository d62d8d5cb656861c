//! What every request passes: the budget of its address first, and what its answer holds last.

use std::sync::Arc;
use std::time::Instant;

use actix_web::body::{self, BodySize, BoxBody, MessageBody};
use actix_web::dev::{ServiceRequest, ServiceResponse};
use actix_web::http::Method;
use actix_web::http::header::{self, HeaderValue};
use actix_web::middleware::Next;
use actix_web::{Error, HttpRequest, ResponseError as _, web};
use rendel_core::ProblemKind;

use crate::addresses::address_of;
use crate::answers::{Held, Parts, SMALL};
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
    let is_backend = app.as_ref().is_some_and(|app| is_backend(request.request(), app));
    if let Some(app) = app.as_ref().filter(|_| !is_backend) {
        let address = address_of(request.request(), app.config.trust_forwarded);
        if let Err(problem) = app.budget.charge_address(&address, Cost::Call, &app.metrics) {
            let refused = Failure(problem).error_response();
            return Ok(request.into_response(refused));
        }
    }
    let began = Instant::now();
    let is_head = *request.method() == Method::HEAD;
    if is_head {
        request.head_mut().method = Method::GET;
    }
    let mut answered = next.call(request).await?;
    if let Some(app) = &app {
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
        app.metrics.called(&call, began.elapsed().as_secs_f64());
        // A session counts its refusals itself, and knows nothing of calls that never reached it.
        let error = answered.response().error().and_then(|error| error.as_error::<Failure>());
        if let Some(Failure(problem)) = error
            && problem.kind() == ProblemKind::Unavailable
        {
            app.metrics.refused(problem);
        }
    }
    keep_apart(&mut answered);
    Ok(match (is_head, app) {
        // Without a length, which would be that of no body.
        (true, _) => answered.map_body(|_, _| BoxBody::new(body::None::new())),
        (false, Some(app)) => counted(answered.map_into_boxed_body(), &app, is_backend),
        (false, None) => answered.map_into_boxed_body(),
    })
}

/// A large answer counts until its last part is taken. One that its call has not counted before it
/// was made is counted here.
fn counted(
    mut answered: ServiceResponse<BoxBody>,
    app: &App,
    is_backend: bool,
) -> ServiceResponse<BoxBody> {
    let BodySize::Sized(bytes) = answered.response().body().size() else { return answered };
    let held = answered.response_mut().extensions_mut().remove::<Held>();
    if bytes <= SMALL {
        return answered;
    }
    let held = held.map_or_else(
        || app.answers.hold_made(answered.request(), is_backend, bytes, &app.metrics),
        Ok,
    );
    let held = match held {
        Ok(held) => held,
        Err(problem) => return answered.into_response(Failure(problem).error_response()),
    };
    answered.map_body(|_, body| match body.try_into_bytes() {
        Ok(answer) => BoxBody::new(Parts::new(answer, held)),
        Err(body) => body,
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
