//! Permissions, each named by the routes that need it, and the roles that hold them.

use clap::ValueEnum;

/// A named set of permissions.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Role {
    /// Sees everything that is not secret.
    Reader,
    /// Wakes nodes, has them run, sets freezes.
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

    /// Returns whether it can be held for the nodes of one group: what it permits is done on nodes.
    fn can_be_limited(self) -> bool {
        matches!(self, Self::Operator | Self::Approver)
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
                        NodeWake::NAME,
                        NodeInspect::NAME,
                        NodeDrill::NAME,
                        RunNow::NAME,
                        RunCorrectOnce::NAME,
                        RunOutsideWindow::NAME,
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
                reads
                    || [
                        NodeWake::NAME,
                        NodeInspect::NAME,
                        RunNow::NAME,
                        RunCorrectOnce::NAME,
                        FreezeSet::NAME,
                        ConcessionAsk::NAME,
                        ChangeRequest::NAME,
                    ]
                    .contains(&permission)
            }
            "publisher" => {
                reads || [KitPublish::NAME, ConcessionAsk::NAME, ChangeRequest::NAME].contains(&permission)
            }
            "reader" => reads,
            // Who has a role for some nodes sees all of them.
            limited => reads && HeldRole::parse(limited).is_ok_and(|held| held.group.is_some()),
        }
    }
}

/// A role as a person holds it: for the whole fleet, `operator`, or for the nodes of one group, `operator@kiosks`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HeldRole {
    /// The role.
    pub role: Role,
    /// The group; the whole fleet if none.
    pub group: Option<String>,
}

impl HeldRole {
    /// Reads a role as it is written.
    ///
    /// # Errors
    ///
    /// Returns which roles there are, or that this one is held for the whole fleet only.
    pub fn parse(word: &str) -> Result<Self, String> {
        let (role, group) = word.split_once('@').map_or((word, None), |(role, group)| (role, Some(group)));
        let Ok(role) = Role::from_str(role, false) else {
            let roles: Vec<&str> = Role::value_variants().iter().map(|role| role.word()).collect();
            return Err(format!("there is no role `{role}`: {}", roles.join(", ")));
        };
        if group.is_some() && !role.can_be_limited() {
            let why =
                "is held for the whole fleet: operator and approver can be held for the nodes of one group";
            return Err(format!("{} {why}", role.word()));
        }
        if group == Some("") {
            return Err(format!("name the group after {}@", role.word()));
        }
        Ok(Self { role, group: group.map(str::to_owned) })
    }

    /// Returns it as it is written.
    pub fn word(&self) -> String {
        match &self.group {
            None => self.role.word().to_owned(),
            Some(group) => format!("{}@{group}", self.role.word()),
        }
    }
}

/// Returns the groups on whose nodes roles permit something that they do not permit everywhere.
pub(super) fn groups_of(roles: &[String], permission: &str) -> Vec<String> {
    let held = roles.iter().filter_map(|role| HeldRole::parse(role).ok());
    let permitting = held.filter(|held| Role::holds(held.role.word(), permission));
    let mut groups: Vec<String> = permitting.filter_map(|held| held.group).collect();
    groups.sort();
    groups.dedup();
    groups
}

/// What roles may be limited in, by permission: the handlers of these say on which nodes they act.
const LIMITED: [&str; 14] = [
    NodeWake::NAME,
    NodeInspect::NAME,
    NodeDrill::NAME,
    RunNow::NAME,
    RunCorrectOnce::NAME,
    RunOutsideWindow::NAME,
    FreezeSet::NAME,
    ConcessionAsk::NAME,
    ConcessionDecide::NAME,
    NodeEdit::NAME,
    NodeRevoke::NAME,
    GroupEdit::NAME,
    ChangeRequest::NAME,
    ChangeDecide::NAME,
];

/// Returns what these roles permit on the nodes of some groups only, with the groups.
pub fn limited_permissions(roles: &[String]) -> Vec<(&'static str, Vec<String>)> {
    let limited = |permission: &&'static str| {
        let groups = groups_of(roles, permission);
        (!allows(roles, permission) && !groups.is_empty()).then_some((*permission, groups))
    };
    LIMITED.iter().filter_map(limited).collect()
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
    /// Ask nodes to check in at once.
    NodeWake = "node.wake";
    /// Read what is there on nodes, but for what not everybody on them may read.
    NodeInspect = "node.inspect";
    /// Have clauses of nodes broken on purpose, on which that is allowed by their label.
    NodeDrill = "node.drill";
    /// Begin and stop sweeps: runs at once.
    RunNow = "run.now";
    /// Have clauses corrected once although their switches say report or wait.
    RunCorrectOnce = "run.correct_once";
    /// Have nodes enforced without waiting for grace or change window.
    RunOutsideWindow = "run.outside_window";
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
                "session.own join.invite join.approve node.read kit.publish stage.serve stage.edit group.edit desired.import change.decide change.request node.wake node.inspect node.drill run.now run.correct_once run.outside_window node.revoke freeze.set control.edit concession.ask concession.decide evidence.make node.edit people.manage audit.read agent_package.edit server.recover",
            ),
            (
                "approver",
                "session.own join.invite join.approve node.read stage.serve stage.edit group.edit desired.import change.decide change.request node.wake node.inspect node.drill run.now run.correct_once run.outside_window node.revoke freeze.set control.edit concession.ask concession.decide evidence.make node.edit audit.read",
            ),
            (
                "publisher",
                "session.own node.read kit.publish change.request concession.ask evidence.make audit.read",
            ),
            ("reader", "session.own node.read evidence.make audit.read"),
            (
                "operator",
                "session.own node.read change.request node.wake node.inspect run.now run.correct_once freeze.set concession.ask evidence.make audit.read",
            ),
            ("operator@kiosks", "session.own node.read evidence.make audit.read"),
            ("approver@kiosks", "session.own node.read evidence.make audit.read"),
            ("administrator@kiosks", ""),
            ("operator@", ""),
            ("stranger@kiosks", ""),
            ("stranger", ""),
        ] {
            assert_eq!(permissions_of(&[role.to_owned()]).join(" "), may, "{role}");
        }
    }

    #[test]
    fn a_role_for_one_group_permits_its_acts_there_and_nowhere_else() {
        let told = |roles: &[&str]| -> Vec<String> {
            let roles: Vec<String> = roles.iter().map(|role| (*role).to_owned()).collect();
            let limited = limited_permissions(&roles).into_iter();
            limited.map(|(permission, groups)| format!("{permission} {}", groups.join("+"))).collect()
        };
        assert_eq!(
            told(&["operator@kiosks"]),
            [
                "node.wake kiosks",
                "node.inspect kiosks",
                "run.now kiosks",
                "run.correct_once kiosks",
                "freeze.set kiosks",
                "concession.ask kiosks",
                "change.request kiosks"
            ]
        );
        let both = told(&["approver@kiosks", "operator@gates"]);
        assert_eq!(
            both,
            [
                "node.wake gates+kiosks",
                "node.inspect gates+kiosks",
                "node.drill kiosks",
                "run.now gates+kiosks",
                "run.correct_once gates+kiosks",
                "run.outside_window kiosks",
                "freeze.set gates+kiosks",
                "concession.ask gates+kiosks",
                "concession.decide kiosks",
                "node.edit kiosks",
                "node.revoke kiosks",
                "group.edit kiosks",
                "change.request gates+kiosks",
                "change.decide kiosks",
            ]
        );
        assert!(told(&["approver@kiosks", "approver"]).is_empty(), "it may do all of it everywhere");
        assert!(told(&["administrator@kiosks", "publisher@kiosks", "reader@kiosks"]).is_empty());
        assert!(HeldRole::parse("publisher@kiosks").is_err_and(|why| why.contains("whole fleet")));
        assert!(HeldRole::parse("stranger").is_err_and(|why| why.contains("there is no role `stranger`")));
    }
}
