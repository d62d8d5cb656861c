//! Ways through the state.

use serde_json::Value;

use super::{Fields, Record};
use crate::path::Token;

/// A way through the state along steps, each a name or any id, to the plain values at its ends.
pub(crate) struct Walk<'w> {
    steps: &'w [Option<Token>],
    path: Vec<Token>,
    visit: &'w mut dyn FnMut(&[Token], &Value),
}

impl Walk<'_> {
    /// Visits every value to which the steps lead. Cost O(what they lead through).
    pub(crate) fn over(
        fields: &Fields,
        root: &Record,
        steps: &[Option<Token>],
        visit: &mut dyn FnMut(&[Token], &Value),
    ) {
        fields.walk(root, &mut Walk { steps, path: Vec::new(), visit });
    }

    /// Whether the steps have come to their end.
    pub(super) fn is_there(&self) -> bool {
        self.steps.is_empty()
    }

    pub(super) fn visit(&mut self, value: &Value) {
        (self.visit)(&self.path, value);
    }

    /// The next step where it is a name.
    pub(super) fn name(&self) -> Option<&str> {
        self.steps.first()?.as_deref()
    }

    pub(super) fn step(&mut self, token: &str, go_on: impl FnOnce(&mut Walk<'_>)) {
        self.path.push(token.into());
        let mut further = Walk {
            steps: &self.steps[1..],
            path: std::mem::take(&mut self.path),
            visit: &mut *self.visit,
        };
        go_on(&mut further);
        self.path = further.path;
        self.path.pop();
    }

    /// Through one element or all of them.
    pub(super) fn each<'c, E: 'c, I: Iterator<Item = (&'c str, &'c E)>>(
        &mut self,
        one: impl Fn(&str) -> Option<(&'c str, &'c E)>,
        all: impl Fn() -> I,
        go_on: impl Fn(&'c E, &mut Walk<'_>),
    ) {
        match self.steps.first() {
            None => {}
            Some(Some(id)) => {
                if let Some((id, element)) = one(id) {
                    self.step(id, |walk| go_on(element, walk));
                }
            }
            Some(None) => {
                all().for_each(|(id, element)| self.step(id, |walk| go_on(element, walk)))
            }
        }
    }
}
