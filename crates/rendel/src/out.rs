//! What is printed, and with which code the command ends.

use std::io::{self, Write as _};

use comfy_table::{CellAlignment, ContentArrangement, Table, presets::NOTHING};
use rendel_core::{Fault, Problem};
use serde::Serialize;

use crate::api::Unreachable;

/// Where data (standard output) and words about it (standard error) go.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Out {
    json: bool,
}

/// Charters with faults, which were printed already.
#[derive(Debug, thiserror::Error)]
#[error("{0} fault(s)")]
pub(crate) struct FaultsFound(pub(crate) usize);

/// Something is missing on this machine, and was printed already.
#[derive(Debug, thiserror::Error)]
#[error("{0} thing(s) to mend")]
pub(crate) struct SomethingMissing(pub(crate) usize);

impl Out {
    pub(crate) fn new(json: bool) -> Self {
        Self { json }
    }

    pub(crate) fn is_json(self) -> bool {
        self.json
    }

    /// A line of data.
    pub(crate) fn line(self, text: &str) {
        self.write(format_args!("{text}\n"));
    }

    /// Data as it is. Ends the command if it cannot be written.
    pub(crate) fn write(self, data: std::fmt::Arguments<'_>) {
        io::stdout().write_fmt(data).unwrap_or_else(|error| lost(&error));
    }

    /// One value: as JSON where that is asked for, else in words.
    pub(crate) fn value<T: Serialize>(self, value: &T, words: impl FnOnce() -> String) {
        if self.json {
            self.line(&serde_json::to_string(value).unwrap_or_default());
        } else {
            self.line(&words());
        }
    }

    /// Rows in columns; numbers to the right.
    pub(crate) fn table(self, head: &[&str], numbers: &[usize], rows: Vec<Vec<String>>) {
        let mut table = Table::new();
        table
            .load_preset(NOTHING)
            .set_content_arrangement(ContentArrangement::Disabled)
            .set_header(head);
        for row in rows {
            table.add_row(row);
        }
        for column in numbers {
            if let Some(column) = table.column_mut(*column) {
                column.set_cell_alignment(CellAlignment::Right);
            }
        }
        table.lines().for_each(|line| {
            self.line(line.trim_end().strip_prefix(' ').unwrap_or(line.trim_end()))
        });
    }

    /// A word on what is going on.
    pub(crate) fn note(self, text: &str) {
        // Nobody can be told that standard error is closed.
        let _ = writeln!(io::stderr(), "{text}");
    }

    pub(crate) fn error(self, text: &str) {
        self.note(&format!("rendel: {text}"));
    }

    /// Says why the command failed, unless that was said already.
    pub(crate) fn failure(self, error: &anyhow::Error) {
        if error.is::<FaultsFound>() || error.is::<SomethingMissing>() {
            return;
        }
        match error.downcast_ref::<Problem>() {
            Some(problem) if self.json => {
                self.line(&serde_json::to_string(problem).unwrap_or_default())
            }
            Some(problem) => self.note(&problem_in_words(problem)),
            None => self.error(&format!("{error:#}")),
        }
    }
}

/// A problem with its type, its sentence and what goes with it.
pub(crate) fn problem_in_words(problem: &Problem) -> String {
    let mut words = format!("refused ({}): {}", problem.kind().name(), problem.detail());
    if let Some(meant) = problem.member("did_you_mean").and_then(|meant| meant.as_str()) {
        words += &format!("\n  did you mean: {meant}");
    }
    if let Some(current) = problem.member("current") {
        words += &format!("\n  present value: {current}");
    }
    let faults = problem
        .member("faults")
        .and_then(|faults| serde_json::from_value::<Vec<Fault>>(faults.clone()).ok());
    for fault in faults.unwrap_or_default() {
        words += &format!("\n  {fault}");
    }
    words
}

/// Data could not be written. A reader that has what it wants, as `head` does, closes the pipe, and
/// that is no failure; anything else, such as a full disk, is.
fn lost(error: &io::Error) -> ! {
    if error.kind() == io::ErrorKind::BrokenPipe {
        signal_hook::low_level::exit(0);
    }
    // Nobody can be told that standard error is closed.
    let _ = writeln!(io::stderr(), "rendel: the output cannot be written: {error}");
    signal_hook::low_level::exit(1);
}

/// Ends the process here and now. What the C library would still run, OpenSSL's own tidying up above
/// all, would take the ground from under threads that open a connection to the database.
pub(crate) fn end(code: u8) -> ! {
    io::stdout().flush().unwrap_or_else(|error| lost(&error));
    signal_hook::low_level::exit(code.into())
}

/// The exit code that goes with an error.
pub(crate) fn exit_code(error: &anyhow::Error) -> u8 {
    if error.is::<Unreachable>() {
        3
    } else if error.is::<SomethingMissing>() {
        4
    } else {
        1
    }
}
