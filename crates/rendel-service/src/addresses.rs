//! How many connections come from one address.

use std::collections::HashMap;
use std::net::{IpAddr, SocketAddr};
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
    network: String,
    open: Arc<Mutex<HashMap<String, usize>>>,
}

impl Addresses {
    pub(crate) fn new(most: usize, limit: &'static str) -> Self {
        Self { most, limit, open: Arc::default() }
    }

    /// Counts one more connection: `crowded` beyond the bound.
    pub(crate) fn admit(&self, address: String) -> Result<Admission, Problem> {
        let mut open = self.open.lock();
        let network = network(&address);
        let count = open.entry(network.clone()).or_default();
        if *count >= self.most {
            let detail = format!(
                "{} from {address} are open, the most that {} lets one address have.",
                self.most, self.limit
            );
            return Err(Problem::new(ProblemKind::Crowded, detail).with("limit", self.limit));
        }
        *count += 1;
        Ok(Admission { address, network, open: self.open.clone() })
    }
}

impl Drop for Admission {
    fn drop(&mut self) {
        let mut open = self.open.lock();
        if let Some(count) = open.get_mut(&self.network) {
            *count -= 1;
            if *count == 0 {
                open.remove(&self.network);
            }
        }
    }
}

/// Where a request comes from: its peer, or what a trusted proxy says.
pub(crate) fn address_of(request: &HttpRequest, trust_forwarded: bool) -> String {
    let told = trust_forwarded.then(|| forwarded(request)).flatten();
    told.or(request.peer_addr().map(|peer| peer.ip()))
        .map_or_else(|| "unknown".to_owned(), |address| address.to_string())
}

/// The address that the nearest proxy saw: the last of `Forwarded` (RFC 7239) or `X-Forwarded-For`.
/// What stands before it may be the client's own words.
fn forwarded(request: &HttpRequest) -> Option<IpAddr> {
    let last = |name: &str| {
        let value = request.headers().get_all(name).last()?.to_str().ok()?;
        value.rsplit(',').next().map(str::trim)
    };
    let for_of = |part: &str| {
        let pairs = part.split(';').filter_map(|pair| pair.split_once('='));
        let mut values = pairs.filter(|(name, _)| name.trim().eq_ignore_ascii_case("for"));
        values.next().map(|(_, value)| value.trim().trim_matches('"').to_owned())
    };
    match last("Forwarded") {
        Some(part) => parsed(&for_of(part)?),
        None => parsed(last("X-Forwarded-For")?),
    }
}

/// An address with or without a port.
fn parsed(text: &str) -> Option<IpAddr> {
    let bare = || text.strip_prefix('[')?.split_once(']')?.0.parse().ok();
    text.parse()
        .ok()
        .or_else(|| text.parse::<SocketAddr>().ok().map(|address| address.ip()))
        .or_else(bare)
}

/// What counts as one address: of IPv6 the /64, which is what one household or machine is given.
pub(crate) fn network(address: &str) -> String {
    match address.parse() {
        Ok(IpAddr::V6(address)) => match address.to_ipv4_mapped() {
            Some(mapped) => mapped.to_string(),
            None => {
                let mask = u128::MAX << 64;
                format!("{}/64", std::net::Ipv6Addr::from(u128::from(address) & mask))
            }
        },
        _ => address.to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_the_nearest_proxy_says_counts_and_what_a_client_says_does_not() {
        use actix_web::test::TestRequest;
        let told = |name: &str, value: &str| {
            let request = TestRequest::default().insert_header((name, value));
            let request = request.peer_addr(SocketAddr::from(([10, 0, 0, 9], 1))).to_http_request();
            (address_of(&request, true), address_of(&request, false))
        };
        for (name, value, is) in [
            ("X-Forwarded-For", "1.1.1.1, 10.0.0.2", "10.0.0.2"),
            ("X-Forwarded-For", "2001:db8::7", "2001:db8::7"),
            ("Forwarded", "for=1.1.1.1, for=10.0.0.2;proto=https", "10.0.0.2"),
            ("Forwarded", "proto=https;FOR=\"[2001:db8::7]:4711\"", "2001:db8::7"),
            ("Forwarded", "for=_hidden", "10.0.0.9"),
            ("X-Forwarded-For", "nonsense", "10.0.0.9"),
        ] {
            assert_eq!(told(name, value), (is.to_owned(), "10.0.0.9".to_owned()), "{value}");
        }
        assert_eq!(network("2001:db8:0:7:1::2"), "2001:db8:0:7::/64");
        assert_eq!(network("::ffff:10.0.0.2"), "10.0.0.2");
    }

    #[test]
    fn an_address_has_so_many_connections_and_no_more_until_one_ends() {
        let addresses = Addresses::new(2, "connections_per_address");
        let admit = |address: &str| addresses.admit(address.to_owned());
        let (first, _second) = (admit("10.0.0.1").unwrap(), admit("10.0.0.1").unwrap());
        assert_eq!(admit("10.0.0.1").unwrap_err().kind(), ProblemKind::Crowded);
        assert!(admit("10.0.0.2").is_ok());
        drop(first);
        assert!(admit("10.0.0.1").is_ok());
        drop(_second);
        assert!(addresses.open.lock().is_empty(), "nothing is kept of those who went");
    }
}
