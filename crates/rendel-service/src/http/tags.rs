//! Entity tags (RFC 9110, section 8.8.3): a state's is its `seq` in quotes.

use actix_web::HttpRequest;
use actix_web::http::header::HeaderName;
use rendel_core::{Problem, ProblemKind};
use rendel_session::IfMatch;

/// What a condition on the state names.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Tags {
    /// `*`: any state.
    Any,
    These(Vec<String>),
}

impl Tags {
    /// Reads a header: `malformed` where it is neither `*` nor a list of quoted tags.
    pub(crate) fn of(request: &HttpRequest, name: &HeaderName) -> Result<Option<Self>, Problem> {
        let Some(value) = request.headers().get(name) else { return Ok(None) };
        let text = value.to_str().unwrap_or("\u{fffd}").trim();
        if text == "*" {
            return Ok(Some(Self::Any));
        }
        let tag = |one: &str| {
            let one = one.trim();
            let inner =
                one.strip_prefix("W/").unwrap_or(one).strip_prefix('"')?.strip_suffix('"')?;
            (!inner.contains('"') && inner.chars().all(|char| char.is_ascii_graphic()))
                .then(|| inner.to_owned())
        };
        let tags: Option<Vec<_>> = text.split(',').map(tag).collect();
        tags.map(|tags| Some(Self::These(tags))).ok_or_else(|| {
            let detail = format!(
                "\"{name}\" is \"*\" or a list of tags in quotes, as \"ETag\" gives them: \"17\"."
            );
            Problem::new(ProblemKind::Malformed, detail)
        })
    }

    /// The states that they name.
    pub(crate) fn states(self) -> IfMatch {
        match self {
            Self::Any => IfMatch::Any,
            Self::These(tags) => {
                // A tag that is no `seq` is that of no state.
                IfMatch::These(tags.iter().filter_map(|tag| tag.parse().ok()).collect())
            }
        }
    }

    /// Whether the state at `seq` is among them.
    pub(crate) fn has(&self, seq: u64) -> bool {
        match self {
            Self::Any => true,
            Self::These(tags) => tags.iter().any(|tag| *tag == seq.to_string()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use actix_web::http::header::IF_MATCH;
    use actix_web::test::TestRequest;

    #[test]
    fn tags_are_read_as_the_standard_writes_them_and_all_else_is_malformed() {
        let read = |text: &str| {
            Tags::of(
                &TestRequest::get().insert_header((IF_MATCH, text)).to_http_request(),
                &IF_MATCH,
            )
        };
        assert_eq!(read("*"), Ok(Some(Tags::Any)));
        let tags = read(" W/\"17\" , \"18\"").unwrap().unwrap();
        assert_eq!((tags.has(17), tags.has(18), tags.has(1)), (true, true, false));
        for text in ["17", "", "\"17", "\"1\"7\"", "\"17\",", "\"a b\"", "\u{e4}"] {
            assert_eq!(read(text).unwrap_err().kind(), ProblemKind::Malformed, "{text}");
        }
    }
}
