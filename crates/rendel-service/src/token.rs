//! The service key, and participants' tokens: JWT (RFC 7519), signed with HS256 by a key that is
//! derived from the service key (HKDF, RFC 5869), or with HS256 or EdDSA (RFC 8037) by a key that the
//! backend added. A participant who has a token so has nothing to try guesses of the service key on
//! that would let them act as the backend.

use std::collections::{BTreeMap, BTreeSet};

use base64::Engine as _;
use base64::engine::general_purpose::{STANDARD, URL_SAFE_NO_PAD};
use hkdf::Hkdf;
use jsonwebtoken::{
    Algorithm, DecodingKey, EncodingKey, Header, Validation, decode, decode_header, encode,
    errors::ErrorKind,
};
use parking_lot::RwLock;
use rendel_core::{Problem, ProblemKind};
use rendel_store::KeyRow;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use sha2::Sha256;
use subtle::ConstantTimeEq as _;

use crate::clock::now_ms;

const AUDIENCE: &str = "rendel";

/// Seconds that a token may live at most: 30 days.
pub const MOST_SECONDS: u64 = 2_592_000;

/// Seconds by which the clock of whoever signs a token may be ahead.
const LEEWAY: u64 = 60;

/// The key of the backend.
#[derive(Clone)]
pub struct ServiceKey(String);

impl std::fmt::Debug for ServiceKey {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("ServiceKey(…)")
    }
}

/// Bytes of what a token says for the charter's expressions.
const CLAIMS: usize = 1_024;

/// What a token says of its bearer.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
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
    /// When it was issued, in seconds since 1970 UTC, with a fraction where the service did.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) iat: Option<f64>,
    /// Its own id, by which it can be revoked alone.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) jti: Option<String>,
    /// What the charter's expressions read as `who.claims`.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub(crate) claims: BTreeMap<String, Value>,
    /// The seat that is theirs when they come, if it is free then.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) seat: Option<String>,
}

impl ServiceKey {
    /// A key of at least 32 printable characters without spaces, of which at least 10 differ, or
    /// `None`.
    pub fn parse(text: &str) -> Option<Self> {
        let text = text.trim();
        let is_printable = text.bytes().all(|byte| byte.is_ascii_graphic());
        let different = text.bytes().collect::<BTreeSet<_>>().len();
        (text.len() >= 32 && is_printable && different >= 10).then(|| Self(text.to_owned()))
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

    /// The key that signs participants' tokens with HS256, as text: a backend that signs them
    /// itself uses it, and nobody who knows it knows the service key.
    pub fn signing_key(&self) -> String {
        hex::encode(self.derived("tokens"))
    }

    fn decoding(&self) -> DecodingKey {
        DecodingKey::from_secret(self.signing_key().as_bytes())
    }

    /// Another secret that follows from this one: HKDF-SHA256 (RFC 5869) without salt.
    pub(crate) fn derived(&self, purpose: &str) -> [u8; 32] {
        let mut key = [0; 32];
        let derived = Hkdf::<Sha256>::new(None, self.0.as_bytes());
        // It fails for lengths above 255 hashes only.
        let _ = derived.expand(format!("rendel {purpose}").as_bytes(), &mut key);
        key
    }
}

/// All keys that sign tokens: the service key, those that it replaced, and those that the backend
/// added.
#[derive(Debug)]
pub(crate) struct KeyRing {
    service: Vec<ServiceKey>,
    added: RwLock<BTreeMap<String, Added>>,
}

#[derive(Clone)]
struct Added {
    algorithm: Algorithm,
    key: DecodingKey,
}

impl std::fmt::Debug for Added {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Added({:?})", self.algorithm)
    }
}

impl KeyRing {
    /// The first key signs.
    pub(crate) fn new(service: Vec<ServiceKey>) -> Self {
        Self { service, added: RwLock::default() }
    }

    /// Whether this is the service key, or one that it replaced.
    pub(crate) fn is_service(&self, given: &str) -> bool {
        self.service.iter().fold(false, |found, key| found | key.is(given))
    }

    /// Takes the keys that are stored; the retired ones are good for nothing. Gives whether one that
    /// was good is not any more.
    pub(crate) fn load(&self, rows: &[KeyRow]) -> bool {
        let good = rows.iter().filter(|row| row.retired.is_none());
        let read = |row: &KeyRow| {
            Some((row.kid.clone(), Added::read(&row.algorithm, &row.material).ok()?))
        };
        let good: BTreeMap<_, _> = good.filter_map(read).collect();
        let mut added = self.added.write();
        let has_lost = added.keys().any(|kid| !good.contains_key(kid));
        *added = good;
        has_lost
    }

    /// A secret that follows from the service key.
    pub(crate) fn derived(&self, purpose: &str) -> [u8; 32] {
        self.service.first().map_or([0; 32], |key| key.derived(purpose))
    }

    /// The same from the service key and from those that it replaced.
    pub(crate) fn all_derived(&self, purpose: &str) -> Vec<[u8; 32]> {
        self.service.iter().map(|key| key.derived(purpose)).collect()
    }

    /// Whether the key of that id, or the service's own, is good still.
    pub(crate) fn check(&self, kid: Option<&str>) -> Result<(), Problem> {
        match kid {
            Some(kid) if !self.added.read().contains_key(kid) => Err(no_key(kid)),
            _ => Ok(()),
        }
    }

    pub(crate) fn sign(&self, claims: &Claims) -> Result<String, Problem> {
        let key = self.service.first().map(ServiceKey::signing_key);
        let key = key.map(|key| EncodingKey::from_secret(key.as_bytes()));
        let key = key
            .ok_or_else(|| Problem::new(ProblemKind::BadToken, "There is no key to sign with."))?;
        encode(&Header::new(Algorithm::HS256), claims, &key).map_err(|error| {
            Problem::new(ProblemKind::BadToken, format!("The token could not be signed: {error}."))
        })
    }

    /// Reads a token that one of the keys signed and that has not ended; gives the id of the key
    /// too, unless it is the service's own.
    pub(crate) fn verify(&self, token: &str) -> Result<(Claims, Option<String>), Problem> {
        let header = decode_header(token).map_err(|error| unread(error.kind()))?;
        // The key says which algorithm is its own, never the token.
        let claims = match &header.kid {
            Some(kid) => {
                let added = self.added.read().get(kid).cloned();
                let Added { algorithm, key } = added.ok_or_else(|| no_key(kid))?;
                read(token, algorithm, &key)?
            }
            None => {
                let mut tried =
                    self.service.iter().map(|key| read(token, Algorithm::HS256, &key.decoding()));
                let first =
                    tried.next().unwrap_or_else(|| Err(unread(&ErrorKind::InvalidSignature)));
                first.or_else(|problem| tried.find_map(Result::ok).ok_or(problem))?
            }
        };
        if claims.exp > now_ms() / 1_000 + MOST_SECONDS + LEEWAY {
            let detail = format!(
                "A token lives for at most {MOST_SECONDS} seconds. Set an earlier \"exp\"."
            );
            return Err(Problem::new(ProblemKind::BadToken, detail));
        }
        check_name("sub", &claims.sub, 128)?;
        claims.name.iter().try_for_each(|name| check_name("name", name, 128))?;
        check_claims(&claims.claims).map_err(|problem| {
            Problem::new(ProblemKind::BadToken, format!("In the token, {}", problem.detail()))
        })?;
        Ok((claims, header.kid))
    }
}

fn no_key(kid: &str) -> Problem {
    let kid: String = kid.chars().take(64).collect();
    Problem::new(ProblemKind::BadToken, format!("There is no key {kid:?}, or it was retired."))
}

impl Added {
    fn read(algorithm: &str, material: &str) -> Result<Self, Problem> {
        let wrong = |detail: &str| Problem::new(ProblemKind::WrongType, detail);
        match algorithm {
            "HS256" if material.len() >= 32 => Ok(Self {
                algorithm: Algorithm::HS256,
                key: DecodingKey::from_secret(material.as_bytes()),
            }),
            "HS256" => Err(wrong("The secret of an HS256 key has at least 32 characters.")),
            "EdDSA" => {
                let key = DecodingKey::from_ed_components(material);
                let key =
                    key.map_err(|_| wrong("The public key of an EdDSA key cannot be read."))?;
                Ok(Self { algorithm: Algorithm::EdDSA, key })
            }
            _ => Err(wrong("The algorithm of a key is HS256 or EdDSA.")),
        }
    }
}

/// Checks the material of a key, and gives it as it is stored: an HS256 secret as it is; an Ed25519
/// public key, given as PEM or as the `x` of its JWK, as the latter.
pub(crate) fn key_material(algorithm: &str, given: &str) -> Result<String, Problem> {
    let material = match algorithm {
        "EdDSA" => ed25519_x(given.trim()).ok_or_else(|| {
            let detail =
                "The public key of an EdDSA key is Ed25519, as PEM (SubjectPublicKeyInfo) or as \
                 the \"x\" of its JWK.";
            Problem::new(ProblemKind::WrongType, detail)
        })?,
        _ => given.to_owned(),
    };
    Added::read(algorithm, &material).map(|_| material)
}

fn ed25519_x(given: &str) -> Option<String> {
    /// What precedes the 32 bytes of a key in its SubjectPublicKeyInfo (RFC 8410).
    const HEAD: [u8; 12] = [0x30, 0x2a, 0x30, 0x05, 0x06, 0x03, 0x2b, 0x65, 0x70, 0x03, 0x21, 0x00];
    let raw = match given.strip_prefix("-----BEGIN PUBLIC KEY-----") {
        Some(rest) => {
            let body: String = rest.split("-----END").next()?.split_whitespace().collect();
            STANDARD.decode(body).ok()?.strip_prefix(&HEAD)?.to_vec()
        }
        None => URL_SAFE_NO_PAD.decode(given.trim_end_matches('=')).ok()?,
    };
    (raw.len() == 32).then(|| URL_SAFE_NO_PAD.encode(raw))
}

fn read(token: &str, algorithm: Algorithm, key: &DecodingKey) -> Result<Claims, Problem> {
    let mut validation = Validation::new(algorithm);
    validation.set_audience(&[AUDIENCE]);
    validation.set_required_spec_claims(&["exp", "aud", "sub"]);
    validation.leeway = 0;
    decode::<Claims>(token, key, &validation)
        .map(|data| data.claims)
        .map_err(|error| unread(error.kind()))
}

fn unread(kind: &ErrorKind) -> Problem {
    match kind {
        ErrorKind::ExpiredSignature => {
            let detail = "The token has ended. Ask the backend that issued it for another.";
            Problem::new(ProblemKind::ExpiredToken, detail)
        }
        ErrorKind::InvalidAudience => {
            Problem::new(ProblemKind::BadToken, "The token's \"aud\" must be \"rendel\".")
        }
        ErrorKind::InvalidAlgorithm | ErrorKind::InvalidKeyFormat => {
            let detail = "A token is signed with the algorithm of its key: HS256 by the service \
                key, HS256 or EdDSA by an added one.";
            Problem::new(ProblemKind::BadToken, detail)
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
            iat: Some(now_ms() as f64 / 1000.0),
            jti: Some(uuid::Uuid::now_v7().simple().to_string()),
            claims: BTreeMap::new(),
            seat: None,
        }
    }
}

/// What a token says for the charter's expressions is small.
pub(crate) fn check_claims(claims: &BTreeMap<String, Value>) -> Result<(), Problem> {
    let bytes = serde_json::to_string(claims).map_or(0, |json| json.len());
    if bytes <= CLAIMS {
        return Ok(());
    }
    let detail = format!("\"claims\" has at most {CLAIMS} bytes as JSON.");
    Err(Problem::new(ProblemKind::Malformed, detail))
}

/// Ids and names of participants are shown everywhere: 1 to `most` characters, none of them a
/// control character.
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

    fn far() -> u64 {
        now_ms() / 1_000 + MOST_SECONDS
    }

    fn ring(keys: &[&ServiceKey]) -> KeyRing {
        KeyRing::new(keys.iter().map(|key| (*key).clone()).collect())
    }

    #[test]
    fn a_token_is_read_by_the_key_that_signed_it_and_by_no_other() {
        let (old, new) = (ServiceKey::generate(), ServiceKey::generate());
        let claims = claims(far());
        let token = ring(&[&old]).sign(&claims).unwrap();
        assert_eq!(ring(&[&old]).verify(&token).unwrap(), (claims.clone(), None));
        assert_eq!(ring(&[&new]).verify(&token).unwrap_err().kind(), ProblemKind::BadToken);
        assert_eq!(
            ring(&[&new, &old]).verify(&token).unwrap(),
            (claims.clone(), None),
            "while a key is replaced both are good"
        );
        let by_itself = EncodingKey::from_secret(old.reveal().as_bytes());
        let token = encode(&Header::new(Algorithm::HS256), &claims, &by_itself).unwrap();
        assert!(ring(&[&old]).verify(&token).is_err(), "the service key itself signs nothing");
    }

    #[test]
    fn a_token_that_lives_too_long_is_none() {
        let ring = ring(&[&ServiceKey::generate()]);
        let problem = ring.verify(&ring.sign(&claims(far() + 3_600)).unwrap()).unwrap_err();
        assert_eq!(problem.kind(), ProblemKind::BadToken);
    }

    #[test]
    fn secrets_are_derived_as_the_standard_says() {
        // Made with another implementation of RFC 5869.
        let key = ServiceKey::parse("0123456789abcdef0123456789abcdef").unwrap();
        assert_eq!(
            key.signing_key(),
            "72ae03c6166f19279d159f6d4d83b19926dac3185c8020504a6ec126734265fd"
        );
    }

    #[test]
    fn an_ended_token_says_that_it_has_ended() {
        let ring = ring(&[&ServiceKey::generate()]);
        assert_eq!(
            ring.verify(&ring.sign(&claims(1_000)).unwrap()).unwrap_err().kind(),
            ProblemKind::ExpiredToken
        );
    }

    #[test]
    fn a_key_of_few_characters_is_none() {
        assert!(ServiceKey::parse("short").is_none());
        assert!(ServiceKey::parse(&"k".repeat(64)).is_none(), "nor is one that repeats few");
        assert!(ServiceKey::parse("an-orchard-has-pears-and-quinces").is_some());
        assert!(
            key_material("HS256", "short").is_err()
                && key_material("RS256", &"k".repeat(64)).is_err()
        );
    }

    #[test]
    fn an_ed25519_key_is_read_from_pem_and_from_its_jwk() {
        // The example of RFC 8037, appendix A.
        let x = "11qYAYKxCrfVS_7TyWQHOg7hcvPapiMlrwIaaPcHURo";
        let der: Vec<u8> = [0x30, 0x2a, 0x30, 0x05, 0x06, 0x03, 0x2b, 0x65, 0x70, 0x03, 0x21, 0x00]
            .into_iter()
            .chain(URL_SAFE_NO_PAD.decode(x).unwrap())
            .collect();
        let pem = format!(
            "-----BEGIN PUBLIC KEY-----\n{}\n-----END PUBLIC KEY-----\n",
            STANDARD.encode(der)
        );
        assert_eq!(key_material("EdDSA", &pem).unwrap(), x);
        assert_eq!(key_material("EdDSA", x).unwrap(), x);
        assert!(key_material("EdDSA", "abc").is_err());
    }
}
