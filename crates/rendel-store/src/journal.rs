//! Reading the journal, and the snapshots that shorten it.

use diesel::pg::PgConnection;
use diesel::prelude::*;
use rendel_core::{SequencerSnapshot, Settled};
use serde_json::Value;

use crate::error::StoreError;
use crate::rows::{in_present_form, read, read_snapshot, signed, unsigned};
use crate::schema::{journal, refusals, sessions, snapshots};
use crate::sessions::last_seq;
use crate::store::Store;

/// Refusals that are kept of one session; a session remembers no more of them either.
const REFUSALS: i64 = 4_096;

impl Store {
    /// Forgets all but the newest refusals of a session.
    pub async fn forget_refusals(&self, session: i64) -> Result<(), StoreError> {
        self.run(move |conn| {
            let own = refusals::table.filter(refusals::session.eq(session));
            let newest = own.order(refusals::ord.desc()).offset(REFUSALS).select(refusals::ord);
            let Some(newest_gone) = newest.first::<i64>(conn).optional()? else { return Ok(()) };
            diesel::delete(own.filter(refusals::ord.le(newest_gone))).execute(conn)?;
            Ok(())
        })
        .await
    }

    /// The updates of a session from `from` to `to`, both included, as JSON texts in order; at most
    /// `most`.
    ///
    /// Errors: [`StoreError::Forgotten`] where `from` is not kept any more.
    pub async fn journal(
        &self,
        session: i64,
        from: u64,
        to: u64,
        most: i64,
    ) -> Result<Vec<String>, StoreError> {
        let read = move |conn: &mut PgConnection| {
            let kept_from = kept_from(conn, session)?;
            if from <= kept_from {
                return Err(StoreError::Forgotten { at: from, kept_from });
            }
            let range = journal::seq.ge(signed(from)).and(journal::seq.le(signed(to)));
            let rows =
                journal::table.filter(journal::session.eq(session).and(range)).order(journal::seq);
            rows.select(journal::body)
                .limit(most)
                .load(conn)?
                .into_iter()
                .map(in_present_form)
                .collect()
        };
        self.run_at_one_moment(read).await
    }

    /// The updates before `before` whose verdicts are more than `applied`, newest first; at most
    /// `most`.
    pub async fn conflicts(
        &self,
        session: i64,
        before: u64,
        most: i64,
    ) -> Result<Vec<String>, StoreError> {
        let before = signed(before);
        self.run(move |conn| {
            let rows = journal::table
                .filter(journal::session.eq(session).and(journal::seq.lt(before)).and(journal::met))
                .order(journal::seq.desc())
                .select(journal::body)
                .limit(most);
            rows.load(conn)?.into_iter().map(in_present_form).collect()
        })
        .await
    }

    /// What the state at `at` is made from.
    ///
    /// Cost: the nearest snapshot before it and the journal between the two, at most
    /// [`Keeping::stride`] updates. Errors: [`StoreError::Forgotten`] where it is not kept any
    /// more.
    pub async fn past(&self, session: i64, at: u64) -> Result<Past, StoreError> {
        let upto = signed(at);
        let read = move |conn: &mut PgConnection| {
            let kept_from = kept_from(conn, session)?;
            if at < kept_from {
                return Err(StoreError::Forgotten { at, kept_from });
            }
            let opening: Option<String> = sessions::table
                .filter(sessions::ord.eq(session))
                .select(sessions::opening)
                .first(conn)?;
            let snapshot: Option<SequencerSnapshot> = snapshots::table
                .filter(snapshots::session.eq(session).and(snapshots::seq.le(upto)))
                .order(snapshots::seq.desc())
                .select(snapshots::body)
                .first::<String>(conn)
                .optional()?
                .and_then(|body| read_snapshot(&body, true).ok());
            if snapshot.is_none() && kept_from > 0 {
                return Err(StoreError::Damaged(format!(
                    "the snapshot at {kept_from}, where the journal begins"
                )));
            }
            let from = snapshot.as_ref().map_or(0, |snapshot| signed(snapshot.seq));
            let updates = journal::table
                .filter(
                    journal::session
                        .eq(session)
                        .and(journal::seq.gt(from))
                        .and(journal::seq.le(upto)),
                )
                .order(journal::seq)
                .select(journal::body)
                .load::<String>(conn)?
                .iter()
                .map(|body| read(body))
                .collect::<Result<_, _>>()?;
            let opening = opening.map(|opening| read(&opening)).transpose()?;
            Ok(Past { opening, snapshot, updates })
        };
        self.run_at_one_moment(read).await
    }

    /// Keeps a snapshot and forgets the refusals that it holds. Of the older ones it leaves the
    /// first of each stride, so that any state of the past is near one; and where the journal is
    /// bounded, it forgets what lies further back.
    ///
    /// Errors: [`StoreError::NotKept`] where `epoch` is not the session's any more or the journal
    /// ends before `seq`.
    pub async fn keep_snapshot(
        &self,
        session: i64,
        epoch: u64,
        seq: u64,
        body: String,
        keeping: Keeping,
    ) -> Result<(), StoreError> {
        self.run(move |conn| {
            conn.transaction(|conn| {
                check_belongs(conn, session, epoch, seq)?;
                fail::fail_point!("snapshot-begins", |_| std::process::abort());
                let seq = signed(seq);
                let row = (
                    snapshots::session.eq(session),
                    snapshots::seq.eq(seq),
                    snapshots::body.eq(body),
                );
                diesel::insert_into(snapshots::table)
                    .values(row)
                    .on_conflict_do_nothing()
                    .execute(conn)?;
                let older = snapshots::table
                    .filter(snapshots::session.eq(session).and(snapshots::seq.lt(seq)));
                let places: Vec<i64> =
                    older.order(snapshots::seq).select(snapshots::seq).load(conn)?;
                let surplus = keeping.surplus(&places);
                diesel::delete(
                    snapshots::table.filter(
                        snapshots::session.eq(session).and(snapshots::seq.eq_any(&surplus)),
                    ),
                )
                .execute(conn)?;
                diesel::delete(
                    refusals::table
                        .filter(refusals::session.eq(session).and(refusals::at_seq.lt(seq))),
                )
                .execute(conn)?;
                let kept: Vec<i64> = places
                    .into_iter()
                    .filter(|place| !surplus.contains(place))
                    .chain([seq])
                    .collect();
                match keeping.base(&kept, seq) {
                    Some(base) => forget_before(conn, session, base),
                    None => Ok(()),
                }
            })
        })
        .await
    }
}

/// Refuses a snapshot that the journal does not lead to: it would be what a start believes.
fn check_belongs(
    conn: &mut PgConnection,
    session: i64,
    epoch: u64,
    seq: u64,
) -> Result<(), StoreError> {
    let own = sessions::table
        .filter(sessions::ord.eq(session))
        .select(sessions::epoch)
        .for_no_key_update();
    let present: Option<i64> = own.first(conn).optional()?;
    if present != Some(signed(epoch)) {
        return Err(StoreError::NotKept(format!(
            "it is of epoch {epoch}, and the session's is {present:?}"
        )));
    }
    let last = last_seq(conn, session)?;
    if seq > last {
        return Err(StoreError::NotKept(format!("it is of {seq}, and the journal ends at {last}")));
    }
    Ok(())
}

/// What a state of the past is made from: the nearest snapshot, or the opening data where there is
/// none, and the updates after it.
#[derive(Debug)]
pub struct Past {
    /// The plain JSON that the session opened with.
    pub opening: Option<Value>,
    /// The nearest snapshot.
    pub snapshot: Option<SequencerSnapshot>,
    /// The updates after it, in order.
    pub updates: Vec<Settled>,
}

fn kept_from(conn: &mut PgConnection, session: i64) -> Result<u64, StoreError> {
    let own = sessions::table.filter(sessions::ord.eq(session));
    Ok(unsigned(own.select(sessions::kept_from).first(conn)?))
}

/// What of a session's past is kept.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Keeping {
    /// One snapshot is kept for so many updates.
    pub stride: u64,
    /// Updates that the journal keeps at least; `None` keeps all.
    pub updates: Option<u64>,
}

impl Keeping {
    /// Of the places of older snapshots, in order, those that others of the same stride make
    /// needless.
    fn surplus(&self, places: &[i64]) -> Vec<i64> {
        let stride = signed(self.stride.max(1));
        let mut last = None;
        let is_first = |place: &&i64| last.replace(**place / stride) != Some(**place / stride);
        let kept: Vec<i64> = places.iter().filter(is_first).copied().collect();
        places.iter().filter(|place| !kept.contains(place)).copied().collect()
    }

    /// The snapshot before which all may be forgotten.
    fn base(&self, kept: &[i64], newest: i64) -> Option<i64> {
        let bound = newest - signed(self.updates?);
        kept.iter().copied().filter(|place| *place <= bound).max()
    }
}

fn forget_before(conn: &mut PgConnection, session: i64, base: i64) -> Result<(), StoreError> {
    diesel::delete(journal::table.filter(journal::session.eq(session).and(journal::seq.le(base))))
        .execute(conn)?;
    diesel::delete(
        snapshots::table.filter(snapshots::session.eq(session).and(snapshots::seq.lt(base))),
    )
    .execute(conn)?;
    diesel::update(sessions::table.filter(sessions::ord.eq(session)))
        .set(sessions::kept_from.eq(base))
        .execute(conn)?;
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn of_old_snapshots_the_first_of_each_stride_stays_and_the_journal_is_cut_at_one() {
        let keeping = Keeping { stride: 100, updates: Some(250) };
        assert_eq!(keeping.surplus(&[10, 40, 110, 190, 305]), [40, 190]);
        assert_eq!(keeping.base(&[10, 110, 305, 400], 400), Some(110));
        assert_eq!(keeping.base(&[10, 110, 305, 400], 200), None);
        assert_eq!(Keeping { updates: None, ..keeping }.base(&[10], 1_000), None);
    }
}
