//! The commands, one file each.

mod announcements;
mod charter;
mod demo;
mod doctor;
mod enter;
mod gate;
mod history;
mod people;
mod propose;
mod query;
mod receiver;
mod serve;
mod session;
mod show;
mod verify;
mod watch;

use anyhow::Result;
use clap::CommandFactory as _;

use crate::cli::{Cli, Command, StandInCommand};
use crate::out::Out;

pub(crate) async fn run(cli: Cli, out: &Out) -> Result<()> {
    match cli.command {
        Command::Serve(args) => serve::run(&args, *out).await,
        Command::Demo(args) => demo::run(&args, *out).await,
        Command::Charter(command) => charter::run(command, *out).await,
        Command::Session(command) => session::run(command, *out).await,
        Command::Token(command) => session::token(command, *out).await,
        Command::Enter(args) => enter::run(&args, *out).await,
        Command::Propose(args) => propose::run(&args, *out).await,
        Command::State(args) => show::state(&args, *out).await,
        Command::Diff(args) => show::diff(&args, *out).await,
        Command::Journal(args) => show::journal(&args, *out).await,
        Command::Why(args) => history::why(&args, *out).await,
        Command::Query(args) => query::run(&args, *out).await,
        Command::Undoable(args) => history::undoable(&args, *out).await,
        Command::Revert(args) => history::revert(&args, *out).await,
        Command::Conflicts(args) => show::conflicts(&args, *out).await,
        Command::Who { which } => people::who(&which, *out).await,
        Command::Verify { which } => verify::run(&which, *out).await,
        Command::Watch(args) => watch::run(&args, *out).await,
        Command::May(args) => people::may(&args, *out).await,
        Command::Remove(args) => people::remove(&args, *out).await,
        Command::Amend(args) => people::amend(args, *out).await,
        Command::Audit(args) => people::audit(&args, *out).await,
        Command::Invitation(command) => people::invitation(command, *out).await,
        Command::Key(command) => people::key(command, *out).await,
        Command::Announcements(command) => announcements::run(command, *out).await,
        Command::Webhook(command) => announcements::webhook(command, *out).await,
        Command::StandIn(StandInCommand::Gate(args)) => gate::run(&args, *out).await,
        Command::StandIn(StandInCommand::Receiver(args)) => receiver::run(&args, *out).await,
        Command::Doctor(args) => doctor::run(&args, *out).await,
        Command::Completions { shell } => {
            let mut script = Vec::new();
            clap_complete::generate(shell, &mut Cli::command(), "rendel", &mut script);
            out.write(format_args!("{}", String::from_utf8_lossy(&script)));
            Ok(())
        }
    }
}
