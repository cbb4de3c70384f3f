//! Who may speak to the server: the CA and its certificates, persons, tokens, roles and permissions.

mod authority;
mod caller;
mod node_caller;
mod permission;
mod protected;
mod secret;

pub use authority::{Authority, AuthorityError, IssuedCertificate, ReadRequest, renew_after};
pub use caller::Allowed;
pub use node_caller::NodeCaller;
pub use permission::{GroupEdit, InvitationMake, JoinDecide, KitPublish, NodeRead, NodeRevoke, Permission, Role, ServerRecover, StageServe};
pub use protected::{HandedOut, Refusal, Refusals};
pub use secret::{Secret, digest_of};
