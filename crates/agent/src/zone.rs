//! The time zone of a node's hours.

use constans_core::settings::AgentSettings;
use jiff::tz::TimeZone;

/// Returns the zone of the settings' hours. The agent brings the zones' rules along, for machines that have none.
pub fn zone(settings: &AgentSettings) -> TimeZone {
    TimeZone::get(&settings.zone).unwrap_or(TimeZone::UTC)
}
