//! Announcements on their way to other systems: as events, over webhooks and as a feed.

mod events;
mod receivers;
mod sending;

pub(crate) use events::{Subject, event};
pub(crate) use receivers::{Receivers, check_address};
