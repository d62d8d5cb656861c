//! Queries that connections follow.

use std::collections::{BTreeMap, BTreeSet, VecDeque};

use rendel_core::{
    Actor, Asked, Charter, Problem, ProblemKind, Queries, Settled, State, Ticket, Turned, digest,
};
use rendel_wire::{FollowQuery, FromService, HadRows, QueryRefused, RowStepsFrame, RowsFrame};
use serde_json::json;
use uuid::Uuid;

use super::Session;
use crate::audiences::Word;
use crate::input::ConnectionId;
use crate::order::{RowsTold, Waiting};
use crate::output::{Output, To};

/// Queries that one connection may follow.
const MOST: usize = 32;

/// Records per second that the queries of one participant may look at when they are asked for, and
/// for how many milliseconds ahead. What is beyond that is made later.
const LOOKS: u64 = 20_000;
const AHEAD: u64 = 2_000;

/// Results that are kept up to date for connections that are gone and may come back, and for how
/// many milliseconds.
const PARTED: usize = 256;
const PARTED_FOR: u64 = 30_000;

/// Who follows which query.
#[derive(Debug)]
pub(super) struct Following {
    /// Makes marks that fit no other session.
    secret: Uuid,
    queries: Queries,
    /// The state that the results are of; none while nobody follows.
    state: Option<State>,
    /// What each connection asks for, by its own numbers. None has a ticket that waits for a welcome
    /// or was refused.
    asked: BTreeMap<ConnectionId, BTreeMap<u64, Wanted>>,
    followers: BTreeMap<Ticket, (ConnectionId, u64)>,
    /// Until when what connections followed that are gone is kept up to date.
    parted: VecDeque<(u64, Ticket)>,
    /// Until when the looks of each participant count, in milliseconds since 1970 UTC.
    spent: BTreeMap<String, u64>,
    /// What is to be made later, and when.
    late: BTreeSet<(u64, ConnectionId, u64)>,
}

/// What a connection asks for.
#[derive(Debug)]
struct Wanted {
    asked: Asked,
    had: Option<HadRows>,
    ticket: Option<Ticket>,
}

impl Following {
    pub(super) fn of(secret: Uuid) -> Self {
        Self {
            secret,
            queries: Queries::default(),
            state: None,
            asked: BTreeMap::new(),
            followers: BTreeMap::new(),
            parted: VecDeque::new(),
            spent: BTreeMap::new(),
            late: BTreeSet::new(),
        }
    }

    /// The state turned out to be another: all results are to be made anew.
    pub(super) fn forget(&mut self) {
        self.queries = Queries::default();
        self.followers.clear();
        self.parted.clear();
        self.state = None;
        self.asked.values_mut().flat_map(BTreeMap::values_mut).for_each(|wanted| {
            wanted.ticket = None;
            wanted.had = None;
        });
    }

    /// When something that was put off is due.
    pub(super) fn next_due(&self) -> Option<u64> {
        let late = self.late.first().map(|(due, ..)| *due);
        late.into_iter().chain(self.parted.front().map(|(until, _)| *until)).min()
    }

    /// When a participant may ask for more: now, or later.
    fn may_look_at(&self, who: &str, now: u64) -> u64 {
        self.spent.get(who).map_or(now, |until| until.saturating_sub(AHEAD).max(now))
    }

    fn note_looks(&mut self, who: &str, looks: u64, now: u64) {
        if looks > 0 {
            self.spent.retain(|_, until| *until > now);
            let until = self.spent.entry(who.to_owned()).or_insert(now);
            *until += looks.saturating_mul(1_000).div_ceil(LOOKS);
        }
    }

    /// A connection follows a query no more.
    pub(super) fn leave(&mut self, connection: ConnectionId, query: u64) {
        let Some(of) = self.asked.get_mut(&connection) else { return };
        let left = of.remove(&query);
        if of.is_empty() {
            self.asked.remove(&connection);
        }
        self.give_back(left.and_then(|wanted| wanted.ticket));
    }

    /// A connection is gone, and may come back.
    pub(super) fn part(&mut self, connection: ConnectionId, now: u64) {
        for wanted in self.asked.remove(&connection).unwrap_or_default().into_values() {
            let Some(ticket) = wanted.ticket else { continue };
            self.followers.remove(&ticket);
            self.parted.push_back((now + PARTED_FOR, ticket));
        }
        self.forget_parted(now, PARTED);
    }

    /// Keeps at most so many results for those who are gone, and none for longer than a while.
    fn forget_parted(&mut self, now: u64, most: usize) {
        while let Some((until, ticket)) = self.parted.front().copied()
            && (until <= now || self.parted.len() > most)
        {
            self.parted.pop_front();
            self.give_back(Some(ticket));
        }
    }

    /// The result of a query: what has become of it, if whoever asks comes back with it.
    fn result(
        &mut self,
        charter: &Charter,
        (state, seq, epoch): (&State, u64, u64),
        who: &Actor,
        (asked, had): (&Asked, Option<&HadRows>),
    ) -> Result<(Ticket, RowsTold), Problem> {
        let mut followed = self.queries.follow(charter, state, seq, who, asked);
        if followed.as_ref().is_err_and(|problem| problem.kind() == ProblemKind::Full)
            && !self.parted.is_empty()
        {
            // Those who are here come before those who may come back.
            self.forget_parted(0, 0);
            followed = self.queries.follow(charter, state, seq, who, asked);
        }
        let (ticket, rows) = followed?;
        let mark = self.queries.mark(ticket);
        let mark = mark.map(|mark| digest(&json!([self.secret, epoch, mark, asked.after])));
        let mark = mark.map(|digest| digest[..16].to_owned());
        let had = had.filter(|had| Some(&had.mark) == mark.as_ref());
        let since = had.and_then(|had| self.queries.since(charter, state, seq, ticket, had.seq));
        let told = since.map_or(RowsTold::Fresh { rows, mark }, RowsTold::Steps);
        Ok((ticket, told))
    }

    fn give_back(&mut self, ticket: Option<Ticket>) {
        let Some(ticket) = ticket else { return };
        self.followers.remove(&ticket);
        self.queries.leave(ticket);
        if self.queries.is_empty() {
            self.state = None;
        }
    }
}

impl Session {
    /// Somebody asks for rows, from now on.
    pub(super) fn follow_query(&mut self, connection: ConnectionId, frame: FollowQuery) {
        let FollowQuery { query, ask, had } = frame;
        if self.members.get(connection).is_none() {
            return;
        }
        self.following.leave(connection, query);
        if self.following.asked.get(&connection).is_some_and(|of| of.len() >= MOST) {
            let detail = format!(
                "A connection follows at most {MOST} queries at one time. Leave one first."
            );
            let problem = Problem::new(ProblemKind::Full, detail).with("limit", "queries");
            return self.refuse_query(connection, query, problem);
        }
        let wanted = Wanted { asked: ask, had, ticket: None };
        self.following.asked.entry(connection).or_default().insert(query, wanted);
        if self.may_follow(connection) {
            self.follow(connection, query);
        }
    }

    /// Who waits for a welcome gets the rows after it, and all do once the journal is there again.
    fn may_follow(&self, connection: ConnectionId) -> bool {
        !self.order.is_adrift() && !self.arrivals.iter().any(|arrival| arrival.is_of(connection))
    }

    /// Makes all rows of a connection anew, unless that is going to happen by itself.
    pub(super) fn follow_again(&mut self, connection: ConnectionId) {
        if self.may_follow(connection) {
            self.follow_anew(connection);
        }
    }

    /// Makes the rows of all that a connection asks for anew: as who it is now.
    pub(super) fn follow_anew(&mut self, connection: ConnectionId) {
        let of = self.following.asked.get(&connection);
        for query in of.map(|of| of.keys().copied().collect::<Vec<_>>()).unwrap_or_default() {
            self.follow(connection, query);
        }
    }

    /// The same for all connections.
    pub(super) fn follow_all_anew(&mut self) {
        for connection in self.following.asked.keys().copied().collect::<Vec<_>>() {
            self.follow_again(connection);
        }
    }

    fn follow(&mut self, connection: ConnectionId, query: u64) {
        let Some(member) = self.members.get(connection) else { return };
        let (sequencer, epoch) = (self.order.sequencer(), self.order.epoch());
        let following = &mut self.following;
        let due = following.may_look_at(&member.who.id, self.now);
        let wanted = following.asked.get_mut(&connection).and_then(|of| of.get_mut(&query));
        let Some(wanted) = wanted else { return };
        let old = wanted.ticket.take();
        if due > self.now {
            // What they followed may be of another role.
            following.give_back(old);
            following.late.insert((due, connection, query));
            return;
        }
        let (asked, had) = (wanted.asked.clone(), wanted.had.take());
        let (state, before) = (sequencer.state(), following.queries.touched());
        let now = (&state, sequencer.seq(), epoch);
        let result = following.result(&self.charter, now, &member.who, (&asked, had.as_ref()));
        let looks = following.queries.touched() - before;
        following.note_looks(&member.who.id, looks, self.now);
        // Only now: what both share is not made anew.
        following.give_back(old);
        match result {
            Err(problem) => {
                following.leave(connection, query);
                self.refuse_query(connection, query, problem);
            }
            Ok((ticket, told)) => {
                following.state = Some(state);
                following.followers.insert(ticket, (connection, query));
                let wanted = following.asked.get_mut(&connection).and_then(|of| of.get_mut(&query));
                if let Some(wanted) = wanted {
                    wanted.ticket = Some(ticket);
                }
                self.order.push(Waiting::Rows { tickets: BTreeSet::from([ticket]), told });
            }
        }
    }

    /// Makes the rows that were put off until now.
    pub(super) fn follow_late(&mut self) {
        self.following.forget_parted(self.now, PARTED);
        let later = self.following.late.split_off(&(self.now + 1, 0, 0));
        for (_, connection, query) in std::mem::replace(&mut self.following.late, later) {
            self.follow(connection, query);
        }
    }

    fn refuse_query(&mut self, connection: ConnectionId, query: u64, problem: Problem) {
        let refused = QueryRefused { query, problem };
        match self.order.is_adrift() {
            // It would have to be kept for as long as the journal is away.
            true => self.tell(connection, Word::QueryRefused(refused)),
            false => self.order.push(Waiting::QueryRefused { connection, refused }),
        }
    }

    /// What an update, which was settled just now, makes of the results.
    pub(super) fn turned_rows(&mut self, update: &Settled) -> Vec<Turned> {
        let Some(before) = &self.following.state else { return Vec::new() };
        let after = self.order.sequencer().state();
        let queries = &mut self.following.queries;
        let turned = queries.handle_settled(&self.charter, before, &after, update);
        self.following.state = Some(after);
        turned
    }

    /// Tells rows to those who still follow them: once for all who have them under one number.
    pub(super) fn show_rows(&mut self, tickets: &BTreeSet<Ticket>, told: &RowsTold) {
        let mut by_number = BTreeMap::<u64, Vec<ConnectionId>>::new();
        for (connection, query) in
            tickets.iter().filter_map(|one| self.following.followers.get(one))
        {
            by_number.entry(*query).or_default().push(*connection);
        }
        for (query, connections) in by_number {
            let frame = match told {
                RowsTold::Fresh { rows, mark } => {
                    let (rows, mark) = (rows.clone(), mark.clone());
                    FromService::Rows(RowsFrame { query, mark, rows })
                }
                RowsTold::Steps(steps) => {
                    FromService::RowSteps(RowStepsFrame { query, steps: steps.clone() })
                }
            };
            let shown = self.audiences.rows(&frame);
            self.outputs.push(Output::Show { to: To::These(connections), shown });
        }
    }
}
