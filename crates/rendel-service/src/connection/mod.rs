//! A connection: one task per WebSocket (RFC 6455), or per line where none gets through.

mod encoding;
mod entering;
mod messages;
mod socket;

use std::sync::Arc;
use std::time::{Duration, Instant};

use actix_web::FromRequest as _;
use actix_web::dev::Payload;
use actix_web::http::header;
use actix_web::{HttpRequest, HttpResponse, rt, web};
use actix_ws::{CloseCode, CloseReason, Closed};
use bytes::Bytes;
use futures_util::FutureExt as _;
use rendel_core::{Edit, Problem, ProblemKind};
use rendel_session::Heard;
use rendel_wire::{
    AnswerFrame, Bye, Digest, FollowQuery, FromParticipant, FromService, LeaveQuery, LeftWhy,
    Notice, Pong, Propose, QueryRefused, Refused, Release, Renew, TakeHold, decode_cbor,
};
use tokio::sync::mpsc;
use uuid::Uuid;

use encoding::Encoding;
use messages::{Message, Messages, Stream, Unread};
use socket::Socket;

use crate::addresses::{Admission, address_of};
use crate::app::App;
use crate::auth::bearer;
use crate::budget::Cost;
use crate::clock::now_ms;
use crate::failure::{Failure, shutting_down};
use crate::guests::GuestHere;
use crate::identity::Identity;
use crate::queue::Outbound;
use crate::rate::Rate;
use crate::session::{Ask, Entered, SessionHandle};

/// Before a session tells its own limit, a frame may have this many bytes.
pub(crate) const FIRST_FRAME: usize = 64 << 10;
/// A proposal that came too fast is waited for so long beyond the wait that was told.
const AGAIN_WITHIN: Duration = Duration::from_secs(1);
/// A connection that was too fast is not read for so long.
const REST: Duration = Duration::from_millis(5);
/// A connection that sends so many frames that are not understood is closed.
const MOST_FAULTS: u32 = 64;

/// `GET /v1/sessions/{session}/connect`
pub(crate) async fn connect(
    request: HttpRequest,
    body: web::Payload,
    session: web::Path<String>,
    app: web::Data<Arc<App>>,
) -> Result<HttpResponse, actix_web::Error> {
    if app.is_stopping() {
        return Err(Failure(shutting_down()).into());
    }
    // A page cannot read the answer to a handshake that fails, so it is let in far enough to be told.
    let foreign = check_origin(&request, &app).err();
    let token = bearer(&request).map_err(Failure)?.map(str::to_owned);
    let address = address_of(&request, app.config.trust_forwarded);
    app.budget.charge_address(&address, Cost::Page, &app.metrics).map_err(Failure)?;
    let admitted = app.addresses.admit(address);
    let admission = admitted.inspect_err(|problem| app.metrics.count(problem)).map_err(Failure)?;
    // What comes is read by us, with a bound on how much of it waits in memory.
    let nothing = web::Payload::from_request(&request, &mut Payload::None).await?;
    let (response, socket, _) =
        actix_ws::handle_with_protocols(&request, nothing, &Encoding::SUBPROTOCOLS)?;
    let messages = Messages::Socket(Stream::of(body.into_inner(), FIRST_FRAME));
    let chosen =
        response.headers().get(header::SEC_WEBSOCKET_PROTOCOL).and_then(|name| name.to_str().ok());
    let encoding = Encoding::of_subprotocol(chosen);
    let app = app.get_ref().clone();
    let connection = Connection::new(app, Socket::Web(socket), encoding, admission);
    match foreign {
        None => drop(rt::spawn(connection.run(messages, session.into_inner(), token))),
        Some(problem) => drop(rt::spawn(connection.bye(problem))),
    }
    Ok(response)
}

/// A connection that is no WebSocket: its line's id, and what it is told.
pub(crate) fn connect_line(
    request: &HttpRequest,
    session: String,
    app: &Arc<App>,
) -> Result<(Uuid, mpsc::Receiver<Bytes>), Problem> {
    if app.is_stopping() {
        return Err(shutting_down());
    }
    check_origin(request, app)?;
    let token = bearer(request)?.map(str::to_owned);
    let address = address_of(request, app.config.trust_forwarded);
    app.budget.charge_address(&address, Cost::Page, &app.metrics)?;
    let admitted = app.addresses.admit(address);
    let admission = admitted.inspect_err(|problem| app.metrics.count(problem))?;
    let (events, told) = mpsc::channel(1);
    let posted = app.lines.open(FIRST_FRAME, events.clone());
    let id = posted.id;
    let connection = Connection::new(app.clone(), Socket::Line(events), Encoding::Json, admission);
    rt::spawn(connection.run(Messages::Line(posted), session, token));
    Ok((id, told))
}

/// A page may connect from where the service serves it, and from the configured origins. Programs
/// send no `Origin`.
pub(crate) fn check_origin(request: &HttpRequest, app: &App) -> Result<(), Problem> {
    let Some(origin) = request.headers().get(header::ORIGIN) else { return Ok(()) };
    let origin = origin.to_str().unwrap_or_default();
    let host = request.connection_info().host().to_owned();
    let own = origin.split_once("://").is_some_and(|(_, authority)| authority == host);
    if own || app.config.origins.let_in(origin) {
        return Ok(());
    }
    let detail = format!(
        "Pages of {origin:?} may not connect. Start the service with --origin {origin}, or add it \
         to `origins` in its settings."
    );
    Err(Problem::new(ProblemKind::NotAllowed, detail))
}

struct Connection {
    app: Arc<App>,
    socket: Socket,
    encoding: Encoding,
    admission: Admission,
    /// Counts a guest among those of their address.
    guest: Option<GuestHere>,
    outbound: Arc<Outbound>,
    faults: u32,
    /// Nothing is read before this.
    rests_until: tokio::time::Instant,
}

/// A connection that has entered.
struct Inside {
    session: SessionHandle,
    entered: Entered,
    /// Who it is, as their token says.
    told: Identity,
    /// What may be said besides proposals.
    words: Rate,
    /// The first proposal that came too fast and was not sent again yet.
    passed_over: Option<PassedOver>,
}

impl Inside {
    /// Tells the session what came.
    async fn tell(&self, frame: Heard) -> Result<(), End> {
        let ask = Ask::Frame { connection: self.entered.id, frame };
        self.session.tell(ask).await.map_err(End::from)
    }
}

/// A proposal that was refused as `too-fast`. A client that does not call it `answered` sends it
/// again: what it sent behind it must not be settled before.
#[derive(Clone, Copy)]
struct PassedOver {
    n: u64,
    /// A client that has not sent it again by then has given it up.
    until: Instant,
}

/// How a connection ends: with a `bye` that says why, or without a word because the other side is
/// gone or said so.
enum End {
    Bye(Box<Problem>),
    Left,
    Gone,
}

impl From<Closed> for End {
    fn from(_: Closed) -> Self {
        Self::Gone
    }
}

impl From<Problem> for End {
    fn from(problem: Problem) -> Self {
        Self::Bye(Box::new(problem))
    }
}

impl Connection {
    fn new(app: Arc<App>, socket: Socket, encoding: Encoding, admission: Admission) -> Self {
        let outbound = Arc::new(Outbound::new(app.config.queue, app.config.slow_within));
        let rests_until = tokio::time::Instant::now();
        Self { app, socket, encoding, admission, guest: None, outbound, faults: 0, rests_until }
    }

    /// How it is spoken to.
    fn way(&self) -> &'static str {
        match self.socket {
            Socket::Web(_) => self.encoding.name(),
            Socket::Line(_) => "line",
        }
    }

    async fn run(mut self, mut messages: Messages, session: String, token: Option<String>) {
        let end = match self.enter(&mut messages, &session, token).await {
            Ok(inside) => {
                self.app.metrics.connections.inc();
                messages.allow(inside.entered.frame_limit);
                let mut inside = inside;
                let end = self.stay(&mut messages, &mut inside).await;
                self.app.metrics.connections.dec();
                // A session that has ended has no roster left to leave.
                let has_left = matches!(end, End::Left) || self.has_left(&mut messages);
                let why = if has_left { LeftWhy::Left } else { LeftWhy::Lost };
                let _ =
                    inside.session.tell(Ask::Leave { connection: inside.entered.id, why }).await;
                end
            }
            Err(end) => end,
        };
        match end {
            End::Bye(problem) => self.bye(*problem).await,
            // The other side is gone: closing can fail, and nobody is there to be told.
            End::Left | End::Gone => drop(self.socket.close(None).await),
        }
    }

    /// Whether what has come already and was not read yet says so: who leaves and closes at once
    /// may be found gone while something is written.
    fn has_left(&self, messages: &mut Messages) -> bool {
        while let Some(Ok(message)) = messages.next().now_or_never() {
            if matches!(self.read(Ok(message)), Ok(Ok(FromParticipant::Leave(_)))) {
                return true;
            }
        }
        false
    }

    /// Reads a frame in the encoding of the connection. The outer problem ends it, the inner one is
    /// told.
    fn read(
        &self,
        message: Result<Message, Unread>,
    ) -> Result<Result<FromParticipant, Problem>, End> {
        match (self.encoding, message) {
            (Encoding::Json, Ok(Message::Text(text))) => Ok(match Propose::decode(&text) {
                Some(frame) => Ok(FromParticipant::Propose(frame)),
                None => FromParticipant::decode(text.as_bytes()),
            }),
            (Encoding::Cbor, Ok(Message::Binary(bytes))) => {
                Ok(decode_cbor(&bytes).and_then(FromParticipant::from_value))
            }
            (encoding, other) => Err(unfit(encoding, other)),
        }
    }

    /// The one loop of a connection: what comes in, what goes out, and the clock.
    async fn stay(&mut self, messages: &mut Messages, inside: &mut Inside) -> End {
        let silence = self.socket.patience(self.app.config.silence);
        let mut tick = tokio::time::interval(silence.min(Duration::from_secs(10)) / 4);
        let mut heard = Instant::now();
        let mut pinged = heard;
        let outbound = self.outbound.clone();
        loop {
            let ends = inside.told.ends_at();
            let step = tokio::select! {
                biased;
                () = tokio::time::sleep_until(ends.unwrap_or_else(tokio::time::Instant::now)), if ends.is_some() => {
                    Err(Problem::new(ProblemKind::ExpiredToken, "The token has ended. Connect \
                        again with a new one.").into())
                }
                () = outbound.filled() => self.send(&outbound, inside).await,
                message = read_after(self.rests_until, messages) => {
                    heard = Instant::now();
                    self.receive(message, inside).await
                }
                now = tick.tick() => {
                    let now = now.into_std();
                    if now.saturating_duration_since(heard) > silence {
                        Err(Problem::new(ProblemKind::Silent, "Nothing was heard from this \
                            connection, not even a pong.").into())
                    } else if now.saturating_duration_since(heard.max(pinged)) > silence / 2 {
                        pinged = now;
                        self.socket.ping().await.map_err(End::from)
                    } else {
                        Ok(())
                    }
                }
            };
            if let Err(end) = step {
                return end;
            }
        }
    }

    /// Writes all that waits. A write that does not go on because the other side does not read ends
    /// when the session cuts the connection off.
    async fn send(&mut self, outbound: &Outbound, inside: &Inside) -> Result<(), End> {
        let taken = outbound.take();
        for frame in self.encoding.frames(taken.items) {
            self.app.metrics.frames_out.inc();
            let mut write = std::pin::pin!(self.socket.write(frame));
            let given_up = tokio::time::Instant::now() + self.app.config.silence;
            loop {
                tokio::select! {
                    biased;
                    written = &mut write => {
                        written?;
                        break;
                    }
                    () = outbound.filled() => {}
                    () = tokio::time::sleep(self.app.config.slow_within / 8) => {}
                    () = tokio::time::sleep_until(given_up) => return Err(End::Gone),
                }
                if let Some(slow) = outbound.cut_off() {
                    return Err(slow.into());
                }
            }
        }
        if taken.needs_catch_up {
            inside.session.tell(Ask::CatchUp { connection: inside.entered.id }).await?;
        }
        // What came while we wrote has woken us there: look once more before we sleep.
        outbound.wake_again_if_filled();
        taken.end.map_or(Ok(()), |problem| Err(problem.into()))
    }

    async fn receive(
        &mut self,
        message: Result<Message, Unread>,
        inside: &mut Inside,
    ) -> Result<(), End> {
        let message = match message {
            Ok(Message::Ping(payload)) => {
                return self.socket.pong(&payload).await.map_err(End::from);
            }
            Ok(Message::Pong) => return Ok(()),
            other => other,
        };
        match self.read(message)? {
            Ok(FromParticipant::Propose(frame)) => self.propose(frame, inside).await,
            Ok(FromParticipant::Proposals(several)) => {
                for frame in several.proposals {
                    self.propose(frame, inside).await?;
                }
                Ok(())
            }
            Ok(FromParticipant::Ping(ping)) => {
                if let Err(problem) = inside.words.check(1) {
                    // The next finds that the connection is there.
                    self.app.metrics.count(&problem);
                    return Ok(());
                }
                self.put(&FromService::Pong(Pong { sent: ping.sent, time: now_ms() }));
                Ok(())
            }
            Ok(FromParticipant::Digest(Digest { seq, sha256, yours })) => {
                if let Err(problem) = inside.words.check(1) {
                    // One that is missing is asked for again with the next.
                    self.app.metrics.count(&problem);
                    return Ok(());
                }
                inside.tell(Heard::Digest { seq, sha256, yours }).await
            }
            Ok(FromParticipant::Presence(said)) => {
                if let Err(problem) = inside.words.check(1) {
                    // The next says it all anew; who floods is told once in a while.
                    self.app.metrics.count(&problem);
                    return Ok(());
                }
                inside.tell(Heard::Said(said)).await
            }
            Ok(FromParticipant::FollowUndo(_)) => {
                inside.words.check(1)?;
                inside.tell(Heard::FollowUndo).await
            }
            Ok(FromParticipant::FollowQuery(frame)) => {
                // What it costs to look at records is counted where they are.
                if let Err(problem) = inside.words.check(1) {
                    let FollowQuery { query, .. } = *frame;
                    self.rest_from(&problem);
                    self.app.metrics.refused(&problem);
                    self.put(&FromService::QueryRefused(QueryRefused { query, problem }));
                    return Ok(());
                }
                inside.tell(Heard::FollowQuery(frame)).await
            }
            Ok(FromParticipant::LeaveQuery(LeaveQuery { query })) => {
                // It makes less work: it is never refused, and a flood of it is read slowly.
                if let Err(problem) = inside.words.check(1) {
                    self.rest_from(&problem);
                }
                inside.tell(Heard::LeaveQuery(query)).await
            }
            Ok(FromParticipant::Hold(TakeHold { n, at, for_ms, over })) => {
                self.act(n, Heard::Hold { n, at, for_ms, over }, inside).await
            }
            Ok(FromParticipant::Release(Release { n, at })) => {
                self.act(n, Heard::Release { n, at }, inside).await
            }
            Ok(FromParticipant::Cue(cue)) => self.act(cue.n, Heard::Cue(cue), inside).await,
            Ok(FromParticipant::Renew(renew)) => self.renew(renew, inside).await,
            Ok(FromParticipant::Leave(_)) => Err(End::Left),
            Ok(FromParticipant::Enter(_)) => self.fault(Problem::new(
                ProblemKind::Malformed,
                "This connection has entered already; open another for another client.",
            )),
            Err(problem) => self.fault(problem),
        }
    }

    /// Something that is answered alone.
    async fn act(&mut self, n: u64, act: Heard, inside: &Inside) -> Result<(), End> {
        if let Err(problem) = inside.words.check(1) {
            self.refuse_act(n, problem);
            return Ok(());
        }
        inside.tell(act).await
    }

    /// Goes on with a new token, which must be for the same participant and role.
    async fn renew(&mut self, renew: Renew, inside: &mut Inside) -> Result<(), End> {
        let Renew { n, token } = renew;
        if let Err(problem) = inside.words.check(5) {
            self.refuse_act(n, problem);
            return Ok(());
        }
        let renewed = Identity::of(&token, inside.session.id(), &self.app).and_then(|who| {
            let same = who.id == inside.told.id && who.role == inside.told.role;
            let detail = "A connection goes on as the participant and in the role that it entered \
                with. Connect anew for another.";
            if same { Ok(who) } else { Err(Problem::new(ProblemKind::BadToken, detail)) }
        });
        match renewed {
            Err(problem) => {
                self.refuse_act(n, problem);
                Ok(())
            }
            Ok(who) => {
                inside.told = who.clone();
                let ask = Ask::Renewed { connection: inside.entered.id, n, told: Box::new(who) };
                inside.session.tell(ask).await.map_err(End::from)
            }
        }
    }

    async fn propose(&mut self, frame: Propose, inside: &mut Inside) -> Result<(), End> {
        let n = frame.n;
        let passed_over =
            inside.passed_over.filter(|first| first.n < n && frame.answered < first.n);
        if let Some(first) = passed_over.filter(|first| Instant::now() < first.until) {
            self.too_fast(n, goes_behind(first.n));
            return Ok(());
        }
        if let Err(problem) = inside.entered.rate.check(Edit::cost(&frame.edits)) {
            let wait =
                problem.member("wait_ms").and_then(serde_json::Value::as_u64).unwrap_or_default();
            let until = Instant::now() + Duration::from_millis(wait) + AGAIN_WITHIN;
            let first = inside.passed_over.map_or(n, |first| first.n.min(n));
            inside.passed_over = Some(PassedOver { n: first, until });
            self.too_fast(n, problem);
            return Ok(());
        }
        inside.passed_over = inside.passed_over.filter(|first| first.n > n);
        if let Some(given_up) = passed_over {
            // What is positioned on top of it means nothing.
            inside.tell(Heard::NoteRefused(given_up.n)).await?;
        }
        inside.tell(Heard::Propose(frame)).await
    }

    fn refuse_act(&mut self, n: u64, problem: Problem) {
        self.rest_from(&problem);
        self.app.metrics.refused(&problem);
        self.put(&FromService::Answer(AnswerFrame { n, problem: Some(problem) }));
    }

    fn too_fast(&mut self, n: u64, problem: Problem) {
        self.rest_from(&problem);
        self.app.metrics.refused(&problem);
        self.put(&FromService::Refused(Refused { n, problem }));
    }

    /// Whoever is too fast is read more slowly for a moment, so that a flood of refusals costs little.
    fn rest_from(&mut self, problem: &Problem) {
        if problem.kind() == ProblemKind::TooFast {
            self.rests_until = tokio::time::Instant::now() + REST;
        }
    }

    fn put(&self, frame: &FromService) {
        self.outbound.put_frame(frame.encode());
    }

    /// Tells of a frame that was not understood; ends the connection when there were too many.
    fn fault(&mut self, problem: Problem) -> Result<(), End> {
        self.faults += 1;
        if self.faults > MOST_FAULTS {
            return Err(problem.into());
        }
        self.put(&FromService::Notice(Notice { problem }));
        Ok(())
    }

    async fn bye(mut self, problem: Problem) {
        let kind = problem.kind();
        tracing::debug!(%problem, "a connection is ended");
        self.app.metrics.closed(&problem);
        let reason = CloseReason {
            code: CloseCode::Other(4000 + kind.number()),
            description: Some(kind.name().to_owned()),
        };
        let frame = self.encoding.encode(&FromService::Bye(Bye { problem }));
        let last = async {
            self.socket.write(frame).await?;
            self.socket.close(Some(reason)).await
        };
        // Who does not read does not get to hold us up.
        let _ = tokio::time::timeout(Duration::from_secs(2), last).await;
    }
}

async fn read_after(
    until: tokio::time::Instant,
    messages: &mut Messages,
) -> Result<Message, Unread> {
    tokio::time::sleep_until(until).await;
    messages.next().await
}

/// The refusal of what was sent behind a proposal that came too fast.
fn goes_behind(first: u64) -> Problem {
    let detail = format!(
        "Proposal {first} came too fast and comes first. Send it again, and this one behind it, \
         or call it answered."
    );
    Problem::new(ProblemKind::TooFast, detail)
        .with("wait_ms", 20)
        .with("limit", "proposals-per-second")
}

fn no_token() -> Problem {
    let detail = "Give a token: in \"enter\", or as \"Authorization: Bearer …\" with the request.";
    Problem::new(ProblemKind::NoToken, detail)
}

fn frame_too_large(limit: usize) -> Problem {
    Problem::new(
        ProblemKind::TooLarge,
        format!("A frame has at most {limit} bytes. Send smaller proposals."),
    )
    .with("limit", "frame")
}

/// The end for a message that is no frame.
fn unfit(encoding: Encoding, message: Result<Message, Unread>) -> End {
    match message {
        Ok(Message::Binary(_) | Message::Text(_)) => {
            let detail = match encoding {
                Encoding::Json => "The subprotocol rendel.v1.json has text frames only.",
                Encoding::Cbor => "The subprotocol rendel.v1.cbor has binary frames only.",
            };
            Problem::new(ProblemKind::Malformed, detail).into()
        }
        Err(Unread::TooLarge(limit)) => frame_too_large(limit).into(),
        Err(Unread::NotUtf8) => {
            Problem::new(ProblemKind::Malformed, "A text frame must be UTF-8.").into()
        }
        Err(Unread::Protocol(error)) => {
            Problem::new(ProblemKind::Malformed, format!("The WebSocket stream broke: {error}."))
                .into()
        }
        Ok(_) | Err(Unread::Gone) => End::Gone,
    }
}
