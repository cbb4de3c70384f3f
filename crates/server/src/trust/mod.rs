//! Who may speak to the server: the CA and its certificates, persons, tokens, roles and permissions.

mod authority;
mod caller;
mod node_caller;
pub mod password;
mod permission;
mod protected;
mod secret;
pub mod session;

pub use authority::{Authority, AuthorityError, IssuedCertificate, ReadRequest, renew_after};
pub use caller::{Allowed, CalledBy};
pub use node_caller::{NodeCaller, ShownCertificate};
pub use permission::{
    GroupEdit, InvitationMake, JoinDecide, KitPublish, NodeRead, NodeRevoke, Permission, Role, ServerRecover, SessionOwn, StageServe, permissions_of,
};
pub use protected::{HandedOut, Refusal, Refusals};
pub use secret::{Secret, digest_of};
