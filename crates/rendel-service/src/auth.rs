//! Who calls.

use actix_web::HttpRequest;
use actix_web::http::{Method, header};
use rendel_core::{Actor, Power, Problem, ProblemKind};
use serde_json::Value;
use std::collections::BTreeMap;
use uuid::Uuid;

use crate::app::{App, now_ms};
use crate::token::{Claims, KeyRing};

/// The cookie of who is signed in to the console.
pub(crate) const COOKIE: &str = "rendel_console";
/// The header in which a page of the console says its secret.
pub(crate) const SECRET_HEADER: &str = "X-Rendel-Console";

/// Who calls, as their key or token says.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Identity {
    pub(crate) id: String,
    pub(crate) name: String,
    pub(crate) role: String,
    /// When the token ends, in milliseconds since 1970 UTC; never for the backend.
    pub(crate) until: Option<u64>,
    /// The token's own id.
    pub(crate) jti: Option<String>,
    /// When the token was issued, in seconds since 1970 UTC; 0 where it does not say.
    pub(crate) issued: f64,
    /// What the token says beside that.
    pub(crate) claims: BTreeMap<String, Value>,
}

impl Identity {
    /// The backend itself.
    pub(crate) fn service() -> Self {
        let service = Actor::SERVICE.to_owned();
        Self {
            id: service.clone(),
            name: service.clone(),
            role: service,
            until: None,
            jti: None,
            issued: 0.0,
            claims: BTreeMap::new(),
        }
    }

    pub(crate) fn of_claims(claims: Claims) -> Self {
        Self {
            name: claims.name.unwrap_or_else(|| claims.sub.clone()),
            id: claims.sub,
            role: claims.role,
            until: Some(claims.exp.saturating_mul(1000)),
            jti: claims.jti,
            issued: claims.iat.unwrap_or(0.0),
            claims: claims.claims,
        }
    }

    /// Who acts, over a connection or by a call.
    pub(crate) fn actor(&self, client: Uuid) -> Actor {
        Actor::new(self.id.clone(), self.role.clone(), client).with_claims(self.claims.clone())
    }

    /// The identity that a token, or the service key, gives in `session`.
    pub(crate) fn of(token: &str, session: &str, app: &App) -> Result<Self, Problem> {
        if app.keys.is_service(token) {
            return Ok(Self::service());
        }
        let who = Self::of_token(token, session, &app.keys)?;
        app.revoked.check(session, &who)?;
        Ok(who)
    }

    fn of_token(token: &str, session: &str, keys: &KeyRing) -> Result<Self, Problem> {
        let claims = keys.verify(token)?;
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
        Ok(Self::of_claims(claims))
    }

    /// When the token ends.
    pub(crate) fn ends_at(&self) -> Option<tokio::time::Instant> {
        let wait = std::time::Duration::from_millis(self.until?.saturating_sub(now_ms()));
        // Beyond that a clock cannot count, and no token lives so long.
        tokio::time::Instant::now()
            .checked_add(wait.min(std::time::Duration::from_secs(u64::from(u32::MAX))))
    }

    /// Whether the token has ended.
    pub(crate) fn has_ended(&self) -> bool {
        self.until.is_some_and(|until| until <= now_ms())
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
    let token = value.to_str().ok().and_then(|value| value.strip_prefix("Bearer ")).map(str::trim);
    token.map(Some).ok_or_else(|| {
        Problem::new(ProblemKind::BadToken, "Authorization must read \"Bearer TOKEN\".")
    })
}

/// Whether the call comes from a page of the console at which somebody is signed in. What changes
/// something must say the page's secret too, which a page of another origin cannot know.
fn is_signed_in(request: &HttpRequest, app: &App) -> Result<bool, Problem> {
    let Some(cookie) = request.cookie(COOKIE) else { return Ok(false) };
    let Some(seat) = app.seats.find(cookie.value()) else { return Ok(false) };
    if matches!(*request.method(), Method::GET | Method::HEAD) {
        return Ok(true);
    }
    let said = request
        .headers()
        .get(SECRET_HEADER)
        .and_then(|said| said.to_str().ok())
        .unwrap_or_default();
    if said == seat.secret {
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
    let asked = request.query_string().split('&').find_map(|pair| pair.strip_prefix("as="));
    if let Some(role) = asked.filter(|_| identity.role == Actor::SERVICE) {
        identity.role = role.to_owned();
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
