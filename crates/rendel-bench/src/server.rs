//! The servers under load, each a process of its own.

use std::fs;
use std::net::TcpListener;
use std::os::unix::fs::PermissionsExt as _;
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use anyhow::{Context as _, Result, bail};
use serde_json::{Value, json};
use tempfile::TempDir;

use crate::load::{Shape, Target};

const CHARTER: &str = "charter = \"bench\"\nversion = 1\n[session]\nparticipants = 5000\n[limits]\nproposals-per-second = 100000\n[state.heads]\nkind = \"counter\"\n";

/// The bare relay.
pub(crate) struct Relay {
    child: Child,
    port: u16,
}

impl Relay {
    pub(crate) async fn start() -> Result<Self> {
        let port = free_port()?;
        let child = Command::new(std::env::current_exe()?).args(["relay", "--port", &port.to_string()]).spawn()?;
        ready(port).await?;
        Ok(Self { child, port })
    }

    pub(crate) fn target(&self) -> Target {
        Target { port: self.port, sessions: Vec::new() }
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
        let dir = folder()?;
        let port = free_port()?;
        let program = std::env::current_exe()?.with_file_name("rendel");
        let mut command = Command::new(&program);
        command
            .args(["serve", "--listen", &format!("127.0.0.1:{port}"), "--local-database"])
            .arg(dir.path().join("database"));
        command.arg("--key-file").arg(dir.path().join("key")).env("RENDEL_LOG", "warn");
        let child =
            command.stdout(Stdio::null()).spawn().with_context(|| format!("{} is not built", program.display()))?;
        ready(port).await?;
        Ok(Self { child, port, dir, http: reqwest::Client::builder().no_proxy().build()? })
    }

    /// Opens new sessions and gives out a token for each participant.
    pub(crate) async fn target(&self, shape: Shape) -> Result<Target> {
        let key = fs::read_to_string(self.dir.path().join("key"))?;
        let post = async |path: &str, body: String| -> Result<Value> {
            let url = format!("http://127.0.0.1:{}/v1{path}", self.port);
            let response = self.http.post(url).bearer_auth(key.trim()).body(body).send().await?;
            Ok(response.error_for_status()?.json().await?)
        };
        post("/charters", CHARTER.to_owned()).await?;
        let mut sessions = Vec::new();
        for _ in 0..shape.sessions {
            let info = post("/sessions", json!({ "charter": "bench" }).to_string()).await?;
            let id = info["id"].as_str().context("a session has an id")?.to_owned();
            let asked = json!({ "session": id, "sub": "oda", "role": "participant" });
            let token =
                post("/tokens", asked.to_string()).await?["token"].as_str().context("a token is a string")?.to_owned();
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

/// A folder that the database's user can enter.
pub(crate) fn folder() -> Result<TempDir> {
    Ok(tempfile::Builder::new().prefix("rendel-bench-").permissions(fs::Permissions::from_mode(0o755)).tempdir()?)
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
