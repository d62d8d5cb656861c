//! The description of the HTTP interface (OpenAPI 3.1), generated from its calls.

use utoipa::openapi::security::{Http, HttpAuthScheme, SecurityScheme};
use utoipa::{Modify, OpenApi};

use crate::http::{
    audit, charters, console, events, invitations, journal, keys, life, participants, people,
    service, sessions, state, tickets, tokens,
};

#[derive(OpenApi)]
#[openapi(
    info(
        title = "Rendel",
        description = "Keeps shared session state consistent across participants. The WebSocket at /v1/sessions/{session}/connect is \
                       described in docs/protocol.md. Every problem is `application/problem+json` (RFC 9457)."
    ),
    servers((url = "/v1")),
    paths(
        charters::publish, charters::check, charters::list, charters::show, sessions::open, sessions::list,
        sessions::show, life::freeze, life::thaw, life::end, life::delete, life::reset, life::export, life::import, life::connections,
        tokens::issue, tokens::revoke, tickets::issue, keys::list, keys::add, keys::retire, invitations::make,
        invitations::list, invitations::withdraw, invitations::accept, people::list, people::amend, people::remove, people::cue, people::may,
        audit::of_session, audit::of_service, console::sign_in, console::signed_in, console::sign_out, state::show, state::change, state::diff, participants::propose, events::follow, journal::journal, journal::conflicts, participants::charter, service::charter_schema, service::openapi
    ),
    modifiers(&Bearer)
)]
struct Description;

struct Bearer;

impl Modify for Bearer {
    fn modify(&self, openapi: &mut utoipa::openapi::OpenApi) {
        let components = openapi.components.get_or_insert_default();
        components
            .add_security_scheme("bearer", SecurityScheme::Http(Http::new(HttpAuthScheme::Bearer)));
    }
}

/// The description as JSON.
pub fn openapi_json() -> String {
    Description::openapi().to_pretty_json().unwrap_or_default()
}
