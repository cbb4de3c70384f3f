//! Joining: invitations, requests and what becomes of them.

use constans_core::filter::About;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::fmt;
use uuid::Uuid;

/// The version of the invitation's form.
pub const INVITATION_FORM: u32 = 1;

/// What a new node shows to be heard. Everything else about it is looked up by its id.
#[derive(Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Invitation {
    /// The version of this form.
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

/// What an operator wants of an invitation.
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

/// A made invitation. The text is shown once and never again.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct MadeInvitation {
    /// Its id.
    pub id: Uuid,
    /// The one line to give to the node.
    pub text: String,
    /// Until when it holds.
    pub expires_at: Timestamp,
}

/// A node's certificate request. Sent again with the same key it asks what became of it.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct JoinRequest {
    /// The invitation's id.
    pub invitation: Uuid,
    /// The invitation's secret.
    pub secret: String,
    /// The name that the node wants.
    pub name: String,
    /// The certificate request (PKCS #10), PEM.
    pub request: String,
    /// What the node found out about itself.
    pub about: About,
    /// The version of the agent.
    pub agent: String,
}

/// A known node's request after its certificate ended: it shows the key that it has, and no certificate.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AskAgain {
    /// The certificate request (PKCS #10), PEM.
    pub request: String,
    /// What the node found out about itself.
    pub about: About,
    /// The version of the agent.
    pub agent: String,
}

/// What became of a joining request.
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
        /// Until when it holds.
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
    /// The name that the node wants.
    pub name: String,
    /// The SHA-256 of the node's public key (SPKI): to be compared with what the node shows.
    pub fingerprint: String,
    /// The address that it came from.
    pub address: String,
    /// What the node says of itself.
    pub about: About,
    /// The labels that the invitation gives.
    pub labels: BTreeMap<String, String>,
    /// Who made the invitation; none for a known node whose certificate ended and which asks again without one.
    pub invited_by: Option<String>,
    /// The known node that asks again.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub known_as: Option<String>,
    /// Since when that node is revoked, if it is: approved, it is that node again.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub revoked_since: Option<Timestamp>,
    /// When it was asked first.
    pub requested_at: Timestamp,
    /// Whether a node has this name already.
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

/// A node's wish for a newer certificate of the key that it has.
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
    /// Until when it holds.
    pub ends_at: Timestamp,
}

/// An invitation that may still be used, without what it opens.
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
    /// Who made it.
    pub made_by: String,
    /// When.
    pub made_at: Timestamp,
    /// Until when it holds.
    pub expires_at: Timestamp,
}
