//! Queries: which records of a map or list, in which order, asked for once and then kept up to
//! date.
//!
//! What somebody is told is a function of what they see: of a record that is hidden from them there
//! is no row, and a field that is hidden is `null`. So a query finds out nothing that looking at
//! the state would not.

mod asked;
mod collection;
mod index;
mod order;
mod recent;
mod rows;
mod standing;
mod touched;
mod window;

pub use asked::{Asked, Place};
pub use rows::{Row, RowStep, RowSteps, Rows, Ticket, Turned};
pub use standing::Queries;
