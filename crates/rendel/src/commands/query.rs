//! `rendel query`: the rows of a query, once or as they change.

use std::collections::BTreeSet;

use anyhow::{Context as _, Result, bail};
use rendel_client::{Change, Connection, Encoding, Event, Target};
use rendel_core::{Asked, Path, Row, RowPlace, Rows, Shape};
use serde_json::{Map, Value};

use crate::api::{Api, token_for};
use crate::cli::QueryArgs;
use crate::out::Out;

pub(crate) async fn run(args: &QueryArgs, out: Out) -> Result<()> {
    let asked = asked(args)?;
    if args.follow {
        return follow(args, asked, out).await;
    }
    let api = match &args.whom.role {
        // A role's eyes are those of a participant who has it.
        Some(_) => {
            Api::new(&args.reach.server, &token_for(&args.reach, &args.session, &args.whom).await?)?
        }
        None => Api::token_or_backend(&args.reach, args.whom.token.as_deref())?,
    };
    let path = format!("/sessions/{}/queries", Api::segment(&args.session));
    let rows: Rows = api.post_json(&path, &asked).await?;
    match out.is_json() {
        true => out.value(&rows, String::new),
        false => {
            print(&rows, out);
            if let Some(end) = &rows.end {
                let end = serde_json::to_string(end).unwrap_or_default();
                out.note(&format!("There may be more: --after '{end}'"));
            }
        }
    }
    Ok(())
}

fn asked(args: &QueryArgs) -> Result<Asked> {
    let mut with = Map::new();
    for given in &args.with {
        let Some((name, value)) = given.split_once('=') else {
            bail!("{given:?} is no parameter. Write --with row=east, or --with least=3.");
        };
        // What is no JSON is a text.
        let value = serde_json::from_str(value).unwrap_or_else(|_| value.into());
        with.insert(name.to_owned(), value);
    }
    let after = args.after.as_deref().map(serde_json::from_str::<Vec<Value>>).transpose();
    let after = after.context("--after is the \"end\" of a page, as JSON")?;
    let path = args.path.as_deref().map(Path::parse).transpose()?;
    let of = args.from.as_ref().map(|from| Shape {
        from: from.clone(),
        condition: args.condition.clone(),
        order: args.order.clone(),
        limit: args.limit,
        fields: (!args.fields.is_empty()).then(|| args.fields.clone()),
        with: Map::new(),
    });
    let limit = args.limit.filter(|_| of.is_none());
    Ok(Asked { name: args.query.clone(), of, path, with, limit, after: after.map(RowPlace) })
}

/// The rows of records in columns, one for each field that is no list or table itself.
fn print(rows: &Rows, out: Out) {
    if rows.rows.is_empty() {
        return out.note("No rows.");
    }
    let small = |value: &Value| !value.is_object() && !value.is_array();
    let mut names = Vec::new();
    let mut known = BTreeSet::new();
    for (name, value) in rows.rows.iter().filter_map(|row| row.value.as_object()).flatten() {
        if small(value) && known.insert(name.clone()) {
            names.push(name.clone());
        }
    }
    let is_number = |name: &String| {
        let mut values = rows.rows.iter().filter_map(|row| row.value.get(name));
        values.all(Value::is_number)
    };
    let numbers: Vec<usize> = std::iter::once(0)
        .chain(names.iter().enumerate().filter(|(_, name)| is_number(name)).map(|(at, _)| at + 2))
        .collect();
    let head: Vec<&str> =
        ["", "path"].into_iter().chain(names.iter().map(String::as_str)).collect();
    let line = |(at, row): (usize, &Row)| {
        let values = names.iter().map(|name| row.value.get(name).map_or_else(String::new, text));
        let first = [(at + 1).to_string(), row.path.to_string()];
        let plain = names.is_empty().then(|| row.value.to_string());
        first.into_iter().chain(values).chain(plain).collect()
    };
    out.table(&head, &numbers, rows.rows.iter().enumerate().map(line).collect());
}

fn text(value: &Value) -> String {
    match value {
        Value::Null => String::new(),
        Value::String(text) => text.clone(),
        other => other.to_string(),
    }
}

/// Goes on for ever, also over a service that is away for a while.
async fn follow(args: &QueryArgs, asked: Asked, out: Out) -> Result<()> {
    let token = token_for(&args.reach, &args.session, &args.whom).await?;
    let (server, session) = (args.reach.server.clone(), args.session.clone());
    let target = Target { server, session, token, encoding: Encoding::Json };
    let mut connection = Connection::new(target, uuid::Uuid::now_v7()).stateless();
    connection.follow_query(asked).await;
    out.note("following; Ctrl-C ends it");
    loop {
        match connection.next().await? {
            Event::Changed(Change::Rows(query)) => {
                let Some(rows) = connection.replica().rows(query) else { continue };
                if out.is_json() {
                    out.value(rows, String::new);
                } else {
                    out.line(&format!("#{}", rows.seq));
                    print(rows, out);
                }
            }
            Event::Changed(Change::QueryRefused { problem, .. }) => return Err(problem.into()),
            Event::Away { why, .. } => out.note(&format!("away: {why}")),
            _ => {}
        }
    }
}
