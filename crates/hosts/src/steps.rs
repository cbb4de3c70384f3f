//! What the steps of the test hosts share.

use crate::hub::Hub;
use crate::lab::{Failed, Host};
use constans_e2e::story::KIOSKS;
use std::time::Duration;

/// What comes soon comes within this time.
pub const SOON: Duration = Duration::from_secs(30);
/// The node that joins.
pub const NODE: &str = "kiosk-auken-1";

/// A step: what it does with the fleet and the host.
pub type Step = fn(&Hub<'_>, Host<'_>) -> Result<(), Failed>;

/// Has the kiosks enforce, with further settings.
pub fn set_kiosks(hub: &Hub<'_>, settings: &str) -> Result<(), Failed> {
    set_group(hub, &format!("{}{settings}\n", KIOSKS.replace("MODE", "enforce")))
}

/// Sets a group from the text of its document.
pub fn set_group(hub: &Hub<'_>, text: &str) -> Result<(), Failed> {
    let file = tempfile::NamedTempFile::new().map_err(|error| error.to_string())?;
    std::fs::write(file.path(), text).map_err(|error| error.to_string())?;
    // A crowd of one: what a step takes from its node is wanted.
    hub.client(&["group", "set", &file.path().display().to_string(), "--confirm", "1"]).map(drop)
}

/// Has the daemon begin a round now.
pub fn next_round(host: Host<'_>) -> Result<(), Failed> {
    // Many rounds in a short time are too many starts otherwise.
    host.shell("systemctl reset-failed constans-agent; systemctl restart constans-agent").map(drop)
}
