//! Reading JSON that a stranger sent.

use rendel_core::{Problem, ProblemKind};
use serde::de::DeserializeOwned;
use serde_json::Value;

/// Arrays and objects may lie in one another this deep in what a participant sends.
pub const DEEPEST: usize = 64;
/// And this deep in what the service sends, whose frames have values of participants inside the
/// state.
pub const DEEPEST_TOLD: usize = 120;

/// Reads JSON from a participant: `malformed` with the place of the fault, `too-deep` beyond 64
/// levels.
///
/// The nesting is counted before anything is built, so that hostile input costs one pass over its
/// bytes.
pub fn decode_json<T: DeserializeOwned>(bytes: &[u8]) -> Result<T, Problem> {
    decode_json_within(DEEPEST, bytes)
}

/// As [`decode_json`], for what is one JSON object: an array of its members' values in order is not
/// taken for it.
pub fn decode_object<T: DeserializeOwned>(bytes: &[u8]) -> Result<T, Problem> {
    match bytes.iter().find(|byte| !byte.is_ascii_whitespace()) {
        Some(b'{') | None => decode_json(bytes),
        Some(_) => {
            let detail = "This is not what was expected: a JSON object.";
            Err(Problem::new(ProblemKind::Malformed, detail))
        }
    }
}

/// As [`decode_json`], with so many levels.
pub(crate) fn decode_json_within<T: DeserializeOwned>(
    deepest: usize,
    bytes: &[u8],
) -> Result<T, Problem> {
    let text = std::str::from_utf8(bytes).map_err(|error| {
        Problem::new(ProblemKind::Malformed, format!("Byte {} is not UTF-8.", error.valid_up_to()))
    })?;
    check_depth(deepest, text)?;
    serde_json::from_str(text).map_err(|_| unread::<T>(text))
}

/// What is wrong with JSON, and where. It is read once more for that.
fn unread<T: DeserializeOwned>(text: &str) -> Problem {
    let mut reader = serde_json::Deserializer::from_str(text);
    let found = serde_path_to_error::deserialize::<_, T>(&mut reader).map(|_| reader.end());
    let (at, error) = match found {
        Err(error) => (error.path().to_string(), error.into_inner()),
        Ok(Err(error)) => (".".to_owned(), error),
        Ok(Ok(())) => return Problem::new(ProblemKind::Malformed, "This is no JSON."),
    };
    let detail = format!("This is not what was expected{}.", in_words(&at, &error));
    Problem::new(ProblemKind::Malformed, detail)
}

/// Reads a value; what does not fit comes back in words, with its place.
pub(crate) fn decode_value<T: DeserializeOwned>(value: Value) -> Result<T, String> {
    serde_path_to_error::deserialize(value)
        .map_err(|error| in_words(&error.path().to_string(), error.inner()))
}

/// What does not fit and where, in the words of JSON and not of whoever reads it.
fn in_words(at: &str, error: &serde_json::Error) -> String {
    let words = [
        ("invalid type: map", "an object"),
        ("invalid type: sequence", "an array"),
        ("a map", "an object"),
        ("a sequence", "an array"),
        ("invalid type: ", ""),
    ];
    let says = words.iter().fold(error.to_string(), |says, (from, to)| says.replace(from, to));
    let says = says.replace(", expected", ", and what is expected is");
    let place = if at == "." { String::new() } else { format!(" at {at:?}") };
    format!("{place}: {says}")
}

pub(crate) fn check_depth(deepest: usize, text: &str) -> Result<(), Problem> {
    // Fewer openings than levels cannot be too deep; most frames end here.
    if text.bytes().filter(|byte| matches!(byte, b'[' | b'{')).count() <= deepest {
        return Ok(());
    }
    let (mut depth, mut in_string, mut escaped) = (0usize, false, false);
    for byte in text.bytes() {
        match byte {
            _ if escaped => escaped = false,
            b'\\' if in_string => escaped = true,
            b'"' => in_string = !in_string,
            _ if in_string => {}
            b'[' | b'{' => depth += 1,
            b']' | b'}' => depth = depth.saturating_sub(1),
            _ => {}
        }
        if depth > deepest {
            return Err(too_deep(deepest));
        }
    }
    Ok(())
}

pub(crate) fn too_deep(deepest: usize) -> Problem {
    Problem::new(
        ProblemKind::TooDeep,
        format!("Values may be nested at most {deepest} levels deep."),
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::Value;

    #[test]
    fn the_64th_level_is_read_and_the_65th_refused() {
        let nested = |levels: usize| format!("{}{}", "[".repeat(levels), "]".repeat(levels));
        assert!(decode_json::<Value>(nested(64).as_bytes()).is_ok());
        assert_eq!(
            decode_json::<Value>(nested(65).as_bytes()).unwrap_err().kind(),
            ProblemKind::TooDeep
        );
        let in_a_string = format!("[\"\\\"{}\"]", "[".repeat(100));
        assert!(decode_json::<Value>(in_a_string.as_bytes()).is_ok());
    }

    #[test]
    fn an_array_is_not_taken_for_an_object() {
        #[derive(Debug, Default, PartialEq, serde::Deserialize)]
        #[serde(default)]
        struct Body {
            role: Option<String>,
        }
        let read = |text: &str| decode_object::<Body>(text.as_bytes()).map_err(|no| no.kind());
        assert_eq!(read("[null]"), Err(ProblemKind::Malformed));
        assert_eq!(read(" {} "), Ok(Body::default()));
        assert_eq!(read(""), Err(ProblemKind::Malformed));
    }

    #[test]
    fn what_is_no_json_or_no_utf8_is_malformed() {
        for bytes in [&b"{"[..], b"\xff\"", b"1e999", b"{} {}", b""] {
            assert_eq!(
                decode_json::<Value>(bytes).unwrap_err().kind(),
                ProblemKind::Malformed,
                "{bytes:?}"
            );
        }
    }
}
