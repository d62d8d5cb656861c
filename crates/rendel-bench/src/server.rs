//! The servers under load, each a process of its own.

use std::fs;
use std::net::TcpListener;
use std::os::unix::fs::PermissionsExt as _;
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use anyhow::{Context as _, Result, bail};
use serde_json::{Map, Value, json};
use tempfile::TempDir;

use crate::load::{Shape, Target};

const CHARTER: &str = "charter = \"bench\"\nversion = 1\n[session]\nparticipants = \
    5000\n[limits]\nproposals-per-second = 100000\n[state.heads]\nkind = \"counter\"\n";

/// The bare relay.
pub(crate) struct Relay {
    child: Child,
    port: u16,
}

impl Relay {
    pub(crate) async fn start() -> Result<Self> {
        let port = free_port()?;
        let child = Command::new(std::env::current_exe()?)
            .args(["relay", "--port", &port.to_string()])
            .spawn()?;
        ready(port).await?;
        Ok(Self { child, port })
    }

    pub(crate) fn target(&self) -> Target {
        Target { port: self.port, sessions: Vec::new() }
    }

    pub(crate) fn port(&self) -> u16 {
        self.port
    }

    /// KiB that it holds.
    pub(crate) fn memory(&self) -> Result<u64> {
        memory(self.child.id())
    }

    pub(crate) async fn stop(mut self) {
        // It has nothing to lose.
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// The service with a database of its own, as it is shipped.
pub(crate) struct Rendel {
    child: Child,
    port: u16,
    dir: TempDir,
    http: reqwest::Client,
}

impl Rendel {
    pub(crate) async fn start() -> Result<Self> {
        Self::start_with(&[]).await
    }

    /// With settings, as the environment gives them.
    pub(crate) async fn start_with(settings: &[(&str, &str)]) -> Result<Self> {
        let dir = folder()?;
        let port = free_port()?;
        let child = launch(&dir, port, settings).await?;
        Ok(Self { child, port, dir, http: reqwest::Client::builder().no_proxy().build()? })
    }

    /// `kill -9`, and a new process.
    pub(crate) async fn kill_and_start(&mut self) -> Result<()> {
        self.child.kill()?;
        self.child.wait()?;
        self.child = launch(&self.dir, self.port, &[]).await?;
        Ok(())
    }

    /// KiB that the service holds.
    pub(crate) fn memory(&self) -> Result<u64> {
        memory(self.child.id())
    }

    /// Bytes of its database: tables, indexes and what the server keeps of them.
    pub(crate) fn disk(&self) -> Result<u64> {
        fn bytes(folder: &std::path::Path) -> Result<u64> {
            let mut sum = 0;
            for entry in fs::read_dir(folder)? {
                let entry = entry?;
                // The server makes and removes files meanwhile.
                let Ok(meta) = entry.metadata() else { continue };
                sum += if meta.is_dir() { bytes(&entry.path())? } else { meta.len() };
            }
            Ok(sum)
        }
        bytes(&self.dir.path().join("database/data/base"))
    }

    /// Seconds of a core that the service has used.
    pub(crate) fn cpu_seconds(&self) -> Result<f64> {
        let stat = fs::read_to_string(format!("/proc/{}/stat", self.child.id()))?;
        let fields: Vec<&str> =
            stat.rsplit(')').next().unwrap_or_default().split_whitespace().collect();
        let ticks: f64 =
            fields.iter().skip(11).take(2).filter_map(|ticks| ticks.parse::<f64>().ok()).sum();
        Ok(ticks / 100.0)
    }

    /// A metric's value.
    pub(crate) async fn metric(&self, name: &str) -> Result<f64> {
        let text = self
            .http
            .get(format!("http://127.0.0.1:{}/metrics", self.port))
            .send()
            .await?
            .text()
            .await?;
        Ok(text
            .lines()
            .find_map(|line| line.strip_prefix(name)?.trim().parse().ok())
            .unwrap_or(0.0))
    }

    pub(crate) async fn post(&self, path: &str, body: String) -> Result<Value> {
        let key = fs::read_to_string(self.dir.path().join("key"))?;
        let url = format!("http://127.0.0.1:{}/v1{path}", self.port);
        let response = self.http.post(url).bearer_auth(key.trim()).body(body).send().await?;
        Ok(response.error_for_status()?.json().await?)
    }

    pub(crate) async fn get(&self, path: &str) -> Result<Value> {
        let key = fs::read_to_string(self.dir.path().join("key"))?;
        let url = format!("http://127.0.0.1:{}/v1{path}", self.port);
        let response = self.http.get(url).bearer_auth(key.trim()).send().await?;
        Ok(response.error_for_status()?.json().await?)
    }

    async fn token(&self, session: &str) -> Result<String> {
        self.token_of(session, "oda").await
    }

    pub(crate) fn port(&self) -> u16 {
        self.port
    }

    /// A session, and a token for each of so many participants.
    pub(crate) async fn people(&self, count: usize, rules: &str) -> Result<(String, Vec<String>)> {
        let target =
            self.target_with(Shape { sessions: 1, participants: 1, writers: 0 }, rules).await?;
        let session = target.sessions.first().context("a session")?.0.clone();
        let mut tokens = Vec::with_capacity(count);
        for index in 0..count {
            tokens.push(self.token_of(&session, &format!("picker-{index}")).await?);
        }
        Ok((session, tokens))
    }

    async fn token_of(&self, session: &str, sub: &str) -> Result<String> {
        self.token_as(session, sub, "participant").await
    }

    pub(crate) async fn token_as(&self, session: &str, sub: &str, role: &str) -> Result<String> {
        let asked = json!({ "session": session, "sub": sub, "role": role });
        let answer = self.post("/tokens", asked.to_string()).await?;
        Ok(answer["token"].as_str().context("a token is a string")?.to_owned())
    }

    /// Lets the backend settle edits.
    pub(crate) async fn propose(&self, session: &str, edits: Value) -> Result<()> {
        let body = json!({ "edits": edits }).to_string();
        self.post(&format!("/sessions/{session}/proposals"), body).await.map(drop)
    }

    /// A session of many records, and about how many bytes its welcome has.
    pub(crate) async fn with_records(&self, count: usize) -> Result<(Target, usize)> {
        let charter = format!(
            "{CHARTER}[state.records]\nkind = \
            \"map\"\n[state.records.each.who]\nkind = \
            \"register\"\n[state.records.each.row]\nkind = \
            \"register\"\n[state.records.each.crates]\nkind = \"counter\"\n"
        )
        .replace("\"bench\"", "\"records\"");
        self.post("/charters", charter).await?;
        let opening = records(count);
        let bytes = opening.to_string().len();
        self.post(
            "/sessions",
            json!({ "id": "records", "charter": "records", "opening": opening }).to_string(),
        )
        .await?;
        let token = self.token("records").await?;
        Ok((Target { port: self.port, sessions: vec![("records".to_owned(), token)] }, bytes))
    }

    /// Sessions that have so many updates each in their journals, put there as the service would
    /// have.
    pub(crate) async fn with_journals(&self, sessions: usize, rows: usize) -> Result<Target> {
        let charter = CHARTER
            .replace("participants = 5000", "participants = 5000\nidle = \"2s\"")
            .replace("\"bench\"", "\"kept\"");
        self.post("/charters", charter).await?;
        let url = self.database_url()?;
        let writer = rendel_store::JournalWriter::start(&url, |_, _| {})?;
        let store = rendel_store::Store::connect(&url, 2).await?;
        let mut target = Target { port: self.port, sessions: Vec::new() };
        let (told, mut answers) = tokio::sync::mpsc::unbounded_channel();
        for index in 0..sessions {
            let id = format!("kept-{index}");
            let row = store
                .open_session(
                    id.clone(),
                    "kept".into(),
                    1,
                    None,
                    rendel_store::Findable::default(),
                    None,
                )
                .await?;
            let body = |seq: usize| {
                format!(
                    r#"{{"seq":{seq},"by":"oda","client":"018f0000-0000-7000-8000-000000000001","n":{seq},"at":0,"effects":[{{"at":"/heads","op":"add","by":1,"now":{seq}}}],"since":[{}]}}"#,
                    seq - 1
                )
            };
            let update = |seq: usize| rendel_store::UpdateRow {
                session: row.ord,
                seq: seq as i64,
                body: body(seq).into(),
                met: false,
            };
            let told = told.clone();
            let done = Box::new(move |result| drop(told.send(result)));
            let updates = (1..=rows).map(update).collect();
            let append = rendel_store::Append {
                session: row.ord,
                epoch: 0,
                updates,
                refusals: vec![],
                announcements: vec![],
                wakes: None,
                done,
            };
            writer.append(append).await.map_err(|_| anyhow::anyhow!("the writer ended"))?;
            target.sessions.push((id.clone(), self.token(&id).await?));
        }
        for _ in 0..sessions {
            answers.recv().await.context("the writer ended")??;
        }
        Ok(target)
    }

    fn database_url(&self) -> Result<String> {
        let folder = self.dir.path().join("database");
        let password = fs::read_to_string(folder.join("password"))?;
        let lines = fs::read_to_string(folder.join("data/postmaster.pid"))?;
        let port = lines.lines().nth(3).context("the database tells its port")?.trim().to_owned();
        Ok(format!("postgres://rendel:{}@127.0.0.1:{port}/postgres", password.trim()))
    }

    /// Opens new sessions and gives out a token for each participant.
    pub(crate) async fn target(&self, shape: Shape) -> Result<Target> {
        self.target_with(shape, "[session]\nparticipants = 5000\n").await
    }

    /// As [`target`](Self::target), with other rules for the sessions.
    pub(crate) async fn target_with(&self, shape: Shape, rules: &str) -> Result<Target> {
        // Charters are told apart by their names.
        let name = format!("bench-{}", uuid::Uuid::new_v4().simple());
        let template = match rules.contains("[limits]") {
            true => CHARTER.replace("[limits]\nproposals-per-second = 100000\n", ""),
            false => CHARTER.to_owned(),
        };
        let charter = template
            .replace("[session]\nparticipants = 5000\n", rules)
            .replace("\"bench\"", &format!("\"{name}\""));
        self.post("/charters", charter).await?;
        let mut sessions = Vec::new();
        for _ in 0..shape.sessions {
            let info = self.post("/sessions", json!({ "charter": name }).to_string()).await?;
            let id = info["id"].as_str().context("a session has an id")?.to_owned();
            let token = self.token(&id).await?;
            sessions.push((id, token));
        }
        Ok(Target { port: self.port, sessions })
    }

    pub(crate) async fn stop(mut self) {
        // The service stops its database when it is asked to end.
        let _ = Command::new("kill").arg(self.child.id().to_string()).status();
        let _ = self.child.wait();
    }
}

/// Bounds on connections are for life, where not all come from one address as one participant.
async fn launch(dir: &TempDir, port: u16, settings: &[(&str, &str)]) -> Result<Child> {
    let program = std::env::current_exe()?.with_file_name("rendel");
    let mut command = Command::new(&program);
    command.args(["serve", "--listen", &format!("127.0.0.1:{port}"), "--local-database"]);
    command
        .arg(dir.path().join("database"))
        .arg("--key-file")
        .arg(dir.path().join("key"))
        .env("RENDEL_LOG", "warn");
    command
        .env("RENDEL_CONNECTIONS_PER_ADDRESS", "100000")
        .env("RENDEL_CONNECTIONS_PER_PARTICIPANT", "10000")
        .env("RENDEL_CALLS_PER_ADDRESS", "1000000")
        .env("RENDEL_CALLS_PER_PARTICIPANT", "1000000");
    command.envs(settings.iter().copied());
    let child = command
        .stdout(Stdio::null())
        .spawn()
        .with_context(|| format!("{} is not built", program.display()))?;
    ready(port).await?;
    Ok(child)
}

/// KiB that a process holds.
fn memory(pid: u32) -> Result<u64> {
    let status = fs::read_to_string(format!("/proc/{pid}/status"))?;
    let line =
        status.lines().find(|line| line.starts_with("VmRSS")).context("a process holds memory")?;
    Ok(line.split_whitespace().nth(1).context("so many KiB")?.parse()?)
}

/// A folder that the database's user can enter.
pub(crate) fn folder() -> Result<TempDir> {
    Ok(tempfile::Builder::new()
        .prefix("rendel-bench-")
        .permissions(fs::Permissions::from_mode(0o755))
        .tempdir()?)
}

/// A database without a service, for baselines.
pub(crate) fn database(dir: &TempDir) -> Result<rendel_store::LocalDatabase> {
    Ok(rendel_store::LocalDatabase::start(&PathBuf::from(dir.path()).join("database"))?)
}

async fn ready(port: u16) -> Result<()> {
    let url = format!("http://127.0.0.1:{port}/readyz");
    let client = reqwest::Client::builder().no_proxy().build()?;
    let deadline = Instant::now() + Duration::from_secs(30);
    while Instant::now() < deadline {
        if client.get(&url).send().await.is_ok_and(|response| response.status().is_success()) {
            return Ok(());
        }
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    bail!("the server at {port} did not get ready")
}

fn free_port() -> Result<u16> {
    let free = (21_000..31_000).find(|port| TcpListener::bind(("127.0.0.1", *port)).is_ok());
    free.context("no free port")
}

/// The records of a session that late joiners get.
fn records(count: usize) -> Value {
    let record = |index: usize| {
        let value = json!({ "who": format!("picker {index}"), "row": format!("dry {}", index % 40), "crates": index % 7 });
        (format!("r{index}"), value)
    };
    json!({ "records": (0..count).map(record).collect::<Map<_, _>>() })
}
