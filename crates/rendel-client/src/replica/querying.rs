//! Queries that are followed: their rows, kept up to date.

use std::collections::BTreeMap;

use rendel_core::{Asked, Rows};
use rendel_wire::{
    FollowQuery, FromParticipant, LeaveQuery, QueryRefused, RowStepsFrame, RowsFrame,
};

use super::{Change, Replica};

/// A query that is followed.
#[derive(Clone, Debug)]
struct Followed {
    asked: Asked,
    /// None before the first came.
    rows: Option<Rows>,
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
        if self.welcomes > 0 {
            let frame = FollowQuery { query, ask: asked.clone() };
            self.outgoing.push_back(FromParticipant::FollowQuery(frame));
        }
        self.followings.all.insert(query, Followed { asked, rows: None });
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

    /// The frames that ask for all that is followed: after each `welcome`.
    pub fn followed_queries(&self) -> Vec<FromParticipant> {
        let followed = self.followings.all.iter();
        let frame = |(query, of): (&u64, &Followed)| {
            FromParticipant::FollowQuery(FollowQuery { query: *query, ask: of.asked.clone() })
        };
        followed.map(frame).collect()
    }

    pub(super) fn handle_rows(&mut self, frame: RowsFrame) -> Vec<Change> {
        let RowsFrame { query, rows } = frame;
        let Some(followed) = self.followings.all.get_mut(&query) else { return vec![] };
        followed.rows = Some(rows);
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
        let frame = FollowQuery { query, ask: followed.asked.clone() };
        self.outgoing.push_back(FromParticipant::FollowQuery(frame));
        vec![]
    }

    pub(super) fn handle_query_refused(&mut self, frame: QueryRefused) -> Vec<Change> {
        let QueryRefused { query, problem } = frame;
        match self.followings.all.remove(&query) {
            None => vec![],
            Some(_) => vec![Change::QueryRefused { query, problem }],
        }
    }
}
