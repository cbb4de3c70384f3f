//! From documents to one node's effective state: concrete clauses in order, with digests.

mod assigned;
mod claims;
mod clause;
mod digested;
mod include;
mod instantiate;
mod left_behind;
mod made;
mod order;
mod own_values;
mod reference;
mod resolve;
#[cfg(test)]
pub(crate) mod testing;

pub use assigned::{Assigned, AssignmentTerms};
pub use clause::{Clause, Compared, EffectiveState, Origin, Switch, SwitchFrom};
pub use include::with_included;
pub use left_behind::{LeftBehind, left_behind};
pub use order::{Relation, Why};
pub use own_values::{OwnProperties, OwnValue, ReplacedValue, own_value, typed_value};
pub use resolve::{Conditions, Excluded, ResolveInput, Resolved, Untouchable, resolve, resolve_noting};
