//! Undo of one's own, why a value is what it is, and the way back, with the real service.

use rendel_client::{Change, Connection, Encoding, Event, Replica, Target, Undoing};
use rendel_core::{Back, Edit};
use serde_json::{Value, json};
use uuid::Uuid;

use thirtyfour::{By, Key};

use crate::harness::{Browser, Raw, Service, name, until};

const PLAN: &str = r#"
charter = "plan"
version = 1
[roles.planner]
edit = ["/**"]
powers = ["revert"]
[roles.visitor]
edit = ["/notes"]
powers = ["revert"]
see = ["/**", { but = "/budget" }, { but = "/markers/*/cost" }]
[roles.guest]
edit = []
[state.title]
kind = "register"
initial = "South slope"
[state.status]
kind = "register"
merge = "first"
[state.budget]
kind = "register"
[state.notes]
kind = "text"
[state.markers]
kind = "map"
[state.markers.each.spot]
kind = "register"
[state.markers.each.note]
kind = "text"
[state.markers.each.cost]
kind = "register"
[state.steps]
kind = "list"
[state.steps.each.what]
kind = "register"
[state.moves]
kind = "counter"
[state.seats]
kind = "seats"
names = ["east"]
[[when]]
name = "count"
changes = "/markers/*/spot"
do = [{ at = "/moves", op = "add", by = 1 }, { at = "/budget", op = "set", from = "state.moves" }]
"#;

async fn plan() -> Service {
    let service = Service::start().await;
    service.publish(PLAN).await;
    service.open("plan", json!({ "markers": { "m1": { "spot": 0 } } })).await;
    service
}

async fn target(service: &Service, who: &str, role: &str) -> Target {
    let (server, session) = (service.server.clone(), "plan".to_owned());
    let token = service.token("plan", who, role).await;
    Target { server, session, token, encoding: Encoding::Json }
}

async fn enter(service: &Service, who: &str) -> Connection {
    let mut connection = Connection::new(target(service, who, "planner").await, Uuid::now_v7());
    connection.follow_undo().await;
    while !connection.is_connected() {
        connection.next().await.unwrap();
    }
    connection
}

async fn follow(connection: &mut Connection, done: impl Fn(&Replica) -> bool) {
    while !done(connection.replica()) {
        connection.next().await.unwrap();
    }
}

fn view(replica: &Replica, path: &str) -> Value {
    replica.view().unwrap().pointer(path).cloned().unwrap_or_default()
}

fn set(at: &str, value: impl Into<Value>) -> Edit {
    Edit::new(at, "set").with("value", value)
}

#[tokio::test]
async fn a_drag_is_one_undo_for_its_author_alone_also_after_a_crash() {
    let mut service = plan().await;
    let (mut oda, mut bram) = (enter(&service, "oda").await, enter(&service, "bram").await);
    for step in 1..=20 {
        oda.propose_in("drag m1", vec![set("/markers/m1/spot", step)]).await.unwrap();
    }
    bram.propose(vec![set("/title", "Bram's")]).await.unwrap();
    let is_drag = |replica: &Replica| {
        let look = replica.undoable().undo.as_ref();
        look.is_some_and(|look| look.of == "drag m1") && replica.seq() == 21
    };
    follow(&mut oda, is_drag).await;
    let look = oda.replica().undoable().undo.clone().unwrap();
    assert_eq!(
        serde_json::to_value(&look.edits).unwrap(),
        json!([{ "at": "/markers/m1/spot", "op": "set" }])
    );
    service.kill();
    service.launch();
    follow(&mut oda, |replica| replica.seq() == 21).await;
    // The history is still there.
    until("it is told after the return", async || {
        tokio::select! {
            event = oda.next() => drop(event.unwrap()),
            () = tokio::time::sleep(std::time::Duration::from_millis(50)) => {}
        }
        is_drag(oda.replica()).then_some(())
    })
    .await;
    assert!(matches!(oda.take_back(Back::Undo).await, Some(Undoing::Proposed(_))));
    // What the sender got, what another sees, what a newcomer gets.
    follow(&mut oda, |replica| view(replica, "/markers/m1/spot") == 0).await;
    follow(&mut bram, |replica| view(replica, "/markers/m1/spot") == 0).await;
    let newcomer = enter(&service, "wren").await;
    assert_eq!(view(newcomer.replica(), "/markers/m1/spot"), 0);
    assert_eq!(view(newcomer.replica(), "/title"), "Bram's");
    assert_eq!(
        view(newcomer.replica(), "/moves"),
        21,
        "rules follow from an undo, and theirs stays"
    );
    let journal = service.journal("plan").await;
    let undo = journal.last().unwrap();
    assert_eq!(undo["undoes"]["updates"].as_array().unwrap().len(), 20);
    assert_eq!((&undo["gesture"], &undo["by"]), (&json!("drag m1"), &json!("oda")));
    follow(&mut oda, |replica| replica.undoable().redo.is_some()).await;
    oda.take_back(Back::Redo).await.unwrap();
    follow(&mut bram, |replica| view(replica, "/markers/m1/spot") == 20).await;

    let told = service.rendel(&["journal", "plan", "--gestures"]);
    let told = String::from_utf8(told.stdout).unwrap();
    assert!(told.contains("\"drag m1\", 20 updates from #") && told.contains("undoes #"), "{told}");
    assert_eq!(told.lines().count(), 4, "{told}");
}

#[tokio::test]
async fn two_tabs_do_not_undo_twice_and_what_was_not_sent_is_cancelled() {
    let service = plan().await;
    let token = service.token("plan", "oda", "planner").await;
    let (mut left, _) = Raw::enter(&service, "plan", &token).await;
    let (mut right, _) = Raw::enter(&service, "plan", &token).await;
    for tab in [&mut left, &mut right] {
        tab.send(&json!({ "type": "follow-undo" })).await;
    }
    for title in ["One", "Two"] {
        left.propose(json!([{ "at": "/title", "op": "set", "value": title }])).await;
        let update = left.answer().await.unwrap();
        assert!(update.get("since").is_none(), "what only the journal keeps is told: {update}");
    }
    let journal = service.journal("plan").await;
    assert!(journal.iter().all(|update| update.get("since").is_none()), "{journal:?}");
    let mut of = Value::Null;
    while of != 2 {
        of = right.next("undoable").await["undo"]["of"].clone();
    }
    let undo = json!([{ "at": "", "op": "undo", "of": of }]);
    right.propose(undo.clone()).await;
    right.answer().await.unwrap();
    left.propose(undo).await;
    let refused = left.answer().await.unwrap_err();
    assert_eq!((name(&refused), &refused["undo"]), ("stale".into(), &json!(1)));
    assert_eq!(service.state("plan").await["title"], "One");

    // Without a connection what was made is taken back here.
    let mut away = Connection::new(target(&service, "bram", "planner").await, Uuid::now_v7());
    while !away.is_connected() {
        away.next().await.unwrap();
    }
    away.cut();
    away.propose_in("rename", vec![set("/title", "Never")]).await.unwrap();
    away.propose_in("rename", vec![set("/markers/m1/spot", 9)]).await.unwrap();
    away.propose(vec![Edit::new("/moves", "add").with("by", 1)]).await.unwrap();
    assert_eq!(away.take_back(Back::Undo).await, Some(Undoing::Cancelled));
    assert_eq!(view(away.replica(), "/markers/m1/spot"), 9);
    assert_eq!(away.take_back(Back::Undo).await, Some(Undoing::Cancelled));
    assert_eq!(view(away.replica(), "/title"), "One");
    away.propose(vec![set("/title", "Bram's")]).await.unwrap();
    loop {
        if let Event::Changed(Change::Settled(update)) = away.next().await.unwrap()
            && update.by == "bram"
        {
            break;
        }
    }
    let state = service.state("plan").await;
    assert_eq!((&state["title"], &state["moves"]), (&json!("Bram's"), &json!(0)));
}

#[tokio::test]
async fn why_a_value_is_what_it_is_and_who_may_know() {
    let service = plan().await;
    let propose = async |who: &str, role: &str, body: Value| {
        let token = service.token("plan", who, role).await;
        let url = format!("{}/v1/sessions/plan/proposals", service.server);
        let response = service.http.post(url).bearer_auth(token).json(&body).send().await.unwrap();
        response.json::<Value>().await.unwrap()
    };
    let edit = |at: &str, op: &str, value: Value| json!({ "edits": [{ "at": at, "op": op, "value": value }] });
    propose("oda", "planner", edit("/title", "set", json!("East"))).await;
    propose(
        "bram",
        "planner",
        json!({ "seen": 0, "edits": [{ "at": "/title", "op": "set", "value": "West" }] }),
    )
    .await;
    propose("bram", "planner", json!({ "edits": [{ "at": "", "op": "undo" }] })).await;
    propose("wren", "planner", edit("/status", "set", json!("picked"))).await;
    propose(
        "oda",
        "planner",
        json!({ "seen": 3, "edits": [{ "at": "/status", "op": "set", "value": "ripe" }] }),
    )
    .await;
    propose("oda", "planner", edit("/budget", "set", json!(7))).await;
    propose(
        "oda",
        "planner",
        json!({ "edits": [{ "at": "/notes", "op": "splice", "index": 0, "insert": "dry " }] }),
    )
    .await;
    propose(
        "bram",
        "visitor",
        json!({ "edits": [{ "at": "/notes", "op": "splice", "index": 4, "insert": "stone" }] }),
    )
    .await;
    propose("oda", "planner", edit("/markers/m1/spot", "set", json!(5))).await;
    let why = async |path: &str, token: Option<String>| {
        let url = format!("{}/v1/sessions/plan/why", service.server);
        let token = token.unwrap_or_else(|| service.key.clone());
        let call = service.http.get(url).query(&[("path", path)]).bearer_auth(token);
        call.send().await.unwrap().json::<Value>().await.unwrap()
    };
    let title = why("/title", None).await;
    let made = |why: &Value| {
        why["made"]
            .as_array()
            .unwrap()
            .iter()
            .map(|made| made["seq"].as_u64().unwrap())
            .collect::<Vec<_>>()
    };
    assert_eq!((made(&title), &title["is_whole"]), (vec![3, 2, 1], &json!(true)));
    assert_eq!(
        (&title["made"][0]["undoes"]["updates"], &title["made"][1]["undone_by"]),
        (&json!([2]), &json!(3))
    );
    assert_eq!(title["made"][1]["verdicts"][0]["lost"], "East");
    let status = why("/status", None).await;
    assert_eq!((made(&status), &status["lost"][0]["by"]), (vec![4], &json!("oda")));
    assert_eq!(status["lost"][0]["verdict"]["lost"], "ripe");
    let moves = why("/moves", None).await;
    assert_eq!((&moves["made"][0]["rule"], made(&moves)), (&json!("count"), vec![9]));
    let notes = why("/notes", None).await;
    let runs: Vec<_> =
        notes["runs"].as_array().unwrap().iter().map(|run| (&run["text"], &run["by"])).collect();
    assert_eq!(runs, [(&json!("dry "), &json!("oda")), (&json!("stone"), &json!("bram"))]);
    propose("oda", "planner", edit("/markers/m1/cost", "set", json!(12))).await;
    let parts = |why: &Value| {
        let parts = why["parts"].as_array().unwrap().iter();
        parts
            .map(|part| (part["at"].as_str().unwrap().to_owned(), part["seq"].as_u64().unwrap()))
            .collect::<Vec<_>>()
    };
    let part = |name: &str, seq: u64| (format!("/markers/m1/{name}"), seq);
    let marker = why("/markers/m1", None).await;
    assert_eq!(parts(&marker), [part("cost", 10), part("note", 0), part("spot", 9)]);
    assert_eq!(made(&marker), [10]);
    // Who does not see what it costs does not learn that it was changed.
    let visitor = service.token("plan", "bram", "visitor").await;
    let marker = why("/markers/m1", Some(visitor.clone())).await;
    assert_eq!((parts(&marker), made(&marker)), (vec![part("note", 0), part("spot", 9)], vec![9]));
    // A visitor does not see the budget, nor that there is anything to ask about.
    let hidden = why("/budget", Some(visitor.clone())).await;
    let nothing = why("/budge", Some(visitor)).await;
    assert_eq!(name(&hidden), name(&nothing));
    let told = service.rendel(&["why", "plan", "/title"]);
    let told = String::from_utf8(told.stdout).unwrap();
    for words in
        ["/title is \"East\" at #10", "[undo of #2]", "[undone by #3]", "\"East\" was lost"]
    {
        assert!(told.contains(words), "{words} in {told}");
    }
}

#[tokio::test]
async fn who_has_the_power_takes_a_session_back_and_that_can_be_undone() {
    let service = plan().await;
    let token = service.token("plan", "oda", "planner").await;
    let (mut oda, _) = Raw::enter(&service, "plan", &token).await;
    let edits = [
        json!([{ "at": "/seats", "op": "sit" }]),
        json!([{ "at": "/steps", "op": "insert", "id": "wash", "value": { "what": "Wash" } }]),
        json!([{ "at": "/notes", "op": "splice", "index": 0, "insert": "dry" }]),
    ];
    for edits in edits {
        oda.propose(edits).await;
        oda.answer().await.unwrap();
    }
    let then = service.state("plan").await;
    let later = [
        json!([{ "at": "/title", "op": "set", "value": "North" }, { "at": "/markers/m1", "op": "drop" }]),
        json!([{ "at": "/steps/wash", "op": "remove" }, { "at": "/notes", "op": "splice", "index": 3, "insert": " stone" }]),
        json!([{ "at": "/markers", "op": "put", "id": "m2", "value": {} }]),
        json!([{ "at": "/seats", "op": "stand" }]),
    ];
    for edits in later {
        oda.propose(edits).await;
        oda.answer().await.unwrap();
    }
    let now = service.state("plan").await;
    let revert = async |token: &str, body: Value| {
        let url = format!("{}/v1/sessions/plan/revert", service.server);
        service.http.post(url).bearer_auth(token).json(&body).send().await.unwrap()
    };
    let guest = service.token("plan", "wren", "guest").await;
    let refused: Value = revert(&guest, json!({ "to": 3 })).await.json().await.unwrap();
    assert_eq!(name(&refused), "not-allowed");
    let refused: Value = revert(&token, json!({ "to": 99 })).await.json().await.unwrap();
    assert_eq!(name(&refused), "from-the-future");
    let refused: Value =
        revert(&token, json!({ "to": 3, "at": "/seats" })).await.json().await.unwrap();
    assert_eq!(name(&refused), "out-of-bounds");
    assert_eq!(service.state("plan").await, now);
    // One record, then all of it; the seat stays as it is.
    let update: Value =
        revert(&token, json!({ "to": 3, "at": "/markers/m1" })).await.json().await.unwrap();
    assert_eq!((&update["by"], &update["note"]), (&json!("oda"), &json!("back to 3")));
    assert_eq!(
        service.state("plan").await["markers"],
        json!({ "m1": then["markers"]["m1"], "m2": now["markers"]["m2"] })
    );
    revert(&token, json!({ "to": 3 })).await;
    // What a rule counts, it counts with these as well.
    let state = async || {
        let mut state = service.state("plan").await;
        for counted in ["moves", "budget"] {
            state.as_object_mut().unwrap().remove(counted);
        }
        state
    };
    let mut expected = then.clone();
    expected["seats"] = now["seats"].clone();
    for counted in ["moves", "budget"] {
        expected.as_object_mut().unwrap().remove(counted);
    }
    assert_eq!(state().await, expected);
    assert_eq!(
        revert(&token, json!({ "to": 3, "at": "/title" })).await.status(),
        204,
        "there is nothing left to do"
    );
    for _ in 0..2 {
        oda.propose(json!([{ "at": "", "op": "undo" }])).await;
        oda.answer().await.unwrap();
    }
    let mut expected = now;
    for counted in ["moves", "budget"] {
        expected.as_object_mut().unwrap().remove(counted);
    }
    assert_eq!(state().await, expected, "who did it undoes it like anything else");
    // Whoever sees a part takes that part back, and is told of no other, whatever rules do.
    let visitor = service.token("plan", "bram", "visitor").await;
    let told = service
        .post(
            "/v1/sessions/plan/proposals",
            &json!({ "edits": [{ "at": "/markers/m2/spot", "op": "set", "value": 4 }] }),
        )
        .await;
    assert_eq!(told.status(), 200);
    let update = revert(&visitor, json!({ "to": 3, "at": "/markers" })).await.text().await.unwrap();
    assert!(update.contains("/markers") && !update.contains("budget"), "{update}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn in_the_browser_each_takes_back_their_own_by_button_and_by_keyboard() {
    let service = Service::start().await;
    service.open_demo("slope-plan").await;
    let spot = async |id: &str| service.state("slope-plan").await["markers"][id]["spot"].clone();
    let before = (spot("ladder-1").await, spot("ladder-2").await);
    let browser = Browser::open(1280, 800).await;
    browser.sign_in(&service, "/sessions/slope-plan").await;
    let mark = browser.find(By::Css("[aria-label^='ladder-2,']")).await;
    for _ in 0..3 {
        mark.send_keys(Key::Right + "").await.unwrap();
    }
    browser.reads("Undo: move ladder-2").await;
    let token = service.token("slope-plan", "tobin", "picker").await;
    let (mut tobin, _) = Raw::enter(&service, "slope-plan", &token).await;
    let moved = json!({ "x": 50, "y": 10 });
    tobin.propose(json!([{ "at": "/markers/ladder-1/spot", "op": "set", "value": moved }])).await;
    tobin.answer().await.unwrap();
    browser.reads("move ladder-2: 3 updates from #1").await;
    browser.picture("undo").await;
    let mark = browser.find(By::Css("[aria-label^='ladder-2,']")).await;
    mark.send_keys(Key::Control + "z").await.unwrap();
    until("it is back", async || (spot("ladder-2").await == before.1).then_some(())).await;
    browser.reads("undo of #1 to #3").await;
    assert_eq!(spot("ladder-1").await, moved, "what Tobin did stays");
    browser.press("Redo: move ladder-2").await;
    until("it is done again", async || (spot("ladder-2").await != before.1).then_some(())).await;

    // How it came about, by a press on its name.
    browser
        .find(By::XPath("//button[@title='Why is /markers/ladder-1 what it is?']"))
        .await
        .click()
        .await
        .unwrap();
    browser.reads("How it came about").await;
    browser.reads("tobin").await;
    browser.picture("why").await;
    browser.press("Close").await;
    assert!(browser.fits().await);

    // The past, gesture by gesture, and back to it.
    let place = browser.find(By::Css("[role='slider'][aria-label='Place in the journal']")).await;
    place.send_keys(Key::Left + Key::Left + Key::Left).await.unwrap();
    browser.reads("at #3, 3 updates ago").await;
    browser.press("Take all of it back to #3").await;
    browser.reads("Done as #7.").await;
    assert_eq!(spot("ladder-1").await, before.0);

    // Two people, who both undo at the same moment.
    browser.web.goto(format!("{}/sessions/slope-plan/side-by-side", service.server)).await.unwrap();
    browser.reads("All 3 replicas are equal at #7").await;
    let panes = ["Pane 1", "Pane 2"].map(|pane| {
        By::Css(format!("section[aria-label^='{pane}'] [aria-label='Add 1 to /crates']"))
    });
    let crates = async || service.state("slope-plan").await["crates"].as_u64().unwrap();
    let count = crates().await;
    let [one, two] = panes;
    for _ in 0..2 {
        browser.find(one.clone()).await.click().await.unwrap();
    }
    browser.find(two).await.click().await.unwrap();
    browser.reads("replicas are equal at #10").await;
    browser.find(By::Css("[aria-label='What to collide in']")).await.click().await.unwrap();
    browser
        .find(By::XPath("//*[@role='option'][contains(., 'both undo')]"))
        .await
        .click()
        .await
        .unwrap();
    browser.press("Collide").await;
    browser.reads("replicas are equal at #12").await;
    browser.picture("both-undo").await;
    assert_eq!(crates().await, count + 1, "each took back one of their own");
    browser.close().await;
}
