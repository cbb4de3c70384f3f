//! State that handlers and jobs of this server share.

use crate::certificate::ServedCertificate;
use crate::jobs::chain_of_days::AlteredDays;
use crate::jobs::run_hours::RunCounts;
use crate::jobs::waker::Waker;
use crate::metrics::Metrics;
use crate::own_machine::OwnMachine;
use crate::settings::Settings;
use crate::trust::{Authority, EvidenceKeys, HandedOut, NotedDays, Refusals};
use crate::waking::Waking;
use constans_core::digest::DigestKey;
use constans_core::kit::Kit;
use jiff::Timestamp;
use quick_cache::Weighter;
use quick_cache::sync::Cache;
use std::sync::Arc;
use tokio::sync::Notify;
use tokio::sync::futures::Notified;

/// What handlers need to know of this server.
pub struct Here {
    /// What the server was started with.
    pub settings: Settings,
    /// When this process was started.
    pub started_at: Timestamp,
    /// What the operator calls this server.
    pub title: String,
    /// The colour that the operator chose for it.
    pub colour: Option<String>,
    /// The CA.
    pub authority: Arc<Authority>,
    /// The key that signs evidence.
    pub evidence: EvidenceKeys,
    /// The chain of days as it was noted outside of the database.
    pub days: NotedDays,
    /// Days whose digest is not the one that was noted.
    pub altered_days: Arc<AlteredDays>,
    /// The URLs of the agents' listener.
    pub agent_urls: Vec<String>,
    /// The machine that it runs on.
    pub machine: OwnMachine,
    /// The key under which what is concealed is named.
    pub key: DigestKey,
    /// Which generations were handed out, and the epoch, which rises when a database is restored.
    pub handed_out: Arc<HandedOut>,
    /// The releases that were read recently.
    pub kits: KnownKits,
    /// Who was refused, also when the database forgets.
    pub refusals: Arc<Refusals>,
    /// Wakes the loops that work at changes.
    pub nudge: Nudge,
    /// What this process took in of runs.
    pub run_counts: Arc<RunCounts>,
    /// Wakes the open pages.
    pub waker: Waker,
    /// The certificates that the server shows.
    pub certificates: Vec<Arc<ServedCertificate>>,
    /// What the server measures of itself.
    pub metrics: Arc<Metrics>,
    /// The requests of nodes that this process holds.
    pub waking: Arc<Waking>,
}

/// Wakes this process's loops when something was queued.
#[derive(Default)]
pub struct Nudge(Notify);

impl Nudge {
    /// Wakes them.
    pub fn nudge(&self) {
        self.0.notify_waiters();
    }

    /// Returns what is done when they are woken next.
    pub fn notified(&self) -> Notified<'_> {
        self.0.notified()
    }
}

/// A release that was read.
#[derive(Clone)]
pub struct KnownKit {
    /// Itself.
    pub kit: Arc<Kit>,
    /// The bytes of its files.
    pub bytes: u64,
}

/// Weighs what is known by the memory that it takes.
#[derive(Clone)]
pub struct ByMemory;

impl Weighter<String, KnownKit> for ByMemory {
    fn weight(&self, _: &String, known: &KnownKit) -> u64 {
        // What is read from documents takes about three times the bytes of the files.
        4 * known.bytes + 16 * 1024
    }
}

/// The releases that were read recently, by digest.
pub type KnownKits = Cache<String, KnownKit, ByMemory>;

/// The most memory that they take.
const MAX_MEMORY: u64 = 512 * 1024 * 1024;

/// Begins to know releases.
pub fn known_kits() -> KnownKits {
    Cache::with_weighter(64, MAX_MEMORY, ByMemory)
}
