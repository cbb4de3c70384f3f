//! Joining: invitations, requests and decisions.

use crate::agent_package::InstallLine;
use constans_core::filter::About;
use constans_core::joining::{Placement, WaitsBecause};
use constans_core::run::Mode;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::fmt;
use uuid::Uuid;

/// The version of the format.
pub const INVITATION_FORM: u32 = 1;

/// The invitation that a new node presents. Everything else about it is looked up by its id.
#[derive(Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Invitation {
    /// The version of this format.
    pub form: u32,
    /// The URLs of the agents' listener.
    pub urls: Vec<String>,
    /// Its id.
    pub id: Uuid,
    /// Its secret.
    pub secret: String,
    /// The SHA-256 of the CA's public key (SPKI), in hexadecimal digits.
    pub ca: String,
}

impl fmt::Debug for Invitation {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Invitation({})", self.id)
    }
}

/// An invitation to create.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NewInvitation {
    /// How long it holds, in seconds.
    pub for_secs: u64,
    /// How many nodes may use it.
    pub uses: u32,
    /// Labels of the nodes that use it.
    #[serde(default)]
    pub labels: BTreeMap<String, String>,
}

/// A created invitation. Its text is returned only once.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct MadeInvitation {
    /// Its id.
    pub id: Uuid,
    /// The line for the node.
    pub text: String,
    /// End of its validity.
    pub expires_at: Timestamp,
    /// The line that installs the agent on a machine and lets it join; none if the server has no package of it.
    pub install: Option<InstallLine>,
}

/// A certificate request of a node. Sent again with the same key, it asks for the decision.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct JoinRequest {
    /// The invitation's id.
    pub invitation: Uuid,
    /// The invitation's secret.
    pub secret: String,
    /// The requested name of the node.
    pub name: String,
    /// The certificate request (PKCS #10), PEM.
    pub request: String,
    /// What the agent reported about the node.
    pub about: About,
    /// The version of the agent.
    pub agent: String,
}

/// A request of a known node after its certificate ended: it proves its key, without a certificate.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AskAgain {
    /// The certificate request (PKCS #10), PEM.
    pub request: String,
    /// What the agent reported about the node.
    pub about: About,
    /// The version of the agent.
    pub agent: String,
}

/// The state of a joining request.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case", tag = "state")]
pub enum JoinAnswer {
    /// An operator has not decided yet.
    Waiting {
        /// The request.
        request: Uuid,
    },
    /// It was approved.
    Approved {
        /// The node.
        node: Uuid,
        /// Its name.
        name: String,
        /// Its certificate, PEM.
        certificate: String,
        /// When it is to be renewed.
        renew_after: Timestamp,
        /// End of its validity.
        ends_at: Timestamp,
    },
    /// It was denied.
    Denied {
        /// Why.
        because: String,
    },
}

/// A joining request as operators see it.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct JoiningRequest {
    /// Its id.
    pub id: Uuid,
    /// The requested name of the node.
    pub name: String,
    /// The SHA-256 of the node's public key (SPKI), to compare with the one that the node prints.
    pub fingerprint: String,
    /// The source address.
    pub address: String,
    /// What the machine reported about itself.
    pub about: About,
    /// The invitation that it came with; none for a known node that asks for a new certificate.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub invitation: Option<Uuid>,
    /// The labels from the invitation.
    pub labels: BTreeMap<String, String>,
    /// Who created the invitation.
    pub invited_by: Option<String>,
    /// The known node that sent the request.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub known_as: Option<String>,
    /// Since when that node is revoked, if it is. If approved, it is that node again.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub revoked_since: Option<Timestamp>,
    /// When it was first requested.
    pub requested_at: Timestamp,
    /// The node that has this name already.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name_used_by: Option<NameUser>,
    /// The admission rule that it fits although it waits, and why.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rule_waits: Option<RuleWaits>,
    /// What was decided of it; none while it waits.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub decision: Option<JoinDecision>,
}

/// A node that has the name that another machine claims.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NameUser {
    /// Since when it is of the fleet.
    pub joined_at: Timestamp,
    /// The fingerprint of its newest key.
    pub fingerprint: Option<String>,
    /// When it checked in last; none if it never did.
    pub last_contact: Option<Timestamp>,
    /// Since when it is revoked, if it is.
    pub revoked_since: Option<Timestamp>,
}

/// Why a machine that fits an admission rule waits for a person all the same.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RuleWaits {
    /// The rule's number: 3 is called A3.
    pub rule: i64,
    /// Why.
    pub because: WaitsBecause,
}

/// What was decided of a joining request.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct JoinDecision {
    /// Whether it was approved; else it was denied.
    pub is_approved: bool,
    /// Who decided it, or made the rule that did.
    pub who: String,
    /// When.
    pub at: Timestamp,
    /// The admission rule that let it in.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rule: Option<i64>,
    /// Why it was denied.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub because: Option<String>,
    /// What the node is called now that it became; none if that one is retired, or if it was denied.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub node: Option<String>,
}

/// This many requests are decided at once at most.
pub const MAX_DECIDED: usize = 200;

/// Requests to be approved together, all or none.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct ApproveRequests {
    /// The requests.
    #[cfg_attr(feature = "schema", schema(min_items = 1, max_items = 200))]
    pub requests: Vec<ApproveRequest>,
    /// Where their machines are placed. Those that are known nodes keep their place.
    #[serde(default)]
    pub placement: Placement,
    /// Only return what would become of them.
    #[serde(default)]
    pub preview: bool,
}

/// A request to be approved.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct ApproveRequest {
    /// Its id.
    pub id: Uuid,
    /// Another name than the requested one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// The known node that it is, on a new machine.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub as_node: Option<String>,
}

/// What became of approved requests, or would.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Approved {
    /// The nodes, in the order of the requests.
    pub nodes: Vec<ApprovedNode>,
    /// The change by which groups name them: 118 is called C118.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub change: Option<i64>,
}

/// A machine that became a node, or would, with what is desired of it.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ApprovedNode {
    /// Its name.
    pub name: String,
    /// The fingerprint of its key.
    pub fingerprint: String,
    /// Whether it is a node that was known before.
    pub was_known: bool,
    /// Its labels.
    pub labels: BTreeMap<String, String>,
    /// Its groups, the lowest first.
    pub groups: Vec<String>,
    /// Its stage.
    pub stage: String,
    /// Its mode; none if nothing could be resolved of it.
    pub mode: Option<Mode>,
    /// How many clauses are desired of it; none if its desired state cannot be resolved.
    pub clauses: Option<u64>,
    /// Why its desired state cannot be resolved.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub unusable: Option<String>,
}

/// Requests to be denied, and why.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct DenyRequests {
    /// The requests.
    #[cfg_attr(feature = "schema", schema(min_items = 1, max_items = 200))]
    pub requests: Vec<Uuid>,
    /// The reason; the machines receive it.
    pub because: String,
}

/// A request of a node for a newer certificate of its key.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Renew {
    /// The certificate request (PKCS #10), PEM.
    pub request: String,
}

/// A newer certificate.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Renewed {
    /// The certificate, PEM.
    pub certificate: String,
    /// When it is to be renewed.
    pub renew_after: Timestamp,
    /// End of its validity.
    pub ends_at: Timestamp,
}

/// An open invitation, without its secret.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct OpenInvitation {
    /// Its id.
    pub id: Uuid,
    /// Labels of the nodes that use it.
    pub labels: BTreeMap<String, String>,
    /// How many nodes may use it in all.
    pub uses: u32,
    /// How many may still.
    pub uses_left: u32,
    /// Who created it.
    pub made_by: String,
    /// When.
    pub made_at: Timestamp,
    /// End of its validity.
    pub expires_at: Timestamp,
}
