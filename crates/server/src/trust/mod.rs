//! Authentication and authorization: the CA and its certificates, persons, tokens, roles and permissions.

mod authority;
mod caller;
mod evidence_keys;
mod handed_out;
mod node_caller;
mod noted_days;
pub mod password;
mod permission;
mod protected;
mod reach;
mod refusals;
mod secret;
pub mod session;

pub use authority::{Authority, IssuedCertificate, ReadRequest, renew_after};
pub use caller::{Allowed, Asker, CalledBy, LONGEST_REQUEST_KEY, MayAsk};
pub use evidence_keys::{EvidenceKeyError, EvidenceKeys};
pub use handed_out::{HandedOut, LastDatabase, SeenDatabase};
pub use node_caller::NodeCaller;
pub use noted_days::NotedDays;
pub use permission::{
    AgentPackageEdit, AuditRead, ChangeDecide, ChangeRequest, ConcessionAsk, ConcessionDecide, ControlEdit,
    DesiredImport, EvidenceMake, FreezeSet, GroupEdit, HeldRole, InvitationMake, JoinDecide, KitPublish,
    NodeDrill, NodeEdit, NodeInspect, NodeRead, NodeRevoke, NodeWake, PeopleManage, Permission, Role,
    RunCorrectOnce, RunNow, RunOutsideWindow, ServerRecover, SessionOwn, StageEdit, StageServe,
    limited_permissions, permissions_of,
};
pub use protected::{ProtectedError, ProtectedFolder, put_whole};
pub use reach::{AllowedWithin, MayAskWithin};
pub use refusals::{Refusal, Refusals};
pub use secret::{Secret, digest_of};
