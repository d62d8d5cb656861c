//! What sessions do by themselves, with the real service: in time, once, and whatever ends in
//! between.

use std::time::Duration;

use rand::rngs::StdRng;
use rand::{Rng as _, SeedableRng as _};
use rendel_client::{Change, Connection, Encoding, Event, Target};
use rendel_core::{Edit, Problem, ProblemKind};
use serde_json::{Value, json};
use thirtyfour::By;
use uuid::Uuid;

use crate::harness::{Browser, Does, Raw, Receiver, Service, name, seed, until};

const BARREL: &str = r#"
charter = "barrel"
version = 1
[limits]
proposals-per-second = 1000
[roles.steward]
edit = ["/**"]
[roles.bidder]
edit = ["/offers/**"]
[state.status]
kind    = "register"
initial = "open"
[state.leading]
kind = "register"
[state.offers]
kind = "map"
[state.offers.each.amount]
kind = "register"
[state.offers.each.bidder]
kind   = "register"
filled = "author"
[state.closing]
kind = "deadline"
[[when]]
name    = "lead"
changes = "/offers/*"
if      = "old == null && new != null"
do      = [{ at = "/leading", op = "set", from = { value = { amount = "new.amount", bidder = "new.bidder" } } }]
[[when]]
name     = "sell"
fires    = "/closing"
do       = [{ at = "/status", op = "set", value = "sold" }]
announce = "barrel.sold"
values   = { winner = "state.leading.bidder", amount = "state.leading.amount" }
[[guards]]
at   = "/leading"
rule = "old == null || new.amount >= old.amount + 5"
says = "An offer beats the leading one by 5 at least."
[[guards]]
at   = "/offers/*"
rule = "state.status == \"open\""
says = "The barrel is sold."
[announcements]
built-in = ["session.opened", "session.ended", "deadline.fired"]
"#;

/// Webhooks go to this machine, and come again soon.
pub(crate) const NEAR: [(&str, &str); 2] =
    [("RENDEL_WEBHOOKS_TO_PRIVATE_ADDRESSES", "true"), ("RENDEL_WEBHOOK_FIRST_WAIT_MS", "100")];

/// Somebody who offers until the barrel is sold.
struct Bidder {
    offered: usize,
    settled: Vec<u64>,
    refused: Vec<Problem>,
    /// What they see in the end.
    seen: Value,
}

/// Offers at least `least` times, until an offer is refused since the barrel is sold, and all is
/// answered.
async fn bid(target: Target, mut random: StdRng, least: usize) -> Bidder {
    let mut connection = Connection::new(target, Uuid::from_u128(random.random()));
    let mut bidder = Bidder { offered: 0, settled: vec![], refused: vec![], seen: Value::Null };
    loop {
        let view = connection.replica().view().unwrap_or_default();
        let is_open = view["status"] == "open" || bidder.offered < least;
        let waits = connection.replica().unanswered().count();
        if is_open && waits < 4 && connection.is_connected() {
            let leading = view["leading"]["amount"].as_u64().unwrap_or(10);
            let amount = leading + random.random_range(1..12);
            let put = Edit::new("/offers", "put").with("value", json!({ "amount": amount }));
            connection.propose(vec![put]).await;
            bidder.offered += 1;
        } else if !is_open
            && bidder.settled.len() + bidder.refused.len() == bidder.offered
            && let Some(seen) = connection.replica().confirmed()
        {
            bidder.seen = seen.clone();
            return bidder;
        }
        let next = tokio::time::timeout(Duration::from_millis(20), connection.next());
        let Ok(event) = next.await else { continue };
        match event.unwrap() {
            Event::Changed(Change::Settled(update))
                if update.client == connection.replica().client() =>
            {
                bidder.settled.push(update.seq);
            }
            Event::Changed(Change::SettledAway { seq, .. }) => bidder.settled.push(seq),
            Event::Changed(Change::Refused { problem, .. }) => bidder.refused.push(problem),
            Event::Changed(Change::Diverged(why) | Change::Repaired { reason: why, .. }) => {
                panic!("{why}")
            }
            _ => {}
        }
    }
}

fn target(service: &Service, token: String) -> Target {
    let session = "barrel".to_owned();
    Target { server: service.server.clone(), session, token, encoding: Encoding::Json }
}

/// The barrel was sold once, to who led, and everybody else was told why not to them.
async fn check_sold(service: &Service, receiver: &Receiver, bidders: &[Bidder]) {
    let journal = service.journal("barrel").await;
    let fires = |update: &&Value| {
        update["effects"]
            .as_array()
            .unwrap()
            .iter()
            .any(|effect| !effect["value"]["fired"].is_null())
    };
    let fired: Vec<&Value> = journal.iter().filter(fires).collect();
    assert_eq!(fired.len(), 1, "{fired:?}");
    let state = service.state("barrel").await;
    let (leading, closing) = (&state["leading"], &state["closing"]);
    assert!(closing["fired"].as_u64() >= closing["due"].as_u64(), "{closing}");
    let offers = state["offers"].as_object().unwrap();
    let highest = offers.values().map(|offer| offer["amount"].as_u64().unwrap()).max();
    assert_eq!(leading["amount"].as_u64(), highest);
    for bidder in bidders {
        assert_eq!(bidder.seen, state);
        for problem in &bidder.refused {
            let says = ["An offer beats the leading one by 5 at least.", "The barrel is sold."];
            // While one takes it from the other, nothing is settled, and that is said, too.
            let is_between = problem.kind() == ProblemKind::Unavailable;
            assert!(is_between || says.contains(&problem.detail()), "{problem}");
        }
    }
    let settled: usize = bidders.iter().map(|bidder| bidder.settled.len()).sum();
    assert_eq!(settled, offers.len(), "each settled offer is there, and no other");
    let seq = fired[0]["seq"].as_u64().unwrap();
    assert!(bidders.iter().flat_map(|bidder| &bidder.settled).all(|settled| *settled < seq));
    let sold = until("the barrel is announced", async || {
        let sold = receiver.events("barrel.sold");
        (!sold.is_empty()).then_some(sold)
    });
    let sold = sold.await;
    assert_eq!(sold.len(), 1);
    assert_eq!(
        sold[0]["data"]["values"],
        json!({ "winner": leading["bidder"], "amount": leading["amount"] })
    );
    let listed: Value =
        service.get("/v1/announcements?types=barrel.sold").await.json().await.unwrap();
    assert_eq!(listed["announcements"].as_array().unwrap().len(), 1);
    assert_eq!(listed["announcements"][0]["event"], sold[0]);
}

async fn close_in(service: &Service, time: &str) {
    let body = json!({ "edits": [{ "at": "/closing", "op": "set", "in": time }] });
    // Where another service has it, it comes back in a moment.
    until("the close is set", async || {
        let set = service.post("/v1/sessions/barrel/proposals", &body).await;
        (set.status() == 200).then_some(())
    })
    .await;
}

async fn webhook(service: &Service, body: Value) -> Value {
    let made = service.post("/v1/webhooks", &body).await;
    assert_eq!(made.status(), 201, "{}", made.text().await.unwrap());
    made.json().await.unwrap()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_barrel_is_sold_once_though_the_process_ends_among_the_last_offers() {
    let seed = seed();
    let mut service = Service::start_with(&NEAR).await;
    let receiver = Receiver::start(&[Does::Answers(500), Does::Answers(503)]);
    webhook(&service, json!({ "url": receiver.url, "types": ["barrel.sold"] })).await;
    service.publish(BARREL).await;
    service.open("barrel", json!({})).await;
    let mut bidders = Vec::new();
    for index in 0..20u64 {
        let token = service.token("barrel", &format!("b{index}"), "bidder").await;
        let random = StdRng::seed_from_u64(seed + index);
        bidders.push(tokio::spawn(bid(target(&service, token), random, 10)));
    }
    until("they offer", async || {
        let offers = service.state("barrel").await["offers"].as_object().unwrap().len();
        (offers > 10).then_some(())
    })
    .await;
    close_in(&service, "1s").await;
    tokio::time::sleep(Duration::from_millis(300)).await;
    service.kill();
    service.launch();
    let mut done = Vec::new();
    for bidder in bidders {
        done.push(bidder.await.unwrap());
    }
    let offered: usize = done.iter().map(|bidder| bidder.offered).sum();
    assert!(offered >= 200, "{offered}");
    check_sold(&service, &receiver, &done).await;
    until("it is taken", async || (receiver.calls().len() == 3).then_some(())).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn two_services_that_race_sell_a_barrel_once() {
    let seed = seed();
    let service = Service::start_with(&NEAR).await;
    let receiver = Receiver::start(&[Does::Answers(500), Does::Answers(500)]);
    webhook(&service, json!({ "url": receiver.url, "types": ["barrel.sold"] })).await;
    service.publish(BARREL).await;
    service.open("barrel", json!({})).await;
    let other = service.beside().await;
    let mut bidders = Vec::new();
    for index in 0..8u64 {
        let token = service.token("barrel", &format!("b{index}"), "bidder").await;
        let random = StdRng::seed_from_u64(seed + index);
        let at = if index % 2 == 0 { &service } else { &other };
        bidders.push(tokio::spawn(bid(target(at, token), random, 5)));
    }
    close_in(&service, "2s").await;
    // Both take it from each other about the time at which it is due.
    let both = [&service, &other];
    for turn in 0..40 {
        let at = both[turn % 2];
        let _ = at.get("/v1/sessions/barrel/state").await;
        tokio::time::sleep(Duration::from_millis(75)).await;
    }
    let mut done = Vec::new();
    for bidder in bidders {
        done.push(bidder.await.unwrap());
    }
    service.terminate_beside(other);
    until("the one that is left has it", async || {
        let state = service.get("/v1/sessions/barrel/state").await;
        (state.status() == 200).then_some(())
    })
    .await;
    check_sold(&service, &receiver, &done).await;
}

#[tokio::test]
async fn what_was_due_while_the_service_was_away_is_done_when_it_is_back_with_both_times() {
    let mut service = Service::start_with(&NEAR).await;
    service.publish(BARREL).await;
    service.open("barrel", json!({ "leading": { "amount": 40, "bidder": "oda" } })).await;
    close_in(&service, "300ms").await;
    service.kill();
    let due: u64 = service.sql("SELECT wakes FROM sessions WHERE id = 'barrel'").parse().unwrap();
    until("its time has passed", async || {
        let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap();
        (now.as_millis() > u128::from(due) + 1_000).then_some(())
    })
    .await;
    service.launch();
    // Nobody comes near the session.
    let feed = "/v1/announcements?types=barrel.sold,deadline.fired&wait_ms=1000";
    let told = until("it has fired", async || {
        let told: Value = service.get(feed).await.json().await.unwrap();
        let told = told["announcements"].as_array().unwrap().clone();
        (!told.is_empty()).then_some(told)
    })
    .await;
    let events: Vec<&Value> = told.iter().map(|one| &one["event"]).collect();
    assert_eq!((events.len(), &events[1]["type"]), (2, &json!("barrel.sold")));
    let values = &events[0]["data"]["values"];
    assert_eq!(values["due"], due);
    assert!(values["fired"].as_u64().unwrap() >= due + 1_000, "{values}");
    assert_eq!(service.sql("SELECT wakes IS NULL FROM sessions WHERE id = 'barrel'"), "t");
}

#[tokio::test]
async fn who_fills_holds_or_floods_delays_no_close() {
    let source =
        BARREL.replace("[limits]", "[holds]\nkind = \"binding\"\n[limits]\nstate = \"4KiB\"");
    let service = Service::start_with(&NEAR).await;
    service.publish(&source).await;
    service.open("barrel", json!({})).await;
    let token = service.token("barrel", "oda", "bidder").await;
    let (mut oda, _) = Raw::enter(&service, "barrel", &token).await;
    close_in(&service, "1h").await;
    oda.send(&json!({ "type": "hold", "n": 1, "at": "/status" })).await;
    assert_eq!(oda.next("answer").await["problem"], Value::Null);
    let mut amount = 10;
    let full = loop {
        amount += 5;
        oda.propose(json!([{ "at": "/offers", "op": "put", "value": { "amount": amount } }])).await;
        if let Err(problem) = oda.answer().await {
            break problem;
        }
    };
    assert_eq!(name(&full), "too-large");
    close_in(&service, "1s").await;
    service.post("/v1/sessions/barrel/freeze", &json!({})).await;
    // It goes on with what is refused, as fast as it is answered.
    let fired = loop {
        oda.propose(json!([{ "at": "/offers", "op": "put", "value": { "amount": 9_000 } }])).await;
        let _ = oda.answer().await;
        let state = service.state("barrel").await;
        if state["status"] == "sold" {
            break state["closing"].clone();
        }
    };
    assert!(fired["fired"].is_u64(), "{fired}");
}

const GATE: &str = r#"
charter = "gate"
version = 1
[presence]
linger = "500ms"
[state.came]
kind = "counter"
[state.here]
kind = "map"
[state.here.each.role]
kind = "register"
[[when]]
enters = "first"
do = [{ at = "/came", op = "add", by = 1 }, { at = "/here", op = "put", from = { id = "who.id", value = { role = "who.role" } } }]
[[when]]
leaves = "last"
do = [{ at = "/here/{who.id}", op = "drop" }]
[announcements]
built-in = ["participant.joined", "participant.left"]
"#;

#[tokio::test]
async fn each_arrival_and_each_departure_counts_once_also_over_a_restart() {
    let mut service = Service::start_with(&NEAR).await;
    service.publish(GATE).await;
    service.open_as("gate", "gate", json!({})).await;
    let mut tokens = Vec::new();
    for who in ["oda", "bram", "wren"] {
        tokens.push(service.token("gate", who, "participant").await);
    }
    let (first, welcome) = Raw::enter(&service, "gate", &tokens[0]).await;
    assert_eq!(welcome["state"]["came"], 1, "who comes sees that they came");
    let second = Raw::enter(&service, "gate", &tokens[0]).await;
    assert_eq!(second.1["state"]["came"], 1, "a second tab is no second arrival");
    let (bram, _) = Raw::enter(&service, "gate", &tokens[1]).await;
    let (wren, _) = Raw::enter(&service, "gate", &tokens[2]).await;
    drop(bram);
    until("bram has gone", async || {
        let here = service.state("gate").await["here"].clone();
        (here.as_object().unwrap().len() == 2).then_some(())
    })
    .await;
    service.kill();
    drop((first, second, wren));
    service.launch();
    let (oda, welcome) = Raw::enter(&service, "gate", &tokens[0]).await;
    assert_eq!(welcome["state"]["came"], 3, "who comes back after a restart had come before");
    // Who does not come back has gone.
    until("wren has gone", async || {
        let here = service.state("gate").await["here"].clone();
        (here.as_object().unwrap().keys().collect::<Vec<_>>() == ["oda"]).then_some(())
    })
    .await;
    drop(oda);
    let told: Value = until("oda has gone", async || {
        let told: Value = service.get("/v1/announcements").await.json().await.unwrap();
        (told["announcements"].as_array().unwrap().len() == 6).then_some(told)
    })
    .await;
    let told: Vec<_> = told["announcements"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| {
            (
                one["event"]["type"].as_str().unwrap(),
                one["event"]["data"]["values"]["participant"].as_str().unwrap(),
            )
        })
        .collect();
    let (joined, left) = ("participant.joined", "participant.left");
    assert_eq!(
        told,
        [
            (joined, "oda"),
            (joined, "bram"),
            (joined, "wren"),
            (left, "bram"),
            (left, "wren"),
            (left, "oda")
        ]
    );
    assert_eq!(service.state("gate").await["here"], json!({}));
}

#[tokio::test]
async fn two_people_bid_for_a_barrel_on_one_page_until_it_is_sold_and_all_read_of_it() {
    let service = Service::start_with(&NEAR).await;
    let receiver = Receiver::start(&[Does::Answers(503)]);
    webhook(&service, json!({ "url": receiver.url })).await;
    service.open_demo("last-barrel").await;
    let browser = Browser::open(1280, 800).await;
    browser.sign_in(&service, "/sessions/last-barrel/table").await;
    browser.reads("bram leads with 45.").await;
    let pressed = async |who: &str, what: &str| {
        let button = format!("//section[@aria-label='{who}']//button[.='{what}']");
        until(what, async || {
            let button = browser.web.find(By::XPath(&button)).await.ok()?;
            button.click().await.ok()
        })
        .await;
    };
    pressed("Oda", "Offer 50").await;
    browser.reads("You lead with 50.").await;
    browser.reads("Oda leads with 50.").await;
    pressed("Tobin", "+25").await;
    browser.reads("Tobin leads with 75.").await;
    let field = browser.find(By::XPath("//section[@aria-label='Oda']//input")).await;
    field.send_keys("77").await.unwrap();
    browser.reads("At least 80: it beats the leading offer by 5.").await;
    browser.picture("last-barrel").await;
    assert!(browser.fits().await);
    // So shortly before the end that it moves.
    let set = |time: &str| json!({ "edits": [{ "at": "/closing", "op": "set", "in": time }] });
    let path = "/v1/sessions/last-barrel/proposals";
    assert_eq!(service.post(path, &set("9s")).await.status(), 200);
    pressed("Oda", "+10").await;
    browser.reads("Oda leads with 85.").await;
    let closing = service.state("last-barrel").await["closing"].clone();
    assert!(closing["fired"].is_null(), "{closing}");
    assert_eq!(service.post(path, &set("1s")).await.status(), 200);
    browser.reads("It is yours for 85.").await;
    browser.reads("Sold to Oda for 85.").await;
    browser.picture("last-barrel-sold").await;
    let narrow = Browser::open(390, 800).await;
    narrow.sign_in(&service, "/sessions/last-barrel/table").await;
    narrow.reads("for 85.").await;
    assert!(narrow.fits().await);
    narrow.picture("last-barrel-narrow").await;
    narrow.close().await;

    browser.find(By::LinkText("Announcements")).await.click().await.unwrap();
    browser.reads("barrel.sold").await;
    browser.reads("winner oda").await;
    browser.reads("2 attempts").await;
    browser.picture("announcements").await;
    assert!(browser.fits().await);
    browser.close().await;
    assert_eq!(receiver.events("barrel.sold").len(), 1);
}
