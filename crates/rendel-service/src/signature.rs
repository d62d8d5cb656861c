//! How what goes out to other systems is signed.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use hmac::{Hmac, KeyInit as _, Mac as _};
use sha2::Sha256;
use standardwebhooks::Webhook;

use crate::token::ServiceKey;

/// HMAC-SHA256 (RFC 2104).
pub(crate) fn hmac(key: &[u8], message: &[u8]) -> [u8; 32] {
    // HMAC takes keys of any length.
    let Ok(mut mac) = Hmac::<Sha256>::new_from_slice(key) else { return [0; 32] };
    mac.update(message);
    mac.finalize().into_bytes().into()
}

/// What calls to other systems are signed with: `whsec_` and 24 to 64 bytes in base64, as the
/// Standard Webhooks specification says.
#[derive(Clone, PartialEq, Eq)]
pub struct WebhookSecret(Vec<u8>);

impl std::fmt::Debug for WebhookSecret {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("WebhookSecret(…)")
    }
}

impl WebhookSecret {
    /// Reads a secret; `None` if it is none.
    pub fn parse(text: &str) -> Option<Self> {
        let bytes = STANDARD.decode(text.trim().strip_prefix("whsec_")?).ok()?;
        (24..=64).contains(&bytes.len()).then_some(Self(bytes))
    }

    /// A new secret of 256 random bits.
    pub fn generate() -> Self {
        Self(rand::random::<[u8; 32]>().to_vec())
    }

    /// The secret that is used where the configuration has none.
    pub fn derived(key: &ServiceKey) -> Self {
        Self(key.derived("gates").to_vec())
    }

    /// The secret as text, for whoever checks signatures.
    pub fn reveal(&self) -> String {
        format!("whsec_{}", STANDARD.encode(&self.0))
    }

    pub(crate) fn signer(&self) -> Webhook {
        // Any bytes make one.
        Webhook::from_bytes(self.0.clone()).unwrap_or_else(|_| unreachable!())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_is_the_hmac_of_the_standard() {
        // RFC 4231, test case 2.
        let known = "5bdcc146bf60754e6a042426089575c75a003f089d2739839dec58b964ec3843";
        assert_eq!(hex::encode(hmac(b"Jefe", b"what do ya want for nothing?")), known);
    }

    #[test]
    fn a_secret_is_read_as_it_is_written_and_short_ones_are_none() {
        let secret = WebhookSecret::generate();
        assert_eq!(WebhookSecret::parse(&secret.reveal()), Some(secret));
        for wrong in ["", "whsec_", "whsec_c2hvcnQ=", "c2hvcnQ=", "whsec_%%%"] {
            assert_eq!(WebhookSecret::parse(wrong), None, "{wrong}");
        }
    }
}
