//! A session as Server-Sent Events.

use std::collections::{BTreeMap, VecDeque};
use std::fmt::Display;
use std::sync::Arc;
use std::time::Duration;

use actix_web::http::header;
use actix_web::web::Bytes;
use actix_web::{HttpRequest, HttpResponse, get, web};
use futures_util::stream;
use rendel_core::{Lens, Problem, ProblemKind};
use rendel_session::{Heard, WayIn, update_seen};
use rendel_wire::{FollowQuery, FromService, LeftWhy};
use serde::Deserialize;
use tokio::sync::oneshot;
use uuid::Uuid;

use super::journal::Form;
use super::participants::inside;
use super::{Answer, Shared};
use crate::addresses::{Admission, address_of};
use crate::app::App;
use crate::auth::check_role;
use crate::budget::Cost;
use crate::failure::{Failure, from_store, shutting_down};
use crate::identity::Identity;
use crate::queue::{Beginning, Instead, Item, Outbound};
use crate::session::{Ask, Entry, Patches, SessionHandle, state_at};

/// A stream on which nothing happens says so this often, which keeps middle boxes from closing it.
const BEAT: Duration = Duration::from_secs(15);
/// Updates that are read from the journal at one time.
const PAGE: i64 = 1_000;

#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[serde(deny_unknown_fields)]
pub(crate) struct Following {
    /// `updates`, or `json-patch` for one RFC 6902 patch per update; `updates` where it is left
    /// out.
    #[serde(default)]
    #[param(inline)]
    form: Form,
    /// Go on after this `seq`, as `Last-Event-ID` does where headers can be sent.
    after: Option<u64>,
    /// In place of a token.
    ticket: Option<String>,
    /// A role, for calls with the service key.
    #[serde(rename = "as")]
    #[param(rename = "as")]
    _as: Option<String>,
    /// With `as`: the participant whose eyes it is seen with.
    #[serde(rename = "sub")]
    #[param(rename = "sub")]
    _sub: Option<String>,
}

/// Follows a session. The first event is `state`, then come `settled` (or `patch`) with their `seq`
/// as `id`; with `Last-Event-ID` it goes on after that, without the state where the journal still
/// has what was missed.
#[utoipa::path(tag = "participants", params(Following, ("session" = String, Path), ("Last-Event-ID" = Option<String>, Header)), responses(
    (status = 200, body = String, content_type = "text/event-stream"), (status = 400, description = "`malformed`"),
    (status = 409, description = "`from-the-future`"), (status = 503, description = "`crowded`")), security(("bearer" = [])))]
#[get("/sessions/{session}/events")]
pub(crate) async fn follow(
    request: HttpRequest,
    session: web::Path<String>,
    following: web::Query<Following>,
    app: Shared,
) -> Answer {
    let (session, who) = whose(&request, &app, &session, following.ticket.as_deref()).await?;
    let after = last_event(&request)?.or(following.after);
    let is_patches = following.form == Form::JsonPatch;
    let way = WayIn::Events { after, patches: is_patches };
    let events = Events::enter(&request, &app, session, who, following.form, way).await?;
    Ok(events.stream())
}

/// Who follows: by a ticket, or as with any other call.
pub(super) async fn whose(
    request: &HttpRequest,
    app: &Shared,
    session: &str,
    ticket: Option<&str>,
) -> Result<(SessionHandle, Identity), Failure> {
    let Some(ticket) = ticket else { return inside(request, app, session).await };
    let who = app.tickets.take(ticket, session)?;
    // What was good when the ticket was given may not be any more.
    who.check(session, app)?;
    let session = app.session(session).await?;
    let who = session.amendments().over(&who);
    check_role(session.charter(), &who)?;
    session.removals().check(&who.id)?;
    Ok((session, who))
}

fn last_event(request: &HttpRequest) -> Result<Option<u64>, Problem> {
    let Some(id) = request.headers().get("Last-Event-ID") else { return Ok(None) };
    let seq = id.to_str().ok().map(str::trim).and_then(|id| id.parse().ok());
    seq.map(Some).ok_or_else(|| {
        Problem::new(
            ProblemKind::Malformed,
            "\"Last-Event-ID\" is the \"id\" of an event of this session: a \"seq\".",
        )
    })
}

pub(super) struct Events {
    app: Arc<App>,
    session: SessionHandle,
    connection: u64,
    outbound: Arc<Outbound>,
    who: Identity,
    form: Form,
    after: Option<u64>,
    items: VecDeque<Item>,
    /// What it has told or begun with.
    seq: u64,
    /// What the rows of its query are come back with.
    mark: Option<String>,
    /// What comes in place of updates of runs that come later.
    instead: BTreeMap<u64, Arc<Instead>>,
    end: Option<Problem>,
    is_over: bool,
    has_begun: bool,
    _admission: Admission,
}

impl Events {
    pub(super) async fn enter(
        request: &HttpRequest,
        app: &Shared,
        session: SessionHandle,
        who: Identity,
        form: Form,
        way: WayIn,
    ) -> Result<Self, Problem> {
        let app = app.get_ref().clone();
        app.budget.charge(session.id(), &who, Cost::Page, &app.metrics)?;
        let admitted = app.addresses.admit(address_of(request, app.config.trust_forwarded));
        let admission = admitted.inspect_err(|problem| app.metrics.count(problem))?;
        let outbound = Arc::new(Outbound::new(app.config.queue, app.config.slow_within));
        let (answer, answered) = oneshot::channel();
        let after = match way {
            WayIn::Events { after, .. } => after,
            WayIn::Replica { .. } | WayIn::Queries => None,
        };
        let entry = Entry {
            told: who.clone(),
            client: Uuid::now_v7(),
            way,
            encoding: if form == Form::JsonPatch { "patches" } else { "events" },
            address: admission.address.clone(),
            outbound: outbound.clone(),
            presence: None,
            fields: false,
            token: None,
            answer,
        };
        session.tell(Ask::Enter(Box::new(entry))).await?;
        let entered = answered.await.map_err(|_| shutting_down())?;
        let connection = entered.inspect_err(|problem| app.metrics.count(problem))?.id;
        app.metrics.connections.inc();
        Ok(Self {
            app,
            session,
            connection,
            outbound,
            who,
            form,
            after,
            items: VecDeque::new(),
            seq: 0,
            mark: None,
            instead: BTreeMap::new(),
            end: None,
            is_over: false,
            has_begun: false,
            _admission: admission,
        })
    }

    /// Follows a query too.
    pub(super) async fn follow_query(&mut self, frame: FollowQuery) -> Result<(), Problem> {
        self.mark = frame.had.as_ref().map(|had| had.mark.clone());
        let frame = Heard::FollowQuery(Box::new(frame));
        let asked = self.session.tell(Ask::Frame { connection: self.connection, frame }).await;
        asked.map_err(|_| shutting_down())
    }

    /// The answer that streams it.
    pub(super) fn stream(self) -> HttpResponse {
        let stream = stream::unfold(self, |mut events| async {
            events.next().await.map(|part| (Ok::<_, Problem>(part), events))
        });
        HttpResponse::Ok()
            .content_type("text/event-stream")
            .insert_header((header::CACHE_CONTROL, "no-store"))
            // Compressing would hold events back until there is enough to compress.
            .insert_header((header::CONTENT_ENCODING, "identity"))
            .insert_header(("X-Accel-Buffering", "no"))
            .streaming(stream)
    }

    /// The next part of the stream; `None` at its end.
    async fn next(&mut self) -> Option<Bytes> {
        if !std::mem::replace(&mut self.has_begun, true) {
            // Who comes back waits a moment, so that not all who were lost together come together.
            return Some(format!("retry: {}\n\n", rand::random_range(500..1_500)).into());
        }
        loop {
            if self.is_over {
                return None;
            }
            if let Some(item) = self.items.pop_front() {
                match self.tell(item).await {
                    Ok(text) if text.is_empty() => continue,
                    Ok(text) => return Some(text.into()),
                    Err(problem) => return Some(self.bye(&problem)),
                }
            }
            if let Some(problem) = self.end.take() {
                return Some(self.bye(&problem));
            }
            if self.who.has_ended() {
                let detail = "The token has ended. Connect again with a new one.";
                return Some(self.bye(&Problem::new(ProblemKind::ExpiredToken, detail)));
            }
            let beat = tokio::time::Instant::now() + BEAT;
            let until = self.who.ends_at().map_or(beat, |ends| ends.min(beat));
            match tokio::time::timeout_at(until, self.outbound.filled()).await {
                Err(_) if until < beat => {}
                Err(_) => return Some(Bytes::from_static(b": still here\n\n")),
                Ok(()) => {
                    let taken = self.outbound.take();
                    self.items = taken.items;
                    self.end = taken.end;
                    if taken.needs_catch_up {
                        // Coming back with the last id is the catch-up.
                        let detail = "This stream was read more slowly than the session went on. \
                            Come back with its last id.";
                        self.end =
                            Some(Problem::new(ProblemKind::Slow, detail).with("limit", "queue"));
                    }
                }
            }
        }
    }

    fn bye(&mut self, problem: &Problem) -> Bytes {
        self.is_over = true;
        self.app.metrics.closed(problem);
        event("bye", None::<u64>, &serde_json::to_string(problem).unwrap_or_default()).into()
    }

    async fn tell(&mut self, item: Item) -> Result<String, Problem> {
        match item {
            Item::Begin(beginning) => {
                self.seq = beginning.seq;
                self.begin(&beginning).await
            }
            Item::Updates(run) => {
                let mut told = String::new();
                for entry in &run.entries {
                    // One may stand for several, of which some are theirs.
                    let later = self.instead.split_off(&(entry.seq + 1));
                    for own in std::mem::replace(&mut self.instead, later).into_values() {
                        told += &self.settled(own.seq, &own.update, own.patch.as_deref())?;
                    }
                    told += &self.settled(entry.seq, &entry.update, entry.patch.as_deref())?;
                }
                Ok(told)
            }
            Item::Instead(own) => {
                self.instead.insert(own.seq, own);
                Ok(String::new())
            }
            Item::Frame(frame) | Item::Aside(frame) => {
                #[derive(Deserialize)]
                struct Named<'f> {
                    r#type: &'f str,
                    /// Of rows the update that they are the result after.
                    seq: Option<u64>,
                    /// And what to come back with.
                    mark: Option<String>,
                }
                let named: Option<Named<'_>> = serde_json::from_str(&frame.json).ok();
                if let Some(named) = named.as_ref().filter(|named| named.r#type == "rows") {
                    self.mark.clone_from(&named.mark);
                }
                if let Some(FromService::RowSteps(told)) = self.row_steps(&frame.json) {
                    let patch = told.steps.patch();
                    let patch = serde_json::to_string(&patch).unwrap_or_default();
                    return Ok(event("patch", Some(self.id_of(told.steps.seq)), &patch));
                }
                let told = named.filter(|named| {
                    [
                        "roster",
                        "status",
                        "notice",
                        "holds",
                        "cue",
                        "rows",
                        "row-steps",
                        "query-refused",
                    ]
                    .contains(&named.r#type)
                });
                Ok(told.map_or_else(String::new, |named| {
                    let id = named.seq.map(|seq| self.id_of(seq));
                    event(named.r#type, id, &frame.json)
                }))
            }
            Item::Welcome(..) => Ok(String::new()),
        }
    }

    /// The id of an event of rows, from which a stream can go on.
    fn id_of(&self, seq: u64) -> String {
        match &self.mark {
            Some(mark) => format!("{seq}.{mark}"),
            None => seq.to_string(),
        }
    }

    /// What changed in rows, where that is to be told as a patch.
    fn row_steps(&self, json: &str) -> Option<FromService> {
        let is_it = self.form == Form::JsonPatch && json.starts_with("{\"type\":\"row-steps\"");
        is_it.then(|| FromService::decode(json.as_bytes()).ok()).flatten()
    }

    /// An update, unless it is told already.
    fn settled(&mut self, seq: u64, update: &str, patch: Option<&str>) -> Result<String, Problem> {
        if seq <= self.seq {
            return Ok(String::new());
        }
        self.seq = seq;
        match (self.form, patch) {
            (Form::Updates, _) => Ok(event("settled", Some(seq), update)),
            (Form::JsonPatch, Some(patch)) => Ok(event("patch", Some(seq), patch)),
            (Form::JsonPatch, None) => Err(crate::failure::unavailable()),
        }
    }

    /// The state, or what was missed since `after`.
    async fn begin(&self, beginning: &Beginning) -> Result<String, Problem> {
        let Beginning { seq, state } = beginning;
        let after = match (state, self.after) {
            (Some(state), _) => return Ok(event("state", Some(*seq), state.text())),
            (None, after) => after.unwrap_or(*seq),
        };
        if after == *seq {
            return Ok(String::new());
        }
        // What is shown is on disk, so the journal has it, but for what is not kept any more.
        match self.missed(after, *seq).await {
            Err(problem) if problem.kind() == ProblemKind::TooOld => {
                let charter = self.session.charter();
                let turn = self.app.documents.turn().await?;
                let state = state_at(&self.app, &self.session, *seq, &turn).await?;
                let reader = self.who.reader();
                let sight = charter.sight(&reader.role);
                let state = Lens::new(charter, sight, Some(&reader.viewer), &state).plain();
                Ok(event("state", Some(*seq), &state.to_string()))
            }
            missed => missed,
        }
    }

    async fn missed(&self, after: u64, upto: u64) -> Result<String, Problem> {
        let mut patches = match self.form {
            Form::JsonPatch => {
                Some(Patches::after(&self.app, &self.session, after, self.who.reader()).await?)
            }
            Form::Updates => None,
        };
        let mut told = String::new();
        let mut next = after + 1;
        while next <= upto {
            let rows = self.app.store.journal(self.session.ord(), next, upto, PAGE).await;
            let rows = rows.map_err(|error| from_store(&error))?;
            if rows.is_empty() {
                return Err(crate::failure::unavailable());
            }
            for row in rows {
                told += &match &mut patches {
                    Some(patches) => {
                        let (seq, patch) = patches.patch(&row)?;
                        event("patch", Some(seq), &patch.to_string())
                    }
                    None => {
                        let charter = self.session.charter();
                        event(
                            "settled",
                            Some(next),
                            update_seen(charter, &self.who.reader(), &row.into()).get(),
                        )
                    }
                };
                next += 1;
            }
        }
        Ok(told)
    }
}

impl Drop for Events {
    fn drop(&mut self) {
        self.app.metrics.connections.dec();
        let (session, connection) = (self.session.clone(), self.connection);
        if let Ok(runtime) = tokio::runtime::Handle::try_current() {
            // A session that has ended has no roster left to leave.
            runtime.spawn(async move {
                drop(session.tell(Ask::Leave { connection, why: LeftWhy::Lost }).await)
            });
        }
    }
}

/// One event. JSON has no line ends outside its strings, and none within.
fn event(name: &str, id: Option<impl Display>, data: &str) -> String {
    let id = id.map(|id| format!("id: {id}\n")).unwrap_or_default();
    format!("{id}event: {name}\ndata: {data}\n\n")
}
