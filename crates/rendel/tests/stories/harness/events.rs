//! An event stream, as a program without a library for it reads it.

use reqwest::{Response, StatusCode};
use serde_json::Value;

use super::{PATIENCE, Service};

/// An event stream, read event by event.
pub(crate) struct Events {
    pub(crate) response: Response,
    pub(crate) text: String,
}

#[derive(Debug, PartialEq)]
pub(crate) struct Told {
    pub(crate) name: String,
    /// Its `seq`.
    pub(crate) id: Option<u64>,
    /// Its whole `id`, to come back with.
    pub(crate) last: Option<String>,
    pub(crate) data: Value,
}

impl Events {
    pub(crate) async fn open(
        service: &Service,
        query: &str,
        token: Option<&str>,
        last: Option<&str>,
    ) -> Self {
        let mut request = service.http.get(format!("{}/v1/sessions/{query}", service.server));
        if let Some(token) = token {
            request = request.bearer_auth(token);
        }
        if let Some(last) = last {
            request = request.header("Last-Event-ID", last);
        }
        let response = request.send().await.unwrap();
        assert_eq!(response.status(), StatusCode::OK, "{}", response.text().await.unwrap());
        assert_eq!(response.headers()["content-type"], "text/event-stream");
        Self { response, text: String::new() }
    }

    /// The next event that has a name, but for the roster's.
    pub(crate) async fn next(&mut self) -> Told {
        loop {
            if let Some((event, rest)) = self
                .text
                .split_once("\n\n")
                .map(|(event, rest)| (event.to_owned(), rest.to_owned()))
            {
                self.text = rest;
                let field = |name: &str| {
                    event
                        .lines()
                        .find_map(|line| line.strip_prefix(name)?.strip_prefix(": "))
                        .map(str::to_owned)
                };
                match field("event") {
                    Some(name) if name != "roster" => {
                        let last = field("id");
                        let seq = last.as_ref().and_then(|last| last.split('.').next());
                        let id = seq.map(|seq| seq.parse().unwrap());
                        return Told {
                            name,
                            id,
                            last,
                            data: serde_json::from_str(&field("data").unwrap()).unwrap(),
                        };
                    }
                    _ => continue,
                }
            }
            let part = tokio::time::timeout(PATIENCE, self.response.chunk())
                .await
                .expect("nothing came in time")
                .unwrap();
            self.text += std::str::from_utf8(&part.expect("the stream ended")).unwrap();
        }
    }

    /// What comes after an end.
    pub(crate) async fn next_part(&mut self) -> Option<()> {
        tokio::time::timeout(PATIENCE, self.response.chunk())
            .await
            .expect("the stream stays open")
            .ok()
            .flatten()
            .map(|_| ())
    }
}
