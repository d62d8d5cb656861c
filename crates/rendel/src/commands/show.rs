//! `rendel state`, `rendel journal` and `rendel conflicts`

use std::collections::VecDeque;

use anyhow::{Context as _, Result};
use rendel_core::Settled;
use rendel_wire::http::StateDifference;
use serde_json::Value;

use crate::api::Api;
use crate::cli::{ConflictsArgs, DiffArgs, JournalArgs, StateArgs};
use crate::out::Out;
use crate::words::{gesture_in_words, update_in_words};

pub(crate) async fn state(args: &StateArgs, out: Out) -> Result<()> {
    let api = Api::token_or_backend(&args.reach, args.token.as_deref())?;
    let mut request = api.get(&format!("/sessions/{}/state", args.session));
    if let Some(path) = &args.path {
        request = request.query(&[("path", path)]);
    }
    if let Some(at) = args.at {
        request = request.query(&[("at", at)]);
    }
    if let Some(role) = &args.role {
        request = request.query(&[("as", role)]);
    }
    if let Some(sub) = &args.sub {
        request = request.query(&[("sub", sub)]);
    }
    let response = api.send(request).await?;
    let tag = response
        .headers()
        .get("etag")
        .and_then(|tag| tag.to_str().ok())
        .unwrap_or_default()
        .trim_matches('"')
        .to_owned();
    let state: Value = response.json().await.context("the state cannot be read")?;
    if !out.is_json() {
        out.note(&format!("{} at {tag}", args.session));
    }
    out.value(&state, || serde_json::to_string_pretty(&state).unwrap_or_default());
    Ok(())
}

pub(crate) async fn diff(args: &DiffArgs, out: Out) -> Result<()> {
    let api = Api::token_or_backend(&args.reach, args.token.as_deref())?;
    let bounds: Vec<_> = [("from", Some(args.from)), ("to", args.to)]
        .into_iter()
        .filter_map(|(name, bound)| Some((name, bound?)))
        .collect();
    let found: StateDifference =
        api.read(api.get(&format!("/sessions/{}/diff", args.session)).query(&bounds)).await?;
    if out.is_json() {
        out.value(&found, String::new);
        return Ok(());
    }
    let differences = found.differences.as_array().map(Vec::as_slice).unwrap_or_default();
    out.note(&match differences.len() {
        0 => format!("{}: nothing differs between #{} and #{}", args.session, found.from, found.to),
        1 => format!("{} from #{} to #{}: one place differs", args.session, found.from, found.to),
        many => {
            format!("{} from #{} to #{}: {many} places differ", args.session, found.from, found.to)
        }
    });
    for place in differences {
        let at = place["at"].as_str().unwrap_or_default();
        let at = if at.is_empty() { "/" } else { at };
        out.line(&match (place.get("was"), place.get("now")) {
            (Some(was), Some(now)) => format!("~ {at}   {was} -> {now}"),
            (None, Some(now)) => format!("+ {at}   {now}"),
            (Some(was), None) => format!("- {at}   {was}"),
            (None, None) => format!("  {at}"),
        });
    }
    Ok(())
}

pub(crate) async fn journal(args: &JournalArgs, out: Out) -> Result<()> {
    let api = Api::token_or_backend(&args.reach, args.token.as_deref())?;
    let bounds: Vec<_> = [("from", args.from), ("to", args.to)]
        .into_iter()
        .filter_map(|(name, bound)| Some((name, bound?)))
        .collect();
    let request = api
        .get(&format!("/sessions/{}/journal", args.session))
        .query(&bounds)
        .query(&[("form", &args.form)]);
    let mut response = api.send(request).await?;
    let is_as_it_comes = out.is_json() || args.form != "updates";
    let mut lines = Gestures::default();
    let mut rest = String::new();
    let mut count = 0usize;
    while let Some(chunk) = response.chunk().await.context("the journal broke off")? {
        rest.push_str(std::str::from_utf8(&chunk).context("the journal broke off")?);
        while let Some(end) = rest.find('\n') {
            let line: String = rest.drain(..=end).collect();
            count += 1;
            if is_as_it_comes {
                out.line(line.trim_end());
            } else {
                let update: Settled =
                    serde_json::from_str(&line).context("an update cannot be read")?;
                match args.gestures {
                    true => lines.take(update).iter().for_each(|line| out.line(line)),
                    false => out.line(&update_in_words(&update, None)),
                }
            }
        }
    }
    lines.rest().iter().for_each(|line| out.line(line));
    if count == 0 && !is_as_it_comes {
        out.note("Nothing was settled in that range.");
    }
    Ok(())
}

/// Gestures as one line each, where the first update of each stands.
#[derive(Default)]
struct Gestures(VecDeque<(u64, usize, Settled)>);

/// A gesture of which so many updates have none is over.
const OVER: u64 = 256;

impl Gestures {
    /// Takes the next update; gives the lines that are complete.
    fn take(&mut self, update: Settled) -> Vec<String> {
        let seq = update.seq;
        let is_same = |(_, _, last): &&mut (u64, usize, Settled)| {
            update.gesture.is_some()
                && (&last.gesture, &last.by) == (&update.gesture, &update.by)
                && last.undoes.is_none()
                && update.undoes.is_none()
        };
        match self.0.iter_mut().rev().find(is_same) {
            Some((_, count, last)) => (*count, *last) = (*count + 1, update),
            None => self.0.push_back((seq, 1, update)),
        }
        self.drain(|last| last.gesture.is_none() || last.undoes.is_some() || seq - last.seq > OVER)
    }

    fn rest(&mut self) -> Vec<String> {
        self.drain(|_| true)
    }

    fn drain(&mut self, is_over: impl Fn(&Settled) -> bool) -> Vec<String> {
        let mut lines = Vec::new();
        while self.0.front().is_some_and(|(_, _, last)| is_over(last)) {
            let front = self.0.pop_front();
            lines.extend(front.map(|(first, count, last)| gesture_in_words(first, count, &last)));
        }
        lines
    }
}

pub(crate) async fn conflicts(args: &ConflictsArgs, out: Out) -> Result<()> {
    let api = Api::token_or_backend(&args.reach, args.token.as_deref())?;
    let bounds: Vec<_> = [("most", Some(args.most)), ("before", args.before)]
        .into_iter()
        .filter_map(|(name, bound)| Some((name, bound?)))
        .collect();
    let request = api.get(&format!("/sessions/{}/conflicts", args.session)).query(&bounds);
    let updates: Vec<Settled> = api.read(request).await?;
    updates.iter().for_each(|update| out.value(update, || update_in_words(update, None)));
    if updates.is_empty() && !out.is_json() {
        out.note("No update met another.");
    }
    Ok(())
}
