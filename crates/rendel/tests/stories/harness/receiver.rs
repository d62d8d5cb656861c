//! A receiver of webhooks that does what it is told, and remembers all that came.

use std::collections::{BTreeMap, VecDeque};
use std::sync::{Arc, Mutex};
use std::time::Duration;

use actix_web::{App, HttpRequest, HttpResponse, HttpServer, web};
use serde_json::{Value, json};

/// What a receiver does with a call.
#[derive(Clone, Copy, Debug)]
pub(crate) enum Does {
    Answers(u16),
    /// Sends the caller to another address.
    Redirects,
    /// Says nothing until the caller gives up.
    Hangs,
    /// Takes it after a while.
    TakesLate,
}

/// A call that came.
#[derive(Clone, Debug)]
pub(crate) struct Call {
    pub(crate) headers: BTreeMap<String, String>,
    pub(crate) body: String,
}

impl Call {
    pub(crate) fn event(&self) -> Value {
        serde_json::from_str(&self.body).unwrap()
    }

    /// As another program reads it.
    pub(crate) fn to_json(&self) -> Value {
        json!({ "headers": self.headers, "body": self.body })
    }
}

#[derive(Default)]
struct Inside {
    /// What it does with the next calls; all others are taken.
    does: VecDeque<Does>,
    calls: Vec<Call>,
}

/// A running receiver.
pub(crate) struct Receiver {
    pub(crate) url: String,
    inside: Arc<Mutex<Inside>>,
}

impl Receiver {
    /// One that does these with the first calls that come.
    pub(crate) fn start(does: &[Does]) -> Self {
        let does = does.iter().copied().collect();
        let inside = Arc::new(Mutex::new(Inside { does, calls: Vec::new() }));
        let shared = inside.clone();
        let server = HttpServer::new(move || {
            App::new().app_data(web::Data::new(shared.clone())).default_service(web::to(receive))
        });
        let server = server.workers(1).disable_signals().bind(("127.0.0.1", 0)).unwrap();
        let url = format!("http://{}/hook", server.addrs()[0]);
        tokio::spawn(server.run());
        Self { url, inside }
    }

    /// All calls that came, also those that it did not take.
    pub(crate) fn calls(&self) -> Vec<Call> {
        self.inside.lock().unwrap().calls.clone()
    }

    /// The events of a type that came, each once, in the order in which each came first.
    pub(crate) fn events(&self, kind: &str) -> Vec<Value> {
        let mut events: Vec<Value> = Vec::new();
        for event in self.calls().iter().map(Call::event).filter(|event| event["type"] == kind) {
            if events.iter().all(|known| known["id"] != event["id"]) {
                events.push(event);
            }
        }
        events
    }
}

async fn receive(
    request: HttpRequest,
    body: String,
    inside: web::Data<Arc<Mutex<Inside>>>,
) -> HttpResponse {
    let headers = request.headers().iter().map(|(name, value)| {
        (name.as_str().to_owned(), value.to_str().unwrap_or_default().to_owned())
    });
    let does = {
        let mut inside = inside.lock().unwrap();
        inside.calls.push(Call { headers: headers.collect(), body });
        inside.does.pop_front()
    };
    match does {
        None => HttpResponse::NoContent().finish(),
        Some(Does::Answers(status)) => HttpResponse::build(status.try_into().unwrap()).finish(),
        Some(Does::Redirects) => {
            HttpResponse::TemporaryRedirect().insert_header(("Location", "/elsewhere")).finish()
        }
        Some(Does::TakesLate) => {
            tokio::time::sleep(Duration::from_millis(700)).await;
            HttpResponse::Ok().finish()
        }
        Some(Does::Hangs) => {
            tokio::time::sleep(Duration::from_secs(600)).await;
            HttpResponse::Ok().finish()
        }
    }
}
