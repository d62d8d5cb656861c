//! `rendel session` and `rendel token`

use std::path::Path;

use anyhow::{Context as _, Result, bail};
use rendel_core::Settled;
use rendel_wire::http::{
    ConnectionInfo, ConnectionList, FindSeat, ForgottenParticipant, FoundSeat, FreezeSession,
    IssueToken, OpenSession, ParticipantRecord, ResetSession, RevokeTokens, SessionInfo,
    SessionList, TokenAnswer,
};
use serde_json::Value;

use crate::api::Api;
use crate::cli::{SessionCommand, TokenCommand, Which};
use crate::out::Out;
use crate::words::{counted, update_in_words};

pub(crate) async fn run(command: SessionCommand, out: Out) -> Result<()> {
    match command {
        SessionCommand::Open { charter, id, version, opening, label, reach } => {
            let opening = opening.as_deref().map(read_json).transpose()?;
            let labels = label.into_iter().collect();
            let asked = OpenSession { id, charter, version, opening, labels };
            let info: SessionInfo = Api::backend(&reach)?.post_json("/sessions", &asked).await?;
            out.value(&info, || format!("{0} is open. Take part: rendel enter {0}", info.id));
            Ok(())
        }
        SessionCommand::Find { charter, label, free_seats, reach } => {
            let api = Api::backend(&reach)?;
            let label: Vec<String> =
                label.into_iter().map(|(name, value)| format!("{name}={value}")).collect();
            let label = (!label.is_empty()).then(|| label.join(","));
            let wanted = [
                ("charter", Some(charter)),
                ("label", label),
                ("free-seats", free_seats.then(|| "true".to_owned())),
            ];
            let found = listed(&api, &wanted).await?;
            if out.is_json() {
                found.iter().for_each(|info| out.value(info, String::new));
            } else if found.is_empty() {
                out.note(
                    "No such session. Look for a seat to open one: rendel session seat CHARTER",
                );
            } else {
                let rows = found.into_iter().map(|info| {
                    let labels: Vec<String> =
                        info.labels.iter().map(|(name, value)| format!("{name}={value}")).collect();
                    let free =
                        info.free_seats.map_or_else(|| "-".to_owned(), |free| free.to_string());
                    vec![
                        info.id,
                        labels.join(" "),
                        free,
                        info.participants.to_string(),
                        info.status,
                    ]
                });
                out.table(
                    &["SESSION", "LABELS", "FREE SEATS", "PRESENT", "STATUS"],
                    &[2, 3],
                    rows.collect(),
                );
            }
            Ok(())
        }
        SessionCommand::Seat { charter, label, sub, name, role, seat, reach } => {
            let asked = FindSeat {
                charter,
                labels: label.into_iter().collect(),
                sub,
                name,
                role,
                seat,
                opening: None,
                expires_in: None,
            };
            let found: FoundSeat = Api::backend(&reach)?.post_json("/seats", &asked).await?;
            if !out.is_json() {
                let how = if found.opened { "opened for it" } else { "found" };
                out.note(&format!("{}, {how}: the seat {}", found.session, found.seat));
            }
            out.value(&found, || found.token.clone());
            Ok(())
        }
        SessionCommand::List { charter, reach } => {
            let api = Api::backend(&reach)?;
            let sessions = listed(&api, &[("charter", charter)]).await?;
            if out.is_json() {
                sessions.iter().for_each(|info| out.value(info, String::new));
            } else if sessions.is_empty() {
                out.note("No session is open yet. Open one: rendel session open CHARTER");
            } else {
                out.table(
                    &["SESSION", "CHARTER", "STATUS", "SEQ", "PRESENT", "OPENED"],
                    &[3, 4],
                    sessions.into_iter().map(row).collect(),
                );
            }
            Ok(())
        }
        SessionCommand::Show { which: Which { session, reach } } => {
            let api = Api::backend(&reach)?;
            let info: SessionInfo = api.read(api.get(&format!("/sessions/{session}"))).await?;
            out.value(&info, || in_words(&info));
            Ok(())
        }
        SessionCommand::Connections { which } => connections(&which, out).await,
        SessionCommand::Freeze { except, which } => {
            let path = format!("/sessions/{}/freeze", which.session);
            let info: SessionInfo =
                Api::backend(&which.reach)?.post_json(&path, &FreezeSession { except }).await?;
            let but = info.frozen_except.join(", ");
            let but = if but.is_empty() { String::new() } else { format!(" for all but {but}") };
            out.value(&info, || format!("{} is {}{but}.", info.id, info.status));
            Ok(())
        }
        SessionCommand::Thaw { which } => change(&which, "thaw", out).await,
        SessionCommand::Delete { yes, which } => {
            if !yes {
                bail!(
                    "{} would be deleted with all that is kept of it, and nothing brings it back; \
                     say --yes to do it",
                    which.session
                );
            }
            let api = Api::backend(&which.reach)?;
            api.send(api.delete(&format!("/sessions/{}", which.session))).await?;
            out.note(&format!("{} is deleted, with all that was kept of it.", which.session));
            Ok(())
        }
        SessionCommand::Forget { sub, look, yes, which } => {
            if !look && !yes {
                bail!(
                    "{sub} would be forgotten in {}, and nothing brings the id back; say --yes to \
                     do it, or --look to see what is held",
                    which.session
                );
            }
            forget(&which, &sub, look, out).await
        }
        SessionCommand::End { which } => change(&which, "end", out).await,
        SessionCommand::Reset { opening, which } => {
            let opening = opening.as_deref().map(read_json).transpose()?;
            let path = format!("/sessions/{}/reset", which.session);
            let update: Settled =
                Api::backend(&which.reach)?.post_json(&path, &ResetSession { opening }).await?;
            out.value(&update, || update_in_words(&update, None));
            Ok(())
        }
        SessionCommand::Export { to, which } => export(&which, to.as_deref(), out).await,
        SessionCommand::Import { file, id, reach } => {
            let text = std::fs::read(&file)
                .with_context(|| format!("{} cannot be read", file.display()))?;
            let api = Api::backend(&reach)?;
            let query: Vec<_> = id.iter().map(|id| ("id", id)).collect();
            let info: SessionInfo =
                api.read(api.post("/sessions/import").query(&query).body(text)).await?;
            out.value(&info, || format!("{} is here, at #{}.", info.id, info.seq));
            Ok(())
        }
    }
}

fn read_json(file: &Path) -> Result<Value> {
    let text = std::fs::read_to_string(file)
        .with_context(|| format!("{} cannot be read", file.display()))?;
    serde_json::from_str(&text).with_context(|| format!("{} is no JSON", file.display()))
}

async fn change(which: &Which, to: &str, out: Out) -> Result<()> {
    let api = Api::backend(&which.reach)?;
    let info: SessionInfo =
        api.read(api.post(&format!("/sessions/{}/{to}", which.session))).await?;
    out.value(&info, || format!("{} is {}.", info.id, info.status));
    Ok(())
}

/// What is held is printed before anything is changed, so that nothing is lost between the two.
async fn forget(which: &Which, sub: &str, look: bool, out: Out) -> Result<()> {
    let api = Api::backend(&which.reach)?;
    let path = format!("/sessions/{}/participants/{}", which.session, Api::segment(sub));
    let mut whole: Option<ParticipantRecord> = None;
    let mut after = Some(0);
    while let Some(from) = after {
        let page = api.get(&format!("{path}/record")).query(&[("after", from)]);
        let page: ParticipantRecord = api.read(page).await?;
        after = page.after;
        match &mut whole {
            Some(whole) => whole.updates.extend(page.updates),
            None => whole = Some(page),
        }
    }
    let whole = whole.map(|whole| ParticipantRecord { after: None, ..whole });
    out.line(&serde_json::to_string_pretty(&whole)?);
    if look {
        return Ok(());
    }
    let forgotten: ForgottenParticipant = api.read(api.post(&format!("{path}/forget"))).await?;
    out.note(&format!("{sub} is {} in {} from now on.", forgotten.alias, which.session));
    Ok(())
}

async fn export(which: &Which, to: Option<&Path>, out: Out) -> Result<()> {
    let api = Api::backend(&which.reach)?;
    let text =
        api.send(api.get(&format!("/sessions/{}/export", which.session))).await?.text().await?;
    match to {
        None => out.line(text.trim_end()),
        Some(file) => {
            std::fs::write(file, &text)
                .with_context(|| format!("{} cannot be written", file.display()))?;
            out.note(&format!(
                "{} is in {}: {} lines.",
                which.session,
                file.display(),
                text.lines().count()
            ));
        }
    }
    Ok(())
}

async fn connections(which: &Which, out: Out) -> Result<()> {
    let api = Api::backend(&which.reach)?;
    let list: ConnectionList =
        api.read(api.get(&format!("/sessions/{}/connections", which.session))).await?;
    if out.is_json() {
        list.connections.iter().for_each(|one| out.value(one, String::new));
    } else if list.connections.is_empty() {
        out.note("Nobody is connected.");
    } else {
        let row = |one: ConnectionInfo| {
            let figures = [one.lag, one.lag_ms, one.queue, one.queue_bytes, one.catch_ups.into()];
            let words = [one.name, one.role, one.way, one.address];
            words.into_iter().chain(figures.map(|figure| figure.to_string())).collect()
        };
        let head =
            ["NAME", "ROLE", "WAY", "ADDRESS", "LAG", "LAG MS", "QUEUE", "BYTES", "CATCH-UPS"];
        out.table(&head, &[4, 5, 6, 7, 8], list.connections.into_iter().map(row).collect());
    }
    Ok(())
}

fn row(info: SessionInfo) -> Vec<String> {
    vec![
        info.id,
        format!("{} v{}", info.charter, info.version),
        info.status,
        info.seq.to_string(),
        info.participants.to_string(),
        info.opened,
    ]
}

fn in_words(info: &SessionInfo) -> String {
    [
        ("session", info.id.clone()),
        ("charter", format!("{} version {}, {}", info.charter, info.version, info.title)),
        ("status", info.status.clone()),
        ("seq", info.seq.to_string()),
        ("epoch", info.epoch.to_string()),
        (
            "present",
            format!(
                "{}, {}",
                counted(info.participants, "participant"),
                counted(info.connections, "connection")
            ),
        ),
        ("opened", info.opened.clone()),
    ]
    .into_iter()
    .chain(info.expression_faults.iter().map(|fault| ("fault", fault.clone())))
    .map(|(name, value)| format!("{name:<8} {value}"))
    .collect::<Vec<_>>()
    .join("\n")
}

/// All sessions that fit, page by page.
async fn listed(api: &Api, wanted: &[(&str, Option<String>)]) -> Result<Vec<SessionInfo>> {
    let mut sessions = Vec::new();
    let mut after: Option<String> = None;
    loop {
        let mut query: Vec<(&str, String)> =
            wanted.iter().filter_map(|(name, value)| Some((*name, value.clone()?))).collect();
        query.extend(after.take().map(|after| ("after", after)));
        let page: SessionList = api.read(api.get("/sessions").query(&query)).await?;
        sessions.extend(page.sessions);
        after = page.after;
        if after.is_none() {
            return Ok(sessions);
        }
    }
}

pub(crate) async fn token(command: TokenCommand, out: Out) -> Result<()> {
    let (asked, reach) = match command {
        TokenCommand::Issue { session, sub, name, role, expires_in, seat, reach } => {
            (IssueToken { session, sub, name, role, expires_in, seat }, reach)
        }
        TokenCommand::Revoke { token, session, sub, reach } => {
            return super::people::revoke(RevokeTokens { token, session, sub }, &reach, out).await;
        }
    };
    let answer: TokenAnswer = Api::backend(&reach)?.post_json("/tokens", &asked).await?;
    if !out.is_json() {
        out.note(&format!("valid until {}", answer.expires));
    }
    out.value(&answer, || answer.token.clone());
    Ok(())
}
