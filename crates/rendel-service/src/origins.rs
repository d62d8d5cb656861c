//! Which pages may connect and call.

/// The foreign origins whose pages may.
#[derive(Clone, Debug, Default)]
pub struct Origins {
    /// Such as `https://orchard.example`.
    pub known: Vec<String>,
    /// Whether pages that this machine serves to itself may, from any port.
    pub loopback: bool,
}

impl Origins {
    /// Whether pages of an origin may.
    pub(crate) fn let_in(&self, origin: &str) -> bool {
        self.known.iter().any(|known| known == origin) || (self.loopback && is_loopback(origin))
    }
}

fn is_loopback(origin: &str) -> bool {
    let Some((_, authority)) = origin.split_once("://") else { return false };
    let is_port = |port: &str| !port.is_empty() && port.bytes().all(|byte| byte.is_ascii_digit());
    let host = match authority.rsplit_once(':') {
        Some((host, port)) if is_port(port) => host,
        _ => authority,
    };
    ["localhost", "127.0.0.1", "[::1]"].contains(&host)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_page_of_this_machine_is_let_in_from_any_port_and_none_that_looks_like_it() {
        let origins = Origins { known: vec!["https://orchard.example".into()], loopback: true };
        let own = ["http://localhost:5173", "http://127.0.0.1", "http://[::1]:8080"];
        let others = [
            "http://localhost.example:5173",
            "http://127.0.0.1.example",
            "http://orchard.example",
            "http://localhost:5173x",
            "null",
            "",
        ];
        assert!(own.iter().all(|origin| origins.let_in(origin)));
        assert!(!others.iter().any(|origin| origins.let_in(origin)));
        assert!(origins.let_in("https://orchard.example"));
        let shut = Origins { loopback: false, ..origins };
        assert!(!own.iter().any(|origin| shut.let_in(origin)));
    }
}
