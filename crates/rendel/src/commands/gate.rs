//! `rendel stand-in`: a small outside check with word lists, for the demo and for trying gates out.
//! It checks the signature as a gate of one's own would.

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Arc;

use actix_web::{App, HttpRequest, HttpResponse, HttpServer, web};
use anyhow::{Context as _, Result};
use serde::Deserialize;
use serde_json::{Value, json};

use crate::cli::StandInArgs;
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
    secret: String,
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

pub(crate) async fn run(args: &StandInArgs, out: Out) -> Result<()> {
    let address = start(WordLists::read(&args.words)?, args.secret.clone(), args.port)?;
    out.line(&format!("the stand-in checks at {address}"));
    Ok(tokio::signal::ctrl_c().await?)
}

/// Serves a gate on a free port of loopback, or on `port`; gives its address.
pub(crate) fn start(words: WordLists, secret: String, port: u16) -> Result<String> {
    let gate = Arc::new(Gate { words, secret });
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

async fn check(request: HttpRequest, body: String, gate: web::Data<Arc<Gate>>) -> HttpResponse {
    let header = |name: &str| {
        request.headers().get(name).and_then(|value| value.to_str().ok()).unwrap_or_default()
    };
    let time = header("Rendel-Time").parse().unwrap_or(0);
    let expected = rendel_service::signature(&gate.secret, header("Rendel-Id"), time, &body);
    if header("Rendel-Signature") != expected {
        return HttpResponse::Unauthorized().body("The signature is not that of the service.");
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
