//! HMAC-SHA256 (RFC 2104), as what goes out to other systems is signed.

use hmac::{Hmac, KeyInit as _, Mac as _};
use sha2::Sha256;

pub(crate) fn hmac(key: &[u8], message: &[u8]) -> [u8; 32] {
    // HMAC takes keys of any length.
    let Ok(mut mac) = Hmac::<Sha256>::new_from_slice(key) else { return [0; 32] };
    mac.update(message);
    mac.finalize().into_bytes().into()
}

/// The signature of a call to another system: `v1=` and the HMAC-SHA256 (RFC 2104), in hex, over
/// its id, its time and its body, parted by dots. Cost O(body).
pub fn signature(secret: &str, id: &str, time: u64, body: &str) -> String {
    format!("v1={}", hex::encode(hmac(secret.as_bytes(), format!("{id}.{time}.{body}").as_bytes())))
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
}
