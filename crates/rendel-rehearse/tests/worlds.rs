//! Worlds in which everything goes wrong that can, from fixed seeds; and as many new ones as there
//! is time for.

#![allow(clippy::print_stdout, reason = "a run says what it did")]

use std::time::Instant;

use rendel_rehearse::{Failure, Plan, rehearse};

/// Tries that shrinking a failing plan takes at most.
const TRIES: usize = 60;

fn check(plan: &Plan) {
    let Err(failure) = rehearse(plan) else { return };
    let kind = kind(&failure);
    let fails_alike = |plan: &Plan| rehearse(plan).is_err_and(|other| self::kind(&other) == kind);
    let shrunk = plan.shrunk(TRIES, fails_alike);
    let failure = rehearse(&shrunk).err().unwrap_or(failure);
    let trace = failure.trace.join("\n");
    panic!(
        "{}\n{trace}\nRepeat it: RENDEL_PLAN={shrunk} cargo test -p rendel-rehearse --test worlds \
         one_world",
        failure.why
    );
}

/// What a failure says, but for numbers.
fn kind(failure: &Failure) -> String {
    let words = failure.why.split([':', '{']).take(2).collect::<String>();
    words.chars().filter(|char| !char.is_ascii_digit()).collect()
}

/// The plan of a seed: a few who do much, or many.
fn plan(seed: u64) -> Plan {
    let participants = [2, 4, 5, 7, 13][usize::try_from(seed % 5).unwrap_or(0)];
    Plan::new(seed, participants, 300)
}

#[test]
fn worlds_from_fixed_seeds_come_to_rest_with_everybody_agreed() {
    (0..100).map(plan).for_each(|plan| check(&plan));
}

#[test]
fn one_world_is_repeated_by_its_plan() {
    if let Ok(text) = std::env::var("RENDEL_PLAN") {
        match text.parse() {
            Ok(plan) => check(&plan),
            Err(why) => panic!("{why}"),
        }
    }
}

#[test]
fn the_same_plan_makes_the_same_world_to_the_byte() {
    let once = rehearse(&plan(3)).map(|outcome| outcome.sha256);
    assert_eq!(once, rehearse(&plan(3)).map(|outcome| outcome.sha256));
    assert_ne!(once, rehearse(&plan(8)).map(|outcome| outcome.sha256));
}

/// Written on one machine and read on others. `RENDEL_WRITE=1` writes it anew after a change of what
/// a session puts out.
#[test]
fn the_same_plan_makes_the_same_world_on_every_machine() {
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/world.sha256");
    let sha256 = rehearse(&Plan::new(5, 5, 120)).map(|outcome| outcome.sha256).unwrap_or_default();
    if std::env::var_os("RENDEL_WRITE").is_some() {
        std::fs::write(path, format!("{sha256}\n")).expect("the folder of this file");
    }
    let kept = std::fs::read_to_string(path).unwrap_or_default();
    assert_eq!(sha256, kept.trim(), "see above");
}

/// With `RENDEL_EXPLORE` worlds from `RENDEL_SEED` on, for so many seconds.
#[test]
fn new_worlds_come_to_rest_too() {
    let number = |name: &str| std::env::var(name).ok().and_then(|text| text.parse::<u64>().ok());
    let Some(seconds) = number("RENDEL_EXPLORE") else { return };
    let (began, first) = (Instant::now(), number("RENDEL_SEED").unwrap_or_default() << 16);
    let worlds = (first..).map(plan).take_while(|_| began.elapsed().as_secs() < seconds);
    let passed: u64 = worlds.inspect(check).map(|_| 1).sum();
    println!("{passed} worlds from seed {first} on");
}
