//! The description of the HTTP interface (OpenAPI 3.1), generated from its calls.

use std::sync::LazyLock;
use utoipa::openapi::security::{Http, HttpAuthScheme, SecurityScheme};

use utoipa::openapi::path::PathItem;
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
        invitations::list, invitations::withdraw, invitations::accept, people::list, people::amend, people::remove, people::removals, people::lift, people::cue, people::may,
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
        assert_eq!(methods_of("/v1/sessions/gate"), ["GET", "HEAD", "DELETE"]);
        assert!(methods_of("/v1/nothing").is_empty());
    }
}
