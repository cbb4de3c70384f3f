//! Settings that hold for a time, of groups and of nodes by themselves.

use super::change::changed_by;
use crate::change::documents::read_groups;
use crate::problem::{Answer, ApiError};
use crate::store::{change, group, node, wanted};
use crate::trust::{Allowed, NodeRead};
use constans_core::change::{DocumentKey, GroupEdit};
use constans_core::group::Group;
use constans_core::settings::setting_words;
use constans_wire::temporary::TemporarySetting;
use rocket::serde::json::Json;
use rocket::{State, get};
use sqlx::PgPool;
use std::collections::BTreeMap;
use uuid::Uuid;

/// This many are listed at most.
const MAX_LISTED: usize = 200;

/// The settings that groups or nodes by themselves have for a time, those that end first first, at most 200: with who said so, when and why.
#[utoipa::path(tag = "groups", security(("token" = ["node.read"]), ("session" = ["node.read"])), responses((status = 200, body = Vec<TemporarySetting>)))]
#[get("/api/temporary-settings")]
pub async fn list(_caller: Allowed<NodeRead>, db: &State<PgPool>) -> Answer<Vec<TemporarySetting>> {
    let db = db.inner();
    let groups = read_groups(group::with_ends(db).await?)?;
    let names: Vec<String> = groups.iter().map(|group| group.name.clone()).collect();
    let members: BTreeMap<String, i64> = wanted::members(db, &names).await?.into_iter().collect();
    let of_groups = groups.iter().flat_map(|group| {
        let nodes = members.get(&group.name).map_or(0, |nodes| nodes.unsigned_abs());
        temporary(group, nodes).map(|one| (None, TemporarySetting { group: Some(group.name.clone()), ..one }))
    });
    let alone = node::with_ending_values(db).await?;
    let of_nodes = alone.iter().flat_map(|(id, document)| {
        let given: Vec<TemporarySetting> = temporary(&document.own.group(), 1).collect();
        given
            .into_iter()
            .map(|one| (Some(*id), TemporarySetting { node: Some(document.name.clone()), ..one }))
    });
    let mut all: Vec<(Option<Uuid>, TemporarySetting)> = of_groups.chain(of_nodes).collect();
    all.sort_by_key(|(_, one)| one.until);
    all.truncate(MAX_LISTED);
    let mut listed = Vec::new();
    for (node, one) in all {
        let change = match (node, &one.group) {
            (Some(id), _) => {
                change::set_until_of_node(db, &DocumentKey::Node(id.to_string()).to_string(), &one.word)
                    .await?
            }
            (None, Some(group)) => group::set_until(db, group, &one.word, &one.until.to_string()).await?,
            (None, None) => None,
        };
        listed.push(TemporarySetting { change: change.map(changed_by), ..one });
    }
    Ok(Json(listed))
}

fn temporary(group: &Group, nodes: u64) -> impl Iterator<Item = TemporarySetting> {
    group.settings_until.iter().filter_map(move |(word, end)| {
        let value = setting_words(word, &group.settings.get(word)?);
        Some(TemporarySetting {
            group: None,
            node: None,
            word: word.clone(),
            value,
            until: end.until,
            nodes,
            change: None,
        })
    })
}

/// Sees to it that what is set for a time ends later than now, and that somebody says why.
///
/// # Errors
///
/// Returns what is missing.
pub fn check_ends(edits: &[GroupEdit], because: Option<&str>) -> Result<(), ApiError> {
    let ends = edits.iter().filter_map(|edit| match edit {
        GroupEdit::Setting { until, .. } => *until,
        _ => None,
    });
    let Some(first) = ends.min() else { return Ok(()) };
    if first <= crate::clock::now() {
        return Err(ApiError::invalid("edits", format!("{first} is over: give an end to come, or none")));
    }
    match because.map(str::trim) {
        None | Some("") => Err(ApiError::invalid("because", "who sets something for a time says why")),
        Some(_) => Ok(()),
    }
}
