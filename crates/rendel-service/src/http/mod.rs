//! The calls of the HTTP interface.

pub(crate) mod announcements;
pub(crate) mod audit;
pub(crate) mod charters;
pub(crate) mod console;
pub(crate) mod events;
pub(crate) mod guard;
pub(crate) mod history;
pub(crate) mod invitations;
pub(crate) mod journal;
pub(crate) mod keys;
pub(crate) mod life;
pub(crate) mod lines;
mod once;
pub(crate) mod participants;
pub(crate) mod people;
pub(crate) mod queries;
pub(crate) mod seats;
pub(crate) mod service;
pub(crate) mod sessions;
pub(crate) mod state;
mod tags;
pub(crate) mod tickets;
pub(crate) mod tokens;
pub(crate) mod webhooks;

use std::sync::Arc;
use std::time::Duration;

use actix_web::http::header;
use actix_web::http::header::HeaderValue;
use actix_web::web::{self, Bytes, ServiceConfig};
use actix_web::{HttpRequest, HttpResponse, ResponseError as _};
use rendel_core::{Problem, ProblemKind};

pub(crate) use service::Described;
pub(crate) use tags::Tags;

use crate::app::App;
use crate::failure::Failure;
use crate::session::Answered;

/// What a call gives.
pub(crate) type Answer = Result<HttpResponse, Failure>;
/// What all calls share.
pub(crate) type Shared = web::Data<Arc<App>>;

/// Bodies of the backend's calls have at most this many bytes.
const BACKEND_BODY: usize = 16 << 20;

/// Those of calls that say little.
const SMALL_BODY: usize = 64 << 10;

/// All routes of the service.
pub(crate) fn routes(config: &mut ServiceConfig) {
    config
        .service(
            web::scope("/v1")
                .service(charters::publish)
                .service(charters::check)
                .service(charters::list)
                .service(charters::show)
                .service(service::charter_schema)
                .service(service::openapi)
                .service(sessions::open)
                .service(sessions::list)
                .service(sessions::show)
                .service(sessions::ensure)
                .service(seats::find)
                .service(tokens::issue)
                .service(life::import)
                .service(life::freeze)
                .service(life::thaw)
                .service(life::end)
                .service(life::delete)
                .service(life::reset)
                .service(life::export)
                .service(life::connections)
                .service(state::show)
                .service(state::change)
                .service(state::diff)
                .service(participants::propose)
                .service(journal::journal)
                .service(journal::conflicts)
                .service(events::follow)
                .service(tickets::issue)
                .service(tokens::revoke)
                .service(keys::list)
                .service(keys::add)
                .service(keys::retire)
                .service(invitations::make)
                .service(invitations::list)
                .service(invitations::withdraw)
                .service(invitations::accept)
                .service(people::list)
                .service(people::amend)
                .service(people::record)
                .service(people::forget)
                .service(people::remove)
                .service(people::removals)
                .service(people::lift)
                .service(people::cue)
                .service(people::may)
                .service(audit::of_session)
                .service(audit::of_service)
                .service(announcements::list)
                .service(webhooks::make)
                .service(webhooks::list)
                .service(webhooks::remove)
                .service(webhooks::deliveries)
                .service(webhooks::resend)
                .service(console::sign_in)
                .service(console::signed_in)
                .service(console::sign_out)
                .service(queries::rows)
                .service(queries::ask)
                .service(history::undoable)
                .service(history::why)
                .service(history::revert)
                .service(participants::charter)
                .service(lines::open)
                .service(lines::say)
                .route("/sessions/{session}/connect", web::get().to(crate::connection::connect))
                .default_service(web::to(nothing_here)),
        )
        .app_data(web::QueryConfig::default().error_handler(|error, request| {
            let not_understood = || {
                Problem::new(
                    ProblemKind::Malformed,
                    format!("The query of the URL is not understood: {error}."),
                )
            };
            Failure(crate::auth::bearer(request).err().unwrap_or_else(not_understood)).into()
        }))
        .app_data(web::PathConfig::default().error_handler(|error, _| {
            Failure(Problem::new(
                ProblemKind::Malformed,
                format!("The path of the URL is not understood: {error}."),
            ))
            .into()
        }));
}

/// What whoever runs the service looks at.
pub(crate) fn probe_routes(config: &mut ServiceConfig) {
    config.service(service::health).service(service::ready).service(service::metrics);
}

/// What no call matches: a call with another method is told which it takes.
async fn nothing_here(request: HttpRequest) -> HttpResponse {
    let described = request.app_data::<web::Data<Described>>();
    let methods = described.map(|known| (known.methods)(request.path())).unwrap_or_default();
    if !methods.is_empty() {
        let allow = methods.join(", ");
        let detail = format!("{} takes {allow}.", request.path());
        let mut response = Failure(Problem::new(ProblemKind::WrongMethod, detail)).error_response();
        if let Ok(allow) = HeaderValue::from_str(&allow) {
            response.headers_mut().insert(header::ALLOW, allow);
        }
        return response;
    }
    let detail = format!(
        "{} {} is no call of this service; /v1/openapi.json lists them.",
        request.method(),
        request.path()
    );
    Failure(Problem::new(ProblemKind::NotFound, detail)).error_response()
}

/// The answer to a call that changes the state.
fn settled(answered: Answered) -> HttpResponse {
    let tag = (header::ETAG, format!("\"{}\"", answered.seq));
    match answered.json {
        Some(json) => HttpResponse::Ok()
            .insert_header(tag)
            .content_type("application/json")
            .body(json.into_bytes()),
        None => HttpResponse::NoContent().insert_header(tag).finish(),
    }
}

/// How long a body may take; a large one longer, by a second a mebibyte.
const BODY_WITHIN: Duration = Duration::from_secs(30);

/// The body of a request: `too-large` beyond `limit` bytes, `silent` if it takes too long.
async fn body(payload: web::Payload, limit: usize) -> Result<Bytes, Problem> {
    let more = u64::try_from(limit >> 20).unwrap_or(u64::MAX);
    let within = BODY_WITHIN + Duration::from_secs(more);
    let too_slow = || {
        let detail = format!("The body has {} s to come. Send it faster.", within.as_secs());
        Problem::new(ProblemKind::Silent, detail)
    };
    let too_large = || {
        Problem::new(ProblemKind::TooLarge, format!("The body has at most {limit} bytes."))
            .with("limit", "body")
    };
    let read = tokio::time::timeout(within, payload.to_bytes_limited(limit));
    let read = read.await.map_err(|_| too_slow())?.map_err(|_| too_large())?;
    read.map_err(|error| {
        Problem::new(ProblemKind::Malformed, format!("The body broke off: {error}."))
    })
}

/// The body of a request as text.
pub(crate) async fn text_body(payload: web::Payload, limit: usize) -> Result<String, Problem> {
    let bytes = body(payload, limit).await?;
    String::from_utf8(bytes.to_vec())
        .map_err(|_| Problem::new(ProblemKind::Malformed, "The body is not UTF-8."))
}
