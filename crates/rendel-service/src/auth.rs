//! Who calls.

use actix_web::HttpRequest;
use actix_web::http::header;
use rendel_core::{Actor, Problem, ProblemKind};

use crate::app::{App, now_ms};
use crate::token::ServiceKey;

/// Who calls, as their key or token says.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Identity {
    pub(crate) id: String,
    pub(crate) name: String,
    pub(crate) role: String,
    /// When the token ends, in milliseconds since 1970 UTC; never for the backend.
    pub(crate) until: Option<u64>,
}

impl Identity {
    /// The identity that a token, or the service key, gives in `session`.
    pub(crate) fn of(token: &str, session: &str, key: &ServiceKey) -> Result<Self, Problem> {
        if key.is(token) {
            let service = Actor::SERVICE.to_owned();
            return Ok(Self { id: service.clone(), name: service.clone(), role: service, until: None });
        }
        let claims = key.verify(token)?;
        if claims.session != session {
            let detail = format!("The token is for the session {:?}, not for {session:?}.", claims.session);
            return Err(Problem::new(ProblemKind::BadToken, detail));
        }
        if claims.sub == Actor::SERVICE || claims.role == Actor::SERVICE {
            return Err(Problem::new(ProblemKind::BadToken, "\"service\" is the backend itself: use the service key."));
        }
        let name = claims.name.unwrap_or_else(|| claims.sub.clone());
        Ok(Self { id: claims.sub, name, role: claims.role, until: Some(claims.exp.saturating_mul(1000)) })
    }

    /// Whether the token has ended.
    pub(crate) fn has_ended(&self) -> bool {
        self.until.is_some_and(|until| until <= now_ms())
    }
}

/// The bearer token of a request, if it has one.
pub(crate) fn bearer(request: &HttpRequest) -> Result<Option<&str>, Problem> {
    if request.query_string().split('&').any(|pair| pair.starts_with("token=") || pair.starts_with("key=")) {
        let detail = "A token never goes into a URL, where logs would keep it. Send \"Authorization: Bearer …\".";
        return Err(Problem::new(ProblemKind::BadToken, detail));
    }
    let Some(value) = request.headers().get(header::AUTHORIZATION) else { return Ok(None) };
    let token = value.to_str().ok().and_then(|value| value.strip_prefix("Bearer ")).map(str::trim);
    token.map(Some).ok_or_else(|| Problem::new(ProblemKind::BadToken, "Authorization must read \"Bearer TOKEN\"."))
}

fn needed(request: &HttpRequest) -> Result<&str, Problem> {
    bearer(request)?.ok_or_else(|| Problem::new(ProblemKind::NoToken, "Send \"Authorization: Bearer TOKEN\"."))
}

/// Lets only the backend pass.
pub(crate) fn backend(request: &HttpRequest, app: &App) -> Result<(), Problem> {
    let given = needed(request)?;
    if app.config.key.is(given) {
        return Ok(());
    }
    match app.config.key.verify(given) {
        Ok(_) => Err(Problem::new(ProblemKind::NotAllowed, "This call is the backend's: it needs the service key.")),
        Err(_) => Err(Problem::new(ProblemKind::BadToken, "This is not the service key.")),
    }
}

/// The participant, or the backend itself, in `session`. The backend may speak `?as=ROLE`.
pub(crate) fn participant(request: &HttpRequest, app: &App, session: &str) -> Result<Identity, Problem> {
    let mut identity = Identity::of(needed(request)?, session, &app.config.key)?;
    let asked = request.query_string().split('&').find_map(|pair| pair.strip_prefix("as="));
    if let Some(role) = asked.filter(|_| identity.role == Actor::SERVICE) {
        identity.role = role.to_owned();
    }
    Ok(identity)
}
