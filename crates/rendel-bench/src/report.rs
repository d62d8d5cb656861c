//! The page of figures.

use std::fmt::Write as _;
use std::process::Command;

/// What a ratio should be.
#[derive(Clone, Copy)]
pub(crate) enum Goal {
    AtLeast(f64),
    AtMost(f64),
    /// A figure to know, without a bound.
    None,
}

impl Goal {
    fn words(self) -> String {
        match self {
            Self::AtLeast(bound) => format!("≥ {}", short(bound)),
            Self::AtMost(bound) => format!("≤ {}", short(bound)),
            Self::None => "".to_owned(),
        }
    }

    fn is_met(self, ratio: f64) -> bool {
        match self {
            Self::AtLeast(bound) => ratio >= bound,
            Self::AtMost(bound) => ratio <= bound,
            Self::None => true,
        }
    }
}

/// Rows of two tables, printed as Markdown: ratios, and figures by themselves.
pub(crate) struct Report(String, String);

impl Report {
    pub(crate) fn new() -> Self {
        let head =
            "| what | ours | beside | theirs | ratio | goal | |\n|---|--:|---|--:|--:|--:|---|\n";
        Self(head.to_owned(), "| what | figure | goal | |\n|---|--:|--:|---|\n".to_owned())
    }

    pub(crate) fn ratio(&mut self, what: &str, ours: f64, beside: &str, theirs: f64, goal: Goal) {
        let ratio = ours / theirs;
        let met = match goal {
            Goal::None => "",
            goal if goal.is_met(ratio) => "met",
            _ => "**not met**",
        };
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

    pub(crate) fn figure(&mut self, what: &str, figure: f64, goal: Goal) {
        let met = match goal {
            Goal::None => "",
            goal if goal.is_met(figure) => "met",
            _ => "**not met**",
        };
        // Writing to a string cannot fail.
        let _ = writeln!(self.1, "| {what} | {} | {} | {met} |", number(figure), goal.words());
        eprintln!("  {what}: {} {} {met}", number(figure), goal.words());
    }

    #[allow(clippy::print_stdout, reason = "the page goes to standard output")]
    pub(crate) fn print(self) {
        let cores = std::thread::available_parallelism().map_or(0, std::num::NonZero::get);
        println!(
            "Measured on {cores} cores, {}, by commit `{}`.\n\n{}\n{}",
            output("rustc", &["--version"]),
            output("git", &["rev-parse", "--short", "HEAD"]),
            self.0,
            self.1
        );
    }
}

fn output(program: &str, args: &[&str]) -> String {
    let output = Command::new(program).args(args).output();
    output
        .map(|output| String::from_utf8_lossy(&output.stdout).trim().to_owned())
        .unwrap_or_default()
}

pub(crate) fn number(value: f64) -> String {
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

/// A bound as one would write it.
fn short(bound: f64) -> String {
    if bound < 100.0 { format!("{bound}") } else { number(bound) }
}
