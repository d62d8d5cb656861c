//! What a session holds of one participant: to be handed out, and to be put under another name.

use std::collections::BTreeSet;

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel::sql_types::Text;
use rendel_core::Charter;
use serde_json::Value;

use crate::access::{NewRevocation, Revocation, revoke};
use crate::audit::{AuditRow, Note};
use crate::error::StoreError;
use crate::participants::{Amendment, amendments};
use crate::rows::{read, read_snapshot, signed, unsigned};
use crate::schema::{
    announcements, audit, charters, journal, participants, refusals, removals, sessions, snapshots,
};
use crate::sessions::{Claim, raise};
use crate::store::Store;

/// Rows that are read and written at one time.
const PAGE: i64 = 1_000;

/// A page of what is held of a participant.
#[derive(Debug, Default)]
pub struct Held {
    /// The updates that they made, in order.
    pub updates: Vec<Value>,
    /// After which `seq` the next page begins, if there is one.
    pub after: Option<u64>,
    /// Until when they may not come back.
    pub removed_until: Option<DateTime<Utc>>,
    /// What stands over their tokens.
    pub amendment: Amendment,
    /// What they did, and what was done about them; of the first page alone.
    pub acts: Vec<AuditRow>,
}

/// Whose names are replaced in what is stored.
struct Renaming {
    sub: String,
    alias: String,
    /// The names of the fields that are filled with the author's id.
    fields: BTreeSet<String>,
}

impl Store {
    /// A page of what a session holds of a participant: of their updates those after `after`, at
    /// most 1,000. `None` if there is no such session. Cost: the journal from there to the page's
    /// end.
    pub async fn held_of(
        &self,
        session: String,
        sub: String,
        after: u64,
    ) -> Result<Option<Held>, StoreError> {
        self.run_at_one_moment(move |conn| {
            let known = sessions::table.filter(sessions::id.eq(&session)).select(sessions::ord);
            let Some(ord) = known.first::<i64>(conn).optional()? else { return Ok(None) };
            let mut held = updates_by(conn, ord, &sub, after)?;
            held.removed_until = removals::table
                .filter(removals::session.eq(ord).and(removals::sub.eq(&sub)))
                .select(removals::until)
                .first(conn)
                .optional()?;
            let amended = amendments(conn, ord)?.into_iter().find(|(id, _)| *id == sub);
            held.amendment = amended.map(|(_, amendment)| amendment).unwrap_or_default();
            if after == 0 {
                held.acts = audit::table
                    .filter(audit::session.eq(&session))
                    .filter(audit::by.eq(&sub).or(strpos(audit::detail, quoted(&sub)).gt(0)))
                    .order(audit::ord)
                    .select(AuditRow::as_select())
                    .load(conn)?;
            }
            Ok(Some(held))
        })
        .await
    }

    /// Puts all that a session holds of a participant under another name, in one transaction:
    /// journal, snapshots, refusals, audit, announcements, and the values of fields that are filled with the
    /// author's id. What stands over their tokens goes, and all of their tokens are revoked until
    /// `kept_until`. Gives the revocation; `None` if there is no such session.
    ///
    /// The session gets another epoch: an append that is under way is waited for, and whoever has
    /// the session in memory has to read it again. Cost: the whole journal, a page at a time.
    pub async fn forget_participant(
        &self,
        session: String,
        sub: String,
        alias: String,
        kept_until: DateTime<Utc>,
        note: Note,
    ) -> Result<Option<Revocation>, StoreError> {
        let owner = self.owner;
        self.run_noted(note, move |conn| {
            let Some((ord, _)) = raise(conn, &session, Claim::Anew, owner)? else {
                return Ok(None);
            };
            let charter = charter_of(conn, ord)?;
            let renaming = Renaming { sub, alias, fields: charter.author_fields() };
            renaming.journal(conn, ord)?;
            renaming.snapshots(conn, ord, &charter)?;
            renaming.refusals(conn, ord)?;
            renaming.opening(conn, ord)?;
            renaming.audit(conn, &session)?;
            renaming.announcements(conn, &session)?;
            let sub = renaming.sub;
            let amended = participants::session.eq(ord).and(participants::sub.eq(&sub));
            diesel::delete(participants::table.filter(amended)).execute(conn)?;
            let removed = removals::session.eq(ord).and(removals::sub.eq(&sub));
            diesel::delete(removals::table.filter(removed)).execute(conn)?;
            let issued_until = Utc::now().timestamp_micros() as f64 / 1e6;
            let theirs =
                NewRevocation { session, sub: Some(sub), jti: None, issued_until, kept_until };
            revoke(conn, &theirs).map(Some)
        })
        .await
    }
}

#[diesel::declare_sql_function]
extern "SQL" {
    /// The place of `part` in `text`, counted from 1, or 0 if it is not there.
    fn strpos(text: Text, part: Text) -> Integer;
}

/// A participant's id as it stands in JSON.
fn quoted(sub: &str) -> String {
    Value::from(sub).to_string()
}

fn charter_of(conn: &mut PgConnection, session: i64) -> Result<Charter, StoreError> {
    let of_session =
        charters::name.eq(sessions::charter).and(charters::version.eq(sessions::version));
    let source: String = sessions::table
        .inner_join(charters::table.on(of_session))
        .filter(sessions::ord.eq(session))
        .select(charters::source)
        .first(conn)?;
    let damaged = || StoreError::Damaged("the stored charter has faults".to_owned());
    Charter::parse(&source).map_err(|_| damaged())
}

fn updates_by(
    conn: &mut PgConnection,
    session: i64,
    sub: &str,
    after: u64,
) -> Result<Held, StoreError> {
    let by = format!("\"by\":{}", quoted(sub));
    let rows: Vec<(i64, String)> = journal::table
        .filter(journal::session.eq(session).and(journal::seq.gt(signed(after))))
        .filter(strpos(journal::body, by).gt(0))
        .order(journal::seq)
        .select((journal::seq, journal::body))
        .limit(PAGE)
        .load(conn)?;
    let is_full = i64::try_from(rows.len()).is_ok_and(|rows| rows == PAGE);
    let last = rows.last().map(|(seq, _)| unsigned(*seq));
    let mut held = Held { after: last.filter(|_| is_full), ..Held::default() };
    for (_, body) in rows {
        let update: Value = read(&body)?;
        // A value of somebody else's may look like it.
        if update["by"] == sub {
            held.updates.push(update);
        }
    }
    Ok(held)
}

impl Renaming {
    fn journal(&self, conn: &mut PgConnection, session: i64) -> Result<(), StoreError> {
        let mut done = -1;
        loop {
            let rows: Vec<(i64, String)> = journal::table
                .filter(journal::session.eq(session).and(journal::seq.gt(done)))
                .filter(strpos(journal::body, quoted(&self.sub)).gt(0))
                .order(journal::seq)
                .select((journal::seq, journal::body))
                .limit(PAGE)
                .load(conn)?;
            let Some((last, _)) = rows.last() else { return Ok(()) };
            done = *last;
            for (seq, body) in rows {
                let row = journal::table.find((session, seq));
                let renamed = journal::body.eq(self.renamed(&body)?);
                diesel::update(row).set(renamed).execute(conn)?;
            }
        }
    }

    /// The snapshot before which nothing is kept is made anew; the others can be, from the journal.
    fn snapshots(
        &self,
        conn: &mut PgConnection,
        session: i64,
        charter: &Charter,
    ) -> Result<(), StoreError> {
        let kept_from: i64 =
            sessions::table.find(session).select(sessions::kept_from).first(conn)?;
        let others = snapshots::session.eq(session).and(snapshots::seq.ne(kept_from));
        diesel::delete(snapshots::table.filter(others)).execute(conn)?;
        let row = snapshots::table.find((session, kept_from));
        let Some(body) = row.select(snapshots::body).first::<String>(conn).optional()? else {
            return Ok(());
        };
        let renamed = read_snapshot(&body, true)?
            .with_changed_state(charter, |plain| self.rename(plain, false))
            .map_err(|misfit| StoreError::Damaged(misfit.to_string()))?
            .with_renamed(&self.sub, &self.alias);
        let renamed = serde_json::to_string(&renamed)
            .map_err(|error| StoreError::Damaged(error.to_string()))?;
        diesel::update(row).set(snapshots::body.eq(renamed)).execute(conn)?;
        Ok(())
    }

    fn refusals(&self, conn: &mut PgConnection, session: i64) -> Result<(), StoreError> {
        let rows: Vec<(i64, String)> = refusals::table
            .filter(refusals::session.eq(session))
            .filter(strpos(refusals::problem, quoted(&self.sub)).gt(0))
            .select((refusals::ord, refusals::problem))
            .load(conn)?;
        for (ord, problem) in rows {
            let row = refusals::table.filter(refusals::ord.eq(ord));
            let renamed = refusals::problem.eq(self.renamed(&problem)?);
            diesel::update(row).set(renamed).execute(conn)?;
        }
        Ok(())
    }

    fn opening(&self, conn: &mut PgConnection, session: i64) -> Result<(), StoreError> {
        let row = sessions::table.find(session);
        if let Some(opening) = row.select(sessions::opening).first::<Option<String>>(conn)? {
            let renamed = sessions::opening.eq(self.renamed(&opening)?);
            diesel::update(row).set(renamed).execute(conn)?;
        }
        Ok(())
    }

    /// What they did stays, and in what it was about them their id and name do not.
    fn audit(&self, conn: &mut PgConnection, session: &str) -> Result<(), StoreError> {
        let theirs = audit::by.eq(&self.sub);
        let rows: Vec<(i64, String, String)> = audit::table
            .filter(audit::session.eq(session))
            .filter(theirs.or(strpos(audit::detail, quoted(&self.sub)).gt(0)))
            .select((audit::ord, audit::by, audit::detail))
            .load(conn)?;
        for (ord, by, detail) in rows {
            let mut detail: Value = read(&detail)?;
            let is_about_them = by == self.sub || detail["sub"] == self.sub;
            if is_about_them && let Some(members) = detail.as_object_mut() {
                members.remove("name");
                members.remove("changes");
            }
            self.rename(&mut detail, true);
            let by = if by == self.sub { &self.alias } else { &by };
            let renamed = (audit::by.eq(by), audit::detail.eq(detail.to_string()));
            diesel::update(audit::table.find(ord)).set(renamed).execute(conn)?;
        }
        Ok(())
    }

    /// Of what was announced, what was taken already stays with whoever took it.
    fn announcements(&self, conn: &mut PgConnection, session: &str) -> Result<(), StoreError> {
        let rows: Vec<(i64, String)> = announcements::table
            .filter(announcements::session.eq(session))
            .filter(strpos(announcements::event, quoted(&self.sub)).gt(0))
            .select((announcements::ord, announcements::event))
            .load(conn)?;
        for (ord, event) in rows {
            let mut event: Value = read(&event)?;
            self.rename(&mut event["data"]["values"], true);
            let renamed = announcements::event.eq(event.to_string());
            diesel::update(announcements::table.find(ord)).set(renamed).execute(conn)?;
        }
        Ok(())
    }

    fn renamed(&self, body: &str) -> Result<String, StoreError> {
        let mut value = read(body)?;
        self.rename(&mut value, false);
        Ok(value.to_string())
    }

    /// Replaces the id where it stands for the participant: as who did something or holds it, and in
    /// fields that are filled with the author's id. A text that happens to be the same stays.
    fn rename(&self, value: &mut Value, stands_for_them: bool) {
        match value {
            Value::String(text) if stands_for_them && *text == self.sub => {
                text.clone_from(&self.alias);
            }
            Value::Array(values) => {
                values.iter_mut().for_each(|value| self.rename(value, stands_for_them));
            }
            Value::Object(members) => {
                let at = members.get("at").and_then(Value::as_str).unwrap_or_default();
                let is_of_author =
                    at.rsplit('/').next().is_some_and(|last| self.fields.contains(last));
                for (name, value) in members {
                    let is_theirs = matches!(name.as_str(), "by" | "holder" | "sub" | "passage")
                        || self.fields.contains(name)
                        || (is_of_author && matches!(name.as_str(), "value" | "lost" | "current"));
                    self.rename(value, stands_for_them || is_theirs);
                }
            }
            _ => {}
        }
    }
}
