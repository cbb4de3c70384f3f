//! The identity of callers, passed from the door to Rocket by the port of the connection, since headers can be forged.

use crate::problem::refuse_everything;
use constans_wire::check_in::Problem;
use rocket::fairing::{Fairing, Info, Kind};
use rocket::http::Status;
use rocket::request::{FromRequest, Outcome};
use rocket::{Data, Request};
use std::collections::HashMap;
use std::net::{IpAddr, Ipv6Addr, SocketAddr};
use std::sync::{Arc, Mutex, PoisonError};
use uuid::Uuid;

/// Who the certificate says that the caller is. It was issued by this server's CA; whether the node is still admitted is for
/// [`ShownCertificate::caller`] to say, or for the one statement that takes in what it sends.
#[derive(Debug, Clone)]
pub struct ShownCertificate {
    /// The node.
    pub node: Uuid,
    /// The digest of its public key.
    pub spki: Vec<u8>,
}

/// Someone at the other end of a connection.
pub struct Caller {
    /// Where from.
    pub address: SocketAddr,
    /// The node's certificate, if one was shown; the CA issued it.
    pub shown: Option<ShownCertificate>,
}

/// The callers of a door, by the local ends of its connections to Rocket.
#[derive(Clone, Default)]
pub struct Callers(Arc<Mutex<HashMap<SocketAddr, Arc<Caller>>>>);

impl Callers {
    /// Enters a connection, until what is returned is dropped.
    pub(super) fn enter(&self, local: SocketAddr, caller: Arc<Caller>) -> Entry {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).insert(local, caller);
        Entry { callers: self.clone(), local }
    }

    fn of(&self, request: &Request<'_>) -> Option<Arc<Caller>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).get(&request.remote()?).cloned()
    }
}

/// An entry of a connection.
pub(super) struct Entry {
    callers: Callers,
    local: SocketAddr,
}

impl Drop for Entry {
    fn drop(&mut self) {
        self.callers.0.lock().unwrap_or_else(PoisonError::into_inner).remove(&self.local);
    }
}

/// Returns who sends a request.
pub fn caller_of<'r>(request: &'r Request<'_>) -> Option<&'r Caller> {
    let found =
        request.local_cache(|| request.rocket().state::<Callers>().and_then(|callers| callers.of(request)));
    found.as_deref()
}

/// Refuses requests that did not come through the door: a program of this machine that found Rocket's own port.
pub struct OnlyTheDoor;

#[rocket::async_trait]
impl Fairing for OnlyTheDoor {
    fn info(&self) -> Info {
        Info { name: "only the door", kind: Kind::Request }
    }

    async fn on_request(&self, request: &mut Request<'_>, _: &mut Data<'_>) {
        if caller_of(request).is_none() {
            let title = "requests are taken on the server's own addresses only".to_owned();
            refuse_everything(
                request,
                Problem {
                    kind: "not_by_the_door".to_owned(),
                    title,
                    status: Status::Forbidden.code,
                    hint: None,
                    detail: None,
                    change: None,
                    findings: Vec::new(),
                },
            );
        }
    }
}

/// Where a request comes from.
#[derive(Debug, Clone, Copy)]
pub struct CallerAddress(pub IpAddr);

#[rocket::async_trait]
impl<'r> FromRequest<'r> for CallerAddress {
    type Error = ();

    async fn from_request(request: &'r Request<'_>) -> Outcome<Self, ()> {
        match caller_of(request) {
            Some(caller) => Outcome::Success(Self(caller.address.ip().to_canonical())),
            None => Outcome::Forward(Status::Forbidden),
        }
    }
}

/// Returns the network that callers are counted by: an IPv6 caller has at least a /64 of addresses to itself.
pub fn network_of(address: IpAddr) -> IpAddr {
    match address.to_canonical() {
        IpAddr::V6(address) => {
            let [a, b, c, d, ..] = address.segments();
            IpAddr::V6(Ipv6Addr::new(a, b, c, d, 0, 0, 0, 0))
        }
        address @ IpAddr::V4(_) => address,
    }
}

/// Returns the network that callers are counted by, as it is shown.
pub fn network_text(address: IpAddr) -> String {
    match network_of(address) {
        IpAddr::V4(address) => address.to_string(),
        IpAddr::V6(address) => format!("{address}/64"),
    }
}
