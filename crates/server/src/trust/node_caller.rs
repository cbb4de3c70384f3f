//! Nodes: who calls, by client certificate. The node's admission is looked up at every request.

use super::authority::node_of_certificate;
use super::caller::refuse;
use crate::callers::{ShownCertificate, caller_of};
use crate::problem::ApiError;
use crate::store::node;
use rocket::State;
use rocket::request::{FromRequest, Outcome, Request};
use sqlx::PgPool;
use uuid::Uuid;

/// A node that joined and was not revoked.
pub struct NodeCaller {
    /// Its id.
    pub id: Uuid,
    /// Its name.
    pub name: String,
}

impl ShownCertificate {
    /// Reads who a certificate speaks of, as DER. That the CA issued it is known already.
    pub fn read(certificate: &[u8]) -> Option<Self> {
        let (node, spki) = node_of_certificate(certificate)?;
        Some(Self { node, spki })
    }

    /// Returns the node, if it is still admitted.
    ///
    /// # Errors
    ///
    /// Returns that it is not known, revoked or retired.
    pub async fn caller(&self, db: &PgPool) -> Result<NodeCaller, ApiError> {
        let admission =
            node::by_key(db, self.node, &self.spki).await?.ok_or(ApiError::Unknown("certificate"))?;
        match (admission.is_retired, admission.is_revoked) {
            (true, _) => Err(ApiError::Retired(admission.name)),
            (_, true) => Err(ApiError::Revoked(admission.name)),
            _ => Ok(NodeCaller { id: self.node, name: admission.name }),
        }
    }
}

#[rocket::async_trait]
impl<'r> FromRequest<'r> for ShownCertificate {
    type Error = ();

    async fn from_request(request: &'r Request<'_>) -> Outcome<Self, ()> {
        match shown(request) {
            Some(shown) => Outcome::Success(shown.clone()),
            None => refuse(request, &ApiError::Unknown("certificate")),
        }
    }
}

#[rocket::async_trait]
impl<'r> FromRequest<'r> for NodeCaller {
    type Error = ();

    async fn from_request(request: &'r Request<'_>) -> Outcome<Self, ()> {
        match caller(request).await {
            Ok(node) => Outcome::Success(node),
            Err(error) => refuse(request, &error),
        }
    }
}

fn shown<'r>(request: &'r Request<'_>) -> Option<&'r ShownCertificate> {
    caller_of(request)?.shown.as_ref()
}

async fn caller(request: &Request<'_>) -> Result<NodeCaller, ApiError> {
    let shown = shown(request).ok_or(ApiError::Unknown("certificate"))?;
    let db = request.guard::<&State<PgPool>>().await.succeeded().ok_or(ApiError::Unknown("certificate"))?;
    shown.caller(db.inner()).await
}
