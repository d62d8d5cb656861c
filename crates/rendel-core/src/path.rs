//! Paths inside the state: JSON Pointers (RFC 6901).

use std::borrow::Cow;
use std::fmt;
use std::mem;
use std::sync::Arc;

use compact_str::CompactString;
use serde::de::Error as _;
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use serde_json::Value;
use smallvec::SmallVec;

use crate::problem::{Problem, ProblemKind};

/// One step of a path, unescaped. Up to 24 bytes are kept in place.
pub type Token = CompactString;

/// A path inside the state, split into its tokens. Clones share them.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Path(Arc<[Token]>);

impl Path {
    /// Tokens that one path may have: deeper than any charter can declare.
    const MOST_TOKENS: usize = 64;

    /// Reads a JSON Pointer such as `/markers/m7/spot`.
    ///
    /// Fails with `malformed` where it does not begin with `/` or has a stray `~`, and with
    /// `too-deep` beyond 64 tokens.
    pub fn parse(pointer: &str) -> Result<Self, Problem> {
        if pointer.is_empty() {
            return Ok(Self(Arc::new([])));
        }
        let Some(body) = pointer.strip_prefix('/') else {
            return Err(Problem::new(
                ProblemKind::Malformed,
                format!(
                    "The path {pointer:?} must begin with \"/\" (RFC 6901), as in \"/{}\".",
                    pointer.trim_start_matches('.')
                ),
            ));
        };
        if body.matches('/').count() >= Self::MOST_TOKENS {
            return Err(Problem::new(ProblemKind::TooDeep, "A path has at most 64 tokens."));
        }
        let tokens: Result<SmallVec<[Token; 4]>, ()> = body.split('/').map(unescape).collect();
        // A slice knows its length, so that what is shared is allocated once.
        let shared = |mut tokens: SmallVec<_>| tokens.iter_mut().map(mem::take).collect();
        tokens.map(|tokens| Self(shared(tokens))).map_err(|()| {
            Problem::new(
                ProblemKind::Malformed,
                format!(
                    "The path {pointer:?} has a \"~\" that is not \"~0\" (for ~) or \"~1\" (for /)."
                ),
            )
        })
    }

    /// A path from tokens that are not escaped.
    pub fn of<S: Into<Token>>(tokens: impl IntoIterator<Item = S>) -> Self {
        Self(tokens.into_iter().map(Into::into).collect())
    }

    /// Its tokens, unescaped.
    pub fn tokens(&self) -> &[Token] {
        &self.0
    }
}

impl fmt::Display for Path {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.iter().try_for_each(|token| write!(f, "/{}", escape(token)))
    }
}

impl Serialize for Path {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for Path {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let pointer = Cow::<'de, str>::deserialize(deserializer)?;
        Self::parse(&pointer).map_err(|problem| D::Error::custom(problem.detail()))
    }
}

impl From<&Path> for Path {
    fn from(path: &Path) -> Self {
        path.clone()
    }
}

impl From<&Path> for String {
    fn from(path: &Path) -> Self {
        path.to_string()
    }
}

impl From<Path> for String {
    fn from(path: Path) -> Self {
        path.to_string()
    }
}

impl Path {
    /// Whether it is `outer` or lies inside it.
    pub fn is_within(&self, outer: &Self) -> bool {
        self.tokens().starts_with(outer.tokens())
    }
}

/// Characters that an id has at most.
const ID_CHARS: usize = 128;

/// The path of the record or element `id` of the map or list at `path`.
pub(crate) fn inner(path: &Path, id: &str) -> Path {
    Path::of(path.tokens().iter().cloned().chain([id.into()]))
}

/// `path` without its last `levels` tokens.
pub(crate) fn parent(path: &Path, levels: usize) -> Path {
    Path::of(path.tokens()[..path.tokens().len().saturating_sub(levels)].iter().cloned())
}

pub(crate) fn checked_id(id: &Value) -> Result<&str, Problem> {
    let text = id.as_str().filter(|id| {
        !id.is_empty() && id.chars().count() <= ID_CHARS && !id.chars().any(char::is_control)
    });
    text.ok_or_else(|| {
        let detail =
            format!("An id is a string of 1 to {ID_CHARS} characters without control characters.");
        Problem::new(ProblemKind::WrongType, detail)
    })
}

/// One token as it stands in a pointer.
pub(crate) fn escape(token: &str) -> String {
    token.replace('~', "~0").replace('/', "~1")
}

fn unescape(token: &str) -> Result<Token, ()> {
    let mut parts = token.split('~');
    let mut out = Token::from(parts.next().unwrap_or_default());
    for part in parts {
        let (sign, rest) = match part.as_bytes().first() {
            Some(b'0') => ('~', &part[1..]),
            Some(b'1') => ('/', &part[1..]),
            _ => return Err(()),
        };
        out.push(sign);
        out.push_str(rest);
    }
    Ok(out)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_pointer_comes_back_as_it_was_written() {
        for pointer in ["", "/", "/markers", "/markers/a~1b/c~0d", "/markers//spot"] {
            assert_eq!(Path::parse(pointer).unwrap().to_string(), pointer);
        }
        assert_eq!(Path::parse("/a~01").unwrap().tokens(), ["a~1"]);
    }

    #[test]
    fn a_path_that_is_no_pointer_is_malformed() {
        for pointer in ["markers", "/a~2", "/a~"] {
            assert_eq!(
                Path::parse(pointer).unwrap_err().kind(),
                ProblemKind::Malformed,
                "{pointer}"
            );
        }
        assert_eq!(Path::parse(&"/a".repeat(65)).unwrap_err().kind(), ProblemKind::TooDeep);
    }
}
