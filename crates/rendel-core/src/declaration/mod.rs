//! Reading a declaration: tables with their places, keys by their types, and faults.
//!
//! It knows TOML and JSON Schema, and nothing of what is declared.

mod fault;
mod schema;
mod section;
mod value;

pub use fault::Fault;
pub(crate) use fault::{Faults, syntax_fault};
pub use schema::charter_schema;
pub(crate) use schema::{check_schema, compile};
pub(crate) use section::Section;
pub(crate) use value::{is_field_name, parse_ms, table_to_json};
