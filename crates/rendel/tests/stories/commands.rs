//! The command: what it prints and how it ends.

use std::fs;
use std::io::Write as _;
use std::process::{Command, Stdio};

use serde_json::Value;

use crate::harness::{Service, free_port};

fn text(bytes: &[u8]) -> String {
    String::from_utf8_lossy(bytes).into_owned()
}

#[tokio::test]
async fn a_participant_in_a_terminal_hears_of_everything_in_words() {
    let service = Service::start().await;
    service.open_demo("last-barrel").await;
    let mut enter = Command::new(env!("CARGO_BIN_EXE_rendel"))
        .args(["enter", "last-barrel", "--as", "steward", "--name", "Mirela"])
        .env("RENDEL_SERVER", &service.server)
        .env("RENDEL_KEY_FILE", service.key_file())
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let lines = "help\nwho\n/reserve set 45\n/status set closed\n/status set \"closed\"\n/sttus \
        set 1\n/offers put offer-3 {\"amount\":70}\n";
    enter.stdin.take().unwrap().write_all(lines.as_bytes()).unwrap();
    let output = enter.wait_with_output().unwrap();
    let said = text(&output.stdout);
    assert!(output.status.success(), "{said}\n{}", text(&output.stderr));
    for words in [
        "welcome, Mirela: you are steward in last-barrel, at #1",
        "here: Mirela (steward)",
        "/offers       2 records",
        "mirela (you)   /reserve = 45   settled in",
        "closed is no JSON value; text stands in double quotes: \"closed\"",
        "refused (wrong-type)",
        "did you mean: /status",
        "/offers put offer-3 {\"amount\":70,\"bidder\":\"mirela\"}",
    ] {
        assert!(said.contains(words), "{words:?} is missing in:\n{said}");
    }
    let token = service.token("last-barrel", "oda", "viewer").await;
    let (_, welcome) = crate::harness::Raw::enter(&service, "last-barrel", &token).await;
    assert!(
        welcome["roster"].as_array().unwrap().iter().all(|one| one["id"] != "mirela"),
        "Mirela has left"
    );
    let journal = text(&service.rendel(&["journal", "last-barrel"]).stdout);
    assert_eq!(journal.lines().filter(|line| line.starts_with('#')).count(), 3, "{journal}");
}

#[tokio::test]
async fn every_command_that_prints_data_prints_json_where_asked() {
    let service = Service::start().await;
    service.open_demo("headcount").await;
    service.rendel(&["propose", "headcount", "/heads add 1"]);
    for args in [
        &["session", "list"][..],
        &["session", "show", "headcount"],
        &["charter", "list"],
        &["charter", "show", "headcount"],
        &["token", "issue", "headcount", "--sub", "oda", "--role", "participant"],
        &["propose", "headcount", "/heads add 1"],
        &["state", "headcount"],
        &["journal", "headcount"],
        &["doctor"],
    ] {
        let output = service.rendel(&[&["--json"], args].concat());
        assert_eq!(output.status.code(), Some(0), "{args:?}: {}", text(&output.stderr));
        let lines = text(&output.stdout);
        assert!(
            !lines.is_empty()
                && lines.lines().all(|line| serde_json::from_str::<Value>(line).is_ok()),
            "{args:?}: {lines}"
        );
        assert_eq!(service.rendel(args).status.code(), Some(0), "{args:?}");
    }
}

#[test]
fn the_exit_code_says_what_kind_of_end_it_was() {
    let folder = tempfile::tempdir().unwrap();
    let key = folder.path().join("key");
    fs::write(&key, "an-orchard-has-pears-and-quinces").unwrap();
    let faulty = folder.path().join("faulty.toml");
    fs::write(&faulty, "charter = \"a\"\nversion = 1\n[state.heads]\nkind = \"countre\"\n")
        .unwrap();
    let rendel = |args: &[&str]| {
        let mut command = Command::new(env!("CARGO_BIN_EXE_rendel"));
        command
            .args(args)
            .env("RENDEL_KEY_FILE", &key)
            .env("RENDEL_SERVER", format!("http://127.0.0.1:{}", free_port()));
        command.current_dir(folder.path()).output().unwrap()
    };
    let check = rendel(&["charter", "check", faulty.to_str().unwrap()]);
    assert_eq!(check.status.code(), Some(1));
    assert!(
        text(&check.stdout).contains("faulty.toml:4:8: state.heads.kind: \"countre\" does not fit"),
        "{}",
        text(&check.stdout)
    );
    assert!(text(&check.stdout).contains("Did you mean \"counter\"?"));
    assert_eq!(rendel(&["sesion"]).status.code(), Some(2));
    let away = rendel(&["session", "list"]);
    assert_eq!(away.status.code(), Some(3));
    assert!(text(&away.stderr).contains("Start it with: rendel serve"), "{}", text(&away.stderr));
    let no_database = rendel(&["serve"]);
    assert_eq!(no_database.status.code(), Some(1));
    assert!(text(&no_database.stderr).contains("--local-database DIR"));
    fs::set_permissions(&key, std::os::unix::fs::PermissionsExt::from_mode(0o644)).unwrap();
    let doctor = rendel(&["doctor"]);
    assert_eq!(doctor.status.code(), Some(4));
    assert!(text(&doctor.stdout).contains("chmod 600"), "{}", text(&doctor.stdout));
    assert!(text(&rendel(&["completions", "bash"]).stdout).contains("_rendel"));
    assert_eq!(rendel(&["charter", "schema"]).status.code(), Some(0));
}

#[tokio::test]
async fn a_second_service_on_the_same_private_database_is_told_so() {
    let service = Service::start().await;
    let listen = format!("127.0.0.1:{}", free_port());
    let database = service.path("database");
    let output = service.rendel(&[
        "serve",
        "--listen",
        &listen,
        "--local-database",
        database.to_str().unwrap(),
    ]);
    assert_eq!(output.status.code(), Some(1));
    assert!(
        text(&output.stderr).contains("another service uses the database"),
        "{}",
        text(&output.stderr)
    );
    assert_eq!(service.get("/readyz").await.status(), 200, "and the first goes on");
}

#[test]
fn a_folder_that_the_database_s_user_cannot_enter_is_told_and_left_alone() {
    use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _};
    if fs::metadata("/proc/self").unwrap().uid() != 0 {
        return; // Anyone but root runs the database as themselves.
    }
    let folder = tempfile::tempdir().unwrap();
    fs::set_permissions(folder.path(), fs::Permissions::from_mode(0o700)).unwrap();
    let mut command = Command::new(env!("CARGO_BIN_EXE_rendel"));
    command.args([
        "serve",
        "--listen",
        &format!("127.0.0.1:{}", free_port()),
        "--local-database",
        "inner/database",
    ]);
    let output = command.current_dir(folder.path()).output().unwrap();
    assert_eq!(output.status.code(), Some(1));
    let said = text(&output.stderr);
    assert!(said.contains(&format!("may not enter {}", folder.path().display())), "{said}");
}

#[tokio::test]
async fn doctor_says_how_far_a_database_is_and_changes_nothing() {
    let service = Service::start().await;
    let url = service.database_url();
    let other = rendel_store::LocalDatabase::start(&service.path("fresh")).unwrap();
    let fresh = other.url();
    let doctor = |url: &str| {
        let output = service.rendel(&["--json", "doctor", "--database-url", url]);
        let lines = text(&output.stdout).to_owned();
        let first: Value = serde_json::from_str(lines.lines().next().unwrap()).unwrap();
        (first["is"].as_str().unwrap().to_owned(), first["says"].as_str().unwrap().to_owned())
    };
    let tables = "SELECT count(*) FROM pg_tables WHERE schemaname = 'public'";
    let in_fresh = || {
        let mut command = std::process::Command::new("psql");
        let output = command.args(["--tuples-only", "--no-align", "-c", tables, fresh]).output();
        String::from_utf8(output.unwrap().stdout).unwrap().trim().to_owned()
    };
    let (is, says) = doctor(fresh);
    assert!(is == "note" && says.contains("no tables of Rendel yet"), "{is}: {says}");
    assert_eq!(in_fresh(), "0");
    assert_eq!(doctor(&url).0, "well");
    // One that an older version left, and one that a newer version has changed.
    let newest = "(SELECT max(version) FROM __diesel_schema_migrations)";
    service.sql(&format!(
        "UPDATE __diesel_schema_migrations SET version = '99990101000000' WHERE version = {newest}"
    ));
    let (is, says) = doctor(&url);
    assert!(is == "missing" && says.contains("newer version"), "{is}: {says}");
    service.sql(&format!("DELETE FROM __diesel_schema_migrations WHERE version = {newest}"));
    let (is, says) = doctor(&url);
    assert!(is == "note" && says.contains("1 migration(s)"), "{is}: {says}");
}

#[test]
fn output_that_cannot_be_written_is_a_failure_and_a_reader_that_has_enough_is_none() {
    let completions = |output: Stdio| {
        let mut command = Command::new(env!("CARGO_BIN_EXE_rendel"));
        command.args(["completions", "bash"]).stdout(output).stderr(Stdio::piped());
        command.spawn().unwrap()
    };
    let full = fs::OpenOptions::new().write(true).open("/dev/full").unwrap();
    let output = completions(full.into()).wait_with_output().unwrap();
    assert_eq!(output.status.code(), Some(1));
    assert!(text(&output.stderr).contains("the output cannot be written"), "{output:?}");
    let (reader, writer) = std::io::pipe().unwrap();
    drop(reader);
    let output = completions(writer.into()).wait_with_output().unwrap();
    assert_eq!((output.status.code(), &*text(&output.stderr)), (Some(0), ""));
}
