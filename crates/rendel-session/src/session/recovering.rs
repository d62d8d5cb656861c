//! A journal that is away, an owner that is another, and the end.

use rendel_core::{ClientOutcome, Problem, Reader};
use rendel_wire::OutcomeFrame;

use super::Session;
use crate::audiences::Word;
use crate::input::{Found, Input};
use crate::order::{Origin, Waiting};
use crate::output::{Answer, Output};
use crate::problems::{moved, shutting_down, unavailable};

impl Session {
    /// An append failed: what was under way is in the journal or not.
    pub(super) fn lose_journal(&mut self) {
        if !self.order.handle_lost() {
            return;
        }
        // What is held for a beat is on disk.
        self.show_held();
        if self.is_stopping {
            return self.stop_when_written();
        }
        self.outputs.push(Output::Recover);
    }

    /// The journal is there again. What was under way turns out to be in it or not: who proposed it
    /// is told which.
    pub(super) fn find_journal(&mut self, found: &Found) {
        if !self.order.is_adrift() {
            return;
        }
        let (charter, opening) = (self.charter.clone(), self.opening.clone());
        let Ok((unseen, waiting)) = self.order.handle_found(&charter, opening.as_ref(), found)
        else {
            self.outputs.push(Output::Recover);
            return;
        };
        self.standing = found.standing.clone();
        self.standing.status.name().clone_into(&mut self.head.status);
        self.audiences.forget_snapshots();
        self.following.forget();
        match unseen {
            Some(updates) => self.show_unseen(updates),
            // They come back and get what they missed; to go on without it would leave a gap.
            None => {
                self.order.note_shown(self.order.seq());
                self.close_all(&unavailable());
            }
        }
        let meanwhile = std::mem::take(&mut self.said_meanwhile);
        waiting.into_iter().for_each(|one| self.answer_after_recovery(one));
        for (connection, said) in meanwhile {
            said.into_iter().for_each(|said| self.keep_said(connection, said));
        }
        // What was due meanwhile comes before what waited.
        self.act_in_time();
        for (client, n, verdict) in std::mem::take(&mut self.late_verdicts) {
            self.handle_verdict(client, n, verdict);
        }
        self.say_what_was_kept();
        self.follow_all_anew();
        self.seating.is_due = true;
        self.note_lapse();
        self.seating.told = None;
    }

    fn answer_after_recovery(&mut self, one: Waiting) {
        match one {
            Waiting::Update { from, .. }
            | Waiting::Refused { from, .. }
            | Waiting::Repeated { from, .. } => {
                let (client, n) = from.proposal();
                match (self.outcome(client, n), from) {
                    // What it did by itself it does again, if that is still to be done.
                    (_, Origin::Own) => {}
                    (Some(outcome), Origin::Call { call, reader, .. }) => {
                        self.repeat_to_call(outcome, call, reader);
                    }
                    (None, Origin::Call { call, reader, .. }) => {
                        self.answer(call, Err(unavailable()), &reader);
                    }
                    // A settled one was shown above with all that was written unseen; who may not
                    // see it is told of it.
                    (Some(ClientOutcome::Settled(seq)), Origin::Connection { connection, .. }) => {
                        let outcome = ClientOutcome::Settled(seq).into();
                        self.tell(connection, Word::Outcome(OutcomeFrame { n, outcome }));
                    }
                    (
                        Some(ClientOutcome::Refused(problem)),
                        Origin::Connection { connection, .. },
                    ) => self.refuse(connection, n, problem),
                    (None, Origin::Connection { connection, .. }) => {
                        self.refuse(connection, n, unavailable());
                    }
                }
            }
            Waiting::Welcome { connection, .. } => {
                self.outputs.push(Output::Close { connection, problem: unavailable() });
            }
            Waiting::Answer { call, .. } => {
                self.answer(call, Err(unavailable()), &Reader::service())
            }
            // It was on disk before it came here.
            Waiting::Status { call, by, standing } => {
                self.show_standing(standing, by);
                self.answer(call, Ok(Answer::Done), &Reader::service());
            }
            Waiting::Roster(change) => self.tell_all(&Word::Roster(change)),
            Waiting::Holds(change) => self.tell_all(&Word::Holds(change)),
            Waiting::Presence => self.show_presence(),
            Waiting::Undoable { connection, undoable } => {
                self.tell(connection, Word::Undoable(undoable));
            }
            Waiting::QueryRefused { connection, refused } => {
                self.tell(connection, Word::QueryRefused(refused));
            }
            Waiting::Acted { connection, answer } => self.tell(connection, Word::Answer(answer)),
            Waiting::Cue { .. } => self.order.push(one),
            // Its places are found anew in the order as it turns out to be.
            Waiting::Said { connection, said, .. } => self.keep_said(connection, said),
            // What was asked or repaired meanwhile is asked again, and rows are told anew.
            Waiting::Rows { .. }
            | Waiting::Keep(_)
            | Waiting::AskForDigests { .. }
            | Waiting::Resync { .. } => {}
        }
    }

    /// Another process goes on with this session. What was under way here was not written; who
    /// proposed it asks there.
    pub(super) fn give_up(&mut self) {
        self.show_held();
        self.end(&moved(), &moved());
    }

    /// A session that is to stop does so once what it accepted is on disk, or is known not to come
    /// there. Then it keeps a snapshot, without which a start would read more.
    pub(super) fn stop_when_written(&mut self) {
        if !self.is_stopping || self.order.is_writing() {
            return;
        }
        self.close_batch();
        if self.order.is_writing() {
            return;
        }
        self.show_held();
        let snapshot = self.order.last_snapshot().filter(|_| !self.order.is_adrift());
        self.outputs.extend(snapshot.map(Output::Keep));
        if !self.order.is_adrift() {
            self.outputs.extend(self.order.poll_wake().map(Output::NoteWake));
        }
        self.end(&unavailable(), &shutting_down());
    }

    /// What is not known to be on disk is given up: calls are told why, and participants nothing.
    /// They send again what has no answer, to whoever goes on with the session.
    pub(super) fn end(&mut self, why: &Problem, to_connections: &Problem) {
        for one in self.order.take_unwritten() {
            match one {
                Waiting::Update { from: Origin::Call { call, reader, .. }, .. }
                | Waiting::Refused { from: Origin::Call { call, reader, .. }, .. }
                | Waiting::Repeated { from: Origin::Call { call, reader, .. }, .. } => {
                    self.answer(call, Err(why.clone()), &reader);
                }
                Waiting::Answer { call, .. } | Waiting::Status { call, .. } => {
                    self.answer(call, Err(why.clone()), &Reader::service());
                }
                _ => {}
            }
        }
        for held in self.gates.take_all() {
            if let Origin::Call { call, reader, .. } = held.from {
                self.answer(call, Err(why.clone()), &reader);
            }
        }
        self.close_all(to_connections);
        self.has_stopped = true;
        self.outputs.push(Output::Stopped);
    }

    fn close_all(&mut self, problem: &Problem) {
        for connection in self.members.all() {
            self.outputs.push(Output::Close { connection, problem: problem.clone() });
        }
    }

    /// Whoever comes to a session that has stopped is told so.
    pub(super) fn handle_after_end(&mut self, input: Input) {
        match input {
            Input::Entered(entry) => {
                let (connection, result) = (entry.connection, Err(shutting_down()));
                self.outputs.push(Output::Entered { connection, result });
            }
            Input::Call { call, .. }
            | Input::Fetched { call, .. }
            | Input::StandingWritten { call, .. } => {
                self.answer(call, Err(shutting_down()), &Reader::service());
            }
            _ => {}
        }
    }
}
