//! People: signing in, and who one is.

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

/// A person with what they have.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Person {
    /// The name.
    pub name: String,
    /// The roles.
    pub roles: Vec<String>,
    /// Since when there is this person.
    pub made_at: Timestamp,
    /// Whether there is a password to sign in by.
    pub has_password: bool,
    /// Sessions of the console that hold.
    pub sessions: u64,
    /// Tokens that hold.
    pub tokens: u64,
    /// When the person or a program of theirs was here last, to a quarter of an hour.
    pub last_at: Option<Timestamp>,
}

/// What ended with a person who was removed.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RemovedPerson {
    /// Sessions of the console.
    pub sessions: u64,
    /// Tokens.
    pub tokens: u64,
    /// Invitations that could still be used.
    pub invitations: u64,
}

/// A token, without what it opens.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Token {
    /// Its id.
    pub id: Uuid,
    /// Whose it is.
    pub person: String,
    /// What it is called.
    pub name: String,
    /// `program`, or `client`: what signing in with the client gave.
    pub made_for: String,
    /// When it was made.
    pub made_at: Timestamp,
    /// Until when it holds; without it, until it is withdrawn.
    pub ends_at: Option<Timestamp>,
    /// When it was used last, to a quarter of an hour.
    pub last_at: Option<Timestamp>,
}

/// A token to be made for a program.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NewToken {
    /// The person in whose name the program acts.
    pub person: String,
    /// What it is called.
    pub name: String,
    /// After so many seconds it ends; without it, when it is withdrawn.
    pub for_secs: Option<u64>,
}

/// A token that was made. It is shown once and never again.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct MadeToken {
    /// Its id.
    pub id: Uuid,
    /// What the program shows.
    pub token: Concealed,
    /// Until when it holds.
    pub ends_at: Option<Timestamp>,
}

/// Requests that were refused and are alike.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RefusedRequest {
    /// The person, if it is known who asked.
    pub person: Option<String>,
    /// The node that asked.
    pub node: Option<String>,
    /// Method and address, as the interface names them.
    pub what: String,
    /// The address, or the network (IPv6), that they came from.
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

/// What granting a role came to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum Granted {
    /// There was nobody of this name before.
    NewPerson,
    /// The person has one more role.
    NewRole,
    /// The person had it already.
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

/// A page of the console that failed in somebody's browser.
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
