//! Webhooks: to whom announcements are sent, and what became of each delivery.

use std::time::Duration;

use chrono::{DateTime, TimeDelta, Utc};
use diesel::pg::PgConnection;
use diesel::prelude::*;
use diesel::sql_types::{BigInt, Bool, Integer, Interval, Text, Timestamptz, Uuid as SqlUuid};
use uuid::Uuid;

use crate::announcements::last_announcement;
use crate::audit::Note;
use crate::error::StoreError;
use crate::schema::{announcements, deliveries, webhooks};
use crate::store::Store;

/// A webhook.
#[derive(Clone, Debug, PartialEq, Eq, Queryable, Selectable, Insertable)]
#[diesel(table_name = webhooks)]
pub struct WebhookRow {
    /// Its id.
    pub id: Uuid,
    /// Where it is sent to.
    pub url: String,
    /// Of which types; of all where there are none.
    pub types: Vec<String>,
    /// Of sessions of which charters; of all where there are none.
    pub charters: Vec<String>,
    /// With what it is signed.
    pub secret: String,
    /// Whether one of a session waits for those before it.
    pub ordered: bool,
    /// Announcements up to there are among its deliveries already, or are not meant.
    pub after: i64,
    /// When it was made.
    pub made: DateTime<Utc>,
}

/// A delivery that is due.
#[derive(Clone, Debug, QueryableByName)]
pub struct Due {
    /// Of which webhook.
    #[diesel(sql_type = SqlUuid)]
    pub webhook: Uuid,
    /// The place of the announcement.
    #[diesel(sql_type = BigInt)]
    pub announcement: i64,
    /// How often it was tried, this time included.
    #[diesel(sql_type = Integer)]
    pub attempts: i32,
    /// Since when.
    #[diesel(sql_type = Timestamptz)]
    pub began: DateTime<Utc>,
    /// The announcement's id.
    #[diesel(sql_type = SqlUuid)]
    pub id: Uuid,
    /// The event as JSON.
    #[diesel(sql_type = Text)]
    pub event: String,
    /// Where to.
    #[diesel(sql_type = Text)]
    pub url: String,
    /// With what it is signed.
    #[diesel(sql_type = Text)]
    pub secret: String,
    /// Whether those of its session that come after it wait.
    #[diesel(sql_type = Bool)]
    pub ordered: bool,
}

/// How a delivery stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum DeliveryState {
    /// It is to be sent.
    Waiting,
    /// It was taken.
    Delivered,
    /// It is not tried any more, unless somebody asks for it.
    Dead,
}

impl DeliveryState {
    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            Self::Waiting => "waiting",
            Self::Delivered => "delivered",
            Self::Dead => "dead",
        }
    }

    /// The one of that name.
    pub fn named(name: &str) -> Option<Self> {
        [Self::Waiting, Self::Delivered, Self::Dead].into_iter().find(|own| own.name() == name)
    }
}

/// What became of an attempt.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Outcome {
    /// It was taken.
    Taken,
    /// It is tried again then.
    Again {
        /// When.
        after: Duration,
        /// What was wrong.
        why: String,
    },
    /// It is not tried any more.
    Dead(String),
}

/// A delivery.
#[derive(Clone, Debug, PartialEq, Eq, Queryable)]
pub struct Delivery {
    /// The place of the announcement.
    pub announcement: i64,
    /// Its id.
    pub id: Uuid,
    /// Its type.
    pub kind: String,
    /// The session that it is about.
    pub session: String,
    /// `waiting`, `delivered` or `dead`.
    pub status: String,
    /// How often it was tried.
    pub attempts: i32,
    /// When it is tried next, or was last.
    pub due: DateTime<Utc>,
    /// What was wrong the last time.
    pub why: Option<String>,
}

/// What a webhook has not been given yet becomes deliveries, up to a place.
const SPREAD: &str = "INSERT INTO deliveries (webhook, announcement, session) \
    SELECT w.id, a.ord, a.session FROM webhooks w JOIN announcements a ON a.ord > w.after AND a.ord <= $1 \
    AND (w.types = '{}' OR a.kind = ANY (w.types)) AND (w.charters = '{}' OR a.charter = ANY (w.charters)) \
    WHERE w.after < $1 ON CONFLICT DO NOTHING";

/// Takes what is due for a while: nobody else sends it meanwhile. Of a webhook that keeps the order
/// of a session only the first of each.
const TAKE: &str = "WITH due AS (SELECT d.webhook, d.announcement FROM deliveries d JOIN webhooks w ON w.id = d.webhook \
    WHERE d.webhook = $3 AND d.status = 'waiting' AND d.due <= now() AND NOT (w.ordered AND EXISTS (SELECT 1 FROM deliveries e \
    WHERE e.webhook = d.webhook AND e.session = d.session AND e.status = 'waiting' AND e.announcement < d.announcement)) \
    ORDER BY d.due LIMIT $1 FOR UPDATE OF d SKIP LOCKED), \
    taken AS (UPDATE deliveries d SET due = now() + $2, attempts = d.attempts + 1 FROM due \
    WHERE d.webhook = due.webhook AND d.announcement = due.announcement RETURNING d.*) \
    SELECT t.webhook, t.announcement, t.attempts, t.began, a.id, a.event, w.url, w.secret, w.ordered \
    FROM taken t JOIN webhooks w ON w.id = t.webhook JOIN announcements a ON a.ord = t.announcement ORDER BY t.announcement";

impl Store {
    /// Keeps a new webhook, which is sent what is announced from now on.
    pub async fn add_webhook(
        &self,
        mut row: WebhookRow,
        note: Note,
    ) -> Result<WebhookRow, StoreError> {
        let added = self.run_noted(note, move |conn| {
            row.after = last_announcement(conn)?;
            diesel::insert_into(webhooks::table).values(&row).execute(conn)?;
            Ok(Some(row))
        });
        added.await?.ok_or_else(|| StoreError::Away("the webhook was not kept".to_owned()))
    }

    /// All webhooks, the oldest first.
    pub async fn webhooks(&self) -> Result<Vec<WebhookRow>, StoreError> {
        self.run(|conn| {
            Ok(webhooks::table.order(webhooks::made).select(WebhookRow::as_select()).load(conn)?)
        })
        .await
    }

    /// Deletes a webhook with its deliveries; gives whether there was one.
    pub async fn remove_webhook(&self, id: Uuid, note: Note) -> Result<bool, StoreError> {
        let removed = self.run_noted(note, move |conn| {
            let own = webhooks::table.filter(webhooks::id.eq(id));
            Ok((diesel::delete(own).execute(conn)? == 1).then_some(()))
        });
        Ok(removed.await?.is_some())
    }

    /// Makes deliveries of what was announced since the last time; gives how many.
    pub async fn spread_announcements(&self) -> Result<usize, StoreError> {
        self.run(|conn| {
            conn.transaction(|conn| {
                let last = last_announcement(conn)?;
                let behind = webhooks::table.filter(webhooks::after.lt(last));
                let locked: Vec<Uuid> = behind.select(webhooks::id).for_update().load(conn)?;
                if locked.is_empty() {
                    return Ok(0);
                }
                let made = diesel::sql_query(SPREAD).bind::<BigInt, _>(last).execute(conn)?;
                diesel::update(webhooks::table.filter(webhooks::id.eq_any(locked)))
                    .set(webhooks::after.eq(last))
                    .execute(conn)?;
                Ok(made)
            })
        })
        .await
    }

    /// The webhooks of which deliveries are due.
    pub async fn webhooks_due(&self) -> Result<Vec<Uuid>, StoreError> {
        self.run(|conn| {
            let due = deliveries::status.eq("waiting").and(deliveries::due.le(diesel::dsl::now));
            let due = deliveries::table.filter(due).select(deliveries::webhook).distinct();
            Ok(due.load(conn)?)
        })
        .await
    }

    /// Takes deliveries of a webhook that are due, at most `most`, which nobody else sends for as long
    /// as `lease`.
    pub async fn take_due(
        &self,
        webhook: Uuid,
        most: i64,
        lease: TimeDelta,
    ) -> Result<Vec<Due>, StoreError> {
        self.run(move |conn| {
            let taken = diesel::sql_query(TAKE)
                .bind::<BigInt, _>(most)
                .bind::<Interval, _>(lease)
                .bind::<SqlUuid, _>(webhook);
            Ok(taken.load(conn)?)
        })
        .await
    }

    /// Notes what became of a delivery.
    pub async fn note_delivery(
        &self,
        webhook: Uuid,
        announcement: i64,
        outcome: Outcome,
    ) -> Result<(), StoreError> {
        self.run(move |conn| {
            let own = deliveries::table.find((webhook, announcement));
            let now = Utc::now();
            let (state, due, why) = match outcome {
                Outcome::Taken => (DeliveryState::Delivered, now, None),
                Outcome::Again { after, why } => {
                    let after = TimeDelta::from_std(after).unwrap_or(TimeDelta::days(1));
                    (DeliveryState::Waiting, now + after, Some(why))
                }
                Outcome::Dead(why) => (DeliveryState::Dead, now, Some(why)),
            };
            diesel::update(own)
                .set((
                    deliveries::status.eq(state.name()),
                    deliveries::due.eq(due),
                    deliveries::why.eq(why),
                ))
                .execute(conn)?;
            Ok(())
        })
        .await
    }

    /// The deliveries of a webhook, the newest first, at most `most`; `None` if there is no such
    /// webhook.
    pub async fn deliveries(
        &self,
        webhook: Uuid,
        state: Option<DeliveryState>,
        before: Option<i64>,
        most: i64,
    ) -> Result<Option<Vec<Delivery>>, StoreError> {
        self.run(move |conn| {
            if !has_webhook(conn, webhook)? {
                return Ok(None);
            }
            let mut query = deliveries::table
                .inner_join(
                    announcements::table.on(announcements::ord.eq(deliveries::announcement)),
                )
                .filter(deliveries::webhook.eq(webhook))
                .order(deliveries::announcement.desc())
                .select((
                    deliveries::announcement,
                    announcements::id,
                    announcements::kind,
                    deliveries::session,
                    deliveries::status,
                    deliveries::attempts,
                    deliveries::due,
                    deliveries::why,
                ))
                .limit(most)
                .into_boxed();
            if let Some(state) = state {
                query = query.filter(deliveries::status.eq(state.name()));
            }
            if let Some(before) = before {
                query = query.filter(deliveries::announcement.lt(before));
            }
            Ok(Some(query.load(conn)?))
        })
        .await
    }

    /// Sends deliveries again: those of these announcements, or all that are dead. Gives how many;
    /// `None` if there is no such webhook.
    pub async fn resend(
        &self,
        webhook: Uuid,
        ids: Vec<Uuid>,
        note: Note,
    ) -> Result<Option<usize>, StoreError> {
        self.run_noted(note, move |conn| {
            if !has_webhook(conn, webhook)? {
                return Ok(None);
            }
            let named = announcements::table.filter(announcements::id.eq_any(&ids));
            let named: Vec<i64> = named.select(announcements::ord).load(conn)?;
            let is_meant = match ids.is_empty() {
                true => "dead",
                false => "delivered",
            };
            let own = deliveries::table
                .filter(deliveries::webhook.eq(webhook))
                .filter(deliveries::status.eq("dead").or(deliveries::status.eq(is_meant)));
            let anew = (
                deliveries::status.eq("waiting"),
                deliveries::attempts.eq(0),
                deliveries::began.eq(diesel::dsl::now),
                deliveries::due.eq(diesel::dsl::now),
            );
            let count = match ids.is_empty() {
                true => diesel::update(own).set(anew).execute(conn)?,
                false => {
                    let own = own.filter(deliveries::announcement.eq_any(named));
                    diesel::update(own).set(anew).execute(conn)?
                }
            };
            Ok(Some(count))
        })
        .await
    }
}

fn has_webhook(conn: &mut PgConnection, id: Uuid) -> Result<bool, StoreError> {
    let own = webhooks::table.filter(webhooks::id.eq(id));
    Ok(diesel::select(diesel::dsl::exists(own)).get_result(conn)?)
}
