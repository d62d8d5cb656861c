//! The one exit: what leaves for a participant is made here, by their audience.
//!
//! Participants that see the same share one encoding of the state and of each update, and one digest.
//! [`Shown`] has no other maker than this file, so nothing that is not filtered can be sent.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use rendel_core::{
    Charter, Disclosure, Extent, Facts, Grantees, Hold, HoldChange, Lens, Path, Presence,
    PrivatePatch, Problem, Reader, RosterSight, SecretIndex, Settled, Sight, State, Teller,
    Undoable, Viewer, digest, told,
};
use rendel_wire::{
    AnswerFrame, CueFrame, DigestAsked, FromService, Notice, OutcomeFrame, OutcomeOf, QueryRefused,
    Refused, Resync, Roster, Status, Waiting, Welcome,
};
use serde::Serialize;
use serde_json::Value;
use serde_json::value::RawValue;
use uuid::Uuid;

use crate::input::{ConnectionId, StateDigests};
use crate::members::Members;
use crate::quiet::{Blank, ShownUpdate, Stretch, Stretches};
use crate::recent::Recent;

/// Something as an audience may see it.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[serde(transparent)]
pub struct Shown<T>(T);

impl<T> Shown<T> {
    /// The thing itself, on its way out.
    pub fn get(&self) -> &T {
        &self.0
    }

    /// See [`get`](Self::get).
    pub fn into_inner(self) -> T {
        self.0
    }
}

/// Presence by participant and client; `None` if the client has none any more.
pub type Told = BTreeMap<String, BTreeMap<Uuid, Option<Facts>>>;

/// What is shown over connections.
#[derive(Clone, Debug, Serialize)]
pub enum Content {
    /// Where the session stands; from here on the connection is of this audience.
    Welcome(Welcomed),
    /// Where one begins who follows by events; likewise.
    Begin {
        /// The audience.
        audience: usize,
        /// The place.
        seq: u64,
        /// The state, for a client that has none; a client with an older state gets updates instead.
        state: Option<Arc<str>>,
    },
    /// A run of updates.
    Updates(Vec<ShownUpdate>),
    /// Replaces an update of a later run, for a follower by events that sees more of it.
    Instead {
        /// Its place.
        seq: u64,
        /// The update as JSON.
        update: Arc<str>,
        /// The JSON Patch, for followers by patches.
        patch: Option<String>,
    },
    /// What changed in presence.
    Presence(Told),
    /// Any other frame, as JSON.
    Frame(Arc<str>),
    /// A frame without any state, as JSON: it is sent even if the role has changed since.
    Aside(Arc<str>),
}

/// An update and its JSON as the journal has it.
pub(crate) type Stored = (Arc<Settled>, Arc<str>);

/// A `welcome`, with its state apart, which many share.
#[derive(Clone, Debug, Serialize)]
pub struct Welcomed {
    /// The audience.
    pub audience: usize,
    /// The frame but for the state.
    pub head: String,
    /// The state and its place.
    pub state: Option<(u64, Arc<str>)>,
    /// The `seq` that a replica has after it.
    pub seq: u64,
}

/// The part of a `welcome` that is the same for every recipient.
pub(crate) type Greeting = Welcome<Arc<RawValue>, Arc<RawValue>>;

/// A frame that is more than a part of the state, but may speak of it.
#[derive(Clone, Debug)]
pub(crate) enum Word {
    Refused(Refused),
    Outcome(OutcomeFrame),
    Waiting(Waiting),
    Answer(AnswerFrame),
    Roster(Roster),
    Holds(HoldChange),
    Cue(CueFrame),
    Status(Status),
    Digest(DigestAsked),
    Undoable(Undoable),
    QueryRefused(QueryRefused),
    Notice(Notice),
}

/// The audiences of a session. The first sees everything, the last nothing.
#[derive(Debug)]
pub(crate) struct Audiences {
    charter: Arc<Charter>,
    all: Vec<Audience>,
    of_role: BTreeMap<String, usize>,
    /// Where what is somebody's is, once somebody asked.
    index: Option<SecretIndex>,
}

/// A viewer with the current state.
pub(crate) type Eye<'e> = (&'e Viewer, &'e State);

/// What some connections are shown instead of the frame for their audience.
pub(crate) type Instead = Vec<(Vec<ConnectionId>, Shown<Content>)>;

/// What an update did for one viewer in addition to what their audience is shown.
#[derive(Debug)]
pub(crate) struct Theirs {
    pub(crate) viewer: Viewer,
    pub(crate) beside: PrivatePatch,
    /// Their connections with a replica.
    pub(crate) replicas: Vec<ConnectionId>,
    /// Those that follow by events.
    pub(crate) followers: Vec<ConnectionId>,
}

#[derive(Debug)]
struct Audience {
    sight: Sight,
    roster: RosterSight,
    /// The last encoded state, which serves late joiners while the updates after it are in memory.
    snapshot: Option<(u64, Arc<str>)>,
    /// The last state that was shown, against which patches are made while there are followers by
    /// patches.
    followed: Option<State>,
    /// Updates that it has not been sent yet, since it sees no part of them.
    quiet: Option<Blank>,
    /// The facts of each teller that somebody of it may have been told.
    told: BTreeMap<Teller, BTreeSet<String>>,
}

/// No audience: that of connections without a state.
pub const NO_AUDIENCE: usize = usize::MAX;

/// A late joiner may get a state that is this many updates old, and the updates after it.
const SNAPSHOT_AGE: u64 = 64;

impl Audiences {
    pub(crate) fn of(charter: Arc<Charter>) -> Self {
        let audience = |sight, roster| Audience {
            sight,
            roster,
            snapshot: None,
            followed: None,
            quiet: None,
            told: BTreeMap::new(),
        };
        // The backend sees all but what was cast on secret ballots.
        let service = charter.sight(rendel_core::Actor::SERVICE).clone();
        let mut all = vec![audience(service, RosterSight::Names)];
        let mut of_role = BTreeMap::new();
        for (name, role) in &charter.roles {
            let is_same = |known: &Audience| known.sight == role.see && known.roster == role.roster;
            let at = all.iter().position(is_same).unwrap_or_else(|| {
                all.push(audience(role.see.clone(), role.roster));
                all.len() - 1
            });
            of_role.insert(name.clone(), at);
        }
        of_role.insert(rendel_core::Actor::SERVICE.to_owned(), 0);
        all.push(audience(Sight::NOTHING, RosterSight::Nothing));
        Self { charter, all, of_role, index: None }
    }

    /// Whether there is anything that only some of an audience see.
    pub(crate) fn has_secrets(&self, audience: usize) -> bool {
        self.charter.has_secrets() && !self.sight(audience).secrets().is_empty()
    }

    /// The number that a replica of an audience gives when it reconnects. Viewers that may see
    /// different things have different numbers.
    pub(crate) fn number(&self, audience: usize, viewer: &Viewer) -> usize {
        match self.has_secrets(audience) {
            true => audience + ((viewer.mark() as usize) << 16),
            false => audience,
        }
    }

    fn lens<'l>(&'l self, audience: usize, eye: Option<Eye<'l>>) -> Lens<'l> {
        let sight = self.sight(audience);
        match eye {
            Some((viewer, state)) => Lens::new(&self.charter, sight, Some(viewer), state),
            None => Lens::blind(&self.charter, sight),
        }
    }

    /// An update was settled.
    pub(crate) fn handle_settled(&mut self, update: &Settled) {
        if let Some(index) = &mut self.index {
            index.handle_settled(&update.disclosures);
        }
        // Who arrives later is not to get what all saw until now.
        let closes = |told: &Disclosure| told.from == Grantees::All && told.to != Grantees::All;
        if update.disclosures.iter().any(closes) {
            self.all.iter_mut().for_each(|audience| audience.snapshot = None);
        }
    }

    /// What connections are shown in addition to their audience.
    fn yours(
        &mut self,
        audience: usize,
        viewer: &Viewer,
        state: &State,
    ) -> BTreeMap<String, Value> {
        if !self.has_secrets(audience) {
            return BTreeMap::new();
        }
        let charter = &self.charter;
        let index = self.index.take().unwrap_or_else(|| SecretIndex::of(charter, state));
        let yours = self.lens(audience, Some((viewer, state))).beside(&index);
        self.index = Some(index);
        yours
    }

    /// What some updates did for viewers that see more of them than their audience.
    pub(crate) fn theirs(
        &self,
        audience: usize,
        updates: &[Stored],
        members: &Members,
    ) -> Vec<Vec<Theirs>> {
        if !self.has_secrets(audience) {
            return Vec::new();
        }
        let sight = self.sight(audience);
        let of = |update: &Settled| {
            let told = sight.told(&self.charter.fields, update);
            let seers = members.seers(audience, told.recipients()).into_iter();
            let theirs = |(viewer, connections): (Viewer, Vec<ConnectionId>)| {
                let beside = told.beside(&viewer)?;
                let (replicas, followers) =
                    connections.into_iter().partition(|one| members.has_replica(*one));
                Some(Theirs { viewer, beside, replicas, followers })
            };
            seers.filter_map(theirs).collect()
        };
        updates.iter().map(|(update, _)| of(update)).collect()
    }

    /// The audience of a role; of one that the charter does not have, that which sees nothing.
    pub(crate) fn of_role(&self, role: &str) -> usize {
        self.of_role.get(role).copied().unwrap_or(self.all.len() - 1)
    }

    pub(crate) fn ids(&self) -> std::ops::Range<usize> {
        0..self.all.len()
    }

    /// The state has become another.
    pub(crate) fn forget_snapshots(&mut self) {
        self.all.iter_mut().for_each(|audience| audience.snapshot = None);
        self.index = None;
    }

    /// How much of the roster an audience sees.
    pub(crate) fn roster_sight(&self, audience: usize) -> RosterSight {
        self.all.get(audience).map_or(RosterSight::Nothing, |audience| audience.roster)
    }

    fn sight(&self, audience: usize) -> &Sight {
        self.all.get(audience).map_or(&Sight::NOTHING, |audience| &audience.sight)
    }

    fn sees(&self, audience: usize, at: &str) -> bool {
        let sight = self.sight(audience);
        let is_shown = |path: Path| sight.extent(&self.charter.fields, &path) != Extent::Nothing;
        sight.is_whole() || Path::parse(at).is_ok_and(is_shown)
    }

    /// Whether somebody sees anything of what is at a path.
    pub(crate) fn reader_sees(&self, reader: &Reader, state: &State, at: &Path) -> bool {
        let lens = self.lens(self.of_role(&reader.role), Some((&reader.viewer, state)));
        lens.extent(at) != Extent::Nothing
    }

    /// A refusal, for one reader.
    pub(crate) fn problem(
        &self,
        reader: &Reader,
        state: &State,
        problem: Problem,
    ) -> Shown<Problem> {
        let eye = Some((&reader.viewer, state));
        Shown(self.lens(self.of_role(&reader.role), eye).problem(problem))
    }

    /// An update of the journal, for one reader.
    pub(crate) fn update(
        &self,
        reader: &Reader,
        json: Option<&Arc<str>>,
    ) -> Shown<Option<Arc<str>>> {
        let sight = self.sight(self.of_role(&reader.role));
        Shown(json.map(|json| seen_by(sight, &self.charter, &reader.viewer, json)))
    }

    /// Whether the proposer of an update cannot recognise it by its author.
    pub(crate) fn hides_author(&self, audience: usize, update: &Settled) -> bool {
        let sight = self.sight(audience);
        let fields = &self.charter.fields;
        !sight.shows_all(fields, update) && sight.update(fields, update).is_blank()
    }

    /// The value at a path, or the whole state, for one reader; `None` if nothing is shown there.
    pub(crate) fn reading(
        &mut self,
        reader: &Reader,
        seq: u64,
        state: &State,
        path: Option<&Path>,
    ) -> Option<Shown<Arc<str>>> {
        let audience = self.of_role(&reader.role);
        let lens = self.lens(audience, Some((&reader.viewer, state)));
        match path {
            Some(path) => Some(Shown(lens.plain_at(path)?.to_string().into())),
            None if self.has_secrets(audience) => Some(Shown(lens.plain().to_string().into())),
            None => Some(Shown(self.present_state(audience, seq, state))),
        }
    }

    /// The current state, encoded at most once.
    fn present_state(&mut self, audience: usize, seq: u64, state: &State) -> Arc<str> {
        let charter = self.charter.clone();
        let Some(of) = self.all.get_mut(audience) else { return "{}".into() };
        if let Some((_, made)) = of.snapshot.as_ref().filter(|(at, _)| *at == seq) {
            return made.clone();
        }
        let shown = Lens::new(&charter, &of.sight, None, state).plain();
        let made: Arc<str> = serde_json::to_string(&shown).unwrap_or_default().into();
        of.snapshot = Some((seq, made.clone()));
        made
    }

    /// A `welcome` for a replica that has what came up to `had`, or nothing.
    pub(crate) fn welcome(
        &mut self,
        (audience, viewer): (usize, &Viewer),
        had: Option<u64>,
        greeting: Greeting,
        recent: &Recent,
        state: &State,
    ) -> Shown<Content> {
        let seq = greeting.seq;
        let mut greeting = self.greeting((audience, viewer), greeting, state);
        let missed = had.and_then(|had| {
            let updates = self.missed(audience, viewer, had, recent)?;
            let bytes: usize = updates.iter().map(|json| json.get().len()).sum();
            // Nothing that is hidden counts: it would show in which of the two is sent.
            let whole = match self.sight(audience).is_whole() {
                true => state.weight(),
                false if bytes == 0 => 1,
                false => self.present_state(audience, seq, state).len() as u64,
            };
            (bytes == 0 || (bytes as u64) < whole).then_some((had, updates))
        });
        let mut joined = None;
        match missed {
            Some((had, updates)) => {
                greeting.updates = Some(updates);
                greeting.beside = self.besides_after(audience, viewer, had, recent);
            }
            None => {
                greeting.yours = self.yours(audience, viewer, state);
                let last = self.all.get(audience).and_then(|of| of.snapshot.clone());
                // Encoded again only if the updates in memory do not reach back to the last encoding.
                let (at, json) = last
                    .filter(|(at, _)| seq - at <= SNAPSHOT_AGE && recent.after(*at).is_some())
                    .unwrap_or_else(|| (seq, self.present_state(audience, seq, state)));
                let updates = self.updates_after(audience, at, recent);
                greeting.updates = updates.filter(|updates| !updates.is_empty());
                joined = Some((at, json));
            }
        }
        let head = tagged("welcome", &greeting);
        Shown(Content::Welcome(Welcomed { audience, head, state: joined, seq }))
    }

    /// A `welcome` without the state, after which nothing that an audience shares is sent.
    pub(crate) fn bare_welcome(
        &self,
        eye: (usize, &Viewer),
        greeting: Greeting,
        state: &State,
    ) -> Shown<Content> {
        let seq = greeting.seq;
        let head = tagged("welcome", &self.greeting(eye, greeting, state));
        Shown(Content::Welcome(Welcomed { audience: NO_AUDIENCE, head, state: None, seq }))
    }

    /// Rows, which were filtered for their follower when they were made.
    pub(crate) fn rows(&self, frame: &FromService) -> Shown<Content> {
        Shown(Content::Frame(frame.encode().into()))
    }

    /// Words refusals of an earlier role for the current one.
    fn greeting(
        &self,
        (audience, viewer): (usize, &Viewer),
        greeting: Greeting,
        state: &State,
    ) -> Greeting {
        let outcome = |frame| self.outcome(audience, Some((viewer, state)), frame);
        let (roster, count) = match self.roster_sight(audience) {
            RosterSight::Names => (greeting.roster, greeting.count),
            RosterSight::Count => (Vec::new(), greeting.count),
            RosterSight::Nothing => (Vec::new(), None),
        };
        Greeting {
            audience: self.number(audience, viewer),
            roster,
            count,
            holds: self.holds(audience, greeting.holds),
            outcomes: greeting.outcomes.into_iter().map(outcome).collect(),
            ..greeting
        }
    }

    fn outcome(
        &self,
        audience: usize,
        eye: Option<Eye<'_>>,
        mut frame: OutcomeFrame,
    ) -> OutcomeFrame {
        if let OutcomeOf::Problem(why) = &mut frame.outcome {
            *why = self.lens(audience, eye).problem(why.clone());
        }
        frame
    }

    /// What came after `seq`; updates of which nothing is shown are one, up to the next that did
    /// something for the viewer alone.
    fn missed(
        &self,
        audience: usize,
        viewer: &Viewer,
        seq: u64,
        recent: &Recent,
    ) -> Option<Vec<Arc<RawValue>>> {
        let sight = self.sight(audience);
        if sight.is_whole() {
            return self.updates_after(audience, seq, recent);
        }
        let mut quiet: Option<Blank> = None;
        let mut missed = Vec::new();
        for json in recent.after(seq)? {
            // What cannot be read is not passed on: they get the state.
            let update: Settled = serde_json::from_str(json).ok()?;
            let shown = sight.update(&self.charter.fields, &update);
            if let Some(blank) = Blank::of(&shown) {
                let all = quiet.take().map_or(blank, |before| before.and(blank));
                let has_beside = sight.beside(&self.charter.fields, &update, viewer).is_some();
                quiet = Some(all).filter(|_| !has_beside);
                missed.extend(has_beside.then(|| all.told().update));
            } else {
                missed.extend(quiet.take().map(|blank| blank.told().update));
                missed.push(encoded(&shown, &update, json));
            }
        }
        missed.extend(quiet.map(|blank| blank.told().update));
        Some(missed.iter().map(|json| raw(json)).collect())
    }

    /// What missed updates also did for somebody alone.
    fn besides_after(
        &self,
        audience: usize,
        viewer: &Viewer,
        seq: u64,
        recent: &Recent,
    ) -> Vec<PrivatePatch> {
        if !self.has_secrets(audience) {
            return Vec::new();
        }
        let sight = self.sight(audience);
        let beside = |json: &Arc<str>| {
            let update: Settled = serde_json::from_str(json).ok()?;
            sight.beside(&self.charter.fields, &update, viewer)
        };
        recent.after(seq).into_iter().flatten().filter_map(beside).collect()
    }

    fn updates_after(
        &self,
        audience: usize,
        seq: u64,
        recent: &Recent,
    ) -> Option<Vec<Arc<RawValue>>> {
        let sight = self.sight(audience);
        Some(recent.after(seq)?.map(|json| raw(&seen(sight, &self.charter, json))).collect())
    }

    /// Where one begins who follows by events, after what they have or with the state.
    pub(crate) fn begin(
        &mut self,
        (audience, viewer): (usize, &Viewer),
        seq: u64,
        has_state: bool,
        state: &State,
    ) -> Shown<Content> {
        let state = (!has_state).then(|| match self.has_secrets(audience) {
            true => self.lens(audience, Some((viewer, state))).plain().to_string().into(),
            false => self.present_state(audience, seq, state),
        });
        Shown(Content::Begin { audience, seq, state })
    }

    /// Patches are made from this state on, if they are not already.
    pub(crate) fn follow(&mut self, audience: usize, state: State) {
        if let Some(of) = self.all.get_mut(audience) {
            of.followed.get_or_insert(state);
        }
    }

    /// Nobody of an audience follows by patches any more.
    pub(crate) fn stop_following(&mut self, audience: usize) {
        if let Some(of) = self.all.get_mut(audience) {
            of.followed = None;
        }
    }

    pub(crate) fn is_followed(&self, audience: usize) -> bool {
        self.all.get(audience).is_some_and(|of| of.followed.is_some())
    }

    /// A run of updates, and what followers by events that see more of them get instead of some. Says
    /// why there are no patches, if there are none.
    pub(crate) fn updates(
        &mut self,
        audience: usize,
        updates: &[Stored],
        theirs: &[Vec<Theirs>],
    ) -> (Vec<Stretch>, Instead, Option<String>) {
        let charter = self.charter.clone();
        let sight = self.sight(audience).clone();
        let followed = self.all.get_mut(audience).and_then(|of| of.followed.as_mut());
        let mut own_patches = Vec::new();
        let patches: Result<Vec<_>, String> = match followed {
            None => Ok(Vec::new()),
            Some(state) => {
                let mut patch_of = |(at, (update, _)): (usize, &Stored)| {
                    let theirs = theirs.get(at).map(Vec::as_slice).unwrap_or_default();
                    let viewers: Vec<&Viewer> = following(theirs).map(|one| &one.viewer).collect();
                    let (all, own) = patch(state, &charter, &sight, update, &viewers)?;
                    own_patches.push(own);
                    Ok(all)
                };
                updates.iter().enumerate().map(&mut patch_of).collect()
            }
        };
        // Without its patch a follower is ended, and reconnects for the state.
        let (patches, why) = patches.map_or_else(|why| (vec![], Some(why)), |all| (all, None));
        let mut patches = patches.into_iter();
        let mut stretches = Stretches::default();
        for (update, json) in updates {
            let patch = patches.next();
            let json = match sight.shows_all(&charter.fields, update) {
                true => json.clone(),
                false => {
                    let shown = sight.update(&charter.fields, update);
                    if let Some(blank) = Blank::of(&shown) {
                        stretches.push_blank(blank);
                        continue;
                    }
                    encoded(&shown, update, json)
                }
            };
            stretches.push_shown(ShownUpdate { seq: update.seq, update: json, patch });
        }
        let mut instead = Vec::new();
        for (at, theirs) in theirs.iter().enumerate() {
            let Some((update, _)) = updates.get(at).filter(|_| following(theirs).next().is_some())
            else {
                continue;
            };
            let open = sight.update(&charter.fields, update);
            for (one, Theirs { beside, followers, .. }) in following(theirs).enumerate() {
                let whole = serde_json::to_string(&beside.joined(&open)).unwrap_or_default();
                let patch = own_patches.get(at).and_then(|own| own.get(one)).cloned();
                let content = Content::Instead { seq: update.seq, update: whole.into(), patch };
                instead.push((followers.clone(), Shown(content)));
            }
        }
        (stretches.0, instead, why)
    }

    /// Notes updates of which an audience sees no part, to report them later, all at once. Gives all
    /// that have not been reported.
    pub(crate) fn keep_quiet(&mut self, audience: usize, blank: Blank) -> Blank {
        let Some(of) = self.all.get_mut(audience) else { return blank };
        *of.quiet.insert(of.quiet.map_or(blank, |before| before.and(blank)))
    }

    /// What an audience is sent next, preceded by the updates of which it sees no part.
    pub(crate) fn entries(
        &mut self,
        audience: usize,
        mut entries: Vec<ShownUpdate>,
    ) -> Shown<Content> {
        let of = self.all.get_mut(audience);
        if let Some(quiet) = of.and_then(|of| of.quiet.take()) {
            entries.insert(0, quiet.told());
        }
        Shown(Content::Updates(entries))
    }

    /// What was not told yet, up to an update that one is shown something of.
    pub(crate) fn blank(&self, quiet: Blank, seq: u64) -> Shown<Content> {
        Shown(Content::Updates(vec![quiet.up_to(seq).told()]))
    }

    /// Whether there are updates that were not reported to an audience.
    pub(crate) fn is_quiet(&self, audience: usize) -> bool {
        self.all.get(audience).is_some_and(|of| of.quiet.is_some())
    }

    /// An audience has no members. The next member gets a state that includes everything.
    pub(crate) fn forget_quiet(&mut self, audience: usize) {
        if let Some(of) = self.all.get_mut(audience) {
            of.quiet = None;
        }
    }

    /// What an update did for somebody alone, as a frame.
    pub(crate) fn beside(&self, theirs: &Theirs) -> Shown<Content> {
        let frame = FromService::PrivatePatch(theirs.beside.clone());
        Shown(Content::Frame(frame.encode().into()))
    }

    /// The whole state, for a replica that differs.
    pub(crate) fn resync(
        &mut self,
        (audience, viewer): (usize, &Viewer),
        seq: u64,
        state: &State,
    ) -> Shown<Content> {
        let yours = self.yours(audience, viewer, state);
        let state = raw(&self.present_state(audience, seq, state));
        let reason = "The replica's digest differed from the service's.".to_owned();
        Shown(Content::Frame(tagged("resync", &Resync { seq, state, yours, reason }).into()))
    }

    /// What changed in presence; nothing where all of that is hidden, so that nobody learns that
    /// something hidden moves.
    pub(crate) fn presence(
        &mut self,
        audience: usize,
        presence: &Presence,
        changed: &BTreeMap<Teller, BTreeSet<String>>,
    ) -> Option<Shown<Content>> {
        let charter = self.charter.clone();
        let known = self.all.get_mut(audience)?;
        if known.roster == RosterSight::Nothing {
            return None;
        }
        let mut of = Told::new();
        for (teller, names) in changed {
            let facts = presence.facts(&charter, &known.sight, teller);
            if !known.sight.is_whole() {
                let shown: BTreeSet<String> =
                    facts.iter().flat_map(Facts::keys).map(|name| name.to_owned()).collect();
                let is_told = names.iter().any(|name| shown.contains(name));
                let before = match facts {
                    Some(_) => known.told.insert(teller.clone(), shown),
                    None => known.told.remove(teller),
                };
                let was_told = before.is_some_and(|before| !names.is_disjoint(&before));
                if !is_told && !was_told {
                    continue;
                }
            }
            of.entry(teller.0.clone()).or_default().insert(teller.1, facts);
        }
        (!of.is_empty()).then_some(Shown(Content::Presence(of)))
    }

    /// The current presence, for a connection that knew these tellers before.
    pub(crate) fn presence_again(
        &mut self,
        audience: usize,
        presence: &Presence,
        before: &BTreeSet<Teller>,
    ) -> Shown<Content> {
        let mut of = Told::new();
        for (who, client) in before {
            of.entry(who.clone()).or_default().insert(*client, None);
        }
        for (who, facts) in self.present_facts(audience, presence) {
            let facts = facts.into_iter().map(|(client, facts)| (client, Some(facts)));
            of.entry(who).or_default().extend(facts);
        }
        Shown(Content::Presence(of))
    }

    /// Those who tell something that an audience is shown.
    pub(crate) fn tellers(&self, audience: usize, presence: &Presence) -> BTreeSet<Teller> {
        let is_shown = |teller: &&Teller| {
            presence.facts(&self.charter, self.sight(audience), teller).is_some()
        };
        presence.tellers().filter(is_shown).cloned().collect()
    }

    /// The current presence, for a connection that arrives.
    pub(crate) fn present_facts(
        &mut self,
        audience: usize,
        presence: &Presence,
    ) -> BTreeMap<String, BTreeMap<Uuid, Facts>> {
        let mut all = BTreeMap::<_, BTreeMap<_, _>>::new();
        if self.roster_sight(audience) == RosterSight::Nothing {
            return all;
        }
        for teller in presence.tellers() {
            if let Some(facts) = presence.facts(&self.charter, self.sight(audience), teller) {
                let divided = self.all.get_mut(audience).filter(|known| !known.sight.is_whole());
                if let Some(known) = divided {
                    let shown = facts.keys().cloned();
                    known.told.entry(teller.clone()).or_default().extend(shown);
                }
                all.entry(teller.0.clone()).or_default().insert(teller.1, facts);
            }
        }
        all
    }

    /// Those of some holds that an audience sees.
    fn holds(&self, audience: usize, holds: Vec<Hold>) -> Vec<Hold> {
        holds.into_iter().filter(|hold| self.sees(audience, &hold.at)).collect()
    }

    /// Any other frame; `None` if no part of it is shown.
    pub(crate) fn word(
        &self,
        audience: usize,
        eye: Option<Eye<'_>>,
        word: Word,
    ) -> Option<Shown<Content>> {
        let problem = |problem| self.lens(audience, eye).problem(problem);
        let frame = match word {
            Word::Refused(Refused { n, problem: why }) => {
                FromService::Refused(Refused { n, problem: problem(why) })
            }
            Word::Outcome(frame) => FromService::Outcome(self.outcome(audience, eye, frame)),
            Word::Answer(AnswerFrame { n, problem: why }) => {
                FromService::Answer(AnswerFrame { n, problem: why.map(problem) })
            }
            Word::Notice(Notice { problem: why }) => {
                FromService::Notice(Notice { problem: problem(why) })
            }
            Word::QueryRefused(QueryRefused { query, problem: why }) => {
                FromService::QueryRefused(QueryRefused { query, problem: problem(why) })
            }
            Word::Holds(change) => {
                let taken = self.holds(audience, change.taken);
                let freed = change.freed.into_iter().filter(|at| self.sees(audience, at));
                let change = HoldChange { taken, freed: freed.collect() };
                if change == HoldChange::default() {
                    return None;
                }
                FromService::Holds(change)
            }
            // None of these speaks of the state.
            Word::Waiting(frame) => FromService::Waiting(frame),
            Word::Roster(frame) => {
                let frame = match self.roster_sight(audience) {
                    RosterSight::Names => frame,
                    RosterSight::Count => Roster { count: frame.count, ..Roster::default() },
                    RosterSight::Nothing => Roster::default(),
                };
                FromService::Roster(Some(frame).filter(|frame| *frame != Roster::default())?)
            }
            Word::Cue(frame) => FromService::Cue(frame),
            Word::Status(frame) => FromService::Status(frame),
            Word::Digest(frame) => FromService::Digest(frame),
            // It was filtered for its recipient when it was made.
            Word::Undoable(frame) => FromService::Undoable(frame),
        };
        let json = frame.encode().into();
        let is_aside = matches!(frame, FromService::Answer(_) | FromService::Cue(_));
        Some(Shown(if is_aside { Content::Aside(json) } else { Content::Frame(json) }))
    }
}

/// An update of the journal as somebody is shown it. Cost O(its size) where something is hidden.
pub fn update_seen(charter: &Charter, reader: &Reader, json: &Arc<str>) -> Shown<Arc<str>> {
    Shown(seen_by(charter.sight(&reader.role), charter, &reader.viewer, json))
}

/// A state as each audience of its session is shown it. Cost O(size × audiences).
pub fn states_seen(charter: &Arc<Charter>, state: &State) -> Vec<Shown<Value>> {
    let audiences = Audiences::of(charter.clone());
    let of = |Audience { sight, .. }: &Audience| match *sight == Sight::NOTHING {
        true => Shown(sight.state(&charter.fields, Value::Null)),
        false => Shown(Lens::new(charter, sight, None, state).plain()),
    };
    audiences.all.iter().map(of).collect()
}

/// The digests of a state, for these viewers of its audiences. It reads the state itself instead of
/// the session's index of visibility. Cost O(size × audiences + what is the viewers').
pub fn digests(
    charter: &Arc<Charter>,
    state: &State,
    viewers: &BTreeSet<(usize, Viewer)>,
) -> StateDigests {
    let all = states_seen(charter, state).iter().map(|Shown(state)| digest(state)).collect();
    let mut audiences = Audiences::of(charter.clone());
    let yours = viewers.iter().filter_map(|(audience, viewer)| {
        let yours = audiences.yours(*audience, viewer, state);
        let digest = digest(&serde_json::to_value(&yours).unwrap_or_default());
        (!yours.is_empty()).then(|| ((*audience, viewer.clone()), digest))
    });
    StateDigests { all, yours: yours.collect() }
}

/// A stored update without what is hidden.
fn seen(sight: &Sight, charter: &Charter, json: &Arc<str>) -> Arc<str> {
    if sight.is_whole() {
        return json.clone();
    }
    // What cannot be read is not passed on: nobody could say what is in it.
    let Ok(update) = serde_json::from_str::<Settled>(json) else { return Arc::from("") };
    seen_update(sight, charter, &update, json)
}

/// A stored update with the places that one viewer sees.
fn seen_by(sight: &Sight, charter: &Charter, viewer: &Viewer, json: &Arc<str>) -> Arc<str> {
    let json = &told(json);
    let update = (!sight.secrets().is_empty()).then(|| serde_json::from_str::<Settled>(json).ok());
    let Some(update) = update.flatten() else { return seen(sight, charter, json) };
    match sight.beside(&charter.fields, &update, viewer) {
        None => seen_update(sight, charter, &update, json),
        Some(beside) => {
            let whole = beside.joined(&sight.update(&charter.fields, &update));
            serde_json::to_string(&whole).unwrap_or_default().into()
        }
    }
}

fn seen_update(sight: &Sight, charter: &Charter, update: &Settled, json: &Arc<str>) -> Arc<str> {
    encoded(&sight.update(&charter.fields, update), update, json)
}

/// What is shown of an update, given the JSON of all of it.
fn encoded(shown: &Settled, update: &Settled, json: &Arc<str>) -> Arc<str> {
    if shown == update {
        // Nothing of it was taken out.
        json.clone()
    } else {
        serde_json::to_string(shown).unwrap_or_default().into()
    }
}

/// Those who follow by events.
fn following(theirs: &[Theirs]) -> impl Iterator<Item = &Theirs> {
    theirs.iter().filter(|one| !one.followers.is_empty())
}

fn patch(
    state: &mut State,
    charter: &Charter,
    sight: &Sight,
    update: &Settled,
    viewers: &[&Viewer],
) -> Result<(String, Vec<String>), String> {
    let patches = state.patches(&charter.fields, update, sight, viewers);
    let (all, theirs) = patches.map_err(|misfit| misfit.to_string())?;
    let text = |ops| serde_json::to_string(ops).map_err(|error| error.to_string());
    Ok((text(&all)?, theirs.iter().map(text).collect::<Result<_, _>>()?))
}

fn raw(json: &str) -> Arc<RawValue> {
    // The text was serialised from a value a moment ago, so it is JSON.
    RawValue::from_string(json.to_owned()).unwrap_or_default().into()
}

/// A frame whose body has parts that are JSON text already.
fn tagged<T: Serialize>(name: &'static str, body: &T) -> String {
    #[derive(Serialize)]
    struct Tagged<'b, T> {
        r#type: &'static str,
        #[serde(flatten)]
        body: &'b T,
    }
    serde_json::to_string(&Tagged { r#type: name, body }).unwrap_or_default()
}
