//! Outside checks over HTTP.
//!
//! A gate gets `{"session", "charter", "by", "role", "client", "n", "edits"}` and answers
//! `{"answer": "accept"}`, `{"answer": "refuse", "says": …}` or `{"answer": "replace", "edits":
//! […]}`. One that does not answer in time, or not like that, is away: then the charter's `if-away`
//! counts. After some failures in a row it is not asked for a while, in that session: others find out
//! for themselves.
//!
//! Calls are signed as the Standard Webhooks specification says: `webhook-id`, `webhook-timestamp` in
//! seconds, and `webhook-signature`, which is `v1,` and the HMAC-SHA256 in base64.

use std::collections::{BTreeMap, HashMap};
use std::time::{Duration, Instant};

use parking_lot::Mutex;
use rendel_core::{Edit, Gate, Problem, ProblemKind};
use rendel_session::{GateCall, GateVerdict};
use serde::Deserialize;
use standardwebhooks::{
    HEADER_WEBHOOK_ID, HEADER_WEBHOOK_SIGNATURE, HEADER_WEBHOOK_TIMESTAMP, Webhook,
};
use uuid::Uuid;

use crate::clock::now_ms;
use crate::metrics::Metrics;

/// Failures in a row after which a gate is left alone, and for how long.
const FAILURES: u32 = 5;
const REST: Duration = Duration::from_secs(5);
/// Gates that failed and are remembered.
const BREAKERS: usize = 10_000;
/// Bytes of an answer.
const ANSWER: usize = 64 << 10;

#[derive(Debug, Deserialize)]
#[serde(tag = "answer", rename_all = "lowercase", deny_unknown_fields)]
enum Answer {
    Accept {},
    Refuse { says: String },
    Replace { edits: Vec<Edit> },
}

/// What is wrong with a gate.
#[derive(Debug)]
enum Wrong {
    /// It cannot be reached, takes too long or is broken.
    Away(String),
    /// It answers, and its answer is of no use; what is asked may have provoked that.
    Answer(String),
}

struct Signed {
    headers: [(&'static str, String); 3],
    body: String,
}

/// A session and the address of a gate: what happens in one session tells nothing of others.
type Place = (String, String);

/// The gates that this process asks.
pub(crate) struct Gates {
    client: reqwest::Client,
    signer: Webhook,
    variables: BTreeMap<String, String>,
    breakers: Mutex<HashMap<Place, Breaker>>,
}

impl std::fmt::Debug for Gates {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Gates").field("variables", &self.variables).finish_non_exhaustive()
    }
}

#[derive(Clone, Copy, Debug, Default)]
struct Breaker {
    failures: u32,
    rests_until: Option<Instant>,
}

impl Gates {
    pub(crate) fn new(signer: Webhook, variables: BTreeMap<String, String>) -> Self {
        let client = reqwest::Client::builder()
            .redirect(reqwest::redirect::Policy::none())
            .no_proxy()
            // They are called without TLS, which would need certificates to be there.
            .tls_certs_only([])
            .build();
        Self { client: client.unwrap_or_default(), signer, variables, breakers: Mutex::default() }
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
    pub(crate) async fn ask(
        &self,
        metrics: &Metrics,
        gate: &Gate,
        asked: &GateCall,
    ) -> GateVerdict {
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
        let place = (asked.session.clone(), address);
        if self.rests(&place) {
            return self.away(metrics, gate, "it failed several times and rests");
        }
        let began = Instant::now();
        let answer = tokio::time::timeout(gate.timeout, self.call(&place.1, asked)).await;
        metrics.gate_seconds.observe(began.elapsed().as_secs_f64());
        let answer = answer.unwrap_or_else(|_| Err(Wrong::Away("no answer in time".to_owned())));
        self.count(&place, matches!(answer, Err(Wrong::Away(_))));
        match answer {
            Ok(Answer::Accept {}) => GateVerdict::Accept,
            Ok(Answer::Replace { edits }) => GateVerdict::Replace(edits),
            Ok(Answer::Refuse { says }) => {
                let says: String = says.chars().filter(|one| !one.is_control()).take(300).collect();
                GateVerdict::Refuse(Problem::new(ProblemKind::Gate, says))
            }
            Err(Wrong::Away(why) | Wrong::Answer(why)) => self.away(metrics, gate, &why),
        }
    }

    async fn call(&self, address: &str, asked: &GateCall) -> Result<Answer, Wrong> {
        let away = |error: reqwest::Error| Wrong::Away(error.to_string());
        let signed = self.signed(asked).map_err(|error| Wrong::Answer(error.to_string()))?;
        let mut call = self.client.post(address).header("Content-Type", "application/json");
        for (name, value) in signed.headers {
            call = call.header(name, value);
        }
        let mut response = call.body(signed.body).send().await.map_err(away)?;
        let status = response.status();
        if status.is_server_error() {
            return Err(Wrong::Away(format!("it answered {status}")));
        }
        if !status.is_success() {
            return Err(Wrong::Answer(format!("it answered {status}")));
        }
        let mut answer = Vec::new();
        while let Some(chunk) = response.chunk().await.map_err(away)? {
            answer.extend_from_slice(&chunk);
            if answer.len() > ANSWER {
                return Err(Wrong::Answer(format!("its answer has more than {ANSWER} bytes")));
            }
        }
        serde_json::from_slice(&answer)
            .map_err(|error| Wrong::Answer(format!("its answer is not understood: {error}")))
    }

    /// A call with its signature.
    fn signed(&self, asked: &GateCall) -> Result<Signed, Box<dyn std::error::Error + Send + Sync>> {
        let body = serde_json::to_string(asked)?;
        let id = format!("msg_{}", Uuid::now_v7().simple());
        let time = i64::try_from(now_ms() / 1_000)?;
        let signature = self.signer.sign(&id, time, body.as_bytes())?;
        let headers = [
            (HEADER_WEBHOOK_ID, id),
            (HEADER_WEBHOOK_TIMESTAMP, time.to_string()),
            (HEADER_WEBHOOK_SIGNATURE, signature),
        ];
        Ok(Signed { headers, body })
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

    fn rests(&self, place: &Place) -> bool {
        self.breakers
            .lock()
            .get(place)
            .and_then(|breaker| breaker.rests_until)
            .is_some_and(|until| until > Instant::now())
    }

    fn count(&self, place: &Place, failed: bool) {
        let mut breakers = self.breakers.lock();
        if !failed {
            breakers.remove(place);
            return;
        }
        if breakers.len() >= BREAKERS {
            let now = Instant::now();
            breakers.retain(|_, breaker| breaker.rests_until.is_some_and(|until| until > now));
        }
        let breaker = breakers.entry(place.clone()).or_default();
        breaker.failures += 1;
        breaker.rests_until = (breaker.failures >= FAILURES).then(|| Instant::now() + REST);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn signer() -> Webhook {
        Webhook::from_bytes(vec![1; 32]).unwrap()
    }

    #[test]
    fn an_address_has_its_variables_in_their_places() {
        let gates = Gates::new(
            signer(),
            BTreeMap::from([("GATE".to_owned(), "http://127.0.0.1:1".to_owned())]),
        );
        assert_eq!(gates.address("${GATE}/remarks"), Ok("http://127.0.0.1:1/remarks".to_owned()));
        assert_eq!(gates.address("http://a/b"), Ok("http://a/b".to_owned()));
        assert_eq!(gates.address("${OTHER}/x"), Err("OTHER".to_owned()));
        assert!(gates.address("${GATE").is_err());
    }

    #[test]
    fn a_gate_that_fails_in_a_row_rests() {
        let gates = Gates::new(signer(), BTreeMap::new());
        let place = |session: &str| (session.to_owned(), "a".to_owned());
        let (gate, slope) = (place("gate"), place("slope"));
        (1..FAILURES).for_each(|_| gates.count(&gate, true));
        gates.count(&gate, false);
        (1..FAILURES).for_each(|_| gates.count(&gate, true));
        assert!(!gates.rests(&gate), "one answer makes up for what failed before");
        gates.count(&gate, true);
        assert!(gates.rests(&gate) && !gates.rests(&slope), "in that session only");
        (0..2 * BREAKERS).for_each(|n| gates.count(&place(&n.to_string()), true));
        assert!(gates.breakers.lock().len() <= BREAKERS);
    }
}
