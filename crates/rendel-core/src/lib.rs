//! The heart of Rendel: what a session *is*, with no word about how bytes reach it.
//!
//! * A [`Charter`] is the checked model of the declaration that a developer writes.
//!   [`Charter::parse`] reads TOML and reports every [`Fault`] with line, column, path, what was
//!   expected and what might have been meant.
//! * A [`State`] is the live value of a session, a tree of cells. Each kind of field is one file in
//!   `kind/`: what it stores, its edits, its merge rule, its effects and its tests. One table in
//!   `kind/mod.rs` lists them.
//! * A [`Sequencer`] is the state machine that puts proposals in order:
//!   `input (who, what, when) -> output (settled | refused)`. It has no IO, no clock and no
//!   randomness of its own, so the same inputs give the same bytes. Its methods come in three
//!   families: getters; `handle_*` for what comes in; `restore`, `replay` and `snapshot` for coming
//!   back after a stop.
//!
//! Deciding and doing are apart: a kind first *settles* an edit against the state as it is (pure),
//! which gives effects; effects are then *applied*. A restart applies the journal's effects through
//! the same code, so that a recovered session is the session that stopped.

mod actor;
mod canonical;
mod charter;
mod decimal;
mod declaration;
mod difference;
mod document;
mod edit;
mod grantees;
mod history;
mod holds;
mod kind;
mod lately;
mod op;
mod patch;
mod path;
mod presence;
mod problem;
mod query;
mod references;
mod revert;
mod rewrite;
mod scope;
mod sequence;
mod sequencer;
mod stamp;
mod state;
mod suggest;
mod surface;
mod totals;
mod update;

pub use actor::{Actor, ClientKey};
pub use canonical::{CanonicalText, canonical_bytes, digest, is_same, weight};
pub use charter::{
    BuiltIn, Charter, Cue, CueTo, Expression, Extent, Fact, Gate, Grant, Guard, HoldRules, Lens,
    Limits, NoAnswer, Pattern, Permission, Power, PresenceRules, Query, Role, RosterSight, Rules,
    SecretIndex, SessionRules, Shape, Sight, Unanswered,
};
pub use declaration::{Fault, charter_schema};
pub use difference::{Difference, differences};
pub use document::Document;
pub use edit::Edit;
pub use grantees::{Grantees, Reader, SightKey, Viewer};
pub use holds::{Hold, HoldChange, Holds};
pub use kind::{Cell, Chance, Draw, DrawKey, Entropy, Field, Fields, KINDS, KindWords};
pub use op::{Act, Back, Made, Op, Place, Splicing, Step, When};
pub use patch::PatchOp;
pub use path::{Path, Token};
pub use presence::{Facts, Presence, Teller, follow_carets, placed};
pub use problem::{Problem, ProblemKind};
pub use query::{Asked, Place as RowPlace, Queries, Row, RowStep, RowSteps, Rows, Ticket, Turned};
pub use sequence::{Anchored, SettledSplice, Splice, TextPart, VersionedText, View};
pub use sequencer::{
    ClientOutcome, Look, Outcome, Permitted, Sequencer, SequencerSnapshot, Skipped, UndoPlace,
    Undoable,
};
pub use stamp::Stamp;
pub use state::{Misfit, Provenance, State};
pub use suggest::nearest;
pub use surface::Surface;
pub use update::{
    Announced, Change, Disclosure, Effect, Effects, Passage, PrivatePatch, Proposal, RuleMark,
    Settled, Undoes, Verdict, VerdictKind, Way, Whose, told,
};
