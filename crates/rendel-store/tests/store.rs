//! The store against a real PostgreSQL on loopback.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::fs;
use std::os::unix::fs::PermissionsExt as _;
use std::sync::mpsc;
use std::time::Duration;

use rendel_core::{Problem, ProblemKind};
use rendel_store::{
    Append, JournalWriter, Keeping, LocalDatabase, LocalDatabaseError, RefusalRow, Store, StoreError, UpdateRow,
    WriteError,
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
        let dir = tempfile::Builder::new().permissions(fs::Permissions::from_mode(0o755)).tempdir().unwrap();
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

async fn with_session(url: &str) -> (Store, i64) {
    let store = Store::connect(url, 2).await.unwrap();
    store.publish_charter("headcount".into(), 1, "Headcount".into(), CHARTER.into()).await.unwrap();
    let row = store.open_session("gate".into(), "headcount".into(), 1, None).await.unwrap();
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

async fn append(writer: &JournalWriter, session: i64, epoch: u64, seqs: std::ops::RangeInclusive<i64>) -> Answers {
    let (told, answers) = mpsc::channel();
    let updates = seqs.map(|seq| update(session, seq)).collect();
    let done = Box::new(move |result| told.send(result).unwrap());
    writer.append(Append { session, epoch, updates, refusals: vec![], done }).await.unwrap();
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
    let writer = JournalWriter::start(&database.url(), move |rows, _| told.send(rows).unwrap_or_default()).unwrap();
    for n in 2..=40 {
        store.open_session(format!("s{n}"), "headcount".into(), 1, None).await.unwrap();
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
    assert!(commits.len() < 80, "while one commit was under way the next group filled: {commits:?}");
}

#[tokio::test]
async fn what_an_older_epoch_appends_is_left_out_as_a_whole_and_so_is_all_that_it_sent_after() {
    let database = Database::start();
    let (store, session) = with_session(&database.url()).await;
    let bystander = store.open_session("east".into(), "headcount".into(), 1, None).await.unwrap().ord;
    // Few rows go in as one statement, many by COPY, and refusals in a transaction: each way is fenced.
    for (round, rows) in [(0i64, 2), (1, 600)] {
        let writer = JournalWriter::start(&database.url(), |_, _| {}).unwrap();
        let first = round * 1_000 + 1;
        let old = store.take_over("gate".into(), None).await.unwrap().unwrap().row.epoch.cast_unsigned();
        answer(&append(&writer, session, old, first..=first).await).unwrap();
        let new = store.take_over("gate".into(), None).await.unwrap().unwrap().row.epoch.cast_unsigned();
        let fenced = append(&writer, session, old, first + 1..=first + rows).await;
        let beside = append(&writer, bystander, 0, first..=first).await;
        let after = append(&writer, session, old, first + rows + 1..=first + rows + 1).await;
        assert_eq!(answer(&fenced), Err(WriteError::Superseded));
        assert_eq!(answer(&beside), Ok(()));
        assert!(answer(&after).is_err(), "it would leave a gap");
        answer(&append(&writer, session, new, first + 1..=first + 999).await).unwrap();
        assert_eq!(store.journal(session, first.cast_unsigned(), 5_000, 5_000).await.unwrap().len(), 1_000);
        assert!(store.take_over("gate".into(), Some(old)).await.unwrap().is_none(), "it does not take it back unasked");
        assert!(!store.set_status(session, old, "frozen", "[]".to_owned()).await.unwrap());
        assert!(store.set_status(session, new, "open", "[]".to_owned()).await.unwrap());
    }
    // A take-over that comes between the check and the write meets the primary key.
    let writer = JournalWriter::start(&database.url(), |_, _| {}).unwrap();
    let epoch = store.take_over("gate".into(), None).await.unwrap().unwrap().row.epoch.cast_unsigned();
    assert_eq!(answer(&append(&writer, session, epoch, 5..=5).await), Err(WriteError::Superseded));
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
        store.keep_snapshot(session, sequencer.seq(), body, keeping).await.unwrap();
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
    assert_eq!((places(39).await, places(40).await, places(100).await), (Err(40), Ok((40, 0)), Ok((100, 0))));
    assert_eq!(store.journal(session, 41, 100, 100).await.unwrap().len(), 60);
    let forgotten = store.journal(session, 40, 100, 100).await;
    assert!(matches!(forgotten, Err(StoreError::Forgotten { at: 40, kept_from: 40 })), "{forgotten:?}");
    let whole = store.whole("gate".into()).await.unwrap().unwrap();
    assert_eq!((whole.base.as_ref().map(|(seq, _)| *seq), whole.updates.len()), (Some(40), 60));
    let copy = store.bring_in(rendel_store::Whole { id: "copy".into(), ..whole }).await.unwrap();
    let (mine, its) = (
        store.take_over("gate".into(), None).await.unwrap().unwrap(),
        store.take_over("copy".into(), None).await.unwrap().unwrap(),
    );
    assert_eq!((mine.snapshot.map(|one| one.seq), its.snapshot.map(|one| one.seq)), (Some(100), Some(40)));
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
                        let reached = past.snapshot.map_or(0, |snapshot| snapshot.seq) + past.updates.len() as u64;
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
        store.keep_snapshot(session, sequencer.seq(), body, Keeping { stride: 1, updates: Some(3) }).await.unwrap();
    }
    is_over.store(true, std::sync::atomic::Ordering::Relaxed);
    assert!(reader.await.unwrap() > 10);
}

#[tokio::test]
async fn a_writer_without_its_database_fails_what_it_is_given_and_goes_on_when_it_is_back() {
    let mut database = Database::start();
    let (store, _) = with_session(&database.url()).await;
    let writer = JournalWriter::start(&database.url(), |_, _| {}).unwrap();
    answer(&append(&writer, 1, 0, 1..=1).await).unwrap();
    database.local.take().unwrap().stop().unwrap();
    assert!(matches!(answer(&append(&writer, 1, 0, 2..=2).await), Err(WriteError::Away(_))));
    assert!(matches!(store.ping().await, Err(StoreError::Away(_))));
    database.local = Some(LocalDatabase::start(&database.dir.path().join("database")).unwrap());
    // The port has changed, so this writer is of no use; a new one finds what the old one wrote.
    let writer = JournalWriter::start(&database.url(), |_, _| {}).unwrap();
    answer(&append(&writer, 1, 0, 2..=2).await).unwrap();
    assert_eq!(Store::connect(&database.url(), 1).await.unwrap().journal(1, 1, 9, 9).await.unwrap().len(), 2);
}

#[tokio::test]
async fn taking_over_raises_the_epoch_and_gives_the_snapshot_and_what_came_after() {
    let database = Database::start();
    let (store, session) = with_session(&database.url()).await;
    let writer = JournalWriter::start(&database.url(), |_, _| {}).unwrap();
    assert!(store.take_over("nowhere".into(), None).await.unwrap().is_none());
    let first = store.take_over("gate".into(), None).await.unwrap().unwrap();
    assert_eq!((first.row.epoch, first.epochs), (1, vec![(1, 0)]));
    answer(&append(&writer, session, 1, 1..=7).await).unwrap();

    let charter = std::sync::Arc::new(rendel_core::Charter::parse(CHARTER).unwrap());
    let mut sequencer = rendel_core::Sequencer::open(charter, None).unwrap();
    for update in &store.take_over("gate".into(), None).await.unwrap().unwrap().updates[..5] {
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
    writer.append(Append { session, epoch: 2, updates: vec![], refusals, done }).await.unwrap();
    answer(&answers).unwrap();
    let body = serde_json::to_string(&sequencer.snapshot()).unwrap();
    store.keep_snapshot(session, 5, body, KEEPING).await.unwrap();

    let taken = store.take_over("gate".into(), None).await.unwrap().unwrap();
    assert_eq!((taken.row.epoch, taken.epochs.last()), (3, Some(&(3, 7))));
    assert_eq!(taken.snapshot.unwrap().seq, 5);
    assert_eq!(taken.updates.iter().map(|update| update.seq).collect::<Vec<_>>(), [6, 7]);
    assert_eq!(taken.refusals, [(Uuid::nil(), 21, problem)], "the snapshot holds the earlier one");

    // A snapshot that another version wrote is passed over: the journal has everything.
    store.keep_snapshot(session, 6, r#"{"seq":6,"state":"of another shape"}"#.to_owned(), KEEPING).await.unwrap();
    let taken = store.take_over("gate".into(), None).await.unwrap().unwrap();
    assert!(taken.snapshot.is_none());
    assert_eq!(taken.updates.iter().map(|update| update.seq).collect::<Vec<_>>(), [1, 2, 3, 4, 5, 6, 7]);
}

#[tokio::test]
async fn names_are_taken_once_and_lists_come_in_pages() {
    let database = Database::start();
    let (store, _) = with_session(&database.url()).await;
    let again = store.publish_charter("headcount".into(), 1, "Other".into(), "other".into()).await;
    assert!(matches!(again, Err(StoreError::Exists)));
    assert!(matches!(store.open_session("gate".into(), "headcount".into(), 1, None).await, Err(StoreError::Exists)));
    store.publish_charter("headcount".into(), 2, "Second".into(), CHARTER.into()).await.unwrap();
    assert_eq!(store.charter("headcount".into(), None).await.unwrap().unwrap().version, 2);
    assert_eq!(store.charter("headcount".into(), Some(1)).await.unwrap().unwrap().title, "Headcount");
    assert!(store.charter("headcuont".into(), None).await.unwrap().is_none());
    for n in 0..5 {
        store.open_session(format!("s{n}"), "headcount".into(), 2, None).await.unwrap();
    }
    let page = store.sessions(None, Some("gate".into()), 3).await.unwrap();
    assert_eq!(page.iter().map(|(row, ..)| row.id.as_str()).collect::<Vec<_>>(), ["s0", "s1", "s2"]);
    assert_eq!(store.sessions(Some("headcount".into()), None, 10).await.unwrap().len(), 6);
    assert_eq!(store.sessions(Some("other".into()), None, 10).await.unwrap().len(), 0);
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
