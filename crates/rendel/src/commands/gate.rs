//! `rendel stand-in gate`: a small outside check with word lists, for the demo and for trying gates out.
//! It checks the signature as a gate of one's own would.

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Arc;

use actix_web::{App, HttpRequest, HttpResponse, HttpServer, web};
use anyhow::{Context as _, Result};
use rendel_service::WebhookSecret;
use reqwest::header::{HeaderMap, HeaderValue};
use serde::Deserialize;
use serde_json::{Value, json};
use standardwebhooks::{
    HEADER_WEBHOOK_ID, HEADER_WEBHOOK_SIGNATURE, HEADER_WEBHOOK_TIMESTAMP, Webhook,
};

use crate::cli::GateArgs;
use crate::out::Out;

/// Words, and what becomes of remarks that have them.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct WordLists {
    /// Refused, with the sentence for their author.
    #[serde(default)]
    refuse: BTreeMap<String, String>,
    /// Replaced by others.
    #[serde(default)]
    replace: BTreeMap<String, String>,
}

struct Gate {
    words: WordLists,
    verifier: Webhook,
}

impl WordLists {
    pub(crate) fn read(file: &Path) -> Result<Self> {
        let text = std::fs::read_to_string(file)
            .with_context(|| format!("{} cannot be read", file.display()))?;
        serde_json::from_str(&text)
            .with_context(|| format!("{} holds no word lists", file.display()))
    }

    /// What becomes of a proposal's edits.
    fn answer(&self, edits: &Value) -> Value {
        let text = edits.to_string().to_lowercase();
        if let Some((_, says)) = self.refuse.iter().find(|(word, _)| text.contains(word.as_str())) {
            return json!({ "answer": "refuse", "says": says });
        }
        if self.replace.keys().any(|word| text.contains(word.as_str())) {
            let mut edits = edits.clone();
            self.soften(&mut edits);
            return json!({ "answer": "replace", "edits": edits });
        }
        json!({ "answer": "accept" })
    }

    fn soften(&self, value: &mut Value) {
        match value {
            Value::String(text) => {
                self.replace
                    .iter()
                    .for_each(|(word, other)| *text = text.replace(word.as_str(), other));
            }
            Value::Array(items) => items.iter_mut().for_each(|item| self.soften(item)),
            Value::Object(members) => members.values_mut().for_each(|member| self.soften(member)),
            _ => {}
        }
    }
}

pub(crate) async fn run(args: &GateArgs, out: Out) -> Result<()> {
    let secret = WebhookSecret::parse(&args.secret)
        .context("the secret is whsec_ and 24 to 64 bytes in base64, as gate_secret is")?;
    let address = start(WordLists::read(&args.words)?, &secret, args.port)?;
    out.line(&format!("the stand-in checks at {address}"));
    Ok(tokio::signal::ctrl_c().await?)
}

/// Serves a gate on a free port of loopback, or on `port`; gives its address.
pub(crate) fn start(words: WordLists, secret: &WebhookSecret, port: u16) -> Result<String> {
    let gate = Arc::new(Gate { words, verifier: Webhook::new(&secret.reveal())? });
    let server = HttpServer::new(move || {
        App::new().app_data(web::Data::new(gate.clone())).default_service(web::post().to(check))
    });
    let server = server
        .workers(1)
        .disable_signals()
        .bind(("127.0.0.1", port))
        .context("the gate cannot listen")?;
    let address = server.addrs().first().map(ToString::to_string).unwrap_or_default();
    tokio::spawn(server.run());
    Ok(format!("http://{address}"))
}

/// The headers by which a call is known to be the service's.
pub(crate) fn signed(request: &HttpRequest) -> HeaderMap {
    let mut headers = HeaderMap::new();
    for name in [HEADER_WEBHOOK_ID, HEADER_WEBHOOK_TIMESTAMP, HEADER_WEBHOOK_SIGNATURE] {
        let value =
            request.headers().get(name).map(|value| HeaderValue::from_bytes(value.as_bytes()));
        if let Some(Ok(value)) = value {
            headers.insert(name, value);
        }
    }
    headers
}

async fn check(request: HttpRequest, body: String, gate: web::Data<Arc<Gate>>) -> HttpResponse {
    if let Err(error) = gate.verifier.verify(body.as_bytes(), &signed(&request)) {
        return HttpResponse::Unauthorized()
            .body(format!("The call is not the service's: {error}."));
    }
    let asked: Value = serde_json::from_str(&body).unwrap_or_default();
    HttpResponse::Ok().json(gate.words.answer(&asked["edits"]))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_are_refused_replaced_or_let_through() {
        let words: WordLists =
            serde_json::from_str(include_str!("../../../../demo/gate/words.json")).unwrap();
        let edits =
            |says: &str| json!([{ "at": "/remarks", "op": "insert", "value": { "says": says } }]);
        assert_eq!(words.answer(&edits("Row 3 is done"))["answer"], "accept");
        assert_eq!(words.answer(&edits("these are Rotten"))["answer"], "refuse");
        let replaced = words.answer(&edits("the darn ladder"));
        assert_eq!(replaced["edits"], edits("the dear ladder"));
    }
}
