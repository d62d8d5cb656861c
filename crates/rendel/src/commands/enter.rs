//! `rendel enter`: a participant in a terminal.

use std::collections::BTreeMap;
use std::time::{Duration, Instant};

use anyhow::Result;
use rendel_client::{Change, Connection, ConnectionError, Encoding, Event, Replica, Target};
use rendel_core::{Problem, Settled};
use rendel_wire::{LeftWhy, Roster};
use serde_json::{Value, json};
use tokio::io::{AsyncBufReadExt as _, BufReader};

use crate::api::token_for;
use crate::cli::EnterArgs;
use crate::out::{Out, problem_in_words};
use crate::words::{FORMS, doing, parse_edit, played_in_words, update_in_words};

const HELP: &str = "  state                 the present state
  who                   who is here, and what they do
  hold PATH             hold it, so that others see that you are at it
  release PATH          give it up
  cue NAME              send a cue of the charter
  say FACTS             tell of yourself, as JSON: say {\"typing\":true}
  help                  this
  leave                 go (or Ctrl-D)";

pub(crate) async fn run(args: &EnterArgs, out: Out) -> Result<()> {
    let token = token_for(&args.reach, &args.session, &args.whom).await?;
    let target = Target {
        server: args.reach.server.clone(),
        session: args.session.clone(),
        token,
        encoding: Encoding::Json,
    };
    let mut visit = Visit {
        connection: Connection::new(target, uuid::Uuid::now_v7()),
        out,
        sent: BTreeMap::new(),
        was_here: false,
    };
    if !out.is_json() {
        out.line(&format!("waiting for {} …", args.session));
    }
    let mut lines = BufReader::new(tokio::io::stdin()).lines();
    let mut beat = tokio::time::interval(Duration::from_secs(20));
    loop {
        tokio::select! {
            event = visit.connection.next() => match event {
                Ok(event) => visit.tell(event),
                Err(ConnectionError::Refused(problem)) => return Err(problem.into()),
                Err(error) => return Err(error.into()),
            },
            // Edits are for a state that one has seen: standard input waits until the welcome.
            line = lines.next_line(), if visit.was_here => match line? {
                Some(line) if line.trim() == "leave" => break,
                Some(line) => visit.obey(line.trim()).await,
                None => break,
            },
            _ = beat.tick() => visit.connection.ping(0.0).await,
        }
    }
    visit.answered().await;
    visit.connection.leave().await;
    Ok(())
}

struct Visit {
    connection: Connection,
    out: Out,
    /// When each proposal that has no answer yet was sent.
    sent: BTreeMap<u64, Instant>,
    was_here: bool,
}

impl Visit {
    /// Waits for what was proposed just before the end of the input, so that a script hears of it.
    async fn answered(&mut self) {
        let until = tokio::time::Instant::now() + Duration::from_secs(5);
        while !self.sent.is_empty() {
            match tokio::time::timeout_at(until, self.connection.next()).await {
                Ok(Ok(event)) => self.tell(event),
                Ok(Err(_)) | Err(_) => return,
            }
        }
    }

    async fn obey(&mut self, line: &str) {
        match line {
            "" => {}
            "help" | "?" => self.out.line(&format!("{FORMS}\n{HELP}")),
            "state" => {
                let view = self.connection.replica().view().unwrap_or_default();
                self.out.line(&serde_json::to_string_pretty(&view).unwrap_or_default());
            }
            "who" => self.out.line(&here(self.connection.replica())),
            _ => match line.split_once(' ') {
                Some(("hold", at)) => drop(self.connection.hold(at.trim(), None).await),
                Some(("release", at)) => drop(self.connection.release(at.trim()).await),
                Some(("cue", name)) => drop(self.connection.cue(name.trim(), None, None).await),
                Some(("say", facts)) => self.say(facts),
                _ => self.propose(line).await,
            },
        }
    }

    fn say(&mut self, facts: &str) {
        match serde_json::from_str(facts) {
            Ok(facts) => self.connection.say(facts),
            Err(error) => self.out.line(&format!(
                "facts are given as a JSON object, as in: say {{\"typing\":true}} ({error})"
            )),
        }
    }

    async fn propose(&mut self, line: &str) {
        match parse_edit(line) {
            Ok(edit) => {
                if let Some(n) = self.connection.propose(vec![edit]).await {
                    self.sent.insert(n, Instant::now());
                }
                if !self.connection.is_connected() {
                    self.out.line("kept; it is sent when the connection is back");
                }
            }
            Err(error) => self.out.line(&format!("{error:#}")),
        }
    }

    fn tell(&mut self, event: Event) {
        if self.out.is_json() {
            self.tell_json(&event);
        } else {
            self.tell_words(event);
        }
    }

    fn tell_words(&mut self, event: Event) {
        match event {
            Event::Changed(Change::Welcomed) => self.welcomed(),
            Event::Changed(Change::Settled(update)) => self.settled(&update),
            Event::Changed(Change::Refused { n, problem }) => self.refused(n, &problem),
            Event::Changed(Change::SettledAway { n, seq }) => {
                self.sent.remove(&n);
                self.out.line(&format!(
                    "#{seq:<5} was settled while you were away (your proposal {n})"
                ));
            }
            Event::Changed(Change::MadeAnew { was, n }) => self.renumber(was, n),
            Event::Changed(Change::Moot { n }) => {
                self.sent.remove(&n);
                self.out.line("nothing was left to change");
            }
            Event::Changed(Change::Repaired { seq, reason }) => {
                self.out.line(&format!("this replica was repaired at #{seq}: {reason}"));
            }
            Event::Changed(Change::Roster(change)) => self.roster(&change),
            Event::Changed(Change::Status(change)) => {
                self.out.line(&format!("the session is {}, says {}", change.status, change.by));
            }
            Event::Changed(Change::Diverged(why)) => {
                self.out.line(&format!("this replica differs ({why}); asking for a snapshot"))
            }
            Event::Changed(Change::Unknown) => {
                self.out.line("the session remembers nothing of this client; coming back anew")
            }
            Event::Changed(Change::Waiting { n: _ }) => {
                self.out.line("waiting for a check; nobody else sees it yet")
            }
            Event::Changed(Change::Holds(change)) => {
                change
                    .taken
                    .iter()
                    .for_each(|hold| self.out.line(&format!("{} holds {}", hold.by, hold.at)));
                change.freed.iter().for_each(|at| self.out.line(&format!("{at} is free")));
            }
            // `undo` tells what came of it.
            Event::Changed(Change::Undoable(_) | Change::Rows(_) | Change::QueryRefused { .. }) => {
            }
            // It changes many times a second; `who` tells it when asked.
            Event::Changed(Change::Presence(_)) => {}
            Event::Cued(cue) => {
                let data = cue.data.map(|data| format!(" {data}")).unwrap_or_default();
                self.out.line(&format!("{} calls: {}{data}", cue.by, cue.name));
            }
            Event::Answered { problem, .. } => match problem {
                Some(problem) => self.out.line(&problem_in_words(&problem)),
                None => self.out.line("done"),
            },
            Event::Away { wait, why } => {
                let unsent = self.sent.len();
                let kept = if unsent == 0 { String::new() } else { format!(", {unsent} unsent") };
                self.out.line(&format!("away: {why}; again in {} ms{kept}", wait.as_millis()));
            }
            Event::Noticed(problem) => self.out.line(&problem_in_words(&problem)),
        }
    }

    fn welcomed(&mut self) {
        let replica = self.connection.replica();
        let (Some(you), Some(session)) = (replica.you(), replica.session()) else { return };
        let words = if self.was_here { "back" } else { "welcome" };
        self.out.line(&format!(
            "{words}, {}: you are {} in {}, at #{}",
            you.name,
            you.role,
            session.id,
            replica.seq()
        ));
        self.out.line(&here(replica));
        if !self.was_here {
            for line in summary(&replica.view().unwrap_or_default()) {
                self.out.line(&line);
            }
            self.out.line("type an edit, as in: PATH set VALUE; help lists the forms");
        }
        self.was_here = true;
    }

    fn settled(&mut self, update: &Settled) {
        let replica = self.connection.replica();
        let is_own = replica.is_own(update);
        let you = replica.you().map(|you| you.id.as_str()).filter(|_| is_own);
        let mut words = update_in_words(update, you);
        if let Some(sent) = is_own.then(|| self.sent.remove(&update.n)).flatten() {
            let took = format!("   settled in {:.1} ms", sent.elapsed().as_secs_f64() * 1000.0);
            let end = words.find('\n').unwrap_or(words.len());
            words.insert_str(end, &took);
        }
        self.out.line(&words);
    }

    fn refused(&mut self, n: u64, problem: &Problem) {
        self.sent.remove(&n);
        self.out.line(&problem_in_words(problem));
    }

    /// A proposal that waited was sent under another number.
    fn renumber(&mut self, was: u64, n: u64) {
        if let Some(sent) = self.sent.remove(&was) {
            self.sent.insert(n, sent);
        }
    }

    fn roster(&self, change: &Roster) {
        for one in &change.joined {
            self.out.line(&format!("+ {} ({}) is here", one.name, one.role));
        }
        for left in &change.left {
            let how = match left.why {
                LeftWhy::Left => "has left",
                LeftWhy::Lost => "was lost",
                LeftWhy::Removed => "was removed",
            };
            self.out.line(&format!("- {} {how}", left.id));
        }
    }

    fn tell_json(&mut self, event: &Event) {
        let value = match event {
            Event::Changed(Change::Welcomed) => {
                self.was_here = true;
                let replica = self.connection.replica();
                json!({"event": "welcomed", "you": replica.you(), "seq": replica.seq(), "state": replica.view()})
            }
            Event::Changed(Change::Settled(update)) => {
                if self.connection.replica().is_own(update) {
                    self.sent.remove(&update.n);
                }
                json!({"event": "settled", "update": update})
            }
            Event::Changed(Change::Refused { n, problem }) => {
                self.sent.remove(n);
                json!({"event": "refused", "n": n, "problem": problem})
            }
            Event::Changed(Change::SettledAway { n, seq }) => {
                self.sent.remove(n);
                json!({"event": "settled-away", "n": n, "seq": seq})
            }
            Event::Changed(Change::MadeAnew { was, n }) => {
                self.renumber(*was, *n);
                json!({"event": "made-anew", "was": was, "n": n})
            }
            Event::Changed(Change::Moot { n }) => {
                self.sent.remove(n);
                json!({"event": "moot", "n": n})
            }
            Event::Changed(Change::Repaired { seq, reason }) => {
                json!({"event": "repaired", "seq": seq, "reason": reason})
            }
            Event::Changed(Change::Roster(change)) => json!({"event": "roster", "change": change}),
            Event::Changed(Change::Status(change)) => json!({"event": "status", "change": change}),
            Event::Changed(Change::Diverged(why)) => json!({"event": "diverged", "why": why}),
            Event::Changed(Change::Unknown) => json!({"event": "unknown"}),
            Event::Changed(Change::Waiting { n }) => json!({"event": "waiting", "n": n}),
            Event::Changed(Change::Holds(change)) => json!({"event": "holds", "change": change}),
            Event::Changed(Change::Rows(query)) => json!({"event": "rows", "query": query}),
            Event::Changed(Change::QueryRefused { query, problem }) => {
                json!({"event": "query-refused", "query": query, "problem": problem})
            }
            Event::Changed(Change::Undoable(undoable)) => {
                json!({"event": "undoable", "undoable": undoable})
            }
            Event::Changed(Change::Presence(who)) => {
                let presence = self.connection.replica().presence();
                let of: serde_json::Map<_, _> =
                    who.iter().map(|who| (who.clone(), json!(presence.get(who)))).collect();
                json!({"event": "presence", "of": of})
            }
            Event::Cued(cue) => json!({"event": "cue", "cue": cue}),
            Event::Answered { n, problem } => {
                json!({"event": "answered", "n": n, "problem": problem})
            }
            Event::Away { wait, why } => {
                json!({"event": "away", "wait_ms": u64::try_from(wait.as_millis()).unwrap_or(0), "why": why})
            }
            Event::Noticed(problem) => json!({"event": "notice", "problem": problem}),
        };
        self.out.line(&value.to_string());
    }
}

fn here(replica: &Replica) -> String {
    let one = |here: &rendel_wire::Participant| {
        let told = replica.presence().get(&here.id);
        let does = told.map(|told| doing(told.values())).filter(|does| !does.is_empty());
        let does = does.map(|does| format!(", {does}")).unwrap_or_default();
        format!("{} ({}{}{does})", here.name, here.role, if here.away { ", away" } else { "" })
    };
    format!("here: {}", replica.roster().iter().map(one).collect::<Vec<_>>().join(", "))
}

/// The top of the state: values as they are, maps by how much they hold.
fn summary(state: &Value) -> Vec<String> {
    let members = state.as_object().into_iter().flatten();
    members
        .map(|(name, value)| match value {
            played if played_in_words(played).is_some() => {
                format!("  /{name:<12} {}", played_in_words(played).unwrap_or_default())
            }
            Value::Object(records) if records.values().all(Value::is_object) => {
                format!("  /{name:<12} {} records", records.len())
            }
            Value::Array(elements)
                if elements.first().is_some_and(|element| element["id"].is_string()) =>
            {
                format!("  /{name:<12} {} elements", elements.len())
            }
            other => format!("  /{name:<12} {}", shortened(&other.to_string())),
        })
        .collect()
}

fn shortened(text: &str) -> String {
    match text.char_indices().nth(100) {
        None => text.to_owned(),
        Some((end, _)) => format!("{}…", &text[..end]),
    }
}
