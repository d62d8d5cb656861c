//! A small made-up crowd that takes part in the demo: it moves pointers, drags markers, types,
//! holds, calls and picks.
//!
//! Each member has a seed of its own that follows from the crowd's: the same seed, the same moves.

use std::time::Duration;

use anyhow::Result;
use rand::rngs::StdRng;
use rand::{Rng as _, SeedableRng as _};
use rendel_client::{Connection, Encoding, Target};
use rendel_core::{Edit, Facts};
use rendel_wire::http::{IssueToken, TokenAnswer};
use serde_json::{Value, json};
use tokio::time::Instant;

use crate::api::Api;

/// Who takes part where.
const PARTS: [(&str, &str, &str); 22] = [
    ("slope-plan", "Mirela", "picker"),
    ("slope-plan", "Tobin", "picker"),
    ("slope-plan", "Anouk", "steward"),
    ("slope-plan", "Ishaan", "picker"),
    ("slope-plan", "Wren", "viewer"),
    ("pressing-sheet", "Keziah", "cellar"),
    ("pressing-sheet", "Bram", "taster"),
    ("pressing-sheet", "Paloma", "taster"),
    ("picking-board", "Lucjan", "picker"),
    ("picking-board", "Oda", "picker"),
    ("headcount", "Bram", "participant"),
    ("windfall", "Wren", "player"),
    ("last-barrel", "Keziah", "steward"),
    ("last-barrel", "Tobin", "bidder"),
    ("last-barrel", "Oda", "bidder"),
    ("last-barrel", "Lucjan", "bidder"),
    ("blend-vote", "Keziah", "steward"),
    ("blend-vote", "Mirela", "voter"),
    ("blend-vote", "Anouk", "voter"),
    ("blend-vote", "Ishaan", "voter"),
    ("blend-vote", "Lucjan", "voter"),
    ("blend-vote", "Paloma", "voter"),
];

/// What is typed, remarked and noted.
const WORDS: [&str; 8] = [
    "Row 3 is done. ",
    "More crates at the gate. ",
    "The russets are sweet. ",
    "Mind the wasps. ",
    "Ladder moved uphill. ",
    "Lunch at noon. ",
    "Dry rows next. ",
    "One crate is darn heavy. ",
];

/// Lets the crowd in. It goes on until the process ends.
pub(crate) async fn start(api: &Api, server: &str, seed: u64) -> Result<()> {
    for (at, (session, name, role)) in PARTS.iter().enumerate() {
        let asked = IssueToken {
            session: (*session).to_owned(),
            sub: name.to_lowercase(),
            name: Some((*name).to_owned()),
            role: (*role).to_owned(),
            expires_in: Some(30 * 24 * 3_600),
            seat: None,
        };
        let token = api.post_json::<TokenAnswer>("/tokens", &asked).await?.token;
        let (server, session) = (server.to_owned(), (*session).to_owned());
        let target = Target { server, session, token, encoding: Encoding::Cbor };
        let random = StdRng::seed_from_u64(seed.wrapping_mul(1_000).wrapping_add(at as u64));
        let connection = Connection::new(target, uuid::Uuid::now_v7());
        tokio::spawn(
            Member { connection, random, at: (60.0, 40.0), to: (60.0, 40.0), drags: None, beat: 0 }
                .live(role),
        );
    }
    Ok(())
}

struct Member {
    connection: Connection,
    random: StdRng,
    /// Where its pointer is and where it goes, in metres.
    at: (f64, f64),
    to: (f64, f64),
    /// The marker that it drags, with the name of the gesture.
    drags: Option<String>,
    beat: u64,
}

impl Member {
    async fn live(mut self, role: &'static str) {
        let mut next = Instant::now();
        loop {
            tokio::select! {
                event = self.connection.next() => {
                    // Who is let go of for good stays away.
                    if event.is_err() {
                        return;
                    }
                }
                () = tokio::time::sleep_until(next), if self.connection.is_connected() => {
                    next = Instant::now() + self.act(role).await;
                }
            }
        }
    }

    /// Does something, and says when it does the next thing.
    async fn act(&mut self, role: &str) -> Duration {
        self.beat += 1;
        let session = self
            .connection
            .replica()
            .session()
            .map(|session| session.charter.clone())
            .unwrap_or_default();
        match session.as_str() {
            "slope-plan" => self.on_the_slope(role).await,
            "pressing-sheet" => self.at_the_press().await,
            "picking-board" => self.at_the_board().await,
            "windfall" => self.at_the_baskets().await,
            "blend-vote" => self.at_the_ballot(role).await,
            "last-barrel" => self.at_the_barrel(role).await,
            _ => {
                self.connection.propose(vec![Edit::new("/heads", "add").with("by", 1)]).await;
                Duration::from_millis(self.random.random_range(4_000..9_000))
            }
        }
    }

    fn view(&self, pointer: &str) -> Value {
        self.connection
            .replica()
            .view()
            .and_then(|view| view.pointer(pointer).cloned())
            .unwrap_or_default()
    }

    fn pick(&mut self, pointer: &str) -> Option<String> {
        let ids: Vec<String> = self.view(pointer).as_object()?.keys().cloned().collect();
        (!ids.is_empty()).then(|| ids[self.random.random_range(0..ids.len())].clone())
    }

    async fn on_the_slope(&mut self, role: &str) -> Duration {
        let (dx, dy) = (self.to.0 - self.at.0, self.to.1 - self.at.1);
        if dx.hypot(dy) < 1.5 {
            self.arrive_on_the_slope(role).await;
        } else {
            let step = (dx.hypot(dy) / 12.0).clamp(0.5, 3.0) / dx.hypot(dy);
            self.at = (self.at.0 + dx * step, self.at.1 + dy * step);
        }
        let spot = json!({ "x": rounded(self.at.0), "y": rounded(self.at.1) });
        self.connection.say(facts(json!({ "pointer": spot })));
        if let Some(marker) = self.drags.clone().filter(|_| self.beat.is_multiple_of(3)) {
            self.connection
                .propose(vec![
                    Edit::new(format!("/markers/{marker}/spot"), "set").with("value", spot),
                ])
                .await;
        }
        Duration::from_millis(60)
    }

    async fn arrive_on_the_slope(&mut self, role: &str) {
        self.connection.say(facts(json!({ "caret": null })));
        self.to = (self.random.random_range(4.0..116.0), self.random.random_range(4.0..76.0));
        if let Some(marker) = self.drags.take() {
            self.connection.release(&format!("/markers/{marker}")).await;
            self.connection.say(facts(json!({ "selection": null })));
            return;
        }
        match self.random.random_range(0..6) {
            0..=2 if role != "viewer" => {
                if let Some(marker) = self.pick("/markers") {
                    self.connection
                        .hold(&format!("/markers/{marker}"), Some(Duration::from_secs(20)))
                        .await;
                    self.connection.say(facts(json!({ "selection": [marker] })));
                    self.drags = Some(marker);
                }
            }
            3 if role != "viewer" => self.type_into("/notes", 160).await,
            4 => drop(self.connection.cue("wave", None, None).await),
            _ => {}
        }
    }

    async fn at_the_press(&mut self) -> Duration {
        let Some(pressing) = self.pick("/pressings") else { return Duration::from_secs(5) };
        let at = format!("/pressings/{pressing}/notes");
        self.connection.hold(&at, Some(Duration::from_secs(8))).await;
        self.connection.say(facts(json!({ "selection": [pressing], "editing": at })));
        self.type_into(&at, 120).await;
        Duration::from_millis(self.random.random_range(2_500..6_000))
    }

    async fn at_the_board(&mut self) -> Duration {
        match (self.random.random_range(0..4), self.pick("/pickers")) {
            (0, _) => {
                let says = WORDS[self.random.random_range(0..WORDS.len())].trim();
                let remark = Edit::new("/remarks", "insert").with("value", json!({ "says": says }));
                self.connection.propose(vec![remark.with("before", Value::Null)]).await;
            }
            (_, Some(picker)) => {
                let add = |at: String| Edit::new(at, "add").with("by", 1);
                let edits =
                    vec![add(format!("/pickers/{picker}/crates")), add("/crates".to_owned())];
                self.connection.propose(edits).await;
            }
            _ => {}
        }
        Duration::from_millis(self.random.random_range(1_500..4_000))
    }

    /// Sits on the east seat and waits for somebody to play with.
    async fn at_the_baskets(&mut self) -> Duration {
        let you = self.connection.replica().you().map(|you| you.id.clone()).unwrap_or_default();
        let (seats, bags) = (self.view("/seats/by"), self.view("/bags"));
        let wait = Duration::from_millis(self.random.random_range(1_500..3_500));
        if seats["east"].is_null() {
            let sit = Edit::new("/seats", "sit").with("seat", "east");
            self.connection.propose(vec![sit]).await;
        } else if seats["east"] != json!(you) {
            return wait;
        }
        let has_bag =
            bags.as_object().is_some_and(|bags| bags.values().any(|bag| bag["holder"] == "east"));
        if !has_bag {
            if let Some(bag) = self.pick("/bags").filter(|bag| bags[bag]["holder"].is_null()) {
                let draw = Edit::new(format!("/bags/{bag}/holder"), "set").with("value", "east");
                self.connection.propose(vec![draw]).await;
            }
            return wait;
        }
        if self.view("/turn/seat") == "east" && self.view("/left") != 0 {
            self.take_apples().await;
        }
        wait
    }

    async fn take_apples(&mut self) {
        let Some(basket) = self.pick("/baskets") else { return };
        let there = self.view(&format!("/baskets/{basket}/apples")).as_i64().unwrap_or(0);
        let apples = self.random.random_range(1..=3).min(there);
        if apples == 0 {
            return;
        }
        let last = self.view("/left") == apples;
        let take = json!({ "basket": basket, "apples": apples, "leaves": there - apples, "seat": "east", "last": last });
        let edits = vec![
            Edit::new(format!("/baskets/{basket}/apples"), "add").with("by", -apples),
            Edit::new("/takes", "insert").with("value", take),
        ];
        self.connection.propose(edits).await;
    }

    /// Casts, and changes its mind; the steward unseals after a while, and begins another round.
    async fn at_the_ballot(&mut self, role: &str) -> Duration {
        if role == "steward" {
            let op = if self.view("/blend/open") == true { "restart" } else { "unseal" };
            if self.beat > 1 {
                self.connection.propose(vec![Edit::new("/blend", op)]).await;
            }
            return Duration::from_secs(if op == "restart" { 90 } else { 30 });
        }
        if self.view("/blend/open") == false {
            let choice = ["dry", "mellow", "mellow", "sweet"][self.random.random_range(0..4)];
            let cast = Edit::new("/blend", "cast").with("choices", json!([choice]));
            self.connection.propose(vec![cast]).await;
        }
        let value = match self.random.random_range(0..12) {
            0 => json!("unsure"),
            1 => json!(27),
            half => json!(f64::from(half) / 2.0 + 10.0),
        };
        let cast = Edit::new("/sweetness", "cast").with("value", value);
        self.connection.propose(vec![cast]).await;
        Duration::from_millis(self.random.random_range(6_000..20_000))
    }

    /// Offers more than the leading offer, to a point; the steward brings the next barrel out a while
    /// after one was sold.
    async fn at_the_barrel(&mut self, role: &str) -> Duration {
        let is_open = self.view("/status") == "open";
        if role == "steward" {
            if !is_open && self.beat > 1 {
                self.next_barrel().await;
            }
            return Duration::from_secs(if is_open { 45 } else { 20 });
        }
        let leading = self.view("/leading");
        let amount = leading["amount"].as_u64().unwrap_or(30);
        let you = self.connection.replica().you().map(|you| you.id.clone()).unwrap_or_default();
        if is_open && amount < 150 && leading["bidder"] != json!(you) {
            let amount = amount + self.random.random_range(5..12);
            let put = Edit::new("/offers", "put").with("value", json!({ "amount": amount }));
            self.connection.propose(vec![put]).await;
        }
        Duration::from_millis(self.random.random_range(9_000..30_000))
    }

    async fn next_barrel(&mut self) {
        let offers = self.view("/offers");
        let drop = |id: &String| Edit::new(format!("/offers/{id}"), "drop");
        let mut edits: Vec<Edit> =
            offers.as_object().into_iter().flat_map(|offers| offers.keys()).map(drop).collect();
        let number = self.random.random_range(15..60);
        edits.extend([
            Edit::new("/lot", "set").with("value", format!("Barrel {number}, dry")),
            Edit::new("/leading", "clear"),
            Edit::new("/winner", "clear"),
            Edit::new("/status", "set").with("value", "open"),
            Edit::new("/closing", "set").with("in", "4m"),
        ]);
        self.connection.propose(edits).await;
    }

    /// Types something at the end of a text, which never grows beyond `most`.
    async fn type_into(&mut self, at: &str, most: usize) {
        let len = self.view(at).as_str().map_or(0, |text| text.chars().count());
        let words = WORDS[self.random.random_range(0..WORDS.len() - 1)];
        let delete = if len > most { words.chars().count().min(len) } else { 0 };
        let index = len - delete;
        let splice = Edit::new(at, "splice")
            .with("index", index)
            .with("delete", delete)
            .with("insert", words);
        self.connection.propose(vec![splice]).await;
        let caret = json!({ "at": at, "index": index + words.chars().count() });
        self.connection.say(facts(json!({ "caret": caret, "typing": true })));
    }
}

fn facts(value: Value) -> Facts {
    if let Value::Object(facts) = value { facts } else { Facts::new() }
}

/// To the centimetre.
fn rounded(metres: f64) -> f64 {
    (metres * 100.0).round() / 100.0
}
