//! Queries that are asked for once and then kept up to date, with the real service.

use rendel_client::{Change, Connection, Encoding, Event, Target};
use rendel_core::{Asked, Rows};
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};
use thirtyfour::By;
use uuid::Uuid;

use crate::gates::{SECRET, StandIn};
use crate::harness::{Browser, Events, Raw, Service, free_port, name, until};

const BOARD: &str = r#"
charter = "board"
version = 1
[roles.picker]
edit = ["/**"]
see = ["/**", { but = "/pickers/*/wage" }, { but = "/drafts/*", unless = "record.by == who.id" }]
[roles.steward]
edit = ["/**"]
powers = ["ask"]
[state.pickers]
kind = "map"
[state.pickers.each.name]
kind = "register"
[state.pickers.each.crates]
kind = "counter"
[state.pickers.each.wage]
kind = "register"
[state.drafts]
kind = "map"
[state.drafts.each.by]
kind = "register"
[state.drafts.each.text]
kind = "register"
[queries.leaders]
from = "/pickers"
where = "record.crates >= least"
with = { least = { type = "number" } }
order = ["-crates"]
limit = 3
fields = ["name", "crates"]
[queries.wages]
from = "/pickers"
order = ["-wage"]
[queries.drafts]
from = "/drafts"
order = ["text"]
"#;

async fn board() -> Service {
    let service = Service::start().await;
    service.publish(BOARD).await;
    let picker = |at: u64| (format!("p{at}"), json!({ "name": format!("n{at}"), "crates": at }));
    let pickers: serde_json::Map<String, Value> = (0..40).map(picker).collect();
    service.open("board", json!({ "pickers": pickers })).await;
    service
}

fn leaders() -> Asked {
    serde_json::from_value(json!({ "name": "leaders", "with": { "least": 1 } })).unwrap()
}

async fn stateless(service: &Service, who: &str, role: &str) -> Connection {
    let (server, session) = (service.server.clone(), "board".to_owned());
    let token = service.token("board", who, role).await;
    let target = Target { server, session, token, encoding: Encoding::Json };
    Connection::new(target, Uuid::now_v7()).stateless()
}

/// Goes on until the rows are so.
async fn rows(connection: &mut Connection, query: u64, done: impl Fn(&Rows) -> bool) -> Rows {
    loop {
        if let Some(rows) = connection.replica().rows(query).filter(|rows| done(rows)) {
            return rows.clone();
        }
        connection.next().await.unwrap();
    }
}

fn crates(rows: &Rows) -> Vec<u64> {
    rows.rows.iter().map(|row| row.value["crates"].as_u64().unwrap()).collect()
}

/// The rows over HTTP.
async fn fresh(service: &Service) -> Value {
    let path = "/v1/sessions/board/queries/leaders?with=%7B%22least%22%3A1%7D";
    service.get(path).await.json().await.unwrap()
}

#[tokio::test]
async fn a_phone_follows_three_rows_of_forty_without_the_state_also_after_a_crash() {
    let mut service = board().await;
    let mut phone = stateless(&service, "oda", "picker").await;
    let query = phone.follow_query(leaders()).await;
    let first = rows(&mut phone, query, |_| true).await;
    assert_eq!(crates(&first), [39, 38, 37]);
    assert!(phone.replica().confirmed().is_none(), "no state came");
    assert_eq!(first.rows[0].value, json!({ "name": "n39", "crates": 39 }), "what is asked for");

    // The sender proposes without a state; another follows; a newcomer asks over HTTP.
    let mut other = stateless(&service, "tobin", "steward").await;
    let theirs = other.follow_query(leaders()).await;
    rows(&mut other, theirs, |_| true).await;
    let token = service.token("board", "wren", "picker").await;
    let (mut wren, _) = Raw::enter(&service, "board", &token).await;
    wren.propose(json!([{ "at": "/pickers/p1/crates", "op": "add", "by": 49 }])).await;
    let update = wren.answer().await.unwrap();
    for (connection, query) in [(&mut phone, query), (&mut other, theirs)] {
        let told = rows(connection, query, |rows| crates(rows)[0] == 50).await;
        assert_eq!((crates(&told), told.seq), (vec![50, 39, 38], update["seq"].as_u64().unwrap()));
    }
    assert_eq!(fresh(&service).await["rows"][0]["path"], "/pickers/p1");
    wren.propose(json!([{ "at": "/pickers/p39", "op": "drop" }])).await;
    wren.answer().await.unwrap();
    rows(&mut phone, query, |rows| crates(rows) == [50, 38, 37]).await;

    service.kill();
    service.launch();
    let (mut wren, _) = Raw::enter(&service, "board", &token).await;
    wren.propose(json!([{ "at": "/pickers/p1/crates", "op": "add", "by": -50 }])).await;
    wren.answer().await.unwrap();
    let told = rows(&mut phone, query, |rows| crates(rows) == [38, 37, 36]).await;
    assert_eq!(serde_json::to_value(&told).unwrap()["rows"], fresh(&service).await["rows"]);
}

#[tokio::test]
async fn an_own_proposal_without_a_state_is_answered() {
    let service = board().await;
    let token = service.token("board", "oda", "picker").await;
    let mut raw = Raw::connect(&service, "board").await;
    let client = Uuid::now_v7();
    raw.send(&json!({ "type": "enter", "token": token, "client": client, "stateless": true }))
        .await;
    let welcome = raw.next("welcome").await;
    assert!(welcome.get("state").is_none() && welcome.get("updates").is_none(), "{welcome}");
    raw.send(&json!({ "type": "follow-query", "query": 7, "ask": leaders() })).await;
    assert_eq!(raw.next("rows").await["query"], 7);
    let edits = json!([{ "at": "/pickers/p2/crates", "op": "add", "by": 100 }]);
    raw.send(&json!({ "type": "propose", "n": 1, "seen": 0, "answered": 0, "edits": edits })).await;
    let (mut outcome, mut steps) = (Value::Null, Value::Null);
    while outcome.is_null() || steps.is_null() {
        let frame = raw.any().await.unwrap();
        match frame["type"].as_str().unwrap() {
            "outcome" => outcome = frame,
            "row-steps" => steps = frame,
            "settled" | "beside" => panic!("an update came: {frame}"),
            _ => {}
        }
    }
    assert_eq!((&outcome["n"], &outcome["seq"]), (&json!(1), &json!(1)), "{outcome}");
    assert_eq!(
        steps["steps"],
        json!([
            { "step": "out", "at": 2 },
            { "step": "in", "at": 0, "row": { "path": "/pickers/p2", "value": { "name": "n2", "crates": 102 } } },
        ]),
    );
    raw.send(&json!({ "type": "leave-query", "query": 7 })).await;
    raw.send(
        &json!({ "type": "follow-query", "query": 8, "ask": { "name": "leaders", "with": {} } }),
    )
    .await;
    let refused = raw.next("query-refused").await;
    assert_eq!((&refused["query"], name(&refused["problem"])), (&json!(8), "out-of-bounds".into()));
    raw.send(&json!({ "type": "follow-query", "query": 8, "ask": { "nmae": "leaders" } })).await;
    assert_eq!(name(&raw.next("notice").await["problem"]), "malformed");
}

/// Whoever was away for a moment is told what has changed in their rows, and not the rows.
#[tokio::test]
async fn who_comes_back_is_told_what_has_changed_over_the_socket_and_as_events() {
    let service = board().await;
    let token = service.token("board", "oda", "picker").await;
    let follow = async |had: Value| {
        let (mut raw, _) = Raw::enter(&service, "board", &token).await;
        let frame = json!({ "type": "follow-query", "query": 1, "ask": leaders(), "had": had });
        raw.send(&frame).await;
        raw
    };
    let path = "/v1/sessions/board/queries/leaders?with=%7B%22least%22%3A1%7D";
    let stream = async |last: Option<String>| {
        let mut request = service.request(Method::GET, path).header("Accept", "text/event-stream");
        if let Some(last) = last {
            request = request.header("Last-Event-ID", last);
        }
        Events { response: request.send().await.unwrap(), text: String::new() }
    };
    let mut raw = follow(Value::Null).await;
    let first = raw.next("rows").await;
    let had = json!({ "mark": first["mark"], "seq": first["seq"] });
    let mut events = stream(None).await;
    let told = events.next().await;
    assert_eq!((told.name.as_str(), told.id), ("rows", told.data["seq"].as_u64()));
    drop((raw, events));

    let raise = json!({ "edits": [{ "at": "/pickers/p2/crates", "op": "add", "by": 100 }] });
    service.post("/v1/sessions/board/proposals", &raise).await;
    let steps = json!([
        { "step": "out", "at": 2 },
        { "step": "in", "at": 0, "row": { "path": "/pickers/p2", "value": { "name": "n2", "crates": 102 } } },
    ]);
    let frame = follow(had.clone()).await.next("row-steps").await;
    assert_eq!((&frame["since"], &frame["steps"]), (&had["seq"], &steps), "{frame}");
    let again = stream(told.last).await.next().await;
    assert_eq!((again.name.as_str(), &again.data["steps"]), ("row-steps", &steps));
    let same = stream(again.last).await.next().await;
    assert_eq!((same.name.as_str(), &same.data["steps"]), ("row-steps", &json!([])));

    // Of other rows there is nothing to go on from.
    let other = json!({ "mark": "0123456789abcdef", "seq": first["seq"] });
    assert_eq!(follow(other).await.next("rows").await["rows"][0]["path"], "/pickers/p2");
    let request = service.request(Method::GET, path).header("Accept", "text/event-stream");
    let unfit = request.header("Last-Event-ID", "here").send().await.unwrap();
    assert_eq!(unfit.status(), StatusCode::BAD_REQUEST);
}

/// A page that shows many lists comes and goes at once.
#[tokio::test]
async fn a_page_of_as_many_queries_as_there_may_be_comes_and_goes_at_once() {
    let service = board().await;
    let token = service.token("board", "oda", "picker").await;
    let (mut raw, _) = Raw::enter(&service, "board", &token).await;
    for query in 0..32 {
        raw.send(&json!({ "type": "follow-query", "query": query, "ask": leaders() })).await;
    }
    for query in 0..32 {
        assert_eq!(raw.next("rows").await["query"], query);
    }
    raw.send(&json!({ "type": "follow-query", "query": 32, "ask": leaders() })).await;
    assert_eq!(name(&raw.next("query-refused").await["problem"]), "full");
    for query in 0..100 {
        raw.send(&json!({ "type": "leave-query", "query": query })).await;
    }
    let more = || json!({ "type": "follow-query", "query": 7, "ask": leaders() });
    until("the connection is there, and has space", async || {
        raw.send(&more()).await;
        loop {
            let frame = raw.any().await.expect("it goes on");
            match frame["type"].as_str().unwrap() {
                "rows" => return Some(()),
                "query-refused" => return None,
                _ => {}
            }
        }
    })
    .await;

    // The client asks again for what came too fast.
    let mut client = stateless(&service, "tobin", "picker").await;
    let mut followed = Vec::new();
    for _ in 0..4 {
        for query in std::mem::take(&mut followed) {
            client.leave_query(query).await;
        }
        for _ in 0..30 {
            followed.push(client.follow_query(leaders()).await);
        }
        rows(&mut client, followed[0], |_| true).await;
    }
    for query in followed {
        rows(&mut client, query, |_| true).await;
    }
}

/// What somebody is shown follows their role, also while they follow.
#[tokio::test]
async fn nobody_is_told_rows_of_what_they_may_not_see() {
    let service = board().await;
    let mut oda = stateless(&service, "oda", "picker").await;
    let wages = Asked { name: Some("wages".to_owned()), ..Asked::default() };
    oda.follow_query(wages.clone()).await;
    let problem = loop {
        if let Event::Changed(Change::QueryRefused { problem, .. }) = oda.next().await.unwrap() {
            break problem;
        }
    };
    assert_eq!(problem.kind().name(), "not-allowed");
    let drafts =
        oda.follow_query(Asked { name: Some("drafts".to_owned()), ..Asked::default() }).await;
    rows(&mut oda, drafts, |rows| rows.rows.is_empty()).await;
    let put = |id: &str, by: &str| json!([{ "at": "/drafts", "op": "put", "id": id, "value": { "by": by, "text": id } }]);
    for (id, by) in [("d1", "tobin"), ("d2", "oda")] {
        let proposal = json!({ "edits": put(id, by) });
        let settled = service.post("/v1/sessions/board/proposals", &proposal).await;
        assert_eq!(settled.status(), StatusCode::OK);
    }
    let paths = |rows: &Rows| rows.rows.iter().map(|row| row.path.to_string()).collect::<Vec<_>>();
    rows(&mut oda, drafts, |rows| paths(rows) == ["/drafts/d2"]).await;
    // It is given away, and another comes.
    let give = |id: &str, to: &str| json!([{ "at": format!("/drafts/{id}/by"), "op": "set", "value": to }]);
    let given = json!({ "edits": give("d1", "oda") });
    service.post("/v1/sessions/board/proposals", &given).await;
    rows(&mut oda, drafts, |rows| paths(rows) == ["/drafts/d1", "/drafts/d2"]).await;
    let taken = json!({ "edits": give("d2", "tobin") });
    service.post("/v1/sessions/board/proposals", &taken).await;
    rows(&mut oda, drafts, |rows| paths(rows) == ["/drafts/d1"]).await;
    // Another role sees all of them, over the same connection.
    let body = json!({ "role": "steward" });
    let amended = service.request(Method::PATCH, "/v1/sessions/board/participants/oda").json(&body);
    assert_eq!(amended.send().await.unwrap().status(), StatusCode::OK);
    rows(&mut oda, drafts, |rows| rows.rows.len() == 2).await;
}

#[tokio::test]
async fn rows_come_over_http_with_a_tag_as_events_as_patches_and_from_the_command() {
    let service = board().await;
    let path = "/v1/sessions/board/queries/leaders?with=%7B%22least%22%3A1%7D";
    let answer = service.get(path).await;
    let tag = answer.headers()["etag"].to_str().unwrap().to_owned();
    let known = |tag: &str| service.request(Method::GET, path).header("If-None-Match", tag).send();
    assert_eq!(known(&tag).await.unwrap().status(), StatusCode::NOT_MODIFIED);

    let request = service.request(Method::GET, &format!("{path}&form=json-patch"));
    let response = request.header("Accept", "text/event-stream").send().await.unwrap();
    let mut events = Events { response, text: String::new() };
    let first = events.next().await;
    assert_eq!((first.name.as_str(), first.id), ("rows", first.data["seq"].as_u64()));
    let mut list = first.data["rows"].clone();
    let edit = |at: &str, by: i64| json!([{ "at": format!("/pickers/{at}/crates"), "op": "add", "by": by }]);
    for (at, by) in [("p38", 7), ("p39", -39), ("p1", 5), ("p37", 1)] {
        let proposal = json!({ "edits": edit(at, by) });
        let settled = service.post("/v1/sessions/board/proposals", &proposal).await;
        assert_eq!(settled.status(), StatusCode::OK);
    }
    let now = fresh(&service).await;
    until("the patches lead to what is there", async || {
        let told = events.next().await;
        assert_eq!(told.name, "patch");
        let patch: json_patch::Patch = serde_json::from_value(told.data).unwrap();
        json_patch::patch(&mut list, &patch).unwrap();
        (list == now["rows"]).then_some(())
    })
    .await;
    assert_eq!(known(&tag).await.unwrap().status(), StatusCode::OK);
    // A change that is none of these rows leaves the tag as it is.
    let tag = service.get(path).await.headers()["etag"].to_str().unwrap().to_owned();
    service.post("/v1/sessions/board/proposals", &json!({ "edits": edit("p3", 1) })).await;
    assert_eq!(known(&tag).await.unwrap().status(), StatusCode::NOT_MODIFIED);

    let told = service.rendel(&["query", "board", "leaders", "--with", "least=1", "--limit", "2"]);
    assert!(told.status.success(), "{told:?}");
    let told = String::from_utf8(told.stdout).unwrap();
    assert!(
        told.contains("/pickers/p38") && told.contains("45") && !told.contains("/pickers/p36"),
        "{told}"
    );
    let told = service.rendel(&[
        "query",
        "board",
        "--from",
        "/pickers",
        "--where",
        "record.crates == 3",
        "--json",
    ]);
    assert!(told.status.success(), "{told:?}");
    let of_the_moment = service.rendel(&["query", "board", "--from", "/pickers", "--as", "picker"]);
    assert!(String::from_utf8_lossy(&of_the_moment.stderr).contains("The power"));
    let place = service.rendel(&["query", "board", "--path", "/pickers/p3", "--json"]);
    let place: Value = serde_json::from_slice(&place.stdout).unwrap();
    assert_eq!(place["rows"][0]["value"]["crates"], 4);
}

#[tokio::test]
async fn the_console_shows_rows_as_they_change_and_writes_the_charter_for_others() {
    let service = Service::start().await;
    service.open_demo("picking-board").await;
    let browser = Browser::open(1280, 800).await;
    browser.sign_in(&service, "/sessions/picking-board").await;
    let first = || async {
        let row = browser.find(By::Css("section[aria-label='Query'] tbody tr")).await;
        row.text().await.unwrap_or_default()
    };
    browser.reads("10 rows, and there may be more").await;
    let add = json!({ "edits": [{ "at": "/pickers/p006/crates", "op": "add", "by": 90 }] });
    service.post("/v1/sessions/picking-board/proposals", &add).await;
    until("the best is another", async || {
        let first = first().await;
        (first.contains("/pickers/p006") && first.contains("90")).then_some(())
    })
    .await;
    browser.picture("query").await;
    let row = browser.find(By::Css("section[aria-label='Query'] input[aria-label='row']")).await;
    row.send_keys("dry 2").await.unwrap();
    until("only that row of trees", async || first().await.contains("dry 2").then_some(())).await;

    browser.find(By::Css("button[aria-label='Query']")).await.click().await.unwrap();
    let own = browser
        .find(By::XPath("//*[@role='option' and normalize-space()='one of your own']"))
        .await;
    own.click().await.unwrap();
    let condition = browser.find(By::Css("input[aria-label='Where']")).await;
    condition.send_keys("record.crates == 90").await.unwrap();
    browser.reads("1 row").await;
    condition.send_keys(" &&").await.unwrap();
    browser.reads("of the query does not fit").await;
    condition.send_keys(" record.row != ''").await.unwrap();
    browser.reads("1 row").await;
    browser.press("crates").await;
    browser
        .find(By::XPath("//summary[normalize-space()='In the charter']"))
        .await
        .click()
        .await
        .unwrap();
    browser.reads("order = [\"crates\"]").await;
    assert!(browser.fits().await);
    browser.close().await;
    let narrow = Browser::open(390, 844).await;
    narrow.sign_in(&service, "/sessions/picking-board").await;
    narrow.reads("10 rows").await;
    narrow.picture("query-narrow").await;
    assert!(narrow.fits().await);
    narrow.close().await;
}

const TREES: &str = r#"
charter = "tree-book"
version = 1
[limits]
state = "16MiB"
[roles.steward]
edit = ["/**"]
powers = ["ask"]
[state.trees]
kind = "map"
[state.trees.each.row]
kind = "register"
[state.trees.each.crates]
kind = "counter"
"#;

/// All records can be reached, and only those are drawn that can be seen.
#[tokio::test]
async fn a_table_of_ten_thousand_records_is_scrolled_sorted_and_filtered() {
    let service = Service::start().await;
    service.publish(TREES).await;
    let tree = |at: u64| {
        let row =
            format!("{} {}", ["dry", "russet"][usize::try_from(at % 2).unwrap()], at / 2 % 40);
        (format!("t{at:04}"), json!({ "row": row, "crates": at * 7 % 10_000 }))
    };
    let trees: serde_json::Map<String, Value> = (0..10_000).map(tree).collect();
    service.open("tree-book", json!({ "trees": trees })).await;
    let browser = Browser::open(1280, 800).await;
    browser.sign_in(&service, "/sessions/tree-book").await;
    browser.reads("10,000 records").await;
    let table = "document.querySelector(\"section[aria-label='State'] table\")";
    let drawn = async || -> Vec<String> {
        let script = format!(
            "return [...{table}.querySelectorAll('tbody[data-index] td:first-child')].map(td => td.title)"
        );
        browser.web.execute(&script, vec![]).await.unwrap().convert().unwrap()
    };
    let scroll = async |to: &str| {
        let script = format!("const box = {table}.parentElement; box.scrollTop = {to}");
        browser.web.execute(&script, vec![]).await.unwrap();
    };
    let begins = async |id: &str| {
        until(&format!("{id} is first"), async || (drawn().await.first()? == id).then_some(()))
            .await;
    };
    begins("t0000").await;
    assert!(drawn().await.len() < 60, "{}", drawn().await.len());
    scroll("box.scrollHeight").await;
    until("the last is drawn", async || (drawn().await.last()? == "t9999").then_some(())).await;
    assert!(drawn().await.len() < 60, "{}", drawn().await.len());

    // By the service: up, and down.
    let head = By::Css("section[aria-label='State'] button[title='Sort by crates']");
    browser.find(head.clone()).await.click().await.unwrap();
    scroll("0").await;
    begins("t0000").await;
    browser.find(head).await.click().await.unwrap();
    begins("t2857").await;
    // Far beyond the first page of the result.
    until("the least are reached", async || {
        scroll("box.scrollHeight").await;
        (drawn().await.last()? == "t0000").then_some(())
    })
    .await;
    scroll("0").await;
    browser.press("Filter by row").await;
    let input = browser.find(By::Css("input[aria-label='What row is compared with']")).await;
    input.send_keys("dry 3").await.unwrap();
    browser.reads("125 of 10,000 records").await;
    browser.picture("records").await;
    begins("t8566").await;
    // Others come in and go up by themselves.
    for edits in [
        json!([{ "at": "/trees/t0001/row", "op": "set", "value": "dry 3" }]),
        json!([{ "at": "/trees/t0001/crates", "op": "add", "by": 20_000 }]),
    ] {
        service.post("/v1/sessions/tree-book/proposals", &json!({ "edits": edits })).await;
    }
    browser.reads("126 of 10,000 records").await;
    begins("t0001").await;
    input.send_keys("x").await.unwrap();
    browser.reads("No record matches").await;
    browser.press("Clear").await;
    begins("t0001").await;
    assert!(browser.fits().await);
    browser.close().await;
}

#[tokio::test]
async fn the_picking_board_shows_the_best_of_a_row_totals_and_remarks_to_one() {
    let port = free_port();
    let _stand_in = StandIn::start(port);
    let url = format!("http://127.0.0.1:{port}");
    let variables = format!("{{GATE_URL=\"{url}\"}}");
    let settings = [("RENDEL_VARIABLES", variables.as_str()), ("RENDEL_GATE_SECRET", SECRET)];
    let service = Service::start_with(&settings).await;
    until("the stand-in is there", async || reqwest::get(&url).await.ok()).await;
    service.open_demo("picking-board").await;
    let browser = Browser::open(1280, 800).await;
    browser.sign_in(&service, "/sessions/picking-board/table").await;
    let of = |who: &str, rest: &str| By::XPath(format!("//section[@aria-label='{who}']{rest}"));
    let text = async |who: &str, part: &str| {
        let by = of(who, &format!("//section[@aria-label='{part}']"));
        browser.find(by).await.text().await.unwrap_or_default()
    };
    let press = async |who: &str, rest: &str| {
        browser.find(of(who, rest)).await.click().await.unwrap();
    };
    browser.reads("1,193 crates").await;
    press("Tobin", "//button[contains(., 'dry 2')]").await;
    let is_row = |list: &str| list.matches("dry 2").count() == 11;
    until("ten of that row", async || is_row(&text("Tobin", "The ten best").await).then_some(()))
        .await;
    assert!(!is_row(&text("Oda", "The ten best").await), "Oda has all rows");
    // What one does is seen by both: in the list, in its row, in all.
    press("Oda", "//section[@aria-label='The ten best']//li[1]//button").await;
    browser.reads("1,194 crates").await;
    until("both know", async || {
        let (oda, tobin) = (text("Oda", "Totals").await, text("Tobin", "Totals").await);
        (oda == tobin && oda.contains("1,194")).then_some(())
    })
    .await;

    let say = async |words: &str| {
        let input = of("Oda", "//section[@aria-label='Remarks']//form//input");
        browser.find(input).await.send_keys(words).await.unwrap();
        press("Oda", "//section[@aria-label='Remarks']//button[normalize-space()='Say']").await;
    };
    press("Oda", "//button[@aria-label='To whom']").await;
    let to = By::XPath("//*[@role='option' and normalize-space()='to Tobin']");
    browser.find(to).await.click().await.unwrap();
    say("That darn ladder is yours.").await;
    until("Tobin reads it, as it was let through", async || {
        let remarks = text("Tobin", "Remarks").await;
        let to_one = remarks.split("to everybody").next()?;
        to_one.contains("That dear ladder is yours.").then_some(())
    })
    .await;
    assert!(!text("Oda", "Remarks").await.contains("dear ladder"), "it is not to her");
    say("rotten apples").await;
    browser.reads("Keep remarks friendly").await;
    browser.picture("picking-board").await;
    assert!(browser.fits().await);
    browser.close().await;
    let narrow = Browser::open(390, 844).await;
    narrow.sign_in(&service, "/sessions/picking-board/table").await;
    narrow.reads("The ten best").await;
    assert!(narrow.fits().await);
    narrow.close().await;
}
