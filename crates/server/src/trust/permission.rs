//! Permissions, each named by the routes that need it, and the roles that hold them.

use clap::ValueEnum;

/// A named set of permissions.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Role {
    /// Sees everything that is not secret.
    Reader,
    /// Starts runs, sets freezes.
    Operator,
    /// Publishes kits.
    Publisher,
    /// Decides what is served and who joins.
    Approver,
    /// May do everything.
    Administrator,
}

impl Role {
    /// Returns its word in the database.
    pub fn word(self) -> &'static str {
        match self {
            Self::Reader => "reader",
            Self::Operator => "operator",
            Self::Publisher => "publisher",
            Self::Approver => "approver",
            Self::Administrator => "administrator",
        }
    }

    fn holds(word: &str, permission: &str) -> bool {
        let reads =
            [NodeRead::NAME, SessionOwn::NAME, AuditRead::NAME, EvidenceMake::NAME].contains(&permission);
        match word {
            "administrator" => true,
            "approver" => {
                reads
                    || [
                        InvitationMake::NAME,
                        JoinDecide::NAME,
                        NodeRevoke::NAME,
                        NodeEdit::NAME,
                        FreezeSet::NAME,
                        ControlEdit::NAME,
                        ConcessionAsk::NAME,
                        ConcessionDecide::NAME,
                        StageServe::NAME,
                        StageEdit::NAME,
                        GroupEdit::NAME,
                        DesiredImport::NAME,
                        ChangeDecide::NAME,
                        ChangeRequest::NAME,
                    ]
                    .contains(&permission)
            }
            "operator" => {
                reads || [FreezeSet::NAME, ConcessionAsk::NAME, ChangeRequest::NAME].contains(&permission)
            }
            "publisher" => {
                reads || [KitPublish::NAME, ConcessionAsk::NAME, ChangeRequest::NAME].contains(&permission)
            }
            "reader" => reads,
            _ => false,
        }
    }
}

/// Returns whether one of these roles holds a permission.
pub(super) fn allows(roles: &[String], permission: &str) -> bool {
    roles.iter().any(|role| Role::holds(role, permission))
}

/// Returns the permissions that these roles hold.
pub fn permissions_of(roles: &[String]) -> Vec<&'static str> {
    ALL.iter().copied().filter(|permission| allows(roles, permission)).collect()
}

/// A permission as a type, so that a route cannot forget to name the one it needs.
pub trait Permission: Send + Sync + 'static {
    /// Its name.
    const NAME: &'static str;
}

macro_rules! permissions {
    ($($(#[$doc:meta])* $name:ident = $word:literal;)*) => {
        $($(#[$doc])* pub struct $name; impl Permission for $name { const NAME: &'static str = $word; })*
        /// All permissions.
        const ALL: &[&str] = &[$($word),*];
    };
}

permissions! {
    /// See who one is oneself, and sign out.
    SessionOwn = "session.own";
    /// Make and see invitations.
    InvitationMake = "join.invite";
    /// Approve and deny joining requests.
    JoinDecide = "join.approve";
    /// See nodes and joining requests.
    NodeRead = "node.read";
    /// Publish kits.
    KitPublish = "kit.publish";
    /// Decide which releases a stage serves.
    StageServe = "stage.serve";
    /// Make, move, rename and remove stages.
    StageEdit = "stage.edit";
    /// Set groups: assignments, parameters, modes.
    GroupEdit = "group.edit";
    /// Import the desired state as one document.
    DesiredImport = "desired.import";
    /// Confirm, stop and revert changes of desired state.
    ChangeDecide = "change.decide";
    /// Request changes of desired state, which another person hands out.
    ChangeRequest = "change.request";
    /// Revoke a node: it is refused from now on.
    NodeRevoke = "node.revoke";
    /// Set and end freezes.
    FreezeSet = "freeze.set";
    /// Set the catalogue of controls and the list of assets.
    ControlEdit = "control.edit";
    /// Ask for concessions, and withdraw those that wait.
    ConcessionAsk = "concession.ask";
    /// Approve, refuse and end concessions; one's own only another person approves.
    ConcessionDecide = "concession.decide";
    /// Have evidence made, and remove one's own.
    EvidenceMake = "evidence.make";
    /// Label, rename and retire nodes.
    NodeEdit = "node.edit";
    /// See persons and all tokens; grant and withdraw roles, make and withdraw tokens, remove persons.
    PeopleManage = "people.manage";
    /// See the audit trail.
    AuditRead = "audit.read";
    /// Add and remove the packages by which the agent is installed: machines run them as root.
    AgentPackageEdit = "agent_package.edit";
    /// End recovering after the database was put back.
    ServerRecover = "server.recover";
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn roles_hold_what_they_are_for_and_no_more() {
        for (role, may) in [
            (
                "administrator",
                "session.own join.invite join.approve node.read kit.publish stage.serve stage.edit group.edit desired.import change.decide change.request node.revoke freeze.set control.edit concession.ask concession.decide evidence.make node.edit people.manage audit.read agent_package.edit server.recover",
            ),
            (
                "approver",
                "session.own join.invite join.approve node.read stage.serve stage.edit group.edit desired.import change.decide change.request node.revoke freeze.set control.edit concession.ask concession.decide evidence.make node.edit audit.read",
            ),
            (
                "publisher",
                "session.own node.read kit.publish change.request concession.ask evidence.make audit.read",
            ),
            ("reader", "session.own node.read evidence.make audit.read"),
            (
                "operator",
                "session.own node.read change.request freeze.set concession.ask evidence.make audit.read",
            ),
            ("stranger", ""),
        ] {
            assert_eq!(permissions_of(&[role.to_owned()]).join(" "), may, "{role}");
        }
    }
}
