//! The names that this server answers to: a page of another site whose name was made to lead here is not answered.

use hyper::header::HOST;
use hyper::http::uri::Authority;
use hyper::{HeaderMap, Uri};

/// These are asked by whatever watches the server, by any name or address.
const BY_ANY_NAME: [&str; 2] = ["/healthy", "/ready"];

/// The names of this server.
pub struct OwnNames(Vec<String>);

impl OwnNames {
    /// Takes the names and addresses by which the server is called.
    pub fn new(names: &[String]) -> Self {
        Self(names.iter().map(|name| plain(name)).collect())
    }

    /// Returns whether a request is for this server.
    pub(super) fn are_meant(&self, uri: &Uri, headers: &HeaderMap) -> bool {
        let named = match uri.authority() {
            Some(authority) => Some(authority.clone()),
            None => headers.get(HOST).and_then(|host| Authority::try_from(host.as_bytes()).ok()),
        };
        BY_ANY_NAME.contains(&uri.path()) || named.is_some_and(|named| self.0.contains(&plain(named.host())))
    }
}

fn plain(name: &str) -> String {
    name.trim_start_matches('[').trim_end_matches(']').trim_end_matches('.').to_ascii_lowercase()
}

#[cfg(test)]
mod tests {
    use super::*;
    use hyper::header::HeaderValue;

    #[test]
    fn only_the_servers_own_names_are_meant() {
        let names = OwnNames::new(&["Hub.skerry.example".to_owned(), "2001:db8::7".to_owned()]);
        let meant = |uri: &str, host: Option<&str>| {
            let headers = host.map(|host| (HOST, HeaderValue::from_str(host).unwrap())).into_iter().collect();
            names.are_meant(&uri.parse().unwrap(), &headers)
        };
        for host in
            ["hub.skerry.example", "HUB.skerry.example:7444", "hub.skerry.example.", "[2001:db8::7]:7444"]
        {
            assert!(meant("/api/overview", Some(host)), "{host}");
        }
        for host in
            [None, Some("127.0.0.1"), Some("evil.example"), Some("evil.example#hub.skerry.example"), Some("")]
        {
            assert!(!meant("/api/overview", host), "{host:?}");
            assert!(meant("/healthy", host), "{host:?}");
        }
        assert!(
            meant("https://hub.skerry.example/api/fleet", Some("evil.example")),
            "RFC 9112, 3.2.2: the host of the target counts"
        );
        assert!(!meant("https://evil.example/api/fleet", Some("hub.skerry.example")));
    }
}
