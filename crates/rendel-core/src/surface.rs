//! Surfaces: coordinate systems that everyone shares, whatever their screen.

use std::collections::BTreeMap;

use serde_json::Value;
use toml_edit::Item;

use crate::declaration::Section;
use crate::path::Path;
use crate::problem::{Problem, ProblemKind};
use crate::suggest::nearest;

/// Surfaces by name.
pub(crate) type Surfaces = BTreeMap<String, Surface>;

/// A coordinate system that everyone shares, whatever their screen.
#[derive(Clone, Debug, PartialEq)]
pub struct Surface {
    /// What is counted, such as `m`.
    pub unit: String,
    /// From where to where, to the right.
    pub x: (f64, f64),
    /// From where to where, upwards.
    pub y: (f64, f64),
}

impl Surface {
    /// Checks a place on it: `{"x", "y"}` in its unit.
    pub(crate) fn check(&self, at: &Path, place: &Value) -> Result<(), Problem> {
        let number = |name: &str| place.get(name).and_then(Value::as_f64);
        let is_place = place.as_object().is_some_and(|place| place.len() == 2);
        let (Some(x), Some(y), true) = (number("x"), number("y"), is_place) else {
            let detail =
                format!("{at} is a place on a surface: {{\"x\", \"y\"}} in {}.", self.unit);
            return Err(Problem::new(ProblemKind::WrongType, detail).at(at));
        };
        let inside = |range: (f64, f64), number: f64| (range.0..=range.1).contains(&number);
        if inside(self.x, x) && inside(self.y, y) {
            return Ok(());
        }
        let detail = format!(
            "{at} lies beyond the surface, which goes from {} to {} and from {} to {} {}.",
            self.x.0, self.x.1, self.y.0, self.y.1, self.unit
        );
        Err(Problem::new(ProblemKind::OutOfBounds, detail).at(at))
    }

    /// Reads the name of a declared surface.
    pub(crate) fn named(
        section: &mut Section<'_>,
        key: &'static str,
        all: &Surfaces,
    ) -> Option<Self> {
        let name = section.know(key).and_then(Item::as_str);
        let found = name.and_then(|name| all.get(name)).cloned();
        if found.is_none() && section.has(key) {
            let known = all.keys().map(String::as_str);
            let meant = name.and_then(|name| nearest(name, known));
            section.fault_at(key, "the name of a surface that [surfaces] declares", meant);
        }
        found
    }

    /// Reads all of [surfaces].
    pub(crate) fn declare_all(root: &mut Section<'_>) -> Surfaces {
        let mut surfaces = Surfaces::new();
        let Some(mut all) = root.known_section("surfaces") else { return surfaces };
        for name in all.keys() {
            let Some(mut section) = all.section(&name) else { continue };
            let unit = section.text("unit").filter(|unit| !unit.is_empty());
            if unit.is_none() {
                let expected = "what is counted, such as \"m\", \"mm\" or \"cells\"";
                section.fault_at("unit", expected, None);
            }
            let (x, y) = (section.range("x"), section.range("y"));
            section.finish();
            if let (Some(unit), Some(x), Some(y)) = (unit, x, y) {
                surfaces.insert(name, Self { unit, x, y });
            }
        }
        all.finish();
        surfaces
    }
}
