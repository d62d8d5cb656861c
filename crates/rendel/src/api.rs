//! The service, as the commands call it.

use std::path::Path;
use std::time::Duration;

use anyhow::{Context as _, Result};
use rendel_core::{Problem, ProblemKind};
use rendel_service::ServiceKey;
use rendel_wire::http::{IssueToken, TokenAnswer};
use reqwest::{Method, RequestBuilder, Response};
use serde::Serialize;
use serde::de::DeserializeOwned;

use crate::cli::{AsWhom, Reach};

/// The service did not answer.
#[derive(Debug, thiserror::Error)]
#[error(
    "the service at {0} cannot be reached ({1}). Is it running? Start it with: rendel serve \
     --local-database DIR"
)]
pub(crate) struct Unreachable(String, String);

/// Calls to one service with one key or token.
#[derive(Clone, Debug)]
pub(crate) struct Api {
    http: reqwest::Client,
    server: String,
    bearer: String,
}

impl Api {
    /// Calls as the backend.
    pub(crate) fn backend(reach: &Reach) -> Result<Self> {
        Self::new(&reach.server, read_key(&reach.key_file)?.reveal())
    }

    pub(crate) fn new(server: &str, bearer: &str) -> Result<Self> {
        let http =
            reqwest::Client::builder().timeout(Duration::from_secs(40)).no_proxy().build()?;
        Ok(Self {
            http,
            server: server.trim_end_matches('/').to_owned(),
            bearer: bearer.to_owned(),
        })
    }

    /// Calls with a token where there is one, else as the backend.
    pub(crate) fn token_or_backend(reach: &Reach, token: Option<&str>) -> Result<Self> {
        match token {
            Some(token) => Self::new(&reach.server, token),
            None => Self::backend(reach),
        }
    }

    /// A participant's id as a part of a path: it may have any characters.
    pub(crate) fn segment(id: &str) -> String {
        let mut url = reqwest::Url::parse("http://service").ok();
        if let Some(mut segments) = url.as_mut().and_then(|url| url.path_segments_mut().ok()) {
            segments.push(id);
        }
        url.map(|url| url.path().trim_start_matches('/').to_owned()).unwrap_or_default()
    }

    fn request(&self, method: Method, path: &str) -> RequestBuilder {
        self.http.request(method, format!("{}/v1{path}", self.server)).bearer_auth(&self.bearer)
    }

    pub(crate) fn get(&self, path: &str) -> RequestBuilder {
        self.request(Method::GET, path)
    }

    pub(crate) fn post(&self, path: &str) -> RequestBuilder {
        self.request(Method::POST, path)
    }

    pub(crate) fn patch(&self, path: &str) -> RequestBuilder {
        self.request(Method::PATCH, path)
    }

    pub(crate) fn delete(&self, path: &str) -> RequestBuilder {
        self.request(Method::DELETE, path)
    }

    /// Sends a request; a problem comes back as the error that it is.
    pub(crate) async fn send(&self, request: RequestBuilder) -> Result<Response> {
        let response = request.send().await.map_err(|error| {
            let why = std::error::Error::source(&error)
                .map_or_else(|| error.to_string(), ToString::to_string);
            Unreachable(self.server.clone(), why)
        })?;
        if response.status().is_success() {
            return Ok(response);
        }
        let status = response.status();
        let body = response.bytes().await.unwrap_or_default();
        let problem = serde_json::from_slice::<Problem>(&body);
        Err(problem
            .unwrap_or_else(|_| {
                Problem::new(
                    ProblemKind::NotFound,
                    format!("{} answered {status}. Is it a Rendel service?", self.server),
                )
            })
            .into())
    }

    pub(crate) async fn read<T: DeserializeOwned>(&self, request: RequestBuilder) -> Result<T> {
        self.send(request)
            .await?
            .json()
            .await
            .context("the answer of the service cannot be read; is it a newer version?")
    }

    pub(crate) async fn post_json<T: DeserializeOwned>(
        &self,
        path: &str,
        body: &impl Serialize,
    ) -> Result<T> {
        self.read(self.post(path).json(body)).await
    }
}

/// The key in a file.
pub(crate) fn read_key(file: &Path) -> Result<ServiceKey> {
    let text = std::fs::read_to_string(file).with_context(|| {
        format!(
            "the service key {} cannot be read. Give --key-file FILE or RENDEL_KEY_FILE; the \
            service writes it at its first start",
            file.display()
        )
    })?;
    ServiceKey::parse(text.lines().next().unwrap_or_default()).with_context(|| {
        format!("{} holds no service key: at least 32 printable characters", file.display())
    })
}

/// The token to take part with: the given one, or one issued for the role and name.
pub(crate) async fn token_for(reach: &Reach, session: &str, whom: &AsWhom) -> Result<String> {
    if let Some(token) = &whom.token {
        return Ok(token.clone());
    }
    let api = Api::backend(reach)?;
    let role = match &whom.role {
        Some(role) => role.clone(),
        None => first_role(&api, session).await?,
    };
    let name = whom.name.clone();
    let sub = name.as_deref().unwrap_or("terminal").to_lowercase();
    let asked = IssueToken {
        session: session.to_owned(),
        sub,
        name,
        role,
        expires_in: Some(24 * 3600),
        seat: None,
    };
    Ok(api.post_json::<TokenAnswer>("/tokens", &asked).await?.token)
}

async fn first_role(api: &Api, session: &str) -> Result<String> {
    let info: rendel_wire::http::SessionInfo =
        api.read(api.get(&format!("/sessions/{session}"))).await?;
    let source = api
        .send(api.get(&format!("/charters/{}?version={}", info.charter, info.version)))
        .await?
        .text()
        .await?;
    let charter =
        rendel_core::Charter::parse(&source).ok().context("the stored charter cannot be read")?;
    charter
        .role_names()
        .next()
        .map(str::to_owned)
        .context("the charter has no role; give --as ROLE")
}
