//! Who calls.

use std::collections::BTreeMap;

use actix_web::http::{Method, header};
use actix_web::{HttpRequest, web};
use rendel_core::{Actor, Charter, Power, Problem, ProblemKind};

use crate::app::App;
use crate::identity::Identity;
use crate::token::KeyRing;

/// The cookie of who is signed in to the console.
pub(crate) const COOKIE: &str = "rendel_console";
/// The header in which a page of the console says its secret.
pub(crate) const SECRET_HEADER: &str = "X-Rendel-Console";

impl Identity {
    /// The identity that a token, or the service key, gives in `session`.
    pub(crate) fn of(token: &str, session: &str, app: &App) -> Result<Self, Problem> {
        if app.keys.is_service(token) {
            return Ok(Self::service());
        }
        let who = Self::of_token(token, session, &app.keys)?;
        who.check(session, app)?;
        Ok(who)
    }

    /// Whether the token is good still: neither revoked, nor signed by a key that was retired.
    pub(crate) fn check(&self, session: &str, app: &App) -> Result<(), Problem> {
        app.keys.check(self.kid.as_deref())?;
        app.revoked.check(session, self)
    }

    fn of_token(token: &str, session: &str, keys: &KeyRing) -> Result<Self, Problem> {
        let (claims, kid) = keys.verify(token)?;
        if claims.session != session {
            let detail =
                format!("The token is for the session {:?}, not for {session:?}.", claims.session);
            return Err(Problem::new(ProblemKind::BadToken, detail));
        }
        if claims.sub == Actor::SERVICE || claims.role == Actor::SERVICE {
            return Err(Problem::new(
                ProblemKind::BadToken,
                "\"service\" is the backend itself: use the service key.",
            ));
        }
        Ok(Self::of_claims(claims, kid))
    }
}

/// The bearer token of a request, if it has one.
pub(crate) fn bearer(request: &HttpRequest) -> Result<Option<&str>, Problem> {
    if request
        .query_string()
        .split('&')
        .any(|pair| pair.starts_with("token=") || pair.starts_with("key="))
    {
        let detail = "A token never goes into a URL, where logs would keep it. Send \
            \"Authorization: Bearer …\".";
        return Err(Problem::new(ProblemKind::BadToken, detail));
    }
    let Some(value) = request.headers().get(header::AUTHORIZATION) else { return Ok(None) };
    let token = value.to_str().ok().and_then(|value| value.split_once(' '));
    // The name of a scheme is read in any case (RFC 9110).
    let token = token.filter(|(scheme, _)| scheme.eq_ignore_ascii_case("bearer"));
    let token = token.map(|(_, token)| token.trim());
    token.map(Some).ok_or_else(|| {
        Problem::new(ProblemKind::BadToken, "Authorization must read \"Bearer TOKEN\".")
    })
}

/// Whether the call comes from a page of the console at which somebody is signed in. What changes
/// something must say the page's secret too, which a page of another origin cannot know.
fn is_signed_in(request: &HttpRequest, app: &App) -> Result<bool, Problem> {
    let Some(cookie) = request.cookie(COOKIE) else { return Ok(false) };
    let Some(known) = app.sign_ins.find(cookie.value()) else { return Ok(false) };
    if matches!(*request.method(), Method::GET | Method::HEAD) {
        return Ok(true);
    }
    let said = request
        .headers()
        .get(SECRET_HEADER)
        .and_then(|said| said.to_str().ok())
        .unwrap_or_default();
    if said == known.secret {
        return Ok(true);
    }
    let detail = format!(
        "A call of the console that changes something says its secret in {SECRET_HEADER:?}."
    );
    Err(Problem::new(ProblemKind::NotAllowed, detail))
}

enum Caller<'r> {
    Bearer(&'r str),
    Console,
}

fn caller<'r>(request: &'r HttpRequest, app: &App) -> Result<Caller<'r>, Problem> {
    match bearer(request)? {
        Some(token) => Ok(Caller::Bearer(token)),
        None if is_signed_in(request, app)? => Ok(Caller::Console),
        None => Err(Problem::new(ProblemKind::NoToken, "Send \"Authorization: Bearer TOKEN\".")),
    }
}

/// Lets only the backend pass.
pub(crate) fn backend(request: &HttpRequest, app: &App) -> Result<(), Problem> {
    let given = match caller(request, app)? {
        Caller::Console => return Ok(()),
        Caller::Bearer(given) => given,
    };
    if app.keys.is_service(given) {
        return Ok(());
    }
    match app.keys.verify(given) {
        Ok(_) => Err(Problem::new(
            ProblemKind::NotAllowed,
            "This call is the backend's: it needs the service key.",
        )),
        Err(_) => Err(Problem::new(ProblemKind::BadToken, "This is not the service key.")),
    }
}

/// The participant, or the backend itself, in `session`. The backend may speak `?as=ROLE`.
pub(crate) fn participant(
    request: &HttpRequest,
    app: &App,
    session: &str,
) -> Result<Identity, Problem> {
    let mut identity = match caller(request, app)? {
        Caller::Console => Identity::service(),
        Caller::Bearer(token) => Identity::of(token, session, app)?,
    };
    if identity.role == Actor::SERVICE {
        let asked = web::Query::<BTreeMap<String, String>>::from_query(request.query_string());
        let mut asked = asked.map(web::Query::into_inner).unwrap_or_default();
        if let Some(role) = asked.remove("as") {
            identity.role = role;
            identity.seen_as = asked.remove("sub");
        }
    }
    Ok(identity)
}

/// Refuses who has not the power: the backend has all.
pub(crate) fn check_power(
    charter: &rendel_core::Charter,
    who: &Identity,
    power: Power,
) -> Result<(), Problem> {
    if charter.has_power(&who.role, power) {
        return Ok(());
    }
    let detail = format!(
        "The role {:?} has not the power {:?}. The charter's [roles.{}] says which it has.",
        who.role,
        power.name(),
        who.role
    );
    Err(Problem::new(ProblemKind::NotAllowed, detail))
}

/// Refuses a role that the charter does not have.
pub(crate) fn check_role(charter: &Charter, who: &Identity) -> Result<(), Problem> {
    if charter.has_role(&who.role) {
        return Ok(());
    }
    let names: Vec<_> = charter.role_names().collect();
    let detail = format!("The charter has no role {:?}; it has {}.", who.role, names.join(", "));
    Err(Problem::new(ProblemKind::BadToken, detail).did_you_mean(charter.nearest_role(&who.role)))
}
