//! The description of the HTTP interface (OpenAPI 3.1), generated from its calls.

use std::sync::LazyLock;

use utoipa::openapi::path::{Operation, PathItem};
use utoipa::openapi::security::{
    ApiKey, ApiKeyValue, Http, HttpAuthScheme, SecurityRequirement, SecurityScheme,
};
use utoipa::openapi::{Content, Ref, RefOr, Response};
use utoipa::{Modify, OpenApi};

use crate::auth::COOKIE;
use crate::http::{
    announcements, audit, charters, console, events, history, invitations, journal, keys, life,
    lines, participants, people, seats, service, sessions, state, tickets, tokens, webhooks,
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
        sessions::show, sessions::ensure, seats::find, life::freeze, life::thaw, life::end, life::delete, life::reset, life::export, life::import, life::connections,
        tokens::issue, tokens::revoke, tickets::issue, keys::list, keys::add, keys::retire, invitations::make,
        invitations::list, invitations::withdraw, invitations::accept, people::list, people::amend, people::record, people::forget, people::remove, people::removals, people::lift, people::cue, people::may,
        announcements::list, webhooks::make, webhooks::list, webhooks::remove, webhooks::deliveries, webhooks::resend,
        audit::of_session, audit::of_service, console::sign_in, console::signed_in, console::sign_out, state::show, state::change, state::diff, participants::propose, history::undoable, history::why, history::revert, events::follow, journal::journal, journal::conflicts, participants::charter, lines::open, lines::say, service::charter_schema, service::openapi
    ),
    components(schemas(rendel_wire::described::Problem)),
    modifiers(&Common)
)]
struct Description;

/// Adds what many calls share: who may call, and how they fail.
struct Common;

/// What a call without a token, without a body, and any call may be refused with.
const REFUSALS: [(&str, &str); 10] = [
    ("400", "`malformed`, `too-deep`, `unknown-op`"),
    ("401", "`no-token`, `bad-token`, `expired-token`"),
    ("403", "`not-allowed`, `removed`"),
    ("404", "`no-session`, `not-found`, `unknown-path`"),
    ("408", "`silent`: the body did not come in time"),
    ("409", "`frozen`, `exists` and others: the state stands against it"),
    ("410", "`ended`, `gone`, `too-old`"),
    ("413", "`too-large`"),
    ("422", "`out-of-bounds`, `wrong-type`, `guard`, `gate`, `key-reused`"),
    ("503", "`unavailable`, `shutting-down`, `crowded`, with `Retry-After`"),
];

impl Modify for Common {
    fn modify(&self, openapi: &mut utoipa::openapi::OpenApi) {
        let components = openapi.components.get_or_insert_default();
        components
            .add_security_scheme("bearer", SecurityScheme::Http(Http::new(HttpAuthScheme::Bearer)));
        let cookie = ApiKey::Cookie(ApiKeyValue::with_description(
            COOKIE,
            "A sign-in to the console; calls that change something say its secret as \
             X-Rendel-Console.",
        ));
        components.add_security_scheme("console", SecurityScheme::ApiKey(cookie));
        for item in openapi.paths.paths.values_mut() {
            let PathItem { get, put, post, patch, delete, .. } = item;
            for call in [get, put, post, patch, delete].into_iter().flatten() {
                complete(call);
            }
        }
    }
}

fn complete(call: &mut Operation) {
    let has_token = call.security.is_some();
    let has_body = call.request_body.is_some();
    if let Some(security) = &mut call.security {
        security.push(SecurityRequirement::new::<_, _, String>("console", []));
    }
    let responses = &mut call.responses.responses;
    for (status, description) in REFUSALS {
        let is_possible = match status {
            "401" | "403" | "404" | "409" | "410" | "422" => has_token || has_body,
            "408" | "413" => has_body,
            _ => true,
        };
        if is_possible {
            let response = Response::new(description);
            responses.entry(status.to_owned()).or_insert_with(|| response.into());
        }
    }
    let too_fast = Response::new("`too-fast`, with `Retry-After`");
    responses.entry("429".to_owned()).or_insert_with(|| too_fast.into());
    let refusals = responses.iter_mut().filter(|(status, _)| status.as_str() >= "400");
    for (_, response) in refusals {
        if let RefOr::T(response) = response {
            let problem = Content::new(Some(Ref::from_schema_name("Problem")));
            response.content.insert("application/problem+json".to_owned(), RefOr::T(problem));
        }
    }
}

/// The description as JSON.
pub fn openapi_json() -> String {
    Description::openapi().to_pretty_json().unwrap_or_default()
}

/// The methods that the calls of a path take; none if there is no such path. It may be a template's.
pub(crate) fn methods_of(path: &str) -> Vec<&'static str> {
    static ALL: LazyLock<Vec<(String, Vec<&'static str>)>> = LazyLock::new(|| {
        let paths = Description::openapi().paths.paths.into_iter();
        paths.map(|(path, item)| (format!("/v1{path}"), methods(&item))).collect()
    });
    let fits = |template: &str| {
        let (known, given) = (template.split('/'), path.split('/'));
        let is_alike = |(known, given): (&str, &str)| known.starts_with('{') || known == given;
        known.clone().count() == given.clone().count() && known.zip(given).all(is_alike)
    };
    let found = ALL.iter().filter(|(template, _)| fits(template));
    // One that is named beats one with a place for any name.
    let named = found.min_by_key(|(template, _)| template.matches('{').count());
    named.map(|(_, methods)| methods.clone()).unwrap_or_default()
}

fn methods(item: &PathItem) -> Vec<&'static str> {
    let all = [
        ("GET", item.get.is_some()),
        ("HEAD", item.get.is_some()),
        ("POST", item.post.is_some()),
        ("PUT", item.put.is_some()),
        ("PATCH", item.patch.is_some()),
        ("DELETE", item.delete.is_some()),
    ];
    all.into_iter().filter(|(_, takes)| *takes).map(|(name, _)| name).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_path_takes_the_methods_of_its_calls() {
        assert_eq!(methods_of("/v1/sessions/gate/state"), ["GET", "HEAD", "PATCH"]);
        assert_eq!(methods_of("/v1/sessions/import"), ["POST"]);
        assert_eq!(methods_of("/v1/sessions/gate"), ["GET", "HEAD", "PUT", "DELETE"]);
        assert!(methods_of("/v1/nothing").is_empty());
    }
}
