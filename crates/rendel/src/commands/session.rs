//! `rendel session` and `rendel token`

use anyhow::{Context as _, Result};
use rendel_wire::http::{IssueToken, OpenSession, SessionInfo, SessionList, TokenAnswer};

use crate::api::Api;
use crate::cli::{SessionCommand, TokenCommand};
use crate::out::Out;

pub(crate) async fn run(command: SessionCommand, out: Out) -> Result<()> {
    match command {
        SessionCommand::Open { charter, id, version, opening, reach } => {
            let opening = opening
                .map(|file| {
                    let text =
                        std::fs::read_to_string(&file).with_context(|| format!("{} cannot be read", file.display()))?;
                    serde_json::from_str(&text).with_context(|| format!("{} is no JSON", file.display()))
                })
                .transpose()?;
            let asked = OpenSession { id, charter, version, opening };
            let info: SessionInfo = Api::backend(&reach)?.post_json("/sessions", &asked).await?;
            out.value(&info, || format!("{0} is open. Take part: rendel enter {0}", info.id));
            Ok(())
        }
        SessionCommand::List { charter, reach } => {
            let api = Api::backend(&reach)?;
            let mut sessions = Vec::new();
            let mut after: Option<String> = None;
            loop {
                let query: Vec<(&str, &String)> = charter
                    .iter()
                    .map(|charter| ("charter", charter))
                    .chain(after.iter().map(|after| ("after", after)))
                    .collect();
                let pairs: Vec<String> = query.iter().map(|(name, value)| format!("{name}={value}")).collect();
                let page: SessionList = api.read(api.get(&format!("/sessions?{}", pairs.join("&")))).await?;
                sessions.extend(page.sessions);
                after = page.after;
                if after.is_none() {
                    break;
                }
            }
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
        SessionCommand::Show { session, reach } => {
            let api = Api::backend(&reach)?;
            let info: SessionInfo = api.read(api.get(&format!("/sessions/{session}"))).await?;
            out.value(&info, || in_words(&info));
            Ok(())
        }
    }
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
        ("present", format!("{} participants, {} connections", info.participants, info.connections)),
        ("opened", info.opened.clone()),
    ]
    .map(|(name, value)| format!("{name:<8} {value}"))
    .join("\n")
}

pub(crate) async fn token(command: TokenCommand, out: Out) -> Result<()> {
    let TokenCommand::Issue { session, sub, name, role, expires_in, reach } = command;
    let asked = IssueToken { session, sub, name, role, expires_in };
    let answer: TokenAnswer = Api::backend(&reach)?.post_json("/tokens", &asked).await?;
    if !out.is_json() {
        out.note(&format!("valid until {}", answer.expires));
    }
    out.value(&answer, || answer.token.clone());
    Ok(())
}
