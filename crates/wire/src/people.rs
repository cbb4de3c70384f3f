//! People: signing in, and who one is.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::fmt;

/// A text that is never written out: it prints as dots.
#[derive(Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(transparent)]
pub struct Concealed(pub String);

impl fmt::Debug for Concealed {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("…")
    }
}

/// A person's name and password.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct SignIn {
    /// The person.
    pub name: String,
    /// The password.
    pub password: Concealed,
}

/// Signs in by a one-time link, and sets the password to sign in by from then on.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Welcome {
    /// The link's secret.
    pub secret: Concealed,
    /// The name that the first administrator chooses; others have theirs.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// The new password.
    pub password: Concealed,
}

/// For whom a one-time link is.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct WelcomeFor {
    /// The person; none for the first administrator, who chooses a name.
    pub name: Option<String>,
}

/// Who one is, and on which server.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Session {
    /// The person.
    pub person: String,
    /// The person's roles.
    pub roles: Vec<String>,
    /// What they may do.
    pub permissions: Vec<String>,
    /// What the console sends with each request that changes something; none for programs.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub token: Option<String>,
    /// The server.
    pub server: ServerAbout,
}

/// A server, so that two windows are never mixed up.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ServerAbout {
    /// What the operator calls it.
    pub title: String,
    /// The colour that the operator chose for it, as `#0F5E6B`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub colour: Option<String>,
    /// Its version.
    pub version: String,
    /// The fingerprint of its CA.
    pub fingerprint: String,
}

/// A token that the client keeps.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ClientToken {
    /// The person.
    pub person: String,
    /// The token.
    pub token: Concealed,
    /// Until when it holds.
    pub expires_at: Timestamp,
    /// The server.
    pub server: ServerAbout,
}
