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
            "approver" => reads || [InvitationMake::NAME, JoinDecide::NAME, NodeRevoke::NAME].contains(&permission),
            "reader" | "operator" | "publisher" => reads,
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
    /// Refuse a node from now on.
    NodeRevoke = "node.revoke";
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn roles_hold_what_they_are_for_and_no_more() {
        let allowed = |role: &str, permission: &str| allows(&[role.to_owned()], permission);
        for (role, may) in [
            ("administrator", [true, true, true, true]),
            ("approver", [true, true, true, true]),
            ("reader", [false, false, true, false]),
            ("operator", [false, false, true, false]),
            ("stranger", [false; 4]),
        ] {
            assert_eq!(
                [InvitationMake::NAME, JoinDecide::NAME, NodeRead::NAME, NodeRevoke::NAME].map(|permission| allowed(role, permission)),
                may,
                "{role}"
            );
        }
    }
}
