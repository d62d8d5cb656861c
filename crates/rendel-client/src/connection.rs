//! A connection that enters, keeps its replica up to date and comes back by itself.

use std::collections::{BTreeMap, BTreeSet};
use std::pin::Pin;
use std::time::Duration;

use futures_util::{SinkExt as _, StreamExt as _};
use rand::Rng as _;
use rendel_core::{Asked, Back, Edit, Facts, Problem, ProblemKind};
use rendel_wire::{
    CBOR_SUBPROTOCOL, CueFor, CueFrame, Enter, FollowUndo, FromParticipant, FromService,
    JSON_SUBPROTOCOL, Leave, Ping, Proposals, Release, Renew, SendCue, TakeHold, cbor_of_json,
    decode_told_cbor,
};
use tokio::net::TcpStream;
use tokio::time::Instant;
use tokio_tungstenite::tungstenite::client::IntoClientRequest as _;
use tokio_tungstenite::tungstenite::http::{HeaderValue, header};
use tokio_tungstenite::tungstenite::{self, Message, protocol::WebSocketConfig};
use tokio_tungstenite::{MaybeTlsStream, WebSocketStream};
use uuid::Uuid;

use crate::outbox::Outbox;
use crate::replica::{Change, Replica, Undoing};
use crate::time::ServiceTime;

const FIRST_WAIT: Duration = Duration::from_millis(100);
const LONGEST_WAIT: Duration = Duration::from_secs(5);
const ENTER_WITHIN: Duration = Duration::from_secs(15);
/// So many pings are sent at this pace where somebody asks for the service's time.
const SOON: usize = 48;
const FIRST_BEAT: Duration = Duration::from_millis(250);
/// And at this one from then on.
const TIMED_BEAT: Duration = Duration::from_secs(2);
/// A connection is pinged this often, and is lost when nothing at all came for three times as long.
const BEAT: Duration = Duration::from_secs(5);

/// Where to enter, and as whom.
#[derive(Clone, Debug)]
pub struct Target {
    /// The service, such as `http://127.0.0.1:7460`.
    pub server: String,
    /// The session's id.
    pub session: String,
    /// The participant's token; empty for a guest, where the charter lets guests in.
    pub token: String,
    /// How frames are written.
    pub encoding: Encoding,
}

/// How frames are written: the same objects in either.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Encoding {
    /// One JSON object in a text frame.
    #[default]
    Json,
    /// One CBOR item in a binary frame.
    Cbor,
}

impl Encoding {
    fn subprotocol(self) -> &'static str {
        match self {
            Self::Json => JSON_SUBPROTOCOL,
            Self::Cbor => CBOR_SUBPROTOCOL,
        }
    }

    fn write(self, frame: &FromParticipant) -> Message {
        match self {
            Self::Json => Message::text(frame.encode()),
            Self::Cbor => Message::binary(cbor_of_json(&frame.encode())),
        }
    }

    /// The frame in a message; `None` for what is no frame, such as a pong.
    fn read(message: &Message) -> Option<Result<FromService, Problem>> {
        match message {
            Message::Text(text) => Some(FromService::decode(text.as_bytes())),
            Message::Binary(bytes) => {
                Some(decode_told_cbor(bytes).and_then(FromService::from_value))
            }
            _ => None,
        }
    }
}

/// Where a connection stands, in words for its user.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Standing {
    /// Nothing is known of the session yet, which is not the same as an empty one.
    Waiting,
    /// Up to date but for what is on its way.
    Present,
    /// Lost; what is proposed is kept.
    Away {
        /// Proposals that have no answer.
        unsent: usize,
    },
    /// Entering again, to get what was missed.
    CatchingUp,
}

/// What happens to a connection.
#[derive(Clone, Debug, PartialEq)]
#[expect(clippy::large_enum_variant, reason = "nearly all are updates, and a box is an allocation")]
pub enum Event {
    /// The replica changed.
    Changed(Change),
    /// The connection was lost; it will be tried again after the wait. Proposals stay pending
    /// meanwhile.
    Away {
        /// How long until the next try.
        wait: Duration,
        /// Why.
        why: String,
    },
    /// The service says something that concerns no single proposal.
    Noticed(Problem),
    /// A transient message.
    Cued(CueFrame),
    /// The answer to a hold, a release, a cue or a renewal.
    Answered {
        /// The number that was given.
        n: u64,
        /// Why it was not done, if it was not.
        problem: Option<Problem>,
    },
}

/// Why a connection is over for good.
#[derive(Debug, thiserror::Error)]
pub enum ConnectionError {
    /// The service does not let this participant in.
    #[error("{0}")]
    Refused(Problem),
    /// The address makes no sense.
    #[error("{0:?} is no address of a service; it begins with http://")]
    Address(String),
}

type Socket = WebSocketStream<MaybeTlsStream<TcpStream>>;
/// A try to enter that is under way.
type Entering = Pin<Box<dyn Future<Output = Result<(Box<Socket>, FromService), Attempt>> + Send>>;

/// A participant's connection with its replica.
///
/// [`next`](Self::next) is the one place where it reads and comes back; dropping that future loses
/// nothing, not even a try to enter that is under way.
pub struct Connection {
    target: Target,
    replica: Replica,
    socket: Option<Box<Socket>>,
    entering: Option<Entering>,
    waiting: Option<Instant>,
    wait: Duration,
    /// When something last came, and when the next ping is due.
    heard: Instant,
    ping_at: Instant,
    /// From when on its own time counts, and what is known of the service's.
    begun: Instant,
    time: ServiceTime,
    /// Whether somebody asks for that: then it is soon found out.
    is_timed: bool,
    /// What is to be said of its participant, and when that may next be sent.
    saying: Facts,
    say_at: Instant,
    /// Queries that were asked for too fast, and when they are asked for again.
    ask_again: BTreeSet<(Instant, u64)>,
    say_every: Duration,
    said_at: BTreeMap<String, Instant>,
    /// Facts that lapse so long after they were said.
    lapses: BTreeMap<String, Duration>,
    /// The number of the last hold, release, cue or renewal.
    asked: u64,
    outbox: Outbox,
    events: std::collections::VecDeque<Event>,
}

impl std::fmt::Debug for Connection {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Connection")
            .field("session", &self.target.session)
            .field("replica", &self.replica)
            .finish_non_exhaustive()
    }
}

impl Connection {
    /// A connection that will enter at the first call of [`next`](Self::next).
    pub fn new(target: Target, client: Uuid) -> Self {
        let replica = Replica::new(client);
        Self {
            target,
            replica,
            socket: None,
            entering: None,
            waiting: None,
            wait: FIRST_WAIT,
            heard: Instant::now(),
            ping_at: Instant::now(),
            begun: Instant::now(),
            time: ServiceTime::default(),
            is_timed: false,
            saying: Facts::new(),
            say_at: Instant::now(),
            ask_again: BTreeSet::new(),
            say_every: Duration::from_millis(33),
            said_at: BTreeMap::new(),
            lapses: BTreeMap::new(),
            asked: 0,
            outbox: Outbox::default(),
            events: std::collections::VecDeque::new(),
        }
    }

    /// The replica.
    pub fn replica(&self) -> &Replica {
        &self.replica
    }

    /// The service's time, in milliseconds since 1970 UTC; nothing before the first answer to a ping.
    /// It is told from the answers to pings, which are sent while [`next`](Self::next) is waited for:
    /// every five seconds, and every two once this was called, after some in a row.
    pub fn now(&mut self) -> Option<u64> {
        if !self.is_timed {
            self.is_timed = true;
            self.ping_at = Instant::now();
        }
        #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "a time")]
        self.time.at(self.own_time()).map(|time| time as u64)
    }

    /// What is known of the service's time.
    pub fn service_time(&self) -> &ServiceTime {
        &self.time
    }

    fn own_time(&self) -> f64 {
        self.begun.elapsed().as_secs_f64() * 1_000.0
    }

    /// Whether it has entered and was not lost since.
    pub fn is_connected(&self) -> bool {
        self.socket.is_some()
    }

    /// Where it stands.
    pub fn standing(&self) -> Standing {
        match (&self.socket, &self.entering, self.replica.confirmed()) {
            (_, _, None) => Standing::Waiting,
            (Some(_), _, _) => Standing::Present,
            (None, Some(_), _) => Standing::CatchingUp,
            (None, None, _) => Standing::Away { unsent: self.replica.pending().count() },
        }
    }

    /// The next thing that happens. Fails only where trying again makes no sense.
    pub async fn next(&mut self) -> Result<Event, ConnectionError> {
        loop {
            if let Some(event) = self.events.pop_front() {
                return Ok(event);
            }
            let ask_at = self.ask_again.first().map(|(at, _)| *at);
            match &mut self.socket {
                None => {
                    if let Some(until) = self.waiting {
                        tokio::time::sleep_until(until).await;
                        self.waiting = None;
                    }
                    self.connect().await?;
                }
                Some(socket) => tokio::select! {
                    message = socket.next() => {
                        self.heard = Instant::now();
                        self.receive(message).await?;
                    }
                    () = tokio::time::sleep_until(self.outbox.due()), if self.outbox.is_ready() => {
                        self.send_proposals().await;
                    }
                    () = tokio::time::sleep_until(self.ping_at) => self.beat().await,
                    () = tokio::time::sleep_until(self.say_at), if !self.saying.is_empty() => self.send_said().await,
                    () = tokio::time::sleep_until(ask_at.unwrap_or(self.ping_at)), if ask_at.is_some() => {
                        if let Some((_, query)) = self.ask_again.pop_first() {
                            self.replica.follow_again(query);
                            self.send_outgoing().await;
                        }
                    }
                },
            }
        }
    }

    /// Proposes edits; gives the proposal's number, or `None` before the first `welcome`. Without a
    /// connection they stay pending and are sent on return.
    pub async fn propose(&mut self, edits: Vec<Edit>) -> Option<u64> {
        let edits = self.replica.for_this_round(edits);
        let n = self.replica.propose(edits, None, None)?;
        self.send_proposed().await;
        Some(n)
    }

    /// Proposes edits that are one step of undo with all that have the same `gesture`.
    pub async fn propose_in(&mut self, gesture: &str, edits: Vec<Edit>) -> Option<u64> {
        let edits = self.replica.for_this_round(edits);
        let n = self.replica.propose(edits, Some(gesture.to_owned()), None)?;
        self.send_proposed().await;
        Some(n)
    }

    /// Asks to be told what one can undo: see [`Replica::undoable`](crate::Replica::undoable).
    pub async fn follow_undo(&mut self) {
        self.replica.follow_undo();
        self.send_outgoing().await;
    }

    /// The same without a state, for queries only; to be said before the first
    /// [`next`](Self::next).
    #[must_use]
    pub fn stateless(self) -> Self {
        Self { replica: self.replica.stateless(), ..self }
    }

    /// Asks for the rows of a query: see [`Replica::follow_query`](crate::Replica::follow_query).
    pub async fn follow_query(&mut self, asked: Asked) -> u64 {
        let query = self.replica.follow_query(asked);
        self.send_outgoing().await;
        query
    }

    /// Follows a query no more.
    pub async fn leave_query(&mut self, query: u64) {
        self.replica.leave_query(query);
        self.send_outgoing().await;
    }

    /// Undoes what its participant did last, or redoes what they undid last; `None` before the first
    /// `welcome`. What was not sent yet is cancelled.
    pub async fn take_back(&mut self, way: Back) -> Option<Undoing> {
        let undoing = self.replica.take_back(way)?;
        self.send_proposed().await;
        Some(undoing)
    }

    async fn send_proposed(&mut self) {
        while let Some(refused) = self.replica.poll_refused() {
            self.events.push_back(Event::Changed(refused));
        }
        self.send_outgoing().await;
    }

    /// Tells something of its participant; `null` takes a fact back. It may be called as often as
    /// one likes: what is said meanwhile is sent as the newest, at the rate of the charter, while
    /// [`next`](Self::next) is waited for.
    pub fn say(&mut self, set: Facts) {
        self.saying.extend(set);
    }

    async fn send_said(&mut self) {
        let now = Instant::now();
        self.say_at = now + self.say_every;
        let saying = std::mem::take(&mut self.saying);
        self.said_at.extend(saying.keys().map(|name| (name.clone(), now)));
        let said = self.replica.say(saying);
        self.send(&FromParticipant::Presence(said)).await;
    }

    /// Takes or renews a hold; gives the number with which the answer comes.
    pub async fn hold(&mut self, at: &str, time: Option<Duration>) -> u64 {
        self.asked += 1;
        let for_ms = time.map(|time| u64::try_from(time.as_millis()).unwrap_or(u64::MAX));
        let frame = TakeHold { n: self.asked, at: at.to_owned(), for_ms, over: false };
        self.send(&FromParticipant::Hold(frame)).await;
        self.asked
    }

    /// Gives a hold up; gives the number with which the answer comes.
    pub async fn release(&mut self, at: &str) -> u64 {
        self.asked += 1;
        self.send(&FromParticipant::Release(Release { n: self.asked, at: at.to_owned() })).await;
        self.asked
    }

    /// Sends a cue; gives the number with which the answer comes.
    pub async fn cue(
        &mut self,
        name: &str,
        data: Option<serde_json::Value>,
        to: Option<CueFor>,
    ) -> u64 {
        self.asked += 1;
        self.send(&FromParticipant::Cue(SendCue {
            n: self.asked,
            name: name.to_owned(),
            data,
            to,
        }))
        .await;
        self.asked
    }

    /// Goes on with a new token, over this connection and at every return; gives the number with
    /// which the answer comes.
    pub async fn renew(&mut self, token: String) -> u64 {
        self.asked += 1;
        self.target.token.clone_from(&token);
        self.send(&FromParticipant::Renew(Renew { n: self.asked, token })).await;
        self.asked
    }

    /// Asks for a `pong`, which keeps middle boxes from closing a silent connection.
    pub async fn ping(&mut self, sent: f64) {
        self.send(&FromParticipant::Ping(Ping { sent })).await;
    }

    /// A peer that is gone without a word, as behind a router that was switched off, is found by
    /// its silence.
    async fn beat(&mut self) {
        let every = match self.time.samples() {
            _ if !self.is_timed => BEAT,
            samples if samples < SOON => FIRST_BEAT,
            _ => TIMED_BEAT,
        };
        self.ping_at = Instant::now() + every;
        if self.heard.elapsed() > BEAT * 3 {
            self.lost("nothing was heard from the service".to_owned());
        } else {
            self.ping(self.own_time()).await;
        }
    }

    /// Cuts the connection as a lost network would: nothing is said to the service.
    pub fn cut(&mut self) {
        self.entering = None;
        self.socket = None;
        self.outbox.clear();
        self.ask_again.clear();
    }

    /// Leaves for good.
    pub async fn leave(mut self) {
        self.send(&FromParticipant::Leave(Leave {})).await;
        if let Some(mut socket) = self.socket.take() {
            // The service closes after `leave`; if it cannot any more, so be it.
            let _ = tokio::time::timeout(Duration::from_secs(1), socket.send(Message::Close(None)))
                .await;
        }
    }

    /// What the replica has to send; without a connection it is sent after the next `welcome`.
    /// Proposals go at the rate that the service takes.
    async fn send_outgoing(&mut self) {
        while let Some(frame) = self.replica.poll_outgoing() {
            match frame {
                FromParticipant::Propose(frame) if self.socket.is_some() => self.outbox.put(frame),
                frame => self.send(&frame).await,
            }
        }
        self.send_proposals().await;
    }

    async fn send_proposals(&mut self) {
        self.outbox.answered(self.replica.answered());
        loop {
            let mut proposals = self.outbox.take();
            proposals.iter().for_each(|frame| self.replica.note_sent(frame.n));
            let frame = match proposals.len() {
                0 => break,
                1 => FromParticipant::Propose(proposals.remove(0)),
                _ => FromParticipant::Proposals(Proposals { proposals }),
            };
            self.send(&frame).await;
        }
    }

    async fn send(&mut self, frame: &FromParticipant) {
        let Some(socket) = &mut self.socket else { return };
        if let Err(error) = socket.send(self.target.encoding.write(frame)).await {
            self.lost(error.to_string());
        }
    }

    async fn connect(&mut self) -> Result<(), ConnectionError> {
        let lapsed = self.lapses.iter().filter(|(name, after)| {
            self.said_at.get(*name).is_some_and(|said| said.elapsed() >= **after)
        });
        self.replica.lapse(lapsed.map(|(name, _)| name.as_str()));
        let (target, enter) = (&self.target, &self.replica);
        let entering = self.entering.get_or_insert_with(|| {
            let enter = enter.enter(Some(target.token.clone()).filter(|token| !token.is_empty()));
            let attempt = try_to_enter(target.clone(), enter);
            Box::pin(async move {
                let tried = tokio::time::timeout(ENTER_WITHIN, attempt).await;
                tried.unwrap_or_else(|_| Err(Attempt::Again("no answer in time".to_owned())))
            })
        });
        let tried = entering.await;
        self.entering = None;
        match tried {
            Ok((socket, welcome)) => {
                self.socket = Some(socket);
                self.wait = FIRST_WAIT;
                self.heard = Instant::now();
                self.ping_at = self.heard;
                self.take_in(welcome);
                if self.replica.follows_undo() {
                    self.send(&FromParticipant::FollowUndo(FollowUndo {})).await;
                }
                for frame in self.replica.followed_queries() {
                    self.send(&frame).await;
                }
                self.send_proposals().await;
            }
            Err(Attempt::Final(error)) => return Err(error),
            Err(Attempt::Again(why)) => self.lost(why),
        }
        Ok(())
    }

    fn take_in(&mut self, welcome: FromService) {
        if let FromService::Welcome(welcome) = &welcome {
            self.say_every = Duration::from_secs(1) / welcome.limits.presence_per_second.max(1);
            self.outbox.pace(&welcome.limits);
            let lapses = welcome.limits.presence_lapses_ms.iter();
            let lapses = lapses.map(|(name, ms)| (name.clone(), Duration::from_millis(*ms)));
            self.lapses = lapses.collect();
            // A guest comes back as the same guest.
            if let Some(token) = &welcome.token {
                self.target.token.clone_from(token);
            }
        }
        let changes = self.replica.handle(welcome);
        self.events.extend(changes.into_iter().map(Event::Changed));
        while self.replica.poll_outgoing().is_some() {}
        self.outbox.fill(self.replica.unanswered());
    }

    async fn receive(
        &mut self,
        message: Option<Result<Message, tungstenite::Error>>,
    ) -> Result<(), ConnectionError> {
        let frame = match message {
            Some(Ok(Message::Close(_))) | None => {
                self.lost("the service closed the connection".to_owned());
                return Ok(());
            }
            Some(Ok(message)) => Encoding::read(&message),
            Some(Err(error)) => {
                self.lost(error.to_string());
                return Ok(());
            }
        };
        let Some(frame) = frame else { return Ok(()) };
        match frame.map_err(ConnectionError::Refused)? {
            // In place of a backlog: as after a return, what has no answer is sent again.
            welcome @ FromService::Welcome(_) => {
                self.take_in(welcome);
                self.send_proposals().await;
            }
            FromService::Refused(refused) if refused.problem.kind() == ProblemKind::TooFast => {
                let wait = wait_of(&refused.problem);
                self.outbox.take_back(refused.n, wait, self.replica.unanswered());
            }
            FromService::QueryRefused(refused)
                if refused.problem.kind() == ProblemKind::TooFast =>
            {
                self.ask_again.insert((Instant::now() + wait_of(&refused.problem), refused.query));
            }
            FromService::Pong(pong) => {
                let received = self.own_time();
                self.time.handle_pong(pong.sent, pong.time, received);
            }
            FromService::Bye(bye) => match Attempt::bye(bye.problem) {
                Attempt::Final(error) => return Err(error),
                Attempt::Again(why) => self.lost(why),
            },
            FromService::Cue(cue) => self.events.push_back(Event::Cued(cue)),
            FromService::Answer(answer) => {
                self.events.push_back(Event::Answered { n: answer.n, problem: answer.problem });
            }
            FromService::Notice(notice) => self.events.push_back(Event::Noticed(notice.problem)),
            frame => {
                let changes = self.replica.handle(frame);
                let has_diverged =
                    changes.iter().any(|change| matches!(change, Change::Diverged(_)));
                let is_unknown = changes.contains(&Change::Unknown);
                self.events.extend(changes.into_iter().map(Event::Changed));
                if has_diverged {
                    self.lost("this replica differs and asks for a snapshot".to_owned());
                }
                if is_unknown {
                    self.lost("the service remembers nothing of this client".to_owned());
                }
                self.send_outgoing().await;
            }
        }
        Ok(())
    }

    /// Waits grow by half again, and are spread so that those who were lost together do not come
    /// back together.
    fn lost(&mut self, why: String) {
        self.socket = None;
        self.outbox.clear();
        let wait = self.wait.mul_f64(rand::rng().random_range(0.5..1.0));
        self.wait = (self.wait * 3 / 2).min(LONGEST_WAIT);
        self.waiting = Some(Instant::now() + wait);
        self.events.push_back(Event::Away { wait, why });
    }
}

/// How a try to enter failed.
enum Attempt {
    Again(String),
    Final(ConnectionError),
}

impl Attempt {
    fn address(target: &Target) -> Self {
        Self::Final(ConnectionError::Address(target.server.clone()))
    }

    /// Some problems pass by themselves; with the rest the same attempt would fail the same way.
    fn bye(problem: Problem) -> Self {
        match problem.kind() {
            ProblemKind::Slow
            | ProblemKind::ShuttingDown
            | ProblemKind::Crowded
            | ProblemKind::Unavailable
            | ProblemKind::Silent => Self::Again(problem.detail().to_owned()),
            _ => Self::Final(ConnectionError::Refused(problem)),
        }
    }
}

impl From<tungstenite::Error> for Attempt {
    fn from(error: tungstenite::Error) -> Self {
        match error {
            tungstenite::Error::Http(response) => {
                let problem = response
                    .body()
                    .as_deref()
                    .and_then(|body| serde_json::from_slice::<Problem>(body).ok());
                match problem {
                    Some(problem) => Self::bye(problem),
                    None => Self::Again(format!("the service answered {}", response.status())),
                }
            }
            other => Self::Again(other.to_string()),
        }
    }
}

async fn try_to_enter(target: Target, enter: Enter) -> Result<(Box<Socket>, FromService), Attempt> {
    let address = address(&target)?;
    let mut request =
        address.as_str().into_client_request().map_err(|_| Attempt::address(&target))?;
    request.headers_mut().insert(
        header::SEC_WEBSOCKET_PROTOCOL,
        HeaderValue::from_static(target.encoding.subprotocol()),
    );
    let config = WebSocketConfig::default().max_message_size(None).max_frame_size(None);
    let (mut socket, _) =
        tokio_tungstenite::connect_async_with_config(request, Some(config), true).await?;
    socket.send(target.encoding.write(&FromParticipant::Enter(enter))).await?;
    loop {
        let message = socket
            .next()
            .await
            .ok_or_else(|| Attempt::Again("the service closed the connection".to_owned()))??;
        let Some(frame) = Encoding::read(&message) else { continue };
        match frame {
            Ok(welcome @ FromService::Welcome(_)) => return Ok((Box::new(socket), welcome)),
            Ok(FromService::Bye(bye)) => return Err(Attempt::bye(bye.problem)),
            Ok(_) => {}
            Err(problem) => return Err(Attempt::Final(ConnectionError::Refused(problem))),
        }
    }
}

fn address(target: &Target) -> Result<String, Attempt> {
    let rest = target
        .server
        .trim_end_matches('/')
        .strip_prefix("http")
        .ok_or_else(|| Attempt::address(target))?;
    Ok(format!("ws{rest}/v1/sessions/{}/connect", target.session))
}

/// How long to wait before something that came too fast is sent again.
fn wait_of(problem: &Problem) -> Duration {
    let wait = problem.member("wait_ms").and_then(serde_json::Value::as_u64);
    Duration::from_millis(wait.unwrap_or(1_000))
}
