//! Groups.

use super::agent_package;
use super::change::{ask, draft_of, repeated};
use super::temporary::check_ends;
use crate::body::{JsonBody, Number};
use crate::change::documents::{read_documents, read_groups};
use crate::change::publish::{kit_of, solvable};
use crate::here::Here;
use crate::list::ListQuery;
use crate::page::PageAnswer;
use crate::problem::{Answer, ApiError, read_stored};
use crate::store::{control, group, release, stage, wanted};
use crate::thread::on_thread;
use crate::trust::{Allowed, Asker, GroupEdit, MayAsk, MayAskWithin, NodeRead};
use constans_core::change::{DocumentEdit, DocumentKey, GroupEdit as GroupChange};
use constans_core::filter::GROUPS;
use constans_core::group::{EVERYONE, Group, GroupFinding, GroupSurroundings, HIGHEST_PRIORITY, check_group};
use constans_core::kit::{Kit, require};
use constans_core::settings::{
    GroupSettings, LONGEST_GRACE_SECS, LONGEST_INTERVAL_SECS, SHORTEST_INTERVAL_SECS, SMALLEST_ATTIC_MIB,
};
use constans_core::words::check_name;
use constans_wire::change::HowToChange;
use constans_wire::group::{EditGroup, GroupListed, MAX_GROUP_EDITS};
use constans_wire::kit::Changed;
use jiff::tz::TimeZone;
use rocket::serde::json::Json;
use rocket::{FromForm, State, delete, get, post, put};
use serde_json::Value;
use sqlx::{PgConnection, PgPool};
use std::collections::{BTreeMap, BTreeSet};
use std::slice;
use std::sync::Arc;
use utoipa::IntoParams;

/// The groups as they are now, each with how many nodes it has; those of higher priority first.
#[utoipa::path(tag = "groups", security(("token" = ["node.read"]), ("session" = ["node.read"])), params(ListQuery), responses((status = 200, body = Vec<GroupListed>)))]
#[get("/api/groups?<list..>")]
pub async fn list(
    list: ListQuery,
    _caller: Allowed<NodeRead>,
    db: &State<PgPool>,
) -> PageAnswer<GroupListed> {
    let mut groups = read_groups(group::all(db.inner()).await?)?;
    groups.sort_by(|left, right| right.priority.cmp(&left.priority).then_with(|| left.name.cmp(&right.name)));
    let names: Vec<String> = groups.iter().map(|group| group.name.clone()).collect();
    let nodes: BTreeMap<String, i64> = wanted::members(db.inner(), &names).await?.into_iter().collect();
    let listed = |group: Group| GroupListed {
        nodes: nodes.get(&group.name).map_or(0, |nodes| nodes.unsigned_abs()),
        group,
    };
    list.page_of(&GROUPS, groups.into_iter().map(listed).collect()).await
}

/// Replaces a group.
#[utoipa::path(tag = "groups", security(("token" = ["group.edit"]), ("session" = ["group.edit"]), ("token" = ["change.request"]), ("session" = ["change.request"])), params(HowAsQuery), request_body = Group, responses((status = 200, body = Changed)))]
#[put("/api/groups?<how..>", data = "<wanted>")]
pub async fn set(
    wanted: JsonBody<Group>,
    how: HowAsQuery,
    caller: MayAsk<GroupEdit>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<Changed> {
    if let Some(changed) = repeated(db, here, &caller.asker).await? {
        return Ok(Json(changed));
    }
    set_group(&wanted, &how.into(), &caller.asker, db, here).await
}

/// Makes single edits of a group, all or none: nothing else of it changes, whoever edits it at the same time.
#[utoipa::path(tag = "groups", security(("token" = ["group.edit"]), ("session" = ["group.edit"]), ("token" = ["change.request"]), ("session" = ["change.request"])), request_body = EditGroup, responses((status = 200, body = Changed)))]
#[post("/api/groups/<name>/edits", data = "<wanted>")]
pub async fn edit(
    name: &str,
    wanted: JsonBody<EditGroup>,
    caller: MayAskWithin<GroupEdit>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<Changed> {
    let asker = caller.for_group(name)?;
    if !caller.is_of_fleet() && !wanted.edits.iter().all(is_of_what_it_gives) {
        let because =
            "who has a role for this group only edits what it gives: baselines, parameters and settings";
        return Err(ApiError::invalid("edits", because));
    }
    if let Some(changed) = repeated(db, here, &asker).await? {
        return Ok(Json(changed));
    }
    if wanted.edits.is_empty() || wanted.edits.len() > MAX_GROUP_EDITS {
        let because = format!("a change makes from 1 to {MAX_GROUP_EDITS} edits of a group");
        return Err(ApiError::invalid("edits", because));
    }
    check_ends(&wanted.edits, wanted.how.because.as_deref())?;
    let before = document(db, name).await?;
    let Some(body) = &before else {
        return Err(ApiError::Missing { what: "group", name: name.to_owned() });
    };
    let group: Group = read_stored(|| format!("the group {name}"), body.clone())?;
    let group = group.edited(&wanted.edits).map_err(|error| ApiError::invalid("edits", error.to_string()))?;
    set_over(before, &group, &wanted.how, &asker, db, here).await
}

/// Whether an edit is of what a group gives its nodes, and not of which nodes it has.
fn is_of_what_it_gives(edit: &GroupChange) -> bool {
    matches!(
        edit,
        GroupChange::Assign { .. }
            | GroupChange::Unassign { .. }
            | GroupChange::Parameter { .. }
            | GroupChange::Setting { .. }
    )
}

/// Checks a group and asks for the change that sets it.
pub async fn set_group(
    wanted: &Group,
    how: &HowToChange,
    asker: &Asker,
    db: &PgPool,
    here: &Here,
) -> Answer<Changed> {
    let before = document(db, &wanted.name).await?;
    set_over(before, wanted, how, asker, db, here).await
}

async fn document(db: &PgPool, name: &str) -> Result<Option<Value>, ApiError> {
    Ok(read_documents(&mut *db.acquire().await?).await?.remove(&DocumentKey::Group(name.to_owned())))
}

/// Checks a group and asks for the change that puts it in the place of the one that was read.
async fn set_over(
    before: Option<Value>,
    wanted: &Group,
    how: &HowToChange,
    asker: &Asker,
    db: &PgPool,
    here: &Here,
) -> Answer<Changed> {
    check_form(wanted)?;
    let mut connection = db.acquire().await?;
    let findings = find(&mut connection, here, wanted).await?;
    drop(connection);
    if findings.iter().any(|finding| finding.is_error) {
        return Err(ApiError::Group { of: format!("the group {}", wanted.name), findings });
    }
    let body = serde_json::to_value(wanted).map_err(|error| ApiError::failed("writing JSON", &error))?;
    let changed = ask_for(before, &wanted.name, Some(body), how, asker, db, here)
        .await
        .map_err(|error| error.with_warnings(&findings))?
        .into_inner();
    Ok(Json(Changed { findings, ..changed }))
}

/// Checks that the agents of a group can fetch the version that it sets.
async fn check_agent_version(db: &mut PgConnection, group: &Group) -> Result<(), ApiError> {
    let then = group.settings_until.get("agent_version").and_then(|end| end.then.clone());
    let set = group.settings.agent_version.iter().cloned();
    for version in set.chain(then.and_then(|then| then.as_str().map(str::to_owned))) {
        let served = agent_package::known(db).await?;
        if !served.iter().any(|package| package.version == version) {
            let versions: BTreeSet<String> = served.into_iter().map(|package| package.version).collect();
            let versions = Vec::from_iter(versions).join(", ");
            let served = if versions.is_empty() { "none".to_owned() } else { versions };
            let because = format!(
                "there is no package of the agent {version}; served are: {served}. Add one: constans agent-package add FILE"
            );
            return Err(ApiError::invalid("agent_version", because));
        }
    }
    Ok(())
}

/// Checks a group against what is published, served and labelled.
pub(super) async fn find(
    db: &mut PgConnection,
    here: &Here,
    group: &Group,
) -> Result<Vec<GroupFinding>, ApiError> {
    check_agent_version(&mut *db, group).await?;
    Around::read(&mut *db, None).await?.find(db, here, group).await
}

/// What groups are checked against.
pub(super) struct Around {
    stages: Vec<String>,
    labels: BTreeMap<String, BTreeSet<String>>,
    controls: BTreeSet<String>,
    published: Published,
}

impl Around {
    /// Reads it; the stages are those that there are, or that there will be.
    pub(super) async fn read(db: &mut PgConnection, stages: Option<Vec<String>>) -> Result<Self, ApiError> {
        let stages = match stages {
            Some(stages) => stages,
            None => stage::names(&mut *db).await?,
        };
        let labels = wanted::labels(&mut *db).await?;
        Ok(Self {
            stages,
            labels: labels.into_iter().map(|(label, values)| (label, values.into_iter().collect())).collect(),
            controls: control::titles(&mut *db, crate::clock::now()).await?.into_keys().collect(),
            published: Published::read(db).await?,
        })
    }

    /// Checks a group.
    pub(super) async fn find(
        &self,
        db: &mut PgConnection,
        here: &Here,
        group: &Group,
    ) -> Result<Vec<GroupFinding>, ApiError> {
        let names = self.published.kits();
        let mut kits = Vec::new();
        for name in group.kits() {
            self.published.add(&mut *db, here, name, &mut kits).await?;
        }
        let group = group.clone();
        let (stages, labels, controls) = (self.stages.clone(), self.labels.clone(), self.controls.clone());
        on_thread(move || {
            let kits: Vec<&Kit> = kits.iter().map(Arc::as_ref).collect();
            check_group(
                &group,
                GroupSurroundings {
                    names: &names,
                    kits: &kits,
                    stages: &stages,
                    controls: Some(&controls).filter(|controls| !controls.is_empty()),
                    labels: &labels,
                },
            )
        })
        .await
    }
}

/// The releases that are published, the newest first, and what stages serve of them.
pub(super) struct Published {
    releases: Vec<require::Release>,
    served: Vec<(String, String, String)>,
}

impl Published {
    pub(super) async fn read(db: &mut PgConnection) -> Result<Self, ApiError> {
        let mut releases = solvable(&mut *db).await?;
        releases.sort_by(|left, right| right.version.cmp(&left.version));
        Ok(Self { releases, served: stage::served(&mut *db).await? })
    }

    /// Returns the names of the kits.
    pub(super) fn kits(&self) -> BTreeSet<String> {
        self.releases.iter().map(|release| release.kit.clone()).collect()
    }

    /// Returns the newest release of a kit.
    pub(super) async fn newest(
        &self,
        db: &mut PgConnection,
        here: &Here,
        kit: &str,
    ) -> Result<Option<Arc<Kit>>, ApiError> {
        let Some(newest) = self.releases.iter().find(|release| release.kit == kit) else { return Ok(None) };
        let version = newest.version.to_string();
        match release::find(&mut *db, kit, &version).await? {
            Some(row) => kit_of(&mut *db, here, &row).await,
            None => Ok(None),
        }
    }

    /// Adds the newest release of a kit, then those that stages serve.
    pub(super) async fn add(
        &self,
        db: &mut PgConnection,
        here: &Here,
        kit: &str,
        kits: &mut Vec<Arc<Kit>>,
    ) -> Result<(), ApiError> {
        kits.extend(self.newest(&mut *db, here, kit).await?);
        for (.., version) in self.served.iter().filter(|(_, name, _)| name == kit) {
            if let Some(row) = release::find(&mut *db, kit, version).await? {
                kits.extend(kit_of(&mut *db, here, &row).await?);
            }
        }
        Ok(())
    }
}

/// Removes a group: its nodes are no longer given what it gives.
#[utoipa::path(tag = "groups", security(("token" = ["group.edit"]), ("session" = ["group.edit"]), ("token" = ["change.request"]), ("session" = ["change.request"])), params(HowAsQuery), responses((status = 200, body = Changed)))]
#[delete("/api/groups/<name>?<how..>")]
pub async fn remove(
    name: &str,
    how: HowAsQuery,
    caller: MayAsk<GroupEdit>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<Changed> {
    if let Some(changed) = repeated(db, here, &caller.asker).await? {
        return Ok(Json(changed));
    }
    if name == EVERYONE {
        return Err(ApiError::Conflict {
            message: "`everyone` cannot be removed: it has all nodes".to_owned(),
            hint: "set it without what it should not give".to_owned(),
        });
    }
    let before = document(db, name).await?;
    if before.is_none() {
        return Err(ApiError::Missing { what: "group", name: name.to_owned() });
    }
    ask_for(before, name, None, &how.into(), &caller.asker, db, here).await
}

/// How a change is to be made, after the `?`.
#[derive(Debug, FromForm, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct HowAsQuery {
    /// The reason for the change, at most 500 characters.
    because: Option<String>,
    /// Request it: another person hands it out.
    #[field(default = false)]
    #[param(required = false)]
    request: bool,
    /// Only compute the impact: nothing is handed out.
    #[field(default = false)]
    #[param(required = false)]
    preview: bool,
    /// Confirms that the change takes clauses from at most this many nodes.
    #[param(required = false, value_type = u32)]
    confirm: Number,
    /// Continue although the desired state of some nodes cannot be resolved.
    #[field(default = false)]
    #[param(required = false)]
    although_unusable: bool,
    /// Refuse it if a document that it edits was edited after the change with this number.
    #[param(required = false, value_type = u32)]
    unless_changed_after: Number,
}

impl From<HowAsQuery> for HowToChange {
    fn from(query: HowAsQuery) -> Self {
        let HowAsQuery { because, preview, request, confirm, although_unusable, unless_changed_after } =
            query;
        Self {
            unless_changed_after: unless_changed_after.0,
            because,
            preview,
            request,
            confirm: confirm.0.map(u64::from),
            although_unusable,
        }
    }
}

async fn ask_for(
    before: Option<Value>,
    name: &str,
    after: Option<Value>,
    how: &HowToChange,
    asker: &Asker,
    db: &PgPool,
    here: &Here,
) -> Answer<Changed> {
    let verb = match (&before, &after) {
        (None, _) => "make",
        (Some(_), None) => "remove",
        _ => "set",
    };
    let what = version_words(before.as_ref(), after.as_ref(), name)
        .unwrap_or_else(|| format!("{verb} the group {name}"));
    ask(
        db,
        here,
        &draft_of(
            "group",
            what,
            vec![DocumentEdit { key: DocumentKey::Group(name.to_owned()), before, after }],
            how,
            asker,
        ),
    )
    .await
}

/// Says which version of the agent a group sets, if nothing else of it changes.
fn version_words(before: Option<&Value>, after: Option<&Value>, name: &str) -> Option<String> {
    let without_version = |mut body: Value| {
        let mut settings = body["settings"].take();
        settings.as_object_mut().map(|settings| settings.remove("agent_version"));
        let sets_more = settings.as_object().is_some_and(|settings| !settings.is_empty());
        (body, sets_more.then_some(settings))
    };
    let version = after?["settings"]["agent_version"].as_str()?;
    let is_all = without_version(before?.clone()) == without_version(after?.clone());
    is_all.then(|| format!("version {version} of the agent for the group {name}"))
}

fn check_settings(settings: &GroupSettings) -> Result<(), String> {
    let between =
        |secs: Option<u64>, least: u64, most: u64| secs.is_none_or(|secs| (least..=most).contains(&secs));
    let interval = |secs| between(secs, SHORTEST_INTERVAL_SECS, LONGEST_INTERVAL_SECS);
    if !interval(settings.interval_secs) || !interval(settings.run_interval_secs) {
        return Err("an interval lasts from 5 s to 7 days".to_owned());
    }
    if settings.interval_secs.is_some() && settings.check_in_at.is_some()
        || settings.run_interval_secs.is_some() && settings.run_at.is_some()
    {
        return Err("a group sets an interval or fixed hours, not both: interval_secs or check_in_at, run_interval_secs or run_at".to_owned());
    }
    if !between(settings.spread_secs, 0, 86_400) {
        return Err("spread_secs is at most 86400, a day".to_owned());
    }
    if !between(settings.grace_secs, 0, LONGEST_GRACE_SECS) {
        return Err(format!("grace_secs is at most {LONGEST_GRACE_SECS}, 90 days"));
    }
    if !between(settings.reach_within_secs, 5, 3_600) {
        return Err("reach_within_secs is from 5 to 3600, an hour".to_owned());
    }
    if !between(settings.attic_mib, SMALLEST_ATTIC_MIB, 1_048_576) {
        return Err("attic_mib is from 1 to 1048576, a TiB".to_owned());
    }
    match &settings.zone {
        Some(zone) if TimeZone::get(zone).is_err() => {
            Err(format!("the time zone `{zone}` is not known; write it as \"Europe/Oslo\" or \"UTC\""))
        }
        _ => Ok(()),
    }
}

/// This many controls and times a week an assignment names at most.
const MAX_CONTROLS: usize = 100;
const MAX_HOURS: usize = 50;

/// Checks a group's document by itself.
pub(super) fn check_form(group: &Group) -> Result<(), ApiError> {
    let name_is_fine = !group.name.is_empty()
        && group.name.len() <= 64
        && group.name.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-');
    if !name_is_fine {
        return Err(ApiError::invalid(
            "name",
            "a group's name has lower-case letters, digits and `-`, at most 64",
        ));
    }
    if group.priority.unsigned_abs() > HIGHEST_PRIORITY.unsigned_abs() {
        return Err(ApiError::invalid("priority", "a priority is between -1000000 and 1000000"));
    }
    if group.name == EVERYONE && (group.priority != 0 || group.filter.is_some()) {
        return Err(ApiError::invalid("priority", "`everyone` has all nodes and priority 0"));
    }
    check_given(group)
}

/// Checks by itself what a group gives its nodes.
pub(super) fn check_given(group: &Group) -> Result<(), ApiError> {
    for assignment in &group.assignments {
        if assignment.satisfies.len() > MAX_CONTROLS || assignment.change_window.len() > MAX_HOURS {
            let most =
                format!("an assignment names at most {MAX_CONTROLS} controls and {MAX_HOURS} times a week");
            return Err(ApiError::invalid("assignments", most));
        }
        assignment
            .satisfies
            .iter()
            .try_for_each(|control| check_name(control))
            .map_err(|because| ApiError::invalid("satisfies", because))?;
    }
    check_settings(&group.settings).map_err(|because| ApiError::invalid("settings", because))?;
    // What follows a setting for a time is set by the server later, when nobody is asked any more.
    for (word, end) in &group.settings_until {
        let follow = GroupChange::Setting { word: word.clone(), value: end.then.clone(), until: None };
        let followed = group.edited(slice::from_ref(&follow)).map_err(|error| error.to_string());
        let checked = followed.and_then(|followed| check_settings(&followed.settings));
        checked.map_err(|because| {
            ApiError::invalid("settings_until", format!("when the time of {word} is over: {because}"))
        })?;
    }
    Ok(())
}
