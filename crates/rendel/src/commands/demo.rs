//! `rendel demo`: the service with the sample sessions of Hollin Brook.

use anyhow::{Context as _, Result};
use rendel_core::{Problem, ProblemKind};
use rendel_service::WebhookSecret;
use rendel_wire::http::{MakeWebhook, OpenSession, SessionInfo, WebhookInfo, WebhookList};
use rust_embed::RustEmbed;

use super::charter::publish;
use super::serve::{log_to_stderr, serve};
use crate::api::Api;
use crate::cli::DemoArgs;
use crate::config::{Database, ServePlan, key};
use crate::out::Out;

#[derive(RustEmbed)]
#[folder = "$CARGO_MANIFEST_DIR/../../demo"]
struct Scenario;

pub(crate) async fn run(args: &DemoArgs, out: Out) -> Result<()> {
    let key_file = args.dir.join("service.key");
    let service_key = key(&key_file)?;
    let gate_secret = WebhookSecret::generate();
    let words = serde_json::from_str(&file("gate/words.json")?)
        .context("the demo's word lists cannot be read")?;
    let gate = super::gate::start(words, &gate_secret, 0)?;
    let mut config = rendel_service::Config::new(args.listen, String::new(), service_key);
    config.gate_secret = gate_secret;
    config.origins.loopback = true;
    // What is announced goes to a receiver on this machine.
    config.webhooks_to_private_addresses = true;
    let webhook_secret = WebhookSecret::generate();
    let receiver = super::receiver::start(&webhook_secret, 0, 0, out)?;
    config.variables.insert("GATE_URL".to_owned(), gate);
    let plan =
        ServePlan { database: Database::Local(args.dir.join("database")), charters: None, config };
    // Words for a person go out here; the log says only what is wrong.
    if std::env::var_os("RENDEL_LOG").is_none() {
        let quiet = tracing_subscriber::fmt().with_env_filter("warn").with_writer(std::io::stderr);
        let _ = quiet.try_init();
    }
    log_to_stderr();
    out.note("Starting PostgreSQL on loopback and the service …");
    let (no_crowd, seed) = (args.no_crowd, args.seed);
    let shown_key = key_file.display().to_string();
    serve(plan, out, |server, key| async move {
        let api = Api::new(&server, &key)?;
        out.note("Publishing the demo charters and opening the demo sessions …");
        for name in names() {
            open(&api, &name)
                .await
                .with_context(|| format!("the demo session {name} could not be opened"))?;
        }
        receive(&api, &receiver, &webhook_secret)
            .await
            .context("the demo's receiver could not be made known")?;
        if !no_crowd {
            crate::crowd::start(&api, &server, seed).await.context("the crowd could not enter")?;
        }
        out.line(&welcome(&server, &key, &shown_key));
        Ok(())
    })
    .await
}

/// The sessions of the scenario, by the names of their charters.
fn names() -> Vec<String> {
    let files = Scenario::iter();
    let mut names: Vec<_> = files
        .filter_map(|file| {
            file.strip_prefix("charters/")
                .and_then(|name| name.strip_suffix(".toml"))
                .map(str::to_owned)
        })
        .collect();
    names.sort();
    names
}

async fn open(api: &Api, name: &str) -> Result<()> {
    publish(api, &file(&format!("charters/{name}.toml"))?).await?;
    let opening = serde_json::from_str(&file(&format!("data/{name}.json"))?).ok();
    let asked = OpenSession {
        id: Some(name.to_owned()),
        charter: name.to_owned(),
        version: None,
        opening,
        labels: std::collections::BTreeMap::new(),
    };
    match api.post_json::<SessionInfo>("/sessions", &asked).await {
        Ok(_) => Ok(()),
        Err(error)
            if error
                .downcast_ref::<Problem>()
                .is_some_and(|problem| problem.kind() == ProblemKind::Exists) =>
        {
            Ok(())
        }
        Err(error) => Err(error),
    }
}

/// Sends what is announced to the demo's receiver, and to none of an earlier start.
async fn receive(api: &Api, receiver: &str, secret: &WebhookSecret) -> Result<()> {
    let known: WebhookList = api.read(api.get("/webhooks")).await?;
    for webhook in known.webhooks {
        api.send(api.delete(&format!("/webhooks/{}", webhook.id))).await?;
    }
    let (url, secret) = (format!("{receiver}/orchard"), Some(secret.reveal()));
    let asked = MakeWebhook { url, secret, ..MakeWebhook::default() };
    api.post_json::<WebhookInfo>("/webhooks", &asked).await?;
    Ok(())
}

fn file(path: &str) -> Result<String> {
    let file = Scenario::get(path).with_context(|| format!("{path} is not part of this binary"))?;
    Ok(String::from_utf8(file.data.to_vec())?)
}

fn welcome(server: &str, key: &str, key_file: &str) -> String {
    format!(
        "
Harvest day at Hollin Brook is open.

  console   {server}
  key       {key}

Take part from another terminal:

  export RENDEL_KEY_FILE={key_file}
  rendel enter headcount --name Oda
  rendel propose headcount '/heads add 1' --name Tobin
  rendel state headcount
  rendel watch slope-plan
  rendel announcements follow

Sessions: {}. Ctrl-C ends it all; the next start goes on where this one ended.",
        names().join(", ")
    )
}
