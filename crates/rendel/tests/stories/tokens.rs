//! Who gets in, and who does not.

use jsonwebtoken::{Algorithm, EncodingKey, Header, encode};
use serde_json::{Value, json};

use crate::harness::{Raw, Service, name};

const FAR: u64 = 4_000_000_000;

fn claims() -> Value {
    json!({ "aud": "rendel", "sub": "oda", "role": "participant", "session": "headcount", "exp": FAR })
}

fn signed(key: &str, claims: &Value, algorithm: Algorithm) -> String {
    encode(&Header::new(algorithm), claims, &EncodingKey::from_secret(key.as_bytes())).unwrap()
}

/// The same claims under `alg: none`, as an attacker would write them.
fn unsigned(service: &Service) -> String {
    let token = signed(&service.key, &claims(), Algorithm::HS256);
    let body = token.split('.').nth(1).unwrap();
    // {"alg":"none","typ":"JWT"} in base64url
    format!("eyJhbGciOiJub25lIiwidHlwIjoiSldUIn0.{body}.")
}

#[tokio::test]
async fn a_bad_token_is_told_apart_on_both_ways_in() {
    let service = Service::start().await;
    service.open_demo("headcount").await;
    service.open_demo("slope-plan").await;
    let with = |name: &str, value: Value| {
        let mut claims = claims();
        claims[name] = value;
        signed(&service.key, &claims, Algorithm::HS256)
    };
    let without = |name: &str| {
        let mut claims = claims();
        claims.as_object_mut().unwrap().remove(name);
        signed(&service.key, &claims, Algorithm::HS256)
    };
    let table = [
        (
            "foreign signature",
            signed("another key of at least 32 characters", &claims(), Algorithm::HS256),
            "bad-token",
        ),
        ("another algorithm", signed(&service.key, &claims(), Algorithm::HS384), "bad-token"),
        ("alg none", unsigned(&service), "bad-token"),
        ("expired", with("exp", json!(1_000)), "expired-token"),
        ("another session", service.token("slope-plan", "oda", "picker").await, "bad-token"),
        ("another audience", with("aud", json!("elsewhere")), "bad-token"),
        ("no end", without("exp"), "bad-token"),
        ("no audience", without("aud"), "bad-token"),
        ("a role that is none", with("role", json!("gardener")), "bad-token"),
        ("the backend's role", with("role", json!("service")), "bad-token"),
        ("the backend's id", with("sub", json!("service")), "bad-token"),
        ("a control character in the name", with("name", json!("O\u{7}da")), "malformed"),
        ("no token at all", "mist".to_owned(), "bad-token"),
    ];
    for (what, token, kind) in &table {
        let mut raw = Raw::connect(&service, "headcount").await;
        raw.send(&json!({ "type": "enter", "token": token, "client": raw.client })).await;
        assert_eq!(raw.bye().await.0, *kind, "{what}");
        let request = service.http.get(format!("{}/v1/sessions/headcount/state", service.server)).bearer_auth(token);
        let response = request.send().await.unwrap();
        assert!([400, 401].contains(&response.status().as_u16()), "{what}");
        assert_eq!(name(&response.json().await.unwrap()), *kind, "{what}");
    }
    let mut raw = Raw::connect(&service, "headcount").await;
    raw.send(&json!({ "type": "enter", "client": raw.client })).await;
    assert_eq!(raw.bye().await, ("no-token".to_owned(), 4027));
    let (_, welcome) = Raw::enter(&service, "headcount", &with("name", json!("<b>Oda</b>"))).await;
    assert_eq!(welcome["you"]["name"], "<b>Oda</b>", "a name is text");
}

#[tokio::test]
async fn a_token_that_ends_in_mid_connection_ends_the_connection() {
    let service = Service::start_with(&[("RENDEL_SILENCE_MS", "1000")]).await;
    service.open_demo("headcount").await;
    let answer = service
        .post("/v1/tokens", &json!({ "session": "headcount", "sub": "oda", "role": "participant", "expires_in": 2 }))
        .await;
    let token = answer.json::<Value>().await.unwrap()["token"].as_str().unwrap().to_owned();
    let (mut oda, _) = Raw::enter(&service, "headcount", &token).await;
    assert_eq!(oda.bye().await, ("expired-token".to_owned(), 4029));
}

#[tokio::test]
async fn the_backend_s_calls_need_the_service_key_and_a_token_never_goes_into_a_url() {
    let service = Service::start().await;
    service.open_demo("headcount").await;
    let token = service.token("headcount", "oda", "participant").await;
    for path in ["/v1/sessions", "/v1/charters", "/v1/sessions/headcount"] {
        let url = format!("{}{path}", service.server);
        assert_eq!(service.http.get(&url).bearer_auth(&token).send().await.unwrap().status(), 403, "{path}");
        assert_eq!(service.http.get(&url).bearer_auth("k".repeat(64)).send().await.unwrap().status(), 401, "{path}");
        assert_eq!(service.http.get(&url).send().await.unwrap().status(), 401, "{path}");
        assert_eq!(service.get(path).await.status(), 200, "{path}");
    }
    let leaked =
        service.http.get(format!("{}/v1/sessions/headcount/state?token={token}", service.server)).send().await.unwrap();
    assert_eq!(leaked.status(), 401);
    assert!(!service.log().contains(&token));
    for (body, status) in [
        (json!({ "session": "headcount", "sub": "oda", "role": "gardener" }), 422),
        (json!({ "session": "headcount", "sub": "oda", "role": "participant", "expires_in": 0 }), 422),
        (json!({ "session": "nowhere", "sub": "oda", "role": "participant" }), 404),
        (json!({ "session": "headcount", "sub": "", "role": "participant" }), 400),
    ] {
        assert_eq!(service.post("/v1/tokens", &body).await.status(), status, "{body}");
    }
}

#[tokio::test]
async fn a_page_of_a_foreign_origin_cannot_connect() {
    use tokio_tungstenite::tungstenite::client::IntoClientRequest as _;
    let service = Service::start_with(&[("RENDEL_ORIGINS", "[\"https://hollin-brook.example\"]")]).await;
    service.open_demo("headcount").await;
    let own = service.server.clone();
    for (origin, gets_in) in
        [("https://elsewhere.example", false), ("https://hollin-brook.example", true), (own.as_str(), true)]
    {
        let address = format!("{}/v1/sessions/headcount/connect", service.server.replace("http", "ws"));
        let mut request = address.into_client_request().unwrap();
        request.headers_mut().insert("Origin", origin.parse().unwrap());
        request.headers_mut().insert("Sec-WebSocket-Protocol", "rendel.v1.json".parse().unwrap());
        assert_eq!(tokio_tungstenite::connect_async(request).await.is_ok(), gets_in, "{origin}");
    }
}
