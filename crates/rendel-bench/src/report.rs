//! The page of figures.

use std::fmt::Write as _;
use std::process::Command;

/// A ratio that should be at least this.
pub(crate) struct AtLeast(pub(crate) f64);
/// A ratio that should be at most this.
pub(crate) struct AtMost(pub(crate) f64);

/// What a ratio should be.
pub(crate) trait Goal {
    fn words(&self) -> String;
    fn is_met(&self, ratio: f64) -> bool;
}

impl Goal for AtLeast {
    fn words(&self) -> String {
        format!("≥ {}", self.0)
    }

    fn is_met(&self, ratio: f64) -> bool {
        ratio >= self.0
    }
}

impl Goal for AtMost {
    fn words(&self) -> String {
        format!("≤ {}", self.0)
    }

    fn is_met(&self, ratio: f64) -> bool {
        ratio <= self.0
    }
}

/// Rows of the table, printed as Markdown.
pub(crate) struct Report(String);

impl Report {
    pub(crate) fn new() -> Self {
        let head = "| what | ours | beside | theirs | ratio | goal | |\n|---|--:|---|--:|--:|--:|---|\n";
        Self(head.to_owned())
    }

    pub(crate) fn ratio(&mut self, what: &str, ours: f64, beside: &str, theirs: f64, goal: impl Goal) {
        let ratio = ours / theirs;
        let met = if goal.is_met(ratio) { "met" } else { "**not met**" };
        // Writing to a string cannot fail.
        let _ = writeln!(
            self.0,
            "| {what} | {} | {beside} | {} | {ratio:.2} | {} | {met} |",
            number(ours),
            number(theirs),
            goal.words()
        );
        eprintln!(
            "  {what}: {} beside {} ({beside}): {ratio:.2}, {} {met}",
            number(ours),
            number(theirs),
            goal.words()
        );
    }

    #[allow(clippy::print_stdout, reason = "the page goes to standard output")]
    pub(crate) fn print(self) {
        let cores = std::thread::available_parallelism().map_or(0, std::num::NonZero::get);
        println!(
            "Measured on {cores} cores, {}, by commit `{}`.\n\n{}",
            output("rustc", &["--version"]),
            output("git", &["rev-parse", "--short", "HEAD"]),
            self.0
        );
    }
}

fn output(program: &str, args: &[&str]) -> String {
    let output = Command::new(program).args(args).output();
    output.map(|output| String::from_utf8_lossy(&output.stdout).trim().to_owned()).unwrap_or_default()
}

fn number(value: f64) -> String {
    if value < 100.0 {
        return format!("{value:.2}");
    }
    let digits = format!("{value:.0}");
    let mut out = String::new();
    for (index, digit) in digits.chars().enumerate() {
        if index > 0 && (digits.len() - index).is_multiple_of(3) {
            out.push(',');
        }
        out.push(digit);
    }
    out
}
