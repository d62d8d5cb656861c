//! A proxy that lets no WebSocket through, as some in offices do.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _, copy_bidirectional};
use tokio::net::{TcpListener, TcpStream};

/// Passes on what is no WebSocket, and answers the others with an error until it is told to pass
/// all.
pub(crate) struct Blocking {
    pub(crate) server: String,
    passes: Arc<AtomicBool>,
}

impl Blocking {
    pub(crate) async fn before(server: &str) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let to = server.strip_prefix("http://").unwrap().to_owned();
        let server = format!("http://{}", listener.local_addr().unwrap());
        let passes = Arc::new(AtomicBool::new(false));
        let passing = passes.clone();
        tokio::spawn(async move {
            while let Ok((client, _)) = listener.accept().await {
                tokio::spawn(pass(client, to.clone(), passing.clone()));
            }
        });
        Self { server, passes }
    }

    pub(crate) fn pass_all(&self) {
        self.passes.store(true, Ordering::Relaxed);
    }
}

async fn pass(mut client: TcpStream, to: String, passes: Arc<AtomicBool>) {
    let mut head = Vec::new();
    // A browser opens a connection of its own for each WebSocket.
    while !head.windows(4).any(|end| end == b"\r\n\r\n") {
        let mut part = [0; 4_096];
        match client.read(&mut part).await {
            Ok(count) if count > 0 => head.extend_from_slice(&part[..count]),
            _ => return,
        }
    }
    let text = String::from_utf8_lossy(&head).to_lowercase();
    if text.contains("upgrade: websocket") && !passes.load(Ordering::Relaxed) {
        let answer = b"HTTP/1.1 403 Forbidden\r\ncontent-length: 0\r\nconnection: close\r\n\r\n";
        let _ = client.write_all(answer).await;
        return;
    }
    let Ok(mut server) = TcpStream::connect(to).await else { return };
    if server.write_all(&head).await.is_ok() {
        let _ = copy_bidirectional(&mut client, &mut server).await;
    }
}
