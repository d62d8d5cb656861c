//! Keys, revocations, removals and invitations: who is let in.

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use uuid::Uuid;

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
    ) -> Result<KeyRow, StoreError> {
        self.run(move |conn| {
            let row =
                (keys::kid.eq(kid), keys::algorithm.eq(algorithm), keys::material.eq(material));
            Ok(diesel::insert_into(keys::table)
                .values(row)
                .returning(KeyRow::as_returning())
                .get_result(conn)?)
        })
        .await
    }

    /// A key is not good any more; gives whether it was.
    pub async fn retire_key(&self, kid: String) -> Result<bool, StoreError> {
        self.run(move |conn| {
            let key = keys::table.filter(keys::kid.eq(kid).and(keys::retired.is_null()));
            Ok(diesel::update(key).set(keys::retired.eq(Utc::now())).execute(conn)? == 1)
        })
        .await
    }

    /// Revokes one token, or all of a participant. What has ended anyhow by `kept_until` needs no
    /// memory beyond that.
    pub async fn revoke(
        &self,
        session: String,
        sub: Option<String>,
        jti: Option<String>,
        issued_until: f64,
        kept_until: DateTime<Utc>,
    ) -> Result<Revocation, StoreError> {
        use revocations::dsl;
        self.run(move |conn| {
            diesel::delete(revocations::table.filter(dsl::kept_until.lt(Utc::now())))
                .execute(conn)?;
            let row = (
                dsl::session.eq(session),
                dsl::sub.eq(sub),
                dsl::jti.eq(jti),
                dsl::issued_until.eq(issued_until),
                dsl::kept_until.eq(kept_until),
            );
            let insert = diesel::insert_into(revocations::table).values(row);
            Ok(insert.returning(Revocation::as_returning()).get_result(conn)?)
        })
        .await
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
    ) -> Result<(), StoreError> {
        use removals::dsl;
        self.run(move |conn| {
            let row = (dsl::session.eq(session), dsl::sub.eq(sub), dsl::until.eq(until));
            let insert = diesel::insert_into(removals::table).values(row);
            insert
                .on_conflict((dsl::session, dsl::sub))
                .do_update()
                .set(dsl::until.eq(until))
                .execute(conn)?;
            Ok(())
        })
        .await
    }

    /// A participant may come back; gives whether they could not.
    pub async fn lift(&self, session: i64, sub: String) -> Result<bool, StoreError> {
        use removals::dsl;
        self.run(move |conn| {
            let one = removals::table.filter(dsl::session.eq(session).and(dsl::sub.eq(sub)));
            let until: Option<DateTime<Utc>> =
                diesel::delete(one).returning(dsl::until).get_result(conn).optional()?;
            Ok(until.is_some_and(|until| until > Utc::now()))
        })
        .await
    }

    /// Keeps an invitation under the digest of its code.
    pub async fn invite(
        &self,
        id: Uuid,
        code: String,
        session: String,
        role: String,
        uses: i32,
        until: DateTime<Utc>,
    ) -> Result<InvitationRow, StoreError> {
        use invitations::dsl;
        self.run(move |conn| {
            let row = (
                dsl::id.eq(id),
                dsl::code.eq(code),
                dsl::session.eq(session),
                dsl::role.eq(role),
                dsl::uses.eq(uses),
                dsl::until.eq(until),
            );
            let insert = diesel::insert_into(invitations::table).values(row);
            Ok(insert.returning(InvitationRow::as_returning()).get_result(conn)?)
        })
        .await
    }

    /// Uses an invitation up by one; `None` where there is none that is good.
    pub async fn accept(&self, code: String) -> Result<Option<InvitationRow>, StoreError> {
        use invitations::dsl;
        self.run(move |conn| {
            let good = dsl::code.eq(code).and(dsl::used.lt(dsl::uses));
            let good = good.and(dsl::until.gt(Utc::now())).and(dsl::withdrawn.eq(false));
            let used =
                diesel::update(invitations::table.filter(good)).set(dsl::used.eq(dsl::used + 1));
            Ok(used.returning(InvitationRow::as_returning()).get_result(conn).optional()?)
        })
        .await
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
    pub async fn withdraw(&self, session: String, id: Uuid) -> Result<bool, StoreError> {
        use invitations::dsl;
        self.run(move |conn| {
            let one = invitations::table.filter(dsl::session.eq(session).and(dsl::id.eq(id)));
            Ok(diesel::update(one).set(dsl::withdrawn.eq(true)).execute(conn)? == 1)
        })
        .await
    }
}
