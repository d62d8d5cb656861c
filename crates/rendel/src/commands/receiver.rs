//! `rendel stand-in receiver`: a small receiver of webhooks, for the demo and for trying them out. It
//! checks the signature as one's own would, and takes what comes twice once.

use std::collections::BTreeSet;
use std::sync::Arc;
use std::sync::atomic::{AtomicU32, Ordering};

use actix_web::{App, HttpRequest, HttpResponse, HttpServer, web};
use anyhow::{Context as _, Result};
use parking_lot::Mutex;
use rendel_service::WebhookSecret;
use serde_json::Value;
use standardwebhooks::{HEADER_WEBHOOK_ID, Webhook};

use super::announcements::shown;
use super::gate::signed;
use crate::cli::ReceiverArgs;
use crate::out::Out;

/// What is remembered of what came.
const REMEMBERED: usize = 10_000;

struct Receiver {
    verifier: Webhook,
    fails: AtomicU32,
    known: Mutex<BTreeSet<String>>,
    out: Out,
}

pub(crate) async fn run(args: &ReceiverArgs, out: Out) -> Result<()> {
    let secret = WebhookSecret::parse(&args.secret)
        .context("the secret is whsec_ and 24 to 64 bytes in base64, as the webhook's is")?;
    let address = start(&secret, args.port, args.fails, out)?;
    out.note(&format!("the stand-in receives at {address}"));
    Ok(tokio::signal::ctrl_c().await?)
}

/// Receives on a free port of loopback, or on `port`; gives its address.
pub(crate) fn start(secret: &WebhookSecret, port: u16, fails: u32, out: Out) -> Result<String> {
    let verifier = Webhook::new(&secret.reveal())?;
    let (fails, known) = (AtomicU32::new(fails), Mutex::default());
    let receiver = Arc::new(Receiver { verifier, fails, known, out });
    let server = HttpServer::new(move || {
        App::new()
            .app_data(web::Data::new(receiver.clone()))
            .default_service(web::post().to(receive))
    });
    let server = server
        .workers(1)
        .disable_signals()
        .bind(("127.0.0.1", port))
        .context("the receiver cannot listen")?;
    let address = server.addrs().first().map(ToString::to_string).unwrap_or_default();
    tokio::spawn(server.run());
    Ok(format!("http://{address}"))
}

async fn receive(
    request: HttpRequest,
    body: String,
    receiver: web::Data<Arc<Receiver>>,
) -> HttpResponse {
    if let Err(error) = receiver.verifier.verify(body.as_bytes(), &signed(&request)) {
        return HttpResponse::Unauthorized()
            .body(format!("The call is not the service's: {error}."));
    }
    let one_less = |left: u32| left.checked_sub(1);
    if receiver.fails.fetch_update(Ordering::Relaxed, Ordering::Relaxed, one_less).is_ok() {
        receiver.out.note("failing, as it was asked to");
        return HttpResponse::InternalServerError().finish();
    }
    let id = request.headers().get(HEADER_WEBHOOK_ID).and_then(|id| id.to_str().ok());
    let id = id.unwrap_or_default().to_owned();
    let mut known = receiver.known.lock();
    if known.len() >= REMEMBERED {
        known.pop_first();
    }
    if known.insert(id) {
        let event: Value = serde_json::from_str(&body).unwrap_or_default();
        match receiver.out.is_json() {
            true => receiver.out.line(&body),
            false => receiver.out.line(&format!("received  {}", shown(&event))),
        }
    }
    HttpResponse::NoContent().finish()
}
