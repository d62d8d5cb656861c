//! How receivers are called: signed, without following where they send us, and, unless the
//! configuration says otherwise, never at an address of the service's own network.

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::time::Duration;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use reqwest::Url;
use reqwest::dns::{Addrs, Name, Resolve, Resolving};
use reqwest::header::RETRY_AFTER;
use standardwebhooks::{
    HEADER_WEBHOOK_ID, HEADER_WEBHOOK_SIGNATURE, HEADER_WEBHOOK_TIMESTAMP, Webhook,
};

use crate::clock::now_ms;

/// How long a receiver has for its answer.
const WITHIN: Duration = Duration::from_secs(15);

/// What a receiver said.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Said {
    Taken,
    /// It wants no more of this.
    Gone,
    /// It did not take it; it may have said when to come again.
    Not {
        why: String,
        again: Option<Duration>,
    },
}

/// The way to receivers.
#[derive(Clone, Debug)]
pub(crate) struct Receivers {
    client: reqwest::Client,
    may_be_private: bool,
}

impl Receivers {
    pub(crate) fn new(may_be_private: bool) -> Self {
        let client = || {
            reqwest::Client::builder()
                .redirect(reqwest::redirect::Policy::none())
                .no_proxy()
                .dns_resolver(PublicOnly { may_be_private })
                .timeout(WITHIN)
        };
        let client = client().build().or_else(|error| {
            tracing::warn!(%error, "no certificates of authorities are known here: webhooks cannot \
                go to https:// addresses");
            client().tls_certs_only([]).build()
        });
        Self { client: client.unwrap_or_default(), may_be_private }
    }

    /// Sends an event.
    pub(crate) async fn send(&self, url: &str, secret: &str, id: &str, event: String) -> Said {
        let not = |why: String| Said::Not { why, again: None };
        let Ok(url) = check_address(url, self.may_be_private) else {
            return not("the address may not be called".to_owned());
        };
        let time = i64::try_from(now_ms() / 1_000).unwrap_or(0);
        let secret = STANDARD.decode(secret.trim_start_matches("whsec_")).unwrap_or_default();
        let signed = Webhook::from_bytes(secret);
        let signed = signed.and_then(|signer| signer.sign(id, time, event.as_bytes()));
        let Ok(signature) = signed else { return not("it cannot be signed".to_owned()) };
        let sent = self
            .client
            .post(url)
            .header("Content-Type", "application/cloudevents+json; charset=utf-8")
            .header(HEADER_WEBHOOK_ID, id)
            .header(HEADER_WEBHOOK_TIMESTAMP, time)
            .header(HEADER_WEBHOOK_SIGNATURE, signature)
            .body(event)
            .send()
            .await;
        let response = match sent {
            Ok(response) => response,
            Err(error) if error.is_timeout() => {
                return not(format!("no answer within {} s", WITHIN.as_secs()));
            }
            Err(error) => return not(innermost(&error)),
        };
        // What its body says is nobody's to keep.
        let status = response.status();
        if status.is_success() {
            return Said::Taken;
        }
        if status == reqwest::StatusCode::GONE {
            return Said::Gone;
        }
        let seconds = response.headers().get(RETRY_AFTER).and_then(|value| value.to_str().ok());
        let again = seconds.and_then(|text| text.parse().ok()).map(Duration::from_secs);
        let why = match status.is_redirection() {
            true => format!("it answered {status}, and redirections are not followed"),
            false => format!("it answered {status}"),
        };
        Said::Not { why, again }
    }
}

/// The last of the causes, which says most.
fn innermost(error: &dyn std::error::Error) -> String {
    let mut error = error;
    while let Some(source) = error.source() {
        error = source;
    }
    error.to_string().chars().take(200).collect()
}

/// The address of a receiver, if it may be called: it is http or https, has no credentials, and is
/// not of a private network. The error says what is expected.
pub(crate) fn check_address(url: &str, may_be_private: bool) -> Result<Url, String> {
    let parsed = Url::parse(url).ok().filter(|url| ["http", "https"].contains(&url.scheme()));
    let parsed = parsed.filter(|url| url.username().is_empty() && url.password().is_none());
    let parsed = parsed.filter(|_| url.len() <= 2_000);
    let Some(url) = parsed else {
        return Err("an http:// or https:// address without a name and password in it".to_owned());
    };
    let host = url.host_str().unwrap_or_default().trim_matches(['[', ']']);
    let is_private = host.parse().is_ok_and(|address| !is_public(address));
    let is_local = host == "localhost" || host.ends_with(".localhost") || host.is_empty();
    if (is_private || is_local) && !may_be_private {
        return Err("an address of the public network: private ones are called only where the \
            setting webhooks_to_private_addresses allows it"
            .to_owned());
    }
    Ok(url)
}

/// Looks names up, and gives nothing of private networks: a name that is public today may lead
/// inside tomorrow.
struct PublicOnly {
    may_be_private: bool,
}

impl Resolve for PublicOnly {
    fn resolve(&self, name: Name) -> Resolving {
        let may_be_private = self.may_be_private;
        Box::pin(async move {
            let found = tokio::net::lookup_host((name.as_str(), 0)).await?;
            let addresses: Vec<SocketAddr> =
                found.filter(|found| may_be_private || is_public(found.ip())).collect();
            if addresses.is_empty() {
                return Err(format!("{} leads to no public address", name.as_str()).into());
            }
            Ok(Box::new(addresses.into_iter()) as Addrs)
        })
    }
}

/// Whether an address is one of the public network, by the registries of special-purpose addresses
/// (RFC 6890).
fn is_public(address: IpAddr) -> bool {
    match address {
        IpAddr::V4(address) => is_public_v4(address),
        IpAddr::V6(address) => is_public_v6(address),
    }
}

fn is_public_v4(address: Ipv4Addr) -> bool {
    let [a, b, c, _] = address.octets();
    let is_shared = a == 100 && (64..128).contains(&b);
    let is_protocol = (a, b, c) == (192, 0, 0);
    let is_benchmark = a == 198 && (18..20).contains(&b);
    !(a == 0
        || a >= 240
        || is_shared
        || is_protocol
        || is_benchmark
        || address.is_private()
        || address.is_loopback()
        || address.is_link_local()
        || address.is_multicast()
        || address.is_documentation())
}

fn is_public_v6(address: Ipv6Addr) -> bool {
    let segments = address.segments();
    // Addresses of the older kind in those of the newer: mapped, translated and tunnelled.
    let [high, low] = [segments[6].to_be_bytes(), segments[7].to_be_bytes()];
    let embedded = Ipv4Addr::new(high[0], high[1], low[0], low[1]);
    match segments[..6] {
        [0, 0, 0, 0, 0, 0 | 0xffff] => return is_public_v4(embedded),
        [0x64, 0xff9b, 0, 0, 0, 0] => return is_public_v4(embedded),
        [0x2002, high, low, ..] => {
            let [a, b] = high.to_be_bytes();
            let [c, d] = low.to_be_bytes();
            return is_public_v4(Ipv4Addr::new(a, b, c, d));
        }
        _ => {}
    }
    let is_documentation = segments[..2] == [0x2001, 0xdb8];
    // Of all that is given out only 2000::/3 is global unicast.
    segments[0] & 0xe000 == 0x2000 && !is_documentation && segments[..2] != [0x2001, 0]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn private_addresses_are_called_only_where_they_may_be() {
        for private in [
            "http://127.0.0.1/x",
            "http://127.1:80/",
            "http://2130706433/",
            "http://0x7f.1/",
            "http://localhost/",
            "http://api.localhost/",
            "http://10.0.0.1/",
            "http://172.16.5.5/",
            "http://192.168.1.1/",
            "http://169.254.169.254/latest",
            "http://100.64.0.1/",
            "http://0.0.0.0/",
            "http://[::1]/",
            "http://[::ffff:10.0.0.1]/",
            "http://[fe80::1]/",
            "http://[fd00::1]/",
            "http://[64:ff9b::a00:1]/",
            "http://[2002:a00:1::]/",
            "http://224.0.0.1/",
        ] {
            assert!(check_address(private, false).is_err(), "{private}");
            assert!(check_address(private, true).is_ok(), "{private}");
        }
        for public in
            ["https://orchard.example/hook?x=1", "http://1.1.1.1/", "https://[2606:4700::1]/"]
        {
            assert!(check_address(public, false).is_ok(), "{public}");
        }
        for wrong in
            ["", "orchard.example", "ftp://orchard.example/", "http://me:it@orchard.example/"]
        {
            assert!(check_address(wrong, true).is_err(), "{wrong}");
        }
    }

    #[tokio::test]
    async fn a_name_that_leads_inside_is_not_called() {
        let receivers = Receivers::new(false);
        let resolver = PublicOnly { may_be_private: false };
        let name = "localhost".parse::<Name>();
        assert!(resolver.resolve(name.unwrap()).await.is_err());
        let said = receivers.send("http://127.0.0.1:9/", "whsec_", "id", String::new()).await;
        assert!(matches!(said, Said::Not { .. }), "{said:?}");
    }
}
