//! The listener: accepts, ends TLS, and serves what is asked on a connection.

use super::activity::Activity;
use super::back::BackConnections;
use super::forward::Passage;
use super::limits::{CountedConnection, Limits, Most};
use super::lingering::Lingering;
use super::reach::OwnNames;
use crate::callers::ShownCertificate;
use crate::callers::{Caller, Callers, OnlyTheDoor};
use crate::metrics::{self, Metrics};
use crate::request_log::StrangersLines;
use crate::waking::Waking;
use hyper::service::service_fn;
use hyper_util::rt::{TokioExecutor, TokioIo, TokioTimer};
use hyper_util::server::conn::auto;
use hyper_util::server::graceful::{GracefulShutdown, Watcher};
use rocket::fairing::AdHoc;
use rocket::{Build, Rocket, Shutdown};
use rustls::ServerConfig;
use std::convert::Infallible;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::oneshot;
use tokio::time::{sleep, timeout};
use tokio_io_timeout::TimeoutWriter;
use tokio_rustls::TlsAcceptor;

const HANDSHAKE: Duration = Duration::from_secs(10);
/// A connection ends after this long without a request; so does one whose first head does not come, or comes slowly.
const IDLE: Duration = Duration::from_secs(15);
/// A caller who takes nothing of an answer for this long has gone.
const STUCK: Duration = Duration::from_secs(60);
/// Grace period of open requests when the server stops.
const STOPPING: Duration = Duration::from_secs(3);
const MAX_HEAD: usize = 64 * 1024;
/// This many requests may be under way on one connection.
const AT_ONCE: u32 = 64;

/// What a door is opened with.
pub struct DoorSettings {
    /// What the listener is called: `agents` or `people`.
    pub name: &'static str,
    /// Where it listens.
    pub address: SocketAddr,
    /// TLS, with the protocols that are offered.
    pub tls: Arc<ServerConfig>,
    /// Whether HTTP/2 is spoken.
    pub http2: bool,
    /// How many connections there may be.
    pub most: Most,
    /// How many of them may have a request under way that is not only held.
    pub most_behind: Most,
    /// What this server is called.
    pub names: Arc<OwnNames>,
    /// Where connections are counted.
    pub metrics: Arc<Metrics>,
    /// Where requests of nodes are held, if they are.
    pub waking: Option<Arc<Waking>>,
}

/// A listener that is bound already.
pub struct Door {
    settings: DoorSettings,
    listener: TcpListener,
}

impl Door {
    /// Binds the address.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be listened on.
    pub async fn open(settings: DoorSettings) -> std::io::Result<Self> {
        let listener = TcpListener::bind(settings.address).await?;
        Ok(Self { settings, listener })
    }

    /// Lets Rocket answer what comes through the door, until the process receives a signal to stop.
    ///
    /// # Errors
    ///
    /// Returns why Rocket could not be launched.
    pub async fn serve(self, rocket: Rocket<Build>) -> Result<(), rocket::Error> {
        let callers = Callers::default();
        let (listens, listening) = oneshot::channel();
        let lifted = AdHoc::on_liftoff("the door's way to it", move |rocket| {
            let _ = listens.send(SocketAddr::new(rocket.config().address, rocket.config().port));
            Box::pin(async {})
        });
        let rocket = rocket.manage(callers.clone()).attach(OnlyTheDoor).attach(lifted).ignite().await?;
        let stop = rocket.shutdown();
        let door = async {
            if let Ok(rocket) = listening.await {
                self.accept(rocket, callers, stop).await;
            }
        };
        tokio::join!(rocket.launch(), door).0.map(|_| ())
    }

    async fn accept(self, rocket: SocketAddr, callers: Callers, mut stop: Shutdown) {
        tracing::info!(listener = self.settings.name, address = %self.settings.address, "listening");
        let open = GracefulShutdown::new();
        let (limits, behind) = (Limits::new(self.settings.most), Limits::new(self.settings.most_behind));
        let lines = Arc::new(StrangersLines::begin(self.settings.name));
        let settings = Arc::new(self.settings);
        loop {
            let accepted = tokio::select! {
                accepted = self.listener.accept() => accepted,
                () = &mut stop => break,
            };
            let (stream, address) = match accepted {
                Ok(accepted) => accepted,
                Err(error) => {
                    // Descriptors have run out, or the caller has gone already.
                    tracing::warn!(listener = settings.name, %error, "a connection could not be accepted");
                    sleep(Duration::from_millis(50)).await;
                    continue;
                }
            };
            let Some(place) = limits.take(address.ip()) else {
                settings
                    .metrics
                    .turned_away
                    .get_or_create(&metrics::Listener { listener: settings.name })
                    .inc();
                continue;
            };
            let (behind, callers) = (behind.clone(), callers.clone());
            let connection = Connection {
                settings: settings.clone(),
                lines: lines.clone(),
                place,
                behind,
                address,
                rocket,
                callers,
            };
            tokio::spawn(connection.serve(stream, open.watcher()));
        }
        if let Some(waking) = &settings.waking {
            waking.stop();
        }
        let _ = timeout(STOPPING, open.shutdown()).await;
    }
}

struct Connection {
    settings: Arc<DoorSettings>,
    lines: Arc<StrangersLines>,
    place: CountedConnection,
    /// The connections to Rocket.
    behind: Arc<Limits>,
    address: SocketAddr,
    rocket: SocketAddr,
    callers: Callers,
}

impl Connection {
    async fn serve(mut self, stream: TcpStream, watcher: Watcher) {
        let _ = stream.set_nodelay(true);
        let mut stream = TimeoutWriter::new(stream);
        stream.set_timeout(Some(STUCK));
        let acceptor = TlsAcceptor::from(self.settings.tls.clone());
        let Ok(Ok(stream)) = timeout(HANDSHAKE, acceptor.accept(Box::pin(stream))).await else { return };
        let shown =
            stream.get_ref().1.peer_certificates().and_then(|chain| ShownCertificate::read(chain.first()?));
        if shown.as_ref().is_some_and(|shown| !self.place.is_of(shown.node)) {
            return;
        }
        let caller = Arc::new(Caller { address: self.address, shown });
        let passage = Passage {
            settings: self.settings.clone(),
            lines: self.lines,
            caller: self.address,
            back: Arc::new(BackConnections::new(self.rocket, self.callers, caller, self.behind)),
            activity: Activity::begin(),
        };
        let activity = passage.activity.clone();
        let passage = Arc::new(passage);
        let service = service_fn(move |request| {
            let passage = passage.clone();
            async move { Ok::<_, Infallible>(passage.pass(request).await) }
        });
        let mut http = auto::Builder::new(TokioExecutor::new());
        if !self.settings.http2 {
            http = http.http1_only();
        }
        http.http1().timer(TokioTimer::new()).max_buf_size(MAX_HEAD).header_read_timeout(None);
        http.http2()
            .timer(TokioTimer::new())
            .max_concurrent_streams(AT_ONCE)
            .max_header_list_size(u32::try_from(MAX_HEAD).unwrap_or(u32::MAX))
            .keep_alive_interval(Duration::from_secs(20))
            .keep_alive_timeout(Duration::from_secs(20));
        let served =
            watcher.watch(http.serve_connection(TokioIo::new(Lingering::new(stream)), service).into_owned());
        let open = self.settings.metrics.open_connection(self.settings.name);
        tokio::select! {
            // What a caller does wrong is no matter of this server.
            _ = served => {}
            () = activity.idle_for(IDLE) => {}
        }
        drop(open);
    }
}
