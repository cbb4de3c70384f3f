//! Gathering evidence: every clause on every node as of one moment, in one snapshot of the database, counted again as it is written.

use crate::learned::{ProofError, Prover};
use crate::problem::{ApiError, read_stored};
use crate::store::clause_result::{self, DeviationOfPeriodRow, PlacedRow, ResultRow};
use crate::store::compliance::{self, Counted, CountedRow, Dimension, HandedOutRow, Moment};
use crate::store::control::{self, ScopeRow};
use crate::store::evidence::{self, ClauseOfStateRow};
use crate::store::narrowing::Narrowing;
use constans_core::compliance::Rate;
use constans_core::control::{Catalogue, Control};
use constans_core::evidence::{
    ClauseCountsAs, ClauseRow, ControlSummary, DayLink, DesiredBy, DeviationRow, Examined, Figures, Found,
    LeftOut, Question, Tallied, Tally, actual_words, desired_by, desired_words,
};
use constans_core::run::ClauseResult;
use constans_core::state::Clause;
use constans_evidence::{ConcessionFact, Contents, GapFact, NodeFact};
use jiff::Timestamp;
use serde_json::Value;
use sqlx::{PgConnection, PgPool};
use std::collections::{BTreeMap, HashMap, HashSet};
use uuid::Uuid;

/// What was found is read for so many clauses at once.
const AT_ONCE: usize = 20_000;
/// So many gaps are read at once.
const GAPS_AT_ONCE: i64 = 10_000;
/// More deviations than these are not listed: the period is too long.
const MAX_DEVIATIONS: i64 = 5_000_000;
const NO_STATE: &str = "no desired state was valid for it";
const NO_CLAUSE: &str = "no clause is desired of it";
const NO_CLAUSE_FOR_CONTROLS: &str = "no clause is desired of it for these controls";

/// What is asked about.
pub struct Asked<'a> {
    /// The question.
    pub question: &'a Question,
    /// Which nodes it is about.
    pub narrowing: &'a Narrowing,
    /// Number of nodes that did not report a field that the filter asks for.
    pub undecidable: usize,
}

impl Asked<'_> {
    fn moment(&self) -> Moment {
        // From the history in any case, also if it is of now.
        Moment { at: self.question.as_of, known_at: self.question.as_known_at, is_now: false }
    }
}

/// What was gathered besides the rows.
pub struct Gathered {
    /// The figures.
    pub figures: Figures,
    /// The concessions that were in force.
    pub concessions: Vec<ConcessionFact>,
    /// The chain of days.
    pub days: Vec<DayLink>,
    /// Number of clauses on nodes.
    pub rows: u64,
}

/// Why evidence is not gathered.
#[derive(Debug, thiserror::Error)]
pub enum GatherError {
    /// The database or the server.
    #[error(transparent)]
    Api(#[from] ApiError),
    /// A file.
    #[error(transparent)]
    File(#[from] constans_evidence::EvidenceError),
    /// The history was altered.
    #[error(transparent)]
    Proof(#[from] ProofError),
    /// There is too much.
    #[error("{0}")]
    TooMuch(String),
    /// The rows are not what was counted.
    #[error(
        "{0} counted again from its clauses is not what the figures say: this is a fault of the server, and no evidence is made"
    )]
    Miscounted(String),
    /// Somebody stopped it, or another process has it.
    #[error("it was stopped")]
    Stopped,
}

impl From<sqlx::Error> for GatherError {
    fn from(error: sqlx::Error) -> Self {
        Self::Api(error.into())
    }
}

/// Writes the rows, and returns what is said besides them. `reading` is a transaction that sees one snapshot; `go_on` is asked after
/// each so many nodes whether to.
///
/// # Errors
///
/// Returns why it cannot be gathered.
pub async fn gather(
    db: &PgPool,
    reading: &mut PgConnection,
    asked: &Asked<'_>,
    contents: &mut Contents,
    mut go_on: impl AsyncFnMut(usize, usize) -> Result<bool, GatherError>,
) -> Result<Gathered, GatherError> {
    let (question, moment) = (asked.question, asked.moment());
    let nodes = clause_result::nodes(&mut *reading, asked.narrowing, moment).await?;
    let desired = Desired::read(&mut *reading, question, &nodes).await?;
    let mut left_out = BTreeMap::new();
    for node in &nodes {
        let fact = node_fact(node, &desired, question);
        if let Some(because) = &fact.left_out {
            *left_out.entry(because.clone()).or_insert(0) += 1;
        }
        contents.node(&fact)?;
    }
    let total = nodes.len();
    let mut writing = Writing {
        db,
        at: question.as_of,
        nodes: nodes.iter().map(|node| (node.no, node)).collect(),
        desired: &desired,
        contents,
        tally: Tally::default(),
        rows: 0,
        conceded: BTreeMap::new(),
        waiting: Vec::new(),
        done: HashSet::new(),
    };
    clause_result::each(&mut *reading, asked.narrowing, moment, &question.controls, async |row| {
        writing.waiting.push(row);
        if writing.waiting.len() >= AT_ONCE {
            writing.write().await?;
            if !go_on(writing.done.len(), total).await? {
                return Err(GatherError::Stopped);
            }
        }
        Ok(())
    })
    .await?;
    writing.write().await?;
    let Writing { tally, rows, conceded, .. } = writing;
    if !go_on(total, total).await? {
        return Err(GatherError::Stopped);
    }
    let (counted, by_control, by_cause) = tally.end();
    check(reading, asked, &counted, &by_control).await?;
    let days = evidence::days(&mut *reading).await?;
    write_deviations(db, reading, asked, &days, contents).await?;
    let row = control::at(&mut *reading, question.as_of).await?;
    let catalogue: Catalogue = match &row {
        Some(row) => read_stored(|| format!("version {} of the controls", row.no), row.body.clone())?,
        None => Catalogue::default(),
    };
    let by_control = summaries(reading, asked, catalogue.controls, by_control).await?;
    write_gaps(reading, asked, &by_control, contents).await?;
    let mut left_out: Vec<LeftOut> =
        left_out.into_iter().map(|(because, nodes)| LeftOut { because, nodes }).collect();
    if asked.undecidable > 0 {
        let because = "it did not report a field that the filter asks for".to_owned();
        left_out.push(LeftOut { because, nodes: asked.undecidable as u64 });
    }
    let figures = Figures {
        nodes_in_all: total as u64,
        counted,
        rate_basis_points: counted.clauses.rate().map(Rate::basis_points),
        rate_with_concessions_basis_points: counted.clauses.rate_with_concessions().map(Rate::basis_points),
        by_cause,
        by_control,
        left_out,
        catalogue: row.map(|row| row.no),
    };
    let concessions = concessions(reading, question, &conceded).await?;
    Ok(Gathered { figures, concessions, days, rows })
}

/// What is desired of the nodes, and by which changes.
struct Desired {
    clauses: HashMap<i64, (ClauseOfStateRow, String)>,
    changes: HashMap<i64, HandedOutRow>,
    /// By the number of a node: which history it has.
    history_of: HashMap<i32, usize>,
    /// Of each history: the change that gave the last state, and by what is desired the change that desired it.
    histories: Vec<(Option<i64>, HashMap<i32, i64>)>,
    /// The states that desire a clause that is asked about.
    with_clauses: HashSet<i64>,
}

impl Desired {
    async fn read(
        db: &mut PgConnection,
        question: &Question,
        nodes: &[PlacedRow],
    ) -> Result<Self, GatherError> {
        let states: HashSet<i64> = nodes.iter().filter_map(|node| node.state).collect();
        let states: Vec<i64> = states.into_iter().collect();
        let mut clauses = HashMap::new();
        for row in evidence::clauses(&mut *db, &states).await? {
            let clause: Clause = read_stored(|| format!("clause {}", row.id), row.body.clone())?;
            clauses.insert(row.id, (row, desired_words(&clause)));
        }
        let numbers: Vec<i32> = nodes.iter().map(|node| node.no).collect();
        let given = evidence::histories(&mut *db, question.as_of, &numbers).await?;
        let states: HashSet<i64> =
            given.iter().flat_map(|(_, history)| history).filter_map(|given| given.state).collect();
        let states: Vec<i64> = states.into_iter().collect();
        let desired = evidence::desired_of_states(&mut *db, &states).await?;
        let is_asked = |row: &&(ClauseOfStateRow, String)| {
            let asked = &question.controls;
            asked.is_empty() || row.0.satisfies.iter().any(|control| asked.contains(control))
        };
        let asked: HashSet<i32> = clauses.values().filter(is_asked).map(|(row, _)| row.desired).collect();
        let has_asked = |(_, desired): &(&i64, &HashSet<i32>)| !desired.is_disjoint(&asked);
        let with_clauses = desired.iter().filter(has_asked).map(|(state, _)| *state).collect();
        let (mut history_of, mut histories, mut changes) = (HashMap::new(), Vec::new(), HashSet::new());
        for (nodes, history) in given {
            history_of.extend(nodes.into_iter().map(|node| (node, histories.len())));
            let by = desired_by(&history, |state| desired.get(&state));
            let last = history
                .iter()
                .rev()
                .take_while(|given| given.state == history.last().and_then(|last| last.state))
                .last()
                .map(|given| given.change);
            changes.extend(by.values().copied().chain(last));
            histories.push((last, by));
        }
        let numbers: Vec<i64> = changes.into_iter().collect();
        let changes = compliance::changes(&mut *db, &numbers).await?;
        let changes = changes.into_iter().map(|change| (change.no, change)).collect();
        Ok(Self { clauses, changes, history_of, histories, with_clauses })
    }

    fn history(&self, node: i32) -> Option<&(Option<i64>, HashMap<i32, i64>)> {
        self.histories.get(*self.history_of.get(&node)?)
    }

    fn by(&self, node: i32, desired: i32) -> Option<DesiredBy> {
        let change = self.changes.get(self.history(node)?.1.get(&desired)?)?;
        Some(DesiredBy {
            change: change.no,
            at: change.ended_at.to_jiff(),
            who: change.who.clone(),
            approved_by: change.approved_by.clone(),
        })
    }
}

fn node_fact(node: &PlacedRow, desired: &Desired, question: &Question) -> NodeFact {
    let change = desired.history(node.no).and_then(|(last, _)| *last);
    let left_out = match node.state {
        None => Some(NO_STATE),
        Some(state) if desired.with_clauses.contains(&state) => None,
        Some(_) if question.controls.is_empty() => Some(NO_CLAUSE),
        Some(_) => Some(NO_CLAUSE_FOR_CONTROLS),
    };
    NodeFact {
        node: node.name.clone(),
        node_id: node.id.to_string(),
        stage: node.stage.clone().unwrap_or_default(),
        groups: node.groups.as_ref().map(|groups| groups.0.clone()).unwrap_or_default(),
        state: node.digest.clone(),
        since: change.and_then(|change| desired.changes.get(&change)).map(|change| change.ended_at.to_jiff()),
        change,
        examined: node.examined_until.map(|at| at.to_jiff()),
        has_missing_run: node.has_missing_run,
        known_by_metadata: node.known_by_metadata.map_or(0, |number| u64::from(number.unsigned_abs())),
        left_out: left_out.map(str::to_owned),
    }
}

/// The clauses that are being written.
struct Writing<'a> {
    db: &'a PgPool,
    at: Timestamp,
    nodes: HashMap<i32, &'a PlacedRow>,
    desired: &'a Desired,
    contents: &'a mut Contents,
    tally: Tally,
    rows: u64,
    conceded: BTreeMap<i64, u64>,
    waiting: Vec<ResultRow>,
    done: HashSet<i32>,
}

impl Writing<'_> {
    async fn write(&mut self) -> Result<(), GatherError> {
        let waiting = std::mem::take(&mut self.waiting);
        let runs: HashSet<(i32, Uuid)> =
            waiting.iter().filter_map(|row| Some((row.node, row.run?))).collect();
        // Runs are never altered: it matters not that these are read apart from the snapshot.
        let found =
            if runs.is_empty() { Vec::new() } else { evidence::found(self.db, &runs, self.at).await? };
        let mut actual: HashMap<(i32, Uuid, String), String> = HashMap::new();
        for (node, run, result) in found {
            let result: ClauseResult = read_result(run, result)?;
            actual.insert((node, run, result.address.to_string()), actual_words(&result));
        }
        waiting.iter().try_for_each(|row| self.write_one(row, &actual))
    }

    fn write_one(
        &mut self,
        row: &ResultRow,
        actual: &HashMap<(i32, Uuid, String), String>,
    ) -> Result<(), GatherError> {
        let (Some(node), Some((clause, words))) =
            (self.nodes.get(&row.node), self.desired.clauses.get(&row.clause))
        else {
            return Err(GatherError::Miscounted("a clause".to_owned()));
        };
        let result = counts_as(row);
        let found = (!matches!(result, ClauseCountsAs::Compliant | ClauseCountsAs::Unexamined))
            .then_some(())
            .and_then(|()| {
                let (since, learned, run) = (row.since?.to_jiff(), row.learned?.to_jiff(), row.run?);
                let actual = actual.get(&(row.node, run, clause.address.clone())).cloned();
                Some(Found { cause: row.status.clone(), actual, since, learned, run: run.to_string() })
            });
        if let (ClauseCountsAs::Conceded, Some(no)) = (result, row.concession) {
            *self.conceded.entry(no).or_default() += 1;
        }
        let written = ClauseRow {
            node: node.name.clone(),
            node_id: node.id.to_string(),
            address: clause.address.clone(),
            severity: clause.severity.clone(),
            controls: clause.satisfies.clone(),
            baselines: clause.baselines.clone(),
            releases: clause.releases.clone(),
            result,
            in_doubt: row.is_in_doubt && result == ClauseCountsAs::Compliant,
            conceded_by: row.concession.filter(|_| result == ClauseCountsAs::Conceded),
            desired: words.clone(),
            wanted: clause.wanted.clone(),
            found,
            examined: (result != ClauseCountsAs::Unexamined).then(|| examined(node)).flatten(),
            desired_by: self.desired.by(row.node, clause.desired),
        };
        self.tally.add(&written);
        self.rows += 1;
        self.done.insert(row.node);
        Ok(self.contents.clause(&written)?)
    }
}

fn read_result(run: Uuid, result: Value) -> Result<ClauseResult, ApiError> {
    read_stored(|| format!("run {run}"), result)
}

fn counts_as(row: &ResultRow) -> ClauseCountsAs {
    match row.status.as_str() {
        "compliant" => ClauseCountsAs::Compliant,
        _ if row.is_conceded => ClauseCountsAs::Conceded,
        "unexamined" => ClauseCountsAs::Unexamined,
        "unknown" => ClauseCountsAs::Unknown,
        _ => ClauseCountsAs::Noncompliant,
    }
}

fn examined(node: &PlacedRow) -> Option<Examined> {
    Some(Examined {
        from: node.examined_from?.to_jiff(),
        until: node.examined_until?.to_jiff(),
        run: node.run.map(|run| run.to_string()),
        mode: node.mode.clone()?,
        learned: node.examined_learned?.to_jiff(),
    })
}

/// Refuses rows that do not add up to what the figures say everywhere else.
async fn check(
    db: &mut PgConnection,
    asked: &Asked<'_>,
    counted: &Tallied,
    by_control: &BTreeMap<String, Tallied>,
) -> Result<(), GatherError> {
    let tallied = |row: &CountedRow| Tallied { clauses: row.clauses(), nodes: row.nodes() };
    let Counted { all, rows } =
        compliance::count(&mut *db, asked.narrowing, &[asked.moment()], Some(&Dimension::Control), None)
            .await?;
    let is_of_all = asked.question.controls.is_empty();
    if is_of_all && tallied(&all.into_iter().next().unwrap_or_default()) != *counted {
        return Err(GatherError::Miscounted("the fleet".to_owned()));
    }
    for row in rows {
        let Some(id) = row.key.clone() else { continue };
        let is_asked = is_of_all || asked.question.controls.contains(&id);
        if is_asked && by_control.get(&id).copied().unwrap_or_default() != tallied(&row) {
            return Err(GatherError::Miscounted(id));
        }
    }
    Ok(())
}

async fn write_deviations(
    db: &PgPool,
    reading: &mut PgConnection,
    asked: &Asked<'_>,
    days: &[DayLink],
    contents: &mut Contents,
) -> Result<(), GatherError> {
    let question = asked.question;
    let mut prover = Prover::by(db, days);
    let since = question.since.unwrap_or(question.as_of);
    let mut count = 0;
    clause_result::deviations(reading, asked.narrowing, asked.moment(), since, &question.controls, async |row| {
        count += 1;
        if count > MAX_DEVIATIONS {
            return Err(GatherError::TooMuch(format!(
                "there are more than {MAX_DEVIATIONS} deviations in the period: take a shorter one, or fewer nodes"
            )));
        }
        let mut written = deviation(row);
        written.opened = prover.proof(written.learned, &written.opening().leaf()).await?;
        if let (Some(learned), Some(leaf)) = (written.until_learned, written.closing().map(|row| row.leaf())) {
            written.closed = prover.proof(learned, &leaf).await?;
        }
        Ok(contents.deviation(&written)?)
    })
    .await
}

fn deviation(row: DeviationOfPeriodRow) -> DeviationRow {
    DeviationRow {
        node: row.node,
        node_id: row.node_id.to_string(),
        address: row.address,
        wanted: row.wanted,
        cause: row.cause,
        since: row.from_at.to_jiff(),
        learned: row.learned_at.to_jiff(),
        run: row.run.to_string(),
        until: row.until_at.map(|at| at.to_jiff()),
        until_learned: row.until_learned_at.map(|at| at.to_jiff()),
        opened: None,
        closed: None,
    }
}

async fn summaries(
    db: &mut PgConnection,
    asked: &Asked<'_>,
    catalogue: Vec<Control>,
    mut counted: BTreeMap<String, Tallied>,
) -> Result<Vec<ControlSummary>, GatherError> {
    let scopes = control::scope_counts(&mut *db, asked.narrowing, asked.moment()).await?;
    let scopes: HashMap<String, ScopeRow> = scopes.into_iter().map(|row| (row.id.clone(), row)).collect();
    let asked_for = &asked.question.controls;
    let is_asked = |id: &String| asked_for.is_empty() || asked_for.contains(id);
    let mut summaries: Vec<ControlSummary> = catalogue
        .into_iter()
        .filter(|control| !control.is_heading && is_asked(&control.id))
        .map(|control| {
            let scope = scopes.get(&control.id);
            let number = |part: fn(&ScopeRow) -> i64| scope.map_or(0, |row| part(row).unsigned_abs());
            ControlSummary {
                counted: counted.remove(&control.id).unwrap_or_default(),
                id: control.id.clone(),
                title: Some(control.title),
                text: control.text,
                scope: control.scope,
                in_scope: Some(number(|row| row.in_scope)),
                gaps: number(|row| row.gaps),
                beyond_scope: number(|row| row.beyond),
            }
        })
        .collect();
    summaries.extend(counted.into_iter().filter(|(id, _)| is_asked(id)).map(|(id, counted)| {
        ControlSummary {
            id,
            title: None,
            text: None,
            scope: None,
            in_scope: None,
            gaps: 0,
            beyond_scope: 0,
            counted,
        }
    }));
    Ok(summaries)
}

async fn write_gaps(
    db: &mut PgConnection,
    asked: &Asked<'_>,
    controls: &[ControlSummary],
    contents: &mut Contents,
) -> Result<(), GatherError> {
    for control in controls.iter().filter(|control| control.gaps > 0) {
        let mut after = String::new();
        loop {
            let page = (after.as_str(), GAPS_AT_ONCE);
            let nodes = control::gaps(&mut *db, asked.narrowing, asked.moment(), &control.id, page).await?;
            let Some(last) = nodes.last().cloned() else { break };
            for node in nodes {
                contents.gap(&GapFact { control: control.id.clone(), node })?;
            }
            after = last;
        }
    }
    Ok(())
}

async fn concessions(
    db: &mut PgConnection,
    question: &Question,
    conceded: &BTreeMap<i64, u64>,
) -> Result<Vec<ConcessionFact>, GatherError> {
    let rows = evidence::concessions(&mut *db, question.as_of).await?;
    let fact = |row: evidence::ConcessionRow| ConcessionFact {
        no: row.no,
        clauses: row.clauses,
        filter: row.filter,
        nodes: row.nodes.unsigned_abs(),
        conceded: conceded.get(&row.no).copied().unwrap_or(0),
        because: row.because,
        asked_by: row.asked_by,
        asked: row.asked_at.to_jiff(),
        approved_by: row.decided_by,
        approved: row.decided_at.to_jiff(),
        until: row.until_at.to_jiff(),
    };
    Ok(rows.into_iter().map(fact).collect())
}
