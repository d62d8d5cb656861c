//! Who somebody is, as their key or token says.

use std::collections::BTreeMap;
use std::sync::Arc;

use rendel_core::{Actor, Reader, Viewer};
use serde_json::Value;
use uuid::Uuid;

use crate::clock::now_ms;
use crate::token::Claims;

/// Who calls, as their key or token says.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Identity {
    pub(crate) id: String,
    pub(crate) name: String,
    pub(crate) role: String,
    /// When the token ends, in milliseconds since 1970 UTC; never for the backend.
    pub(crate) until: Option<u64>,
    /// The id of the key that signed the token, unless it is the service's own.
    pub(crate) kid: Option<String>,
    /// The token's own id.
    pub(crate) jti: Option<String>,
    /// When the token was issued, in seconds since 1970 UTC; 0 where it does not say.
    pub(crate) issued: f64,
    /// What the token says beside that.
    pub(crate) claims: BTreeMap<String, Value>,
    /// The seat that the token promises.
    pub(crate) seat: Option<String>,
    /// Who the token says that it is, where the backend says something else.
    pub(crate) as_token: Option<Arc<Identity>>,
    /// Whose eyes the backend asks with.
    pub(crate) seen_as: Option<String>,
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
            kid: None,
            jti: None,
            issued: 0.0,
            claims: BTreeMap::new(),
            seat: None,
            as_token: None,
            seen_as: None,
        }
    }

    pub(crate) fn of_claims(claims: Claims, kid: Option<String>) -> Self {
        Self {
            name: claims.name.unwrap_or_else(|| claims.sub.clone()),
            id: claims.sub,
            role: claims.role,
            until: Some(claims.exp.saturating_mul(1000)),
            kid,
            jti: claims.jti,
            issued: claims.iat.unwrap_or(0.0),
            claims: claims.claims,
            seat: claims.seat,
            as_token: None,
            seen_as: None,
        }
    }

    /// Who acts, over a connection or by a call.
    pub(crate) fn actor(&self, client: Uuid) -> Actor {
        Actor::new(self.id.clone(), self.role.clone(), client).with_claims(self.claims.clone())
    }

    /// Who reads what is told.
    pub(crate) fn reader(&self) -> Reader {
        let id = self.seen_as.clone().unwrap_or_else(|| self.id.clone());
        Reader { role: self.role.clone(), viewer: Viewer::new(id, &self.claims) }
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
