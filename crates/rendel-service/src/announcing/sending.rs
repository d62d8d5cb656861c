//! Sending: each announcement goes to each webhook that wants it at least once, with waits that
//! grow and differ, for as long as the configuration says.

use std::collections::BTreeSet;
use std::sync::Arc;
use std::time::Duration;

use chrono::{TimeDelta, Utc};
use futures_util::future::join_all;
use parking_lot::Mutex;
use rendel_store::{Due, Outcome, StoreError};
use uuid::Uuid;

use super::receivers::Said;
use crate::app::App;

/// Deliveries of one webhook that are under way at one time: one that hangs holds nobody else up.
const AT_ONCE: i64 = 16;
/// How long a delivery that was taken is left to whoever took it.
const LEASE: TimeDelta = TimeDelta::seconds(60);
/// How often it is looked for what other processes have announced.
const LOOK: Duration = Duration::from_secs(1);
/// How long what was announced gathers before it is looked at.
const GATHER: Duration = Duration::from_millis(20);
/// The longest wait between two attempts.
const LONGEST: Duration = Duration::from_secs(6 * 3_600);

/// How long to wait after so many attempts: two and a half times as long each time, up to six
/// hours, and from four to six fifths of that, so that not all come again together.
pub(crate) fn wait(first: Duration, attempts: u32, chance: f64) -> Duration {
    let grown =
        first.as_secs_f64() * 2.5_f64.powi(i32::try_from(attempts).unwrap_or(64).min(64) - 1);
    Duration::from_secs_f64(grown.min(LONGEST.as_secs_f64()) * (0.8 + 0.4 * chance))
}

impl App {
    /// Sends announcements to webhooks until the service stops.
    pub(crate) async fn watch_webhooks(self: Arc<Self>) {
        let busy = Arc::new(Mutex::new(BTreeSet::new()));
        let mut announced = self.announced.subscribe();
        while !self.is_stopping() {
            announced.mark_unchanged();
            // Without the database nothing is lost: it is there when it is back.
            if let Err(error) = self.send_due(&busy).await {
                tracing::debug!(%error, "webhooks wait for the database");
            }
            if tokio::time::timeout(LOOK, announced.changed()).await.is_ok() {
                tokio::time::sleep(GATHER).await;
            }
        }
    }

    /// Begins to send what is due.
    async fn send_due(
        self: &Arc<Self>,
        busy: &Arc<Mutex<BTreeSet<Uuid>>>,
    ) -> Result<(), StoreError> {
        self.store.spread_announcements().await?;
        let due = self.store.webhooks_due().await?;
        for webhook in due {
            if !busy.lock().insert(webhook) {
                continue;
            }
            let (app, busy) = (self.clone(), busy.clone());
            tokio::spawn(async move {
                while let Ok(taken) = app.store.take_due(webhook, AT_ONCE, LEASE).await {
                    if taken.is_empty() || app.is_stopping() {
                        break;
                    }
                    join_all(taken.into_iter().map(|due| app.deliver(due))).await;
                }
                busy.lock().remove(&webhook);
            });
        }
        Ok(())
    }

    async fn deliver(&self, due: Due) {
        let Due { webhook, announcement, attempts, began, id, event, url, secret, .. } = due;
        let said = self.receivers.send(&url, &secret, &id.to_string(), event).await;
        let outcome = match said {
            Said::Taken => Outcome::Taken,
            Said::Gone => Outcome::Dead("it answered 410 Gone: it wants no more".to_owned()),
            Said::Not { why, again } => {
                let first = self.config.webhook_first_wait;
                let after = wait(first, u32::try_from(attempts).unwrap_or(1), rand::random());
                let after = again.map_or(after, |again| again.clamp(after, LONGEST.max(after)));
                let since = (Utc::now() - began).to_std().unwrap_or_default();
                match since + after > self.config.webhook_give_up {
                    true => Outcome::Dead(why),
                    false => Outcome::Again { after, why },
                }
            }
        };
        self.metrics.delivered(&outcome);
        if let Outcome::Dead(why) = &outcome {
            tracing::warn!(%webhook, %id, why, "an announcement is not tried any more");
        }
        // Where this is not noted, it is sent once more.
        if let Err(error) = self.store.note_delivery(webhook, announcement, outcome).await {
            tracing::debug!(%error, "what became of a delivery was not noted");
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn waits_grow_and_differ_and_a_receiver_that_is_away_for_an_hour_loses_nothing() {
        let first = Duration::from_secs(5);
        let waits: Vec<_> = (1..=40).map(|attempts| wait(first, attempts, 0.5).as_secs()).collect();
        assert_eq!(waits[..5], [5, 12, 31, 78, 195]);
        assert!(waits.windows(2).all(|pair| pair[0] <= pair[1]));
        assert_eq!(waits.last(), Some(&LONGEST.as_secs()));
        assert_ne!(wait(first, 3, 0.0), wait(first, 3, 1.0));
        // In a virtual hour without an answer: few attempts, and the next soon after.
        let (mut now, mut attempts) = (0, 0);
        while now < 3_600 {
            attempts += 1;
            now += wait(first, attempts, 0.5).as_secs();
        }
        assert!(attempts < 10 && now < 3 * 3_600, "{attempts} attempts, taken after {now} s");
        assert!(wait(first, u32::MAX, 1.0) <= LONGEST.mul_f64(1.2));
    }
}
