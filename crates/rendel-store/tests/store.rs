//! The store against a real PostgreSQL on loopback.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::fs;
use std::os::unix::fs::PermissionsExt as _;
use std::sync::mpsc;
use std::thread;
use std::time::{Duration, Instant};

use diesel::connection::SimpleConnection as _;
use diesel::{Connection as _, PgConnection, RunQueryDsl as _};
use rendel_core::{ClientKey, Problem, ProblemKind};
use rendel_store::{
    Append, Claim, Findable, JournalWriter, Keeping, LocalDatabase, LocalDatabaseError,
    NewRevocation, Note, RefusalRow, Sought, StandingRow, Store, StoreError, UpdateRow, WriteError,
};
use tempfile::TempDir;
use uuid::Uuid;

/// A database of the test's own, which ends with it.
struct Database {
    dir: TempDir,
    local: Option<LocalDatabase>,
}

impl Database {
    fn start() -> Self {
        // The database's user must be able to enter the folder.
        let dir = tempfile::Builder::new()
            .permissions(fs::Permissions::from_mode(0o755))
            .tempdir()
            .unwrap();
        let local = Some(LocalDatabase::start(&dir.path().join("database")).unwrap());
        Self { dir, local }
    }

    fn url(&self) -> String {
        self.local.as_ref().unwrap().url().to_owned()
    }
}

impl Drop for Database {
    fn drop(&mut self) {
        if let Some(local) = self.local.take() {
            local.stop().unwrap();
        }
    }
}

const CHARTER: &str = "charter = \"headcount\"\nversion = 1\n[state.heads]\nkind = \"counter\"\n";
const KEEPING: Keeping = Keeping { stride: 1, updates: None };
const WAIT: Duration = Duration::from_secs(20);

fn note() -> Note {
    Note::of_service("a test", serde_json::json!({}))
}

#[tokio::test]
async fn the_private_database_s_role_owns_its_tables_and_is_no_superuser() {
    let database = Database::start();
    with_session(&database.url()).await;
    let mut conn = PgConnection::establish(&database.url()).unwrap();
    assert!(conn.batch_execute("CREATE ROLE other SUPERUSER").is_err());
    assert!(conn.batch_execute("COPY (SELECT 1) TO PROGRAM 'true'").is_err());
}

#[test]
fn a_database_of_another_server_is_told_and_left_alone() {
    let mut database = Database::start();
    database.local.take().unwrap().stop().unwrap();
    let dir = database.dir.path().join("database");
    let version = dir.join("data/PG_VERSION");
    let was = fs::read_to_string(&version).unwrap();
    fs::write(&version, "9\n").unwrap();
    let told = LocalDatabase::start(&dir).unwrap_err().to_string();
    assert!(told.contains("made by PostgreSQL 9") && told.contains(was.trim()), "{told}");
    fs::write(&version, was).unwrap();
    database.local = Some(LocalDatabase::start(&dir).unwrap());
}

#[test]
fn a_lock_file_that_is_a_link_is_not_followed() {
    let dir = tempfile::tempdir().unwrap();
    let precious = dir.path().join("precious");
    fs::write(&precious, "kept").unwrap();
    let database = dir.path().join("database");
    fs::create_dir(&database).unwrap();
    std::os::unix::fs::symlink(&precious, database.join("in-use")).unwrap();
    assert!(matches!(LocalDatabase::start(&database), Err(LocalDatabaseError::Folder(..))));
    assert_eq!(fs::read_to_string(&precious).unwrap(), "kept");
}

#[tokio::test]
async fn revocations_commit_in_the_order_of_their_numbers() {
    let database = Database::start();
    let (store, _) = with_session(&database.url()).await;
    let mut other = PgConnection::establish(&database.url()).unwrap();
    // Another service is in the middle of revoking.
    other
        .batch_execute(
            "BEGIN; SELECT pg_advisory_xact_lock(125780104276837); INSERT INTO revocations (session, \
             sub, issued_until, kept_until) VALUES ('gate', 'oda', 1, now() + interval '1 day')",
        )
        .unwrap();
    let new = NewRevocation {
        session: "gate".into(),
        sub: Some("bram".into()),
        jti: None,
        issued_until: 1.0,
        kept_until: chrono::Utc::now() + chrono::TimeDelta::days(1),
    };
    let (ours, seen) = {
        let revoker = store.clone();
        let revoking = tokio::spawn(async move { revoker.revoke(new, note()).await.unwrap() });
        tokio::time::sleep(Duration::from_millis(300)).await;
        assert!(!revoking.is_finished(), "it waits for the one before it");
        assert!(store.revocations(0).await.unwrap().is_empty());
        other.batch_execute("COMMIT").unwrap();
        (revoking.await.unwrap(), store.revocations(0).await.unwrap())
    };
    let subs: Vec<_> = seen.iter().map(|one| one.sub.clone().unwrap()).collect();
    assert_eq!((subs, seen[1].ord), (vec!["oda".to_owned(), "bram".to_owned()], ours.ord));
}

async fn with_session(url: &str) -> (Store, i64) {
    let store = Store::connect(url, 2).await.unwrap();
    store
        .publish_charter("headcount".into(), 1, "Headcount".into(), CHARTER.into(), note())
        .await
        .unwrap();
    let row = store
        .open_session("gate".into(), "headcount".into(), 1, None, Findable::default(), None)
        .await
        .unwrap();
    (store, row.ord)
}

fn update(session: i64, seq: i64) -> UpdateRow {
    let body = format!(
        r#"{{"seq":{seq},"by":"oda","client":"{}","n":{seq},"at":0,"effects":[{{"at":"/heads","op":"add","by":1,"now":{seq}}}]}}"#,
        Uuid::nil()
    );
    UpdateRow { session, seq, body: body.into(), met: false }
}

type Answers = mpsc::Receiver<Result<(), WriteError>>;

async fn append(
    writer: &JournalWriter,
    session: i64,
    epoch: u64,
    seqs: std::ops::RangeInclusive<i64>,
) -> Answers {
    let (told, answers) = mpsc::channel();
    let updates = seqs.map(|seq| update(session, seq)).collect();
    let done = Box::new(move |result| told.send(result).unwrap());
    writer
        .append(Append {
            session,
            epoch,
            updates,
            refusals: vec![],
            announcements: vec![],
            wakes: None,
            done,
        })
        .await
        .unwrap();
    answers
}

fn answer(answers: &Answers) -> Result<(), WriteError> {
    answers.recv_timeout(WAIT).unwrap()
}

#[tokio::test]
async fn appends_of_many_sessions_are_all_there_in_order_whichever_way_they_went_in() {
    let database = Database::start();
    let (store, _) = with_session(&database.url()).await;
    let (told, commits) = mpsc::channel();
    let writer =
        JournalWriter::start(&database.url(), move |rows, _| told.send(rows).unwrap_or_default())
            .unwrap();
    for n in 2..=40 {
        store
            .open_session(format!("s{n}"), "headcount".into(), 1, None, Findable::default(), None)
            .await
            .unwrap();
    }
    let mut waiting = Vec::new();
    for session in 1..=40 {
        waiting.push(append(&writer, session, 0, 1..=3).await);
        waiting.push(append(&writer, session, 0, 4..=200).await);
    }
    waiting.iter().for_each(|answers| answer(answers).unwrap());
    for session in [1, 17, 40] {
        let rows = store.journal(session, 1, 1_000, 1_000).await.unwrap();
        let expected: Vec<_> = (1..=200).map(|seq| update(session, seq).body.to_string()).collect();
        assert_eq!(rows, expected);
    }
    let commits: Vec<usize> = commits.try_iter().collect();
    assert_eq!(commits.iter().sum::<usize>(), 8_000);
    assert!(
        commits.len() < 80,
        "while one commit was under way the next group filled: {commits:?}"
    );
}

#[tokio::test]
async fn what_an_older_epoch_appends_is_left_out_as_a_whole_and_so_is_all_that_it_sent_after() {
    let database = Database::start();
    let (store, session) = with_session(&database.url()).await;
    let bystander = store
        .open_session("east".into(), "headcount".into(), 1, None, Findable::default(), None)
        .await
        .unwrap()
        .ord;
    // Few rows go in as one statement, many by COPY, and refusals in a transaction: each way is
    // fenced.
    for (round, rows) in [(0i64, 2), (1, 600)] {
        let writer = JournalWriter::start(&database.url(), |_, _| {}).unwrap();
        let first = round * 1_000 + 1;
        let old = store
            .take_over("gate".into(), Claim::Anew)
            .await
            .unwrap()
            .unwrap()
            .row
            .epoch
            .cast_unsigned();
        answer(&append(&writer, session, old, first..=first).await).unwrap();
        let other = Store::connect(&database.url(), 1).await.unwrap();
        let new = other
            .take_over("gate".into(), Claim::Anew)
            .await
            .unwrap()
            .unwrap()
            .row
            .epoch
            .cast_unsigned();
        let fenced = append(&writer, session, old, first + 1..=first + rows).await;
        let beside = append(&writer, bystander, 0, first..=first).await;
        let after = append(&writer, session, old, first + rows + 1..=first + rows + 1).await;
        assert_eq!(answer(&fenced), Err(WriteError::Superseded));
        assert_eq!(answer(&beside), Ok(()));
        assert!(answer(&after).is_err(), "it would leave a gap");
        answer(&append(&writer, session, new, first + 1..=first + 999).await).unwrap();
        assert_eq!(
            store.journal(session, first.cast_unsigned(), 5_000, 5_000).await.unwrap().len(),
            1_000
        );
        assert!(
            store.take_over("gate".into(), Claim::Again).await.unwrap().is_none(),
            "it does not take it back unasked"
        );
        let standing = |status| {
            let except = "[]".to_owned();
            StandingRow { status, except, delete_at: None, announcement: None }
        };
        assert!(!store.set_status(session, old, standing("frozen"), note()).await.unwrap());
        assert!(store.set_status(session, new, standing("open"), note()).await.unwrap());
    }
    // A place that is taken under one's own epoch is what a lost answer leaves behind: the session
    // is loaded again.
    let writer = JournalWriter::start(&database.url(), |_, _| {}).unwrap();
    let epoch = store
        .take_over("gate".into(), Claim::Anew)
        .await
        .unwrap()
        .unwrap()
        .row
        .epoch
        .cast_unsigned();
    let taken = append(&writer, session, epoch, 5..=5).await;
    let beside = append(&writer, bystander, 0, 7_000..=7_000).await;
    assert!(matches!(answer(&taken), Err(WriteError::Away(_))));
    assert_eq!(answer(&beside), Ok(()));
}

/// A connection of the test's own that holds things up.
fn connect(url: &str) -> PgConnection {
    PgConnection::establish(url).unwrap()
}

/// Waits until so many statements wait for a lock.
fn until_waiting(conn: &mut PgConnection, what: &str) {
    let deadline = Instant::now() + WAIT;
    let waiting = format!(
        "SELECT 1 FROM pg_stat_activity WHERE wait_event_type = 'Lock' AND query LIKE '%{what}%' \
         AND pid <> pg_backend_pid()"
    );
    while diesel::sql_query(&waiting).execute(conn).unwrap() == 0 {
        assert!(Instant::now() < deadline, "nothing waits: {what}");
        thread::sleep(Duration::from_millis(10));
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_take_over_waits_for_an_append_that_is_under_way_and_reads_it() {
    let database = Database::start();
    let (store, session) = with_session(&database.url()).await;
    let (mut gate, mut watch) = (connect(&database.url()), connect(&database.url()));
    // Every row of the journal waits for the test, after it was sent and before it is committed.
    gate.batch_execute(
        "CREATE FUNCTION hold() RETURNS trigger LANGUAGE plpgsql AS \
         $$ BEGIN PERFORM pg_advisory_xact_lock_shared(7); RETURN NEW; END $$; \
         CREATE TRIGGER hold BEFORE INSERT ON journal FOR EACH ROW EXECUTE FUNCTION hold();",
    )
    .unwrap();
    let mut last = 0;
    // As one statement, and within a transaction by COPY.
    for rows in [2i64, 600] {
        let owner = store.take_over("gate".into(), Claim::Anew).await.unwrap().unwrap();
        let writer = JournalWriter::start(&database.url(), |_, _| {}).unwrap();
        gate.batch_execute("SELECT pg_advisory_lock(7)").unwrap();
        let under_way =
            append(&writer, session, owner.row.epoch.cast_unsigned(), last + 1..=last + rows).await;
        until_waiting(&mut watch, "journal");
        let other = Store::connect(&database.url(), 1).await.unwrap();
        let taking = tokio::spawn(async move { other.take_over("gate".into(), Claim::Anew).await });
        until_waiting(&mut watch, "FOR UPDATE");
        assert!(!taking.is_finished());
        gate.batch_execute("SELECT pg_advisory_unlock(7)").unwrap();
        answer(&under_way).unwrap();
        last += rows;
        let taken = taking.await.unwrap().unwrap().unwrap();
        assert_eq!(taken.updates.last().map(|update| update.seq), Some(last.cast_unsigned()));
        assert_eq!(
            taken.epochs.last(),
            Some(&(taken.row.epoch.cast_unsigned(), last.cast_unsigned()))
        );
        let late =
            append(&writer, session, owner.row.epoch.cast_unsigned(), last + 1..=last + 1).await;
        assert_eq!(answer(&late), Err(WriteError::Superseded));
    }
}

#[tokio::test]
async fn an_append_to_a_session_that_is_being_taken_over_fails_alone_and_can_be_made_after_a_look()
{
    let database = Database::start();
    let (store, session) = with_session(&database.url()).await;
    let bystander = store
        .open_session("east".into(), "headcount".into(), 1, None, Findable::default(), None)
        .await
        .unwrap()
        .ord;
    let mut taking = connect(&database.url());
    for rows in [2i64, 600] {
        let writer = JournalWriter::start(&database.url(), |_, _| {}).unwrap();
        let epoch = store
            .take_over("gate".into(), Claim::Anew)
            .await
            .unwrap()
            .unwrap()
            .row
            .epoch
            .cast_unsigned();
        taking.batch_execute("BEGIN; SELECT 1 FROM sessions WHERE id = 'gate' FOR UPDATE").unwrap();
        let left_out = append(&writer, session, epoch, 1..=rows).await;
        let beside = append(&writer, bystander, 0, rows * 1_000..=rows * 1_000).await;
        assert_eq!(answer(&beside), Ok(()), "it does not wait for the session that is locked");
        assert!(matches!(answer(&left_out), Err(WriteError::Away(_))), "nobody else has it yet");
        taking.batch_execute("ROLLBACK").unwrap();
        let again = store.take_over("gate".into(), Claim::Again).await.unwrap().unwrap();
        assert!(again.updates.is_empty(), "it was left out as a whole");
    }
}

#[tokio::test]
async fn the_owner_loads_its_session_again_also_after_a_take_over_whose_answer_was_lost() {
    let database = Database::start();
    let (store, _) = with_session(&database.url()).await;
    store.take_over("gate".into(), Claim::Anew).await.unwrap().unwrap();
    // Its second one was committed, and the answer lost: its epoch is higher than it knows.
    store.take_over("gate".into(), Claim::Again).await.unwrap().unwrap();
    assert!(store.take_over("gate".into(), Claim::Again).await.unwrap().is_some());
    let other = Store::connect(&database.url(), 1).await.unwrap();
    assert!(
        other.take_over("gate".into(), Claim::Again).await.unwrap().is_none(),
        "it never had it"
    );
    assert!(other.take_over("gate".into(), Claim::Anew).await.unwrap().is_some());
    assert!(store.take_over("gate".into(), Claim::Again).await.unwrap().is_none());
}

#[tokio::test]
async fn of_two_that_race_for_a_session_one_writes_each_place() {
    let database = Database::start();
    let (store, session) = with_session(&database.url()).await;
    let contend = async |store: Store, writer: JournalWriter| {
        let mut written = Vec::new();
        for _ in 0..30 {
            let Ok(Some(taken)) = store.take_over("gate".into(), Claim::Anew).await else {
                continue;
            };
            let next =
                i64::try_from(taken.updates.last().map_or(0, |update| update.seq)).unwrap() + 1;
            let epoch = taken.row.epoch.cast_unsigned();
            let answers = append(&writer, session, epoch, next..=next + 2).await;
            if tokio::task::spawn_blocking(move || answer(&answers)).await.unwrap().is_ok() {
                written.extend(next..=next + 2);
            }
        }
        written
    };
    let other = Store::connect(&database.url(), 2).await.unwrap();
    let writer = || JournalWriter::start(&database.url(), |_, _| {}).unwrap();
    let (one, two) = tokio::join!(contend(store.clone(), writer()), contend(other, writer()));
    let mut told: Vec<_> = one.into_iter().chain(two).collect();
    told.sort_unstable();
    let rows = store.journal(session, 1, 10_000, 10_000).await.unwrap();
    assert_eq!(
        told,
        (1..=i64::try_from(rows.len()).unwrap()).collect::<Vec<_>>(),
        "what is told is what is written"
    );
}

#[tokio::test]
async fn a_snapshot_that_the_journal_does_not_lead_to_is_refused() {
    let database = Database::start();
    let (store, session) = with_session(&database.url()).await;
    let writer = JournalWriter::start(&database.url(), |_, _| {}).unwrap();
    let epoch = store
        .take_over("gate".into(), Claim::Anew)
        .await
        .unwrap()
        .unwrap()
        .row
        .epoch
        .cast_unsigned();
    answer(&append(&writer, session, epoch, 1..=3).await).unwrap();
    let keep = async |epoch, seq| {
        store.keep_snapshot(session, epoch, seq, format!(r#"{{"seq":{seq}}}"#), KEEPING).await
    };
    assert!(matches!(keep(epoch, 4).await, Err(StoreError::NotKept(_))), "beyond the journal");
    assert!(matches!(keep(epoch - 1, 3).await, Err(StoreError::NotKept(_))), "of an older owner");
    keep(epoch, 3).await.unwrap();
    // One that got there in another way is not believed.
    connect(&database.url())
        .batch_execute(&format!("INSERT INTO snapshots VALUES ({session}, 9, '{{}}')"))
        .unwrap();
    let taken = store.take_over("gate".into(), Claim::Anew).await.unwrap().unwrap();
    assert_eq!((taken.updates.len(), taken.epochs.last().unwrap().1), (3, 3));
}

#[tokio::test]
async fn every_connection_has_time_outs_that_the_server_keeps() {
    let database = Database::start();
    let (store, _) = with_session(&database.url()).await;
    let mut holding = connect(&database.url());
    holding.batch_execute("BEGIN; SELECT 1 FROM sessions WHERE id = 'gate' FOR UPDATE").unwrap();
    let waited = store.take_over("gate".into(), Claim::Anew).await;
    assert!(matches!(waited, Err(StoreError::Away(_))), "{waited:?}");
}

#[tokio::test]
async fn of_the_refusals_of_a_session_the_newest_are_kept_in_order() {
    let database = Database::start();
    let (store, session) = with_session(&database.url()).await;
    let writer = JournalWriter::start(&database.url(), |_, _| {}).unwrap();
    let problem = serde_json::to_string(&Problem::new(ProblemKind::Stale, "Look again.")).unwrap();
    let refusal = |n: i64| RefusalRow {
        session,
        client: Uuid::from_u128(7),
        n,
        at_seq: 0,
        problem: problem.clone(),
    };
    for first in [5_000, 0] {
        let (told, answers) = mpsc::channel();
        let done = Box::new(move |result| told.send(result).unwrap());
        let refusals = (first + 1..=first + 5_000).map(refusal).collect();
        writer
            .append(Append {
                session,
                epoch: 0,
                updates: vec![],
                refusals,
                announcements: vec![],
                wakes: None,
                done,
            })
            .await
            .unwrap();
        answer(&answers).unwrap();
    }
    store.forget_refusals(session).await.unwrap();
    let kept = store.take_over("gate".into(), Claim::Anew).await.unwrap().unwrap().refusals;
    let numbers: Vec<_> = kept.iter().map(|(.., n, _)| *n).collect();
    assert_eq!(numbers, (905..=5_000).collect::<Vec<_>>(), "the last 4,096 that came");
}

#[tokio::test]
async fn any_state_of_the_past_is_near_a_snapshot_and_a_bounded_journal_says_from_where_on() {
    let database = Database::start();
    let (store, session) = with_session(&database.url()).await;
    let writer = JournalWriter::start(&database.url(), |_, _| {}).unwrap();
    answer(&append(&writer, session, 0, 1..=100).await).unwrap();
    let charter = std::sync::Arc::new(rendel_core::Charter::parse(CHARTER).unwrap());
    let mut sequencer = rendel_core::Sequencer::open(charter, None).unwrap();
    let keep = async |sequencer: &rendel_core::Sequencer, keeping| {
        let body = serde_json::to_string(&sequencer.snapshot()).unwrap();
        store.keep_snapshot(session, 0, sequencer.seq(), body, keeping).await.unwrap();
    };
    for body in store.journal(session, 1, 100, 100).await.unwrap() {
        sequencer.replay(&serde_json::from_str(&body).unwrap()).unwrap();
        if sequencer.seq().is_multiple_of(10) && sequencer.seq() < 100 {
            keep(&sequencer, Keeping { stride: 40, updates: None }).await;
        }
    }
    let places = async |at| match store.past(session, at).await {
        Ok(past) => Ok((past.snapshot.map_or(0, |snapshot| snapshot.seq), past.updates.len())),
        Err(StoreError::Forgotten { kept_from, .. }) => Err(kept_from),
        Err(error) => panic!("{error}"),
    };
    assert_eq!(
        (places(9).await, places(35).await, places(77).await, places(95).await),
        (Ok((0, 9)), Ok((10, 25)), Ok((40, 37)), Ok((90, 5)))
    );
    keep(&sequencer, Keeping { stride: 40, updates: Some(30) }).await;
    assert_eq!(
        (places(39).await, places(40).await, places(100).await),
        (Err(40), Ok((40, 0)), Ok((100, 0)))
    );
    assert_eq!(store.journal(session, 41, 100, 100).await.unwrap().len(), 60);
    let forgotten = store.journal(session, 40, 100, 100).await;
    assert!(
        matches!(forgotten, Err(StoreError::Forgotten { at: 40, kept_from: 40 })),
        "{forgotten:?}"
    );
    let whole = store.whole("gate".into()).await.unwrap().unwrap();
    assert_eq!((whole.base.as_ref().map(|(seq, _)| *seq), whole.updates.len()), (Some(40), 60));
    let copy = store.bring_in(rendel_store::Whole { id: "copy".into(), ..whole }).await.unwrap();
    let (mine, its) = (
        store.take_over("gate".into(), Claim::Anew).await.unwrap().unwrap(),
        store.take_over("copy".into(), Claim::Anew).await.unwrap().unwrap(),
    );
    assert_eq!(
        (mine.snapshot.map(|one| one.seq), its.snapshot.map(|one| one.seq)),
        (Some(100), Some(40))
    );
    assert_eq!((its.updates.len(), its.row.ord, its.row.kept_from), (60, copy.ord, 40));
}

#[tokio::test]
async fn the_past_is_whole_or_forgotten_while_the_journal_is_cut() {
    let database = Database::start();
    let (store, session) = with_session(&database.url()).await;
    let writer = JournalWriter::start(&database.url(), |_, _| {}).unwrap();
    answer(&append(&writer, session, 0, 1..=400).await).unwrap();
    let charter = std::sync::Arc::new(rendel_core::Charter::parse(CHARTER).unwrap());
    let mut sequencer = rendel_core::Sequencer::open(charter, None).unwrap();
    let updates = store.journal(session, 1, 400, 400).await.unwrap();
    let is_over = std::sync::Arc::new(std::sync::atomic::AtomicBool::new(false));
    let reader = tokio::spawn({
        let (store, is_over) = (store.clone(), is_over.clone());
        async move {
            let (mut at, mut read) = (1, 0);
            while !is_over.load(std::sync::atomic::Ordering::Relaxed) {
                match store.past(session, at).await {
                    Ok(past) => {
                        let reached = past.snapshot.map_or(0, |snapshot| snapshot.seq)
                            + past.updates.len() as u64;
                        assert_eq!(reached, at, "a state that lacks what was cut away");
                        read += 1;
                    }
                    Err(StoreError::Forgotten { kept_from, .. }) => at = kept_from,
                    Err(error) => panic!("{error}"),
                }
            }
            read
        }
    });
    for body in updates {
        sequencer.replay(&serde_json::from_str(&body).unwrap()).unwrap();
        let body = serde_json::to_string(&sequencer.snapshot()).unwrap();
        store
            .keep_snapshot(
                session,
                0,
                sequencer.seq(),
                body,
                Keeping { stride: 1, updates: Some(3) },
            )
            .await
            .unwrap();
    }
    is_over.store(true, std::sync::atomic::Ordering::Relaxed);
    assert!(reader.await.unwrap() > 10);
}

#[tokio::test]
async fn a_writer_without_its_database_fails_what_it_is_given_and_goes_on_when_it_is_back() {
    let mut database = Database::start();
    let _ = with_session(&database.url()).await;
    let writer = JournalWriter::start(&database.url(), |_, _| {}).unwrap();
    answer(&append(&writer, 1, 0, 1..=1).await).unwrap();
    database.local.take().unwrap().stop().unwrap();
    assert!(matches!(answer(&append(&writer, 1, 0, 2..=2).await), Err(WriteError::Away(_))));
    let probed = writer.probe(std::time::Duration::from_secs(60)).await;
    assert!(matches!(probed, Err(WriteError::Away(_))), "{probed:?}");
    database.local = Some(LocalDatabase::start(&database.dir.path().join("database")).unwrap());
    // The port has changed, so this writer is of no use; a new one finds what the old one wrote.
    let writer = JournalWriter::start(&database.url(), |_, _| {}).unwrap();
    answer(&append(&writer, 1, 0, 2..=2).await).unwrap();
    assert_eq!(
        Store::connect(&database.url(), 1).await.unwrap().journal(1, 1, 9, 9).await.unwrap().len(),
        2
    );
}

#[tokio::test]
async fn taking_over_raises_the_epoch_and_gives_the_snapshot_and_what_came_after() {
    let database = Database::start();
    let (store, session) = with_session(&database.url()).await;
    let writer = JournalWriter::start(&database.url(), |_, _| {}).unwrap();
    assert!(store.take_over("nowhere".into(), Claim::Anew).await.unwrap().is_none());
    let first = store.take_over("gate".into(), Claim::Anew).await.unwrap().unwrap();
    assert_eq!((first.row.epoch, first.epochs), (1, vec![(1, 0)]));
    answer(&append(&writer, session, 1, 1..=7).await).unwrap();

    let charter = std::sync::Arc::new(rendel_core::Charter::parse(CHARTER).unwrap());
    let mut sequencer = rendel_core::Sequencer::open(charter, None).unwrap();
    for update in &store.take_over("gate".into(), Claim::Anew).await.unwrap().unwrap().updates[..5]
    {
        sequencer.replay(update).unwrap();
    }
    let problem = Problem::new(ProblemKind::Stale, "Look again.");
    let refusal = |n, at_seq| RefusalRow {
        session,
        client: Uuid::nil(),
        n,
        at_seq,
        problem: serde_json::to_string(&problem).unwrap(),
    };
    let (told, answers) = mpsc::channel();
    let done = Box::new(move |result| told.send(result).unwrap());
    let refusals = vec![refusal(20, 4), refusal(21, 6)];
    writer
        .append(Append {
            session,
            epoch: 2,
            updates: vec![],
            refusals,
            announcements: vec![],
            wakes: None,
            done,
        })
        .await
        .unwrap();
    answer(&answers).unwrap();
    let body = serde_json::to_string(&sequencer.snapshot()).unwrap();
    store.keep_snapshot(session, 2, 5, body, KEEPING).await.unwrap();

    let taken = store.take_over("gate".into(), Claim::Anew).await.unwrap().unwrap();
    assert_eq!((taken.row.epoch, taken.epochs.last()), (3, Some(&(3, 7))));
    assert_eq!(taken.snapshot.unwrap().seq, 5);
    assert_eq!(taken.updates.iter().map(|update| update.seq).collect::<Vec<_>>(), [6, 7]);
    assert_eq!(
        taken.refusals,
        [(6, ClientKey::NOBODY, 21, problem)],
        "the snapshot holds the earlier one"
    );

    // A snapshot that another version wrote is passed over: the journal has everything.
    store
        .keep_snapshot(session, 3, 6, r#"{"seq":6,"state":"of another shape"}"#.to_owned(), KEEPING)
        .await
        .unwrap();
    let taken = store.take_over("gate".into(), Claim::Anew).await.unwrap().unwrap();
    assert!(taken.snapshot.is_none());
    assert_eq!(
        taken.updates.iter().map(|update| update.seq).collect::<Vec<_>>(),
        [1, 2, 3, 4, 5, 6, 7]
    );
}

#[tokio::test]
async fn a_journal_of_the_older_form_is_read_in_the_present_one() {
    let database = Database::start();
    let store = Store::connect(&database.url(), 1).await.unwrap();
    let charter = "charter = \"rows\"\nversion = 1\n[state.rows]\nkind = \
        \"set\"\n[state.steps]\nkind = \"list\"\n";
    store.publish_charter("rows".into(), 1, "Rows".into(), charter.into(), note()).await.unwrap();
    let session = store
        .open_session("rows".into(), "rows".into(), 1, None, Findable::default(), None)
        .await
        .unwrap()
        .ord;
    // As an earlier version wrote them; the value of the third only looks like an edit.
    let effects = [
        r#"{"at":"/rows","op":"insert","value":"north"},{"at":"/rows","op":"insert","value":"west"}"#,
        r#"{"at":"/rows","op":"remove","value":"north"}"#,
        r#"{"at":"/steps","op":"insert","after":null,"id":"a","value":{"op":"insert","value":1}}"#,
        r#"{"at":"/steps/a","op":"remove"}"#,
    ];
    for (seq, effects) in (1..).zip(effects) {
        let nil = Uuid::nil();
        let body = format!(
            r#"{{"seq":{seq},"by":"oda","client":"{nil}","n":{seq},"at":0,"effects":[{effects}]}}"#
        );
        let insert = format!("INSERT INTO journal VALUES ({session}, {seq}, '{body}', true)");
        connect(&database.url()).batch_execute(&insert).unwrap();
    }
    let taken = store.take_over("rows".into(), Claim::Anew).await.unwrap().unwrap();
    let charter = std::sync::Arc::new(rendel_core::Charter::parse(&taken.charter_source).unwrap());
    let mut sequencer = rendel_core::Sequencer::open(charter, None).unwrap();
    taken.updates.iter().for_each(|update| sequencer.replay(update).unwrap());
    assert_eq!(sequencer.plain().to_string(), r#"{"rows":["west"],"steps":[]}"#);
    let told = store.journal(session, 1, 9, 9).await.unwrap();
    let newest_first: Vec<_> =
        store.conflicts(session, 9, 9).await.unwrap().into_iter().rev().collect();
    let whole = store.whole("rows".into()).await.unwrap().unwrap();
    let exported: Vec<_> = whole.updates.into_iter().map(|(_, body, _)| body).collect();
    for rows in [told, newest_first, exported] {
        let ops: Vec<Vec<String>> = rows
            .iter()
            .map(|row| {
                let update: serde_json::Value = serde_json::from_str(row).unwrap();
                let op = |effect: &serde_json::Value| effect["op"].as_str().unwrap().to_owned();
                update["effects"].as_array().unwrap().iter().map(op).collect()
            })
            .collect();
        assert_eq!(
            ops,
            [vec!["include", "include"], vec!["exclude"], vec!["insert"], vec!["remove"]]
        );
        assert!(rows[2].contains(r#""value":{"op":"insert","value":1}"#));
    }
}

#[tokio::test]
async fn names_are_taken_once_and_lists_come_in_pages() {
    let database = Database::start();
    let (store, _) = with_session(&database.url()).await;
    let again =
        store.publish_charter("headcount".into(), 1, "Other".into(), "other".into(), note()).await;
    assert!(matches!(again, Err(StoreError::Exists)));
    assert!(matches!(
        store
            .open_session("gate".into(), "headcount".into(), 1, None, Findable::default(), None)
            .await,
        Err(StoreError::Exists)
    ));
    store
        .publish_charter("headcount".into(), 2, "Second".into(), CHARTER.into(), note())
        .await
        .unwrap();
    assert_eq!(store.charter("headcount".into(), None).await.unwrap().unwrap().version, 2);
    assert_eq!(
        store.charter("headcount".into(), Some(1)).await.unwrap().unwrap().title,
        "Headcount"
    );
    assert!(store.charter("headcuont".into(), None).await.unwrap().is_none());
    for n in 0..5 {
        store
            .open_session(format!("s{n}"), "headcount".into(), 2, None, Findable::default(), None)
            .await
            .unwrap();
    }
    let of = |charter: &str| Sought { charter: Some(charter.into()), ..Sought::default() };
    let page = store
        .sessions(Sought { after: Some("gate".into()), ..Sought::default() }, 3)
        .await
        .unwrap();
    assert_eq!(
        page.iter().map(|(row, ..)| row.id.as_str()).collect::<Vec<_>>(),
        ["s0", "s1", "s2"]
    );
    assert_eq!(store.sessions(of("headcount"), 10).await.unwrap().len(), 6);
    assert_eq!(store.sessions(of("other"), 10).await.unwrap().len(), 0);
}

#[test]
fn a_private_database_is_used_by_one_at_a_time_and_goes_on_where_it_ended() {
    let mut database = Database::start();
    let folder = database.dir.path().join("database");
    assert!(matches!(LocalDatabase::start(&folder), Err(LocalDatabaseError::InUse(_))));
    let mode = fs::metadata(folder.join("password")).unwrap().permissions().mode();
    assert_eq!(mode & 0o077, 0, "nobody else reads the password");
    database.local.take().unwrap().stop().unwrap();
    database.local = Some(LocalDatabase::start(&folder).unwrap());
}

#[tokio::test]
async fn epochs_of_a_database_that_was_put_back_are_not_ones_that_were_given_out() {
    let database = Database::start();
    let (store, _) = with_session(&database.url()).await;
    let epoch = async |store: &Store| {
        store.take_over("gate".into(), Claim::Anew).await.unwrap().unwrap().row.epoch
    };
    assert_eq!((epoch(&store).await, epoch(&store).await), (1, 2));
    // As a dump does that is restored over what was there.
    let mut conn = PgConnection::establish(&database.url()).unwrap();
    conn.batch_execute(
        "CREATE TABLE restored (LIKE journal INCLUDING ALL); DROP TABLE journal; ALTER TABLE \
         restored RENAME TO journal",
    )
    .unwrap();
    let began = chrono::Utc::now().timestamp();
    let (third, fourth) = (epoch(&store).await, epoch(&store).await);
    assert!(third >= began && fourth == third + 1, "{third} and {fourth}");
}
