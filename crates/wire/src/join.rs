//! Joining: invitations, requests and decisions.

use constans_core::filter::About;
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
    /// The labels from the invitation.
    pub labels: BTreeMap<String, String>,
    /// Who created the invitation; none for a known node that asks for a new certificate.
    pub invited_by: Option<String>,
    /// The known node that sent the request.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub known_as: Option<String>,
    /// Since when that node is revoked, if it is. If approved, it is that node again.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub revoked_since: Option<Timestamp>,
    /// When it was first requested.
    pub requested_at: Timestamp,
    /// Whether a node already has this name.
    pub name_in_use: bool,
}

/// How a request is approved.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Approve {
    /// As a known node on a new machine.
    #[serde(default)]
    pub as_node: Option<String>,
}

/// Why a request is denied.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Deny {
    /// Why.
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
