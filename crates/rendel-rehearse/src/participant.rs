//! Somebody who takes part: a replica, and whims.

use std::collections::{BTreeMap, BTreeSet};

use rendel_client::{Change, Replica};
use rendel_core::{Actor, Asked, Edit, Facts, Path};
use rendel_wire::{FromParticipant, FromService, Release, SendCue, TakeHold};
use serde_json::{Value, json};
use sha2::{Digest as _, Sha256};
use uuid::Uuid;

use crate::chance::Chance;

/// What nobody but a steward may see begins with this.
pub(crate) const HIDDEN: &str = "hidden-";
/// What only some may see begins with this.
pub(crate) const OWN: &str = "theirs-";

/// What became of a proposal, as its proposer was told.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Heard {
    Settled(u64),
    Refused,
    Moot,
}

/// As what somebody takes part.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Part {
    pub(crate) role: String,
    pub(crate) claims: BTreeMap<String, Value>,
}

impl Part {
    pub(crate) fn new(role: &str) -> Self {
        Self { role: role.to_owned(), claims: BTreeMap::new() }
    }

    /// Any role, in one of two teams or in none.
    pub(crate) fn any(roles: &[&str], chance: &mut Chance) -> Self {
        let role = roles[chance.below(roles.len())];
        let team = ["early", "late"].get(chance.below(3));
        let claims = team.map(|team| ("team".to_owned(), Value::from(*team)));
        Self { role: role.to_owned(), claims: claims.into_iter().collect() }
    }

    pub(crate) fn actor(&self, id: &str, client: Uuid) -> Actor {
        Actor::new(id, self.role.clone(), client).with_claims(self.claims.clone())
    }
}

/// One tab of somebody.
#[derive(Debug)]
pub(crate) struct Participant {
    pub(crate) id: String,
    pub(crate) part: Part,
    /// As what their last welcome was for.
    pub(crate) shown_as: Part,
    /// The backend has said as what they take part.
    pub(crate) is_amended: bool,
    pub(crate) replica: Replica,
    pub(crate) link: Option<Link>,
    /// They do not come back.
    pub(crate) has_gone: bool,
    /// Proposals without an outcome, and the outcomes of the others.
    pub(crate) open: BTreeSet<u64>,
    pub(crate) heard: BTreeMap<u64, Heard>,
    /// Acts that were answered over this connection.
    answered: BTreeSet<u64>,
    acts: u64,
    said: u64,
    /// What they wrote that only some may see: they may be told of it.
    pub(crate) secrets: String,
    /// What they were told of updates that come next.
    pub(crate) told: String,
}

/// A connection, from one side.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Link {
    pub(crate) id: u64,
    pub(crate) host: usize,
    /// Frames go there once the service has let it in.
    pub(crate) is_in: bool,
}

/// What somebody does next.
#[derive(Debug)]
pub(crate) enum Whim {
    /// Sends these.
    Send(Vec<FromParticipant>),
    /// Leaves, to come back.
    Leave,
    /// Nothing.
    Rest,
}

impl Participant {
    pub(crate) fn new(id: String, role: &str, client: Uuid) -> Self {
        let mut replica = Replica::new(client);
        for name in ["drafts", "cards", "held", "secrets"] {
            replica.follow_query(Asked { name: Some(name.to_owned()), ..Asked::default() });
        }
        let path = Path::parse("/title").ok();
        replica.follow_query(Asked { path, ..Asked::default() });
        Self {
            id,
            part: Part::new(role),
            shown_as: Part::new(role),
            is_amended: false,
            replica,
            link: None,
            has_gone: false,
            open: BTreeSet::new(),
            heard: BTreeMap::new(),
            answered: BTreeSet::new(),
            acts: 0,
            said: 0,
            secrets: String::new(),
            told: String::new(),
        }
    }

    /// A connection begins.
    pub(crate) fn handle_connected(&mut self, link: Link) {
        self.link = Some(link);
        self.answered.clear();
    }

    /// Takes in a frame; gives what goes out for it. Says what is wrong, if something is.
    pub(crate) fn handle(&mut self, frame: FromService) -> Result<Vec<FromParticipant>, String> {
        if let FromService::Answer(answer) = &frame
            && !self.answered.insert(answer.n)
        {
            return Err(format!("act {} of {} was answered twice", answer.n, self.id));
        }
        let is_welcome = matches!(frame, FromService::Welcome(_));
        for change in self.replica.handle(frame) {
            self.note(change)?;
        }
        while let Some(change) = self.replica.poll_refused() {
            self.note(change)?;
        }
        let mut outgoing = Vec::new();
        if is_welcome {
            if let Some(link) = &mut self.link {
                link.is_in = true;
            }
            while self.replica.poll_outgoing().is_some() {}
            outgoing.extend(self.replica.unanswered().cloned().map(FromParticipant::Propose));
            outgoing.extend(self.replica.followed_queries());
        }
        outgoing.extend(std::iter::from_fn(|| self.replica.poll_outgoing()));
        Ok(outgoing)
    }

    fn note(&mut self, change: Change) -> Result<(), String> {
        let (n, heard) = match change {
            Change::Settled(update) if self.replica.is_own(&update) => {
                (update.n, Heard::Settled(update.seq))
            }
            Change::SettledAway { n, seq } => (n, Heard::Settled(seq)),
            Change::Refused { n, .. } => (n, Heard::Refused),
            Change::Moot { n } => (n, Heard::Moot),
            Change::MadeAnew { was, n } => {
                if self.open.remove(&was) {
                    self.open.insert(n);
                }
                return Ok(());
            }
            Change::Diverged(why) => {
                return Err(format!("the replica of {} diverged: {why}", self.id));
            }
            _ => return Ok(()),
        };
        if n == 0 {
            return Ok(());
        }
        self.open.remove(&n);
        match self.heard.insert(n, heard) {
            Some(before) if before != heard => {
                Err(format!("proposal {n} of {} came to {before:?} and then to {heard:?}", self.id))
            }
            _ => Ok(()),
        }
    }

    /// What they do next.
    pub(crate) fn whim(&mut self, chance: &mut Chance) -> Whim {
        let what = chance.within(0..100);
        if !(2..85).contains(&what) {
            return if what < 2 { Whim::Leave } else { Whim::Rest };
        }
        let view = self.replica.view().unwrap_or_default();
        match what {
            // Before the welcome a connection keeps such words to itself.
            2..=15 if self.link.is_none_or(|link| !link.is_in) => Whim::Rest,
            2..=9 => Whim::Send(vec![self.presence(&view, chance)]),
            10..=15 => Whim::Send(vec![self.act(&view, chance)]),
            _ => {
                let count = if chance.one_in(5) { 2 } else { 1 };
                let mut edits: Vec<Edit> = (0..count)
                    .map(|_| match chance.one_in(3) {
                        true => secret_edit(&view, chance),
                        false => edit(&view, chance),
                    })
                    .collect();
                if chance.one_in(6) {
                    let way = if chance.one_in(3) { "redo" } else { "undo" };
                    edits = vec![Edit::new("", way).with("skip", chance.one_in(2))];
                }
                // What a value was between two edits of one proposal is in no state to compare with.
                edits.dedup_by(|later, earlier| later.op == "set" && later.at == earlier.at);
                let written = edits.iter().map(|edit| json!(edit).to_string());
                self.secrets.extend(written.filter(|text| text.contains(OWN)));
                let gesture = chance.one_in(3).then(|| "a drag".to_owned());
                if let Some(n) = self.replica.propose(edits, gesture, None) {
                    self.open.insert(n);
                }
                Whim::Send(std::iter::from_fn(|| self.replica.poll_outgoing()).collect())
            }
        }
    }

    fn presence(&mut self, view: &Value, chance: &mut Chance) -> FromParticipant {
        self.said += 1;
        let len = length(view);
        let (name, value) = match chance.below(4) {
            0 => ("pointer", json!({ "x": self.said, "y": 1 })),
            1 => ("caret", json!({ "at": "/notes", "index": chance.below(len + 1) })),
            2 => ("typing", json!(true)),
            _ => ("pointer", Value::Null),
        };
        let facts = Facts::from_iter([(name.to_owned(), value)]);
        FromParticipant::Presence(self.replica.say(facts))
    }

    fn act(&mut self, view: &Value, chance: &mut Chance) -> FromParticipant {
        self.acts += 1;
        let n = self.acts;
        let at = match record(view, chance) {
            Some(id) => format!("/markers/{id}"),
            None => "/title".to_owned(),
        };
        match chance.below(4) {
            0 | 1 => {
                let over = self.part.role == "steward" && chance.one_in(3);
                let for_ms = Some(1_000 + chance.within(0..9_000));
                FromParticipant::Hold(TakeHold { n, at, for_ms, over })
            }
            2 => FromParticipant::Release(Release { n, at }),
            _ => FromParticipant::Cue(SendCue { n, name: "bell".to_owned(), data: None, to: None }),
        }
    }
}

fn length(view: &Value) -> usize {
    view["notes"].as_str().map_or(0, |text| text.chars().count())
}

fn record(view: &Value, chance: &mut Chance) -> Option<String> {
    let ids: Vec<&String> = view["markers"].as_object().map(|of| of.keys().collect())?;
    chance.pick(&ids).map(|id| (*id).clone())
}

/// An edit of what only some see, or of who does.
fn secret_edit(view: &Value, chance: &mut Chance) -> Edit {
    let word = format!("{OWN}{}", chance.within(0..100_000));
    let who = ["p0", "p1", "p3", "follows-as-picker"][chance.below(4)];
    let of = |name: &str, chance: &mut Chance| {
        let ids: Vec<&String> =
            view[name].as_object().map(|of| of.keys().collect()).unwrap_or_default();
        chance.pick(&ids).map_or_else(|| format!("/{name}/x0"), |id| format!("/{name}/{id}"))
    };
    let (card, draft) = (of("cards", chance), of("drafts", chance));
    let id = format!("x{}", chance.below(6));
    let seat = ["west", "east", "north"][chance.below(3)];
    let team = ["early", "late"][chance.below(2)];
    // What a seat adds to a draw is one of two, so that some reveal what they did not commit to.
    let added = ["01", "02"][chance.below(2)].repeat(32);
    match chance.below(38) {
        34 | 35 => {
            let time = ["200ms", "1s", "4s"][chance.below(3)];
            Edit::new("/closing", "set").with("in", time)
        }
        36 => Edit::new("/closing", "extend").with("by", "1s"),
        37 => Edit::new("/closing", "cancel"),
        29 | 30 => {
            let hash = Sha256::digest(hex::decode(&added).unwrap_or_default());
            Edit::new("/bag", "commit").with("sha256", hex::encode(hash))
        }
        31 | 32 => Edit::new("/bag", "reveal").with("value", added),
        33 => Edit::new("/bag", "waive").with("seat", seat),
        27 | 28 => Edit::new(format!("{card}/team"), "set").with("value", team),
        13 | 14 => Edit::new("/seats", "sit").with("seat", seat),
        15 => Edit::new("/seats", "stand"),
        16 => Edit::new("/seats", "offer").with("to", who),
        17 => Edit::new("/seats", "accept"),
        18 => Edit::new("/turn", if chance.one_in(3) { "reverse" } else { "advance" }),
        19 => Edit::new("/bag", "roll").with("sides", 6).with("count", 2),
        20 => Edit::new("/bag", "shuffle").with("of", "/cards").with("field", "rank"),
        22 | 23 => {
            let choice = ["dry", "mellow", "sweet"][chance.below(3)];
            Edit::new("/blend", "cast").with("choices", json!([choice]))
        }
        24 => Edit::new("/blend", "withdraw"),
        25 => Edit::new("/blend", if chance.one_in(2) { "unseal" } else { "restart" }),
        26 => Edit::new("/seats", "give").with("seat", seat).with("to", who),
        21 => Edit::new(format!("{card}/place"), "set").with("value", seat),
        0 | 1 => Edit::new("/cards", "put")
            .with("id", id)
            .with("value", json!({ "face": word, "holder": who, "open": chance.one_in(4), "team": chance.one_in(3).then_some(team), "rank": chance.below(9) })),
        2 | 3 => Edit::new(format!("{card}/holder"), "set").with("value", who),
        4 => Edit::new(format!("{card}/open"), "set").with("value", chance.one_in(2)),
        5 => Edit::new(format!("{card}/face"), "set").with("value", word),
        6 => Edit::new(card, "drop"),
        7 | 8 => Edit::new("/drafts", "put")
            .with("id", id)
            .with("value", json!({ "text": word, "editors": [who] })),
        9 => Edit::new(format!("{draft}/editors"), "include").with("value", who),
        10 => Edit::new(format!("{draft}/editors"), "exclude").with("value", who),
        11 => Edit::new(draft, "drop"),
        _ => Edit::new(format!("{draft}/text"), "splice")
            .with("index", 0)
            .with("insert", format!("{word} ")),
    }
}

fn edit(view: &Value, chance: &mut Chance) -> Edit {
    let word = ["ladder", "crates", "press", "dry", "sweet"][chance.below(5)];
    let any = chance.within(0..1_000);
    let record = record(view, chance).unwrap_or_else(|| "m0".to_owned());
    match chance.below(16) {
        0 => Edit::new("/heads", "add").with("by", any.cast_signed() % 7 - 3),
        1 => Edit::new("/title", "set").with("value", word),
        2 => Edit::new("/best", "set").with("value", any),
        3 => Edit::new("/names", "set").with("value", word),
        4 => Edit::new("/rows", "include").with("value", any % 8),
        5 => Edit::new("/rows", "exclude").with("value", any % 8),
        6 => {
            let id = format!("m{}", any % 12);
            Edit::new("/markers", "put").with("id", id).with("value", json!({ "what": word }))
        }
        7 => Edit::new(format!("/markers/{record}"), "drop"),
        8 => Edit::new(format!("/markers/{record}/what"), "set").with("value", word),
        9 => Edit::new(format!("/markers/{record}/secret"), "set")
            .with("value", format!("{HIDDEN}{any}")),
        10 => Edit::new("/ledger", "set").with("value", format!("{HIDDEN}{any}")),
        11 => Edit::new("/gated", "set").with("value", word),
        12 => Edit::new("/steps", "insert").with("value", word).with("index", 0),
        13 => {
            let steps = view["steps"].as_array().into_iter().flatten();
            let ids: Vec<&str> = steps.filter_map(|step| step["id"].as_str()).collect();
            let at = format!("/steps/{}", chance.pick(&ids).unwrap_or(&"none"));
            match chance.below(2) {
                0 => Edit::new(at, "remove"),
                _ => Edit::new(at, "move").with("after", Value::Null),
            }
        }
        _ => {
            let len = length(view);
            let index = chance.below(len + 1);
            let delete = chance.below(4).min(len - index);
            let insert = if delete == 0 || chance.one_in(2) { word } else { "" };
            Edit::new("/notes", "splice")
                .with("index", index)
                .with("delete", delete)
                .with("insert", insert)
        }
    }
}
