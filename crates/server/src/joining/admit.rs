//! A machine becomes a node, or a known node again.

use crate::change::resolver::Resolver;
use crate::change::single::{Occasion, resolve_one};
use crate::here::Here;
use crate::problem::{ApiError, read_stored};
use crate::store::joining::{self, RequestRow};
use crate::store::{audit, check_in, node, node_attribute, wanted};
use crate::trust::{ReadRequest, Refusal};
use constans_core::digest::hex;
use constans_core::joining::Placement;
use constans_core::run::Mode;
use constans_core::words::check_node_name;
use constans_wire::join::{ApproveRequest, ApprovedNode};
use serde_json::json;
use sqlx::PgConnection;
use std::collections::BTreeSet;
use uuid::Uuid;

/// What a request becomes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Becomes {
    /// A new node of this name.
    New(String),
    /// This known node, on a new machine.
    Moved(Uuid, String),
    /// The known node that sent it, with the key that it has.
    Again(Uuid, String),
}

/// Who lets machines in, how they are placed, and whether this is only tried: then the transaction is not committed.
pub struct Admission<'a> {
    /// The person who approves, or who made the rule.
    pub by: &'a str,
    /// The admission rule.
    pub rule: Option<i64>,
    /// Where new nodes are placed.
    pub placement: &'a Placement,
    /// Nothing outside the transaction may be altered.
    pub is_preview: bool,
}

/// Returns what a request becomes, or why it cannot be approved, in a sentence that names it, with what to do. `names` are those that
/// requests before it in the same approval take.
///
/// # Errors
///
/// Returns why the database does not answer.
pub async fn becomes(
    db: &mut PgConnection,
    request: &RequestRow,
    how: &ApproveRequest,
    names: &mut BTreeSet<String>,
) -> Result<Result<Becomes, (String, String)>, ApiError> {
    let asked = &request.name;
    if let Some(decision) = &request.decision {
        let message = format!("the request of {asked} was {decision} already");
        return Ok(Err((message, "constans join list shows the waiting requests".to_owned())));
    }
    if let Some(known) = request.known_node {
        let is_other = how.as_node.as_ref().is_some_and(|other| other != asked)
            || how.name.as_ref().is_some_and(|other| other != asked);
        return Ok(if is_other {
            Err((
                format!("this is {asked} with its existing key"),
                "approve it as what it is, without --as and --name".to_owned(),
            ))
        } else {
            Ok(Becomes::Again(known, asked.clone()))
        });
    }
    if let Some(known) = &how.as_node {
        return Ok(match node::locked_by_name(&mut *db, known).await? {
            None => {
                Err((format!("there is no node {known}"), "constans node list shows all nodes".to_owned()))
            }
            Some(_) if !names.insert(known.clone()) => Err((
                format!("two requests are to be {known}"),
                "approve one of them, and deny the other".to_owned(),
            )),
            Some(node) => Ok(Becomes::Moved(node, known.clone())),
        });
    }
    let name = how.name.as_ref().unwrap_or(asked);
    if let Err(because) = check_node_name(name) {
        return Ok(Err((
            format!("{name:?} is no name for {asked}: {because}"),
            "give it another name".to_owned(),
        )));
    }
    if node::locked_by_name(&mut *db, name).await?.is_some() {
        let hint = format!(
            "if this is that node on a new machine, approve it as {name} (--as); otherwise give it another name (--name), or deny it"
        );
        return Ok(Err((format!("the name {name} is in use"), hint)));
    }
    Ok(if names.insert(name.clone()) {
        Ok(Becomes::New(name.clone()))
    } else {
        let hint =
            "compare their fingerprints; approve one by its id, and deny the other or give it another name";
        Err((format!("two requests have the name {name}"), hint.to_owned()))
    })
}

/// Lets a machine in, in a transaction that has the shared lock of the desired state. Returns the node, with what is desired of it.
///
/// # Errors
///
/// Returns why it could not be done.
pub async fn admit(
    db: &mut PgConnection,
    here: &Here,
    resolver: &mut Resolver,
    request: &RequestRow,
    becomes: &Becomes,
    admission: &Admission<'_>,
) -> Result<ApprovedNode, ApiError> {
    let (node, name) = match becomes {
        Becomes::New(name) => (new_node(&mut *db, request, name, admission.placement).await?, name),
        Becomes::Moved(node, name) => (*node, name),
        Becomes::Again(node, name) => (*node, name),
    };
    let is_back = matches!(becomes, Becomes::Moved(..)) || request.revoked_at.is_some();
    if is_back {
        let_back(&mut *db, node, &request.spki_digest, here, admission.is_preview).await?;
    }
    if !admission.is_preview {
        let issued = here.authority.issue_node(node, ReadRequest::read(&request.request)?)?;
        let (spki, certificate) = (&request.spki_digest, &issued.certificate);
        if let Becomes::Again(..) = becomes {
            if !node::renew(&mut *db, node, spki, certificate, issued.ends_at).await? {
                return Err(ApiError::Revoked(name.clone()));
            }
        } else {
            node::add_key(&mut *db, node, spki, certificate, issued.ends_at).await?;
        }
    }
    joining::approve(&mut *db, request.id, node, admission.by, admission.rule).await?;
    let what = if matches!(becomes, Becomes::Again(..)) { "is admitted again" } else { "joins" };
    let occasion = Occasion { kind: "join", what: &format!("{name} {what}"), who: admission.by };
    resolve_one(&mut *db, here, resolver, node, &occasion).await?;
    let did = match (becomes, admission.rule) {
        (Becomes::Again(..), _) => "approved again",
        (_, Some(_)) => "let in by a rule",
        (_, None) => "approved",
    };
    let detail = json!({
        "request": request.id, "node": node, "asked_as": request.name, "as_known": matches!(becomes, Becomes::Moved(..)),
        "was_revoked": request.revoked_at.is_some(), "fingerprint": hex(&request.spki_digest), "rule": admission.rule,
        "placement": matches!(becomes, Becomes::New(_)).then_some(admission.placement),
    });
    audit::add(&mut *db, admission.by, did, name, &detail).await?;
    outcome(db, node, name, request, !matches!(becomes, Becomes::New(_))).await
}

async fn outcome(
    db: &mut PgConnection,
    node: Uuid,
    name: &str,
    request: &RequestRow,
    was_known: bool,
) -> Result<ApprovedNode, ApiError> {
    let mut documents = node::documents(&mut *db, &[node]).await?;
    let labels = documents.pop().map(|(_, document)| document.labels).unwrap_or_default();
    let wanted = wanted::outcome(db, node).await?;
    let node = ApprovedNode {
        name: name.to_owned(),
        fingerprint: hex(&request.spki_digest),
        was_known,
        labels,
        ..ApprovedNode::default()
    };
    let Some(wanted) = wanted else { return Ok(node) };
    Ok(ApprovedNode {
        groups: read_stored(|| format!("groups of {name}"), wanted.groups)?,
        stage: wanted.stage,
        mode: serde_json::from_value::<Mode>(wanted.mode.into()).ok(),
        clauses: wanted.clauses.map(|clauses| u64::from(clauses.unsigned_abs())),
        unusable: wanted.unusable,
        ..node
    })
}

/// Lets a node that was revoked, or that is on a new machine, be admitted again, by this key alone.
async fn let_back(
    db: &mut PgConnection,
    node: Uuid,
    spki: &[u8],
    here: &Here,
    is_preview: bool,
) -> Result<(), ApiError> {
    let keys = node::let_back(&mut *db, node, spki).await?.iter().map(|key| hex(key)).collect();
    if !is_preview {
        here.refusals
            .add(&Refusal { at: crate::clock::now(), node, refused: false, keys })
            .map_err(ApiError::Protected)?;
    }
    Ok(check_in::forget(db, node).await?)
}

async fn new_node(
    db: &mut PgConnection,
    request: &RequestRow,
    name: &str,
    placement: &Placement,
) -> Result<Uuid, ApiError> {
    let invited = request
        .labels
        .clone()
        .map(|labels| read_stored(|| format!("labels of the invitation of {name}"), labels));
    let labels = placement.labels_over(&invited.transpose()?.unwrap_or_default());
    let id = Uuid::now_v7();
    node::add(&mut *db, id, name).await?;
    for (what, value) in [("name", json!(name)), ("labels", json!(labels)), ("about", request.about.clone())]
    {
        node_attribute::set(&mut *db, id, what, &value).await?;
    }
    node::set_own(db, id, &placement.own()).await?;
    Ok(id)
}
