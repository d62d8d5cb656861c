//! The service key, and the participants' tokens that it signs: JWT (RFC 7519) with HS256.

use jsonwebtoken::{Algorithm, DecodingKey, EncodingKey, Header, Validation, decode, encode, errors::ErrorKind};
use rendel_core::{Problem, ProblemKind};
use serde::{Deserialize, Serialize};
use subtle::ConstantTimeEq as _;

const AUDIENCE: &str = "rendel";

/// Seconds that a token may live at most: 30 days.
pub const MOST_SECONDS: u64 = 2_592_000;

/// The key of the backend.
#[derive(Clone)]
pub struct ServiceKey(String);

impl std::fmt::Debug for ServiceKey {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("ServiceKey(…)")
    }
}

/// What a token says of its bearer.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Claims {
    pub(crate) aud: String,
    /// The session that it is for.
    pub(crate) session: String,
    /// The participant's id.
    pub(crate) sub: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) name: Option<String>,
    pub(crate) role: String,
    /// Its end, in seconds since 1970 UTC.
    pub(crate) exp: u64,
}

impl ServiceKey {
    /// A key of at least 32 printable characters without spaces, or `None`.
    pub fn parse(text: &str) -> Option<Self> {
        let text = text.trim();
        (text.len() >= 32 && text.bytes().all(|byte| byte.is_ascii_graphic())).then(|| Self(text.to_owned()))
    }

    /// A new key: 256 random bits in hex.
    pub fn generate() -> Self {
        Self(hex::encode(rand::random::<[u8; 32]>()))
    }

    /// The key itself, to be written to its file.
    pub fn reveal(&self) -> &str {
        &self.0
    }

    /// Compares in a time that does not depend on where the two differ.
    pub(crate) fn is(&self, given: &str) -> bool {
        self.0.as_bytes().ct_eq(given.as_bytes()).into()
    }

    pub(crate) fn sign(&self, claims: &Claims) -> Result<String, Problem> {
        encode(&Header::new(Algorithm::HS256), claims, &EncodingKey::from_secret(self.0.as_bytes()))
            .map_err(|error| Problem::new(ProblemKind::BadToken, format!("The token could not be signed: {error}.")))
    }

    /// Reads a token that this key signed and that has not ended.
    pub(crate) fn verify(&self, token: &str) -> Result<Claims, Problem> {
        // The algorithm is ours to choose, never the token's.
        let mut validation = Validation::new(Algorithm::HS256);
        validation.set_audience(&[AUDIENCE]);
        validation.set_required_spec_claims(&["exp", "aud", "sub"]);
        validation.leeway = 0;
        let read = decode::<Claims>(token, &DecodingKey::from_secret(self.0.as_bytes()), &validation);
        let claims = read.map(|data| data.claims).map_err(|error| match error.kind() {
            ErrorKind::ExpiredSignature => Problem::new(
                ProblemKind::ExpiredToken,
                "The token has ended. Ask the backend that issued it for another.",
            ),
            ErrorKind::InvalidAudience => {
                Problem::new(ProblemKind::BadToken, "The token's \"aud\" must be \"rendel\".")
            }
            ErrorKind::InvalidAlgorithm => {
                Problem::new(ProblemKind::BadToken, "A token is signed with HS256, nothing else.")
            }
            ErrorKind::MissingRequiredClaim(name) => {
                Problem::new(ProblemKind::BadToken, format!("The token lacks {name:?}."))
            }
            ErrorKind::InvalidSignature => {
                Problem::new(ProblemKind::BadToken, "The token was signed with another key.")
            }
            _ => Problem::new(
                ProblemKind::BadToken,
                "This is no token of this service: a JWT with sub, role, session, aud and exp.",
            ),
        })?;
        check_name("sub", &claims.sub, 128)?;
        claims.name.iter().try_for_each(|name| check_name("name", name, 128))?;
        Ok(claims)
    }
}

impl Claims {
    pub(crate) fn new(session: &str, sub: &str, name: Option<&str>, role: &str, exp: u64) -> Self {
        Self {
            aud: AUDIENCE.to_owned(),
            session: session.to_owned(),
            sub: sub.to_owned(),
            name: name.map(str::to_owned),
            role: role.to_owned(),
            exp,
        }
    }
}

/// Ids and names of participants are shown everywhere: 1 to `most` characters, none of them a control character.
pub(crate) fn check_name(what: &str, text: &str, most: usize) -> Result<(), Problem> {
    if (1..=most).contains(&text.chars().count()) && !text.chars().any(char::is_control) {
        return Ok(());
    }
    let detail = format!("\"{what}\" has 1 to {most} characters and no control characters.");
    Err(Problem::new(ProblemKind::Malformed, detail))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn claims(exp: u64) -> Claims {
        Claims::new("gate-north", "oda", Some("Oda"), "picker", exp)
    }

    const FAR: u64 = 4_000_000_000;

    #[test]
    fn a_token_is_read_by_the_key_that_signed_it_and_by_no_other() {
        let key = ServiceKey::generate();
        let token = key.sign(&claims(FAR)).unwrap();
        assert_eq!(key.verify(&token).unwrap(), claims(FAR));
        assert_eq!(ServiceKey::generate().verify(&token).unwrap_err().kind(), ProblemKind::BadToken);
    }

    #[test]
    fn an_ended_token_says_that_it_has_ended() {
        let key = ServiceKey::generate();
        assert_eq!(key.verify(&key.sign(&claims(1_000)).unwrap()).unwrap_err().kind(), ProblemKind::ExpiredToken);
    }

    #[test]
    fn a_key_of_few_characters_is_none() {
        assert!(ServiceKey::parse("short").is_none());
        assert!(ServiceKey::parse(&"k".repeat(32)).is_some());
    }
}
