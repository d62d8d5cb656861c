//! Editing sessions as three people typed them: tasting notes, each at their own pace, often at the
//! same place.

use crate::session::{Session, splice};

/// `who seen index delete insert`, as recorded; `seen` lags where their connection was slow.
const TASTING: &str = include_str!("tasting-notes.txt");

#[test]
fn three_people_s_tasting_notes_end_as_they_meant_them() {
    let mut told = Vec::new();
    for part in TASTING.split("\n== ").skip(1) {
        let (head, rest) = part.split_once('\n').unwrap();
        let (typed, expected) = rest.split_once("\n-- ends as\n").unwrap();
        let mut session = Session::of_text("");
        for line in typed.lines().filter(|line| !line.trim().is_empty()) {
            let mut words = line.splitn(5, ' ');
            let who = words.next().unwrap();
            let mut number = || words.next().unwrap().parse::<usize>().unwrap();
            let (seen, index, delete) = (number(), number(), number());
            let insert = words.next().unwrap_or("\"\"");
            let insert: String = serde_json::from_str(insert).unwrap();
            let settled =
                session.propose(who, seen as u64, 0, vec![splice(index, delete, &insert)]);
            settled.unwrap_or_else(|problem| panic!("{head}: {line}: {problem}"));
        }
        session.check_recovery();
        if session.notes().trim_end() != expected.trim_end() {
            told.push(format!("{head}:\n{}", session.notes()));
        }
    }
    assert!(told.is_empty(), "{}", told.join("\n"));
}
