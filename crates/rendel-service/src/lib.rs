//! The service: what carries bytes to and from the sequencers.
//!
//! * [`Config`] is all that it is told, read and validated by whoever starts it.
//! * [`Service::start`] binds the address, and [`Service::run`] serves until it is told to stop;
//!   what was accepted by then is settled and written first.
//! * A *session* (`session/`) is a state machine without IO (`rendel-session`), a driver that moves
//!   values between it and the world, and a bounded mailbox.
//! * A *connection* (`connection/`) is a task per WebSocket or line. It speaks to its session through that
//!   mailbox, and hears from it through a bounded queue (`queue/`) that it drains into one frame.
//!   Nothing else ties the two, so that they could live in different processes.
//! * `http/` has the calls of the HTTP interface, `openapi.rs` their description, generated from
//!   them.

mod access;
mod addresses;
mod announcing;
mod answers;
mod app;
mod auth;
mod budget;
mod carry;
mod clock;
mod config;
mod connection;
mod console;
mod documents;
mod failure;
mod gates;
mod guests;
mod http;
mod identity;
mod lines;
mod metrics;
mod openapi;
mod origins;
mod ownership;
mod queue;
mod rate;
mod revoked;
mod searches;
mod service;
mod session;
mod sign_ins;
mod signature;
mod tickets;
mod token;
mod waking;

pub use config::{AnswerBytes, Config};
pub use openapi::openapi_json;
pub use origins::Origins;
pub use service::{Service, ServiceError, raise_descriptor_limit};
pub use signature::WebhookSecret;
pub use token::{MOST_SECONDS, ServiceKey};
