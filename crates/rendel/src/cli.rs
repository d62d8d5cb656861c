//! The arguments.

use std::net::SocketAddr;
use std::path::PathBuf;

use clap::{Args, Parser, Subcommand};
use clap_complete::Shell;

const EXIT_CODES: &str = "Exit codes: 0 done · 1 refused, or faults were found · 2 wrong \
    arguments · 3 the service cannot be reached · 4 something is missing on this machine (doctor)";

/// Keeps shared session state consistent across participants.
#[derive(Debug, Parser)]
#[command(name = "rendel", version, after_help = EXIT_CODES)]
pub(crate) struct Cli {
    /// Print data as JSON, one value or one line per item.
    #[arg(long, global = true)]
    pub(crate) json: bool,
    #[command(subcommand)]
    pub(crate) command: Command,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Run the service.
    Serve(ServeArgs),
    /// Run the service with the sample sessions of Hollin Brook and a database of its own.
    Demo(DemoArgs),
    /// Check, publish and look at charters.
    #[command(subcommand)]
    Charter(CharterCommand),
    /// Open and look at sessions.
    #[command(subcommand)]
    Session(SessionCommand),
    /// Issue tokens for participants.
    #[command(subcommand)]
    Token(TokenCommand),
    /// Take part in a session from this terminal.
    Enter(EnterArgs),
    /// Propose edits once and say what became of them.
    Propose(ProposeArgs),
    /// Print the state of a session.
    State(StateArgs),
    /// Print what differs between a session's states at two places of its journal.
    Diff(DiffArgs),
    /// Print the rows of a query, once or as they change.
    Query(QueryArgs),
    /// Print the settled updates of a session, in order.
    Journal(JournalArgs),
    /// Say how a value came about: which updates made it, by whom, and what lost against it.
    Why(WhyArgs),
    /// Say what a participant can undo and redo now, and what would be left out.
    Undoable(UndoableArgs),
    /// Take a session, or a part of it, back to how it was, as a new update.
    Revert(RevertArgs),
    /// Print the updates that met others and what became of each, newest first.
    Conflicts(ConflictsArgs),
    /// List who is in a session, what they hold and what they are doing.
    Who {
        #[command(flatten)]
        which: Which,
    },
    /// Make all draws of a session again that are open, and say whether they are what was bound.
    Verify {
        #[command(flatten)]
        which: Which,
    },
    /// Watch a session in this terminal: who is here and what they do, what is held, what happens.
    Watch(EnterArgs),
    /// Say whether a role may make an edit or sees a path, and by which line of the charter.
    May(MayArgs),
    /// Remove a participant from a session.
    Remove(RemoveArgs),
    /// Change a participant's role, name or claims, over what their tokens say.
    Amend(AmendArgs),
    /// Print who did what among powers, tokens and charters, newest first.
    Audit(AuditArgs),
    /// Make, list and take back invitations to a session.
    #[command(subcommand)]
    Invitation(InvitationCommand),
    /// List, add and retire keys that sign participants' tokens beside the service key.
    #[command(subcommand)]
    Key(KeyCommand),
    /// List, follow and send again what sessions have announced to other systems.
    #[command(subcommand)]
    Announcements(AnnouncementsCommand),
    /// Make, list and remove webhooks, to which announcements are sent.
    #[command(subcommand)]
    Webhook(WebhookCommand),
    /// Run a small stand-in for another system: for trying gates and webhooks out.
    #[command(subcommand)]
    StandIn(StandInCommand),
    /// Say what is missing or misconfigured on this machine, and how to mend it.
    Doctor(DoctorArgs),
    /// Print a completion script for a shell.
    Completions {
        /// The shell.
        shell: Shell,
    },
}

/// Reads `NAME=VALUE`.
fn label(text: &str) -> Result<(String, String), String> {
    let (name, value) = text
        .split_once('=')
        .ok_or_else(|| "a label is NAME=VALUE, such as level=easy".to_owned())?;
    Ok((name.to_owned(), value.to_owned()))
}

#[derive(Debug, Args)]
pub(crate) struct ServeArgs {
    /// Where to listen [default: 127.0.0.1:7460].
    #[arg(long, value_name = "ADDR")]
    pub(crate) listen: Option<SocketAddr>,
    /// A PostgreSQL that is there already.
    #[arg(long, value_name = "URL", conflicts_with = "local_database")]
    pub(crate) database_url: Option<String>,
    /// Run a private PostgreSQL on loopback, with its files in this folder.
    #[arg(long, value_name = "DIR")]
    pub(crate) local_database: Option<PathBuf>,
    /// Publish the charters (*.toml) of this folder at the start.
    #[arg(long, value_name = "DIR")]
    pub(crate) charters: Option<PathBuf>,
    /// A foreign origin whose pages may connect and call, such as https://orchard.example; may be
    /// given several times. With --local-database pages of this machine may anyhow, from any port.
    #[arg(long, value_name = "URL")]
    pub(crate) origin: Vec<String>,
    /// The service key; made if it is not there [default: rendel.key].
    #[arg(long, value_name = "FILE")]
    pub(crate) key_file: Option<PathBuf>,
    /// More settings, in TOML; rendel.toml is read where it is there.
    #[arg(long, value_name = "FILE")]
    pub(crate) config: Option<PathBuf>,
}

#[derive(Debug, Args)]
pub(crate) struct DemoArgs {
    /// Where to listen.
    #[arg(long, value_name = "ADDR", default_value = "127.0.0.1:7460")]
    pub(crate) listen: SocketAddr,
    /// The folder for the database and the key.
    #[arg(long, value_name = "DIR", default_value = ".demo")]
    pub(crate) dir: PathBuf,
    /// Leave out the made-up crowd that takes part.
    #[arg(long)]
    pub(crate) no_crowd: bool,
    /// The crowd's seed: the same seed, the same moves.
    #[arg(long, value_name = "NUMBER", default_value_t = 7)]
    pub(crate) seed: u64,
}

#[derive(Debug, Subcommand)]
pub(crate) enum StandInCommand {
    /// A gate with word lists.
    Gate(GateArgs),
    /// A receiver of webhooks, which prints each announcement once.
    Receiver(ReceiverArgs),
}

#[derive(Debug, Args)]
pub(crate) struct ReceiverArgs {
    /// The port of loopback to listen on.
    #[arg(long, default_value_t = 7462)]
    pub(crate) port: u16,
    /// What announcements are signed with: the secret of the webhook.
    #[arg(long, env = "RENDEL_WEBHOOK_SECRET", hide_env_values = true)]
    pub(crate) secret: String,
    /// Answer 500 so many times first, to see that it is tried again.
    #[arg(long, default_value_t = 0)]
    pub(crate) fails: u32,
}

/// Which announcements.
#[derive(Clone, Debug, Args)]
pub(crate) struct OfWhich {
    /// Only of this session.
    #[arg(long, value_name = "ID")]
    pub(crate) session: Option<String>,
    /// Only of these types, such as barrel.sold.
    #[arg(long = "type", value_name = "TYPE")]
    pub(crate) types: Vec<String>,
    /// Only of sessions of these charters.
    #[arg(long = "charter", value_name = "NAME")]
    pub(crate) charters: Vec<String>,
}

#[derive(Debug, Subcommand)]
pub(crate) enum AnnouncementsCommand {
    /// List what was announced, the oldest first.
    List {
        #[command(flatten)]
        of: OfWhich,
        /// Only what comes after this cursor.
        #[arg(long, default_value_t = 0)]
        after: i64,
        /// At most so many.
        #[arg(long, default_value_t = 100, value_parser = clap::value_parser!(u64).range(1..=1000))]
        most: u64,
        #[command(flatten)]
        reach: Reach,
    },
    /// Print what is announced from now on, or after a cursor, until it is ended.
    Follow {
        #[command(flatten)]
        of: OfWhich,
        /// Go on after this cursor.
        #[arg(long)]
        after: Option<i64>,
        #[command(flatten)]
        reach: Reach,
    },
    /// Send announcements to a webhook again: those given, or all that are not tried any more.
    Resend {
        /// The webhook's id.
        webhook: String,
        /// The ids of announcements.
        ids: Vec<String>,
        #[command(flatten)]
        reach: Reach,
    },
}

#[derive(Debug, Subcommand)]
pub(crate) enum WebhookCommand {
    /// Make a webhook and print its secret, which is never told again.
    Make {
        /// Where announcements are sent to.
        url: String,
        /// Only of these types, such as barrel.sold.
        #[arg(long = "type", value_name = "TYPE")]
        types: Vec<String>,
        /// Only of sessions of these charters.
        #[arg(long = "charter", value_name = "NAME")]
        charters: Vec<String>,
        /// Do not keep the order of each session: one that is not taken holds nothing up.
        #[arg(long)]
        unordered: bool,
        /// What to sign with, in place of a new secret: whsec_ and 24 to 64 bytes in base64.
        #[arg(long, env = "RENDEL_WEBHOOK_SECRET", hide_env_values = true)]
        secret: Option<String>,
        #[command(flatten)]
        reach: Reach,
    },
    /// List webhooks.
    List {
        #[command(flatten)]
        reach: Reach,
    },
    /// List what became of each announcement at a webhook, the newest first.
    Deliveries {
        /// The webhook's id.
        webhook: String,
        /// Only those that stand like this.
        #[arg(long, value_parser = ["waiting", "delivered", "dead"])]
        status: Option<String>,
        #[command(flatten)]
        reach: Reach,
    },
    /// Remove a webhook with all that was still to be sent to it.
    Remove {
        /// The webhook's id.
        webhook: String,
        #[command(flatten)]
        reach: Reach,
    },
}

#[derive(Debug, Args)]
pub(crate) struct GateArgs {
    /// The word lists, as JSON: {"refuse": {WORD: SENTENCE}, "replace": {WORD: OTHER}}.
    #[arg(long, value_name = "FILE", default_value = "demo/gate/words.json")]
    pub(crate) words: PathBuf,
    /// The port of loopback to listen on.
    #[arg(long, default_value_t = 7461)]
    pub(crate) port: u16,
    /// What calls are signed with: the gate_secret of the service's settings.
    #[arg(long, env = "RENDEL_GATE_SECRET", hide_env_values = true)]
    pub(crate) secret: String,
}

#[derive(Debug, Args)]
pub(crate) struct MayArgs {
    /// The session's id.
    pub(crate) session: String,
    /// The role.
    #[arg(long = "as", value_name = "ROLE")]
    pub(crate) role: String,
    /// The participant's id, for conditions that ask for it.
    #[arg(long)]
    pub(crate) sub: Option<String>,
    /// Ask whether this path is seen, in place of an edit.
    #[arg(long, value_name = "PATH")]
    pub(crate) see: Option<String>,
    /// An edit in words or as JSON, as for propose.
    #[arg(required_unless_present = "see", conflicts_with = "see")]
    pub(crate) edit: Option<String>,
    #[command(flatten)]
    pub(crate) reach: Reach,
}

#[derive(Debug, Args)]
pub(crate) struct RemoveArgs {
    /// The session's id.
    pub(crate) session: String,
    /// The participant's id.
    pub(crate) sub: String,
    /// Seconds within which they may not come back.
    #[arg(long, default_value_t = 0)]
    pub(crate) seconds: u64,
    /// Let them come back now: takes an earlier removal back.
    #[arg(long, conflicts_with = "seconds")]
    pub(crate) lift: bool,
    #[command(flatten)]
    pub(crate) reach: Reach,
}

#[derive(Debug, Args)]
pub(crate) struct AuditArgs {
    /// The session's id; what concerns no session where it is left out.
    pub(crate) session: Option<String>,
    /// At most so many.
    #[arg(long, default_value_t = 50, value_parser = clap::value_parser!(u64).range(1..=1000))]
    pub(crate) most: u64,
    #[command(flatten)]
    pub(crate) reach: Reach,
}

#[derive(Debug, Subcommand)]
pub(crate) enum InvitationCommand {
    /// Make an invitation and print its link.
    Make {
        /// The session's id.
        session: String,
        /// The role of who comes by it.
        #[arg(long = "as", value_name = "ROLE")]
        role: String,
        /// How many may come by it.
        #[arg(long, default_value_t = 1)]
        uses: u32,
        /// Seconds that it is good for; a day where it is left out.
        #[arg(long, value_name = "SECONDS")]
        expires_in: Option<u64>,
        #[command(flatten)]
        reach: Reach,
    },
    /// List the invitations to a session.
    List {
        #[command(flatten)]
        which: Which,
    },
    /// Take an invitation back.
    Withdraw {
        /// The session's id.
        session: String,
        /// The invitation's id.
        invitation: String,
        #[command(flatten)]
        reach: Reach,
    },
}

#[derive(Debug, Args)]
pub(crate) struct AmendArgs {
    /// The session's id.
    pub(crate) session: String,
    /// The participant's id.
    #[arg(long, value_name = "ID")]
    pub(crate) sub: String,
    /// Their role from now on.
    #[arg(long)]
    pub(crate) role: Option<String>,
    /// Their name from now on.
    #[arg(long)]
    pub(crate) name: Option<String>,
    /// What the charter reads as who.claims from now on, as a JSON object.
    #[arg(long, value_name = "JSON")]
    pub(crate) claims: Option<String>,
    /// Let everything be as their tokens say again.
    #[arg(long, conflicts_with_all = ["role", "name", "claims"])]
    pub(crate) as_token: bool,
    #[command(flatten)]
    pub(crate) reach: Reach,
}

#[derive(Debug, Subcommand)]
pub(crate) enum KeyCommand {
    /// Print what follows from the service key: the key with which a backend may sign tokens itself
    /// (HS256), and the secret with which calls to gates are signed unless gate_secret is set.
    Derived {
        /// The service key.
        #[arg(long, value_name = "FILE", env = "RENDEL_KEY_FILE", default_value = "rendel.key")]
        key_file: PathBuf,
    },
    /// List the keys beside the service key.
    List {
        #[command(flatten)]
        reach: Reach,
    },
    /// Add a key.
    Add {
        /// Its id, which tokens name as kid in their header.
        kid: String,
        /// HS256 or EdDSA.
        #[arg(long, value_parser = ["HS256", "EdDSA"])]
        algorithm: String,
        /// A file with the secret (HS256), or with the public key as PEM or the x of its JWK
        /// (EdDSA).
        #[arg(long, value_name = "FILE")]
        file: PathBuf,
        #[command(flatten)]
        reach: Reach,
    },
    /// Retire a key.
    Retire {
        /// Its id.
        kid: String,
        #[command(flatten)]
        reach: Reach,
    },
}

/// How to reach the service.
#[derive(Clone, Debug, Args)]
pub(crate) struct Reach {
    /// The service.
    #[arg(
        long,
        value_name = "URL",
        env = "RENDEL_SERVER",
        default_value = "http://127.0.0.1:7460"
    )]
    pub(crate) server: String,
    /// The service key.
    #[arg(long, value_name = "FILE", env = "RENDEL_KEY_FILE", default_value = "rendel.key")]
    pub(crate) key_file: PathBuf,
}

/// As whom to take part.
#[derive(Clone, Debug, Args)]
pub(crate) struct AsWhom {
    /// A participant's token. Without one, a token is issued with the service key.
    #[arg(long, env = "RENDEL_TOKEN", hide_env_values = true, conflicts_with_all = ["role", "name"])]
    pub(crate) token: Option<String>,
    /// The role to take part in; the first of the charter's where it is left out.
    #[arg(long = "as", value_name = "ROLE")]
    pub(crate) role: Option<String>,
    /// The name to take part under.
    #[arg(long, value_name = "NAME")]
    pub(crate) name: Option<String>,
}

#[derive(Debug, Subcommand)]
pub(crate) enum CharterCommand {
    /// Report every fault of a charter with line and column.
    Check {
        /// The charter.
        file: PathBuf,
    },
    /// Publish a charter.
    Publish {
        /// The charter.
        file: PathBuf,
        #[command(flatten)]
        reach: Reach,
    },
    /// List the charters that are published.
    List {
        #[command(flatten)]
        reach: Reach,
    },
    /// Print a published charter.
    Show {
        /// Its name.
        name: String,
        /// Its version; the newest where it is left out.
        #[arg(long)]
        version: Option<u32>,
        #[command(flatten)]
        reach: Reach,
    },
    /// Print what a charter declares as types: of its state, edits, roles, presence and cues.
    Types {
        /// The charter.
        file: PathBuf,
        /// For which language.
        #[arg(long = "for", value_enum, value_name = "LANGUAGE")]
        language: crate::types::Language,
        /// Write them into this file.
        #[arg(long, value_name = "FILE")]
        to: Option<PathBuf>,
        /// Check that the file has them already, and change nothing: for CI.
        #[arg(long, requires = "to")]
        check: bool,
    },
    /// Print the JSON Schema of the charter language, for editors.
    Schema,
}

#[derive(Debug, Subcommand)]
pub(crate) enum SessionCommand {
    /// Open a session.
    Open {
        /// The name of its charter.
        charter: String,
        /// Its id; made by the service where it is left out.
        #[arg(long)]
        id: Option<String>,
        /// The charter's version; the newest where it is left out.
        #[arg(long)]
        version: Option<u32>,
        /// A file with the initial state as plain JSON.
        #[arg(long, value_name = "FILE")]
        opening: Option<PathBuf>,
        /// A label of the charter that it is found by; may be given several times.
        #[arg(long, value_name = "NAME=VALUE", value_parser = label)]
        label: Vec<(String, String)>,
        #[command(flatten)]
        reach: Reach,
    },
    /// Find the sessions of a charter by their labels and free seats.
    Find {
        /// The name of the charter.
        charter: String,
        /// A label that it has; may be given several times.
        #[arg(long, value_name = "NAME=VALUE", value_parser = label)]
        label: Vec<(String, String)>,
        /// Only those that are open and have a free seat.
        #[arg(long)]
        free_seats: bool,
        #[command(flatten)]
        reach: Reach,
    },
    /// Find a seat in a session of a charter, or open one, and print a token to come with.
    Seat {
        /// The name of the charter.
        charter: String,
        /// A label of its session, which has these and no others; may be given several times.
        #[arg(long, value_name = "NAME=VALUE", value_parser = label)]
        label: Vec<(String, String)>,
        /// The participant's id.
        #[arg(long)]
        sub: String,
        /// The name shown to everyone; the id where it is left out.
        #[arg(long)]
        name: Option<String>,
        /// One of the charter's roles.
        #[arg(long)]
        role: String,
        /// That seat; any where it is left out.
        #[arg(long)]
        seat: Option<String>,
        #[command(flatten)]
        reach: Reach,
    },
    /// List sessions.
    List {
        /// Only those of this charter.
        #[arg(long)]
        charter: Option<String>,
        #[command(flatten)]
        reach: Reach,
    },
    /// Show one session.
    Show {
        #[command(flatten)]
        which: Which,
    },
    /// List who is connected, and how far behind each is.
    Connections {
        #[command(flatten)]
        which: Which,
    },
    /// Let participants look on only, until the session is thawed.
    Freeze {
        /// A role that goes on; may be given several times.
        #[arg(long, value_name = "ROLE")]
        except: Vec<String>,
        #[command(flatten)]
        which: Which,
    },
    /// Let participants go on.
    Thaw {
        #[command(flatten)]
        which: Which,
    },
    /// Delete a session with all that is kept of it.
    Delete {
        /// Say that you mean it: nothing brings it back.
        #[arg(long)]
        yes: bool,
        #[command(flatten)]
        which: Which,
    },
    /// Print what the service holds of a participant, and put it under a made-up name.
    Forget {
        /// The participant's id.
        #[arg(long, value_name = "ID")]
        sub: String,
        /// Print only, and change nothing.
        #[arg(long)]
        look: bool,
        /// Say that you mean it: nothing brings the id back.
        #[arg(long, conflicts_with = "look")]
        yes: bool,
        #[command(flatten)]
        which: Which,
    },
    /// End a session for good; its state and its journal can still be read.
    End {
        #[command(flatten)]
        which: Which,
    },
    /// Give the state its opening data again, or others, as one update of the journal.
    Reset {
        /// A file with plain JSON; what the session opened with where it is left out.
        #[arg(long, value_name = "FILE")]
        opening: Option<PathBuf>,
        #[command(flatten)]
        which: Which,
    },
    /// Write a whole session into one file: JSON Lines with a checksum.
    Export {
        /// Where to; standard output where it is left out.
        #[arg(long, value_name = "FILE")]
        to: Option<PathBuf>,
        #[command(flatten)]
        which: Which,
    },
    /// Bring in a session that was exported.
    Import {
        /// The file.
        file: PathBuf,
        /// The id that it gets; its own where it is left out.
        #[arg(long)]
        id: Option<String>,
        #[command(flatten)]
        reach: Reach,
    },
}

/// One session, and how to reach it.
#[derive(Debug, Args)]
pub(crate) struct Which {
    /// The session's id.
    pub(crate) session: String,
    #[command(flatten)]
    pub(crate) reach: Reach,
}

#[derive(Debug, Subcommand)]
pub(crate) enum TokenCommand {
    /// Revoke a token, or all that a participant of a session has.
    Revoke {
        /// The token; else --session and --sub.
        #[arg(conflicts_with_all = ["session", "sub"], required_unless_present = "sub")]
        token: Option<String>,
        /// The session's id.
        #[arg(long, requires = "sub")]
        session: Option<String>,
        /// The participant's id.
        #[arg(long, requires = "session")]
        sub: Option<String>,
        #[command(flatten)]
        reach: Reach,
    },
    /// Issue a token for one participant of one session.
    Issue {
        /// The session's id.
        session: String,
        /// The participant's id.
        #[arg(long)]
        sub: String,
        /// The name shown to everyone; the id where it is left out.
        #[arg(long)]
        name: Option<String>,
        /// One of the charter's roles.
        #[arg(long)]
        role: String,
        /// Seconds until it ends; 3,600 where it is left out.
        #[arg(long, value_name = "SECONDS")]
        expires_in: Option<u64>,
        /// A seat that is theirs when they come, if it is free then.
        #[arg(long)]
        seat: Option<String>,
        #[command(flatten)]
        reach: Reach,
    },
}

#[derive(Debug, Args)]
pub(crate) struct EnterArgs {
    /// The session's id.
    pub(crate) session: String,
    #[command(flatten)]
    pub(crate) whom: AsWhom,
    #[command(flatten)]
    pub(crate) reach: Reach,
}

#[derive(Debug, Args)]
pub(crate) struct ProposeArgs {
    /// The session's id.
    pub(crate) session: String,
    /// An edit in words, such as '/heads add 1', or as JSON. Several take effect together or not at
    /// all.
    #[arg(required = true, value_name = "EDIT")]
    pub(crate) edits: Vec<String>,
    /// The "seq" that you had seen; the present one where it is left out.
    #[arg(long)]
    pub(crate) seen: Option<u64>,
    /// Makes it safe to repeat: the same key counts once.
    #[arg(long, value_name = "KEY")]
    pub(crate) idempotency_key: Option<String>,
    /// A word on why, kept in the journal.
    #[arg(long)]
    pub(crate) note: Option<String>,
    #[command(flatten)]
    pub(crate) whom: AsWhom,
    #[command(flatten)]
    pub(crate) reach: Reach,
}

#[derive(Debug, Args)]
pub(crate) struct StateArgs {
    /// The session's id.
    pub(crate) session: String,
    /// A part of it, as a JSON Pointer.
    #[arg(long)]
    pub(crate) path: Option<String>,
    /// The state as it was at this "seq"; the present one where it is left out.
    #[arg(long, value_name = "SEQ")]
    pub(crate) at: Option<u64>,
    /// As a role is shown it; everything where it is left out.
    #[arg(long = "as", value_name = "ROLE", conflicts_with = "token")]
    pub(crate) role: Option<String>,
    /// With --as: the participant whose eyes it is seen with.
    #[arg(long, requires = "role")]
    pub(crate) sub: Option<String>,
    /// A participant's token; the service key where it is left out.
    #[arg(long, env = "RENDEL_TOKEN", hide_env_values = true)]
    pub(crate) token: Option<String>,
    #[command(flatten)]
    pub(crate) reach: Reach,
}

#[derive(Debug, Args)]
pub(crate) struct DiffArgs {
    /// The session's id.
    pub(crate) session: String,
    /// The first "seq".
    #[arg(long, value_name = "SEQ")]
    pub(crate) from: u64,
    /// The second "seq"; the present one where it is left out.
    #[arg(long, value_name = "SEQ")]
    pub(crate) to: Option<u64>,
    /// A participant's token; the service key where it is left out.
    #[arg(long, env = "RENDEL_TOKEN", hide_env_values = true)]
    pub(crate) token: Option<String>,
    #[command(flatten)]
    pub(crate) reach: Reach,
}

#[derive(Debug, Args)]
pub(crate) struct JournalArgs {
    /// The session's id.
    pub(crate) session: String,
    /// The first "seq".
    #[arg(long)]
    pub(crate) from: Option<u64>,
    /// The last "seq".
    #[arg(long)]
    pub(crate) to: Option<u64>,
    /// As updates in words (or JSON Lines with --json), or as one JSON Patch (RFC 6902) per update
    /// against the state.
    #[arg(long = "as", value_name = "FORM", default_value = "updates", value_parser = ["updates", "json-patch"])]
    pub(crate) form: String,
    /// What one gesture did as one line, such as a drag.
    #[arg(long)]
    pub(crate) gestures: bool,
    /// A participant's token; the service key where it is left out.
    #[arg(long, env = "RENDEL_TOKEN", hide_env_values = true)]
    pub(crate) token: Option<String>,
    #[command(flatten)]
    pub(crate) reach: Reach,
}

#[derive(Debug, Args)]
pub(crate) struct WhyArgs {
    /// The session's id.
    pub(crate) session: String,
    /// The path of a field, or of a record or element.
    pub(crate) path: String,
    /// A participant's token; the service key where it is left out.
    #[arg(long, env = "RENDEL_TOKEN", hide_env_values = true)]
    pub(crate) token: Option<String>,
    #[command(flatten)]
    pub(crate) reach: Reach,
}

#[derive(Debug, Args)]
pub(crate) struct QueryArgs {
    /// The session's id.
    pub(crate) session: String,
    /// A query of the charter.
    #[arg(value_name = "NAME", required_unless_present_any = ["from", "path"], conflicts_with_all = ["from", "path"])]
    pub(crate) query: Option<String>,
    /// A parameter of it, such as row=east; several times for several.
    #[arg(long, value_name = "NAME=VALUE", requires = "query")]
    pub(crate) with: Vec<String>,
    /// A query of the moment: the path of a map or list.
    #[arg(long, value_name = "PATH", conflicts_with = "path")]
    pub(crate) from: Option<String>,
    /// Which records, in CEL, such as 'record.crates > 3'.
    #[arg(long = "where", value_name = "CEL", requires = "from")]
    pub(crate) condition: Option<String>,
    /// What they are ordered by, separated by commas; with - before what goes down.
    #[arg(
        long,
        value_name = "FIELDS",
        value_delimiter = ',',
        allow_hyphen_values = true,
        requires = "from"
    )]
    pub(crate) order: Vec<String>,
    /// The fields that are printed, separated by commas.
    #[arg(long, value_name = "FIELDS", value_delimiter = ',', requires = "from")]
    pub(crate) fields: Vec<String>,
    /// In place of a query: what is at one path.
    #[arg(long)]
    pub(crate) path: Option<String>,
    /// At most so many rows.
    #[arg(long)]
    pub(crate) limit: Option<usize>,
    /// Only rows behind this place: the "end" of a page, as JSON.
    #[arg(long, value_name = "JSON")]
    pub(crate) after: Option<String>,
    /// Print the rows again whenever they change.
    #[arg(long)]
    pub(crate) follow: bool,
    #[command(flatten)]
    pub(crate) whom: AsWhom,
    #[command(flatten)]
    pub(crate) reach: Reach,
}

#[derive(Debug, Args)]
pub(crate) struct UndoableArgs {
    /// The session's id.
    pub(crate) session: String,
    /// The participant; whose the token is where it is left out.
    #[arg(long, value_name = "WHO")]
    pub(crate) of: Option<String>,
    /// A participant's token; the service key where it is left out.
    #[arg(long, env = "RENDEL_TOKEN", hide_env_values = true)]
    pub(crate) token: Option<String>,
    #[command(flatten)]
    pub(crate) reach: Reach,
}

#[derive(Debug, Args)]
pub(crate) struct RevertArgs {
    /// The session's id.
    pub(crate) session: String,
    /// To how it was at this "seq".
    #[arg(long, value_name = "SEQ")]
    pub(crate) to: u64,
    /// The path of a record or field; the whole session where it is left out.
    #[arg(long, value_name = "PATH")]
    pub(crate) at: Option<String>,
    /// A word on why, for the journal.
    #[arg(long)]
    pub(crate) note: Option<String>,
    /// A participant's token; the service key where it is left out.
    #[arg(long, env = "RENDEL_TOKEN", hide_env_values = true)]
    pub(crate) token: Option<String>,
    #[command(flatten)]
    pub(crate) reach: Reach,
}

#[derive(Debug, Args)]
pub(crate) struct ConflictsArgs {
    /// The session's id.
    pub(crate) session: String,
    /// Only those before this "seq".
    #[arg(long)]
    pub(crate) before: Option<u64>,
    /// At most so many.
    #[arg(long, default_value_t = 20, value_parser = clap::value_parser!(u64).range(1..=1000))]
    pub(crate) most: u64,
    /// A participant's token; the service key where it is left out.
    #[arg(long, env = "RENDEL_TOKEN", hide_env_values = true)]
    pub(crate) token: Option<String>,
    #[command(flatten)]
    pub(crate) reach: Reach,
}

#[derive(Debug, Args)]
pub(crate) struct DoctorArgs {
    /// A PostgreSQL to look at, in place of what a private one needs.
    #[arg(long, value_name = "URL")]
    pub(crate) database_url: Option<String>,
    #[command(flatten)]
    pub(crate) reach: Reach,
}
