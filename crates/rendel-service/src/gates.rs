//! Outside checks over HTTP.
//!
//! A gate gets `{"session", "charter", "by", "role", "client", "n", "edits"}` and answers
//! `{"answer": "accept"}`, `{"answer": "refuse", "says": …}` or `{"answer": "replace", "edits":
//! […]}`. One that does not answer in time, or not like that, is away: then the charter's `if-away`
//! counts. After some failures in a row it is not asked for a while.

use std::collections::{BTreeMap, HashMap};
use std::time::{Duration, Instant};

use parking_lot::Mutex;
use rendel_core::{Edit, Gate, Problem, ProblemKind};
use rendel_session::{Asked, GateVerdict};
use serde::Deserialize;
use uuid::Uuid;

use crate::clock::now_ms;
use crate::metrics::Metrics;
use crate::signature::signature;

/// Failures in a row after which a gate is left alone, and for how long.
const FAILURES: u32 = 5;
const REST: Duration = Duration::from_secs(5);
/// Bytes of an answer.
const ANSWER: usize = 64 << 10;

#[derive(Debug, Deserialize)]
#[serde(tag = "answer", rename_all = "lowercase", deny_unknown_fields)]
enum Answer {
    Accept {},
    Refuse { says: String },
    Replace { edits: Vec<Edit> },
}

/// The gates that this process asks.
#[derive(Debug)]
pub(crate) struct Gates {
    client: reqwest::Client,
    secret: String,
    variables: BTreeMap<String, String>,
    breakers: Mutex<HashMap<String, Breaker>>,
}

#[derive(Clone, Copy, Debug, Default)]
struct Breaker {
    failures: u32,
    rests_until: Option<Instant>,
}

impl Gates {
    pub(crate) fn new(secret: String, variables: BTreeMap<String, String>) -> Self {
        let client = reqwest::Client::builder()
            .redirect(reqwest::redirect::Policy::none())
            .no_proxy()
            .build();
        Self { client: client.unwrap_or_default(), secret, variables, breakers: Mutex::default() }
    }

    /// The address with each `${NAME}` in its place; the name that is not known otherwise.
    pub(crate) fn address(&self, url: &str) -> Result<String, String> {
        let mut address = String::new();
        let mut rest = url;
        while let Some((before, from)) = rest.split_once("${") {
            let (name, after) = from.split_once('}').ok_or_else(|| from.to_owned())?;
            address.push_str(before);
            address.push_str(self.variables.get(name).ok_or_else(|| name.to_owned())?);
            rest = after;
        }
        Ok(address + rest)
    }

    /// Asks a gate, within the time that the charter gives it.
    pub(crate) async fn ask(&self, metrics: &Metrics, gate: &Gate, asked: &Asked) -> GateVerdict {
        let address = match self.address(&gate.url) {
            Ok(address) => address,
            Err(name) => {
                return self.away(
                    metrics,
                    gate,
                    &format!("the configuration has no variable {name:?}"),
                );
            }
        };
        if self.rests(&address) {
            return self.away(metrics, gate, "it failed several times and rests");
        }
        let began = Instant::now();
        let answer = tokio::time::timeout(gate.timeout, self.call(&address, asked)).await;
        metrics.gate_seconds.observe(began.elapsed().as_secs_f64());
        let answer = answer.unwrap_or_else(|_| Err("no answer in time".to_owned()));
        self.count(&address, answer.is_err());
        match answer {
            Ok(Answer::Accept {}) => GateVerdict::Accept,
            Ok(Answer::Replace { edits }) => GateVerdict::Replace(edits),
            Ok(Answer::Refuse { says }) => {
                let says: String = says.chars().filter(|one| !one.is_control()).take(300).collect();
                GateVerdict::Refuse(Problem::new(ProblemKind::Gate, says))
            }
            Err(why) => self.away(metrics, gate, &why),
        }
    }

    async fn call(&self, address: &str, asked: &Asked) -> Result<Answer, String> {
        let body = serde_json::to_string(asked).map_err(|error| error.to_string())?;
        let (id, time) = (Uuid::now_v7().to_string(), now_ms());
        let call = self.client.post(address).header("Content-Type", "application/json");
        let call = call.header("Rendel-Id", &id).header("Rendel-Time", time.to_string());
        let call =
            call.header("Rendel-Signature", signature(&self.secret, &id, time, &body)).body(body);
        let mut response = call.send().await.map_err(|error| error.to_string())?;
        if !response.status().is_success() {
            return Err(format!("it answered {}", response.status()));
        }
        let mut answer = Vec::new();
        while let Some(chunk) = response.chunk().await.map_err(|error| error.to_string())? {
            answer.extend_from_slice(&chunk);
            if answer.len() > ANSWER {
                return Err(format!("its answer has more than {ANSWER} bytes"));
            }
        }
        serde_json::from_slice(&answer)
            .map_err(|error| format!("its answer is not understood: {error}"))
    }

    fn away(&self, metrics: &Metrics, gate: &Gate, why: &str) -> GateVerdict {
        metrics.gates_away.inc();
        tracing::warn!(gate = %gate.at, why, accepts = gate.accepts_if_away, "a gate is away");
        if gate.accepts_if_away {
            return GateVerdict::Accept;
        }
        let detail = "It could not be checked just now, and nothing goes through unchecked. Try \
            again in a moment.";
        GateVerdict::Refuse(Problem::new(ProblemKind::Gate, detail))
    }

    fn rests(&self, address: &str) -> bool {
        self.breakers
            .lock()
            .get(address)
            .and_then(|breaker| breaker.rests_until)
            .is_some_and(|until| until > Instant::now())
    }

    fn count(&self, address: &str, failed: bool) {
        let mut breakers = self.breakers.lock();
        let breaker = breakers.entry(address.to_owned()).or_default();
        *breaker = match failed {
            false => Breaker::default(),
            true => {
                let failures = breaker.failures + 1;
                Breaker {
                    failures,
                    rests_until: (failures >= FAILURES).then(|| Instant::now() + REST),
                }
            }
        };
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_address_has_its_variables_in_their_places() {
        let gates = Gates::new(
            String::new(),
            BTreeMap::from([("GATE".to_owned(), "http://127.0.0.1:1".to_owned())]),
        );
        assert_eq!(gates.address("${GATE}/remarks"), Ok("http://127.0.0.1:1/remarks".to_owned()));
        assert_eq!(gates.address("http://a/b"), Ok("http://a/b".to_owned()));
        assert_eq!(gates.address("${OTHER}/x"), Err("OTHER".to_owned()));
        assert!(gates.address("${GATE").is_err());
    }

    #[test]
    fn a_gate_that_fails_in_a_row_rests() {
        let gates = Gates::new(String::new(), BTreeMap::new());
        (1..FAILURES).for_each(|_| gates.count("a", true));
        gates.count("a", false);
        (1..FAILURES).for_each(|_| gates.count("a", true));
        assert!(!gates.rests("a"), "one answer makes up for what failed before");
        gates.count("a", true);
        assert!(gates.rests("a") && !gates.rests("b"));
    }
}
