//! Who gets in, and who does not.

use futures_util::{SinkExt as _, StreamExt as _};
use jsonwebtoken::{Algorithm, EncodingKey, Header, encode};
use serde_json::{Value, json};
use tokio_tungstenite::tungstenite::Message;

use crate::harness::{Raw, Service, name, until};

/// As far off as the end of a token may be, or nearly so.
fn far() -> u64 {
    let now = std::time::UNIX_EPOCH.elapsed().unwrap().as_secs();
    now + 29 * 86_400
}

fn claims() -> Value {
    json!({ "aud": "rendel", "sub": "oda", "role": "participant", "session": "headcount", "exp": far() })
}

fn signed(key: &str, claims: &Value, algorithm: Algorithm) -> String {
    encode(&Header::new(algorithm), claims, &EncodingKey::from_secret(key.as_bytes())).unwrap()
}

/// The same claims under `alg: none`, as an attacker would write them.
fn unsigned(service: &Service) -> String {
    let token = signed(&service.signing_key(), &claims(), Algorithm::HS256);
    let body = token.split('.').nth(1).unwrap();
    // {"alg":"none","typ":"JWT"} in base64url
    format!("eyJhbGciOiJub25lIiwidHlwIjoiSldUIn0.{body}.")
}

#[tokio::test]
async fn what_a_token_says_beside_its_role_is_there_for_the_charter_s_conditions() {
    let service = Service::start().await;
    let charter = "charter = \"beds\"\nversion = 1\n[roles.picker]\n\
        edit = [{ at = \"/beds/*/crates\", if = \"id in who.claims.beds\" }]\n[state.beds]\n\
        kind = \"map\"\n[state.beds.each.crates]\nkind = \"counter\"\n";
    service.publish(charter).await;
    service.open("beds", json!({ "beds": { "north": {}, "south": {} } })).await;
    let token = |beds: Value| {
        let mut claims = claims();
        claims["session"] = json!("beds");
        claims["role"] = json!("picker");
        claims["claims"] = json!({ "beds": beds });
        signed(&service.signing_key(), &claims, Algorithm::HS256)
    };
    let add = |bed: &str| json!([{ "at": format!("/beds/{bed}/crates"), "op": "add", "by": 1 }]);
    let (mut oda, _) = Raw::enter(&service, "beds", &token(json!(["north"]))).await;
    oda.propose(add("north")).await;
    oda.answer().await.unwrap();
    oda.propose(add("south")).await;
    assert_eq!(name(&oda.answer().await.unwrap_err()), "not-allowed");
    // A new token may say something else; a call is bound by its own.
    oda.send(&json!({ "type": "renew", "n": 1, "token": token(json!(["south"])) })).await;
    oda.next("answer").await;
    oda.propose(add("south")).await;
    oda.answer().await.unwrap();
    let call = async |token: String| {
        let url = format!("{}/v1/sessions/beds/proposals", service.server);
        let body = json!({ "edits": add("north") });
        service.http.post(url).bearer_auth(token).json(&body).send().await.unwrap().status()
    };
    assert_eq!(call(token(json!(["north"]))).await, 200);
    assert_eq!(call(token(json!([]))).await, 403);
    assert_eq!(call(token(json!(["x".repeat(2_000)]))).await, 401);
}

#[tokio::test]
async fn a_bad_token_is_told_apart_on_both_ways_in() {
    let service = Service::start().await;
    service.open_demo("headcount").await;
    service.open_demo("slope-plan").await;
    let with = |name: &str, value: Value| {
        let mut claims = claims();
        claims[name] = value;
        signed(&service.signing_key(), &claims, Algorithm::HS256)
    };
    let without = |name: &str| {
        let mut claims = claims();
        claims.as_object_mut().unwrap().remove(name);
        signed(&service.signing_key(), &claims, Algorithm::HS256)
    };
    let table = [
        (
            "foreign signature",
            signed("another key of at least 32 characters", &claims(), Algorithm::HS256),
            "bad-token",
        ),
        (
            "another algorithm",
            signed(&service.signing_key(), &claims(), Algorithm::HS384),
            "bad-token",
        ),
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
        let request = service
            .http
            .get(format!("{}/v1/sessions/headcount/state", service.server))
            .bearer_auth(token);
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
        assert_eq!(
            service.http.get(&url).bearer_auth(&token).send().await.unwrap().status(),
            403,
            "{path}"
        );
        assert_eq!(
            service.http.get(&url).bearer_auth("k".repeat(64)).send().await.unwrap().status(),
            401,
            "{path}"
        );
        assert_eq!(service.http.get(&url).send().await.unwrap().status(), 401, "{path}");
        assert_eq!(service.get(path).await.status(), 200, "{path}");
    }
    let leaked = service
        .http
        .get(format!("{}/v1/sessions/headcount/state?token={token}", service.server))
        .send()
        .await
        .unwrap();
    assert_eq!(leaked.status(), 401);
    assert!(!service.log().contains(&token));
    for (body, status) in [
        (json!({ "session": "headcount", "sub": "oda", "role": "gardener" }), 422),
        (
            json!({ "session": "headcount", "sub": "oda", "role": "participant", "expires_in": 0 }),
            422,
        ),
        (json!({ "session": "nowhere", "sub": "oda", "role": "participant" }), 404),
        (json!({ "session": "headcount", "sub": "", "role": "participant" }), 400),
    ] {
        assert_eq!(service.post("/v1/tokens", &body).await.status(), status, "{body}");
    }
}

#[tokio::test]
async fn a_page_of_a_foreign_origin_cannot_connect() {
    use tokio_tungstenite::tungstenite::client::IntoClientRequest as _;
    let service =
        Service::start_with(&[("RENDEL_ORIGINS", "[\"https://hollin-brook.example\"]")]).await;
    service.open_demo("headcount").await;
    let own = service.server.clone();
    let token = service.token("headcount", "oda", "participant").await;
    for (origin, gets_in) in [
        ("https://elsewhere.example", false),
        ("https://hollin-brook.example", true),
        // The database is a private one on loopback: the service is for somebody who tries it here.
        ("http://localhost:5173", true),
        (own.as_str(), true),
    ] {
        let address =
            format!("{}/v1/sessions/headcount/connect", service.server.replace("http", "ws"));
        let mut request = address.into_client_request().unwrap();
        request.headers_mut().insert("Origin", origin.parse().unwrap());
        request.headers_mut().insert("Sec-WebSocket-Protocol", "rendel.v1.json".parse().unwrap());
        let (mut socket, _) = tokio_tungstenite::connect_async(request).await.unwrap();
        let enter = json!({ "type": "enter", "token": token, "client": uuid::Uuid::now_v7() });
        let _ = socket.send(Message::text(enter.to_string())).await;
        let first = socket.next().await.unwrap().unwrap();
        let first: Value = serde_json::from_str(first.to_text().unwrap()).unwrap();
        if gets_in {
            assert_eq!(first["type"], "welcome", "{origin}");
            continue;
        }
        // A page cannot read a handshake that fails, so the sentence comes as a frame.
        assert_eq!(
            (&first["type"], name(&first["problem"])),
            (&json!("bye"), "not-allowed".into())
        );
        assert!(
            first["problem"]["detail"].as_str().unwrap().contains("--origin https://elsewhere")
        );
        let close = socket.next().await.unwrap().unwrap();
        assert!(matches!(close, Message::Close(Some(frame)) if u16::from(frame.code) == 4017));
    }
}

/// An Ed25519 key pair: what signs, and the `x` of its JWK.
fn ed25519() -> (EncodingKey, String) {
    // The seed and the public key of RFC 8037, appendix A, in PKCS #8.
    let seed =
        hex::decode("9d61b19deffd5a60ba844af492ec2cc44449c5697b326919703bac031cae7f60").unwrap();
    let head = hex::decode("302e020100300506032b657004220420").unwrap();
    (
        EncodingKey::from_ed_der(&[head, seed].concat()),
        "11qYAYKxCrfVS_7TyWQHOg7hcvPapiMlrwIaaPcHURo".to_owned(),
    )
}

fn with_kid(algorithm: Algorithm, kid: &str, key: &EncodingKey) -> String {
    let header = Header { kid: Some(kid.to_owned()), ..Header::new(algorithm) };
    encode(&header, &claims(), key).unwrap()
}

async fn state_with(service: &Service, token: &str) -> u16 {
    let call = service
        .http
        .get(format!("{}/v1/sessions/headcount/state", service.server))
        .bearer_auth(token);
    call.send().await.unwrap().status().as_u16()
}

#[tokio::test]
async fn keys_take_over_from_one_another_and_an_algorithm_is_its_key_s() {
    let service = Service::start().await;
    service.open_demo("headcount").await;
    let beside = service.beside().await;
    let (ed, x) = ed25519();
    let add = |body: Value| service.request(reqwest::Method::POST, "/v1/keys").json(&body).send();
    assert_eq!(
        add(json!({ "kid": "ed-1", "algorithm": "EdDSA", "public": x })).await.unwrap().status(),
        201
    );
    let secret = "another secret of at least 32 characters";
    assert_eq!(
        add(json!({ "kid": "hs-2", "algorithm": "HS256", "secret": secret }))
            .await
            .unwrap()
            .status(),
        201
    );
    for (body, status) in [
        (json!({ "kid": "ed-1", "algorithm": "EdDSA", "public": x }), 409),
        (json!({ "kid": "ed-2", "algorithm": "EdDSA", "public": "mist" }), 422),
        (json!({ "kid": "hs-3", "algorithm": "HS256", "secret": "short" }), 422),
        (json!({ "kid": "hs-3", "algorithm": "none" }), 422),
        (json!({ "kid": "a b", "algorithm": "HS256", "secret": secret }), 400),
    ] {
        assert_eq!(add(body.clone()).await.unwrap().status(), status, "{body}");
    }
    let good = [
        with_kid(Algorithm::EdDSA, "ed-1", &ed),
        with_kid(Algorithm::HS256, "hs-2", &EncodingKey::from_secret(secret.as_bytes())),
    ];
    for token in &good {
        assert_eq!(state_with(&service, token).await, 200);
        until("the other service knows the key too", async || {
            (state_with(&beside, token).await == 200).then_some(())
        })
        .await;
    }
    // A public key is no secret: what is signed with it as one is worth nothing.
    let confused = [
        with_kid(Algorithm::HS256, "ed-1", &EncodingKey::from_secret(x.as_bytes())),
        with_kid(Algorithm::HS256, "ed-1", &EncodingKey::from_secret(service.key.as_bytes())),
        with_kid(Algorithm::EdDSA, "hs-2", &ed),
        with_kid(Algorithm::EdDSA, "nobody", &ed),
        encode(&Header::new(Algorithm::EdDSA), &claims(), &ed).unwrap(),
    ];
    for token in confused {
        assert_eq!(state_with(&service, &token).await, 401);
    }
    let listed = service.get("/v1/keys").await.text().await.unwrap();
    assert!(listed.contains("hs-2") && !listed.contains(secret), "{listed}");
    assert_eq!(
        service.request(reqwest::Method::DELETE, "/v1/keys/ed-1").send().await.unwrap().status(),
        204
    );
    assert_eq!(
        (state_with(&service, &good[0]).await, state_with(&service, &good[1]).await),
        (401, 200)
    );
    until("the other service hears of it", async || {
        (state_with(&beside, &good[0]).await == 401).then_some(())
    })
    .await;
    service.terminate_beside(beside);
}

#[tokio::test]
async fn what_is_revoked_is_disconnected_on_all_ways_in() {
    let service = Service::start().await;
    service.open_demo("headcount").await;
    let beside = service.beside().await;
    let token = service.token("headcount", "oda", "participant").await;
    let other = service.token("headcount", "oda", "participant").await;
    let (mut oda, _) = Raw::enter(&service, "headcount", &token).await;
    let (mut second, _) = Raw::enter(&service, "headcount", &other).await;
    let call = service
        .http
        .get(format!("{}/v1/sessions/headcount/events", service.server))
        .bearer_auth(&token);
    let mut events = call.send().await.unwrap();
    assert_eq!(service.post("/v1/tokens/revoked", &json!({ "token": token })).await.status(), 204);
    assert_eq!(oda.bye().await.0, "bad-token");
    let mut told = String::new();
    while let Ok(Some(chunk)) = events.chunk().await {
        told += &String::from_utf8_lossy(&chunk);
    }
    assert!(told.contains("event: bye") && told.contains("bad-token"), "{told}");
    assert_eq!(
        (state_with(&service, &token).await, state_with(&service, &other).await),
        (401, 200)
    );
    // All that a participant had until now; what is issued afterwards is good.
    assert_eq!(
        service
            .post("/v1/tokens/revoked", &json!({ "session": "headcount", "sub": "oda" }))
            .await
            .status(),
        204
    );
    assert_eq!(second.bye().await.0, "bad-token");
    let new = service.token("headcount", "oda", "participant").await;
    assert_eq!((state_with(&service, &other).await, state_with(&service, &new).await), (401, 200));
    for body in [json!({}), json!({ "sub": "oda" }), json!({ "token": "mist", "sub": "oda" })] {
        assert_eq!(service.post("/v1/tokens/revoked", &body).await.status(), 400, "{body}");
    }
    // It takes the session over as long as it has not heard.
    until("the other service hears of it", async || {
        (state_with(&beside, &token).await == 401).then_some(())
    })
    .await;
    service.terminate_beside(beside);
}

#[tokio::test]
async fn a_token_that_ends_is_renewed_in_place_and_ends_the_connection_otherwise() {
    let service = Service::start().await;
    service.open_demo("headcount").await;
    let short = |sub: &str, seconds: u64| {
        let claims = json!({ "aud": "rendel", "sub": sub, "role": "participant", "session": "headcount", "exp": now() + seconds });
        signed(&service.signing_key(), &claims, Algorithm::HS256)
    };
    let (mut oda, _) = Raw::enter(&service, "headcount", &short("oda", 6)).await;
    let (mut bram, _) = Raw::enter(&service, "headcount", &short("bram", 6)).await;
    for (n, token, kind) in [
        (1, short("bram", 600), Some("bad-token")),
        (2, "mist".to_owned(), Some("bad-token")),
        (3, service.key.clone(), Some("bad-token")),
        (4, short("oda", 600), None),
    ] {
        oda.send(&json!({ "type": "renew", "n": n, "token": token })).await;
        let answer = oda.next("answer").await;
        assert_eq!((&answer["n"], answer.get("problem").map(name).as_deref()), (&json!(n), kind));
    }
    let ends = now() + 4;
    assert_eq!(bram.bye().await.0, "expired-token");
    assert!(now() >= ends, "not before its time");
    // Hers goes on over the same connection.
    oda.propose(json!([{ "at": "/heads", "op": "add", "by": 1 }])).await;
    oda.answer().await.unwrap();
}

#[tokio::test]
async fn an_invitation_lets_as_many_in_as_it_says_and_its_code_is_kept_nowhere() {
    let service = Service::start().await;
    service.open_demo("slope-plan").await;
    let make = |body: Value| {
        service
            .request(reqwest::Method::POST, "/v1/sessions/slope-plan/invitations")
            .json(&body)
            .send()
    };
    assert_eq!(make(json!({ "role": "gardener" })).await.unwrap().status(), 422);
    assert_eq!(make(json!({ "role": "picker", "uses": 0 })).await.unwrap().status(), 422);
    let made: Value = make(json!({ "role": "picker" })).await.unwrap().json().await.unwrap();
    let code = made["code"].as_str().unwrap().to_owned();
    assert_eq!(made["link"], format!("/join#{code}"));
    let accept = |code: &str, name: &str| {
        let body = json!({ "code": code, "name": name });
        service.http.post(format!("{}/v1/invitations/accepted", service.server)).json(&body).send()
    };
    // Of many at the same moment one comes in.
    let tries = futures_util::future::join_all((0..12).map(|_| accept(&code, "Paloma"))).await;
    let mut won = Vec::new();
    for response in tries {
        let response = response.unwrap();
        match response.status().as_u16() {
            201 => won.push(response.json::<Value>().await.unwrap()),
            status => assert_eq!(status, 401),
        }
    }
    assert_eq!(won.len(), 1);
    let (mut paloma, welcome) =
        Raw::enter(&service, "slope-plan", won[0]["token"].as_str().unwrap()).await;
    assert_eq!(
        (&welcome["you"]["name"], &welcome["you"]["role"]),
        (&json!("Paloma"), &json!("picker"))
    );
    paloma.send(&json!({ "type": "leave" })).await;
    let listed = service.get("/v1/sessions/slope-plan/invitations").await.text().await.unwrap();
    assert!(listed.contains("\"used\":1") && !listed.contains(&code), "{listed}");
    // One that is taken back is worth nothing, and neither is one that has ended.
    let made: Value =
        make(json!({ "role": "picker", "uses": 5 })).await.unwrap().json().await.unwrap();
    let path = format!("/v1/sessions/slope-plan/invitations/{}", made["id"].as_str().unwrap());
    assert_eq!(service.request(reqwest::Method::DELETE, &path).send().await.unwrap().status(), 204);
    assert_eq!(accept(made["code"].as_str().unwrap(), "Bram").await.unwrap().status(), 401);
    assert_eq!(accept("0123", "Bram").await.unwrap().status(), 401);
    assert_eq!(accept(&code, "B\u{7}").await.unwrap().status(), 400);
    let output = service.rendel(&["invitation", "make", "slope-plan", "--as", "viewer"]);
    assert!(String::from_utf8(output.stdout).unwrap().contains("/join#"));
}

#[tokio::test]
async fn guests_have_made_up_names_come_back_as_themselves_and_are_bounded_by_address() {
    let service = Service::start_with(&[("RENDEL_GUESTS_PER_ADDRESS", "20")]).await;
    service.open_demo("slope-plan").await;
    service.open_demo("headcount").await;
    let mut closed = Raw::connect(&service, "headcount").await;
    closed.send(&json!({ "type": "enter", "client": closed.client })).await;
    assert_eq!(closed.bye().await.0, "no-token", "this charter lets no guests in");
    let guest = async |token: Option<&str>| {
        let mut raw = Raw::connect(&service, "slope-plan").await;
        let mut enter = json!({ "type": "enter", "client": raw.client });
        if let Some(token) = token {
            enter["token"] = token.into();
        }
        raw.send(&enter).await;
        let frame = raw.any().await.unwrap();
        (raw, frame)
    };
    let (first, welcome) = guest(None).await;
    let you = &welcome["you"];
    assert_eq!(
        (&you["role"], you["name"].as_str().unwrap().split(' ').count()),
        (&json!("viewer"), 2)
    );
    let token = welcome["token"].as_str().unwrap().to_owned();
    drop(first);
    let (_again, welcome) = guest(Some(&token)).await;
    assert_eq!(
        (&welcome["you"]["id"], &welcome["you"]["name"], welcome.get("token")),
        (&you["id"], &you["name"], None)
    );
    let mut inside = Vec::new();
    let mut refused = 0;
    for _ in 0..200 {
        let (raw, frame) = guest(None).await;
        if frame["type"] == "welcome" {
            inside.push(raw);
        } else {
            assert_eq!(
                (name(&frame["problem"]), &frame["problem"]["limit"]),
                ("crowded".to_owned(), &json!("guests_per_address"))
            );
            refused += 1;
        }
    }
    assert!(inside.len() <= 20 && refused >= 180, "{} inside, {refused} refused", inside.len());
    let oda = service.token("slope-plan", "oda", "picker").await;
    Raw::enter(&service, "slope-plan", &oda).await;
}

#[tokio::test]
async fn the_console_s_cookie_alone_changes_nothing_and_no_token_is_ever_in_a_log() {
    let service = Service::start_with(&[("RENDEL_LOG", "debug")]).await;
    service.open_demo("headcount").await;
    let wrong = service
        .http
        .post(format!("{}/v1/console/sign-in", service.server))
        .json(&json!({ "key": "mist" }))
        .send()
        .await
        .unwrap();
    assert_eq!((wrong.status().as_u16(), wrong.headers().get("Set-Cookie").is_none()), (401, true));
    let signed = service
        .http
        .post(format!("{}/v1/console/sign-in", service.server))
        .json(&json!({ "key": service.key }))
        .send()
        .await
        .unwrap();
    let cookie = signed.headers()["Set-Cookie"].to_str().unwrap().to_owned();
    for part in ["HttpOnly", "SameSite=Strict", "Path=/v1"] {
        assert!(cookie.contains(part), "{cookie}");
    }
    let cookie = cookie.split(';').next().unwrap().to_owned();
    let secret = signed.json::<Value>().await.unwrap()["secret"].as_str().unwrap().to_owned();
    let call = |method: reqwest::Method, path: &str| {
        service.http.request(method, format!("{}{path}", service.server)).header("Cookie", &cookie)
    };
    assert_eq!(call(reqwest::Method::GET, "/v1/sessions").send().await.unwrap().status(), 200);
    // A page of another origin sends the cookie at most, and cannot know the secret.
    let freeze = || call(reqwest::Method::POST, "/v1/sessions/headcount/freeze");
    assert_eq!(freeze().send().await.unwrap().status(), 403);
    assert_eq!(
        freeze()
            .header("X-Rendel-Console", "0".repeat(64))
            .header("Origin", "https://elsewhere.example")
            .send()
            .await
            .unwrap()
            .status(),
        403
    );
    assert_eq!(freeze().header("X-Rendel-Console", &secret).send().await.unwrap().status(), 200);
    // It is no way into a connection, and is gone after signing out.
    let mut raw = Raw::connect(&service, "headcount").await;
    raw.send(&json!({ "type": "enter", "client": raw.client })).await;
    assert_eq!(raw.bye().await.0, "no-token");
    assert_eq!(
        call(reqwest::Method::POST, "/v1/console/sign-out")
            .header("X-Rendel-Console", &secret)
            .send()
            .await
            .unwrap()
            .status(),
        204
    );
    assert_eq!(call(reqwest::Method::GET, "/v1/sessions").send().await.unwrap().status(), 401);

    let token = service.token("headcount", "oda", "participant").await;
    let told = service
        .http
        .get(format!("{}/v1/sessions/headcount/state?token={token}", service.server))
        .send()
        .await
        .unwrap();
    assert_eq!(told.status(), 401);
    let (mut oda, _) = Raw::enter(&service, "headcount", &token).await;
    oda.send(&json!({ "type": "renew", "n": 1, "token": token })).await;
    oda.next("answer").await;
    let log = service.log();
    for hidden in [&token, &service.key, &secret] {
        assert!(!log.contains(hidden.as_str()), "the log has a secret");
    }
}

fn now() -> u64 {
    std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_secs()
}

#[tokio::test]
async fn whoever_entered_by_a_key_that_is_retired_is_disconnected_and_nobody_else() {
    let service = Service::start().await;
    service.open_demo("headcount").await;
    let secret = "the-second-secret-of-the-orchard-gate";
    let key = json!({ "kid": "gate", "algorithm": "HS256", "secret": secret });
    assert_eq!(service.post("/v1/keys", &key).await.status(), 201);
    let by_key = with_kid(Algorithm::HS256, "gate", &EncodingKey::from_secret(secret.as_bytes()));
    let (mut oda, _) = Raw::enter(&service, "headcount", &by_key).await;
    let own = service.token("headcount", "bram", "participant").await;
    let (mut bram, _) = Raw::enter(&service, "headcount", &own).await;
    let retired = service.request(reqwest::Method::DELETE, "/v1/keys/gate").send().await.unwrap();
    assert_eq!(retired.status(), 204);
    assert_eq!(oda.bye().await.0, "bad-token");
    bram.propose(json!([{ "at": "/heads", "op": "add", "by": 1 }])).await;
    bram.answer().await.expect("they stay");
}
