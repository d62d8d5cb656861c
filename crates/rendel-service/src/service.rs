//! The service as a whole: bind, serve, stop.

use std::future::Future;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use actix_cors::Cors;
use actix_web::dev::{Extensions, Server};
use actix_web::middleware::{Compress, from_fn};
use actix_web::{App as WebApp, HttpServer, web};
use rendel_store::{JournalWriter, Store, StoreError};

use crate::app::App;
use crate::config::Config;
use crate::http::guard::guard;
use crate::http::{Described, probe_routes, routes};
use crate::metrics::Metrics;
use crate::openapi::{methods_of, openapi_json};
use crate::origins::Origins;

/// A service that is bound to its address.
pub struct Service {
    app: Arc<App>,
    server: Server,
    /// What serves metrics and probes, if that has an address of its own.
    probes: Option<Server>,
    address: SocketAddr,
}

impl std::fmt::Debug for Service {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Service").field("address", &self.address).finish_non_exhaustive()
    }
}

/// Why the service could not start or go on.
#[derive(Debug, thiserror::Error)]
pub enum ServiceError {
    /// The database cannot be used.
    #[error("{0}")]
    Store(#[from] StoreError),
    /// The address cannot be bound.
    #[error("cannot listen on {0}: {1}")]
    Listen(SocketAddr, std::io::Error),
    /// A thread cannot be started, or the server broke.
    #[error("the service broke: {0}")]
    Io(#[from] std::io::Error),
}

impl Service {
    /// Connects to the database, brings its tables up to date and binds the address.
    pub async fn start(config: Config) -> Result<Self, ServiceError> {
        let metrics = Arc::new(Metrics::new());
        let store = Store::connect(&config.database_url, config.database_connections).await?;
        let counted = metrics.clone();
        let writer = JournalWriter::start(&config.database_url, move |rows, seconds| {
            counted.commit_rows.observe(rows as f64);
            counted.commit_seconds.observe(seconds);
        })?;
        let listen = config.listen;
        let stop_within = config.stop_within.as_secs().max(1);
        let app = Arc::new(App::new(config, store, writer, metrics));
        app.look_at_access().await?;
        let (shared, accepting) = (app.clone(), app.clone());
        let silence = app.config.silence;
        let described = web::Data::new(Described { json: openapi_json(), methods: methods_of });
        let server = HttpServer::new(move || {
            WebApp::new()
                .app_data(web::Data::new(shared.clone()))
                .app_data(described.clone())
                .wrap(from_fn(guard))
                .wrap(cors(&shared.config.origins))
                .wrap(Compress::default())
                .configure(routes)
                .configure(|config| {
                    if shared.config.probe_listen.is_none() {
                        probe_routes(config)
                    }
                })
                .default_service(web::get().to(crate::console::page))
        })
        .on_connect(move |connection, data| {
            give_up_after(connection, silence);
            accept(connection, data, &accepting);
        })
        .tcp_nodelay(true)
        .disable_signals()
        .keep_alive(Duration::from_secs(75))
        .shutdown_timeout(stop_within)
        .bind(listen)
        .map_err(|error| ServiceError::Listen(listen, error))?;
        let address = server.addrs().first().copied().unwrap_or(listen);
        let probes =
            app.config.probe_listen.map(|listen| probes(app.clone(), listen)).transpose()?;
        Ok(Self { app, server: server.run(), probes, address })
    }

    /// The address that it is bound to.
    pub fn address(&self) -> SocketAddr {
        self.address
    }

    /// Serves until `stop` is there. What was accepted by then is settled and written, and every
    /// connection is told.
    pub async fn run(self, stop: impl Future<Output = ()>) -> Result<(), ServiceError> {
        let probes = self.probes.map(|server| (server.handle(), tokio::spawn(server)));
        let handle = self.server.handle();
        let serving = tokio::spawn(self.server);
        let watching = [
            tokio::spawn(self.app.clone().watch_access()),
            tokio::spawn(self.app.clone().watch_ownership()),
            tokio::spawn(self.app.clone().watch_webhooks()),
            tokio::spawn(self.app.clone().watch_waking()),
        ];
        stop.await;
        self.app.drain();
        let drain = self.app.config.drain;
        if !drain.is_zero() {
            tracing::info!(seconds = drain.as_secs_f64(), "draining: not ready any more");
            tokio::time::sleep(drain).await;
        }
        tracing::info!("stopping: settling what was accepted");
        let within = self.app.config.stop_within;
        if tokio::time::timeout(within, self.app.stop_sessions()).await.is_err() {
            tracing::warn!(
                "some sessions did not stop in time; what they had not shown may be lost"
            );
        }
        watching.iter().for_each(tokio::task::JoinHandle::abort);
        // Others wait for its lease to end otherwise, and no longer.
        let _ = self.app.store.note_stopped().await;
        handle.stop(true).await;
        serving.await.map_err(std::io::Error::other)??;
        if let Some((handle, probed)) = probes {
            handle.stop(false).await;
            probed.await.map_err(std::io::Error::other)??;
        }
        Ok(())
    }
}

/// Serves metrics and probes at an address of their own.
fn probes(app: Arc<App>, listen: SocketAddr) -> Result<Server, ServiceError> {
    let server = HttpServer::new(move || {
        WebApp::new().app_data(web::Data::new(app.clone())).configure(probe_routes)
    });
    let server = server.workers(1).disable_signals().bind(listen);
    Ok(server.map_err(|error| ServiceError::Listen(listen, error))?.run())
}

/// Pages of the configured origins may call. The service's own need no permission.
fn cors(origins: &Origins) -> Cors {
    let origins = origins.clone();
    Cors::default()
        .allowed_origin_fn(move |origin, _| {
            origin.to_str().is_ok_and(|origin| origins.let_in(origin))
        })
        .allowed_methods(["GET", "HEAD", "POST", "PUT", "PATCH", "DELETE"])
        .allowed_headers([
            "Authorization",
            "Content-Type",
            "Idempotency-Key",
            "If-Match",
            "If-None-Match",
            "Last-Event-ID",
        ])
        .expose_headers(["ETag", "Retry-After"])
        .block_on_origin_mismatch(false)
        .max_age(600)
}

/// A peer that takes nothing for so long, or is gone without a word, is given up by TCP itself:
/// also where nothing of ours is waiting for it.
fn give_up_after(connection: &dyn std::any::Any, silence: Duration) {
    let Some(stream) = connection.downcast_ref::<tokio::net::TcpStream>() else { return };
    if let Err(error) = socket2::SockRef::from(stream).set_tcp_user_timeout(Some(silence)) {
        tracing::debug!(%error, "a connection has no time-out of its own");
    }
}

/// Counts a connection by its address from the moment in which it is accepted. One beyond the bound
/// is shut at once: whoever opens them says nothing and needs no answer.
fn accept(connection: &dyn std::any::Any, data: &mut Extensions, app: &App) {
    let Some(stream) = connection.downcast_ref::<tokio::net::TcpStream>() else { return };
    // Behind a proxy all come from one address; its connections are counted by what it says.
    let Some(peer) = stream.peer_addr().ok().filter(|_| !app.config.trust_forwarded) else {
        return;
    };
    match app.accepted.admit(peer.ip().to_string()) {
        Ok(admission) => drop(data.insert(admission)),
        Err(problem) => {
            app.metrics.count(&problem);
            // It may be gone already.
            let _ = socket2::SockRef::from(stream).shutdown(std::net::Shutdown::Both);
        }
    }
}

/// Raises the limit of open descriptors, one of which each connection needs, as far as this process
/// may, and gives it.
pub fn raise_descriptor_limit() -> std::io::Result<u64> {
    rlimit::increase_nofile_limit(u64::MAX)
}
