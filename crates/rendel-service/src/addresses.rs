//! How many connections come from one address.

use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::Arc;

use actix_web::HttpRequest;
use parking_lot::Mutex;
use rendel_core::{Problem, ProblemKind};

/// The connections of each address.
#[derive(Debug)]
pub(crate) struct Addresses {
    most: usize,
    limit: &'static str,
    open: Arc<Mutex<HashMap<String, usize>>>,
}

/// One connection of an address, for as long as it is kept.
#[derive(Debug)]
pub(crate) struct Admission {
    pub(crate) address: String,
    open: Arc<Mutex<HashMap<String, usize>>>,
}

impl Addresses {
    pub(crate) fn new(most: usize, limit: &'static str) -> Self {
        Self { most, limit, open: Arc::default() }
    }

    /// Counts one more connection: `full` beyond the bound.
    pub(crate) fn admit(&self, address: String) -> Result<Admission, Problem> {
        let mut open = self.open.lock();
        let count = open.entry(address.clone()).or_default();
        if *count >= self.most {
            let detail = format!(
                "{} from {address} are open, the most that {} lets one address have.",
                self.most, self.limit
            );
            return Err(Problem::new(ProblemKind::Full, detail).with("limit", self.limit));
        }
        *count += 1;
        Ok(Admission { address, open: self.open.clone() })
    }
}

impl Drop for Admission {
    fn drop(&mut self) {
        let mut open = self.open.lock();
        if let Some(count) = open.get_mut(&self.address) {
            *count -= 1;
            if *count == 0 {
                open.remove(&self.address);
            }
        }
    }
}

/// Where a request comes from: its peer, or what a trusted proxy says.
pub(crate) fn address_of(request: &HttpRequest, trust_forwarded: bool) -> String {
    let info = request.connection_info();
    let told = info
        .realip_remote_addr()
        .filter(|_| trust_forwarded)
        .and_then(|told| told.parse::<IpAddr>().ok());
    told.or(request.peer_addr().map(|peer| peer.ip()))
        .map_or_else(|| "unknown".to_owned(), |address| address.to_string())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_address_has_so_many_connections_and_no_more_until_one_ends() {
        let addresses = Addresses::new(2, "connections_per_address");
        let admit = |address: &str| addresses.admit(address.to_owned());
        let (first, _second) = (admit("10.0.0.1").unwrap(), admit("10.0.0.1").unwrap());
        assert_eq!(admit("10.0.0.1").unwrap_err().kind(), ProblemKind::Full);
        assert!(admit("10.0.0.2").is_ok());
        drop(first);
        assert!(admit("10.0.0.1").is_ok());
        drop(_second);
        assert!(addresses.open.lock().is_empty(), "nothing is kept of those who went");
    }
}
