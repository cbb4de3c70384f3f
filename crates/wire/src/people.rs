//! People: signing in, sessions, roles.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::fmt;
use uuid::Uuid;

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

/// Signs in by a one-time link, and sets the password.
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

/// The person of a one-time link.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct WelcomeFor {
    /// The person; none for the first administrator, who chooses a name.
    pub name: Option<String>,
}

/// The caller, and the server.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Session {
    /// The person.
    pub person: String,
    /// The person's roles.
    pub roles: Vec<String>,
    /// What they may do.
    pub permissions: Vec<String>,
    /// What they may do on the nodes of some groups only.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub limited: Vec<LimitedPermission>,
    /// The token that the console sends with each changing request; none for programs.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub token: Option<String>,
    /// The server.
    pub server: ServerAbout,
}

/// What a person may do on the nodes of some groups only.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct LimitedPermission {
    /// The permission.
    pub permission: String,
    /// The groups.
    pub groups: Vec<String>,
}

/// The server, so that windows of different servers are not confused.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ServerAbout {
    /// The title that its operator chose.
    pub title: String,
    /// The colour that its operator chose, as `#0F5E6B`.
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
    /// End of its validity.
    pub expires_at: Timestamp,
    /// The server.
    pub server: ServerAbout,
}

/// A person with roles, sessions and tokens.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Person {
    /// The name.
    pub name: String,
    /// The roles.
    pub roles: Vec<String>,
    /// When the person was added.
    pub made_at: Timestamp,
    /// Whether the person has a password.
    pub has_password: bool,
    /// Open sessions of the console.
    pub sessions: u64,
    /// Valid tokens.
    pub tokens: u64,
    /// Last request of the person or their programs, to a quarter of an hour.
    pub last_at: Option<Timestamp>,
}

/// Sessions, tokens and invitations that ended with a removed person.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RemovedPerson {
    /// Sessions of the console.
    pub sessions: u64,
    /// Tokens.
    pub tokens: u64,
    /// Open invitations.
    pub invitations: u64,
}

/// A token, without its secret.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Token {
    /// Its id.
    pub id: Uuid,
    /// Whose it is.
    pub person: String,
    /// Its name.
    pub name: String,
    /// `program`, or `client`: what signing in with the client gave.
    pub made_for: String,
    /// When it was made.
    pub made_at: Timestamp,
    /// End of its validity; without it, valid until withdrawn.
    pub ends_at: Option<Timestamp>,
    /// Last use, to a quarter of an hour.
    pub last_at: Option<Timestamp>,
}

/// A token to create for a program.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NewToken {
    /// The person on whose behalf the program acts.
    pub person: String,
    /// Its name.
    pub name: String,
    /// Validity in seconds; without it, valid until withdrawn.
    pub for_secs: Option<u64>,
}

/// A created token. It is returned only once.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct MadeToken {
    /// Its id.
    pub id: Uuid,
    /// What the program shows.
    pub token: Concealed,
    /// End of its validity.
    pub ends_at: Option<Timestamp>,
}

/// Equal refused requests.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RefusedRequest {
    /// The person, if it is known who asked.
    pub person: Option<String>,
    /// The node that asked.
    pub node: Option<String>,
    /// Method and address, as the interface names them.
    pub what: String,
    /// The source address, or source network (IPv6).
    pub from_where: String,
    /// How they were answered.
    pub status: u16,
    /// When first.
    pub first_at: Timestamp,
    /// When last.
    pub last_at: Timestamp,
    /// How often.
    pub times: u64,
}

/// The result of granting a role.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum Granted {
    /// The person is new.
    NewPerson,
    /// The role is new.
    NewRole,
    /// The person already had the role.
    NothingNew,
}

impl Granted {
    /// Returns it in words.
    pub fn words(self, person: &str, role: &str) -> String {
        match self {
            Self::NewPerson => format!("{person} is a new person, and {role}"),
            Self::NewRole => format!("{person} is now {role}"),
            Self::NothingNew => format!("{person} is already {role}"),
        }
    }
}

/// A page of the console that failed in someone's browser.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PageError {
    /// The page's address below the server's.
    #[cfg_attr(feature = "schema", schema(max_length = 500))]
    pub page: String,
    /// What failed.
    #[cfg_attr(feature = "schema", schema(max_length = 500))]
    pub message: String,
    /// Where in the console's code.
    #[cfg_attr(feature = "schema", schema(max_length = 4000))]
    pub stack: String,
}
