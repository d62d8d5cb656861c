//! The `rendel` command.

mod api;
mod cli;
mod commands;
mod config;
mod crowd;
mod out;
mod types;
mod words;

use clap::Parser as _;

use crate::cli::Cli;
use crate::out::Out;

/// Updates are made on one thread and freed on another, many thousands a second.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

fn main() {
    // Only a build for tests has places at which it can be made to fail.
    let _faults = fail::has_failpoints().then(fail::FailScenario::setup);
    let cli = Cli::parse();
    let out = Out::new(cli.json);
    let runtime = match tokio::runtime::Builder::new_multi_thread().enable_all().build() {
        Ok(runtime) => runtime,
        Err(error) => {
            out.error(&format!("cannot start: {error}"));
            out::end(1);
        }
    };
    let outcome = runtime.block_on(commands::run(cli, &out));
    let code = outcome.map_or_else(
        |error| {
            out.failure(&error);
            out::exit_code(&error)
        },
        |()| 0,
    );
    // Not at the end of this function: a blocked read of standard input must not keep the process.
    out::end(code)
}
