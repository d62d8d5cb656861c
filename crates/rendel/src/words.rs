//! Edits from words, and updates in words.

use anyhow::{Context as _, Result, bail};
use rendel_core::{
    Back, Edit, Effect, Op, Path, Place, RuleMark, Settled, Splicing, Undoes, Verdict, VerdictKind,
    Way,
};
use serde_json::Value;

/// The forms that edits take in words.
pub(crate) const FORMS: &str = "  PATH set VALUE              /title set \"North slope\"
  PATH clear                  /title clear
  PATH add NUMBER             /heads add 1
  PATH put [ID] VALUE         /markers put m7 {\"what\":\"ladder\"}
  PATH drop                   /markers/m7 drop
  PATH include VALUE          /open-rows include \"dry 5\"
  PATH exclude VALUE          /open-rows exclude \"dry 5\"
  PATH insert [PLACE] VALUE   /steps insert after wash {\"what\":\"Mill\"}
  PATH move PLACE             /steps/mill move first
  PATH remove                 /steps/mill remove
  PATH splice AT DELETE TEXT  /notes splice 0 3 \"Dry\"
  PATH test VALUE             /status test \"open\"
  PATH sit [SEAT]             /seats sit east
  PATH stand                  /seats stand
  PATH offer [WHO]            /seats offer bram
  PATH accept [SEAT]          /seats accept
  PATH give SEAT [WHO]        /seats give east bram
  PATH advance [SEAT]         /turn advance
  PATH reverse                /turn reverse
  PATH roll SIDES [COUNT]     /bag roll 6 2
  PATH shuffle MAP FIELD      /bag shuffle /cards face
  PATH open DRAW              /bag open 3
  PATH commit SHA256          /bag commit 0a1b…
  PATH reveal BYTES           /bag reveal 2c3d…
  PATH waive SEAT             /bag waive east
  PATH cast VALUE             /blend cast [\"dry\"], /brix cast 12.5
  PATH withdraw               /blend withdraw
  PATH unseal                 /blend unseal
  PATH restart [TEXT]         /blend restart \"And next year?\"
  PATH set in TIME            /closing set in 10m
  PATH set due MS             /closing set due 1800000000000
  PATH extend TIME            /closing extend 10s
  PATH cancel                 /closing cancel
  PATH start                  /playback start
  PATH stop                   /playback stop
  PATH seek TIME              /playback seek 90s
  PATH rate NUMBER            /playback rate 1.5
  undo, redo                  undo what you did last, do it again
VALUE and TEXT are JSON: text stands in double quotes. PLACE is first, last, after ID or before ID.
TIME is milliseconds, or such as 10s, 5m or 2h. What stands in [ ] may be left out.";

/// Reads an edit such as `/heads add 1`, or an edit as JSON.
pub(crate) fn parse_edit(text: &str) -> Result<Edit> {
    let text = text.trim();
    if text.starts_with('{') {
        return serde_json::from_str(text)
            .with_context(|| format!("this is no edit as JSON: {text}"));
    }
    if let Some(way) = ["undo", "redo"].into_iter().find(|way| *way == text) {
        return Ok(Edit::new("", way).with("skip", true));
    }
    let (path, rest) = split_word(text);
    let (op, rest) = split_word(rest);
    if !path.starts_with('/') || op.is_empty() {
        bail!("an edit begins with a path and an operation, as in: /heads add 1\n{FORMS}");
    }
    let edit = Edit::new(path, op);
    Ok(match op {
        "insert" => {
            let (edit, value) = placed(edit, rest)?;
            edit.with("value", json(op, value)?)
        }
        "move" => match placed(edit, rest)? {
            (edit, "") if !edit.args.is_empty() => edit,
            _ => bail!("\"move\" needs a place after it\n{FORMS}"),
        },
        "splice" => {
            let (index, rest) = split_word(rest);
            let (delete, insert) = split_word(rest);
            let insert = if insert.is_empty() { Value::from("") } else { json(op, insert)? };
            edit.with("index", json(op, index)?)
                .with("delete", json(op, delete)?)
                .with("insert", insert)
        }
        "set" if ["in", "due"].contains(&split_word(rest).0) => {
            let (name, time) = split_word(rest);
            edit.with(name, self::time(op, time)?)
        }
        "extend" => edit.with("by", time(op, rest)?),
        "seek" => edit.with("to", time(op, rest)?),
        "rate" => edit.with("rate", json(op, rest)?),
        "set" | "test" | "include" | "exclude" => edit.with("value", json(op, rest)?),
        "add" => edit.with("by", json(op, rest)?),
        "put" if rest.starts_with('{') => edit.with("value", json(op, rest)?),
        "put" => {
            let (id, value) = split_word(rest);
            edit.with("id", id).with("value", json(op, value)?)
        }
        "cast" => {
            let value = json(op, rest)?;
            edit.with(if value.is_array() { "choices" } else { "value" }, value)
        }
        _ if rest.is_empty() => edit,
        "sit" | "accept" => one_word(edit, "seat", rest)?,
        "offer" | "advance" => one_word(edit, "to", rest)?,
        "give" => {
            let (seat, to) = split_word(rest);
            let edit = edit.with("seat", seat);
            if to.is_empty() { edit } else { one_word(edit, "to", to)? }
        }
        "roll" => {
            let (sides, count) = split_word(rest);
            let edit = edit.with("sides", json(op, sides)?);
            if count.is_empty() { edit } else { edit.with("count", json(op, count)?) }
        }
        "shuffle" => {
            let (of, field) = split_word(rest);
            one_word(edit.with("of", of), "field", field)?
        }
        "open" => edit.with("draw", json(op, rest)?),
        "commit" => one_word(edit, "sha256", rest)?,
        "reveal" => one_word(edit, "value", rest)?,
        "waive" => one_word(edit, "seat", rest)?,
        "restart" => edit.with("question", json(op, rest)?),
        _ => bail!("\"{op}\" takes nothing after it, and here is {rest:?}\n{FORMS}"),
    })
}

/// The edit with a member that is one word.
fn one_word(edit: Edit, name: &str, text: &str) -> Result<Edit> {
    match split_word(text) {
        (word, "") if !word.is_empty() => Ok(edit.with(name, word)),
        _ => bail!("\"{}\" takes one word here, and here is {text:?}\n{FORMS}", edit.op),
    }
}

/// The edit with the place that the text begins with, if it does, and the rest of the text.
fn placed(edit: Edit, text: &str) -> Result<(Edit, &str)> {
    let (word, rest) = split_word(text);
    match word {
        "first" => Ok((edit.with("after", Value::Null), rest)),
        "last" => Ok((edit.with("before", Value::Null), rest)),
        "after" | "before" => {
            let (id, rest) = split_word(rest);
            if id.is_empty() {
                bail!("\"{word}\" needs the id of an element after it\n{FORMS}");
            }
            Ok((edit.with(word, id), rest))
        }
        _ => Ok((edit, text)),
    }
}

fn split_word(text: &str) -> (&str, &str) {
    let text = text.trim_start();
    let end = text.find(char::is_whitespace).unwrap_or(text.len());
    (&text[..end], text[end..].trim_start())
}

fn json(op: &str, text: &str) -> Result<Value> {
    if text.is_empty() {
        bail!("\"{op}\" needs a value after it\n{FORMS}");
    }
    serde_json::from_str(text).with_context(|| {
        format!("{text} is no JSON value; text stands in double quotes: \"{text}\"")
    })
}

/// Milliseconds, or a time such as `10s`.
fn time(op: &str, text: &str) -> Result<Value> {
    match text.parse::<i64>() {
        Ok(ms) => Ok(ms.into()),
        Err(_) if !text.is_empty() && !text.contains(char::is_whitespace) => Ok(text.into()),
        Err(_) => bail!("\"{op}\" needs a time after it, such as 10s\n{FORMS}"),
    }
}

/// What an update did, in one line, and a further line for each verdict that is more than
/// `applied`.
pub(crate) fn update_in_words(update: &Settled, you: Option<&str>) -> String {
    let who = if you == Some(update.by.as_str()) {
        format!("{} (you)", update.by)
    } else {
        update.by.clone()
    };
    let rule_of = |index: usize| {
        let begins = |mark: &&RuleMark| mark.count > 0 && mark.first == index;
        update.rules.iter().find(begins).map(|mark| format!("by {}: ", mark.rule))
    };
    let effects = update.effects.iter().enumerate();
    let effects: Vec<_> = effects
        .map(|(index, effect)| rule_of(index).unwrap_or_default() + &effect_in_words(effect))
        .collect();
    let did = match (&update.passage, effects.is_empty()) {
        (Some(passage), is_empty) => {
            let way = match passage.way {
                Way::In => "comes".to_owned(),
                Way::Out => "goes".to_owned(),
                Way::Role => format!("is {} now", passage.role),
            };
            let who = format!("{} {way}", passage.who);
            if is_empty { who } else { format!("{who}; {}", effects.join("; ")) }
        }
        (None, true) => "no effect".to_owned(),
        (None, false) => effects.join("; "),
    };
    let back = update.undoes.as_ref().map(undoes_in_words).unwrap_or_default();
    let mut words = format!("#{:<5} {who:<14} {back}{did}", update.seq);
    if let Some(note) = &update.note {
        words += &format!("  ({note})");
    }
    for mark in &update.rules {
        if let Some(why) = &mark.failed {
            words += &format!("\n{:21} the rule {:?} was skipped: {why}", "", mark.rule);
        }
    }
    for verdict in &update.verdicts {
        words += &format!("\n{:21} {}", "", verdict_in_words(verdict));
    }
    words
}

/// What an update undoes or redoes, in words before what it did.
fn undoes_in_words(undoes: &Undoes) -> String {
    let way = match undoes.way {
        Back::Undo => "undoes",
        Back::Redo => "redoes",
    };
    match (undoes.updates.first(), undoes.updates.last()) {
        (Some(first), Some(last)) if first < last => format!("{way} #{first} to #{last}: "),
        (Some(one), _) => format!("{way} #{one}: "),
        _ => String::new(),
    }
}

/// The updates of one gesture as one line: the last of them, and their count.
pub(crate) fn gesture_in_words(first: u64, count: usize, last: &Settled) -> String {
    let words = update_in_words(last, None);
    match (&last.gesture, count) {
        (Some(gesture), 2..) if last.undoes.is_none() => {
            let of = format!("{gesture:?}, {} from #{first}", counted(count as u64, "update"));
            words.replacen('\n', &format!("  [{of}]\n"), 1)
                + &if words.contains('\n') { String::new() } else { format!("  [{of}]") }
        }
        _ => words,
    }
}

pub(crate) fn effect_in_words(effect: &Effect) -> String {
    let at = &effect.at;
    match &effect.op {
        Op::Set(value) => match played_in_words(value) {
            Some(words) => format!("{at}: {words}"),
            None => format!("{at} = {value}"),
        },
        Op::SetBeside { values, .. } => {
            format!("{at} = {} side by side", Value::from(values.clone()))
        }
        Op::Clear => format!("{at} cleared"),
        Op::Add { by, now } => format!("{at} {by:+} → {}", now.unwrap_or_default()),
        Op::Include(value) => format!("{at} with {value}"),
        Op::Exclude(value) => format!("{at} without {value}"),
        Op::Put { id, value } => format!("{at} put {} {value}", id.as_deref().unwrap_or_default()),
        Op::Revive { id, value } => format!("{at} revived {id} {value}"),
        Op::Drop => format!("{at} dropped"),
        Op::Insert { id, value, to, .. } => {
            format!(
                "{at} insert {} {} {value}",
                id.as_deref().unwrap_or_default(),
                place_in_words(to)
            )
        }
        Op::Move { to, .. } => format!("{at} moved {}", place_in_words(to)),
        Op::Remove => format!("{at} removed"),
        Op::Splice { splice, .. } => splice_in_words(at, splice),
        Op::Reset(_) => "the whole state reset".to_owned(),
        Op::Show(value) => format!("{at} shown: {value}"),
        Op::Hide => format!("{at} hidden"),
        Op::Test(value) => format!("{at} is {value}"),
        Op::Act(_) | Op::TakeBack { .. } => format!("{at} {}", effect.op.name()),
        Op::Unknown { name, .. } => format!("{at} {name}"),
    }
}

/// What a field that keeps rules of play holds, in words.
pub(crate) fn played_in_words(value: &Value) -> Option<String> {
    let text = |value: &Value| value.as_str().map(str::to_owned);
    if value.get("gathering").is_some() {
        let seat = |(seat, by): (&String, &Value)| {
            format!("{seat} {}", text(by).unwrap_or_else(|| "free".to_owned()))
        };
        let seats: Vec<String> = value["by"].as_object()?.iter().map(seat).collect();
        let gathering = if value["gathering"] == true { ", gathering" } else { "" };
        return Some(format!("{}{gathering}", seats.join(", ")));
    }
    if value.get("reversed").is_some() {
        let seat = text(&value["seat"]).unwrap_or_else(|| "nobody's".to_owned());
        return Some(format!("turn {} is {seat}", value["number"]));
    }
    if value.get("draws").is_some() {
        let last = &value["last"];
        let shares: Vec<_> = value["entropy"].as_object().into_iter().flatten().collect();
        if !shares.is_empty() {
            let revealed = shares.iter().filter(|(_, share)| share["value"].is_string()).count();
            let all = shares.len();
            return Some(format!("{revealed} of {all} revealed what they add to the next draw"));
        }
        return Some(match last["kind"].as_str() {
            Some("roll") => format!("rolled {} of {}", last["values"], last["sides"]),
            Some(_) => format!("{} shuffled", last["of"].as_str().unwrap_or_default()),
            None => "the next draw is bound".to_owned(),
        });
    }
    if value.get("fired").is_some() {
        let time = |name: &str| {
            let ms = value[name].as_i64()?;
            let time = chrono::DateTime::<chrono::Utc>::from_timestamp_millis(ms)?;
            Some(time.format("%Y-%m-%d %H:%M:%S UTC").to_string())
        };
        return Some(match (time("due"), time("fired")) {
            (Some(due), Some(_)) => format!("fired, was due {due}"),
            (Some(due), None) => format!("due {due}"),
            (None, _) => "no time is set".to_owned(),
        });
    }
    if value.get("running").is_some() {
        let seconds = value["position"].as_f64().unwrap_or(0.0) / 1_000.0;
        let rate = &value["rate"];
        return Some(match value["running"] == true {
            true => format!("runs at rate {rate} from {seconds:.1} s"),
            false => format!("stands at {seconds:.1} s"),
        });
    }
    if value.get("earlier").is_some() {
        let open = if value["open"] == true { "open" } else { "sealed" };
        return Some(format!("round {}, {} cast, {open}", value["round"], value["cast"]));
    }
    None
}

/// What somebody is doing, as their facts tell.
pub(crate) fn doing<'f>(tabs: impl Iterator<Item = &'f rendel_core::Facts>) -> String {
    let words = tabs.flatten().map(|(name, value)| match value {
        Value::Bool(true) => name.clone(),
        Value::Object(place) if place.contains_key("at") => {
            let at = place.get("at").and_then(Value::as_str).unwrap_or_default();
            format!("in {at} at {}", place.get("index").cloned().unwrap_or_default())
        }
        Value::Object(place) if place.contains_key("x") => {
            let number = |name: &str| place.get(name).and_then(Value::as_f64).unwrap_or(0.0);
            format!("at {:.1}, {:.1}", number("x"), number("y"))
        }
        Value::Array(ids) => {
            let ids: Vec<_> = ids.iter().filter_map(Value::as_str).collect();
            format!("has {}", ids.join(", "))
        }
        other => format!("{name} {other}"),
    });
    words.collect::<Vec<_>>().join(", ")
}

fn place_in_words(to: &Place) -> String {
    match to {
        Place::Front => "first".to_owned(),
        Place::End => "last".to_owned(),
        Place::After(id) => format!("after {id}"),
        Place::Before(id) => format!("before {id}"),
        Place::Index(index) => format!("at {index}"),
    }
}

fn splice_in_words(at: &Path, splice: &Splicing) -> String {
    let Splicing { index, delete, insert } = splice;
    let insert = (!insert.is_empty()).then(|| Value::from(insert.as_str()));
    match (delete, insert) {
        (0, None) => format!("{at} as it was"),
        (0, Some(insert)) => format!("{at} with {insert} at {index}"),
        (delete, None) => format!("{at} without {delete} at {index}"),
        (delete, Some(insert)) => format!("{at} with {insert} for {delete} at {index}"),
    }
}

pub(crate) fn verdict_in_words(verdict: &Verdict) -> String {
    let name = match verdict.verdict {
        VerdictKind::Applied => "applied",
        VerdictKind::Merged => "merged",
        VerdictKind::Rebased => "rebased",
        VerdictKind::Overrode => "overrode",
        VerdictKind::Dropped => "dropped",
        VerdictKind::Skipped => "skipped",
    };
    format!("{} {name}: {}", verdict.at, verdict.because)
}

/// A count with its noun, in the singular if it is one.
pub(crate) fn counted(count: u64, what: &str) -> String {
    if count == 1 { format!("1 {what}") } else { format!("{count} {what}s") }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rendel_core::{Passage, Whose};
    use serde_json::json;

    #[test]
    fn an_arrival_a_departure_and_a_change_of_role_read_differently() {
        let words = |way| {
            let (who, role) = ("oda".to_owned(), "steward".to_owned());
            let passage = Some(Passage { who, role, way, of: Whose::Participant });
            update_in_words(&Settled { passage, ..Settled::blank(4, 4, 0) }, None)
        };
        assert!(words(Way::In).ends_with("oda comes"), "{}", words(Way::In));
        assert!(words(Way::Out).ends_with("oda goes"), "{}", words(Way::Out));
        assert!(words(Way::Role).ends_with("oda is steward now"), "{}", words(Way::Role));
    }

    #[test]
    fn edits_are_read_from_words_and_from_json() {
        let table = [
            ("/heads add 1", Edit::new("/heads", "add").with("by", 1)),
            (
                "  /title   set  \"North  slope\" ",
                Edit::new("/title", "set").with("value", "North  slope"),
            ),
            (
                "/markers put m7 {\"what\":\"ladder\"}",
                Edit::new("/markers", "put")
                    .with("id", "m7")
                    .with("value", json!({"what": "ladder"})),
            ),
            ("/markers put {}", Edit::new("/markers", "put").with("value", json!({}))),
            ("/markers/m7 drop", Edit::new("/markers/m7", "drop")),
            ("/steps insert \"wash\"", Edit::new("/steps", "insert").with("value", "wash")),
            (
                "/steps insert after s1 {}",
                Edit::new("/steps", "insert").with("after", "s1").with("value", json!({})),
            ),
            ("/steps/s2 move first", Edit::new("/steps/s2", "move").with("after", Value::Null)),
            ("/steps/s2 remove", Edit::new("/steps/s2", "remove")),
            (
                "/notes splice 2 1 \"x y\"",
                Edit::new("/notes", "splice")
                    .with("index", 2)
                    .with("delete", 1)
                    .with("insert", "x y"),
            ),
            ("/seats sit", Edit::new("/seats", "sit")),
            ("/seats sit east", Edit::new("/seats", "sit").with("seat", "east")),
            (
                "/seats give east bram",
                Edit::new("/seats", "give").with("seat", "east").with("to", "bram"),
            ),
            ("/turn advance", Edit::new("/turn", "advance")),
            ("/bag reveal 2c3d", Edit::new("/bag", "reveal").with("value", "2c3d")),
            ("/bag waive east", Edit::new("/bag", "waive").with("seat", "east")),
            ("/bag roll 6 2", Edit::new("/bag", "roll").with("sides", 6).with("count", 2)),
            (
                "/bag shuffle /cards face",
                Edit::new("/bag", "shuffle").with("of", "/cards").with("field", "face"),
            ),
            ("/closing set in 10m", Edit::new("/closing", "set").with("in", "10m")),
            ("/closing set due 1800", Edit::new("/closing", "set").with("due", 1_800)),
            ("/closing extend 10s", Edit::new("/closing", "extend").with("by", "10s")),
            ("/closing cancel", Edit::new("/closing", "cancel")),
            ("/playback seek 1500", Edit::new("/playback", "seek").with("to", 1_500)),
            ("/playback rate -1.5", Edit::new("/playback", "rate").with("rate", -1.5)),
            ("/blend cast [\"dry\"]", Edit::new("/blend", "cast").with("choices", json!(["dry"]))),
            ("/brix cast 12.5", Edit::new("/brix", "cast").with("value", 12.5)),
            (
                "{\"at\":\"/heads\",\"op\":\"add\",\"by\":2}",
                Edit::new("/heads", "add").with("by", 2),
            ),
        ];
        for (text, edit) in table {
            assert_eq!(parse_edit(text).unwrap(), edit, "{text}");
        }
    }

    #[test]
    fn what_is_no_edit_says_how_one_looks() {
        for text in [
            "/steps/s2 move",
            "/steps/s2 move after",
            "/notes splice x",
            "heads add 1",
            "/heads",
            "/heads add",
            "/title set North",
            "/title clear now",
            "/turn reverse now",
            "/bag shuffle /cards",
            "/seats sit east side",
            "/brix cast",
        ] {
            let error = format!("{:#}", parse_edit(text).unwrap_err());
            assert!(
                error.contains("/heads add 1") || error.contains("double quotes"),
                "{text}: {error}"
            );
        }
    }
}
