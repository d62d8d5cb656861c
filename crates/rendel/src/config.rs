//! The settings of `rendel serve`: arguments over environment over `rendel.toml`, read once.

use std::collections::BTreeMap;
use std::fs;
use std::io::Write as _;
use std::net::SocketAddr;
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::{Path, PathBuf};
use std::time::Duration;

use anyhow::{Context as _, Result, bail};
use figment::Figment;
use figment::providers::{Env, Format as _, Toml};
use rendel_service::{Config, Origins, ServiceKey, WebhookSecret};
use serde::Deserialize;

use crate::cli::ServeArgs;

/// What a file or the environment may say.
#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
struct Settings {
    listen: Option<SocketAddr>,
    database_url: Option<String>,
    local_database: Option<PathBuf>,
    charters: Option<PathBuf>,
    key_file: Option<PathBuf>,
    origins: Option<Vec<String>>,
    database_connections: Option<u32>,
    enter_within_ms: Option<u64>,
    silence_ms: Option<u64>,
    queue_frames: Option<usize>,
    queue_bytes: Option<usize>,
    slow_within_ms: Option<u64>,
    snapshot_every: Option<u64>,
    snapshot_bytes: Option<u64>,
    sessions: Option<usize>,
    connections_per_participant: Option<u32>,
    connections_per_address: Option<usize>,
    guests_per_address: Option<usize>,
    calls_per_address: Option<u32>,
    calls_per_participant: Option<u32>,
    answer_bytes_per_participant: Option<u64>,
    answer_bytes_per_address: Option<u64>,
    answer_bytes: Option<u64>,
    gate_secret: Option<String>,
    audit_days: Option<u32>,
    announcement_days: Option<u32>,
    webhooks_to_private_addresses: Option<bool>,
    webhook_first_wait_ms: Option<u64>,
    webhook_hours: Option<u64>,
    #[serde(default)]
    variables: BTreeMap<String, String>,
    trust_forwarded: Option<bool>,
    import_bytes: Option<usize>,
    fence_ms: Option<u64>,
    digest_every: Option<u64>,
    digest_within_ms: Option<u64>,
    stop_within_ms: Option<u64>,
    drain_ms: Option<u64>,
    probe_listen: Option<SocketAddr>,
}

const NAMES: &[&str] = &[
    "listen",
    "database_url",
    "local_database",
    "charters",
    "key_file",
    "origins",
    "database_connections",
    "enter_within_ms",
    "silence_ms",
    "queue_frames",
    "queue_bytes",
    "slow_within_ms",
    "snapshot_every",
    "snapshot_bytes",
    "sessions",
    "connections_per_participant",
    "connections_per_address",
    "guests_per_address",
    "calls_per_address",
    "calls_per_participant",
    "answer_bytes_per_participant",
    "answer_bytes_per_address",
    "answer_bytes",
    "gate_secret",
    "audit_days",
    "announcement_days",
    "webhooks_to_private_addresses",
    "webhook_first_wait_ms",
    "webhook_hours",
    "variables",
    "trust_forwarded",
    "import_bytes",
    "fence_ms",
    "digest_every",
    "digest_within_ms",
    "stop_within_ms",
    "drain_ms",
    "probe_listen",
];

/// Names of the environment that are no settings of the service: the log, and the command's own.
const OTHER_NAMES: &[&str] = &["log", "server", "token"];

/// Names of the environment that look like settings and are none.
pub(crate) fn unknown_names() -> Vec<String> {
    let names = std::env::vars_os().filter_map(|(name, _)| name.into_string().ok());
    let is_unknown = |name: &String| {
        let setting = name.strip_prefix("RENDEL_").map(str::to_lowercase);
        setting.is_some_and(|setting| {
            !NAMES.contains(&setting.as_str()) && !OTHER_NAMES.contains(&setting.as_str())
        })
    };
    names.filter(is_unknown).collect()
}

/// The database to use.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Database {
    Url(String),
    Local(PathBuf),
}

/// Everything that `rendel serve` needs, validated.
#[derive(Debug)]
pub(crate) struct ServePlan {
    pub(crate) database: Database,
    pub(crate) charters: Option<PathBuf>,
    /// The service's configuration, whose `database_url` is still open.
    pub(crate) config: Config,
}

pub(crate) fn plan(args: &ServeArgs) -> Result<ServePlan> {
    let settings = read(args.config.as_deref())?;
    let is_given = args.database_url.is_some() || args.local_database.is_some();
    let (url, local) = if is_given {
        (args.database_url.clone(), args.local_database.clone())
    } else {
        (settings.database_url, settings.local_database)
    };
    let database = match (url, local) {
        (Some(url), None) => Database::Url(url),
        (None, Some(dir)) => Database::Local(dir),
        (None, None) => bail!(
            "say which database to use: --database-url URL for a PostgreSQL that is there, \
             --local-database DIR to run one"
        ),
        (Some(_), Some(_)) => bail!("database_url and local_database are both set; keep one"),
    };
    let key_file =
        args.key_file.clone().or(settings.key_file).unwrap_or_else(|| PathBuf::from("rendel.key"));
    let listen =
        args.listen.or(settings.listen).unwrap_or(SocketAddr::from(([127, 0, 0, 1], 7460)));
    let mut config = Config::new(listen, String::new(), key(&key_file)?);
    config.previous_keys = previous_keys(&key_file)?;
    config.variables = settings.variables;
    if let Some(secret) = &settings.gate_secret {
        config.gate_secret = WebhookSecret::parse(secret).context(
            "gate_secret is whsec_ and 24 to 64 random bytes in base64, as the Standard Webhooks \
             specification says",
        )?;
    }
    set(&mut config.audit_days, settings.audit_days, 1..=36_500, "audit_days")?;
    set(
        &mut config.announcement_days,
        settings.announcement_days,
        1..=36_500,
        "announcement_days",
    )?;
    let private = settings.webhooks_to_private_addresses;
    config.webhooks_to_private_addresses = private.unwrap_or(false);
    set_ms(
        &mut config.webhook_first_wait,
        settings.webhook_first_wait_ms,
        "webhook_first_wait_ms",
    )?;
    let mut hours = 72;
    set(&mut hours, settings.webhook_hours, 1..=720, "webhook_hours")?;
    config.webhook_give_up = Duration::from_secs(hours * 3_600);
    let per_second = 10..=1_000_000;
    let (address, participant) = (settings.calls_per_address, settings.calls_per_participant);
    set(&mut config.calls_per_address, address, per_second.clone(), "calls_per_address")?;
    set(&mut config.calls_per_participant, participant, per_second, "calls_per_participant")?;
    let bytes = 1 << 20..=1 << 40;
    let (most, each) = (&mut config.answer_bytes, settings.answer_bytes_per_participant);
    set(&mut most.participant, each, bytes.clone(), "answer_bytes_per_participant")?;
    let address = settings.answer_bytes_per_address;
    set(&mut most.address, address, bytes.clone(), "answer_bytes_per_address")?;
    set(&mut most.all, settings.answer_bytes, bytes, "answer_bytes")?;
    set(
        &mut config.guests_per_address,
        settings.guests_per_address,
        0..=1_000_000,
        "guests_per_address",
    )?;
    let known = settings.origins.unwrap_or_default().into_iter().chain(args.origin.iter().cloned());
    let loopback = matches!(database, Database::Local(_));
    config.origins = Origins { known: known.collect(), loopback };
    set(
        &mut config.database_connections,
        settings.database_connections,
        1..=1_000,
        "database_connections",
    )?;
    set_ms(&mut config.enter_within, settings.enter_within_ms, "enter_within_ms")?;
    set_ms(&mut config.silence, settings.silence_ms, "silence_ms")?;
    set_ms(&mut config.stop_within, settings.stop_within_ms, "stop_within_ms")?;
    let mut drain = 0;
    set(&mut drain, settings.drain_ms, 0..=600_000, "drain_ms")?;
    config.drain = Duration::from_millis(drain);
    config.probe_listen = settings.probe_listen;
    set(&mut config.queue.frames, settings.queue_frames, 16..=1_000_000, "queue_frames")?;
    set(&mut config.queue.bytes, settings.queue_bytes, 65_536..=1 << 30, "queue_bytes")?;
    set(&mut config.snapshot_every, settings.snapshot_every, 1..=1_000_000, "snapshot_every")?;
    set(&mut config.snapshot_bytes, settings.snapshot_bytes, 65_536..=1 << 30, "snapshot_bytes")?;
    set_ms(&mut config.slow_within, settings.slow_within_ms, "slow_within_ms")?;
    set(&mut config.sessions, settings.sessions, 1..=1_000_000, "sessions")?;
    let each = settings.connections_per_participant;
    set(&mut config.connections_per_participant, each, 1..=10_000, "connections_per_participant")?;
    let address = settings.connections_per_address;
    set(&mut config.connections_per_address, address, 1..=1_000_000, "connections_per_address")?;
    config.trust_forwarded = settings.trust_forwarded.unwrap_or(config.trust_forwarded);
    set(&mut config.import_bytes, settings.import_bytes, 65_536..=4 << 30, "import_bytes")?;
    set_ms(&mut config.fence, settings.fence_ms, "fence_ms")?;
    set(&mut config.digest_every, settings.digest_every, 1..=1_000_000, "digest_every")?;
    set_ms(&mut config.digest_within, settings.digest_within_ms, "digest_within_ms")?;
    Ok(ServePlan { database, charters: args.charters.clone().or(settings.charters), config })
}

fn read(file: Option<&Path>) -> Result<Settings> {
    if let Some(missing) = file.filter(|file| !file.exists()) {
        bail!("the settings {} are not there", missing.display());
    }
    let file = file.unwrap_or(Path::new("rendel.toml"));
    let settings =
        Figment::new().merge(Toml::file(file)).merge(Env::prefixed("RENDEL_").only(NAMES));
    settings
        .extract()
        .with_context(|| format!("the settings cannot be used; they are {}", NAMES.join(", ")))
}

fn set<T: PartialOrd + Copy + std::fmt::Display>(
    target: &mut T,
    given: Option<T>,
    range: std::ops::RangeInclusive<T>,
    name: &str,
) -> Result<()> {
    match given {
        Some(given) if !range.contains(&given) => {
            bail!("{name} goes from {} to {}, and is {given}", range.start(), range.end())
        }
        Some(given) => *target = given,
        None => {}
    }
    Ok(())
}

fn set_ms(target: &mut Duration, given: Option<u64>, name: &str) -> Result<()> {
    let mut ms = u64::try_from(target.as_millis()).unwrap_or(u64::MAX);
    set(&mut ms, given, 100..=3_600_000, name)?;
    *target = Duration::from_millis(ms);
    Ok(())
}

/// The keys in the lines after the first, which the first replaced and which are good still.
fn previous_keys(file: &Path) -> Result<Vec<ServiceKey>> {
    let text = fs::read_to_string(file)
        .with_context(|| format!("the service key {} cannot be read", file.display()))?;
    let lines = text.lines().skip(1).map(str::trim).filter(|line| !line.is_empty());
    let read = |line| {
        ServiceKey::parse(line)
            .with_context(|| format!("{} holds a line that is no key", file.display()))
    };
    lines.map(read).collect()
}

/// The key in `file`, made with mode 0600 if the file is not there.
pub(crate) fn key(file: &Path) -> Result<ServiceKey> {
    if file.exists() {
        return crate::api::read_key(file);
    }
    if let Some(parent) = file.parent().filter(|parent| !parent.as_os_str().is_empty()) {
        fs::create_dir_all(parent)
            .with_context(|| format!("the folder {} cannot be made", parent.display()))?;
    }
    let key = ServiceKey::generate();
    let made = fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(file);
    let mut made =
        made.with_context(|| format!("the service key {} cannot be written", file.display()))?;
    writeln!(made, "{}", key.reveal())?;
    Ok(key)
}
