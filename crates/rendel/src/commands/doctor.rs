//! `rendel doctor`: what is missing or misconfigured on this machine, and how to mend it.

use std::net::TcpListener;
use std::os::unix::fs::PermissionsExt as _;
use std::process::Command;

use anyhow::Result;
use rendel_service::raise_descriptor_limit;
use rendel_store::{Tables, find_server_programs};
use serde::Serialize;

use crate::cli::DoctorArgs;
use crate::out::{Out, SomethingMissing};

#[derive(Debug, Serialize)]
struct Finding {
    what: &'static str,
    is: Verdict,
    says: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    mend: Option<String>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
enum Verdict {
    Well,
    Note,
    Missing,
}

pub(crate) async fn run(args: &DoctorArgs, out: Out) -> Result<()> {
    let mut findings = Vec::new();
    match &args.database_url {
        Some(url) => findings.push(database(url).await),
        None => findings.extend([server_programs(), server_user()]),
    }
    findings.extend([descriptors(), key(args), service(args).await]);
    for finding in &findings {
        out.value(finding, || in_words(finding));
    }
    match findings.iter().filter(|finding| finding.is == Verdict::Missing).count() {
        0 => Ok(()),
        missing => Err(SomethingMissing(missing).into()),
    }
}

fn in_words(finding: &Finding) -> String {
    let mark = match finding.is {
        Verdict::Well => "well   ",
        Verdict::Note => "note   ",
        Verdict::Missing => "MISSING",
    };
    let mend = finding.mend.as_ref().map(|mend| format!("\n{:21}→ {mend}", "")).unwrap_or_default();
    format!("{mark}  {:<11} {}{mend}", finding.what, finding.says)
}

fn well(what: &'static str, says: impl Into<String>) -> Finding {
    Finding { what, is: Verdict::Well, says: says.into(), mend: None }
}

fn note(what: &'static str, says: impl Into<String>, mend: impl Into<String>) -> Finding {
    Finding { what, is: Verdict::Note, says: says.into(), mend: Some(mend.into()) }
}

fn missing(what: &'static str, says: impl Into<String>, mend: impl Into<String>) -> Finding {
    Finding { is: Verdict::Missing, ..note(what, says, mend) }
}

async fn database(url: &str) -> Finding {
    match Tables::of(url).await {
        Ok(Tables::UpToDate) => {
            well("database", "the PostgreSQL answers and its tables are up to date")
        }
        Ok(Tables::Missing) => note(
            "database",
            "the PostgreSQL answers and has no tables of Rendel yet",
            "rendel serve makes them at its first start",
        ),
        Ok(Tables::Behind(count)) => note(
            "database",
            format!("the PostgreSQL answers; {count} migration(s) have not been run"),
            "make a backup, then start rendel serve, which runs them",
        ),
        Ok(Tables::Ahead(count)) => missing(
            "database",
            format!(
                "a newer version has changed the tables: {count} migration(s) are unknown here"
            ),
            "use that version, or restore a backup from before",
        ),
        Err(error) => missing(
            "database",
            error.to_string(),
            "check the URL, that the server runs, and that the user may connect",
        ),
    }
}

fn server_programs() -> Finding {
    match find_server_programs() {
        Some(programs) => well("database", format!("PostgreSQL is in {}", programs.display())),
        None => missing(
            "database",
            "no PostgreSQL server on this machine",
            "apt-get install postgresql, or use one elsewhere with --database-url URL",
        ),
    }
}

fn server_user() -> Finding {
    let is_root = std::fs::metadata("/proc/self")
        .is_ok_and(|me| std::os::unix::fs::MetadataExt::uid(&me) == 0);
    let knows_user =
        Command::new("id").arg("postgres").output().is_ok_and(|output| output.status.success());
    let knows_setpriv = Command::new("setpriv")
        .arg("--version")
        .output()
        .is_ok_and(|output| output.status.success());
    match (is_root, knows_user && knows_setpriv) {
        (false, _) => well("user", "not root: a private PostgreSQL runs as you"),
        (true, true) => well("user", "root: a private PostgreSQL runs as the user postgres"),
        (true, false) => missing(
            "user",
            "PostgreSQL refuses to run as root",
            "add a user named postgres and the program setpriv (package util-linux)",
        ),
    }
}

fn descriptors() -> Finding {
    match raise_descriptor_limit() {
        Ok(limit) if limit >= 10_000 => {
            well("descriptors", format!("{limit} may be open, one for each connection"))
        }
        Ok(limit) => note(
            "descriptors",
            format!("only {limit} may be open, one for each connection"),
            "raise the hard limit: ulimit -Hn 65536",
        ),
        Err(error) => {
            note("descriptors", format!("the limit cannot be read: {error}"), "ulimit -Hn 65536")
        }
    }
}

fn key(args: &DoctorArgs) -> Finding {
    let file = &args.reach.key_file;
    let shown = file.display();
    let Ok(about) = std::fs::metadata(file) else {
        return note(
            "key",
            format!("{shown} is not there"),
            "rendel serve makes it at its first start; --key-file names another",
        );
    };
    if about.permissions().mode() & 0o077 != 0 {
        return missing(
            "key",
            format!("{shown} can be read by other users"),
            format!("chmod 600 {shown}"),
        );
    }
    match crate::api::read_key(file) {
        Ok(_) => well("key", format!("{shown} is there and only yours to read")),
        Err(error) => missing(
            "key",
            format!("{error:#}"),
            format!(
                "remove {shown}; rendel serve makes a new one, and old tokens end with the old key"
            ),
        ),
    }
}

async fn service(args: &DoctorArgs) -> Finding {
    let server = args.reach.server.trim_end_matches('/');
    let client =
        reqwest::Client::builder().no_proxy().timeout(std::time::Duration::from_secs(3)).build();
    let ready = match client {
        Ok(client) => client.get(format!("{server}/readyz")).send().await,
        Err(error) => Err(error),
    };
    match ready {
        Ok(response) if response.status().is_success() => {
            well("service", format!("{server} is ready"))
        }
        Ok(response) => missing(
            "service",
            format!("{server} answers {}", response.status()),
            "look at its log; if it is another program, give --listen another port",
        ),
        Err(_) => {
            let address = server.strip_prefix("http://").unwrap_or(server);
            if TcpListener::bind(address).is_ok() {
                note(
                    "service",
                    format!("nothing runs at {server} yet"),
                    "rendel serve --local-database DIR",
                )
            } else {
                missing(
                    "service",
                    format!("{address} is taken by something that is no service of ours"),
                    "give --listen another port",
                )
            }
        }
    }
}
