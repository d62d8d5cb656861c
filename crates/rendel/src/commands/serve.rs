//! `rendel serve`

use std::path::Path;

use anyhow::{Context as _, Result};
use rendel_service::{Service, raise_descriptor_limit};
use rendel_store::LocalDatabase;
use tokio::signal::unix::{SignalKind, signal};
use tracing_subscriber::EnvFilter;

use super::charter::publish_folder;
use crate::api::Api;
use crate::cli::ServeArgs;
use crate::config::{Database, ServePlan, plan, unknown_names};
use crate::out::Out;

pub(crate) async fn run(args: &ServeArgs, out: Out) -> Result<()> {
    let plan = plan(args)?;
    log_to_stderr();
    for name in unknown_names() {
        tracing::warn!(name, "the environment has a name that is no setting");
    }
    if let Database::Local(dir) = &plan.database {
        out.note(&format!("starting PostgreSQL in {} …", dir.display()));
    }
    let charters = plan.charters.clone();
    serve(plan, out, |server, key| async move {
        let api = Api::new(&server, &key)?;
        if let Some(folder) = charters {
            publish_folder(&api, &folder, out).await?;
        }
        out.line(&format!("rendel is ready at {server}"));
        Ok(())
    })
    .await
}

/// Structured logs, one JSON object a line, on standard error; `RENDEL_LOG` chooses how much.
pub(crate) fn log_to_stderr() {
    let filter = EnvFilter::try_from_env("RENDEL_LOG")
        .unwrap_or_else(|_| EnvFilter::new("info,actix_server=warn"));
    let log = tracing_subscriber::fmt().json().with_env_filter(filter).with_writer(std::io::stderr);
    // It can only be set twice, and then it is there.
    let _ = log.try_init();
}

/// Serves until SIGTERM or SIGINT. `ready` is told the address and the key once the service
/// answers.
pub(crate) async fn serve<F>(
    plan: ServePlan,
    out: Out,
    ready: impl FnOnce(String, String) -> F,
) -> Result<()>
where
    F: Future<Output = Result<()>>,
{
    let mut terminate = signal(SignalKind::terminate())?;
    let mut interrupt = signal(SignalKind::interrupt())?;
    let stop = async move {
        tokio::select! {
            _ = terminate.recv() => {}
            _ = interrupt.recv() => {}
        }
    };
    match raise_descriptor_limit() {
        Ok(limit) => tracing::info!(limit, "open descriptors, one for each connection"),
        Err(error) => tracing::warn!(%error, "the limit of open descriptors could not be raised"),
    }
    let database = match &plan.database {
        Database::Url(_) => None,
        Database::Local(dir) => Some(start_database(dir).await?),
    };
    let mut config = plan.config;
    config.database_url = match (&plan.database, &database) {
        (Database::Url(url), _) => url.clone(),
        (_, Some(database)) => database.url().to_owned(),
        (_, None) => String::new(),
    };
    let key = config.key.reveal().to_owned();
    let served = async {
        let service = Service::start(config).await.context("the service could not start")?;
        let server = format!("http://{}", service.address());
        let (started, running) = tokio::sync::oneshot::channel::<()>();
        let run = tokio::spawn(service.run(async move {
            tokio::select! {
                () = stop => {}
                // The sender goes when getting ready failed.
                Err(_) = running => {}
            }
        }));
        let got_ready = ready(server, key).await;
        // Kept until the end where all went well: its going is what ends a service that did not get
        // ready.
        let kept = got_ready.is_ok().then_some(started);
        run.await??;
        drop(kept);
        got_ready
    };
    let outcome = served.await;
    if let Some(database) = database
        && let Err(error) = tokio::task::spawn_blocking(move || database.stop()).await?
    {
        out.error(&error.to_string());
    }
    outcome
}

async fn start_database(dir: &Path) -> Result<LocalDatabase> {
    let dir = dir.to_owned();
    Ok(tokio::task::spawn_blocking(move || LocalDatabase::start(&dir)).await??)
}
