//! A way to the service that loses, holds up and stalls what goes through it.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::Duration;

use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::net::tcp::{OwnedReadHalf, OwnedWriteHalf};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::watch;

/// Passes TCP connections on. Each connection is delayed by another time, so that an old one and
/// the one that replaces it may come in the other order.
pub(crate) struct Proxy {
    pub(crate) server: String,
    rules: Arc<Rules>,
    cut: watch::Sender<u64>,
}

#[derive(Default)]
struct Rules {
    /// Up to so many milliseconds pass between a byte's coming and its going.
    delay: AtomicU64,
    /// Nothing is passed on, and nobody is told: as behind a router that was switched off.
    holds_requests: AtomicBool,
    holds_answers: AtomicBool,
    /// How often something was held up.
    held: AtomicU64,
    /// Bytes a second that go to the client; 0 for as many as come.
    rate: AtomicU64,
}

impl Proxy {
    pub(crate) async fn before(server: &str) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let to = server.strip_prefix("http://").unwrap().to_owned();
        let server = format!("http://{}", listener.local_addr().unwrap());
        let (rules, (cut, cuts)) = (Arc::new(Rules::default()), watch::channel(0));
        let passing = rules.clone();
        tokio::spawn(async move {
            while let Ok((client, _)) = listener.accept().await {
                tokio::spawn(pass(client, to.clone(), passing.clone(), cuts.clone()));
            }
        });
        Self { server, rules, cut }
    }

    /// Cuts every connection that is open.
    pub(crate) fn cut(&self) {
        self.cut.send_modify(|cuts| *cuts += 1);
    }

    pub(crate) fn stall(&self, is_stalled: bool) {
        self.hold_requests(is_stalled);
        self.hold_answers(is_stalled);
    }

    /// Nothing goes to the server.
    pub(crate) fn hold_requests(&self, is_held: bool) {
        self.rules.holds_requests.store(is_held, Ordering::Relaxed);
    }

    /// Nothing comes from the server, which does what it was asked.
    pub(crate) fn hold_answers(&self, is_held: bool) {
        self.rules.holds_answers.store(is_held, Ordering::Relaxed);
    }

    /// Whether something is or was held up.
    pub(crate) fn has_held(&self) -> bool {
        self.rules.held.load(Ordering::Relaxed) > 0
    }

    pub(crate) fn delay(&self, up_to: Duration) {
        self.rules.delay.store(u64::try_from(up_to.as_millis()).unwrap(), Ordering::Relaxed);
    }

    pub(crate) fn read_at(&self, bytes_per_second: u64) {
        self.rules.rate.store(bytes_per_second, Ordering::Relaxed);
    }
}

async fn pass(client: TcpStream, to: String, rules: Arc<Rules>, mut cuts: watch::Receiver<u64>) {
    cuts.mark_unchanged();
    let Ok(service) = TcpStream::connect(to).await else { return };
    let (client, service) = (client.into_split(), service.into_split());
    tokio::select! {
        () = copy(client.0, service.1, &rules, false) => {}
        () = copy(service.0, client.1, &rules, true) => {}
        _ = cuts.changed() => {}
    }
}

async fn copy(mut from: OwnedReadHalf, mut to: OwnedWriteHalf, rules: &Rules, is_to_client: bool) {
    let share = rand::random_range(0.0..1.0);
    let mut buffer = vec![0; 4_096];
    loop {
        let rate = rules.rate.load(Ordering::Relaxed);
        let is_slow = is_to_client && rate > 0;
        let most =
            if is_slow { usize::try_from(rate / 10).unwrap().clamp(1, 4_096) } else { 4_096 };
        let Ok(read @ 1..) = from.read(&mut buffer[..most]).await else { return };
        let delay =
            rules.delay.load(Ordering::Relaxed) as f64 * share * rand::random_range(0.5..1.0);
        let beat = Duration::from_millis(if is_slow { 100 } else { 0 });
        tokio::time::sleep(beat + Duration::from_secs_f64(delay / 1_000.0)).await;
        let held = if is_to_client { &rules.holds_answers } else { &rules.holds_requests };
        if held.load(Ordering::Relaxed) {
            rules.held.fetch_add(1, Ordering::Relaxed);
        }
        while held.load(Ordering::Relaxed) {
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
        if to.write_all(&buffer[..read]).await.is_err() {
            return;
        }
    }
}
