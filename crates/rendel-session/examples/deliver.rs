//! Settles proposals in a session with many participants and prints the nanoseconds of one delivery:
//! what the session machine does so that one participant is shown one update. Run it under a tool
//! that counts to learn the instructions and allocations of one. `deliver COUNT`; 100 participants
//! are in the session.

#![allow(clippy::unwrap_used, reason = "a measurement that cannot continue has failed")]
#![allow(clippy::print_stdout, reason = "the result goes to standard output")]

use std::sync::Arc;
use std::time::Instant;

use rendel_core::{Actor, Charter, Edit};
use rendel_session::{Entry, Found, Heard, Input, Output, Session, Settings, Spacing, WayIn};
use rendel_wire::{Propose, SessionHead};
use uuid::Uuid;

const CHARTER: &str = r#"
charter = "orchard"
version = 1
[roles.steward]
edit = ["/**"]
[roles.picker]
edit = ["/**"]
see = ["/**", { but = "/ledger" }]
[state.heads]
kind = "counter"
[state.ledger]
kind = "register"
"#;
const PARTICIPANTS: u64 = 100;

fn main() {
    let count: u64 = std::env::args().nth(1).and_then(|count| count.parse().ok()).unwrap_or(1_000);
    let head = SessionHead {
        id: "slope".into(),
        charter: "orchard".into(),
        version: 1,
        status: String::new(),
    };
    let found = Found {
        epoch: 1,
        epochs: vec![(1, 0)],
        standing: Default::default(),
        snapshot: None,
        updates: vec![],
        refusals: vec![],
        unseen: None,
        secret: Uuid::nil(),
        opened: 0,
        wakes: None,
    };
    let settings = Settings {
        snapshots: Spacing { updates: 1_000_000, bytes: 1 << 30 },
        digest_every: 1_000_000,
        digest_within: 5_000,
        connections_per_participant: 4,
    };
    let charter = Arc::new(Charter::parse(CHARTER).unwrap());
    let mut session = Session::new(charter, head, None, &found, settings, 0).unwrap();
    for connection in 1..=PARTICIPANTS {
        let role = if connection % 2 == 0 { "picker" } else { "steward" };
        let who = format!("p{connection}");
        let entry = Entry {
            connection,
            who: Actor::new(who.clone(), role, Uuid::from_u128(connection.into())),
            name: who,
            way: WayIn::Replica { had: None },
            presence: None,
            fields: false,
            token: None,
            seat: None,
        };
        session.handle(1_000, Input::Entered(Box::new(entry)));
        drop(session.poll_outputs());
    }
    let began = Instant::now();
    let mut shown = 0;
    for n in 1..=count {
        // Far enough apart that no rate refuses them.
        let now = 1_000 + n * 1_000;
        let frame = Propose {
            n,
            seen: n - 1,
            answered: n - 1,
            edits: vec![Edit::new("/heads", "add").with("by", 1)],
            gesture: None,
            note: None,
        };
        session.handle(now, Input::Frame { connection: 1, frame: Heard::Propose(frame) });
        let mut outputs = session.poll_outputs();
        let append = outputs.iter().find_map(|output| match output {
            Output::Append { append, .. } => Some(*append),
            _ => None,
        });
        session.handle(now, Input::Written { append: append.unwrap() });
        outputs.extend(session.poll_outputs());
        shown += outputs.iter().filter(|output| matches!(output, Output::Show { .. })).count();
    }
    assert!(shown as u64 >= count, "{shown} of {count} updates were shown");
    println!("{}", began.elapsed().as_nanos() / u128::from(count * PARTICIPANTS));
}
