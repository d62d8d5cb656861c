//! Queries that are followed: their rows, kept up to date.

use std::collections::BTreeMap;

use rendel_core::{Asked, ProblemKind, Rows};
use rendel_wire::{
    FollowQuery, FromParticipant, HadRows, LeaveQuery, QueryRefused, RowStepsFrame, RowsFrame,
};

use super::{Change, Replica};

/// A query that is followed.
#[derive(Clone, Debug)]
struct Followed {
    asked: Asked,
    /// None before the first came.
    rows: Option<Rows>,
    /// What they can be come back with.
    mark: Option<String>,
}

impl Followed {
    /// Asks for it, with the rows that are here.
    fn frame(&self, query: u64) -> FromParticipant {
        let had = self.rows.as_ref().zip(self.mark.clone());
        let had = had.map(|(rows, mark)| HadRows { mark, seq: rows.seq });
        FromParticipant::FollowQuery(Box::new(FollowQuery { query, ask: self.asked.clone(), had }))
    }
}

/// All of them, by their numbers.
#[derive(Clone, Debug, Default)]
pub(super) struct Followings {
    all: BTreeMap<u64, Followed>,
    last: u64,
}

impl Replica {
    /// Asks for the rows of a query, now and whenever they change, also after each return. Gives the
    /// number by which [`rows`](Self::rows) knows it.
    pub fn follow_query(&mut self, asked: Asked) -> u64 {
        self.followings.last += 1;
        let query = self.followings.last;
        let followed = Followed { asked, rows: None, mark: None };
        if self.welcomes > 0 {
            self.outgoing.push_back(followed.frame(query));
        }
        self.followings.all.insert(query, followed);
        query
    }

    /// Follows a query no more.
    pub fn leave_query(&mut self, query: u64) {
        if self.followings.all.remove(&query).is_some() && self.welcomes > 0 {
            self.outgoing.push_back(FromParticipant::LeaveQuery(LeaveQuery { query }));
        }
    }

    /// The rows of a query that is followed; `None` before the first came.
    pub fn rows(&self, query: u64) -> Option<&Rows> {
        self.followings.all.get(&query)?.rows.as_ref()
    }

    /// Asks once more for what was refused because it came too fast.
    pub fn follow_again(&mut self, query: u64) {
        if let Some(followed) = self.followings.all.get(&query) {
            self.outgoing.push_back(followed.frame(query));
        }
    }

    /// The frames that ask for all that is followed: after each `welcome`.
    pub fn followed_queries(&self) -> Vec<FromParticipant> {
        let followed = self.followings.all.iter();
        followed.map(|(query, followed)| followed.frame(*query)).collect()
    }

    pub(super) fn handle_rows(&mut self, frame: RowsFrame) -> Vec<Change> {
        let RowsFrame { query, mark, rows } = frame;
        let Some(followed) = self.followings.all.get_mut(&query) else { return vec![] };
        (followed.rows, followed.mark) = (Some(rows), mark);
        vec![Change::Rows(query)]
    }

    pub(super) fn handle_row_steps(&mut self, frame: &RowStepsFrame) -> Vec<Change> {
        let query = frame.query;
        let Some(followed) = self.followings.all.get_mut(&query) else { return vec![] };
        let applied = followed.rows.as_mut().map(|rows| rows.apply(&frame.steps));
        if applied == Some(Ok(())) {
            return vec![Change::Rows(query)];
        }
        // It fits nothing that is here: what is right is asked for anew.
        followed.rows = None;
        self.outgoing.push_back(followed.frame(query));
        vec![]
    }

    pub(super) fn handle_query_refused(&mut self, frame: QueryRefused) -> Vec<Change> {
        let QueryRefused { query, problem } = frame;
        if problem.kind() == ProblemKind::TooFast {
            return vec![];
        }
        match self.followings.all.remove(&query) {
            None => vec![],
            Some(_) => vec![Change::QueryRefused { query, problem }],
        }
    }
}
