//! The settled updates of a session.

use std::collections::VecDeque;

use actix_web::web::Bytes;
use actix_web::{HttpRequest, HttpResponse, get, web};
use futures_util::{StreamExt as _, stream};
use rendel_core::{Problem, ProblemKind, Reader, Settled};
use rendel_session::update_seen;
use rendel_store::Store;
use rendel_wire::described;
use serde::Deserialize;

use super::participants::inside;
use super::{Answer, Shared};
use crate::answers::Held;
use crate::budget::Cost;
use crate::failure::{Failure, from_store};
use crate::session::{Patches, SessionHandle};

/// Pages of conflicts that one call reads.
const PAGES: usize = 16;
/// Updates that are read from the journal at one time, and the bytes that a page of them is to have:
/// a reader who stops reading holds one page.
const PAGE: usize = 1_000;
const PAGE_BYTES: usize = 4 << 20;
/// Updates of the first page, when nobody knows how large they are.
const FIRST_PAGE: usize = 64;

#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[serde(deny_unknown_fields)]
pub(crate) struct Range {
    /// The first `seq`; 1 where it is left out.
    from: Option<u64>,
    /// The last `seq`; the present one where it is left out.
    to: Option<u64>,
    /// `updates`, or `json-patch` for one RFC 6902 patch per update against the plain state;
    /// `updates` where it is left out.
    #[serde(default)]
    #[param(inline)]
    form: Form,
    /// A role, for calls with the service key.
    #[serde(rename = "as")]
    #[param(rename = "as")]
    _as: Option<String>,
}

/// How updates are told.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum Form {
    #[default]
    Updates,
    JsonPatch,
}

/// The settled updates as JSON Lines, in order: as they are, or each as `{"seq", "patch"}`.
#[utoipa::path(tag = "participants", params(Range, ("session" = String, Path)), responses(
    (status = 200, body = String, content_type = "application/jsonl"), (status = 404, description = "`no-session`"), (status = 410, description = "`too-old`: `from` lies before what is kept")), security(("bearer" = [])))]
#[get("/sessions/{session}/journal")]
pub(crate) async fn journal(
    request: HttpRequest,
    session: web::Path<String>,
    range: web::Query<Range>,
    app: Shared,
) -> Answer {
    let (session, who) = inside(&request, &app, &session).await?;
    app.budget.charge(session.id(), &who, Cost::Page, &app.metrics)?;
    let now = session.figures().await?.seq;
    let held = app.answers.hold(&request, session.id(), &who, PAGE_BYTES as u64, &app.metrics)?;
    let kept_from =
        app.store.session(session.id().to_owned()).await?.map_or(0, |(row, _)| row.kept_from);
    let kept_from = u64::try_from(kept_from).unwrap_or(0);
    let (from, to) = (range.from.unwrap_or(kept_from + 1).max(1), range.to.unwrap_or(now).min(now));
    let patches = match range.form {
        Form::JsonPatch if from <= to => {
            Some(Patches::after(&app, &session, from - 1, who.reader()).await?)
        }
        _ => None,
    };
    let store = app.store.clone();
    let pages = Pages {
        store,
        session,
        reader: who.reader(),
        next: from,
        to,
        page: FIRST_PAGE,
        rows: VecDeque::new(),
        patches,
        _held: held,
    };
    // The first page is read before the answer begins, so that a database that is away is a problem
    // and not a broken body.
    let (first, pages) = pages.turn().await?;
    // A page that fails later breaks the body off, which tells the reader that this is not all.
    let rest = stream::try_unfold(pages, |pages| async {
        let (lines, pages) = pages.turn().await?;
        Ok::<_, Problem>((!lines.is_empty()).then_some((lines, pages)))
    });
    let lines = stream::once(std::future::ready(Ok(first))).chain(rest);
    Ok(HttpResponse::Ok().content_type("application/jsonl").streaming(lines))
}

#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[serde(deny_unknown_fields)]
pub(crate) struct Before {
    /// Only those before this `seq`.
    before: Option<u64>,
    /// At most so many, 1 to 1,000; 100 where it is left out.
    most: Option<i64>,
    /// A role, for calls with the service key.
    #[serde(rename = "as")]
    #[param(rename = "as")]
    _as: Option<String>,
}

/// The updates whose verdicts are more than `applied`, newest first.
#[utoipa::path(tag = "participants", params(Before, ("session" = String, Path)), responses((status = 200, body = Vec<described::SettledUpdate>)),
    security(("bearer" = [])))]
#[get("/sessions/{session}/conflicts")]
pub(crate) async fn conflicts(
    request: HttpRequest,
    session: web::Path<String>,
    asked: web::Query<Before>,
    app: Shared,
) -> Answer {
    let (session, who) = inside(&request, &app, &session).await?;
    app.budget.charge(session.id(), &who, Cost::Page, &app.metrics)?;
    let most = asked.most.unwrap_or(100);
    if !(1..=1_000).contains(&most) {
        return Err(Failure(Problem::new(
            ProblemKind::OutOfBounds,
            "\"most\" goes from 1 to 1,000.",
        )));
    }
    let (charter, reader) = (session.charter(), who.reader());
    let (mut told, mut before) = (Vec::new(), asked.before.unwrap_or(u64::MAX));
    let wanted = usize::try_from(most).unwrap_or(usize::MAX);
    // What is hidden is passed over and not counted, for a bounded number of pages.
    for _ in 0..PAGES {
        let rows = app.store.conflicts(session.ord(), before, most).await?;
        let is_last = rows.len() < wanted;
        for row in rows {
            let seen = update_seen(charter, &reader, &row.into());
            let Ok(update) = serde_json::from_str::<Settled>(seen.get()) else { continue };
            before = update.seq;
            told.push(Settled { disclosures: Vec::new(), ..update });
        }
        told.retain(|update| !update.verdicts.is_empty());
        if is_last || told.len() >= wanted {
            break;
        }
    }
    told.truncate(wanted);
    Ok(HttpResponse::Ok().json(told))
}

/// The journal, page by page.
struct Pages {
    store: Store,
    session: SessionHandle,
    reader: Reader,
    next: u64,
    to: u64,
    /// Updates of the next page.
    page: usize,
    /// Read and not told yet.
    rows: VecDeque<String>,
    patches: Option<Patches>,
    _held: Held,
}

impl Pages {
    /// The next lines; none only at the end.
    async fn turn(mut self) -> Result<(Bytes, Self), Problem> {
        loop {
            if self.rows.is_empty() && self.next <= self.to {
                let page = i64::try_from(self.page).unwrap_or(1);
                let rows = self.store.journal(self.session.ord(), self.next, self.to, page).await;
                self.rows = rows.map_err(|error| from_store(&error))?.into();
                let bytes: usize = self.rows.iter().map(String::len).sum();
                self.page = (PAGE_BYTES * self.rows.len() / bytes.max(1)).clamp(1, PAGE);
                self.next += self.rows.len() as u64;
                if self.rows.is_empty() {
                    self.next = self.to + 1;
                }
            }
            let lines: String = match &mut self.patches {
                Some(patches) => patches.tell(&mut self.rows)?,
                None => {
                    let charter = self.session.charter();
                    let line = |row: String| {
                        update_seen(charter, &self.reader, &row.into()).into_inner().to_string()
                    };
                    self.rows.drain(..).flat_map(|row| [line(row), "\n".to_owned()]).collect()
                }
            };
            if !lines.is_empty() || (self.rows.is_empty() && self.next > self.to) {
                return Ok((lines.into(), self));
            }
        }
    }
}
