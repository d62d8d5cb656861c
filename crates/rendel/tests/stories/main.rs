//! Stories: the real service in a process of its own, with a real PostgreSQL, spoken to over
//! loopback.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

mod harness;

mod agreement;
mod announcements;
mod authorization;
mod bad_input;
mod commands;
mod console;
mod delivery;
mod digests;
mod durability;
mod entering;
mod examples;
mod faults;
mod gates;
mod hostile;
mod interface;
mod journal_away;
mod leaks;
mod life;
mod limits;
mod people;
mod play;
mod queries;
mod repeats;
mod secrets;
mod timing;
mod tokens;
mod undo;
