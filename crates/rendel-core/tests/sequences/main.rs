//! Texts and lists: whatever is late or concurrent, they end as a slow and literal model of the
//! rule says, and what was meant is what became of it.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

mod editing;
mod list;
mod model;
mod session;
mod text;
