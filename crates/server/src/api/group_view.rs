//! One group as its page shows it, and what its nodes would be with another filter.

use super::change::changed_by;
use super::group::Published;
use crate::body::JsonBody;
use crate::change::documents::read_groups;
use crate::change::resolve::view_of;
use crate::here::Here;
use crate::problem::{Answer, ApiError, unusable_filter};
use crate::store::{group, stage, wanted};
use crate::thread::on_thread;
use crate::trust::{Allowed, NodeRead};
use constans_core::group::{Group, GroupMembers, MemberCount, PlacedAlike, ViewSurroundings};
use constans_core::kit::Kit;
use constans_wire::group::{BaselineGiven, BaselineListed, GroupShown, TryMembers};
use rocket::serde::json::Json;
use rocket::{State, get, post};
use sqlx::PgPool;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;

/// This many nodes are looked at at once.
const AT_ONCE: i64 = 5_000;
/// This many members are named at most.
const MAX_NAMED: usize = 10_000;

/// A group: what it gives its nodes, beside what other groups give the same nodes; which nodes it has; who changed it last.
#[utoipa::path(tag = "groups", security(("token" = ["node.read"]), ("session" = ["node.read"])), responses((status = 200, body = GroupShown)))]
#[get("/api/groups/<name>")]
pub async fn show(
    name: &str,
    _caller: Allowed<NodeRead>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<GroupShown> {
    let groups = read_groups(group::all(db.inner()).await?)?;
    let group = groups
        .iter()
        .find(|group| group.name == name)
        .cloned()
        .ok_or_else(|| ApiError::Missing { what: "group", name: name.to_owned() })?;
    let changed = group::last_change(db.inner(), name).await?.map(changed_by);
    let placed: Vec<PlacedAlike> = group::placed_alike(db.inner())
        .await?
        .into_iter()
        .map(|row| PlacedAlike { groups: row.groups.0, stage: row.stage, nodes: row.nodes.unsigned_abs() })
        .collect();
    let served: BTreeMap<(String, String), String> = stage::served(db.inner())
        .await?
        .into_iter()
        .map(|(stage, kit, version)| ((stage, kit), version))
        .collect();
    let kits = kits_around(db, here, &group).await?;
    let members = members(db, &group.name, &group).await?;
    let (view, group) = on_thread(move || {
        let kits: Vec<&Kit> = kits.iter().map(Arc::as_ref).collect();
        let around = ViewSurroundings { groups: &groups, placed: &placed, served: &served, kits: &kits };
        (group.view(around), group)
    })
    .await?;
    Ok(Json(GroupShown { group, view, changed, members }))
}

/// Returns the kits that a group names, and those whose baselines these include.
async fn kits_around(db: &PgPool, here: &Here, group: &Group) -> Result<Vec<Arc<Kit>>, ApiError> {
    let mut connection = db.acquire().await?;
    let published = Published::read(&mut connection).await?;
    let mut wanted: Vec<String> = group.kits().into_iter().map(str::to_owned).collect();
    let mut known: BTreeSet<String> = wanted.iter().cloned().collect();
    let mut kits: Vec<Arc<Kit>> = Vec::new();
    while let Some(name) = wanted.pop() {
        let from = kits.len();
        published.add(&mut connection, here, &name, &mut kits).await?;
        let included = kits[from..]
            .iter()
            .flat_map(|kit| &kit.baselines)
            .flat_map(|baseline| &baseline.include)
            .filter_map(|include| Some(include.value.split_once('/')?.0.to_owned()));
        let new: Vec<String> = included.filter(|name| known.insert(name.clone())).collect();
        wanted.extend(new);
    }
    Ok(kits)
}

/// The baselines that can be assigned: those of the newest release of each kit.
#[utoipa::path(tag = "groups", security(("token" = ["node.read"]), ("session" = ["node.read"])), responses((status = 200, body = Vec<BaselineListed>)))]
#[get("/api/baselines")]
pub async fn baselines(
    _caller: Allowed<NodeRead>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<Vec<BaselineListed>> {
    let groups = read_groups(group::all(db.inner()).await?)?;
    let mut connection = db.acquire().await?;
    let published = Published::read(&mut connection).await?;
    let mut given: HashMap<String, Vec<BaselineGiven>> = HashMap::new();
    for (baseline, group, assigned, nodes) in wanted::given(&mut *connection).await? {
        given.entry(baseline).or_default().push(BaselineGiven {
            group,
            assigned,
            nodes: nodes.unsigned_abs(),
        });
    }
    let mut listed = Vec::new();
    for name in published.kits() {
        let Some(kit) = published.newest(&mut connection, here, &name).await? else { continue };
        listed.extend(kit.baselines.iter().map(|baseline| {
            BaselineListed {
                kit: kit.name.clone(),
                version: kit.version.to_string(),
                baseline: baseline.name.value.clone(),
                summary: baseline.summary.clone(),
                clauses: baseline.clauses.len() as u64,
                severity: baseline.severity,
                assigned_by: groups
                    .iter()
                    .filter(|group| group.assigns(&kit.name, &baseline.name.value))
                    .map(|group| group.name.clone())
                    .collect(),
                given_by: given.remove(&format!("{}/{}", kit.name, baseline.name.value)).unwrap_or_default(),
            }
        }));
    }
    Ok(Json(listed))
}

/// Which nodes a filter and named members select, and which come to a group and go from it by that. Nothing is changed.
#[utoipa::path(tag = "groups", security(("token" = ["node.read"]), ("session" = ["node.read"])), request_body = TryMembers, responses((status = 200, body = GroupMembers)))]
#[post("/api/group-members", data = "<wanted>")]
pub async fn try_members(
    wanted: JsonBody<TryMembers>,
    _caller: Allowed<NodeRead>,
    db: &State<PgPool>,
) -> Answer<GroupMembers> {
    let TryMembers { filter, nodes, group } = wanted.0;
    if nodes.len() > MAX_NAMED {
        return Err(ApiError::invalid("nodes", format!("a group names at most {MAX_NAMED} nodes")));
    }
    let nodes = nodes.into_iter().collect();
    let after = Group { name: group.unwrap_or_default(), filter, nodes, ..Group::default() };
    members(db, &after.name, &after).await.map(Json)
}

/// Returns the nodes that a group has, and which it has not now or has now and would not.
async fn members(db: &PgPool, before: &str, after: &Group) -> Result<GroupMembers, ApiError> {
    let has_now: BTreeSet<String> = group::nodes(db, before).await?.into_iter().collect();
    let (after, filter) = (after.clone(), after.filter.clone().unwrap_or_default());
    let mut count = on_thread(move || MemberCount::new(after, has_now))
        .await?
        .map_err(|errors| unusable_filter(&filter, errors))?;
    let mut last: Option<String> = None;
    loop {
        let rows = wanted::of_fleet_after(db, last.as_deref(), AT_ONCE).await?;
        let Some(row) = rows.last() else { return Ok(count.done()) };
        last = Some(row.name.clone());
        count = on_thread(move || rows.iter().try_for_each(|row| count.add(&view_of(row))).map(|()| count))
            .await?
            .map_err(|error| unusable_filter(&filter, vec![error]))?;
    }
}
