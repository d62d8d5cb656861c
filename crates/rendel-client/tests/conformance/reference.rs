//! The tables of the charter reference, from real runs.

use std::fs;
use std::path::PathBuf;

use rendel_core::{Edit, Outcome};
use serde_json::Value;

use crate::cases::{EXAMPLES, Example};
use crate::scenario::Scenario;

/// The page with each table between `<!-- runs: KIND -->` and `<!-- /runs -->` made anew.
pub(crate) fn charter_page() -> String {
    let path = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../docs/charter.md");
    let page = fs::read_to_string(path).unwrap();
    let mut parts = page.split("<!-- runs: ");
    let mut made = parts.next().unwrap().to_owned();
    for part in parts {
        let (kind, _) = part.split_once(" -->").unwrap();
        let (_, rest) = part.split_once("<!-- /runs -->").unwrap();
        made += &format!("<!-- runs: {kind} -->\n{}<!-- /runs -->{rest}", table(kind));
    }
    made
}

fn table(kind: &str) -> String {
    let head = "| rule | first in order | second, which had not seen it | what stands | the \
        second is told |\n|---|---|---|---|---|\n";
    let rows = EXAMPLES
        .iter()
        .filter(|example| example.rule.split([',', ' ']).next() == Some(kind))
        .map(row);
    let rows: Vec<String> = rows.collect();
    assert!(!rows.is_empty(), "no example of {kind}");
    format!("{head}{}", rows.concat())
}

fn row(example: &Example) -> String {
    let mut scenario = Scenario::open(example.state, Some(&(example.opening)()));
    let (first, second) = ((example.first)(), (example.second)());
    let path = rendel_core::Path::parse(example.at).unwrap();
    let before = scenario.sequencer.plain_at(&path).unwrap();
    scenario.they(0, vec![first.clone()]).expect("the first settles");
    scenario.me(vec![second.clone()]);
    let told = match scenario.arrive().unwrap() {
        Outcome::Settled(update) => update.verdicts.first().map_or_else(
            || "`applied`: nothing concurrent was in its way.".to_owned(),
            |verdict| {
                format!(
                    "`{}`: {}",
                    serde_json::to_value(verdict.verdict).unwrap().as_str().unwrap(),
                    verdict.because
                )
            },
        ),
        Outcome::Refused(problem) => {
            format!("refused, `{}`: {}", problem.kind().name(), problem.detail())
        }
        Outcome::Repeated(outcome) => panic!("{outcome:?}"),
    };
    let stands = scenario.sequencer.plain_at(&path).unwrap();
    let from = if before.is_null() { String::new() } else { format!(" (of {})", code(&before)) };
    format!(
        "| {}{from} | {} | {} | {} | {} |\n",
        example.rule,
        edit(&first),
        edit(&second),
        code(&stands),
        told.replace('|', "\\|")
    )
}

fn code(value: &Value) -> String {
    let text = match value.as_array() {
        // A list reads better as its ids, where these say what the elements are.
        Some(list)
            if list.iter().all(|element| {
                element["id"].is_string() && element["value"]["what"] == element["id"]
            }) && !list.is_empty() =>
        {
            list.iter()
                .map(|element| element["id"].as_str().unwrap())
                .collect::<Vec<_>>()
                .join(", ")
        }
        _ => value.to_string(),
    };
    format!("`{text}`")
}

/// An edit in the words that the command takes.
fn edit(edit: &Edit) -> String {
    let arg = |name: &str| edit.arg(name).map(ToString::to_string);
    let place = ["after", "before"].iter().find_map(|name| match edit.arg(name)? {
        Value::Null if *name == "after" => Some("first".to_owned()),
        Value::Null => Some("last".to_owned()),
        id => Some(format!("{name} {}", id.as_str().unwrap())),
    });
    let id = edit.arg("id").and_then(Value::as_str).map(str::to_owned);
    // What an element of these lists is, its id says.
    let value = arg("value").filter(|_| edit.at != "/steps");
    let time = edit.arg("in").map(|time| format!("in {}", time.as_str().unwrap()));
    let of_acts = ["seat", "to", "sides", "choices"].map(arg);
    let args = [id, place, arg("index"), arg("delete"), arg("insert"), arg("by"), value];
    let args: String = args
        .into_iter()
        .chain(of_acts)
        .chain([time])
        .flatten()
        .map(|arg| format!(" {arg}"))
        .collect();
    format!("`{} {}{args}`", edit.at, edit.op)
}
