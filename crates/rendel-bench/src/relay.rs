//! A bare relay: the same web framework, one message per frame, no order, no state, no disk.

use std::collections::BTreeMap;
use std::sync::Arc;

use actix_web::{App, HttpRequest, HttpResponse, HttpServer, rt, web};
use actix_ws::AggregatedMessage;
use anyhow::Result;
use bytestring::ByteString;
use parking_lot::Mutex;
use tokio::sync::mpsc;

/// Who listens, by session.
type Sessions = Arc<Mutex<BTreeMap<String, Vec<mpsc::UnboundedSender<ByteString>>>>>;

pub(crate) fn run(port: u16) -> Result<()> {
    let sessions = Sessions::default();
    let serve = async move {
        HttpServer::new(move || {
            App::new()
                .app_data(web::Data::new(sessions.clone()))
                .route("/v1/sessions/{session}/connect", web::get().to(connect))
                .route("/readyz", web::get().to(HttpResponse::Ok))
        })
        .tcp_nodelay(true)
        .bind(("127.0.0.1", port))?
        .run()
        .await
    };
    Ok(rt::System::new().block_on(serve)?)
}

async fn connect(
    request: HttpRequest,
    body: web::Payload,
    session: web::Path<String>,
    sessions: web::Data<Sessions>,
) -> Result<HttpResponse, actix_web::Error> {
    let (response, mut socket, messages) =
        actix_ws::handle_with_protocols(&request, body, &["rendel.v1.json"])?;
    let mut messages = messages.aggregate_continuations();
    let (queue, mut waiting) = mpsc::unbounded_channel();
    // A session of that name answers the first word with so many bytes from memory.
    let bytes = session.strip_prefix("bytes-").and_then(|bytes| bytes.parse::<usize>().ok());
    if let Some(bytes) = bytes {
        let text = held(bytes);
        rt::spawn(async move {
            // Who went away before it came needs none of it.
            if messages.recv().await.is_some() && socket.text(text).await.is_ok() {
                let _ = messages.recv().await;
            }
        });
        return Ok(response);
    }
    sessions.lock().entry(session.clone()).or_default().push(queue);
    rt::spawn(async move {
        loop {
            tokio::select! {
                Some(text) = waiting.recv() => {
                    if socket.text(text).await.is_err() {
                        return;
                    }
                }
                message = messages.recv() => match message {
                    Some(Ok(AggregatedMessage::Text(text))) => {
                        let mut sessions = sessions.lock();
                        if let Some(queues) = sessions.get_mut(&*session) {
                            queues.retain(|queue| queue.send(text.clone()).is_ok());
                        }
                    }
                    Some(Ok(_)) => {}
                    Some(Err(_)) | None => return,
                },
            }
        }
    });
    Ok(response)
}

/// So many bytes, made once.
fn held(bytes: usize) -> ByteString {
    static HELD: Mutex<ByteString> = Mutex::new(ByteString::new());
    let mut held = HELD.lock();
    if held.len() != bytes {
        *held = "x".repeat(bytes).into();
    }
    held.clone()
}
