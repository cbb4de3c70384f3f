//! Inspections: the node tells what is there when a person asks at the server. Nothing is altered, and what not everybody on the node may
//! read is not told.

use crate::error::AgentError;
use crate::server_link::ServerLink;
use constans_core::kind::find;
use constans_host::Host;
use constans_host::error::CannotDescribe;
use constans_wire::inspection::{InspectionOffer, InspectionReport};

/// This much of what went wrong is told, in characters.
const LONGEST_FAILURE: usize = 1_000;

/// Tells what the server asks for, also that it could not be found out.
///
/// # Errors
///
/// Returns why the server did not take the report.
pub async fn do_inspection(
    link: &ServerLink<'_>,
    url: &str,
    offer: &InspectionOffer,
    host: &mut dyn Host,
) -> Result<(), AgentError> {
    let report = match look(offer, host) {
        Ok(report) => report,
        Err(why) => InspectionReport {
            failed: Some(why.chars().take(LONGEST_FAILURE).collect()),
            ..InspectionReport::default()
        },
    };
    link.report_to(&format!("{url}/inspections/{}", offer.no), &report).await
}

fn look(offer: &InspectionOffer, host: &mut dyn Host) -> Result<InspectionReport, String> {
    let kind = find(&offer.kind)
        .ok_or_else(|| format!("this agent knows no kind {}: it is older than the server", offer.kind))?;
    // As it is now, and not as a run before saw it.
    host.forget_readings();
    let told = host.describe_things(kind, offer.name.as_deref());
    host.forget_readings();
    told.map(InspectionReport::of).map_err(|error| match error {
        CannotDescribe::NotOfThisKind(why) => why,
        CannotDescribe::Unsupported(why) => {
            format!("a {} cannot be inspected on this machine: {why}", kind.noun())
        }
        CannotDescribe::Failed(error) => error.message,
    })
}
