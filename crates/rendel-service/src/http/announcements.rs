//! What sessions have announced: as a list, as one that is waited for, and as Server-Sent Events.

use std::sync::Arc;
use std::time::Duration;

use actix_web::http::header;
use actix_web::web::Bytes;
use actix_web::{HttpRequest, HttpResponse, get, web};
use futures_util::stream;
use rendel_core::{Problem, ProblemKind};
use rendel_store::{AnnouncementRow, Wanted};
use rendel_wire::http::{Announcement, AnnouncementList};
use serde::Deserialize;
use tokio::time::Instant;

use super::{Answer, Shared};
use crate::app::App;
use crate::auth::backend;
use crate::failure::Failure;

/// Announcements that one call gives.
const MOST: i64 = 1_000;
const STANDARD: i64 = 100;
/// How long a call waits at most for the next.
const LONGEST_WAIT: u64 = 60_000;
/// How often it is looked for what other processes have announced.
const LOOK: Duration = Duration::from_secs(1);
/// A stream on which nothing happens says so this often.
const BEAT: Duration = Duration::from_secs(15);

#[derive(Clone, Debug, Deserialize, utoipa::IntoParams)]
#[serde(deny_unknown_fields)]
pub(crate) struct After {
    /// Go on after this `cursor`: 0, which stands where it is left out, for all that are kept; `now` for
    /// those that come.
    after: Option<String>,
    /// Only of these types, separated by commas.
    types: Option<String>,
    /// Only of sessions of these charters, separated by commas.
    charters: Option<String>,
    /// Only of this session.
    session: Option<String>,
    /// At most so many, 1 to 1,000; 100 where it is left out.
    most: Option<i64>,
    /// How many milliseconds to wait for the next where there is none, 0 to 60,000; 0 where it is left
    /// out.
    wait_ms: Option<u64>,
}

/// Lists what was announced after a cursor, the oldest first, and waits for the next where it is asked to.
/// With `Accept: text/event-stream` it goes on for ever: each event is `announcement`, with its cursor as
/// `id`, after which `Last-Event-ID` goes on.
#[utoipa::path(tag = "service", params(After, ("Last-Event-ID" = Option<String>, Header)), responses(
    (status = 200, body = AnnouncementList), (status = 400, description = "`malformed`"),
    (status = 422, description = "`out-of-bounds`")), security(("bearer" = [])))]
#[get("/announcements")]
pub(crate) async fn list(request: HttpRequest, asked: web::Query<After>, app: Shared) -> Answer {
    backend(&request, &app)?;
    let most = asked.most.unwrap_or(STANDARD);
    if !(1..=MOST).contains(&most) || asked.wait_ms.is_some_and(|wait| wait > LONGEST_WAIT) {
        let detail = "\"most\" goes from 1 to 1,000, \"wait_ms\" from 0 to 60,000.";
        return Err(Failure(Problem::new(ProblemKind::OutOfBounds, detail)));
    }
    let last = request.headers().get("Last-Event-ID").and_then(|value| value.to_str().ok());
    let after = match last.or(asked.after.as_deref()) {
        None => 0,
        Some("now") => app.store.last_announcement().await?,
        Some(text) => text.trim().parse().ok().filter(|after| *after >= 0).ok_or_else(|| {
            let detail = "\"after\" is the \"cursor\" of an announcement, 0, or \"now\".";
            Problem::new(ProblemKind::Malformed, detail)
        })?,
    };
    let split = |text: &Option<String>| {
        let words = text.iter().flat_map(|text| text.split(',')).map(str::trim);
        words.filter(|word| !word.is_empty()).map(str::to_owned).collect()
    };
    let wanted = Wanted {
        types: split(&asked.types),
        charters: split(&asked.charters),
        session: asked.session.clone(),
    };
    let feed = Feed { app: app.get_ref().clone(), wanted, after, most };
    let accepts = request.headers().get(header::ACCEPT).and_then(|value| value.to_str().ok());
    match accepts.is_some_and(|accepts| accepts.contains("text/event-stream")) {
        true => Ok(feed.stream()),
        false => {
            let wait = Duration::from_millis(asked.wait_ms.unwrap_or(0));
            Ok(HttpResponse::Ok().json(feed.list(wait).await?))
        }
    }
}

/// A way through what was announced.
struct Feed {
    app: Arc<App>,
    wanted: Wanted,
    after: i64,
    most: i64,
}

impl Feed {
    /// The next announcements, which are waited for.
    async fn list(mut self, wait: Duration) -> Result<AnnouncementList, Failure> {
        let rows = self.next(wait).await?;
        let announcements = rows.iter().map(announcement).collect();
        Ok(AnnouncementList { announcements, next: self.after })
    }

    async fn next(&mut self, wait: Duration) -> Result<Vec<AnnouncementRow>, Failure> {
        let mut announced = self.app.announced.subscribe();
        let until = Instant::now() + wait;
        loop {
            announced.mark_unchanged();
            let read = self.app.store.announcements(self.after, self.wanted.clone(), self.most);
            let (rows, next) = read.await?;
            self.after = next;
            let now = Instant::now();
            if !rows.is_empty() || now >= until || self.app.is_stopping() {
                return Ok(rows);
            }
            let look = until.min(now + LOOK);
            let _ = tokio::time::timeout_at(look, announced.changed()).await;
        }
    }

    fn stream(self) -> HttpResponse {
        let parts = stream::unfold(Some(self), |feed| async {
            let mut feed = feed?;
            if feed.app.is_stopping() {
                return None;
            }
            let told = match feed.next(BEAT).await {
                Ok(rows) if rows.is_empty() => ": still here\n\n".to_owned(),
                Ok(rows) => rows.iter().map(told).collect(),
                // Who comes back goes on where this ended.
                Err(_) => return None,
            };
            Some((Ok::<_, Problem>(Bytes::from(told)), Some(feed)))
        });
        HttpResponse::Ok()
            .content_type("text/event-stream")
            .insert_header((header::CACHE_CONTROL, "no-store"))
            .insert_header((header::CONTENT_ENCODING, "identity"))
            .insert_header(("X-Accel-Buffering", "no"))
            .streaming(parts)
    }
}

fn told(row: &AnnouncementRow) -> String {
    format!("id: {}\nevent: announcement\ndata: {}\n\n", row.ord, row.event)
}

fn announcement(row: &AnnouncementRow) -> Announcement {
    let event = serde_json::from_str(&row.event).unwrap_or_default();
    Announcement { cursor: row.ord, event }
}
