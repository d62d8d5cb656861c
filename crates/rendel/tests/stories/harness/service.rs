//! A service in a process of its own.

use std::fs;
use std::io::{BufRead as _, BufReader};
use std::net::TcpListener;
use std::os::unix::fs::PermissionsExt as _;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};
use std::sync::OnceLock;

use reqwest::{Method, RequestBuilder, Response, StatusCode};
use serde_json::{Value, json};
use tempfile::TempDir;

/// The sample charters and their data.
fn demo(path: &str) -> PathBuf {
    PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../demo").join(path)
}

/// The charter of most stories: the demo's without its rule, so that nothing is settled but what
/// somebody does.
pub(crate) const HEADCOUNT: &str = "\
# How many came through the gate: each press adds, nothing is lost.
charter = \"headcount\"
version = 1
title   = \"Headcount at the gate\"

[state.heads]
kind = \"counter\"
min  = 0
";

/// The charters that a service begins with.
fn charters(dir: &Path) -> PathBuf {
    let charters = dir.join("charters");
    if !charters.exists() {
        fs::create_dir(&charters).unwrap();
        for file in fs::read_dir(demo("charters")).unwrap() {
            let file = file.unwrap();
            fs::copy(file.path(), charters.join(file.file_name())).unwrap();
        }
        fs::write(charters.join("headcount.toml"), HEADCOUNT).unwrap();
    }
    charters
}

/// A lock in the database.
pub(crate) struct HeldLock {
    child: Child,
    url: String,
}

impl Drop for HeldLock {
    fn drop(&mut self) {
        // The server would hold it for as long as its process sleeps.
        let end = "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE query LIKE \
            '%pg_sleep(600)%' AND pid <> pg_backend_pid()";
        let _ = Command::new("psql").args(["--quiet", "-c", end]).arg(&self.url).output();
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// A running service with a database of its own; both end with the test.
pub(crate) struct Service {
    dir: TempDir,
    child: Option<Child>,
    settings: Vec<(String, String)>,
    pub(crate) server: String,
    pub(crate) key: String,
    pub(crate) http: reqwest::Client,
}

impl Service {
    pub(crate) async fn start() -> Self {
        Self::start_with(&[]).await
    }

    /// Starts with settings, as the environment gives them.
    pub(crate) async fn start_with(settings: &[(&str, &str)]) -> Self {
        // The database's user must be able to enter the folder.
        let dir = tempfile::Builder::new()
            .prefix("rendel-")
            .permissions(fs::Permissions::from_mode(0o755))
            .tempdir()
            .unwrap();
        let settings = settings
            .iter()
            .map(|(name, value)| ((*name).to_owned(), (*value).to_owned()))
            .collect();
        let http = reqwest::Client::builder().no_proxy().pool_max_idle_per_host(0).build().unwrap();
        let server = format!("http://127.0.0.1:{}", free_port());
        copy_database(&dir.path().join("database"));
        let mut service = Self { dir, child: None, settings, server, key: String::new(), http };
        service.launch();
        service.key = fs::read_to_string(service.key_file()).unwrap().trim().to_owned();
        service
    }

    /// Starts the process and waits for the one line that says that it is ready.
    pub(crate) fn launch(&mut self) {
        let line = self.spawn();
        assert!(line.starts_with("rendel is ready at"), "{line:?}\n{}", self.log());
    }

    /// Starts the process so that it ends by itself at some place, as `FAILPOINTS` names it.
    pub(crate) fn launch_to_end_at(&mut self, place: &str) {
        self.set("FAILPOINTS", place);
        // It may end before it says that it is ready.
        self.spawn();
        self.set("FAILPOINTS", "");
    }

    fn spawn(&mut self) -> String {
        let listen = self.server.strip_prefix("http://").unwrap();
        let mut command = Command::new(env!("CARGO_BIN_EXE_rendel"));
        command
            .args(["serve", "--listen", listen, "--local-database"])
            .arg(self.dir.path().join("database"));
        command.arg("--key-file").arg(self.key_file()).arg("--charters");
        command.arg(charters(self.dir.path()));
        command
            .env("RENDEL_LOG", "warn")
            .envs(self.settings.iter().map(|(name, value)| (name, value)))
            .env_remove("RENDEL_SEED")
            .current_dir(self.dir.path());
        let log = fs::OpenOptions::new()
            .create(true)
            .append(true)
            .open(self.dir.path().join("log"))
            .unwrap();
        let mut child =
            command.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(log).spawn().unwrap();
        let mut line = String::new();
        BufReader::new(child.stdout.take().unwrap()).read_line(&mut line).unwrap();
        self.child = Some(child);
        line
    }

    /// Sets a setting for the next start.
    fn set(&mut self, name: &str, value: &str) {
        self.settings.retain(|(known, _)| known != name);
        self.settings.push((name.to_owned(), value.to_owned()));
    }

    /// A second service on the same database, with the same key.
    pub(crate) async fn beside(&self) -> Self {
        self.beside_by(&self.database_url()).await
    }

    /// As [`Service::beside`], reaching the database by another way.
    pub(crate) async fn beside_through(&self, proxy: &super::Proxy) -> Self {
        let port = proxy.server.rsplit(':').next().unwrap();
        self.beside_by(&self.database_url().replace(&self.database_port().to_string(), port)).await
    }

    async fn beside_by(&self, database: &str) -> Self {
        let dir = tempfile::Builder::new().prefix("rendel-").tempdir().unwrap();
        fs::copy(self.key_file(), dir.path().join("service.key")).unwrap();
        let server = format!("http://127.0.0.1:{}", free_port());
        let mut command = Command::new(env!("CARGO_BIN_EXE_rendel"));
        command.args([
            "serve",
            "--listen",
            server.strip_prefix("http://").unwrap(),
            "--database-url",
            database,
        ]);
        command
            .arg("--key-file")
            .arg(dir.path().join("service.key"))
            .env("RENDEL_LOG", "warn")
            .envs(self.settings.iter().filter(|(name, _)| name.contains("WEBHOOK")).cloned())
            .current_dir(dir.path());
        let log = fs::File::create(dir.path().join("log")).unwrap();
        let mut child =
            command.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(log).spawn().unwrap();
        let mut line = String::new();
        BufReader::new(child.stdout.take().unwrap()).read_line(&mut line).unwrap();
        assert!(line.starts_with("rendel is ready at"), "{line:?}");
        Self {
            dir,
            child: Some(child),
            settings: vec![],
            server,
            key: self.key.clone(),
            http: self.http.clone(),
        }
    }

    /// Ends a service that was started beside this one, before the database goes.
    pub(crate) fn terminate_beside(&self, mut beside: Self) {
        let status = beside.terminate();
        assert!(status.success(), "{status}: {}", beside.log());
    }

    pub(crate) fn database_url(&self) -> String {
        let password = fs::read_to_string(self.dir.path().join("database/password")).unwrap();
        format!("postgres://rendel:{}@127.0.0.1:{}/postgres", password.trim(), self.database_port())
    }

    /// Statements that the service knows nothing of; gives what the last one finds, without a head.
    pub(crate) fn sql(&self, statements: &str) -> String {
        let mut command = Command::new("psql");
        let output = command
            .args([
                "--quiet",
                "--tuples-only",
                "--no-align",
                "-v",
                "ON_ERROR_STOP=1",
                "-c",
                statements,
            ])
            .arg(self.database_url())
            .output()
            .unwrap();
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
        String::from_utf8(output.stdout).unwrap().trim().to_owned()
    }

    /// Holds an advisory lock of the database until it is dropped.
    pub(crate) fn hold_lock(&self, lock: u32) -> HeldLock {
        let mut command = Command::new("psql");
        let statements =
            format!("SELECT pg_advisory_lock({lock}); SELECT 'held'; SELECT pg_sleep(600);");
        let mut child = command
            .args(["--quiet", "--tuples-only", "--no-align", "-c", &statements])
            .arg(self.database_url())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        let query = format!(
            "SELECT count(*) FROM pg_locks WHERE locktype = 'advisory' AND objid = {lock} AND \
             granted"
        );
        let deadline = std::time::Instant::now() + super::PATIENCE;
        while self.sql(&query) == "0" {
            assert!(
                std::time::Instant::now() < deadline && child.try_wait().unwrap().is_none(),
                "the lock was not got"
            );
            std::thread::sleep(std::time::Duration::from_millis(20));
        }
        HeldLock { child, url: self.database_url() }
    }

    /// Locks the journal's table until it is dropped.
    pub(crate) fn lock_journal(&self) -> HeldLock {
        let statements = "BEGIN; LOCK TABLE journal IN ACCESS EXCLUSIVE MODE; SELECT pg_sleep(600)";
        let mut command = Command::new("psql");
        command.args(["--quiet", "-c", statements]).arg(self.database_url());
        let mut child = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        let held = "SELECT count(*) FROM pg_locks WHERE mode = 'AccessExclusiveLock' AND granted \
            AND relation = 'journal'::regclass";
        let deadline = std::time::Instant::now() + super::PATIENCE;
        while self.sql(held) == "0" {
            let lives = child.try_wait().unwrap().is_none();
            assert!(lives && std::time::Instant::now() < deadline, "the lock was not got");
            std::thread::sleep(std::time::Duration::from_millis(20));
        }
        HeldLock { child, url: self.database_url() }
    }

    /// Whether a statement that speaks of something waits for a lock.
    pub(crate) fn is_waiting(&self, what: &str) -> bool {
        let waiting = format!(
            "SELECT count(*) FROM pg_stat_activity WHERE wait_event_type = 'Lock' AND query ILIKE \
             '%{what}%'"
        );
        self.sql(&waiting) != "0"
    }

    pub(crate) fn log(&self) -> String {
        fs::read_to_string(self.dir.path().join("log")).unwrap_or_default()
    }

    pub(crate) fn key_file(&self) -> PathBuf {
        self.dir.path().join("service.key")
    }

    /// The key with which a backend signs tokens itself.
    pub(crate) fn signing_key(&self) -> String {
        rendel_service::ServiceKey::parse(&self.key).unwrap().signing_key()
    }

    pub(crate) fn path(&self, name: &str) -> PathBuf {
        self.dir.path().join(name)
    }

    pub(crate) fn pid(&self) -> u32 {
        self.child.as_ref().unwrap().id()
    }

    /// `kill -9`: the service has no chance to write or say anything. Its database goes on.
    pub(crate) fn kill(&mut self) {
        let mut child = self.child.take().unwrap();
        child.kill().unwrap();
        child.wait().unwrap();
    }

    /// Whether the process has ended by itself; then it can be launched again.
    pub(crate) fn has_died(&mut self) -> bool {
        let has_died = self.child.as_mut().is_some_and(|child| child.try_wait().unwrap().is_some());
        if has_died {
            self.child = None;
        }
        has_died
    }

    /// SIGTERM, without waiting.
    pub(crate) fn begin_to_terminate(&self) {
        send(self.pid(), "TERM");
    }

    /// SIGTERM, and waits for the end.
    pub(crate) fn terminate(&mut self) -> std::process::ExitStatus {
        let mut child = self.child.take().unwrap();
        send(child.id(), "TERM");
        child.wait().unwrap()
    }

    /// The process of the database.
    pub(crate) fn database_pid(&self) -> Option<u32> {
        let lines =
            fs::read_to_string(self.dir.path().join("database/data/postmaster.pid")).ok()?;
        lines.lines().next()?.parse().ok()
    }

    /// `kill -9` of every process of the database.
    pub(crate) fn kill_database(&self) {
        let postmaster = self.database_pid().unwrap();
        let children = fs::read_to_string(format!("/proc/{postmaster}/task/{postmaster}/children"))
            .unwrap_or_default();
        send(postmaster, "KILL");
        children.split_whitespace().for_each(|child| send(child.parse().unwrap(), "KILL"));
    }

    /// Starts the database again on its old port, as its keeper would.
    pub(crate) fn start_database(&self, port: u16) {
        let data = self.dir.path().join("database/data");
        let programs = rendel_store::find_server_programs().unwrap();
        let is_root = fs::metadata("/proc/self")
            .is_ok_and(|me| std::os::unix::fs::MetadataExt::uid(&me) == 0);
        let mut command = if is_root {
            let mut command = Command::new("setpriv");
            command
                .args(["--reuid=postgres", "--regid=postgres", "--clear-groups"])
                .arg(programs.join("pg_ctl"));
            command
        } else {
            Command::new(programs.join("pg_ctl"))
        };
        command
            .args(["start", "--wait", "--silent", "-D"])
            .arg(&data)
            .arg("-l")
            .arg(self.dir.path().join("database/postgresql.log"));
        command
            .arg("-o")
            .arg(format!("-h 127.0.0.1 -p {port} -c unix_socket_directories=''"))
            .current_dir("/");
        command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
        // What was killed may take a moment to let go of its memory; a keeper tries again.
        let is_up = (0..50).any(|_| {
            let is_up = command.status().unwrap().success();
            if !is_up {
                std::thread::sleep(std::time::Duration::from_millis(100));
            }
            is_up
        });
        assert!(is_up, "the database does not start");
    }

    pub(crate) fn database_port(&self) -> u16 {
        let lines =
            fs::read_to_string(self.dir.path().join("database/data/postmaster.pid")).unwrap();
        lines.lines().nth(3).unwrap().trim().parse().unwrap()
    }

    /// The command, as a person next to this service would call it.
    pub(crate) fn rendel(&self, args: &[&str]) -> Output {
        let mut command = Command::new(env!("CARGO_BIN_EXE_rendel"));
        command
            .args(args)
            .env("RENDEL_SERVER", &self.server)
            .env("RENDEL_KEY_FILE", self.key_file());
        command.current_dir(self.dir.path()).stdin(Stdio::null()).output().unwrap()
    }

    pub(crate) fn request(&self, method: Method, path: &str) -> RequestBuilder {
        self.http.request(method, format!("{}{path}", self.server)).bearer_auth(&self.key)
    }

    pub(crate) async fn get(&self, path: &str) -> Response {
        self.request(Method::GET, path).send().await.unwrap()
    }

    pub(crate) async fn post(&self, path: &str, body: &Value) -> Response {
        self.request(Method::POST, path).json(body).send().await.unwrap()
    }

    /// Publishes a charter.
    pub(crate) async fn publish(&self, source: &str) {
        let response = self
            .request(Method::POST, "/v1/charters")
            .body(source.to_owned())
            .send()
            .await
            .unwrap();
        let status = response.status();
        assert!(status.is_success(), "{}", response.text().await.unwrap());
    }

    /// Opens a session of a charter under the same name, with an opening state.
    pub(crate) async fn open(&self, charter: &str, opening: Value) {
        self.open_as(charter, charter, opening).await;
    }

    pub(crate) async fn open_as(&self, id: &str, charter: &str, opening: Value) {
        let body = json!({ "id": id, "charter": charter, "opening": opening });
        let response = self.post("/v1/sessions", &body).await;
        assert_eq!(response.status(), StatusCode::CREATED, "{}", response.text().await.unwrap());
    }

    /// Opens a demo session with its data.
    pub(crate) async fn open_demo(&self, name: &str) {
        let data = fs::read_to_string(demo(&format!("data/{name}.json"))).unwrap();
        self.open(name, serde_json::from_str(&data).unwrap()).await;
    }

    pub(crate) async fn token(&self, session: &str, sub: &str, role: &str) -> String {
        let name = format!("{}{}", sub[..1].to_uppercase(), &sub[1..]);
        let response = self
            .post(
                "/v1/tokens",
                &json!({ "session": session, "sub": sub, "name": name, "role": role }),
            )
            .await;
        assert_eq!(response.status(), StatusCode::CREATED);
        response.json::<Value>().await.unwrap()["token"].as_str().unwrap().to_owned()
    }

    /// The state as a newcomer gets it.
    pub(crate) async fn state(&self, session: &str) -> Value {
        let response = self.get(&format!("/v1/sessions/{session}/state")).await;
        assert_eq!(response.status(), StatusCode::OK);
        response.json().await.unwrap()
    }

    pub(crate) async fn journal(&self, session: &str) -> Vec<Value> {
        let text = self.get(&format!("/v1/sessions/{session}/journal")).await.text().await.unwrap();
        text.lines().map(|line| serde_json::from_str(line).unwrap()).collect()
    }

    /// The value of a metric, its labels included in the name.
    pub(crate) async fn metric(&self, name: &str) -> f64 {
        let text = self.get("/metrics").await.text().await.unwrap();
        let family = bare(name);
        let ends = ["_total", "_count", "_sum", "_bucket"];
        let family = ends.iter().find_map(|end| family.strip_suffix(end)).unwrap_or(family);
        // One with labels is not there before it counts; the page of them is held to the service.
        let page = include_str!("../../../../../docs/operations.md");
        let is_known = name.contains('{') && page.contains(&format!("`{}{{", bare(name)));
        assert!(
            is_known || text.contains(&format!("# TYPE {family} ")),
            "there is no metric {name}"
        );
        text.lines().find_map(|line| line.strip_prefix(name)?.trim().parse().ok()).unwrap_or(0.0)
    }

    /// Kilobytes of memory that the process holds.
    pub(crate) fn memory(&self) -> u64 {
        let status = fs::read_to_string(format!("/proc/{}/status", self.pid())).unwrap();
        let line = status.lines().find(|line| line.starts_with("VmRSS")).unwrap();
        line.split_whitespace().nth(1).unwrap().parse().unwrap()
    }
}

impl Drop for Service {
    fn drop(&mut self) {
        if std::thread::panicking() {
            eprintln!("the service's log:\n{}", self.log());
        }
        if self.child.is_some() {
            self.terminate();
        }
        if let Some(database) = self.database_pid() {
            send(database, "INT");
        }
    }
}

/// Puts an empty database where a service is to find one. It is made once and kept in the build's
/// folder: making one takes longer than most stories.
fn copy_database(to: &Path) {
    static MADE: OnceLock<PathBuf> = OnceLock::new();
    let made = MADE.get_or_init(|| {
        let programs = rendel_store::find_server_programs().unwrap();
        let version = programs.parent().unwrap().file_name().unwrap().to_str().unwrap();
        let kept =
            Path::new(env!("CARGO_TARGET_TMPDIR")).join(format!("database-of-role-{version}"));
        if !kept.exists() {
            let permissions = fs::Permissions::from_mode(0o755);
            let dir = tempfile::Builder::new().permissions(permissions).tempdir().unwrap();
            let new = dir.path().join("database");
            rendel_store::LocalDatabase::start(&new).unwrap().stop().unwrap();
            // What is half copied is never taken for the whole.
            let half = kept.with_extension(std::process::id().to_string());
            copy(&new, &half);
            fs::rename(half, &kept).unwrap();
        }
        kept
    });
    copy(made, to);
}

fn copy(from: &Path, to: &Path) {
    let copied = Command::new("cp").args(["-a", "--"]).arg(from).arg(to).status().unwrap();
    assert!(copied.success());
}

/// The name of a metric without its labels.
fn bare(name: &str) -> &str {
    name.split('{').next().unwrap()
}

/// Sends a signal to one process, by its id.
fn send(pid: u32, signal: &str) {
    // It may have ended by itself.
    let _ = Command::new("kill")
        .arg(format!("-{signal}"))
        .arg(pid.to_string())
        .stderr(Stdio::null())
        .status();
}

/// A free port below those that the system hands out by itself.
pub(crate) fn free_port() -> u16 {
    let start: u16 = rand::random_range(10_000..19_000);
    (start..20_000).find(|port| TcpListener::bind(("127.0.0.1", *port)).is_ok()).unwrap()
}
