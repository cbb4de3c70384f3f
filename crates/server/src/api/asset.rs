//! Machines that an inventory names, whether they ever joined or not.

use crate::body::JsonBody;
use crate::problem::{Answer, ApiError, read_stored};
use crate::store::{audit, control};
use crate::trust::{Allowed, ControlEdit, NodeRead};
use constans_core::words::check_name;
use constans_wire::control::{AssetShown, AssetSummary, SetAssets};
use rocket::serde::json::Json;
use rocket::{State, get, put};
use serde_json::{Value, json};
use sqlx::PgPool;
use std::collections::BTreeSet;

/// This many machines an inventory names at most.
const MAX_ASSETS: usize = 100_000;
/// This many columns it has beside the name, each cell of this length at most.
const MAX_FIELDS: usize = 50;
const LONGEST_CELL: usize = 1_000;
/// This many are listed at once.
const PAGE: i64 = 1_000;

/// The machines of the inventory by name, at most 1,000.
#[utoipa::path(tag = "controls", security(("token" = ["node.read"]), ("session" = ["node.read"])), params(
    ("never_enrolled" = Option<bool>, Query, description = "Only those of which no node is of the fleet"),
    ("after" = Option<String>, Query, description = "Only those whose names come after this one"),
), responses((status = 200, body = Vec<AssetShown>)))]
#[get("/api/assets?<never_enrolled>&<after>")]
pub async fn list(
    never_enrolled: bool,
    after: Option<&str>,
    _caller: Allowed<NodeRead>,
    db: &State<PgPool>,
) -> Answer<Vec<AssetShown>> {
    let rows = control::assets(db.inner(), never_enrolled, (after.unwrap_or_default(), PAGE)).await?;
    let shown = rows.into_iter().map(|row| {
        let fields = read_stored(|| format!("asset {}", row.name), row.fields)?;
        Ok(AssetShown { name: row.name, fields, is_enrolled: row.is_enrolled })
    });
    Ok(Json(shown.collect::<Result<_, ApiError>>()?))
}

/// Replaces the inventory.
#[utoipa::path(tag = "controls", security(("token" = ["control.edit"]), ("session" = ["control.edit"])), request_body = SetAssets, responses((status = 200, body = AssetSummary)))]
#[put("/api/assets", data = "<wanted>")]
pub async fn set(
    wanted: JsonBody<SetAssets>,
    caller: Allowed<ControlEdit>,
    db: &State<PgPool>,
) -> Answer<AssetSummary> {
    let assets = &wanted.assets;
    if assets.len() > MAX_ASSETS {
        return Err(ApiError::invalid(
            "assets",
            format!("at most {MAX_ASSETS} machines, not {}", assets.len()),
        ));
    }
    let mut seen = BTreeSet::new();
    for asset in assets {
        check_name(&asset.name)
            .map_err(|wrong| ApiError::invalid("name", format!("{:?}: {wrong}", asset.name)))?;
        if !seen.insert(&asset.name) {
            return Err(ApiError::invalid("name", format!("{} is there twice", asset.name)));
        }
        let is_fine = |text: &String| text.chars().count() <= LONGEST_CELL && !text.contains('\0');
        if asset.fields.len() > MAX_FIELDS
            || !asset.fields.iter().all(|(key, cell)| is_fine(key) && is_fine(cell))
        {
            let most = format!("{}: at most {MAX_FIELDS} columns of {LONGEST_CELL} characters", asset.name);
            return Err(ApiError::invalid("fields", most));
        }
    }
    let names: Vec<String> = assets.iter().map(|asset| asset.name.clone()).collect();
    let fields: Vec<Value> = assets.iter().map(|asset| json!(asset.fields)).collect();
    let mut transaction = db.begin().await?;
    control::set_assets(&mut transaction, &caller.person, &names, &fields).await?;
    audit::add(
        &mut *transaction,
        &caller.person,
        "set the assets",
        "assets",
        &json!({ "assets": names.len() }),
    )
    .await?;
    let row = control::asset_list(&mut *transaction).await?;
    transaction.commit().await?;
    row.map(|row| Json(super::control::summary(row)))
        .ok_or_else(|| ApiError::Missing { what: "list of", name: "assets".to_owned() })
}
