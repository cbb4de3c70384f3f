//! The link of a simulated node: real mutual TLS from this process, which can be cut or slow.

use constans_agent::network_part::{Connect, Connected};
use constans_link::{Carried, Carry, Direct, Identity, LinkError, Network, NetworkRequest, Taker};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

/// How a node's link is.
pub(crate) struct SimulatedLink {
    is_cut: Arc<AtomicBool>,
    slow_by: Duration,
    /// The certificate and the connections of the turn before, if they are kept.
    kept: Option<Mutex<Option<(String, Direct)>>>,
}

impl SimulatedLink {
    pub fn new(slow_by: Duration, keeps_connections: bool) -> Self {
        Self { is_cut: Arc::default(), slow_by, kept: keeps_connections.then(Mutex::default) }
    }

    fn direct(&self, fingerprint: &str, identity: Option<&Identity<'_>>) -> Result<Direct, LinkError> {
        let (Some(kept), Some(identity)) = (&self.kept, identity) else {
            return Direct::new(fingerprint, identity);
        };
        let mut kept = kept.lock().unwrap_or_else(PoisonError::into_inner);
        match &*kept {
            Some((certificate, direct)) if certificate == identity.certificate => Ok(direct.clone()),
            _ => {
                let direct = Direct::new(fingerprint, Some(identity))?;
                *kept = Some((identity.certificate.to_owned(), direct.clone()));
                Ok(direct)
            }
        }
    }

    pub fn is_cut(&self) -> bool {
        self.is_cut.load(Ordering::Relaxed)
    }

    /// Cuts the link, or fixes it.
    pub fn cut(&self, is_cut: bool) {
        self.is_cut.store(is_cut, Ordering::Relaxed);
    }
}

impl Connect for SimulatedLink {
    fn connect<'a>(&'a self, fingerprint: &'a str, identity: Option<Identity<'a>>) -> Connected<'a> {
        Box::pin(async move {
            let direct = self.direct(fingerprint, identity.as_ref())?;
            Ok(Network::over(Carrying { direct, is_cut: self.is_cut.clone(), slow_by: self.slow_by }))
        })
    }
}

struct Carrying {
    direct: Direct,
    is_cut: Arc<AtomicBool>,
    slow_by: Duration,
}

impl Carry for Carrying {
    fn carry<'a>(&'a self, request: NetworkRequest, body: Vec<u8>, take: Taker<'a>) -> Carried<'a> {
        Box::pin(async move {
            if self.is_cut.load(Ordering::Relaxed) {
                return Err(LinkError::NotReached {
                    url: "its server".to_owned(),
                    because: "the simulated link is cut".to_owned(),
                });
            }
            if !self.slow_by.is_zero() {
                tokio::time::sleep(self.slow_by).await;
            }
            self.direct.carry(request, body, take).await
        })
    }
}
