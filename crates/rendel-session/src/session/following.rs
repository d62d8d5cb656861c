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

/// Records that are looked at in one go for queries that nobody has asked before, and how many per
/// millisecond on the average. A record takes about 5 µs, so this leaves half of the time for
/// everything else.
const LOOKS: usize = 2_000;
const PER_MS: u64 = 100;

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
    /// What is to be made, in turn: who has had fewer records looked at for them comes first.
    line: BTreeSet<(u64, ConnectionId, u64)>,
    /// Whose turn it is, and that of each participant who comes later.
    turn: u64,
    turns: BTreeMap<String, u64>,
    /// When all looks so far are made up for: the milliseconds since 1970 UTC, times `PER_MS`.
    made_up: u64,
}

/// What a connection asks for.
#[derive(Debug)]
struct Wanted {
    asked: Asked,
    had: Option<HadRows>,
    ticket: Option<Ticket>,
    /// What they followed until now; what both share is not made anew.
    before: Option<Ticket>,
}

impl Wanted {
    fn tickets(self) -> impl Iterator<Item = Ticket> {
        self.ticket.into_iter().chain(self.before)
    }
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
            line: BTreeSet::new(),
            turn: 0,
            turns: BTreeMap::new(),
            made_up: 0,
        }
    }

    /// The state turned out to be another: all results are to be made anew.
    pub(super) fn forget(&mut self) {
        let parted = std::mem::take(&mut self.parted).into_iter();
        let mut tickets: Vec<Ticket> = parted.map(|(_, ticket)| ticket).collect();
        for wanted in self.asked.values_mut().flat_map(BTreeMap::values_mut) {
            tickets.extend(wanted.ticket.take().into_iter().chain(wanted.before.take()));
            wanted.had = None;
        }
        // Their numbers are not given again: rows on their way may be for one of them.
        tickets.into_iter().for_each(|ticket| self.give_back(ticket));
        self.line.clear();
        self.state = None;
    }

    /// When something that was put off is due.
    pub(super) fn next_due(&self) -> Option<u64> {
        let time = self.made_up.saturating_sub(LOOKS as u64).div_ceil(PER_MS);
        let next = (!self.line.is_empty()).then_some(time);
        next.into_iter().chain(self.parted.front().map(|(until, _)| *until)).min()
    }

    fn has_time(&self, now: u64) -> bool {
        self.made_up <= now * PER_MS + LOOKS as u64
    }

    /// Puts a query in line, behind those of participants for whom less was looked at.
    fn put_in_line(&mut self, who: &str, connection: ConnectionId, query: u64) {
        let turn = self.turns.get(who).map_or(self.turn, |turn| self.turn.max(*turn));
        self.line.insert((turn, connection, query));
    }

    fn note_looks(&mut self, who: &str, looks: u64, now: u64) {
        if looks > 0 {
            self.made_up = self.made_up.max(now * PER_MS) + looks;
            self.turns.retain(|_, turn| *turn > self.turn);
            *self.turns.entry(who.to_owned()).or_insert(self.turn) += looks;
        }
    }

    /// A connection follows a query no more.
    pub(super) fn leave(&mut self, connection: ConnectionId, query: u64) {
        let Some(of) = self.asked.get_mut(&connection) else { return };
        let left = of.remove(&query);
        if of.is_empty() {
            self.asked.remove(&connection);
        }
        left.into_iter().flat_map(Wanted::tickets).for_each(|ticket| self.give_back(ticket));
    }

    /// A connection is gone, and may come back.
    pub(super) fn part(&mut self, connection: ConnectionId, now: u64) {
        for wanted in self.asked.remove(&connection).unwrap_or_default().into_values() {
            for ticket in wanted.tickets() {
                match self.followers.remove(&ticket) {
                    Some(_) => self.parted.push_back((now + PARTED_FOR, ticket)),
                    None => self.give_back(ticket),
                }
            }
        }
        self.forget_parted(now, PARTED);
    }

    /// Keeps at most so many results for those who are gone, and none for longer than a while.
    fn forget_parted(&mut self, now: u64, most: usize) {
        while let Some((until, ticket)) = self.parted.front().copied()
            && (until <= now || self.parted.len() > most)
        {
            self.parted.pop_front();
            self.give_back(ticket);
        }
    }

    /// Goes on with what somebody wants: its ticket, and what to tell once that is there.
    fn go_on(
        &mut self,
        charter: &Charter,
        (state, seq, epoch): (&State, u64, u64),
        who: &Actor,
        wanted: &mut Wanted,
    ) -> Result<Option<(Ticket, RowsTold)>, Problem> {
        let ticket = match wanted.ticket {
            Some(ticket) => ticket,
            None => {
                *wanted.ticket.insert(self.queries.begin(charter, state, who, &wanted.asked)?)
            }
        };
        let Some(rows) = self.queries.go_on(charter, state, seq, ticket, LOOKS)? else {
            return Ok(None);
        };
        let mark = self.queries.mark(ticket);
        let mark = mark.map(|mark| digest(&json!([self.secret, epoch, mark, wanted.asked.after])));
        let mark = mark.map(|digest| digest[..16].to_owned());
        let had = wanted.had.take().filter(|had| Some(&had.mark) == mark.as_ref());
        let since = had.and_then(|had| self.queries.since(charter, state, seq, ticket, had.seq));
        let told = since.map_or(RowsTold::Fresh { rows, mark }, RowsTold::Steps);
        Ok(Some((ticket, told)))
    }

    fn give_back(&mut self, ticket: Ticket) {
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
        let wanted = Wanted { asked: ask, had, ticket: None, before: None };
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

    /// Makes the rows of a query, in turn.
    fn follow(&mut self, connection: ConnectionId, query: u64) {
        let Some(member) = self.members.get(connection) else { return };
        let following = &mut self.following;
        let of = following.asked.get_mut(&connection);
        let Some(wanted) = of.and_then(|of| of.get_mut(&query)) else { return };
        if let Some(ticket) = wanted.ticket.take() {
            // Of another role, perhaps: from now on it is not told any more.
            let is_followed = following.followers.remove(&ticket).is_some();
            match is_followed && wanted.before.is_none() {
                true => wanted.before = Some(ticket),
                false => following.give_back(ticket),
            }
        }
        following.put_in_line(&member.who.id, connection, query);
        self.follow_in_turn();
    }

    /// Makes rows for those in line, as far as there is time now.
    pub(super) fn follow_in_turn(&mut self) {
        self.following.forget_parted(self.now, PARTED);
        while self.following.has_time(self.now)
            && let Some((turn, connection, query)) = self.following.line.pop_first()
        {
            self.following.turn = turn;
            self.follow_now(connection, query);
        }
    }

    fn follow_now(&mut self, connection: ConnectionId, query: u64) {
        // Who waits for a welcome comes in line again after it.
        let Some(member) = self.members.get(connection).filter(|_| self.may_follow(connection))
        else {
            return;
        };
        let (sequencer, following) = (self.order.sequencer(), &mut self.following);
        let of = following.asked.get_mut(&connection);
        let Some(mut wanted) = of.and_then(|of| of.remove(&query)) else { return };
        let (state, before) = (sequencer.state(), following.queries.touched());
        let now = (&state, sequencer.seq(), self.order.epoch());
        let mut went = following.go_on(&self.charter, now, &member.who, &mut wanted);
        if went.as_ref().is_err_and(|problem| problem.kind() == ProblemKind::Full)
            && !following.parted.is_empty()
        {
            // Those who are here come before those who may come back.
            following.forget_parted(0, 0);
            went = following.go_on(&self.charter, now, &member.who, &mut wanted);
        }
        following.note_looks(&member.who.id, following.queries.touched() - before, self.now);
        following.state = (!following.queries.is_empty()).then_some(state);
        match went {
            Err(problem) => {
                wanted.tickets().for_each(|ticket| following.give_back(ticket));
                self.refuse_query(connection, query, problem);
            }
            Ok(None) => {
                following.asked.entry(connection).or_default().insert(query, wanted);
                following.put_in_line(&member.who.id, connection, query);
            }
            Ok(Some((ticket, told))) => {
                following.followers.insert(ticket, (connection, query));
                let before = wanted.before.take();
                following.asked.entry(connection).or_default().insert(query, wanted);
                before.into_iter().for_each(|ticket| following.give_back(ticket));
                self.order.push(Waiting::Rows { tickets: BTreeSet::from([ticket]), told });
            }
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
