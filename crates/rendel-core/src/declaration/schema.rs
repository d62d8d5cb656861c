//! JSON Schema (2020-12): of values inside a session, and of the charter language itself.

use jsonschema::error::ValidationErrorKind;
use jsonschema::{Draft, PatternOptions, Validator};
use serde_json::Value;

use crate::path::Path;
use crate::problem::{Problem, ProblemKind};

/// The JSON Schema of the charter language, for editors that complete and check.
pub fn charter_schema() -> &'static str {
    include_str!("charter.schema.json")
}

/// Compiles a schema. References lead nowhere outside it, and patterns take linear time.
pub(crate) fn compile(schema: &Value) -> Result<Validator, String> {
    jsonschema::options()
        .with_draft(Draft::Draft202012)
        .with_pattern_options(PatternOptions::regex().size_limit(1 << 20))
        .build(schema)
        .map_err(|error| error.to_string())
}

/// Checks a value: `out-of-bounds` where it has the right type and goes beyond a limit, else
/// `wrong-type`.
pub(crate) fn check_schema(schema: &Validator, at: &Path, value: &Value) -> Result<(), Problem> {
    use ValidationErrorKind as Kind;
    let Some(error) = schema.iter_errors(value).next() else { return Ok(()) };
    let kind = match error.kind() {
        Kind::Maximum { .. }
        | Kind::Minimum { .. }
        | Kind::ExclusiveMaximum { .. }
        | Kind::ExclusiveMinimum { .. }
        | Kind::MaxLength { .. }
        | Kind::MinLength { .. }
        | Kind::MaxItems { .. }
        | Kind::MinItems { .. }
        | Kind::MaxProperties { .. }
        | Kind::MinProperties { .. }
        | Kind::MultipleOf { .. } => ProblemKind::OutOfBounds,
        _ => ProblemKind::WrongType,
    };
    let inside = error.instance_path().to_string();
    let part =
        if inside.is_empty() { String::new() } else { format!(" (in the value at {inside})") };
    Err(Problem::new(kind, format!("{at}{part}: {}.", error.masked())).at(at))
}
