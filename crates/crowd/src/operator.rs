//! The crowd's operator, who invites and approves its nodes and revokes those that left, by a token of the server.

use constans_link::{LinkError, client, send};
use constans_wire::join::{
    ApproveRequest, ApproveRequests, Approved, JoiningRequest, MadeInvitation, NewInvitation,
};
use reqwest::Client;
use serde::Serialize;
use serde::de::DeserializeOwned;
use std::collections::BTreeMap;
use uuid::Uuid;

/// How long an invitation of the crowd holds.
const INVITED_FOR_SECS: u64 = 30 * 86_400;
/// How many nodes may use one.
const MAX_USES: u32 = 10_000;

/// Who acts at the interface for people and programs.
pub struct Operator {
    client: Client,
    url: String,
    ca: String,
    token: String,
}

impl Operator {
    /// Prepares the way to a server by its address for people, the fingerprint of its CA and a token.
    ///
    /// # Errors
    ///
    /// Returns what is wrong with the fingerprint.
    pub fn new(url: &str, ca: &str, token: &str) -> Result<Self, LinkError> {
        Ok(Self {
            client: client(ca, None)?,
            url: url.trim_end_matches('/').to_owned(),
            ca: ca.to_owned(),
            token: token.to_owned(),
        })
    }

    pub(crate) async fn invite(&self, labels: BTreeMap<String, String>) -> Result<MadeInvitation, LinkError> {
        self.post("/api/invitations", &NewInvitation { for_secs: INVITED_FOR_SECS, uses: MAX_USES, labels })
            .await
    }

    /// Returns the requests that wait, with the SHA-256 of each one's key.
    pub(crate) async fn waiting(&self) -> Result<Vec<JoiningRequest>, LinkError> {
        send(self.client.get(format!("{}/api/joining-requests", self.url)).bearer_auth(&self.token), &self.ca)
            .await
    }

    pub(crate) async fn approve(&self, request: Uuid) -> Result<Approved, LinkError> {
        let requests = vec![ApproveRequest { id: request, ..ApproveRequest::default() }];
        let wanted = ApproveRequests { requests, ..ApproveRequests::default() };
        self.post("/api/joining-requests/approve", &wanted).await
    }

    pub(crate) async fn revoke(&self, node: &str) -> Result<serde_json::Value, LinkError> {
        self.post(&format!("/api/nodes/{node}/revoke"), &serde_json::Value::Null).await
    }

    async fn post<T: DeserializeOwned>(&self, path: &str, body: &impl Serialize) -> Result<T, LinkError> {
        send(self.client.post(format!("{}{path}", self.url)).bearer_auth(&self.token).json(body), &self.ca)
            .await
    }
}
