//! Live progress, as server-sent events.

use crate::here::Here;
use crate::metrics::Metrics;
use crate::store::notice::{ACTIVITIES, CHANNEL, SWEEPS};
use crate::trust::{Allowed, NodeRead};
use rocket::response::stream::{Event, EventStream};
use rocket::{Shutdown, State, get};
use sqlx::PgPool;
use sqlx::postgres::PgListener;
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::broadcast::{self, Sender, error::RecvError};

/// A change, for listeners.
pub struct Changes(Sender<String>);

impl Changes {
    /// Begins to listen to the notifications of all processes of the server.
    pub fn begin(db: PgPool) -> Self {
        let (sender, _) = broadcast::channel(256);
        tokio::spawn(listen(db, sender.clone()));
        Self(sender)
    }
}

/// How often a stream shows that it is alive, and it is looked whether its reader may read on.
const ALIVE_EVERY: Duration = Duration::from_secs(15);

/// An open stream, as long as it is.
struct Open(Arc<Metrics>);

impl Open {
    fn counted(metrics: &Arc<Metrics>) -> Self {
        metrics.streams.inc();
        Self(metrics.clone())
    }
}

impl Drop for Open {
    fn drop(&mut self) {
        self.0.streams.dec();
    }
}

async fn listen(db: PgPool, sender: Sender<String>) {
    loop {
        if let Ok(mut listener) = PgListener::connect_with(&db).await
            && listener.listen(CHANNEL).await.is_ok()
        {
            while let Ok(topic) = listener.recv().await {
                // Nobody may be listening.
                let _ = sender.send(topic.payload().to_owned());
            }
        }
        // What was missed meanwhile is not known: pages look at everything again.
        let _ = sender.send("everything".to_owned());
        tokio::time::sleep(Duration::from_secs(1)).await;
    }
}

/// Sends an event for each change: `nodes`, `joining`, `kits`, `groups`, or `everything`; `activities` when an activity progressed
/// or ended, and `sweeps` when nodes of a sweep did.
#[utoipa::path(tag = "overview", security(("token" = ["node.read"]), ("session" = ["node.read"])), responses((status = 200, content_type = "text/event-stream", body = String)))]
#[get("/api/live")]
pub fn live(
    caller: Allowed<NodeRead>,
    changes: &State<Changes>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
    mut end: Shutdown,
) -> EventStream![] {
    let mut receiver = changes.0.subscribe();
    let (db, open) = (db.inner().clone(), Open::counted(&here.metrics));
    EventStream! {
        let _open = open;
        yield Event::data("everything").event("changed");
        loop {
            let topic = tokio::select! {
                topic = receiver.recv() => topic,
                () = &mut end => break,
                () = tokio::time::sleep(ALIVE_EVERY) => {
                    // A person who signed out, or lost the permission, receives nothing more. This also notices a closed connection.
                    if !caller.is_still_allowed(&db).await {
                        break;
                    }
                    yield Event::comment("alive");
                    continue;
                }
            };
            match topic {
                Ok(what) if what == ACTIVITIES => yield Event::data(what).event(ACTIVITIES),
                Ok(what) if what == SWEEPS => yield Event::data(what).event(SWEEPS),
                Ok(what) => yield Event::data(what).event("changed"),
                Err(RecvError::Lagged(_)) => yield Event::data("everything").event("changed"),
                Err(RecvError::Closed) => break,
            }
        }
    }
}
