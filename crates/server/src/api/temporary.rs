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

/// This many are listed at most.
const MAX_LISTED: usize = 1_000;

/// The settings that groups or nodes by themselves have for a time, those that end first first: with who said so, when and why.
#[utoipa::path(tag = "groups", security(("token" = ["node.read"]), ("session" = ["node.read"])), responses((status = 200, body = Vec<TemporarySetting>)))]
#[get("/api/temporary-settings")]
pub async fn list(_caller: Allowed<NodeRead>, db: &State<PgPool>) -> Answer<Vec<TemporarySetting>> {
    let db = db.inner();
    let groups = read_groups(group::with_ends(db).await?)?;
    let names: Vec<String> = groups.iter().map(|group| group.name.clone()).collect();
    let members: BTreeMap<String, i64> = wanted::members(db, &names).await?.into_iter().collect();
    let of_groups = groups.iter().flat_map(|group| {
        let nodes = members.get(&group.name).map_or(0, |nodes| nodes.unsigned_abs());
        let key = DocumentKey::Group(group.name.clone());
        temporary(group, nodes)
            .map(move |one| (key.clone(), TemporarySetting { group: Some(group.name.clone()), ..one }))
    });
    let alone: Vec<(DocumentKey, String, Group)> = node::with_ending_values(db)
        .await?
        .into_iter()
        .map(|(id, document)| (DocumentKey::Node(id.to_string()), document.name, document.own.group()))
        .collect();
    let of_nodes = alone.iter().flat_map(|(key, name, given)| {
        temporary(given, 1).map(|one| (key.clone(), TemporarySetting { node: Some(name.clone()), ..one }))
    });
    let mut all: Vec<(DocumentKey, TemporarySetting)> = of_groups.chain(of_nodes).collect();
    all.sort_by_key(|(_, one)| one.until);
    all.truncate(MAX_LISTED);
    let mut listed = Vec::new();
    for (key, one) in all {
        let change = change::set_until(db, &key.to_string(), &one.word).await?;
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
