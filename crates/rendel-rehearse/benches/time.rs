//! How fast virtual time passes: 50 participants who make about ten proposals a second between them
//! while everything goes wrong that can. `cargo bench -p rendel-rehearse`.

#![allow(clippy::print_stdout, reason = "a measurement says what it found")]

use std::time::Instant;

use rendel_rehearse::{Plan, rehearse};

fn main() {
    for (seed, participants) in [(1, 5), (2, 50), (3, 50)] {
        let began = Instant::now();
        match rehearse(&Plan::new(seed, participants, 12_000)) {
            Ok(outcome) => {
                let real = began.elapsed().as_secs_f64();
                let passed = outcome.passed as f64 / 1_000.0;
                println!(
                    "{participants} participants: {} updates and {} frames in {passed:.0} virtual \
                     seconds took {real:.1} s: {:.0} times as fast as time",
                    outcome.settled,
                    outcome.frames,
                    passed / real
                );
            }
            Err(failure) => println!("seed {seed}: {}", failure.why),
        }
    }
}
