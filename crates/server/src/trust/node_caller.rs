//! Nodes: who calls, by client certificate. The node's standing is looked up at every request.

use super::authority::node_of_certificate;
use super::caller::refuse;
use crate::problem::ApiError;
use crate::store::node;
use rocket::State;
use rocket::mtls::Certificate;
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

async fn caller(request: &Request<'_>) -> Result<NodeCaller, ApiError> {
    // Without a certificate the guard forwards, which would end as `not found`.
    let certificate = request.guard::<Certificate<'_>>().await.succeeded().ok_or(ApiError::Unknown("certificate"))?;
    let (id, spki) = node_of_certificate(certificate.as_bytes()).ok_or(ApiError::Unknown("certificate"))?;
    let db = request.guard::<&State<PgPool>>().await.succeeded().ok_or(ApiError::Unknown("certificate"))?;
    let standing = node::by_key(db.inner(), id, &spki).await?.ok_or(ApiError::Unknown("certificate"))?;
    if standing.is_refused { Err(ApiError::Revoked(standing.name)) } else { Ok(NodeCaller { id, name: standing.name }) }
}
