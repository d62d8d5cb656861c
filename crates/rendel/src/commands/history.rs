//! `rendel why`, `rendel undoable` and `rendel revert`: how a value came about, and the way back.

use anyhow::{Context as _, Result};
use rendel_core::{Look, Settled, Undoable};
use rendel_wire::http::{RevertBody, Why, WhyMade};
use reqwest::StatusCode;

use crate::api::Api;
use crate::cli::{RevertArgs, UndoableArgs, WhyArgs};
use crate::out::Out;
use crate::words::{effect_in_words, update_in_words, verdict_in_words};

pub(crate) async fn why(args: &WhyArgs, out: Out) -> Result<()> {
    let api = Api::token_or_backend(&args.reach, args.token.as_deref())?;
    let request = api.get(&format!("/sessions/{}/why", Api::segment(&args.session)));
    let why: Why = api.read(request.query(&[("path", &args.path)])).await?;
    out.value(&why, || why_in_words(&why));
    Ok(())
}

fn why_in_words(why: &Why) -> String {
    let mut lines = vec![format!("{} is {} at #{}", why.at, why.value, why.seq)];
    if why.made.is_empty() {
        lines.push("It is as it was from the beginning, or nobody knows any more.".to_owned());
    }
    lines.extend(why.made.iter().map(made_in_words));
    if !why.is_whole {
        lines.push("Older updates of it are not kept, or not told at once.".to_owned());
    }
    for lost in &why.lost {
        let by = if lost.by.is_empty() { "somebody" } else { &lost.by };
        lines.push(format!("#{:<5} {by:<14} lost: {}", lost.seq, lost.verdict.because));
    }
    for part in &why.parts {
        let made = if part.seq == 0 { "as it began".to_owned() } else { format!("#{}", part.seq) };
        lines.push(format!("{:<21} {made}", part.at.to_string()));
    }
    for run in &why.runs {
        let by = run.by.as_deref().unwrap_or("from before");
        let seq = run.seq.map_or(String::new(), |seq| format!("#{seq}"));
        lines.push(format!("{seq:<6} {by:<14} {:?}", run.text));
    }
    lines.join("\n")
}

fn made_in_words(made: &WhyMade) -> String {
    let by = if made.by.is_empty() { "somebody" } else { &made.by };
    let effects: Vec<String> = made.effects.iter().map(effect_in_words).collect();
    let mut words = format!("#{:<5} {by:<14} {}", made.seq, effects.join("; "));
    if let Some(undoes) = &made.undoes {
        words += &format!("  [{} of #{}]", undoes.way.name(), undoes.updates.last().unwrap_or(&0));
    }
    words += &made.rule.as_ref().map_or(String::new(), |rule| format!("  [by the rule {rule}]"));
    words += &made.gesture.as_ref().map_or(String::new(), |name| format!("  [{name:?}]"));
    words += &made.undone_by.map_or(String::new(), |seq| format!("  [undone by #{seq}]"));
    words += &made.note.as_ref().map_or(String::new(), |note| format!("  ({note})"));
    for verdict in &made.verdicts {
        words += &format!("\n{:21} {}", "", verdict_in_words(verdict));
        if let Some(lost) = &verdict.lost {
            words += &format!("\n{:21} {lost} was lost", "");
        }
    }
    words
}

pub(crate) async fn undoable(args: &UndoableArgs, out: Out) -> Result<()> {
    let api = Api::token_or_backend(&args.reach, args.token.as_deref())?;
    let request = api.get(&format!("/sessions/{}/undo", Api::segment(&args.session)));
    let undoable: Undoable = api.read(request.query(&[("of", args.of.as_ref())])).await?;
    out.value(&undoable, || {
        [
            look_in_words("undo", undoable.undo.as_ref()),
            look_in_words("redo", undoable.redo.as_ref()),
        ]
        .join("\n")
    });
    Ok(())
}

fn look_in_words(way: &str, look: Option<&Look>) -> String {
    let Some(look) = look else { return format!("{way}: nothing") };
    let places: Vec<_> = look.edits.iter().map(|edit| format!("{} {}", edit.op, edit.at)).collect();
    let places = if places.is_empty() { "nothing of it".to_owned() } else { places.join("; ") };
    let mut words = format!("{way} {}: {places}", look.of);
    if let Some(refusal) = &look.refusal {
        words += &format!("\n{:6} it would be refused: {}", "", refusal.detail());
    }
    for skipped in &look.skipped {
        words += &format!("\n{:6} {} stays: {}", "", skipped.at, skipped.because);
    }
    words
}

pub(crate) async fn revert(args: &RevertArgs, out: Out) -> Result<()> {
    let api = Api::token_or_backend(&args.reach, args.token.as_deref())?;
    let body = RevertBody { to: args.to, at: args.at.clone(), note: args.note.clone() };
    let path = format!("/sessions/{}/revert", Api::segment(&args.session));
    let response = api.send(api.post(&path).json(&body)).await?;
    if response.status() == StatusCode::NO_CONTENT {
        out.note("Nothing was to be changed.");
        return Ok(());
    }
    let update: Settled = response.json().await.context("the answer cannot be read")?;
    out.value(&update, || update_in_words(&update, None));
    Ok(())
}
