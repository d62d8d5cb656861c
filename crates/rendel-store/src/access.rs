//! Keys, revocations, removals and invitations: who is let in.

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel::sql_types::BigInt;
use uuid::Uuid;

use crate::audit::Note;
use crate::error::StoreError;
use crate::schema::{invitations, keys, removals, revocations};
use crate::store::Store;

/// A key that signs participants' tokens.
#[derive(Clone, Debug, PartialEq, Eq, Queryable, Selectable)]
#[diesel(table_name = keys)]
pub struct KeyRow {
    /// Its id, which tokens name in their header.
    pub kid: String,
    /// `HS256` or `EdDSA`.
    pub algorithm: String,
    /// The secret, or the public key.
    pub material: String,
    /// Since when it is good.
    pub added: DateTime<Utc>,
    /// Since when it is not good any more.
    pub retired: Option<DateTime<Utc>>,
}

/// Tokens that are not good any more.
#[derive(Clone, Debug, PartialEq, Queryable, Selectable)]
#[diesel(table_name = revocations)]
pub struct Revocation {
    /// Its place in the order.
    pub ord: i64,
    /// The session that they are for.
    pub session: String,
    /// The participant, for all of theirs.
    pub sub: Option<String>,
    /// The id of one token.
    pub jti: Option<String>,
    /// Tokens that were issued until then, in seconds since 1970 UTC.
    pub issued_until: f64,
    /// When all of them have ended anyhow.
    pub kept_until: DateTime<Utc>,
}

/// What is to be revoked.
#[derive(Clone, Debug, Insertable)]
#[diesel(table_name = revocations)]
pub struct NewRevocation {
    /// The session that the tokens are for.
    pub session: String,
    /// One participant, or all where `jti` says no token either.
    pub sub: Option<String>,
    /// The id of one token.
    pub jti: Option<String>,
    /// Tokens that were issued until then, in seconds since 1970 UTC.
    pub issued_until: f64,
    /// When all of them have ended anyhow.
    pub kept_until: DateTime<Utc>,
}

/// An invitation that is made.
#[derive(Clone, Debug, Insertable)]
#[diesel(table_name = invitations)]
pub struct NewInvitation {
    /// Its id.
    pub id: Uuid,
    /// The digest of its code.
    pub code: String,
    /// The session.
    pub session: String,
    /// The role of who comes by it.
    pub role: String,
    /// How many may come by it.
    pub uses: i32,
    /// Until when.
    pub until: DateTime<Utc>,
}

/// Names the lock that revocations take one after the other.
const REVOKING: i64 = 0x7265_766f_6b65;

/// Revocations are committed in the order of their numbers, so that whoever has read up to one of
/// them has read all before it.
pub(crate) fn revoke(
    conn: &mut PgConnection,
    new: &NewRevocation,
) -> Result<Revocation, StoreError> {
    diesel::sql_query("SELECT pg_advisory_xact_lock($1)")
        .bind::<BigInt, _>(REVOKING)
        .execute(conn)?;
    diesel::delete(revocations::table.filter(revocations::kept_until.lt(Utc::now())))
        .execute(conn)?;
    let insert = diesel::insert_into(revocations::table).values(new);
    Ok(insert.returning(Revocation::as_returning()).get_result(conn)?)
}

/// An invitation.
#[derive(Clone, Debug, PartialEq, Eq, Queryable, Selectable)]
#[diesel(table_name = invitations)]
pub struct InvitationRow {
    /// Its id.
    pub id: Uuid,
    /// The session.
    pub session: String,
    /// The role of who comes by it.
    pub role: String,
    /// How many may come by it.
    pub uses: i32,
    /// How many have.
    pub used: i32,
    /// Until when.
    pub until: DateTime<Utc>,
    /// Since when.
    pub made: DateTime<Utc>,
    /// Whether it was taken back.
    pub withdrawn: bool,
}

impl Store {
    /// All keys, the retired ones too.
    pub async fn keys(&self) -> Result<Vec<KeyRow>, StoreError> {
        self.run(|conn| {
            Ok(keys::table.order(keys::added).select(KeyRow::as_select()).load(conn)?)
        })
        .await
    }

    /// Keeps a key. `Exists` if its id is taken.
    pub async fn add_key(
        &self,
        kid: String,
        algorithm: &'static str,
        material: String,
        note: Note,
    ) -> Result<KeyRow, StoreError> {
        let added = self.run_noted(note, move |conn| {
            let row =
                (keys::kid.eq(kid), keys::algorithm.eq(algorithm), keys::material.eq(material));
            let insert = diesel::insert_into(keys::table).values(row);
            Ok(Some(insert.returning(KeyRow::as_returning()).get_result(conn)?))
        });
        added.await?.ok_or(StoreError::Exists)
    }

    /// A key is not good any more; gives whether it was.
    pub async fn retire_key(&self, kid: String, note: Note) -> Result<bool, StoreError> {
        let retired = self.run_noted(note, move |conn| {
            let key = keys::table.filter(keys::kid.eq(kid).and(keys::retired.is_null()));
            let retired = diesel::update(key).set(keys::retired.eq(Utc::now())).execute(conn)?;
            Ok((retired == 1).then_some(()))
        });
        Ok(retired.await?.is_some())
    }

    /// Revokes tokens until `kept_until`, when they have ended anyhow: one by its id, all of a
    /// participant, or all of a session.
    pub async fn revoke(&self, new: NewRevocation, note: Note) -> Result<Revocation, StoreError> {
        let revoked = self.run_noted(note, move |conn| revoke(conn, &new).map(Some));
        // An act that does something gives something.
        revoked.await?.ok_or_else(|| StoreError::Away("nothing was revoked".to_owned()))
    }

    /// The revocations after a place, in order.
    pub async fn revocations(&self, after: i64) -> Result<Vec<Revocation>, StoreError> {
        use revocations::dsl;
        self.run(move |conn| {
            let after =
                revocations::table.filter(dsl::ord.gt(after).and(dsl::kept_until.gt(Utc::now())));
            Ok(after.order(dsl::ord).select(Revocation::as_select()).load(conn)?)
        })
        .await
    }

    /// A participant may not come back before `until`.
    pub async fn remove(
        &self,
        session: i64,
        sub: String,
        until: DateTime<Utc>,
        note: Note,
    ) -> Result<(), StoreError> {
        use removals::dsl;
        let removed = self.run_noted(note, move |conn| {
            let row = (dsl::session.eq(session), dsl::sub.eq(sub), dsl::until.eq(until));
            let insert = diesel::insert_into(removals::table).values(row);
            let put = insert.on_conflict((dsl::session, dsl::sub)).do_update();
            put.set(dsl::until.eq(until)).execute(conn)?;
            Ok(Some(()))
        });
        removed.await.map(drop)
    }

    /// A participant may come back; gives whether they could not.
    pub async fn lift(&self, session: i64, sub: String, note: Note) -> Result<bool, StoreError> {
        use removals::dsl;
        let lifted = self.run_noted(note, move |conn| {
            let one = removals::table.filter(dsl::session.eq(session).and(dsl::sub.eq(sub)));
            let until: Option<DateTime<Utc>> =
                diesel::delete(one).returning(dsl::until).get_result(conn).optional()?;
            Ok(until.filter(|until| *until > Utc::now()))
        });
        Ok(lifted.await?.is_some())
    }

    /// Keeps an invitation under the digest of its code.
    pub async fn invite(&self, new: NewInvitation, note: Note) -> Result<(), StoreError> {
        let made = self.run_noted(note, move |conn| {
            diesel::insert_into(invitations::table).values(new).execute(conn)?;
            Ok(Some(()))
        });
        made.await.map(drop)
    }

    /// The invitation whose code has this digest.
    pub async fn invitation(&self, code: String) -> Result<Option<InvitationRow>, StoreError> {
        self.run(move |conn| {
            let of_code = invitations::table.filter(invitations::code.eq(code));
            Ok(of_code.select(InvitationRow::as_select()).first(conn).optional()?)
        })
        .await
    }

    /// Uses an invitation up by one; `None` if there is none that is good. What `note` says of it
    /// is written down with it.
    pub async fn accept(
        &self,
        code: String,
        note: impl FnOnce(&InvitationRow) -> Note + Send + 'static,
    ) -> Result<Option<InvitationRow>, StoreError> {
        use invitations::dsl;
        let accept = move |conn: &mut PgConnection| {
            let good = dsl::code.eq(code).and(dsl::used.lt(dsl::uses));
            let good = good.and(dsl::until.gt(Utc::now())).and(dsl::withdrawn.eq(false));
            let used =
                diesel::update(invitations::table.filter(good)).set(dsl::used.eq(dsl::used + 1));
            let row = used.returning(InvitationRow::as_returning()).get_result(conn).optional()?;
            if let Some(row) = &row {
                note(row).write(conn)?;
            }
            Ok(row)
        };
        self.run(|conn| conn.transaction(accept)).await
    }

    /// The invitations of a session, newest first.
    pub async fn invitations(&self, session: String) -> Result<Vec<InvitationRow>, StoreError> {
        use invitations::dsl;
        self.run(move |conn| {
            let all = invitations::table
                .filter(dsl::session.eq(session))
                .order(dsl::made.desc())
                .limit(200);
            Ok(all.select(InvitationRow::as_select()).load(conn)?)
        })
        .await
    }

    /// Takes an invitation back; gives whether there was one.
    pub async fn withdraw(
        &self,
        session: String,
        id: Uuid,
        note: Note,
    ) -> Result<bool, StoreError> {
        use invitations::dsl;
        let withdrawn = self.run_noted(note, move |conn| {
            let one = invitations::table.filter(dsl::session.eq(session).and(dsl::id.eq(id)));
            let withdrawn = diesel::update(one).set(dsl::withdrawn.eq(true)).execute(conn)?;
            Ok((withdrawn == 1).then_some(()))
        });
        Ok(withdrawn.await?.is_some())
    }
}
