//! What goes out, in order, once everything before it is on disk.

use std::collections::BTreeSet;
use std::sync::Arc;

use rendel_core::{ClientOutcome, Reader, Viewer};
use rendel_wire::{DigestAsked, OutcomeFrame, Status as StatusFrame};

use super::Session;
use crate::audiences::{Content, Stored, Theirs, Word};
use crate::input::{ConnectionId, SessionStatus, Status, WayIn};
use crate::members::Member;
use crate::order::{Origin, Waiting};
use crate::output::{Answer, Output, Report, To};
use crate::problems::ended;
use crate::quiet::Stretch;

/// Who is shown nothing of updates is told of them together, at the next multiple of so many
/// milliseconds: it costs no frame for each, nor does it tell when they were made.
const QUIET: u64 = 250;

/// Updates that are shown together with their places, and whose they are: connection, number and
/// place.
#[derive(Default)]
struct Run {
    updates: Vec<Stored>,
    own: Vec<(ConnectionId, u64, u64)>,
}

impl Session {
    /// Shows what waited, at once or at the next beat where the charter has one.
    pub(super) fn release(&mut self, waiting: Vec<Waiting>) {
        let tick = u64::try_from(self.charter.session.tick.as_millis()).unwrap_or(u64::MAX);
        if tick == 0 {
            return self.show(waiting);
        }
        if !waiting.is_empty() {
            self.held.extend(waiting);
            // Beats fall together in all sessions.
            let now = self.now;
            self.beat.get_or_insert_with(|| (now / tick + 1).saturating_mul(tick));
        }
    }

    /// The beat has come.
    pub(super) fn show_held(&mut self) {
        self.beat = None;
        let held = std::mem::take(&mut self.held);
        self.show(held);
    }

    fn show(&mut self, waiting: Vec<Waiting>) {
        let mut run = Run::default();
        for one in waiting {
            if let Waiting::Update { update, json, from } = one {
                let seq = update.seq;
                self.order.note_shown(seq);
                match from {
                    Origin::Call { call, reader, .. } => {
                        let json = self.audiences.update(&reader, Some(&json));
                        self.answer(call, Ok(Answer::Settled { seq, json }), &reader);
                    }
                    Origin::Connection { connection, n, .. } => run.own.push((connection, n, seq)),
                    Origin::Own => {}
                }
                run.updates.push((update, json));
                continue;
            }
            self.show_run(std::mem::take(&mut run));
            self.show_one(one);
        }
        self.show_run(run);
    }

    fn show_one(&mut self, one: Waiting) {
        match one {
            Waiting::Update { .. } => {}
            Waiting::Refused { n, problem, from } => match from {
                Origin::Connection { connection, .. } => self.refuse(connection, n, problem),
                Origin::Call { call, reader, .. } => self.answer(call, Err(problem), &reader),
                Origin::Own => {}
            },
            Waiting::Repeated { outcome, from } => match from {
                Origin::Connection { connection, n, .. } => {
                    let outcome = outcome.into();
                    self.tell(connection, Word::Outcome(OutcomeFrame { n, outcome }));
                }
                Origin::Call { call, reader, .. } => self.repeat_to_call(outcome, call, reader),
                Origin::Own => {}
            },
            Waiting::Welcome { connection, number, shown, followed, presence } => {
                let Some(member) = self.members.get(connection) else { return };
                let audience = member.audience;
                // What they may see has changed since, so another welcome is on its way.
                if number != self.audiences.number(audience, &member.viewer) {
                    return;
                }
                self.members.set_welcome(connection, true);
                if let Some(state) = followed {
                    self.audiences.follow(audience, *state);
                }
                let to = To::One(connection);
                self.outputs.push(Output::Show { to: to.clone(), shown });
                // What was told while the welcome waited for the disk went past it.
                let (before, times) = presence;
                if times != self.people.times_told() {
                    let of = self.people.presence();
                    let shown = self.audiences.presence_again(audience, of, &before);
                    self.outputs.push(Output::Show { to, shown });
                }
            }
            Waiting::Roster(change) => self.tell_all(&Word::Roster(change)),
            Waiting::Holds(change) => self.tell_all(&Word::Holds(change)),
            Waiting::Answer { call, answer } => self.outputs.push(Output::Answer { call, answer }),
            Waiting::Status { call, by, standing } => {
                self.show_standing(standing, by);
                self.answer(call, Ok(Answer::Done), &Reader::service());
            }
            Waiting::Said { connection, facts, .. } => {
                if let Some(teller) = self.members.get(connection).map(|member| member.teller()) {
                    self.people.said(&teller, connection, facts, self.now);
                    self.show_presence();
                }
            }
            Waiting::Presence => self.show_presence(),
            Waiting::Undoable { connection, undoable } => {
                self.tell(connection, Word::Undoable(undoable));
            }
            Waiting::Rows { tickets, told } => self.show_rows(&tickets, &told),
            Waiting::QueryRefused { connection, refused } => {
                self.tell(connection, Word::QueryRefused(refused));
            }
            Waiting::Acted { connection, answer } => self.tell(connection, Word::Answer(answer)),
            Waiting::Cue { frame, to } => {
                for (audience, connections) in self.members.cued(&frame.by, &to) {
                    let shown = self.audiences.word(audience, None, Word::Cue(frame.clone()));
                    let to = To::These(connections);
                    self.outputs.extend(shown.map(|shown| Output::Show { to, shown }));
                }
            }
            Waiting::Keep(snapshot) => self.outputs.push(Output::Keep(snapshot)),
            Waiting::AskForDigests { seq, state } => {
                // Replicas can only be compared at one place.
                self.end_quiet();
                let replicas = self.members.replicas();
                let has_secrets =
                    |(audience, _): &&(usize, Viewer)| self.audiences.has_secrets(*audience);
                let viewers = replicas.values().filter(has_secrets).cloned().collect();
                self.digests.ask(seq, replicas);
                self.tell_all(&Word::Digest(DigestAsked { seq }));
                self.outputs.push(Output::Digest { seq, state, viewers });
            }
            Waiting::Resync { connection, number, shown } => {
                let now = |member: &Member| self.audiences.number(member.audience, &member.viewer);
                if self.members.get(connection).map(now) == Some(number) {
                    self.outputs.push(Output::Show { to: To::One(connection), shown });
                }
            }
        }
    }

    /// Shows updates that were written and never shown.
    pub(super) fn show_unseen(&mut self, updates: Vec<Arc<str>>) {
        let last = self.order.seq();
        self.order.note_shown(last);
        let read = |json: Arc<str>| Some((Arc::new(serde_json::from_str(&json).ok()?), json));
        // Nobody could say what is in one that cannot be read. Replicas find the gap, and come back.
        let updates = updates.into_iter().map_while(read).collect();
        self.show_run(Run { updates, own: Vec::new() });
    }

    /// Tells everybody of what they were shown nothing of.
    pub(super) fn end_quiet(&mut self) {
        self.quiet_until = None;
        for audience in self.audiences.ids() {
            if self.audiences.is_quiet(audience) {
                let shown = self.audiences.entries(audience, Vec::new());
                self.outputs.push(Output::Show { to: To::Audience(audience), shown });
            }
        }
    }

    /// Shows a run of updates: one value that all of an audience share.
    fn show_run(&mut self, run: Run) {
        let Run { updates, own } = run;
        if updates.is_empty() {
            return;
        }
        let mut told_beside = BTreeSet::new();
        for audience in self.audiences.ids() {
            if !self.members.has_audience(audience) && !self.audiences.is_followed(audience) {
                self.audiences.forget_quiet(audience);
                continue;
            }
            let theirs = self.audiences.theirs(audience, &updates, &self.members);
            let (stretches, instead, why) = self.audiences.updates(audience, &updates, &theirs);
            for (followers, shown) in instead {
                self.outputs.push(Output::Show { to: To::These(followers), shown });
            }
            let with_replicas = |theirs: &Theirs| !theirs.replicas.is_empty();
            let mut theirs = theirs.into_iter().flatten().filter(with_replicas).peekable();
            for stretch in stretches {
                let last = stretch.last();
                let quiet = match &stretch {
                    Stretch::Blank(blank) => Some(self.audiences.keep_quiet(audience, *blank)),
                    Stretch::Shown(_) => None,
                };
                // What is somebody's own of an update comes before it, and is taken in with it.
                while let Some(theirs) = theirs.next_if(|theirs| theirs.beside.seq <= last) {
                    let seq = theirs.beside.seq;
                    told_beside.extend(theirs.replicas.iter().map(|id| (*id, seq)));
                    let to = To::These(theirs.replicas.clone());
                    let shown = self.audiences.beside(&theirs);
                    self.outputs.push(Output::Show { to: to.clone(), shown });
                    if let Some(quiet) = quiet {
                        let shown = self.audiences.blank(quiet, seq);
                        self.outputs.push(Output::Show { to, shown });
                    }
                }
                match stretch {
                    Stretch::Blank(_) => {
                        let until = (self.now / QUIET + 1) * QUIET;
                        self.quiet_until.get_or_insert(until);
                    }
                    Stretch::Shown(entries) => {
                        let shown = self.audiences.entries(audience, entries);
                        self.outputs.push(Output::Show { to: To::Audience(audience), shown });
                    }
                }
            }
            if let Some(why) = why {
                self.report(Report::Unpatched(why));
            }
        }
        // Who may not see what they changed themselves cannot tell their update from others by its
        // author: they are told.
        for (connection, n, seq) in own {
            let Some(member) = self.members.get(connection) else { continue };
            if told_beside.contains(&(connection, seq)) {
                continue;
            }
            let first = updates.first().map_or(seq, |(first, _)| first.seq);
            let update = updates.get(usize::try_from(seq - first).unwrap_or(usize::MAX));
            // Nor can who is told no updates.
            let is_bare = member.way == WayIn::Queries;
            if is_bare
                || update
                    .is_some_and(|(update, _)| self.audiences.hides_author(member.audience, update))
            {
                let outcome = ClientOutcome::Settled(seq).into();
                self.tell(connection, Word::Outcome(OutcomeFrame { n, outcome }));
            }
        }
        self.people.handle_shown(&updates, self.now);
    }

    /// Shows what changed in presence, where it is time.
    pub(super) fn show_presence(&mut self) {
        let Some(changed) = self.people.poll_presence(self.now) else { return };
        for audience in self.audiences.ids() {
            let shown = self.audiences.presence(audience, self.people.presence(), &changed);
            let Some(shown) = shown.filter(|_| self.members.has_audience(audience)) else {
                continue;
            };
            let Content::Presence(told) = shown.get() else { continue };
            let to = To::hearers(audience, told);
            self.outputs.push(Output::Show { to, shown });
        }
    }

    pub(super) fn show_standing(&mut self, standing: SessionStatus, by: String) {
        let SessionStatus { status, except } = standing;
        let status_name = status.name().to_owned();
        self.tell_all(&Word::Status(StatusFrame { status: status_name, except, by }));
        if status == Status::Ended {
            for connection in self.members.all() {
                self.outputs.push(Output::Close { connection, problem: ended() });
            }
        }
    }

    /// Asks all replicas for their digests where so many updates have come since the last time.
    pub(super) fn ask_for_digests(&mut self, every: u64) {
        let seq = self.order.seq();
        if self.members.has_replicas() && self.digests.is_due(seq, every) {
            self.digests.put(seq);
            self.compare_at = None;
            let state = Box::new(self.order.sequencer().state());
            self.order.push(Waiting::AskForDigests { seq, state });
        }
    }

    /// Gives a replica that differs the whole state.
    pub(super) fn repair(&mut self, connection: ConnectionId) {
        let Some(member) = self.members.get(connection) else { return };
        let (audience, viewer, seq) = (member.audience, member.viewer.clone(), self.order.seq());
        self.report(Report::Differed { who: viewer.id.clone(), seq });
        let state = self.order.sequencer().state();
        let number = self.audiences.number(audience, &viewer);
        let shown = self.audiences.resync((audience, &viewer), seq, &state);
        self.order.push(Waiting::Resync { connection, number, shown });
    }
}
