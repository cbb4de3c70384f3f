//! Roles for the nodes of one group only: what they permit is done on those nodes, and each handler says on which it acts.

use super::caller::{Asker, identified, refuse, request_key};
use super::permission::{ChangeRequest, Permission, allows, groups_of};
use crate::problem::ApiError;
use crate::store::{change, node};
use rocket::request::{FromRequest, Outcome, Request};
use sqlx::{PgConnection, PgPool};
use std::marker::PhantomData;
use uuid::Uuid;

/// Where a person may do something.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Reach {
    /// On all nodes, and whatever is of no node.
    Fleet,
    /// On nodes that belong to one of these groups, and in what these groups give.
    Groups(Vec<String>),
}

impl Reach {
    /// Returns where roles permit something.
    pub fn of(roles: &[String], permission: &str) -> Self {
        if allows(roles, permission) { Self::Fleet } else { Self::Groups(groups_of(roles, permission)) }
    }

    fn is_nowhere(&self) -> bool {
        *self == Self::Groups(Vec::new())
    }

    /// Returns the first of some nodes, by name, that it does not have.
    async fn lacks(&self, db: &mut PgConnection, nodes: &[Uuid]) -> Result<Option<String>, ApiError> {
        match self {
            Self::Fleet => Ok(None),
            Self::Groups(groups) => Ok(node::outside_of_groups(db, nodes, groups).await?),
        }
    }

    /// Returns whether it has all nodes that a change alters.
    async fn has_change(&self, db: &mut PgConnection, no: i64) -> Result<bool, ApiError> {
        match self {
            Self::Fleet => Ok(true),
            Self::Groups(groups) => Ok(!change::is_outside_of_groups(db, no, groups).await?),
        }
    }

    fn has_group(&self, name: &str) -> bool {
        match self {
            Self::Fleet => true,
            Self::Groups(groups) => groups.iter().any(|group| group == name),
        }
    }

    fn groups(&self) -> Vec<String> {
        match self {
            Self::Fleet => Vec::new(),
            Self::Groups(groups) => groups.clone(),
        }
    }
}

/// A person who may do what `P` permits, in the whole fleet or only on the nodes of some groups.
pub struct AllowedWithin<P> {
    /// The person's name.
    pub person: String,
    roles: Vec<String>,
    reach: Reach,
    _permission: PhantomData<P>,
}

impl<P: Permission> AllowedWithin<P> {
    /// Returns the same person as one who may do what `Q` permits, if that is so anywhere.
    pub fn also<Q: Permission>(&self) -> Option<AllowedWithin<Q>> {
        let reach = Reach::of(&self.roles, Q::NAME);
        let (person, roles) = (self.person.clone(), self.roles.clone());
        (!reach.is_nowhere()).then_some(AllowedWithin { person, roles, reach, _permission: PhantomData })
    }

    /// Refuses what is not done on these nodes by this person.
    ///
    /// # Errors
    ///
    /// Returns the first node that is out of reach.
    pub async fn check_nodes(&self, db: &mut PgConnection, nodes: &[Uuid]) -> Result<(), ApiError> {
        match self.reach.lacks(db, nodes).await? {
            None => Ok(()),
            Some(node) => Err(self.only_in(&node)),
        }
    }

    /// Refuses what is done on all nodes, or on none.
    ///
    /// # Errors
    ///
    /// Returns where the person may do it.
    pub fn check_fleet(&self, what: &str) -> Result<(), ApiError> {
        if self.reach == Reach::Fleet { Ok(()) } else { Err(self.only_in(what)) }
    }

    /// Refuses a change that this person did not ask for, or that alters a node out of reach.
    ///
    /// # Errors
    ///
    /// Returns where the person may do it.
    pub async fn check_change(&self, db: &mut PgConnection, no: i64, who: &str) -> Result<(), ApiError> {
        let is_own = self.reach == Reach::Fleet || who == self.person;
        if is_own && self.reach.has_change(db, no).await? {
            return Ok(());
        }
        Err(self.only_in(&format!("C{no}")))
    }

    fn only_in(&self, what: &str) -> ApiError {
        only_in::<P>(&self.person, &self.reach, what)
    }
}

fn only_in<P: Permission>(person: &str, reach: &Reach, what: &str) -> ApiError {
    ApiError::OnlyInGroups {
        person: person.to_owned(),
        permission: P::NAME,
        groups: reach.groups().join(", "),
        what: what.to_owned(),
    }
}

#[rocket::async_trait]
impl<'r, P: Permission> FromRequest<'r> for AllowedWithin<P> {
    type Error = ();

    async fn from_request(request: &'r Request<'_>) -> Outcome<Self, ()> {
        match identified(request).await {
            Err(error) => refuse(request, &error),
            Ok((person, ..)) => {
                let reach = Reach::of(&person.roles, P::NAME);
                if reach.is_nowhere() {
                    let error = ApiError::NotAllowed { person: person.name, permission: P::NAME };
                    return refuse(request, &error);
                }
                Outcome::Success(Self {
                    person: person.name,
                    roles: person.roles,
                    reach,
                    _permission: PhantomData,
                })
            }
        }
    }
}

/// A person who may do what `P` permits, or may request it of others; in the whole fleet or only on the nodes of some groups.
pub struct MayAskWithin<P> {
    person: String,
    request_key: Option<String>,
    may: Reach,
    may_request: Reach,
    _permission: PhantomData<P>,
}

impl<P: Permission> MayAskWithin<P> {
    /// Returns who asks for a change of these nodes.
    ///
    /// # Errors
    ///
    /// Returns the first node that is out of reach.
    pub async fn for_nodes(&self, db: &mut PgConnection, nodes: &[Uuid]) -> Result<Asker, ApiError> {
        let Some(node) = self.may.lacks(&mut *db, nodes).await? else { return Ok(self.asker(true)) };
        if self.may_request.lacks(db, nodes).await?.is_none() {
            return Ok(self.asker(false));
        }
        Err(self.only_in(&node))
    }

    /// Returns who asks for a change of nodes with these names; names that no node has are told by who edits them.
    ///
    /// # Errors
    ///
    /// Returns the first node that is out of reach.
    pub async fn for_names(&self, db: &PgPool, names: &[String]) -> Result<Asker, ApiError> {
        let mut connection = db.acquire().await?;
        let ids: Vec<Uuid> = node::ids(&mut *connection, names).await?.into_values().collect();
        self.for_nodes(&mut connection, &ids).await
    }

    /// Returns who asks for a change of what a group gives its nodes.
    ///
    /// # Errors
    ///
    /// Returns that the group is out of reach.
    pub fn for_group(&self, name: &str) -> Result<Asker, ApiError> {
        if self.may.has_group(name) {
            return Ok(self.asker(true));
        }
        if self.may_request.has_group(name) { Ok(self.asker(false)) } else { Err(self.only_in(name)) }
    }

    /// Returns the person's name.
    pub fn person(&self) -> &str {
        &self.person
    }

    /// Returns whether the person may do it on all nodes.
    pub fn may_everywhere(&self) -> bool {
        self.may == Reach::Fleet
    }

    /// Returns whether what a group is may be altered too: which nodes it has, its priority, its stage.
    pub fn is_of_fleet(&self) -> bool {
        self.may == Reach::Fleet || self.may_request == Reach::Fleet
    }

    fn asker(&self, may_hand_out: bool) -> Asker {
        Asker { person: self.person.clone(), may_hand_out, request_key: self.request_key.clone() }
    }

    fn only_in(&self, what: &str) -> ApiError {
        let reach = if self.may.is_nowhere() { &self.may_request } else { &self.may };
        only_in::<P>(&self.person, reach, what)
    }
}

#[rocket::async_trait]
impl<'r, P: Permission> FromRequest<'r> for MayAskWithin<P> {
    type Error = ();

    async fn from_request(request: &'r Request<'_>) -> Outcome<Self, ()> {
        let person = match identified(request).await {
            Ok((person, ..)) => person,
            Err(error) => return refuse(request, &error),
        };
        let (may, may_request) =
            (Reach::of(&person.roles, P::NAME), Reach::of(&person.roles, ChangeRequest::NAME));
        if may.is_nowhere() && may_request.is_nowhere() {
            return refuse(request, &ApiError::NotAllowed { person: person.name, permission: P::NAME });
        }
        match request_key(request) {
            Ok(request_key) => Outcome::Success(Self {
                person: person.name,
                request_key,
                may,
                may_request,
                _permission: PhantomData,
            }),
            Err(error) => refuse(request, &error),
        }
    }
}
