//! Sessions, and how a process takes one over.

use std::collections::BTreeMap;

use chrono::{DateTime, Utc};
use diesel::dsl::max;
use diesel::prelude::*;
use rendel_core::{ClientKey, Problem, SequencerSnapshot, Settled};
use uuid::Uuid;

use crate::access::{NewRevocation, revoke};
use crate::announcements::{NewAnnouncement, announce, forget_session};
use crate::audit::Note;
use crate::calls::OnceCall;
use crate::error::StoreError;
use crate::participants::{Amendment, amendments};
use crate::rows::{in_present_form, read, read_snapshot, signed, unsigned};
use crate::schema::{
    audit, charters, epochs, invitations, journal, refusals, removals, revocations, sessions,
    snapshots,
};
use crate::store::Store;
use crate::timeline::floor;
use crate::writer::{RefusalRow, UpdateRow, copy_updates};

/// A stored session.
#[derive(Clone, Debug, PartialEq, Eq, Queryable, Selectable)]
#[diesel(table_name = sessions)]
pub struct SessionRow {
    /// Its number, by which other tables refer to it.
    pub ord: i64,
    /// Its id.
    pub id: String,
    /// The name of its charter.
    pub charter: String,
    /// The charter's version.
    pub version: i32,
    /// `open`, `frozen` or `ended`.
    pub status: String,
    /// The plain JSON that it opened with.
    pub opening: Option<String>,
    /// A number that grows with each take-over by a process.
    pub epoch: i64,
    /// When it was opened.
    pub opened: DateTime<Utc>,
    /// From which place on its state can be told.
    pub kept_from: i64,
    /// The roles that go on while it is frozen, as a JSON array.
    pub frozen_except: String,
    /// What the client ids behind Idempotency-Keys are made with, and draws.
    pub secret: Uuid,
    /// By what it is found, each as `name=value`.
    pub labels: Vec<String>,
    /// How many seats are free, where it has seats.
    pub free_seats: Option<i32>,
    /// When it must be in memory to act by itself, at the latest, in milliseconds since 1970 UTC.
    pub wakes: Option<i64>,
}

/// What a new session is found by.
#[derive(Clone, Debug, Default)]
pub struct Findable {
    /// Labels, each as `name=value`.
    pub labels: Vec<String>,
    /// How many seats are free, where it has seats.
    pub free_seats: Option<i32>,
    /// The search for a seat that opens it, and the how manieth that is.
    pub sought: Option<(String, i64)>,
    /// When it must be in memory first, to act by itself, in milliseconds since 1970 UTC.
    pub wakes: Option<i64>,
    /// What is announced of its opening.
    pub announcement: Option<NewAnnouncement>,
}

/// Which sessions are looked for.
#[derive(Clone, Debug, Default)]
pub struct Sought {
    /// Of this charter.
    pub charter: Option<String>,
    /// With all of these labels, each as `name=value`.
    pub labels: Vec<String>,
    /// With a seat that is free, and open.
    pub has_free_seats: bool,
    /// After this id.
    pub after: Option<String>,
}

/// A session as a whole, as it is carried from one database to another.
#[derive(Debug, Default)]
pub struct Whole {
    /// Its id.
    pub id: String,
    /// The name of its charter.
    pub charter: String,
    /// The charter's version.
    pub version: i32,
    /// Its standing.
    pub status: String,
    /// The plain JSON that it opened with.
    pub opening: Option<String>,
    /// The last epoch.
    pub epoch: u64,
    /// Each epoch and where it began.
    pub epochs: Vec<(u64, u64)>,
    /// The snapshot before which nothing is kept, as JSON, with its place.
    pub base: Option<(u64, String)>,
    /// The settled updates, in order, and whether each met another.
    pub updates: Vec<(u64, String, bool)>,
    /// The remembered refusals, in order: client, `n`, the `seq` before it, the problem as JSON.
    pub refusals: Vec<(Uuid, u64, u64, String)>,
    /// What the client ids behind Idempotency-Keys are made with, and draws.
    pub secret: Uuid,
    /// By what it is found, each as `name=value`.
    pub labels: Vec<String>,
}

/// Who asks for a session.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Claim {
    /// A process for which somebody wants to use it, whoever owns it now.
    Anew,
    /// Its owner, who is not sure of what is written: not where another process has taken it over
    /// since.
    Again,
}

/// All that a process needs to go on with a session.
#[derive(Debug)]
pub struct TakenOver {
    /// The session, with its new epoch.
    pub row: SessionRow,
    /// The text of its charter.
    pub charter_source: String,
    /// The newest snapshot, if there is one.
    pub snapshot: Option<SequencerSnapshot>,
    /// The settled updates after the snapshot, in order.
    pub updates: Vec<Settled>,
    /// The remembered refusals, in order: the place of the last update before it, client, `n`,
    /// problem.
    pub refusals: Vec<(u64, ClientKey, u64, Problem)>,
    /// Each epoch and the `seq` at which it began, in order.
    pub epochs: Vec<(u64, u64)>,
    /// Who was removed, and until when they may not come back.
    pub removals: Vec<(String, DateTime<Utc>)>,
    /// What stands over the tokens of participants.
    pub amendments: Vec<(String, Amendment)>,
}

/// Where a session that a process has in memory stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Ownership {
    /// Another process owns it, in that epoch.
    Elsewhere(u64),
    /// It was deleted.
    Deleted,
}

/// How a session stands, as it is written.
#[derive(Clone, Debug)]
pub struct StandingRow {
    /// Its status, by name.
    pub status: &'static str,
    /// The roles that go on while it is frozen, as JSON.
    pub except: String,
    /// When it is to be deleted.
    pub delete_at: Option<DateTime<Utc>>,
    /// What is announced with it.
    pub announcement: Option<NewAnnouncement>,
}

impl Store {
    /// Keeps a new session. `Exists` if its id is taken, or the call was made before.
    pub async fn open_session(
        &self,
        id: String,
        charter: String,
        version: i32,
        opening: Option<String>,
        findable: Findable,
        once: Option<OnceCall>,
    ) -> Result<SessionRow, StoreError> {
        use sessions::dsl;
        let keep = move |conn: &mut PgConnection| {
            once.iter().try_for_each(|once| once.write(conn))?;
            let row = (
                dsl::id.eq(id),
                dsl::charter.eq(charter),
                dsl::version.eq(version),
                dsl::opening.eq(opening),
                dsl::labels.eq(findable.labels),
                dsl::free_seats.eq(findable.free_seats),
                dsl::sought.eq(findable.sought.as_ref().map(|(search, _)| search)),
                dsl::sought_no.eq(findable.sought.as_ref().map(|(_, no)| no)),
                dsl::wakes.eq(findable.wakes),
            );
            announce(conn, findable.announcement.as_slice())?;
            let insert = diesel::insert_into(sessions::table).values(row);
            Ok(insert.returning(SessionRow::as_returning()).get_result(conn)?)
        };
        self.run(move |conn| conn.transaction(keep)).await
    }

    /// The session of that id and the `seq` of its last update.
    pub async fn session(&self, id: String) -> Result<Option<(SessionRow, u64)>, StoreError> {
        self.run(move |conn| {
            let row = sessions::table
                .filter(sessions::id.eq(id))
                .select(SessionRow::as_select())
                .first(conn)
                .optional()?;
            let Some(row) = row else { return Ok(None) };
            let seq = last_seq(conn, row.ord)?;
            Ok(Some((row, seq)))
        })
        .await
    }

    /// A page of sessions by id, each with the `seq` of its last update and the title of its
    /// charter.
    pub async fn sessions(
        &self,
        sought: Sought,
        page: i64,
    ) -> Result<Vec<(SessionRow, u64, String)>, StoreError> {
        let Sought { charter, labels, has_free_seats, after } = sought;
        self.run(move |conn| {
            let mut query = sessions::table
                .inner_join(
                    charters::table.on(charters::name
                        .eq(sessions::charter)
                        .and(charters::version.eq(sessions::version))),
                )
                .select((SessionRow::as_select(), charters::title))
                .into_boxed();
            if let Some(charter) = charter {
                query = query.filter(sessions::charter.eq(charter));
            }
            if let Some(after) = after {
                query = query.filter(sessions::id.gt(after));
            }
            if !labels.is_empty() {
                query = query.filter(sessions::labels.contains(labels));
            }
            if has_free_seats {
                let is_free = sessions::free_seats.gt(0).and(sessions::status.eq("open"));
                query = query.filter(is_free);
            }
            let rows: Vec<(SessionRow, String)> =
                query.order(sessions::id).limit(page).load(conn)?;
            let ords: Vec<i64> = rows.iter().map(|(row, _)| row.ord).collect();
            let last: BTreeMap<i64, Option<i64>> = journal::table
                .filter(journal::session.eq_any(ords))
                .group_by(journal::session)
                .select((journal::session, max(journal::seq)))
                .load::<(i64, Option<i64>)>(conn)?
                .into_iter()
                .collect();
            let with_seq = |(row, title): (SessionRow, String)| {
                let seq = last.get(&row.ord).copied().flatten().unwrap_or(0).max(row.kept_from);
                (row, unsigned(seq), title)
            };
            Ok(rows.into_iter().map(with_seq).collect())
        })
        .await
    }

    /// The sessions of a charter with exactly these labels that are open and have free seats, the
    /// oldest first, at most `most`; and how many a search has opened so far.
    pub async fn with_free_seats(
        &self,
        charter: String,
        labels: Vec<String>,
        search: String,
        most: i64,
    ) -> Result<(Vec<String>, i64), StoreError> {
        self.run(move |conn| {
            let found = sessions::table
                .filter(sessions::charter.eq(charter).and(sessions::labels.eq(labels)))
                .filter(sessions::free_seats.gt(0).and(sessions::status.eq("open")))
                .order(sessions::ord)
                .select(sessions::id)
                .limit(most)
                .load(conn)?;
            let last: Option<i64> = sessions::table
                .filter(sessions::sought.eq(search))
                .select(max(sessions::sought_no))
                .first(conn)?;
            Ok((found, last.unwrap_or(0)))
        })
        .await
    }

    /// Notes how many seats of a session are free, unless another process owns it.
    pub async fn note_free_seats(
        &self,
        session: i64,
        epoch: u64,
        free: i32,
    ) -> Result<(), StoreError> {
        self.run(move |conn| {
            let own = sessions::table
                .filter(sessions::ord.eq(session).and(sessions::epoch.eq(signed(epoch))));
            diesel::update(own).set(sessions::free_seats.eq(free)).execute(conn)?;
            Ok(())
        })
        .await
    }

    /// Takes a session over and reads all that is needed to go on with it; `None` if there is no
    /// such session, or for [`Claim::Again`] if another process owns it now.
    ///
    /// An append that is under way is waited for. Only when nothing of an older epoch can be
    /// written any more, and that is on disk, is the session read. Cost: the newest snapshot and
    /// the journal after it.
    pub async fn take_over(
        &self,
        id: String,
        claim: Claim,
    ) -> Result<Option<TakenOver>, StoreError> {
        let owner = self.owner;
        fail::fail_point!("take-over-begins", |_| std::process::abort());
        let epoch =
            self.run(move |conn| conn.transaction(|conn| raise(conn, &id, claim, owner))).await?;
        let Some((session, epoch)) = epoch else { return Ok(None) };
        fail::fail_point!("take-over-raised", |_| std::process::abort());
        let taken = self.run_at_one_moment(move |conn| load(conn, session, epoch)).await?;
        fail::fail_point!("take-over-read", |_| std::process::abort());
        match (taken, claim) {
            (None, Claim::Anew) => {
                Err(StoreError::Away("another process took the session over meanwhile".to_owned()))
            }
            (taken, _) => Ok(taken),
        }
    }

    /// Writes the standing of a session; gives whether `epoch` is still its own. It is deleted
    /// after `delete_at` by [`Store::due_to_be_deleted`].
    pub async fn set_status(
        &self,
        session: i64,
        epoch: u64,
        standing: StandingRow,
        note: Note,
    ) -> Result<bool, StoreError> {
        let set = self.run_noted(note, move |conn| {
            let own = sessions::table
                .filter(sessions::ord.eq(session).and(sessions::epoch.eq(signed(epoch))));
            let set = (
                sessions::status.eq(standing.status),
                sessions::frozen_except.eq(standing.except),
                sessions::delete_at.eq(standing.delete_at),
            );
            let is_own = diesel::update(own).set(set).execute(conn)? == 1;
            if is_own {
                announce(conn, standing.announcement.as_slice())?;
            }
            Ok(is_own.then_some(()))
        });
        Ok(set.await?.is_some())
    }

    /// Those of the sessions, given by their numbers, that are not this process's any more. Cost:
    /// one look into an index for each.
    pub async fn not_owned(&self, sessions: Vec<i64>) -> Result<Vec<(i64, Ownership)>, StoreError> {
        let owner = self.owner;
        self.run(move |conn| {
            let known: BTreeMap<i64, (Option<Uuid>, i64)> = sessions::table
                .filter(sessions::ord.eq_any(&sessions))
                .select((sessions::ord, (sessions::owner, sessions::epoch)))
                .load::<(i64, (Option<Uuid>, i64))>(conn)?
                .into_iter()
                .collect();
            let lost = |session: i64| match known.get(&session) {
                None => Some((session, Ownership::Deleted)),
                Some((by, _)) if *by == Some(owner) => None,
                Some((_, epoch)) => Some((session, Ownership::Elsewhere(unsigned(*epoch)))),
            };
            Ok(sessions.into_iter().filter_map(lost).collect())
        })
        .await
    }

    /// Deletes a session with all that is kept of it; gives whether there was one. Tokens for it
    /// are revoked until `kept_until`, so that they are good for no later session of that id.
    ///
    /// An append that is under way is waited for; later ones find no session.
    pub async fn delete(
        &self,
        id: String,
        kept_until: DateTime<Utc>,
        note: Note,
    ) -> Result<bool, StoreError> {
        let deleted = self.run_noted(note, move |conn| {
            delete(conn, &id, kept_until).map(|one| one.then_some(()))
        });
        Ok(deleted.await?.is_some())
    }

    /// Sessions whose time to be deleted has come, at most `most`.
    pub async fn due_to_be_deleted(&self, most: i64) -> Result<Vec<String>, StoreError> {
        self.run(move |conn| {
            let due = sessions::table.filter(sessions::delete_at.lt(Utc::now()));
            Ok(due.order(sessions::delete_at).select(sessions::id).limit(most).load(conn)?)
        })
        .await
    }

    /// A session as a whole, read in one transaction; `None` if there is no such session.
    pub async fn whole(&self, id: String) -> Result<Option<Whole>, StoreError> {
        self.run_at_one_moment(move |conn| whole(conn, &id)).await
    }

    /// Keeps a session that was elsewhere. `Exists` if its id is taken.
    pub async fn bring_in(&self, whole: Whole) -> Result<SessionRow, StoreError> {
        self.run(move |conn| conn.transaction(|conn| bring_in(conn, &whole))).await
    }
}

fn delete(
    conn: &mut PgConnection,
    id: &str,
    kept_until: DateTime<Utc>,
) -> Result<bool, StoreError> {
    let held = sessions::table.filter(sessions::id.eq(id)).select(sessions::ord).for_update();
    let Some(session) = held.first::<i64>(conn).optional()? else { return Ok(false) };
    diesel::delete(journal::table.filter(journal::session.eq(session))).execute(conn)?;
    diesel::delete(snapshots::table.filter(snapshots::session.eq(session))).execute(conn)?;
    diesel::delete(refusals::table.filter(refusals::session.eq(session))).execute(conn)?;
    diesel::delete(invitations::table.filter(invitations::session.eq(id))).execute(conn)?;
    diesel::delete(revocations::table.filter(revocations::session.eq(id))).execute(conn)?;
    // That something was done stays, and by whom and what does not.
    let acts = audit::table.filter(audit::session.eq(id));
    let emptied = (audit::detail.eq("{}"), audit::by.eq("deleted"));
    diesel::update(acts).set(emptied).execute(conn)?;
    let issued_until = Utc::now().timestamp_micros() as f64 / 1e6;
    let all_of_it =
        NewRevocation { session: id.to_owned(), sub: None, jti: None, issued_until, kept_until };
    revoke(conn, &all_of_it)?;
    forget_session(conn, id)?;
    // Epochs, removals and amendments go with it.
    diesel::delete(sessions::table.filter(sessions::ord.eq(session))).execute(conn)?;
    Ok(true)
}

/// Raises a session's epoch; gives its number and the epoch.
pub(crate) fn raise(
    conn: &mut PgConnection,
    id: &str,
    claim: Claim,
    owner: Uuid,
) -> Result<Option<(i64, i64)>, StoreError> {
    // This waits for appends, which hold a share of the row, and lets none begin.
    let held = sessions::table
        .filter(sessions::id.eq(id))
        .select((sessions::ord, sessions::owner, sessions::epoch))
        .for_update();
    let held = held.first::<(i64, Option<Uuid>, i64)>(conn).optional()?;
    let Some((session, owned_by, last)) = held else { return Ok(None) };
    if claim == Claim::Again && owned_by != Some(owner) {
        return Ok(None);
    }
    let epoch = floor(conn)?.max(last + 1);
    diesel::update(sessions::table.filter(sessions::ord.eq(session)))
        .set((sessions::epoch.eq(epoch), sessions::owner.eq(owner)))
        .execute(conn)?;
    // A statement of its own, later than the lock: it sees what the last append before it has
    // written.
    let begins = signed(last_seq(conn, session)?);
    // An epoch that began where this one does says nothing that this one does not say too.
    diesel::delete(
        epochs::table.filter(epochs::session.eq(session).and(epochs::begins.eq(begins))),
    )
    .execute(conn)?;
    let row = (epochs::session.eq(session), epochs::epoch.eq(epoch), epochs::begins.eq(begins));
    diesel::insert_into(epochs::table).values(row).execute(conn)?;
    Ok(Some((session, epoch)))
}

/// Reads a session; `None` where its epoch is another than the one that is given.
fn load(
    conn: &mut PgConnection,
    session: i64,
    epoch: i64,
) -> Result<Option<TakenOver>, StoreError> {
    let own = sessions::table.filter(sessions::ord.eq(session).and(sessions::epoch.eq(epoch)));
    let Some(row) = own.select(SessionRow::as_select()).first(conn).optional()? else {
        return Ok(None);
    };
    let last = signed(last_seq(conn, row.ord)?);
    let charter_source = charters::table
        .filter(charters::name.eq(&row.charter).and(charters::version.eq(row.version)))
        .select(charters::source)
        .first(conn)?;
    let snapshot: Option<SequencerSnapshot> = snapshots::table
        .filter(snapshots::session.eq(row.ord).and(snapshots::seq.le(last)))
        .order(snapshots::seq.desc())
        .select((snapshots::seq, snapshots::body))
        .first::<(i64, String)>(conn)
        .optional()?
        .and_then(|(seq, body)| match read_snapshot(&body, seq == row.kept_from) {
            Ok(snapshot) => Some(snapshot),
            Err(error) => {
                // It only shortens the journal, which has everything.
                tracing::warn!(session = %row.id, %error, "a snapshot of another version is \
                    passed over for the journal");
                None
            }
        });
    if snapshot.is_none() && row.kept_from > 0 {
        let why = format!(
            "the snapshot of session {:?} at {} cannot be read, and its journal begins there",
            row.id, row.kept_from
        );
        return Err(StoreError::Damaged(why));
    }
    let from = snapshot.as_ref().map_or(0, |snapshot| signed(snapshot.seq));
    let updates = journal::table
        .filter(journal::session.eq(row.ord).and(journal::seq.gt(from)))
        .order(journal::seq)
        .select(journal::body)
        .load::<String>(conn)?
        .iter()
        .map(|body| read(body))
        .collect::<Result<_, _>>()?;
    let refusals = refusals::table
        .filter(refusals::session.eq(row.ord))
        .order(refusals::ord)
        .select((refusals::at_seq, refusals::client, refusals::n, refusals::problem))
        .load::<(i64, Uuid, i64, String)>(conn)?
        .into_iter()
        .map(|(at, client, n, problem)| {
            Ok((unsigned(at), client.into(), unsigned(n), read(&problem)?))
        })
        .collect::<Result<_, StoreError>>()?;
    let epochs = all_epochs(conn, row.ord)?;
    let removals = removals::table
        .filter(removals::session.eq(row.ord).and(removals::until.gt(Utc::now())))
        .select((removals::sub, removals::until))
        .load(conn)?;
    let amendments = amendments(conn, row.ord)?;
    Ok(Some(TakenOver {
        row,
        charter_source,
        snapshot,
        updates,
        refusals,
        epochs,
        removals,
        amendments,
    }))
}

fn whole(conn: &mut PgConnection, id: &str) -> Result<Option<Whole>, StoreError> {
    let row: Option<SessionRow> = sessions::table
        .filter(sessions::id.eq(id))
        .select(SessionRow::as_select())
        .first(conn)
        .optional()?;
    let Some(row) = row else { return Ok(None) };
    let base = snapshots::table
        .filter(snapshots::session.eq(row.ord).and(snapshots::seq.eq(row.kept_from)))
        .select((snapshots::seq, snapshots::body))
        .first::<(i64, String)>(conn)
        .optional()?;
    let updates = journal::table
        .filter(journal::session.eq(row.ord))
        .order(journal::seq)
        .select((journal::seq, journal::body, journal::met))
        .load::<(i64, String, bool)>(conn)?;
    let refusals = refusals::table
        .filter(refusals::session.eq(row.ord))
        .order(refusals::ord)
        .select((refusals::client, refusals::n, refusals::at_seq, refusals::problem))
        .load::<(Uuid, i64, i64, String)>(conn)?;
    let refusals = refusals
        .into_iter()
        .map(|(client, n, at, problem)| (client, unsigned(n), unsigned(at), problem));
    Ok(Some(Whole {
        epochs: all_epochs(conn, row.ord)?,
        base: base.map(|(seq, body)| (unsigned(seq), body)),
        updates: updates
            .into_iter()
            .map(|(seq, body, met)| Ok((unsigned(seq), in_present_form(body)?, met)))
            .collect::<Result<_, StoreError>>()?,
        refusals: refusals.collect(),
        id: row.id,
        charter: row.charter,
        version: row.version,
        status: row.status,
        opening: row.opening,
        epoch: unsigned(row.epoch),
        secret: row.secret,
        labels: row.labels,
    }))
}

fn bring_in(conn: &mut PgConnection, whole: &Whole) -> Result<SessionRow, StoreError> {
    let kept_from = whole.base.as_ref().map_or(0, |(seq, _)| signed(*seq));
    let row = (
        sessions::id.eq(&whole.id),
        sessions::charter.eq(&whole.charter),
        sessions::version.eq(whole.version),
        sessions::status.eq(&whole.status),
        sessions::opening.eq(&whole.opening),
        sessions::epoch.eq(signed(whole.epoch)),
        sessions::kept_from.eq(kept_from),
        sessions::secret.eq(whole.secret),
        sessions::labels.eq(&whole.labels),
        // Whether it has to do something by itself is seen when it is in memory.
        sessions::wakes.eq(Some(1)),
    );
    let row: SessionRow = diesel::insert_into(sessions::table)
        .values(row)
        .returning(SessionRow::as_returning())
        .get_result(conn)?;
    let ord = row.ord;
    let epochs: Vec<_> = whole
        .epochs
        .iter()
        .map(|(epoch, begins)| {
            (
                epochs::session.eq(ord),
                epochs::epoch.eq(signed(*epoch)),
                epochs::begins.eq(signed(*begins)),
            )
        })
        .collect();
    diesel::insert_into(epochs::table).values(epochs).execute(conn)?;
    if let Some((seq, body)) = &whole.base {
        let base =
            (snapshots::session.eq(ord), snapshots::seq.eq(signed(*seq)), snapshots::body.eq(body));
        diesel::insert_into(snapshots::table).values(base).execute(conn)?;
    }
    let updates = |(seq, body, met): &(u64, String, bool)| UpdateRow {
        session: ord,
        seq: signed(*seq),
        body: body.as_str().into(),
        met: *met,
    };
    for page in whole.updates.chunks(10_000) {
        let rows: Vec<_> = page.iter().map(updates).collect();
        copy_updates(conn, rows.iter())?;
    }
    let refused = |(client, n, at, problem): &(Uuid, u64, u64, String)| RefusalRow {
        session: ord,
        client: *client,
        n: signed(*n),
        at_seq: signed(*at),
        problem: problem.clone(),
    };
    for page in whole.refusals.chunks(1_000) {
        diesel::insert_into(refusals::table)
            .values(page.iter().map(refused).collect::<Vec<_>>())
            .execute(conn)?;
    }
    Ok(row)
}

fn all_epochs(conn: &mut PgConnection, session: i64) -> Result<Vec<(u64, u64)>, StoreError> {
    let rows = epochs::table.filter(epochs::session.eq(session)).order(epochs::epoch);
    let rows = rows.select((epochs::epoch, epochs::begins)).load::<(i64, i64)>(conn)?;
    Ok(rows.into_iter().map(|(epoch, begins)| (unsigned(epoch), unsigned(begins))).collect())
}

pub(crate) fn last_seq(conn: &mut PgConnection, session: i64) -> Result<u64, StoreError> {
    let last: Option<i64> = journal::table
        .filter(journal::session.eq(session))
        .select(max(journal::seq))
        .first(conn)?;
    // A journal that was cut, and to which nothing was added since, ends where its snapshot stands.
    let kept: Option<i64> = sessions::table
        .filter(sessions::ord.eq(session))
        .select(sessions::kept_from)
        .first(conn)
        .optional()?;
    Ok(unsigned(last.unwrap_or(0).max(kept.unwrap_or(0))))
}
