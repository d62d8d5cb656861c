//! Compares two builds by turns: the main loads of each build's own `rendel-bench`, and the costs of one
//! proposal of each kind and of one delivery. The speed of a machine drifts, so each turn of one build is
//! followed by a turn of the other, and the ratio is taken within a turn.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::process::Command;

use anyhow::{Context as _, Result, ensure};

use crate::report::number;

/// The kinds of proposals that `load` makes.
const KINDS: [&str; 8] = ["add", "set", "field", "put", "move", "type", "splice", "guarded"];
/// Proposals of one run that is timed, and of the shorter run that is counted.
const TIMED: usize = 10_000;
const COUNTED: usize = 500;
/// Participants of the session in `deliver`.
const PARTICIPANTS: usize = 100;

/// What is compared.
#[derive(Debug, clap::Args)]
pub(crate) struct Against {
    /// The folder of the other build: `rendel`, `rendel-bench`, `load` and `deliver`.
    #[arg(long)]
    theirs: PathBuf,
    /// The folder of this build.
    #[arg(long)]
    ours: PathBuf,
    /// Turns of each.
    #[arg(long, default_value_t = 3)]
    turns: usize,
    /// Seconds of each measurement.
    #[arg(long, default_value_t = 4)]
    seconds: u64,
    /// The loads, by the names that `all --only` takes.
    #[arg(long, value_delimiter = ',', default_values_t = LOADS.map(str::to_owned))]
    only: Vec<String>,
}

const LOADS: [&str; 6] = ["core", "confirmed", "fan-out", "recovery", "presence", "slow"];

/// One figure in each turn: that of the other build, then that of this one.
type Turns = BTreeMap<String, Vec<(f64, f64)>>;

/// Measures both and prints the table.
#[expect(clippy::print_stdout, reason = "the table goes to standard output")]
pub(crate) fn run(against: &Against) -> Result<()> {
    let proposal = |kind: &&'static str| {
        let load = Load { program: "load", kind: Some(kind), each: 1 };
        (load, format!("core, one proposal, {kind}"))
    };
    let mut loads: Vec<(Load, String)> = KINDS.iter().map(proposal).collect();
    let deliver = Load { program: "deliver", kind: None, each: PARTICIPANTS };
    loads.push((deliver, "session, one delivery".to_owned()));
    let mut turns = Turns::new();
    for turn in 1..=against.turns {
        eprintln!("turn {turn} of {} …", against.turns);
        for (load, what) in &loads {
            let pair = (load.ns(&against.theirs)?, load.ns(&against.ours)?);
            turns.entry(format!("{what}: ns")).or_default().push(pair);
        }
        for only in &against.only {
            let theirs = figures(&against.theirs, only, against.seconds)?;
            let mut ours = figures(&against.ours, only, against.seconds)?;
            for (what, theirs) in theirs {
                let Some(ours) = ours.remove(&what) else { continue };
                turns.entry(what).or_default().push((theirs, ours));
            }
        }
    }
    for (tool, what) in [("callgrind", "instructions"), ("memcheck", "allocations")] {
        for (load, of) in &loads {
            let pair = (load.counted(&against.theirs, tool)?, load.counted(&against.ours, tool)?);
            turns.entry(format!("{of}: {what}")).or_default().push(pair);
        }
    }
    println!("| what | that commit | this tree | ratio | lowest | highest |");
    println!("|---|--:|--:|--:|--:|--:|");
    for (what, pairs) in &turns {
        let ratios = sorted(pairs.iter().map(|(theirs, ours)| ours / theirs));
        println!(
            "| {what} | {} | {} | {:.2} | {:.2} | {:.2} |",
            number(middle(&sorted(pairs.iter().map(|pair| pair.0)))),
            number(middle(&sorted(pairs.iter().map(|pair| pair.1)))),
            middle(&ratios),
            ratios.first().copied().unwrap_or(f64::NAN),
            ratios.last().copied().unwrap_or(f64::NAN),
        );
    }
    Ok(())
}

fn sorted(figures: impl Iterator<Item = f64>) -> Vec<f64> {
    let mut all: Vec<f64> = figures.collect();
    all.sort_by(f64::total_cmp);
    all
}

/// The median.
fn middle(sorted: &[f64]) -> f64 {
    let at = |index: usize| sorted.get(index).copied().unwrap_or(f64::NAN);
    (at(sorted.len().saturating_sub(1) / 2) + at(sorted.len() / 2)) / 2.0
}

/// Runs one of the programs of a build; gives both of its outputs.
fn run_it(program: &Path, around: &[&str], args: &[&str]) -> Result<(String, String)> {
    let program = program.to_string_lossy().into_owned();
    let line: Vec<&str> = around.iter().copied().chain([program.as_str()]).collect();
    let (first, rest) = line.split_first().context("no program")?;
    let output = Command::new(first).args(rest).args(args).output();
    let output = output.with_context(|| format!("{first} cannot be run"))?;
    let text = |bytes: Vec<u8>| String::from_utf8_lossy(&bytes).into_owned();
    let (out, err) = (text(output.stdout), text(output.stderr));
    ensure!(output.status.success(), "{} {args:?} failed:\n{err}", line.join(" "));
    Ok((out, err))
}

/// A program that does something many times.
#[derive(Clone, Copy)]
struct Load {
    program: &'static str,
    kind: Option<&'static str>,
    /// What one of its times is made of.
    each: usize,
}

impl Load {
    fn run(self, dir: &Path, count: usize, around: &[&str]) -> Result<(String, String)> {
        let count = count.to_string();
        let args: Vec<&str> = self.kind.into_iter().chain([count.as_str()]).collect();
        run_it(&dir.join(self.program), around, &args)
    }

    fn ns(self, dir: &Path) -> Result<f64> {
        Ok(self.run(dir, TIMED, &[])?.0.trim().parse()?)
    }

    /// What valgrind counts for one: the difference of two runs, without what is made before.
    fn counted(self, dir: &Path, tool: &str) -> Result<f64> {
        let count = |times: usize| -> Result<f64> {
            let tool = format!("--tool={tool}");
            let around: &[&str] = match &*tool {
                "--tool=callgrind" => &["valgrind", &tool, "--callgrind-out-file=/dev/null"],
                _ => &["valgrind", &tool, "--leak-check=no"],
            };
            let (_, said) = self.run(dir, times, around)?;
            let after = |mark: &str| {
                said.split(mark).nth(1).and_then(|rest| rest.split_whitespace().next())
            };
            let number = after("Collected :").or_else(|| after("total heap usage:"));
            let number = number.context("valgrind counted nothing")?.replace(',', "");
            Ok(number.parse()?)
        };
        Ok((count(2 * COUNTED)? - count(COUNTED)?) / (COUNTED * self.each) as f64)
    }
}

/// The figures that a build's own `rendel-bench` prints, by what they are of.
fn figures(dir: &Path, only: &str, seconds: u64) -> Result<BTreeMap<String, f64>> {
    let seconds = seconds.to_string();
    let args = ["all", "--only", only, "--seconds", &seconds];
    let (out, _) = run_it(&dir.join("rendel-bench"), &[], &args)?;
    let cells = |line: &str| -> Vec<String> {
        line.trim_matches('|').split('|').map(|cell| cell.trim().to_owned()).collect()
    };
    let figure = |line: &str| {
        let cells = cells(line);
        let is_ratio = cells.len() == 7;
        // A ratio to a baseline of the same run says more than the figure.
        let (what, figure) = match is_ratio {
            true => (format!("{}, against {}", cells[0], cells[2]), &cells[4]),
            false => (cells[0].clone(), cells.get(1)?),
        };
        Some((what, figure.replace(',', "").parse().ok()?))
    };
    Ok(out.lines().filter(|line| line.starts_with("| ")).filter_map(figure).collect())
}
