//! The queue between a session and one connection.

mod beat;
mod item;
mod outbound;

pub(crate) use beat::Beat;
pub(crate) use item::{Arrival, Beginning, Frame, Instead, Item, Run, Snapshot};
pub(crate) use outbound::Outbound;
