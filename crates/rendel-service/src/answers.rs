//! The bytes of answers that are being made or have not been read yet.
//!
//! A client that does not read its answer keeps it in memory for as long as the connection lives. So
//! the bytes of answers are counted for each participant, for each address and in total, from before
//! an answer is made until its last part has gone to the socket. An answer beyond a bound is refused
//! as `too-fast` before it costs anything. Cost: two look-ups per answer.

use std::collections::HashMap;
use std::convert::Infallible;
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};

use actix_web::HttpRequest;
use actix_web::body::{BodySize, MessageBody};
use actix_web::web::Bytes;
use parking_lot::Mutex;
use rendel_core::{Problem, ProblemKind};

use crate::addresses::{address_of, network};
use crate::config::{AnswerBytes, Config};
use crate::identity::Identity;
use crate::metrics::Metrics;

/// An answer up to this size is not counted: a socket's buffers hold as much.
pub(crate) const SMALL: u64 = 64 << 10;
/// Bytes that go to a socket at a time. What the socket does not take stays shared until it does.
const CHUNK: usize = 32 << 10;
/// How long a refused caller is asked to wait, in milliseconds.
const WAIT_MS: u64 = 1_000;

/// What all answers hold.
#[derive(Debug)]
pub(crate) struct Answers {
    bounds: AnswerBytes,
    trust_forwarded: bool,
    held: Arc<Mutex<Counts>>,
}

#[derive(Debug, Default)]
struct Counts {
    all: u64,
    each: HashMap<Holder, u64>,
}

#[derive(Clone, Debug, PartialEq, Eq, Hash)]
enum Holder {
    Address(String),
    Participant(String),
}

/// What one answer holds, until it is dropped.
#[derive(Debug)]
pub(crate) struct Held {
    bytes: u64,
    holders: Vec<Holder>,
    counts: Arc<Mutex<Counts>>,
}

impl Answers {
    pub(crate) fn new(config: &Config) -> Self {
        let trust_forwarded = config.trust_forwarded;
        Self { bounds: config.answer_bytes, trust_forwarded, held: Arc::default() }
    }

    /// Counts the bytes that an answer to a call in a session will hold at most.
    pub(crate) fn hold(
        &self,
        request: &HttpRequest,
        session: &str,
        who: &Identity,
        bytes: u64,
        metrics: &Metrics,
    ) -> Result<Held, Problem> {
        // The backend has no bound of its own.
        let holders = match who.until {
            None => Vec::new(),
            Some(_) => {
                vec![Holder::Participant(format!("{session}\n{}", who.id)), self.address(request)]
            }
        };
        self.take(holders, bytes, metrics)
    }

    /// Counts an answer that was made already, for the address of its request.
    pub(crate) fn hold_made(
        &self,
        request: &HttpRequest,
        is_backend: bool,
        bytes: u64,
        metrics: &Metrics,
    ) -> Result<Held, Problem> {
        let holders = if is_backend { Vec::new() } else { vec![self.address(request)] };
        self.take(holders, bytes, metrics)
    }

    fn address(&self, request: &HttpRequest) -> Holder {
        Holder::Address(network(&address_of(request, self.trust_forwarded)))
    }

    fn take(&self, holders: Vec<Holder>, bytes: u64, metrics: &Metrics) -> Result<Held, Problem> {
        let mut counts = self.held.lock();
        let over = |held: u64, most: u64| held > 0 && held.saturating_add(bytes) > most;
        let of_holder = holders.iter().find_map(|holder| {
            let (limit, most) = match holder {
                Holder::Address(_) => ("answer-bytes-per-address", self.bounds.address),
                Holder::Participant(_) => ("answer-bytes-per-participant", self.bounds.participant),
            };
            let held = counts.each.get(holder).copied().unwrap_or(0);
            over(held, most).then_some(limit)
        });
        let limit = of_holder.or(over(counts.all, self.bounds.all).then_some("answer-bytes"));
        if let Some(limit) = limit {
            let detail = format!(
                "Too many answers have not been read yet: {limit} is reached. Read them, or close \
                 their connections, and try again."
            );
            let problem = Problem::new(ProblemKind::TooFast, detail);
            let problem = problem.with("wait_ms", WAIT_MS).with("limit", limit);
            metrics.count(&problem);
            return Err(problem);
        }
        counts.add(&holders, bytes);
        Ok(Held { bytes, holders, counts: self.held.clone() })
    }

    #[cfg(test)]
    fn all(&self) -> u64 {
        self.held.lock().all
    }
}

impl Held {
    /// The answer turned out to hold so many bytes.
    pub(crate) fn resize(&mut self, bytes: u64) {
        let mut counts = self.counts.lock();
        counts.release(&self.holders, self.bytes);
        counts.add(&self.holders, bytes);
        self.bytes = bytes;
    }
}

impl Counts {
    fn add(&mut self, holders: &[Holder], bytes: u64) {
        self.all += bytes;
        for holder in holders {
            *self.each.entry(holder.clone()).or_default() += bytes;
        }
    }

    fn release(&mut self, holders: &[Holder], bytes: u64) {
        self.all = self.all.saturating_sub(bytes);
        for holder in holders {
            if let Some(held) = self.each.get_mut(holder) {
                *held = held.saturating_sub(bytes);
                if *held == 0 {
                    self.each.remove(holder);
                }
            }
        }
    }
}

impl Drop for Held {
    fn drop(&mut self) {
        self.counts.lock().release(&self.holders, self.bytes);
    }
}

/// A whole answer that goes to its socket in parts, so that it counts until the last is taken.
#[derive(Debug)]
pub(crate) struct Parts {
    rest: Bytes,
    _held: Held,
}

impl Parts {
    pub(crate) fn new(answer: Bytes, mut held: Held) -> Self {
        held.resize(answer.len() as u64);
        Self { rest: answer, _held: held }
    }
}

impl MessageBody for Parts {
    type Error = Infallible;

    fn size(&self) -> BodySize {
        BodySize::Sized(self.rest.len() as u64)
    }

    fn poll_next(
        mut self: Pin<&mut Self>,
        _: &mut Context<'_>,
    ) -> Poll<Option<Result<Bytes, Infallible>>> {
        let next = self.rest.len().min(CHUNK);
        Poll::Ready((next > 0).then(|| Ok(self.rest.split_to(next))))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::token::ServiceKey;

    #[test]
    fn what_is_not_read_is_bounded_for_each_and_in_all_and_counts_until_it_is() {
        let listen = std::net::SocketAddr::from(([127, 0, 0, 1], 0));
        let mut config = Config::new(listen, String::new(), ServiceKey::generate());
        config.answer_bytes = AnswerBytes { participant: 100, address: 150, all: 300 };
        let (answers, metrics) = (Answers::new(&config), Metrics::new());
        let hold = |address: &str, who: &str, bytes| {
            let holders = vec![Holder::Participant(who.into()), Holder::Address(address.into())];
            answers.take(holders, bytes, &metrics)
        };
        let limit = |refused: Result<Held, Problem>| {
            let problem = refused.unwrap_err();
            assert_eq!(problem.kind(), ProblemKind::TooFast);
            problem.member("limit").and_then(|limit| limit.as_str().map(str::to_owned)).unwrap()
        };
        let mut first = hold("a", "oda", 60).unwrap();
        assert_eq!(limit(hold("a", "oda", 41)), "answer-bytes-per-participant");
        first.resize(20);
        let _second = hold("a", "oda", 80).unwrap();
        assert_eq!(limit(hold("a", "bram", 51)), "answer-bytes-per-address");
        // One answer is never refused for its size alone.
        let large = hold("b", "wren", 190).unwrap();
        assert_eq!(limit(hold("c", "ishaan", 11)), "answer-bytes");
        drop(large);
        hold("c", "ishaan", 11).unwrap();
        assert_eq!(answers.all(), 100);
        let mut body = Parts::new(Bytes::from(vec![7; 70_000]), first);
        let mut waker = Context::from_waker(std::task::Waker::noop());
        let mut taken = 0;
        while let Poll::Ready(Some(Ok(part))) = Pin::new(&mut body).poll_next(&mut waker) {
            assert!(part.len() <= CHUNK);
            taken += part.len();
        }
        assert_eq!(taken, 70_000);
        drop(body);
        assert_eq!(answers.all(), 80);
    }
}
