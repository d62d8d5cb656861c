//! The page of figures.

use std::fmt::Write as _;
use std::process::Command;

/// What a ratio should be.
#[derive(Clone, Copy)]
pub(crate) enum Goal {
    AtLeast(f64),
    AtMost(f64),
}

impl Goal {
    fn words(self) -> String {
        match self {
            Self::AtLeast(bound) => format!("≥ {bound}"),
            Self::AtMost(bound) => format!("≤ {bound}"),
        }
    }

    fn is_met(self, ratio: f64) -> bool {
        match self {
            Self::AtLeast(bound) => ratio >= bound,
            Self::AtMost(bound) => ratio <= bound,
        }
    }
}

/// Rows of the table, printed as Markdown.
pub(crate) struct Report(String);

impl Report {
    pub(crate) fn new() -> Self {
        let head = "| what | ours | beside | theirs | ratio | goal | |\n|---|--:|---|--:|--:|--:|---|\n";
        Self(head.to_owned())
    }

    pub(crate) fn ratio(&mut self, what: &str, ours: f64, beside: &str, theirs: f64, goal: Goal) {
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
