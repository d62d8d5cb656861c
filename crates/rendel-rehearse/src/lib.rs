//! Rehearsals: a session with its participants, processes, journal and network on one virtual
//! clock, from one seed.
//!
//! The session is the real machine (`rendel-session`), the participants have the real replica
//! (`rendel-client`); between them are values instead of sockets. [`rehearse`] runs a [`Plan`] and
//! says what was wrong, if anything was. The same plan makes the same world, to the byte;
//! [`Plan::shrunk`] finds a smaller one that fails as well.

mod chance;
mod follower;
mod host;
mod journal;
mod participant;
mod plan;
mod world;

pub use plan::{Fault, Plan};
pub use world::{Failure, Outcome, rehearse};
