//! Sessions in memory: each is a state machine, a loop that drives it, and a mailbox.

mod amendments;
mod driver;
mod handle;
mod keeping;
mod loading;
mod outlets;
mod past;
mod removals;

pub(crate) use handle::{Answered, Ask, Begun, Entered, Entry, SessionHandle};
pub(crate) use past::{Patches, state_at};
