//! Guests: participants without an account, under made-up names.

use rendel_core::Problem;

use crate::clock::now_ms;
use crate::identity::Identity;
use crate::token::{Claims, KeyRing};

/// The beginning of a guest's id; who has such an id counts as a guest.
const HEAD: &str = "guest-";
/// How long a guest may come back as the same guest.
const SECONDS: u64 = 24 * 3_600;

const HOW: [&str; 16] = [
    "Amber", "Brisk", "Calm", "Crisp", "Dewy", "Early", "Fair", "Golden", "Hazy", "Late", "Mellow",
    "Quiet", "Russet", "Sunny", "Tart", "Windy",
];
const WHAT: [&str; 16] = [
    "Basket", "Blossom", "Bough", "Cask", "Crate", "Hedge", "Ladder", "Leaf", "Meadow", "Orchard",
    "Pear", "Pippin", "Press", "Quince", "Twig", "Windfall",
];

pub(crate) fn is_guest(id: &str) -> bool {
    id.starts_with(HEAD)
}

/// A name that can be read and said, made from a number.
pub(crate) fn made_up_name(number: u64) -> String {
    let pick = |words: &[&'static str; 16], shift: u32| {
        words[usize::try_from(number >> shift & 15).unwrap_or(0)]
    };
    format!("{} {}", pick(&HOW, 0), pick(&WHAT, 4))
}

/// A new guest, and the token to come back with.
pub(crate) fn guest(
    keys: &KeyRing,
    session: &str,
    role: &str,
) -> Result<(Identity, String), Problem> {
    let number: u64 = rand::random();
    let (id, name) = (format!("{HEAD}{number:016x}"), made_up_name(number));
    let until = now_ms() / 1000 + SECONDS;
    let claims = Claims::new(session, &id, Some(&name), role, until);
    let token = keys.sign(&claims)?;
    Ok((Identity::of_claims(claims, None), token))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_can_be_read_and_differ() {
        let names: std::collections::BTreeSet<_> = (0..256).map(made_up_name).collect();
        assert_eq!(names.len(), 256);
        assert!(names.contains("Amber Basket") && names.contains("Windy Windfall"));
    }
}
