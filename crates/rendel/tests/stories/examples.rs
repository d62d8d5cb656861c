//! The examples, as whoever copies them sees them: pages of another origin, in headless Chromium.

use std::path::PathBuf;
use std::process::{Child, Command, Stdio};

use serde_json::json;
use thirtyfour::prelude::*;

use crate::harness::{Blocking, Browser, Service, free_port, until};

/// Serves what an example was built to, as its developer's own server would.
struct Pages {
    server: Child,
    address: String,
}

impl Pages {
    async fn of(example: &str) -> Self {
        let built = folder(example).join("dist");
        assert!(built.exists(), "{example} is not built; scripts/test builds it");
        let port = free_port();
        let server = Command::new("python3")
            .args(["-m", "http.server", "--bind", "127.0.0.1", "--directory"])
            .args([built.to_str().unwrap(), &port.to_string()])
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        let address = format!("http://127.0.0.1:{port}");
        let http = reqwest::Client::builder().no_proxy().build().unwrap();
        until("the pages are served", async || http.get(&address).send().await.ok()).await;
        Self { server, address }
    }

    fn at(&self, server: &str) -> String {
        format!("{}/?server={server}", self.address)
    }
}

impl Drop for Pages {
    fn drop(&mut self) {
        let _ = self.server.kill();
        let _ = self.server.wait();
    }
}

fn folder(example: &str) -> PathBuf {
    PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../examples").join(example)
}

async fn with(example: &str, charter: &str) -> (Service, Pages) {
    let service = Service::start().await;
    let source = std::fs::read_to_string(folder(example).join(charter)).unwrap();
    service.publish(&source).await;
    service.open_as(example, example, json!({})).await;
    (service, Pages::of(example).await)
}

async fn add(browser: &Browser, what: &str) {
    browser.find(By::Css("[aria-label='What to bring']")).await.send_keys(what).await.unwrap();
    browser.press("Add").await;
    browser.reads(what).await;
}

/// How many settled updates of a session there are.
async fn settled(service: &Service, session: &str, count: usize) {
    let what = format!("{count} updates are settled");
    until(&what, async || (service.journal(session).await.len() == count).then_some(())).await;
}

#[test]
fn the_types_beside_the_examples_are_what_their_charters_declare() {
    for (example, charter) in [("shared-list", "list.toml"), ("tasting-notes", "notes.toml")] {
        let file = |name: &str| folder(example).join(name).to_str().unwrap().to_owned();
        let types = |check: &[&str], to: &str| {
            let mut command = Command::new(env!("CARGO_BIN_EXE_rendel"));
            command.args(["charter", "types", &file(charter), "--for", "typescript", "--to", to]);
            command.args(check).output().unwrap()
        };
        let output = types(&["--check"], &file("types.ts"));
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
        // What is not current any more is found, and left as it is.
        let dir = tempfile::tempdir().unwrap();
        let older = dir.path().join("types.ts");
        std::fs::write(&older, "export {};\n").unwrap();
        assert!(!types(&["--check"], older.to_str().unwrap()).status.success());
        assert_eq!(std::fs::read_to_string(&older).unwrap(), "export {};\n");
        assert!(types(&[], older.to_str().unwrap()).status.success());
        assert!(types(&["--check"], older.to_str().unwrap()).status.success());
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_list_is_shared_by_two_pages_and_lives_through_offline_reloads_and_kills() {
    let (mut service, pages) = with("shared-list", "list.toml").await;
    let (one, other) = (Browser::open(1280, 800).await, Browser::open(390, 800).await);
    one.web.goto(pages.at(&service.server)).await.unwrap();
    one.reads("Nothing yet").await;
    other.web.goto(pages.at(&service.server)).await.unwrap();
    one.reads("2 here").await;
    add(&one, "Two ladders").await;
    other.reads("Two ladders").await;
    other.find(By::Css("input[type=checkbox]")).await.click().await.unwrap();
    one.find(By::Css(".done")).await;
    one.picture("shared-list").await;
    assert!(one.fits().await && other.fits().await);

    // Without a network one goes on, and what was done is sent once it is back.
    one.offline(true).await;
    one.reads("away").await;
    add(&one, "Apple bags").await;
    one.reads("1 to be sent").await;
    one.offline(false).await;
    other.reads("Apple bags").await;
    settled(&service, "shared-list", 3).await;

    // The service is gone, the page is loaded again, and what is pending is sent once by the next.
    service.kill();
    one.reads("away").await;
    add(&one, "A thermos").await;
    one.reads("1 to be sent").await;
    one.web.refresh().await.unwrap();
    one.reads("A thermos").await;
    one.reads("1 to be sent").await;
    one.reads("Two ladders").await;
    service.launch();
    other.reads("A thermos").await;
    one.reads("2 here").await;
    settled(&service, "shared-list", 4).await;
    let state = service.state("shared-list").await;
    let items = state["items"].as_object().unwrap();
    let whats: std::collections::BTreeSet<_> =
        items.values().map(|item| item["what"].as_str().unwrap()).collect();
    assert_eq!(whats, ["A thermos", "Apple bags", "Two ladders"].into());
    assert!(items.values().all(|item| item["by"].as_str().unwrap().starts_with("guest-")));
    one.close().await;
    other.close().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn notes_are_written_together_where_a_proxy_blocks_websockets_and_after_it_lets_them_through()
{
    let (service, pages) = with("tasting-notes", "notes.toml").await;
    let proxy = Blocking::before(&service.server).await;
    let (one, other) = (Browser::open(1280, 800).await, Browser::open(1280, 800).await);
    one.web.goto(pages.at(&proxy.server)).await.unwrap();
    other.web.goto(pages.at(&service.server)).await.unwrap();
    one.reads("2 here").await;
    let ways = async || {
        let list = service.get("/v1/sessions/tasting-notes/connections").await;
        let list: serde_json::Value = list.json().await.unwrap();
        let all = list["connections"].as_array().unwrap().iter();
        let mut ways: Vec<_> = all.map(|one| one["way"].as_str().unwrap().to_owned()).collect();
        ways.sort();
        ways
    };
    assert_eq!(ways().await, ["json", "line"]);
    let [of_one, of_other] = [one.find(By::Id("notes")).await, other.find(By::Id("notes")).await];
    let value = async |notes: &WebElement| notes.value().await.unwrap().unwrap_or_default();
    of_one.send_keys("Bright, then ").await.unwrap();
    until("the other has it", async || (value(&of_other).await == "Bright, then ").then_some(()))
        .await;
    of_other.send_keys("dry").await.unwrap();
    other.find(By::Id("sweet")).await.click().await.unwrap();
    one.reads("Sweet 1").await;
    until("one has it", async || (value(&of_one).await == "Bright, then dry").then_some(())).await;
    one.picture("tasting-notes").await;

    // A WebSocket is tried now and then, and taken as soon as one gets through.
    proxy.pass_all();
    until("it goes on over a WebSocket", async || (ways().await == ["json", "json"]).then_some(()))
        .await;
    of_one.send_keys(Key::End + " and ripe").await.unwrap();
    until("the other has it", async || {
        (value(&of_other).await == "Bright, then dry and ripe").then_some(())
    })
    .await;
    assert_eq!(service.state("tasting-notes").await["notes"], "Bright, then dry and ripe");
    one.close().await;
    other.close().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_page_of_a_foreign_origin_reads_why_it_may_not_connect() {
    let (service, pages) = with("tasting-notes", "notes.toml").await;
    let browser = Browser::open(1280, 800).await;
    // What the browser calls it by is no name of this machine to the service.
    let address = pages.at(&service.server).replace("127.0.0.1", "orchard.localhost");
    let address = address.replacen("server=http://orchard.localhost", "server=http://127.0.0.1", 1);
    browser.web.goto(address).await.unwrap();
    browser.reads("Start the service with --origin http://orchard.localhost").await;
    browser.close().await;
}
