//! The budget of each caller: what a call costs and how much is left. The backend has no bound.
//!
//! Each address and each participant has a bucket that fills at a rate and holds ten seconds of it (a
//! generic cell rate algorithm, by `governor`). Cost: one look into a table a call.

use std::num::NonZeroU32;

use governor::clock::{Clock as _, DefaultClock};
use governor::{DefaultKeyedRateLimiter, InsufficientCapacity, Quota, RateLimiter};
use rendel_core::{Problem, ProblemKind};

use crate::addresses::network;
use crate::config::Config;
use crate::identity::Identity;
use crate::metrics::Metrics;

/// Seconds of its rate that a bucket holds.
const BURST: NonZeroU32 = NonZeroU32::MIN.saturating_add(9);

/// What a call costs.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Cost {
    /// One that reads or says little.
    Call = 1,
    /// A page of the journal, a stream, an entry.
    Page = 5,
    /// One that makes states of the past, compares documents or accepts an invitation.
    Document = 10,
    /// A try at a secret, right or wrong; a search for a seat.
    Try = 50,
}

type Buckets = DefaultKeyedRateLimiter<String>;

/// All buckets.
#[derive(Debug)]
pub(crate) struct Budget {
    addresses: Buckets,
    participants: Buckets,
    clock: DefaultClock,
}

impl Budget {
    pub(crate) fn new(config: &Config) -> Self {
        let buckets = |per_second: u32| {
            let rate = NonZeroU32::new(per_second).unwrap_or(NonZeroU32::MIN);
            RateLimiter::keyed(Quota::per_second(rate).allow_burst(rate.saturating_mul(BURST)))
        };
        Self {
            addresses: buckets(config.calls_per_address),
            participants: buckets(config.calls_per_participant),
            clock: DefaultClock::default(),
        }
    }

    /// Forgets the buckets that are full again. Cost: one look at each, so it is no part of a call.
    pub(crate) fn tidy(&self) {
        self.addresses.retain_recent();
        self.participants.retain_recent();
    }

    /// Charges an address: `too-fast` where too little is left.
    pub(crate) fn charge_address(
        &self,
        address: &str,
        cost: Cost,
        metrics: &Metrics,
    ) -> Result<(), Problem> {
        self.take(&self.addresses, &network(address), cost, "calls-per-address", metrics)
    }

    /// Charges a participant of a session: `too-fast` where too little is left.
    pub(crate) fn charge(
        &self,
        session: &str,
        who: &Identity,
        cost: Cost,
        metrics: &Metrics,
    ) -> Result<(), Problem> {
        if who.until.is_none() {
            return Ok(());
        }
        let key = format!("{session}\n{}", who.id);
        self.take(&self.participants, &key, cost, "calls-per-participant", metrics)
    }

    /// Charges whoever a seat is looked for: the backend asks, but as often as they want.
    pub(crate) fn charge_search(
        &self,
        charter: &str,
        sub: &str,
        metrics: &Metrics,
    ) -> Result<(), Problem> {
        // No session has such an id.
        let key = format!("a seat of {charter}\n{sub}");
        self.take(&self.participants, &key, Cost::Try, "calls-per-participant", metrics)
    }

    fn take(
        &self,
        buckets: &Buckets,
        key: &str,
        cost: Cost,
        limit: &'static str,
        metrics: &Metrics,
    ) -> Result<(), Problem> {
        let cost = NonZeroU32::new(cost as u32).unwrap_or(NonZeroU32::MIN);
        let key = key.to_owned();
        // What costs more than a bucket holds costs all of it.
        let taken = buckets.check_key_n(&key, cost).unwrap_or_else(|InsufficientCapacity(all)| {
            let all = NonZeroU32::new(all).unwrap_or(NonZeroU32::MIN);
            buckets.check_key_n(&key, all).unwrap_or(Ok(()))
        });
        taken.map_err(|until| {
            let wait = until.wait_time_from(self.clock.now());
            let wait_ms = u64::try_from(wait.as_millis()).unwrap_or(u64::MAX).max(1);
            let detail = format!(
                "That is more than {limit} allows; the next call is taken in {wait_ms} ms."
            );
            let problem = Problem::new(ProblemKind::TooFast, detail);
            let problem = problem.with("wait_ms", wait_ms).with("limit", limit);
            metrics.count(&problem);
            problem
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::token::ServiceKey;

    fn budget() -> Budget {
        let listen = std::net::SocketAddr::from(([127, 0, 0, 1], 0));
        let mut config = Config::new(listen, String::new(), ServiceKey::generate());
        (config.calls_per_address, config.calls_per_participant) = (10, 1);
        Budget::new(&config)
    }

    fn who(id: &str) -> Identity {
        Identity { id: id.into(), until: Some(u64::MAX), ..Identity::service() }
    }

    #[test]
    fn each_has_a_budget_of_their_own_and_is_told_how_long_to_wait() {
        let (budget, metrics) = (budget(), Metrics::new());
        let charge =
            |session: &str, who: &Identity| budget.charge(session, who, Cost::Document, &metrics);
        charge("gate", &who("oda")).unwrap();
        let problem = charge("gate", &who("oda")).unwrap_err();
        assert_eq!(problem.kind(), ProblemKind::TooFast);
        let wait = problem.member("wait_ms").and_then(serde_json::Value::as_u64).unwrap();
        assert!((1..=10_000).contains(&wait), "{wait}");
        charge("gate", &who("bram")).unwrap();
        charge("slope", &who("oda")).unwrap();
        (0..100).for_each(|_| charge("gate", &Identity::service()).unwrap());
    }

    #[test]
    fn what_costs_more_than_a_bucket_holds_passes_once_it_is_full() {
        let (budget, metrics) = (budget(), Metrics::new());
        budget.charge_search("windfall", "oda", &metrics).unwrap();
        assert!(budget.charge_search("windfall", "oda", &metrics).is_err());
        budget.charge_search("windfall", "bram", &metrics).unwrap();
        budget.charge_search("brix", "oda", &metrics).unwrap();
    }

    #[test]
    fn a_network_of_addresses_counts_as_one() {
        let (budget, metrics) = (budget(), Metrics::new());
        let taken = (0..50u16).filter(|host| {
            let address = format!("2001:db8:0:7:{host:x}::1");
            budget.charge_address(&address, Cost::Document, &metrics).is_ok()
        });
        assert_eq!(taken.count(), 10);
        assert!(budget.charge_address("2001:db8:0:8::1", Cost::Document, &metrics).is_ok());
    }

    #[test]
    fn what_is_remembered_is_bounded_for_those_who_have_spent_nothing_lately() {
        let (budget, metrics) = (budget(), Metrics::new());
        for host in 0..2_000u32 {
            let address = std::net::Ipv4Addr::from(host).to_string();
            budget.charge_address(&address, Cost::Call, &metrics).unwrap();
        }
        let deadline = std::time::Instant::now() + std::time::Duration::from_secs(60);
        while !budget.addresses.is_empty() {
            assert!(std::time::Instant::now() < deadline, "{} are kept", budget.addresses.len());
            std::thread::sleep(std::time::Duration::from_millis(20));
            // They are full again.
            budget.tidy();
        }
    }
}
