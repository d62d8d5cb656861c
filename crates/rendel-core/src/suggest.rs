//! What a misspelt name might have meant.

/// The known name nearest to `given` by edit distance (Damerau-Levenshtein), if it is near enough
/// to be a slip.
///
/// Cost O(known names × length²); lengths are capped so that hostile input stays cheap.
pub fn nearest<'a>(given: &str, known: impl IntoIterator<Item = &'a str>) -> Option<String> {
    let given: String = given.chars().take(64).collect::<String>().to_lowercase();
    let allowed = match given.chars().count() {
        0..=2 => 1,
        3..=5 => 2,
        _ => 3,
    };
    known
        .into_iter()
        .take(256)
        .map(|name| (strsim::damerau_levenshtein(&given, &name.to_lowercase()), name))
        .filter(|(distance, _)| *distance <= allowed)
        .min()
        .map(|(_, name)| name.to_owned())
}

#[cfg(test)]
mod tests {
    use super::nearest;

    #[test]
    fn a_slip_finds_its_name_and_a_stranger_finds_none() {
        let known = ["markers", "title", "crates"];
        assert_eq!(nearest("makers", known).as_deref(), Some("markers"));
        assert_eq!(nearest("Titel", known).as_deref(), Some("title"));
        assert_eq!(nearest("pressing", known), None);
    }
}
