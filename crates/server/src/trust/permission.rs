//! Permissions, each named by the routes that need it, and the roles that hold them.

use clap::ValueEnum;

/// A named set of permissions.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Role {
    /// Sees everything that is not secret.
    Reader,
    /// Starts runs.
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
        let reads = permission == NodeRead::NAME;
        match word {
            "administrator" => true,
            "approver" => {
                reads || [InvitationMake::NAME, JoinDecide::NAME, NodeRevoke::NAME, StageServe::NAME, GroupEdit::NAME].contains(&permission)
            }
            "publisher" => reads || permission == KitPublish::NAME,
            "reader" | "operator" => reads,
            _ => false,
        }
    }
}

/// Returns whether one of these roles holds a permission.
pub(super) fn allows(roles: &[String], permission: &str) -> bool {
    roles.iter().any(|role| Role::holds(role, permission))
}

/// A permission as a type, so that a route cannot forget to name the one it needs.
pub trait Permission: Send + Sync + 'static {
    /// Its name.
    const NAME: &'static str;
}

macro_rules! permissions {
    ($($(#[$doc:meta])* $name:ident = $word:literal;)*) => {
        $($(#[$doc])* pub struct $name; impl Permission for $name { const NAME: &'static str = $word; })*
    };
}

permissions! {
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
    /// Set groups: assignments, parameters, modes.
    GroupEdit = "group.edit";
    /// Refuse a node from now on.
    NodeRevoke = "node.revoke";
    /// End recovering after the database was put back.
    ServerRecover = "server.recover";
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn roles_hold_what_they_are_for_and_no_more() {
        let all = [
            InvitationMake::NAME,
            JoinDecide::NAME,
            NodeRead::NAME,
            NodeRevoke::NAME,
            KitPublish::NAME,
            StageServe::NAME,
            GroupEdit::NAME,
            ServerRecover::NAME,
        ];
        for (role, may) in [
            ("administrator", "join.invite join.approve node.read node.revoke kit.publish stage.serve group.edit server.recover"),
            ("approver", "join.invite join.approve node.read node.revoke stage.serve group.edit"),
            ("publisher", "node.read kit.publish"),
            ("reader", "node.read"),
            ("operator", "node.read"),
            ("stranger", ""),
        ] {
            let holds: Vec<&str> = all.into_iter().filter(|permission| allows(&[role.to_owned()], permission)).collect();
            assert_eq!(holds.join(" "), may, "{role}");
        }
    }
}
