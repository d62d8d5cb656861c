//! Path patterns: `*` stands for one token, `**` for any number of them, none included.

use std::fmt;

use crate::path::{Path, Token};

/// A pattern of paths, such as `/markers/*/spot` or `/markers/**`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Pattern(Vec<Segment>);

#[derive(Clone, Debug, PartialEq, Eq)]
enum Segment {
    Is(Token),
    Any,
    Rest,
}

impl Pattern {
    /// The pattern of all paths.
    pub(crate) fn everything() -> Self {
        Self(vec![Segment::Rest])
    }

    /// The records of a field of the state.
    pub(super) fn of_records(field: &str) -> Self {
        Self(vec![Segment::Is(field.into()), Segment::Any])
    }

    /// Reads a pattern; `None` where it is no path. A `**` may stand only once, so that matching
    /// takes one pass.
    pub fn parse(text: &str) -> Option<Self> {
        let path = Path::parse(text).ok().filter(|path| !path.tokens().is_empty())?;
        let part = |token: &Token| match token.as_str() {
            "*" => Segment::Any,
            "**" => Segment::Rest,
            _ => Segment::Is(token.clone()),
        };
        let parts: Vec<_> = path.tokens().iter().map(part).collect();
        (parts.iter().filter(|part| **part == Segment::Rest).count() <= 1).then_some(Self(parts))
    }

    /// Whether the pattern covers the path. Cost O(tokens).
    pub fn matches(&self, tokens: &[Token]) -> bool {
        let fits = |parts: &[Segment], tokens: &[Token]| {
            parts.iter().zip(tokens).all(|(part, token)| part.fits(token))
        };
        match self.0.iter().position(|part| *part == Segment::Rest) {
            None => self.0.len() == tokens.len() && fits(&self.0, tokens),
            Some(at) => {
                let (head, tail) = (&self.0[..at], &self.0[at + 1..]);
                tokens.len() >= head.len() + tail.len()
                    && fits(head, tokens)
                    && fits(tail, &tokens[tokens.len() - tail.len()..])
            }
        }
    }

    /// Whether it can match a path that begins with these tokens and goes on.
    pub(crate) fn may_lead_into(&self, tokens: &[Token]) -> bool {
        match self.0.iter().position(|part| *part == Segment::Rest) {
            Some(rest) if rest <= tokens.len() => {
                self.0[..rest].iter().zip(tokens).all(|(part, token)| part.fits(token))
            }
            _ => {
                self.0.len() > tokens.len()
                    && self.0.iter().zip(tokens).all(|(part, token)| part.fits(token))
            }
        }
    }

    /// Whether it is about an edit at these tokens: at what it changes, around it, or inside what
    /// comes anew or goes. An edit that makes a record is one of the record, whatever its id.
    pub fn concerns(&self, tokens: &[Token], makes_record: bool) -> bool {
        let made: Vec<Token> =
            tokens.iter().cloned().chain(makes_record.then(|| "*".into())).collect();
        let is_around = (1..=made.len()).any(|len| self.matches(&made[..len]));
        is_around || self.may_lead_into(&made)
    }

    /// Its tokens, `None` for any one; nothing where it has a `**`.
    pub(crate) fn tokens(&self) -> Option<Vec<Option<Token>>> {
        let token = |part: &Segment| match part {
            Segment::Is(token) => Some(Some(token.clone())),
            Segment::Any => Some(None),
            Segment::Rest => None,
        };
        self.0.iter().map(token).collect()
    }

    /// Tokens of what it matches, 0 where it has a `**`.
    pub(crate) fn len(&self) -> usize {
        if self.0.contains(&Segment::Rest) { 0 } else { self.0.len() }
    }

    /// The first token, where it is a fixed one.
    pub(super) fn top(&self) -> Option<&str> {
        match self.0.first() {
            Some(Segment::Is(token)) => Some(token),
            _ => None,
        }
    }
}

impl Segment {
    fn fits(&self, token: &str) -> bool {
        match self {
            Self::Is(own) => own == token,
            Self::Any | Self::Rest => true,
        }
    }
}

impl fmt::Display for Pattern {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.iter().try_for_each(|part| match part {
            Segment::Is(token) => write!(f, "/{}", crate::path::escape(token)),
            Segment::Any => f.write_str("/*"),
            Segment::Rest => f.write_str("/**"),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn patterns_cover_what_they_say_and_no_more() {
        let table = [
            ("/**", "/markers/m7/spot", true),
            ("/markers/**", "/markers", true),
            ("/markers/**", "/markers/m7/spot", true),
            ("/markers/**", "/markersx", false),
            ("/markers/*", "/markers/m7", true),
            ("/markers/*", "/markers/m7/spot", false),
            ("/markers/*", "/markers", false),
            ("/markers/*/spot", "/markers/m7/spot", true),
            ("/**/spot", "/markers/m7/spot", true),
            ("/**/spot", "/markers/m7/what", false),
            ("/markers/**/spot", "/markers/spot", true),
            ("/markers/**/spot", "/spot", false),
        ];
        for (pattern, path, expected) in table {
            let matches =
                Pattern::parse(pattern).unwrap().matches(Path::parse(path).unwrap().tokens());
            assert_eq!(matches, expected, "{pattern} against {path}");
        }
    }

    #[test]
    fn a_pattern_is_a_path_with_at_most_one_double_star() {
        for text in ["", "markers", "/a~2", "/**/a/**"] {
            assert_eq!(Pattern::parse(text), None, "{text}");
        }
    }
}
