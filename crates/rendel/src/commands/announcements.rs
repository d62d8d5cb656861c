//! `rendel announcements` and `rendel webhook`: what sessions announce, and to whom it is sent.

use std::time::Duration;

use anyhow::Result;
use rendel_wire::http::{
    Announcement, AnnouncementList, DeliveryInfo, DeliveryList, MakeWebhook, Resend, Resent,
    WebhookInfo, WebhookList,
};
use serde_json::Value;

use crate::api::{Api, Unreachable};
use crate::cli::{AnnouncementsCommand, OfWhich, Reach, WebhookCommand};
use crate::out::Out;

/// How long one call waits for the next announcement, and how long after a failure the next comes.
const WAIT_MS: u64 = 30_000;
const AGAIN: Duration = Duration::from_secs(1);

pub(crate) async fn run(command: AnnouncementsCommand, out: Out) -> Result<()> {
    match command {
        AnnouncementsCommand::List { of, after, most, reach } => {
            let api = Api::backend(&reach)?;
            let list = list(&api, &of, &after.to_string(), most, 0).await?;
            if list.announcements.is_empty() && !out.is_json() {
                out.note("Nothing was announced. Charters say what is: docs/charter.md, [[when]].");
            }
            list.announcements.iter().for_each(|one| print(one, out));
            Ok(())
        }
        AnnouncementsCommand::Follow { of, after, reach } => follow(&of, after, &reach, out).await,
        AnnouncementsCommand::Resend { webhook, ids, reach } => {
            let api = Api::backend(&reach)?;
            let path = format!("/webhooks/{}/resend", Api::segment(&webhook));
            let resent: Resent = api.post_json(&path, &Resend { ids }).await?;
            out.value(&resent, || format!("{} are sent again.", resent.count));
            Ok(())
        }
    }
}

async fn list(
    api: &Api,
    of: &OfWhich,
    after: &str,
    most: u64,
    wait_ms: u64,
) -> Result<AnnouncementList> {
    let mut query = vec![
        ("after", after.to_owned()),
        ("most", most.to_string()),
        ("wait_ms", wait_ms.to_string()),
    ];
    query.extend(of.session.iter().map(|session| ("session", session.clone())));
    let several = [("types", &of.types), ("charters", &of.charters)];
    let several = several.into_iter().filter(|(_, names)| !names.is_empty());
    query.extend(several.map(|(name, names)| (name, names.join(","))));
    api.read(api.get("/announcements").query(&query)).await
}

/// Goes on for ever, also over a service that is away for a while.
async fn follow(of: &OfWhich, after: Option<i64>, reach: &Reach, out: Out) -> Result<()> {
    let api = Api::backend(reach)?;
    let mut after = after.map_or_else(|| "now".to_owned(), |after| after.to_string());
    let mut is_known = false;
    loop {
        match list(&api, of, &after, 1_000, if is_known { WAIT_MS } else { 0 }).await {
            Ok(list) => {
                if !is_known {
                    out.note("following; Ctrl-C ends it");
                }
                is_known = true;
                after = list.next.to_string();
                list.announcements.iter().for_each(|one| print(one, out));
            }
            Err(error) if is_known && error.is::<Unreachable>() => tokio::time::sleep(AGAIN).await,
            Err(error) => return Err(error),
        }
    }
}

fn print(one: &Announcement, out: Out) {
    out.value(one, || format!("{:>6}  {}", one.cursor, shown(&one.event)));
}

/// An event on one line: when, what, where and what it says.
pub(crate) fn shown(event: &Value) -> String {
    let text = |value: &Value| value.as_str().map_or_else(|| value.to_string(), str::to_owned);
    let data = &event["data"];
    let values = data["values"].as_object().into_iter().flatten();
    let values: Vec<_> = values.map(|(name, value)| format!("{name}={}", text(value))).collect();
    let time = text(&event["time"]);
    let time = time.split(['T', '.', 'Z']).nth(1).unwrap_or_default().to_owned();
    let (kind, session) = (text(&event["type"]), text(&data["session"]));
    format!("{time}  {kind:<20} {session:<16} {}", values.join("  ")).trim_end().to_owned()
}

pub(crate) async fn webhook(command: WebhookCommand, out: Out) -> Result<()> {
    match command {
        WebhookCommand::Make { url, types, charters, unordered, secret, reach } => {
            let ordered = Some(!unordered);
            let asked = MakeWebhook { url, types, charters, ordered, secret };
            let made: WebhookInfo = Api::backend(&reach)?.post_json("/webhooks", &asked).await?;
            if !out.is_json() {
                out.note("Its secret is told once; receivers check signatures with it:");
            }
            let secret = made.secret.clone().unwrap_or_default();
            out.value(&made, || format!("webhook  {}\nsecret   {secret}", made.id));
        }
        WebhookCommand::List { reach } => {
            let api = Api::backend(&reach)?;
            let list: WebhookList = api.read(api.get("/webhooks")).await?;
            if out.is_json() {
                list.webhooks.iter().for_each(|one| out.value(one, String::new));
            } else if list.webhooks.is_empty() {
                out.note("There is no webhook. Make one: rendel webhook make URL");
            } else {
                let all = |names: &[String]| match names {
                    [] => "all".to_owned(),
                    names => names.join(","),
                };
                let row = |one: WebhookInfo| {
                    let (types, charters) = (all(&one.types), all(&one.charters));
                    let order = if one.ordered { "kept" } else { "any" };
                    vec![one.id, one.url, types, charters, order.to_owned()]
                };
                let head = ["WEBHOOK", "URL", "TYPES", "CHARTERS", "ORDER"];
                out.table(&head, &[], list.webhooks.into_iter().map(row).collect());
            }
        }
        WebhookCommand::Deliveries { webhook, status, reach } => {
            let api = Api::backend(&reach)?;
            let path = format!("/webhooks/{}/deliveries", Api::segment(&webhook));
            let query: Vec<_> = status.iter().map(|status| ("status", status)).collect();
            let list: DeliveryList = api.read(api.get(&path).query(&query)).await?;
            if out.is_json() {
                list.deliveries.iter().for_each(|one| out.value(one, String::new));
            } else if list.deliveries.is_empty() {
                out.note("Nothing was announced that it wants.");
            } else {
                let row = |one: DeliveryInfo| {
                    let (attempts, why) = (one.attempts.to_string(), one.why.unwrap_or_default());
                    vec![one.id, one.kind, one.session, one.status, attempts, one.at, why]
                };
                let head = ["ANNOUNCEMENT", "TYPE", "SESSION", "IS", "ATTEMPTS", "AT", "WHY"];
                out.table(&head, &[4], list.deliveries.into_iter().map(row).collect());
            }
        }
        WebhookCommand::Remove { webhook, reach } => {
            let api = Api::backend(&reach)?;
            api.send(api.delete(&format!("/webhooks/{}", Api::segment(&webhook)))).await?;
            out.note("It is removed, and nothing more is sent to it.");
        }
    }
    Ok(())
}
