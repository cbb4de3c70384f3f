//! Verifying a file of evidence without a server: who signed it, that nothing of it was altered, and that its numbers are those of
//! its rows.

use crate::error::EvidenceError;
use crate::package::{CLAUSES, DAYS, DEVIATIONS, FORMAT, KEYS};
use crate::read::Archive;
use crate::tables::{DEVIATION_COLUMNS, read_table};
use constans_core::evidence::{
    ClauseCountsAs, ClauseRow, DayLink, DeviationRow, Found, KeyEntry, MANIFEST, Manifest, Proof, SIGNATURE,
    Tally, check_chain, check_keys, check_signature, file_digest, hash_of_hex, merkle,
};
use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::fs::File;

/// This many faults of one check are named.
const MAX_NAMED: usize = 5;

/// One thing that was checked.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Check {
    /// What was checked.
    pub what: &'static str,
    /// What was found.
    pub found: String,
    /// What is wrong; nothing if all is well.
    pub faults: Vec<String>,
}

/// What a file of evidence is found to be.
#[derive(Debug, Clone, Serialize)]
pub struct Verified {
    /// What it says of itself.
    pub manifest: Manifest,
    /// The id of the key that it is signed by.
    pub key: String,
    /// Whether this key, or one that a key of this chain follows, is known here.
    pub is_key_known: bool,
    /// What was checked.
    pub checks: Vec<Check>,
}

impl Verified {
    /// Whether nothing of it was altered since it was signed.
    pub fn is_intact(&self) -> bool {
        self.checks.iter().all(|check| check.faults.is_empty())
    }
}

/// Faults of one check, of which the first ones are named.
#[derive(Default)]
struct Faults {
    named: Vec<String>,
    more: usize,
}

impl Faults {
    fn add(&mut self, fault: impl Into<String>) {
        if self.named.len() < MAX_NAMED {
            self.named.push(fault.into());
        } else {
            self.more += 1;
        }
    }

    fn end(mut self, what: &'static str, found: String) -> Check {
        if self.more > 0 {
            self.named.push(format!("and {} more", self.more));
        }
        Check { what, found, faults: self.named }
    }
}

/// Verifies a file of evidence; `known` are the ids of keys that are known to be the organisation's.
///
/// # Errors
///
/// Returns that it is no file of evidence, or one of a later form.
pub fn verify(file: File, known: &[String]) -> Result<Verified, EvidenceError> {
    let mut archive = Archive::open(file)?;
    let (manifest, bytes, signature) = archive.manifest()?;
    if manifest.format != FORMAT {
        return Err(EvidenceError::Wrong(format!(
            "it is of form {}, and this program knows form {FORMAT}: take a newer one",
            manifest.format
        )));
    }
    let keys: Vec<KeyEntry> = archive.document(KEYS).unwrap_or_default();
    let mut checks = vec![signed(&manifest, &bytes, &signature, &keys), files(&mut archive, &manifest)?];
    let days = read_days(&mut archive);
    checks.push(chain(&manifest, &days));
    let days = days.unwrap_or_default();
    let open = match deviations(&mut archive, &manifest, &days) {
        Ok((check, open)) => {
            checks.push(check);
            open
        }
        Err(error) => {
            checks.push(unreadable("deviations", DEVIATIONS, &error));
            HashSet::new()
        }
    };
    checks.push(
        figures(&mut archive, &manifest, &open)
            .unwrap_or_else(|error| unreadable("figures", CLAUSES, &error)),
    );
    // A key that follows a known one is as good, and the checks say whether it does.
    let is_key_known = keys.iter().any(|entry| known.contains(&entry.id));
    Ok(Verified { key: manifest.key.clone(), manifest, is_key_known, checks })
}

fn unreadable(what: &'static str, file: &str, error: &EvidenceError) -> Check {
    Check { what, found: "not checked".to_owned(), faults: vec![format!("{file}: {error}")] }
}

fn signed(manifest: &Manifest, bytes: &[u8], signature: &str, keys: &[KeyEntry]) -> Check {
    let mut faults = Faults::default();
    if let Err(fault) = check_keys(keys) {
        faults.add(format!("{KEYS}: {fault}"));
    }
    match keys.last() {
        Some(key) if key.id != manifest.key => {
            faults.add(format!("{MANIFEST} names {}, and the last of {KEYS} is {}", manifest.key, key.id));
        }
        Some(key) => {
            if let Err(fault) = check_signature(key, bytes, signature) {
                faults.add(format!("{SIGNATURE}: {fault}"));
            }
        }
        None => {}
    }
    let before = match keys.len() {
        0 | 1 => String::new(),
        count => format!(", the last of {count} that follow each other"),
    };
    faults.end("signature", format!("by {}{before}", manifest.key))
}

fn files(archive: &mut Archive, manifest: &Manifest) -> Result<Check, EvidenceError> {
    let mut faults = Faults::default();
    let listed: BTreeSet<&str> =
        manifest.files.iter().map(|file| file.name.as_str()).chain([MANIFEST, SIGNATURE]).collect();
    let mut seen = BTreeSet::new();
    for name in archive.names()? {
        if !listed.contains(name.as_str()) {
            faults.add(format!("{name} is in it, and the manifest does not name it"));
        }
        if !seen.insert(name.clone()) {
            faults.add(format!("{name} is in it twice"));
        }
    }
    let mut bytes = 0;
    for entry in &manifest.files {
        let found = archive.file(&entry.name).and_then(|file| Ok(file_digest(file)?));
        match found {
            Err(EvidenceError::Missing(name)) => faults.add(format!("{name} is missing")),
            Err(error) => faults.add(format!("{} cannot be read: {error}", entry.name)),
            Ok((size, digest)) if (size, &digest) != (entry.bytes, &entry.sha256) => {
                faults.add(format!("{} was altered: it is not the file that was signed", entry.name));
            }
            Ok((size, _)) => bytes += size,
        }
    }
    Ok(faults.end("files", format!("{} files, {bytes} bytes", manifest.files.len())))
}

fn read_days(archive: &mut Archive) -> Result<Vec<DayLink>, EvidenceError> {
    let mut days = Vec::new();
    read_table(archive.file(DAYS)?, ["day", "rows", "root", "digest"], |[day, rows, root, digest]| {
        let wrong = || EvidenceError::Wrong(format!("`{day}` with `{rows}` rows is no day"));
        days.push(DayLink {
            day: day.parse().map_err(|_| wrong())?,
            rows: rows.parse().map_err(|_| wrong())?,
            root: root.to_owned(),
            digest: digest.to_owned(),
        });
        Ok(())
    })?;
    Ok(days)
}

fn chain(manifest: &Manifest, days: &Result<Vec<DayLink>, EvidenceError>) -> Check {
    let mut faults = Faults::default();
    let days = match days {
        Ok(days) => days,
        Err(error) => return unreadable("chain of days", DAYS, error),
    };
    if let Err(fault) = check_chain(days) {
        faults.add(fault.to_string());
    }
    if days.last() != manifest.last_day.as_ref() {
        faults.add(format!("the last day of {DAYS} is not the one that was signed"));
    }
    let found = match (days.first(), days.last()) {
        (Some(first), Some(last)) => {
            format!("{} days, {} to {}: {}", days.len(), first.day, last.day, last.digest)
        }
        _ => "no day is chained yet".to_owned(),
    };
    faults.end("chain of days", found)
}

fn day_of(learned: Timestamp) -> Date {
    learned.to_zoned(TimeZone::UTC).date()
}

fn moment(text: &str) -> Result<Timestamp, EvidenceError> {
    text.parse().map_err(|_| EvidenceError::Wrong(format!("`{text}` is no moment")))
}

fn some_moment(text: &str) -> Result<Option<Timestamp>, EvidenceError> {
    (!text.is_empty()).then(|| moment(text)).transpose()
}

fn proof(place: &str, path: &str) -> Result<Option<Proof>, EvidenceError> {
    if place.is_empty() {
        return Ok(None);
    }
    let place = place.parse().map_err(|_| EvidenceError::Wrong(format!("`{place}` is no place")))?;
    Ok(Some(Proof { place, path: path.split_whitespace().map(str::to_owned).collect() }))
}

/// Returns whether a leaf is where its proof says; none if its day is not chained yet.
fn is_proven(
    days: &BTreeMap<Date, &DayLink>,
    learned: Timestamp,
    leaf: merkle::Hash,
    proof: Option<&Proof>,
) -> Option<bool> {
    let link = days.get(&day_of(learned))?;
    let proven = || {
        let proof = proof?;
        let path: Option<Vec<merkle::Hash>> = proof.path.iter().map(|digits| hash_of_hex(digits)).collect();
        let rows = usize::try_from(link.rows).ok()?;
        Some(merkle::proves(leaf, proof.place, rows, &path?, &hash_of_hex(&link.root)?))
    };
    Some(proven().unwrap_or(false))
}

/// The node's id, the address, and what was desired.
type OpenDeviations = HashSet<(String, String, String)>;

fn deviations(
    archive: &mut Archive,
    manifest: &Manifest,
    days: &[DayLink],
) -> Result<(Check, OpenDeviations), EvidenceError> {
    let (mut faults, mut open) = (Faults::default(), HashSet::new());
    let days: BTreeMap<Date, &DayLink> = days.iter().map(|link| (link.day, link)).collect();
    let (mut rows, mut proven, mut not_yet) = (0, 0, 0);
    let question = &manifest.question;
    read_table(archive.file(DEVIATIONS)?, DEVIATION_COLUMNS, |cells| {
        let [
            node,
            node_id,
            address,
            wanted,
            cause,
            since,
            learned,
            run,
            until,
            end_learned,
            place,
            path,
            end_place,
            end_path,
        ] = cells;
        let row = DeviationRow {
            node: node.to_owned(),
            node_id: node_id.to_owned(),
            address: address.to_owned(),
            wanted: wanted.to_owned(),
            cause: (!cause.is_empty()).then(|| cause.to_owned()),
            since: moment(since)?,
            learned: moment(learned)?,
            run: run.to_owned(),
            until: some_moment(until)?,
            until_learned: some_moment(end_learned)?,
            opened: proof(place, path)?,
            closed: proof(end_place, end_path)?,
        };
        rows += 1;
        let mut check = |learned, leaf, proof| match is_proven(&days, learned, leaf, proof) {
            None => not_yet += 1,
            Some(true) => proven += 1,
            Some(false) => faults.add(format!(
                "{address} on {node} is not in what was learned on {}: it was inserted or altered",
                day_of(learned)
            )),
        };
        check(row.learned, row.opening().leaf(), row.opened.as_ref());
        if let (Some(closing), Some(learned)) = (row.closing(), row.until_learned) {
            check(learned, closing.leaf(), row.closed.as_ref());
        }
        let is_begun = row.since <= question.as_of && row.learned <= question.as_known_at;
        let is_over = row.until.is_some_and(|until| until <= question.as_of)
            && row.until_learned.is_some_and(|learned| learned <= question.as_known_at);
        if is_begun && !is_over {
            open.insert((row.node_id, row.address, row.wanted));
        }
        Ok(())
    })?;
    let later =
        if not_yet > 0 { format!("; on a day that is not chained yet: {not_yet}") } else { String::new() };
    let check = faults
        .end("deviations", format!("listed: {rows}; openings and closings in the chain: {proven}{later}"));
    Ok((check, open))
}

fn counts_as(word: &str) -> Result<ClauseCountsAs, EvidenceError> {
    use ClauseCountsAs::{Compliant, Conceded, Noncompliant, Unexamined, Unknown};
    [Compliant, Noncompliant, Conceded, Unexamined, Unknown]
        .into_iter()
        .find(|result| result.word() == word)
        .ok_or_else(|| EvidenceError::Wrong(format!("`{word}` is no result")))
}

fn figures(
    archive: &mut Archive,
    manifest: &Manifest,
    open: &OpenDeviations,
) -> Result<Check, EvidenceError> {
    let (mut faults, mut tally, mut rows) = (Faults::default(), Tally::default(), 0_u64);
    let columns = [
        "node",
        "node_id",
        "clause",
        "severity",
        "controls",
        "result",
        "cause",
        "in_doubt",
        "desired_digest",
    ];
    read_table(archive.file(CLAUSES)?, columns, |cells| {
        let [node, node_id, address, severity, controls, result, cause, in_doubt, wanted] = cells;
        let found = (!cause.is_empty()).then(|| Found {
            cause: cause.to_owned(),
            actual: None,
            since: Timestamp::UNIX_EPOCH,
            learned: Timestamp::UNIX_EPOCH,
            run: String::new(),
        });
        let row = ClauseRow {
            node: node.to_owned(),
            node_id: node_id.to_owned(),
            address: address.to_owned(),
            severity: severity.to_owned(),
            controls: controls.split_whitespace().map(str::to_owned).collect(),
            baselines: Vec::new(),
            releases: Vec::new(),
            result: counts_as(result)?,
            in_doubt: in_doubt == "yes",
            conceded_by: None,
            desired: String::new(),
            wanted: wanted.to_owned(),
            found,
            examined: None,
            desired_by: None,
        };
        rows += 1;
        if row.result == ClauseCountsAs::Noncompliant
            && !open.contains(&(row.node_id.clone(), row.address.clone(), row.wanted.clone()))
        {
            faults.add(format!("{address} on {node} is noncompliant, and {DEVIATIONS} does not have it"));
        }
        tally.add(&row);
        Ok(())
    })?;
    let (all, by_control, by_cause) = tally.end();
    let said = &manifest.figures;
    if all != said.counted {
        faults.add(format!("the rows of {CLAUSES} do not add up to the figures"));
    }
    if by_cause != said.by_cause {
        faults.add("the causes of deviations do not add up to the figures");
    }
    for control in &said.by_control {
        if by_control.get(&control.id).copied().unwrap_or_default() != control.counted {
            faults.add(format!("the clauses for {} do not add up to its figures", control.id));
        }
    }
    for id in by_control.keys().filter(|id| !said.by_control.iter().any(|control| control.id == **id)) {
        // Clauses may satisfy more than what was asked for.
        if manifest.question.controls.is_empty() {
            faults.add(format!("the figures do not have {id}"));
        }
    }
    Ok(faults.end("figures", format!("{rows} clauses, counted again")))
}

/// A clause on a node that a later file says otherwise of, or a day that it has otherwise.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Addition {
    /// The node.
    pub node: String,
    /// The clause.
    pub address: String,
    /// How it counted in the earlier file.
    pub before: &'static str,
    /// How it counts in the later one.
    pub after: &'static str,
    /// When the server learned of the deviation that the later one counts.
    pub learned: Option<Timestamp>,
}

/// Compares two files that answer the same question, as it was known earlier and later. What was known earlier must not have been
/// altered; what became known since is returned.
///
/// # Errors
///
/// Returns that they do not answer the same question, or that a day which the earlier one has was rewritten.
pub fn additions(earlier: File, later: File) -> Result<Vec<Addition>, EvidenceError> {
    let (mut earlier, mut later) = (Archive::open(earlier)?, Archive::open(later)?);
    let ((before, ..), (after, ..)) = (earlier.manifest()?, later.manifest()?);
    let asked = |manifest: &Manifest| {
        let question = manifest.question.clone();
        (question.filter, question.controls, question.as_of)
    };
    if asked(&before) != asked(&after) {
        return Err(EvidenceError::Wrong(
            "they do not answer the same question: filter, controls and the moment must be the same"
                .to_owned(),
        ));
    }
    if after.question.as_known_at < before.question.as_known_at {
        return Err(EvidenceError::Wrong("the other file is the earlier one".to_owned()));
    }
    let (days_before, days_after) = (read_days(&mut earlier)?, read_days(&mut later)?);
    for link in &days_before {
        if !days_after.contains(link) {
            return Err(EvidenceError::Wrong(format!(
                "{} was rewritten: the earlier file has another digest of what was learned until then",
                link.day
            )));
        }
    }
    let (rows_before, mut rows_after) = (not_compliant(&mut earlier)?, not_compliant(&mut later)?);
    let mut additions = Vec::new();
    for (key, (before, _)) in rows_before {
        let (after, learned) = rows_after.remove(&key).unwrap_or((ClauseCountsAs::Compliant, None));
        if before != after {
            additions.push(addition(key, before, after, learned));
        }
    }
    additions.extend(
        rows_after
            .into_iter()
            .map(|(key, (after, learned))| addition(key, ClauseCountsAs::Compliant, after, learned)),
    );
    additions.sort_by(|left, right| (&left.node, &left.address).cmp(&(&right.node, &right.address)));
    Ok(additions)
}

fn addition(
    (node, address): (String, String),
    before: ClauseCountsAs,
    after: ClauseCountsAs,
    learned: Option<Timestamp>,
) -> Addition {
    Addition { node, address, before: before.word(), after: after.word(), learned }
}

/// By node and address: how it counts, and when its deviation was learned.
type Counted = BTreeMap<(String, String), (ClauseCountsAs, Option<Timestamp>)>;

fn not_compliant(archive: &mut Archive) -> Result<Counted, EvidenceError> {
    let mut rows = BTreeMap::new();
    let columns = ["node", "clause", "result", "deviation_learned"];
    read_table(archive.file(CLAUSES)?, columns, |[node, clause, result, learned]| {
        let result = counts_as(result)?;
        if result != ClauseCountsAs::Compliant {
            rows.insert((node.to_owned(), clause.to_owned()), (result, some_moment(learned)?));
        }
        Ok(())
    })?;
    Ok(rows)
}
