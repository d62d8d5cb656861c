//! Signing in to the console: a cookie that pages cannot read, and a secret that other origins
//! cannot.

use actix_web::cookie::{Cookie, SameSite, time::Duration};
use actix_web::{HttpRequest, HttpResponse, get, post, web};
use rendel_core::{Problem, ProblemKind};
use rendel_store::Note;
use rendel_wire::decode_object;
use rendel_wire::http::{SignIn, SignedIn};
use serde_json::json;

use super::{Answer, SMALL_BODY, Shared, body};
use crate::addresses::address_of;
use crate::auth::{COOKIE, backend};
use crate::budget::Cost;
use crate::failure::Failure;

fn cookie(request: &HttpRequest, value: &str) -> Cookie<'static> {
    let is_secure = request.connection_info().scheme() == "https";
    let cookie = Cookie::build(COOKIE, value.to_owned())
        .path("/v1")
        .http_only(true)
        .same_site(SameSite::Strict);
    cookie.secure(is_secure).finish()
}

/// Signs a browser in to the console with the service key. The cookie ends with the browser's
/// session, and here after half an hour without use.
#[utoipa::path(tag = "service", request_body = SignIn, responses((status = 200, body = SignedIn), (status = 401, description = "`bad-token`")))]
#[post("/console/sign-in")]
pub(crate) async fn sign_in(request: HttpRequest, payload: web::Payload, app: Shared) -> Answer {
    let address = address_of(&request, app.config.trust_forwarded);
    // Before the key is looked at: a wrong one must not be told from a right one beyond that.
    app.budget.charge_address(&address, Cost::Try, &app.metrics)?;
    let SignIn { key } = decode_object(&body(payload, SMALL_BODY).await?)?;
    if !app.keys.is_service(key.trim()) {
        let detail = json!({ "address": address });
        app.store.note(Note::of_service("failed to sign in to the console", detail)).await?;
        return Err(Failure(Problem::new(ProblemKind::BadToken, "This is not the service key.")));
    }
    let (id, secret) = app.sign_ins.take()?;
    app.store
        .note(Note::of_service("signed in to the console", json!({ "address": address })))
        .await?;
    Ok(HttpResponse::Ok()
        .cookie(cookie(&request, &id))
        .json(SignedIn { signed_in: true, secret: Some(secret) }))
}

/// Whether this browser is signed in to the console.
#[utoipa::path(tag = "service", responses((status = 200, body = SignedIn)))]
#[get("/console")]
pub(crate) async fn signed_in(request: HttpRequest, app: Shared) -> HttpResponse {
    let known = request.cookie(COOKIE).and_then(|cookie| app.sign_ins.find(cookie.value()));
    let signed_in =
        SignedIn { signed_in: known.is_some(), secret: known.map(|known| known.secret) };
    HttpResponse::Ok().insert_header(("Cache-Control", "no-store")).json(signed_in)
}

/// Signs this browser out.
#[utoipa::path(tag = "service", responses((status = 204, description = "It is signed out")))]
#[post("/console/sign-out")]
pub(crate) async fn sign_out(request: HttpRequest, app: Shared) -> Answer {
    backend(&request, &app)?;
    if let Some(cookie) = request.cookie(COOKIE) {
        app.sign_ins.give_up(cookie.value());
    }
    let mut gone = cookie(&request, "");
    gone.set_max_age(Duration::ZERO);
    Ok(HttpResponse::NoContent().cookie(gone).finish())
}
