//! The console in headless Chromium, driven as a person would.
//!
//! With `RENDEL_PICTURES=DIR` the pages are also kept as pictures, for the documents.

use std::time::{Duration, Instant};

use serde_json::json;
use thirtyfour::prelude::*;

use crate::harness::{Browser, PATIENCE, Raw, Service, until};

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_collision_side_by_side_is_told_and_all_replicas_end_equal() {
    let service = Service::start().await;
    service.open_demo("last-barrel").await;
    let browser = Browser::open(1280, 800).await;
    browser.sign_in(&service, "/sessions/last-barrel/side-by-side").await;
    browser.reads("All 3 replicas are equal at #1").await;

    browser.find(By::Css("[aria-label='What to collide in']")).await.click().await.unwrap();
    browser.find(By::XPath("//*[@role='option'][.='/reserve']")).await.click().await.unwrap();
    browser.reads("Rule: the later is refused").await;
    browser.press("Collide").await;
    browser.reads("refused: stale").await;
    browser.reads("All 3 replicas are equal at #2").await;
    // Which of the two arrives first is nobody's to say.
    let reserve = service.state("last-barrel").await["reserve"].as_u64();
    assert!([Some(61), Some(62)].contains(&reserve), "one of the two settled: {reserve:?}");

    browser.find(By::Css("[aria-label='What to collide in']")).await.click().await.unwrap();
    browser.find(By::XPath("//*[@role='option'][.='/lot']")).await.click().await.unwrap();
    browser.press("Collide").await;
    browser.reads("the later in order stands").await;
    browser.reads("All 3 replicas are equal at #4").await;
    browser.picture("side-by-side").await;
    assert!(browser.fits().await);
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_offline_pane_keeps_its_edits_and_merges_them_on_return() {
    let service = Service::start().await;
    service.open_demo("headcount").await;
    let browser = Browser::open(1280, 800).await;
    browser.sign_in(&service, "/sessions/headcount/side-by-side").await;
    browser.reads("All 3 replicas are equal at #0").await;
    browser
        .find(By::Css("section[aria-label='Pane 1, Oda'] [role='switch']"))
        .await
        .click()
        .await
        .unwrap();
    browser.reads("offline").await;
    browser
        .find(By::Css("section[aria-label='Pane 1, Oda'] [aria-label='Add 1 to /heads']"))
        .await
        .click()
        .await
        .unwrap();
    browser.reads("offline, 1 unsent").await;
    browser
        .find(By::Css("section[aria-label='Pane 2, Tobin'] [aria-label='Add 10 to /heads']"))
        .await
        .click()
        .await
        .unwrap();
    browser.reads("Behind #1: Oda by 1").await;
    assert_eq!(
        service.state("headcount").await,
        json!({ "heads": 51 }),
        "nobody else sees what is unsent"
    );
    browser
        .find(By::Css("section[aria-label='Pane 1, Oda'] [role='switch']"))
        .await
        .click()
        .await
        .unwrap();
    browser.reads("All 3 replicas are equal at #2").await;
    browser.reads("Both additions count.").await;
    browser.reads("Back: 1 update came meanwhile, 1 edit").await;
    browser.reads("1 merged").await;
    assert_eq!(service.state("headcount").await, json!({ "heads": 52 }));
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn edits_made_offline_outlive_a_reload_and_are_merged_once() {
    let service = Service::start().await;
    service.open_demo("headcount").await;
    let browser = Browser::open(1280, 800).await;
    browser.sign_in(&service, "/sessions/headcount/side-by-side").await;
    browser.reads("All 3 replicas are equal at #0").await;
    let offline = By::Css("section[aria-label='Pane 1, Oda'] [role='switch']");
    browser.find(offline).await.click().await.unwrap();
    let add = By::Css("section[aria-label='Pane 1, Oda'] [aria-label='Add 1 to /heads']");
    for _ in 0..3 {
        browser.find(add.clone()).await.click().await.unwrap();
    }
    browser.reads("offline, 3 unsent").await;
    // What is kept is written beside the page, some milliseconds later.
    until("the three are kept", async || (kept(&browser).await == 3).then_some(())).await;
    assert_eq!(service.state("headcount").await, json!({ "heads": 41 }));
    browser.web.refresh().await.unwrap();
    browser.reads("All 3 replicas are equal at #3").await;
    assert_eq!(service.state("headcount").await, json!({ "heads": 44 }));
    assert_eq!(service.journal("headcount").await.len(), 3, "each counts once");
    browser.close().await;
}

/// Under the demo's charters, whose rates are the standard ones.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_thousand_edits_and_a_thousand_characters_made_offline_outlive_a_reload() {
    let service = Service::start().await;
    service.open_demo("slope-plan").await;
    let browser = Browser::open(1280, 800).await;
    browser.sign_in(&service, "/sessions/slope-plan/side-by-side").await;
    browser.reads("All 3 replicas are equal at #0").await;
    let before = service.state("slope-plan").await;
    let pane = browser.find(By::Css("section[aria-label^='Pane 1']")).await;
    pane.find(By::Css("[role='switch']")).await.unwrap().click().await.unwrap();
    browser.reads("offline").await;
    let make = "const pane = document.querySelector(\"section[aria-label^='Pane 1']\"); \
                const add = pane.querySelector(\"[aria-label='Add 1 to /crates']\"); \
                const notes = pane.querySelector(\"textarea[aria-label='/notes']\"); \
                const set = Object.getOwnPropertyDescriptor(HTMLTextAreaElement.prototype, 'value').set; \
                for (let n = 0; n < 50; n += 1) { add.click(); set.call(notes, notes.value + 'x'); \
                notes.setSelectionRange(notes.value.length, notes.value.length); \
                notes.dispatchEvent(new Event('input', { bubbles: true })); }";
    // In parts, since the driver gives no script all the time that it may take.
    for _ in 0..20 {
        browser.web.execute(make, vec![]).await.unwrap();
    }
    until("all are kept", async || (kept(&browser).await == 2_000).then_some(())).await;
    browser.web.refresh().await.unwrap();
    let expected = before["notes"].as_str().unwrap().len() + 1_000;
    let deadline = Instant::now() + 4 * PATIENCE;
    loop {
        let state = service.state("slope-plan").await;
        let crates = state["crates"].as_u64().unwrap() - before["crates"].as_u64().unwrap();
        if (crates, state["notes"].as_str().unwrap().len()) == (1_000, expected) {
            break;
        }
        assert!(Instant::now() < deadline, "{crates} of 1,000, and {} notes", state["notes"]);
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    browser.reads("replicas are equal at #").await;
    let state = service.state("slope-plan").await;
    assert_eq!(state["crates"].as_u64().unwrap() - before["crates"].as_u64().unwrap(), 1_000);
    assert_eq!(state["notes"].as_str().unwrap().len(), expected);
    browser.close().await;
}

/// Proposals that the browser keeps beside its pages.
async fn kept(browser: &Browser) -> u64 {
    let count = "const done = arguments[0]; const open = indexedDB.open('rendel'); \
                 open.onsuccess = () => { const store = \
                 open.result.transaction('pending').objectStore('pending'); \
                 const all = store.getAll(); all.onsuccess = () => \
                 done(all.result.reduce((sum, kept) => sum + kept.pending.length, 0)); };";
    browser.web.execute_async(count, vec![]).await.unwrap().json().as_u64().unwrap()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_past_of_a_session_is_looked_at_by_keyboard_and_its_connections_are_listed() {
    let service = Service::start().await;
    service.open_demo("slope-plan").await;
    for edits in [
        json!([{ "at": "/crates", "op": "add", "by": 4 }]),
        json!([{ "at": "/markers/ladder-1", "op": "drop" }]),
        json!([{ "at": "/title", "op": "set", "value": "South slope, noon" }]),
    ] {
        service.post("/v1/sessions/slope-plan/proposals", &json!({ "edits": edits })).await;
    }
    let browser = Browser::open(1280, 800).await;
    browser.sign_in(&service, "/sessions/slope-plan").await;
    browser.reads("WebSocket, JSON").await;
    browser.reads("1 connection").await;
    let place = browser.find(By::Css("[role='slider'][aria-label='Place in the journal']")).await;
    place.send_keys(Key::Left + Key::Left).await.unwrap();
    browser.reads("at #1, 2 updates ago").await;
    browser.reads("/markers/ladder-1").await;
    browser.reads("then \"South slope\"").await;
    place.send_keys(Key::Home + "").await.unwrap();
    browser.reads("now 22").await;
    browser.picture("past").await;
    browser.press("Now").await;
    browser.reads("at present").await;
    assert_eq!(service.post("/v1/sessions/slope-plan/freeze", &json!({})).await.status(), 200);
    browser.reads("This session is frozen").await;
    assert!(browser.fits().await);
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_session_is_edited_and_its_journal_grows_with_what_others_do() {
    let service = Service::start().await;
    for name in ["headcount", "last-barrel", "slope-plan", "windfall"] {
        service.open_demo(name).await;
    }
    let browser = Browser::open(1280, 800).await;
    browser.sign_in(&service, "/").await;
    browser.reads("South slope plan").await;
    browser.picture("sessions").await;
    // Of these one alone has seats, and they are free.
    browser.find(By::XPath("//label[.='free seats']")).await.click().await.unwrap();
    let rows = || async { browser.web.find_all(By::Css("tbody tr")).await.ok() };
    until("only the game is left", async || (rows().await?.len() == 1).then_some(())).await;
    browser.reads("Windfall").await;
    browser
        .find(By::Css("[aria-label='Only sessions of this charter']"))
        .await
        .send_keys("none")
        .await
        .unwrap();
    browser.reads("No session is like that").await;
    browser.web.goto(format!("{}/sessions/slope-plan", service.server)).await.unwrap();
    let title = browser.find(By::Css("input[aria-label='/title']")).await;
    title.click().await.unwrap();
    title.send_keys(" in October" + Key::Enter).await.unwrap();
    browser.reads("/title = \"South slope in October\"").await;
    let output = service.rendel(&[
        "propose",
        "slope-plan",
        "/markers/ladder-1 drop",
        "--as",
        "steward",
        "--name",
        "Wren",
        "--note",
        "broken",
    ]);
    assert!(output.status.success());
    browser.reads("/markers/ladder-1 dropped").await;
    browser.reads("4 records").await;
    let spot = browser.find(By::Css("input[aria-label='/markers/ladder-2/spot']")).await;
    spot.click().await.unwrap();
    spot.send_keys(Key::Control + "a").await.unwrap();
    spot.send_keys("{\"x\":500,\"y\":1}" + Key::Enter).await.unwrap();
    browser.reads("refused: out-of-bounds").await;
    browser.picture("session").await;
    assert_eq!(service.journal("slope-plan").await.len(), 2);
    browser.close().await;
}

/// What somebody else proposes, over the command.
fn propose(service: &Service, session: &str, edits: &[&str], more: &[&str]) {
    let output =
        service.rendel(&[&["propose", session][..], edits, more, &["--name", "Wren"]].concat());
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn whoever_puts_the_caret_into_a_text_holds_it_on_a_fresh_page_too() {
    let service = Service::start().await;
    service.open_demo("pressing-sheet").await;
    let browser = Browser::open(1280, 800).await;
    browser.sign_in(&service, "/sessions/pressing-sheet").await;
    browser
        .find(By::Css("textarea[aria-label='/pressings/p1/notes']"))
        .await
        .click()
        .await
        .unwrap();
    until("it is held", async || {
        let people = service.get("/v1/sessions/pressing-sheet/participants").await;
        let people: serde_json::Value = people.json().await.unwrap();
        (people["holds"][0]["at"] == "/pressings/p1/notes").then_some(())
    })
    .await;
    browser.close().await;
}

/// A text that nobody holds while they write in it.
const NOTES: &str = r#"
charter = "notes"
version = 1
[state.pressings]
kind = "map"
[state.pressings.each.notes]
kind = "text"
most = 5000
"#;

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_caret_stays_at_its_characters_while_somebody_else_types() {
    let service = Service::start().await;
    service.publish(NOTES).await;
    let opening = json!({ "pressings": { "p1": { "notes": "Dry, with a long finish." } } });
    let opened = json!({ "id": "pressing-sheet", "charter": "notes", "opening": opening });
    assert_eq!(service.post("/v1/sessions", &opened).await.status(), 201);
    let browser = Browser::open(1280, 800).await;
    browser.sign_in(&service, "/sessions/pressing-sheet").await;
    let notes = browser.find(By::Css("textarea[aria-label='/pressings/p1/notes']")).await;
    notes.click().await.unwrap();
    browser
        .web
        .execute("arguments[0].setSelectionRange(9, 9)", vec![notes.to_json().unwrap()])
        .await
        .unwrap();
    let caret = async || {
        let read = "return [arguments[0].value.slice(0, 16), arguments[0].selectionStart]";
        let read = browser.web.execute(read, vec![notes.to_json().unwrap()]).await.unwrap();
        read.json().clone()
    };
    assert_eq!(caret().await, json!(["Dry, with a long", 9]));
    propose(
        &service,
        "pressing-sheet",
        &["/pressings/p1/notes splice 0 3 \"\u{1f34e} Very dry\""],
        &[],
    );
    // The apple has two code units: the caret is still behind "with".
    until("the caret has moved", async || {
        (caret().await == json!(["\u{1f34e} Very dry, wit", 17])).then_some(())
    })
    .await;
    notes.send_keys("al").await.unwrap();
    until("the letters are where the caret was", async || {
        let notes = service.state("pressing-sheet").await["pressings"]["p1"]["notes"].clone();
        notes.as_str().unwrap().starts_with("\u{1f34e} Very dry, withal a long").then_some(())
    })
    .await;
    let splices = service.journal("pressing-sheet").await;
    assert!(
        splices.iter().all(|update| update["effects"][0]["op"] == "splice"),
        "the smallest proposals: {splices:?}"
    );
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_list_is_put_in_order_by_keys_and_by_dragging_and_candidates_stand_side_by_side() {
    let service = Service::start().await;
    service.open_demo("pressing-sheet").await;
    let browser = Browser::open(1280, 800).await;
    browser.sign_in(&service, "/sessions/pressing-sheet/side-by-side").await;
    browser.reads("All 3 replicas are equal at #0").await;
    let order = async || {
        let steps = service.state("pressing-sheet").await["steps"].clone();
        let ids: Vec<_> = steps
            .as_array()
            .unwrap()
            .iter()
            .map(|step| step["id"].as_str().unwrap().to_owned())
            .collect();
        ids.join(" ")
    };
    let handle =
        browser.find(By::Css("section[aria-label='Pane 1, Oda'] [data-handle='rest']")).await;
    handle.send_keys(Key::Up + Key::Up).await.unwrap();
    until("rest is second", async || (order().await == "wash rest mill press").then_some(())).await;
    let drag = "const pane = document.querySelector(\"section[aria-label='Pane 2, Tobin']\");
        const data = new DataTransfer();
        const fire = (at, name) => at.dispatchEvent(new DragEvent(name, { bubbles: true, cancelable: true, dataTransfer: data }));
        const to = pane.querySelector(\"[data-element='press']\");
        fire(pane.querySelector(\"[data-handle='wash']\"), 'dragstart');
        requestAnimationFrame(() => { fire(to, 'dragover'); fire(to, 'drop'); });";
    browser.web.execute(drag, vec![]).await.unwrap();
    until("wash is last", async || (order().await == "rest mill press wash").then_some(())).await;

    browser.find(By::Css("[aria-label='What to collide in']")).await.click().await.unwrap();
    browser.find(By::XPath("//*[@role='option'][.='/label']")).await.click().await.unwrap();
    browser.press("Collide").await;
    browser.reads("2 side by side; pick one").await;
    browser.reads("All 3 replicas are equal at #5").await;
    let first = browser.find(By::Css("section[aria-label='Pane 2, Tobin'] fieldset button")).await;
    let picked = first.text().await.unwrap();
    first.click().await.unwrap();
    until("one is left", async || {
        (service.state("pressing-sheet").await["label"] == json!([picked])).then_some(())
    })
    .await;

    for (offered, told) in [
        ("/pressings/p1/notes, an insert inside what is deleted", "rebased"),
        ("/steps/rest, two moves", "the later move stands"),
        ("/barrels/barrel-1/pressing, reference against drop", "refused: "),
    ] {
        browser.find(By::Css("[aria-label='What to collide in']")).await.click().await.unwrap();
        browser
            .find(By::XPath(format!("//*[@role='option'][.='{offered}']")))
            .await
            .click()
            .await
            .unwrap();
        browser.press("Collide").await;
        browser.reads(told).await;
        browser.reads("All 3 replicas are equal at").await;
    }
    assert!(browser.fits().await);
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_was_lost_is_shown_and_can_be_proposed_again_with_one_press() {
    let service = Service::start().await;
    service.open_demo("pressing-sheet").await;
    let browser = Browser::open(1280, 800).await;
    browser.sign_in(&service, "/sessions/pressing-sheet").await;
    let variety = browser.find(By::Css("input[aria-label='/pressings/p3/variety']")).await;
    variety.click().await.unwrap();
    variety.send_keys(Key::End + " of the day" + Key::Enter).await.unwrap();
    browser.reads("settled #1").await;
    let unseen = [
        "/pressings/p3/variety set \"mixed windfall\"",
        "/pressings/p3 drop",
        "/steps/rest remove",
    ];
    propose(&service, "pressing-sheet", &unseen[..1], &["--seen", "0"]);
    browser.reads("overrode").await;
    browser.picture("pressing-sheet").await;
    browser.press("Propose \"windfall mix of the day\" again").await;
    until("the lost value is back", async || {
        (service.state("pressing-sheet").await["pressings"]["p3"]["variety"]
            == "windfall mix of the day")
            .then_some(())
    })
    .await;
    // A record and an element that went with what somebody had done to them come back as they were.
    propose(&service, "pressing-sheet", &["/steps/rest/what set \"Rest two nights\""], &[]);
    propose(&service, "pressing-sheet", &unseen[1..], &["--seen", "2"]);
    browser.reads("The record went").await;
    let before = service.state("pressing-sheet").await;
    assert!(
        before["pressings"].get("p3").is_none() && before["steps"].as_array().unwrap().len() == 3
    );
    for button in browser
        .web
        .find_all(By::XPath("//button[starts-with(normalize-space(), 'Propose {')]"))
        .await
        .unwrap()
    {
        button.click().await.unwrap();
    }
    until("both are back", async || {
        let state = service.state("pressing-sheet").await;
        let is_back = state["pressings"]["p3"]["variety"] == "windfall mix of the day";
        (is_back && state["steps"][3]["value"]["what"] == "Rest two nights").then_some(())
    })
    .await;
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn nothing_is_cut_off_on_a_small_screen_and_a_wrong_key_is_told() {
    let service = Service::start().await;
    service.open_demo("last-barrel").await;
    service.open_demo("pressing-sheet").await;
    let browser = Browser::open(390, 800).await;
    browser.web.goto(&service.server).await.unwrap();
    browser.find(By::Id("secret")).await.send_keys("k".repeat(64)).await.unwrap();
    browser.press("Sign in").await;
    browser.reads("This is not the service key.").await;
    let key = browser.find(By::Id("secret")).await;
    key.clear().await.unwrap();
    key.send_keys(&service.key).await.unwrap();
    browser.press("Sign in").await;
    browser.reads("Sign out").await;
    let pages = ["last-barrel", "pressing-sheet"]
        .map(|name| ["", "/side-by-side", "/audit"].map(|page| format!("/sessions/{name}{page}")));
    for path in pages.into_iter().flatten().chain(["/".to_owned()]) {
        browser.web.goto(format!("{}{path}", service.server)).await.unwrap();
        browser.reads(if path.contains("pressing") { "ressing" } else { "last" }).await;
        assert!(browser.fits().await, "{path}");
    }
    browser.close().await;
}

impl Browser {
    /// What a checker of accessibility finds against (WCAG 2 A and AA, and best practices), with
    /// the places.
    async fn faults_of_access(&self) -> Vec<String> {
        let axe =
            concat!(env!("CARGO_MANIFEST_DIR"), "/../../web/node_modules/axe-core/axe.min.js");
        let axe = std::fs::read_to_string(axe).expect("the packages of web/: run npm ci there");
        self.web.execute(&axe, vec![]).await.unwrap();
        let run = "const done = arguments[0]; axe.run(document).then((found) => done(found.violations.map((one) => \
                   one.id + ': ' + one.nodes.map((node) => node.target.join(' ')).slice(0, 3).join(' | '))));";
        let found = self.web.execute_async(run, vec![]).await.unwrap();
        found
            .json()
            .as_array()
            .unwrap()
            .iter()
            .map(|one| one.as_str().unwrap().to_owned())
            .collect()
    }

    /// Presses keys where the focus is.
    async fn keys(&self, keys: impl Into<TypingData>) {
        self.web.active_element().await.unwrap().send_keys(keys).await.unwrap();
    }

    async fn script(&self, script: &str) -> serde_json::Value {
        self.web.execute(script, vec![]).await.unwrap().json().clone()
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_plan_is_used_by_mouse_and_by_keys_and_shows_where_others_are() {
    let service = Service::start().await;
    service.open_demo("slope-plan").await;
    let browser = Browser::open(1280, 800).await;
    browser.sign_in(&service, "/sessions/slope-plan").await;
    let token = service.token("slope-plan", "mirela", "picker").await;
    let (mut mirela, _) = Raw::enter(&service, "slope-plan", &token).await;
    let say = json!({ "type": "presence", "set": { "pointer": { "x": 60, "y": 60 }, "selection": ["ladder-1"] } });
    mirela.send(&say).await;
    browser.reads("at 60.0, 60.0 m · has ladder-1").await;

    // By keys: the mark has the focus, arrows move it by a metre, with shift by five.
    let mark = |id: &str| By::Css(format!("g[role='button'][aria-label^='{id},']"));
    browser.find(mark("ladder-1")).await;
    browser.script("document.querySelector(\"g[aria-label^='ladder-1,']\").focus()").await;
    browser.keys(Key::Right + "").await;
    browser.keys(Key::Shift + Key::Up).await;
    until("it stands where the keys put it", async || {
        (service.state("slope-plan").await["markers"]["ladder-1"]["spot"]
            == json!({ "x": 31, "y": 29 }))
        .then_some(())
    })
    .await;
    let label = browser.find(mark("ladder-1")).await.attr("aria-label").await.unwrap().unwrap();
    assert_eq!(label, "ladder-1, ladder, at 31.0, 29.0 m");

    // By mouse: a drag is many updates with one gesture, held meanwhile, and the others see the
    // pointer.
    let from = browser.find(mark("crates-gate")).await;
    let actions = browser.web.action_chain().click_and_hold_element(&from);
    actions.move_by_offset(60, -40).move_by_offset(60, -40).perform().await.unwrap();
    until("it is held", async || {
        let who: serde_json::Value =
            service.get("/v1/sessions/slope-plan/participants").await.json().await.unwrap();
        (who["holds"][0]["at"] == "/markers/crates-gate").then_some(())
    })
    .await;
    loop {
        let frame = mirela.next("presence").await;
        let tabs = frame["of"]["console"].as_object().into_iter().flatten();
        let does = |told: &serde_json::Value| {
            told["pointer"].is_object() && told["selection"] == json!(["crates-gate"])
        };
        if tabs.into_iter().any(|(_, told)| does(told)) {
            break;
        }
    }
    browser.web.action_chain().release().perform().await.unwrap();
    until("it is free", async || {
        let who: serde_json::Value =
            service.get("/v1/sessions/slope-plan/participants").await.json().await.unwrap();
        who["holds"].as_array().unwrap().is_empty().then_some(())
    })
    .await;
    let journal = service.journal("slope-plan").await;
    let gestures: std::collections::BTreeSet<_> = journal
        .iter()
        .filter(|update| update["effects"][0]["at"] == "/markers/crates-gate/spot")
        .map(|update| update["gesture"].to_string())
        .collect();
    assert_eq!(gestures.len(), 1, "{journal:?}");
    // Zoomed in, a place is the same place.
    browser.press("Zoom in").await;
    browser.script("document.querySelector(\"g[aria-label^='ladder-2,']\").focus()").await;
    browser.keys(Key::Left + "").await;
    until("a metre is a metre at any zoom", async || {
        (service.state("slope-plan").await["markers"]["ladder-2"]["spot"]["x"] == json!(70))
            .then_some(())
    })
    .await;
    browser.press("Show all of it").await;
    browser.picture("plan").await;
    assert_eq!(browser.faults_of_access().await, Vec::<String>::new());
    assert!(browser.fits().await);
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_invited_guest_takes_part_under_any_name_and_is_removed_again() {
    let service = Service::start().await;
    service.open_demo("slope-plan").await;
    let browser = Browser::open(1280, 800).await;
    browser.sign_in(&service, "/sessions/slope-plan").await;
    browser.reads("Nobody is invited").await;
    browser.press("Invite").await;
    let link = browser.find(By::Css("p .select-all")).await.text().await.unwrap();
    // The page is not signed in by anything that it could read itself.
    let kept = "return [document.cookie, ...Object.values(localStorage), \
        ...Object.values(sessionStorage)].join()";
    assert!(!browser.script(kept).await.as_str().unwrap().contains(&service.key));
    browser.web.refresh().await.unwrap();
    browser.reads("Sign out").await;

    let guest = Browser::open(390, 844).await;
    guest.web.goto(&link).await.unwrap();
    let name = "<img src=x onerror=\"document.title='taken over'\">";
    guest.find(By::Id("name")).await.send_keys(name).await.unwrap();
    guest.picture("join").await;
    guest.press("Take part").await;
    guest.reads("South slope plan").await;
    guest.reads(name).await;
    assert!(guest.fits().await);
    browser.reads(name).await;
    assert_eq!(
        browser.script("return document.querySelectorAll('main img').length").await,
        json!(0)
    );
    assert_ne!(browser.web.title().await.unwrap(), "taken over");
    browser.find(By::Css("[aria-label^='Remove <img']")).await.click().await.unwrap();
    browser.reads("Every tab of theirs is let go of").await;
    assert_eq!(browser.faults_of_access().await, Vec::<String>::new());
    browser
        .find(By::XPath("//*[@role='alertdialog']//button[.='Remove']"))
        .await
        .click()
        .await
        .unwrap();
    guest.reads("You were removed from this session").await;
    guest.close().await;

    browser.press("Freeze").await;
    browser.reads("This session is frozen").await;
    browser.press("Thaw").await;
    browser.web.goto(format!("{}/sessions/slope-plan/audit", service.server)).await.unwrap();
    for words in ["came by an invitation", "removed", "froze", "thawed", "invited"] {
        browser.reads(words).await;
    }
    browser.picture("audit").await;
    assert_eq!(browser.faults_of_access().await, Vec::<String>::new());
    browser.press("Sign out").await;
    browser.reads("Look into your sessions").await;
    browser.web.refresh().await.unwrap();
    browser.reads("Look into your sessions").await;
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn side_by_side_each_role_has_its_own_view_by_keyboard_alone() {
    let service = Service::start().await;
    service.open_demo("last-barrel").await;
    let browser = Browser::open(1280, 800).await;
    browser.sign_in(&service, "/sessions/last-barrel/side-by-side").await;
    browser.reads("All 3 replicas are equal at #1").await;
    browser.reads("Hidden from them, and never sent:").await;
    // Tobin becomes a bidder: by keys alone, from the top of the page on.
    let role = "[aria-label='Role of Tobin']";
    for _ in 0..60 {
        browser.keys(Key::Tab + "").await;
        let reached =
            browser.script(&format!("return document.activeElement.matches(\"{role}\")")).await;
        if reached == json!(true) {
            break;
        }
    }
    browser.keys(Key::Enter + "").await;
    browser.find(By::XPath("//*[@role='option'][.='as bidder']")).await;
    browser.keys(Key::Down + "").await;
    browser.keys(Key::Enter + "").await;
    browser.reads("All 3 replicas are equal at #1, each in what its role sees").await;
    let reserve = By::Css("section[aria-label='Pane 2, Tobin'] [aria-label='/reserve']");
    until("the reserve is not in the bidder's pane", async || {
        browser.web.find(reserve.clone()).await.is_err().then_some(())
    })
    .await;
    browser.picture("roles").await;
    assert_eq!(browser.faults_of_access().await, Vec::<String>::new());
    browser.close().await;
}
