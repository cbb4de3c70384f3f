//! A file of evidence from its rows to its verification, read by others than who wrote it.

use calamine::{Data, Reader as _, Xlsx};
use constans_core::compliance::{ClauseCounts, Rate};
use constans_core::evidence::merkle::Tree;
use constans_core::evidence::{
    ClauseCountsAs, ClauseRow, ControlSummary, DayLink, DesiredBy, DeviationRow, Examined, Figures, Found,
    KeyEntry, LeftOut, Proof, Question, SigningKey, Tallied, Tally, hex,
};
use constans_evidence::{
    ConcessionFact, Contents, Facts, Format, GapFact, NodeFact, Signer, Verified, additions, verify,
};
use jiff::Timestamp;
use jiff::tz::TimeZone;
use serde_json::Value;
use std::collections::BTreeMap;
use std::fs::File;
use std::io::{Cursor, Read as _, Seek as _, SeekFrom, Write as _};
use zip::write::SimpleFileOptions;
use zip::{ZipArchive, ZipWriter};

fn at(text: &str) -> Timestamp {
    text.parse().expect("a moment")
}

const DRIFTED: &str = "2026-11-21T23:47:10.25Z";
const LEARNED: &str = "2026-11-21T23:47:12Z";
const AS_OF: &str = "2026-11-22T03:00:00Z";

/// What one test makes evidence of.
struct Made {
    key: SigningKey,
    keys: Vec<KeyEntry>,
    known_at: Timestamp,
    /// Whether a second gate was found to have drifted, which was learned later.
    has_late_report: bool,
}

fn signing_key() -> SigningKey {
    SigningKey::read(&SigningKey::make().expect("random bytes")).expect("a key")
}

impl Made {
    fn new() -> Self {
        let key = signing_key();
        let keys = vec![key.first_entry(at("2026-10-01T00:00:00Z"))];
        Self { key, keys, known_at: at(AS_OF), has_late_report: false }
    }

    fn deviations(&self) -> Vec<DeviationRow> {
        let row = |node: &str, learned| DeviationRow {
            node: node.into(),
            node_id: format!("id-{node}"),
            address: "file:/etc/gate/tariff.conf".into(),
            wanted: "s2:tariff".into(),
            cause: Some("drift".into()),
            since: at(DRIFTED),
            learned,
            run: format!("run-{node}"),
            until: None,
            until_learned: None,
            opened: None,
            closed: None,
        };
        let mut rows = vec![row("gate-auken-1", at(LEARNED))];
        if self.has_late_report {
            rows.push(row("gate-auken-2", at("2026-11-23T08:00:00Z")));
        }
        rows
    }

    fn rows(&self) -> Vec<ClauseRow> {
        let mut rows = Vec::new();
        for node in ["gate-auken-1", "gate-auken-2", "kiosk-auken-10", "ship-nessa"] {
            for (address, severity, controls) in
                [("file:/etc/gate/tariff.conf", "critical", "SK-9"), ("service:ntp", "low", "SK-2 800-53")]
            {
                let deviation = self
                    .deviations()
                    .into_iter()
                    .find(|row| row.node == node && row.address == address && row.learned <= self.known_at);
                let result = match (node, address) {
                    _ if deviation.is_some() => ClauseCountsAs::Noncompliant,
                    ("kiosk-auken-10", "service:ntp") => ClauseCountsAs::Conceded,
                    ("ship-nessa", _) => ClauseCountsAs::Unknown,
                    _ => ClauseCountsAs::Compliant,
                };
                let found = |since, learned, run| Found {
                    cause: "drift".into(),
                    actual: Some("<b>=SUM(A1)</b> in place of 12".into()),
                    since,
                    learned,
                    run,
                };
                let conceded = (result == ClauseCountsAs::Conceded)
                    .then(|| found(at(DRIFTED), at(LEARNED), "run-kiosk".into()));
                rows.push(ClauseRow {
                    node: node.into(),
                    node_id: format!("id-{node}"),
                    address: address.into(),
                    severity: severity.into(),
                    controls: controls.split(' ').map(str::to_owned).collect(),
                    baselines: vec!["gates/tariffs".into()],
                    releases: vec!["gates@1.4.0".into()],
                    result,
                    in_doubt: node == "gate-auken-2" && result == ClauseCountsAs::Compliant,
                    conceded_by: (result == ClauseCountsAs::Conceded).then_some(1),
                    desired: "=owner root".into(),
                    wanted: if severity == "critical" { "s2:tariff" } else { "s2:ntp" }.into(),
                    found: deviation.map(|row| found(row.since, row.learned, row.run)).or(conceded),
                    examined: Some(Examined {
                        from: at(LEARNED),
                        until: at(LEARNED),
                        run: None,
                        mode: "observe".into(),
                        learned: at(LEARNED),
                    }),
                    desired_by: Some(DesiredBy {
                        change: 118,
                        at: at("2026-11-01T00:00:00Z"),
                        who: "ilse.maren".into(),
                        approved_by: Some("tor.havik".into()),
                    }),
                });
            }
        }
        rows
    }

    fn write(&self, formats: &[Format]) -> File {
        let mut contents = Contents::begin(&formats.iter().copied().collect(), format!("test E3 {AS_OF}"))
            .expect("contents");
        let mut tally = Tally::default();
        for node in ["gate-auken-1", "gate-auken-2", "kiosk-auken-10", "pier-1", "ship-nessa"] {
            contents
                .node(&NodeFact {
                    node: node.into(),
                    node_id: format!("id-{node}"),
                    stage: "harbour".into(),
                    groups: vec!["all".into()],
                    state: (node != "pier-1").then(|| "s1:state".into()),
                    since: None,
                    change: Some(118),
                    examined: Some(at(LEARNED)),
                    has_missing_run: false,
                    known_by_metadata: 0,
                    left_out: (node == "pier-1").then(|| "nothing is desired of it".into()),
                })
                .expect("a node");
        }
        for row in self.rows() {
            tally.add(&row);
            contents.clause(&row).expect("a row");
        }
        contents.gap(&GapFact { control: "SK-11".into(), node: "pier-1".into() }).expect("a gap");
        // Each day has rows of other nodes too.
        let mut by_day: BTreeMap<_, Vec<_>> = BTreeMap::new();
        let other = |byte: u8| constans_core::evidence::merkle::leaf(&[byte]);
        for (byte, day) in (0..).zip(["2026-11-20", "2026-11-21", "2026-11-22", "2026-11-23"]) {
            if !self.has_late_report && day > "2026-11-21" {
                continue;
            }
            by_day.insert(day.parse().expect("a day"), (0..=byte).map(other).collect());
        }
        let day_of = |moment: Timestamp| moment.to_zoned(TimeZone::UTC).date();
        for row in self.deviations() {
            by_day.entry(day_of(row.learned)).or_default().push(row.opening().leaf());
        }
        let trees: BTreeMap<_, Tree> =
            by_day.into_iter().map(|(day, leaves)| (day, Tree::of(leaves))).collect();
        let mut days: Vec<DayLink> = Vec::new();
        for (day, tree) in &trees {
            let before = days.last().map_or("", |link| &link.digest).to_owned();
            days.push(DayLink::chained(&before, *day, tree.len() as u64, hex(&tree.root())));
        }
        for mut row in self.deviations() {
            let (place, path) = trees[&day_of(row.learned)].proof(&row.opening().leaf()).expect("a proof");
            row.opened = Some(Proof { place, path: path.iter().map(|digest| hex(digest)).collect() });
            contents.deviation(&row).expect("a deviation");
        }
        let (counted, by_control, by_cause) = tally.end();
        let mut by_control: Vec<ControlSummary> = by_control
            .into_iter()
            .map(|(id, counted)| ControlSummary {
                title: (id == "SK-9").then(|| "Tariffs are <those> that were decided".into()),
                id,
                text: None,
                scope: None,
                in_scope: Some(4),
                gaps: 0,
                beyond_scope: 0,
                counted,
            })
            .collect();
        by_control.push(ControlSummary {
            id: "SK-11".into(),
            title: None,
            text: None,
            scope: None,
            in_scope: Some(1),
            gaps: 1,
            beyond_scope: 0,
            counted: Tallied::default(),
        });
        let facts = Facts {
            server: "Skerry Line".into(),
            made_by: "Constans 0.1.0".into(),
            evidence: 3,
            question: Question {
                filter: None,
                controls: Vec::new(),
                as_of: at(AS_OF),
                as_known_at: self.known_at,
                since: None,
            },
            asked_by: "pia.lund".into(),
            asked: self.known_at,
            because: Some("the auditor <asked>".into()),
            made: self.known_at,
            figures: Figures {
                nodes_in_all: 5,
                counted,
                rate_basis_points: counted.clauses.rate().map(Rate::basis_points),
                rate_with_concessions_basis_points: counted
                    .clauses
                    .rate_with_concessions()
                    .map(Rate::basis_points),
                by_cause,
                by_control,
                left_out: vec![LeftOut { because: "nothing is desired of it".into(), nodes: 1 }],
                catalogue: Some(2),
            },
            concessions: vec![ConcessionFact {
                no: 1,
                clauses: vec!["service:ntp".into()],
                filter: None,
                nodes: 1,
                conceded: 1,
                because: "old screens".into(),
                asked_by: "ilse.maren".into(),
                asked: at(LEARNED),
                approved_by: "tor.havik".into(),
                approved: at(LEARNED),
                until: at("2026-12-24T00:00:00Z"),
            }],
        };
        contents.end(&facts, &days, &Signer { key: &self.key, keys: &self.keys }).expect("a file")
    }

    fn verified(&self, file: File) -> Verified {
        let known = vec![self.keys.last().expect("a key").id.clone()];
        verify(file, &known).expect("a file of evidence")
    }
}

const ALL: [Format; 4] = [Format::Json, Format::Html, Format::Xlsx, Format::Oscal];

fn part(file: &File, name: &str) -> Vec<u8> {
    let mut bytes = Vec::new();
    let mut archive = ZipArchive::new(file.try_clone().expect("the file")).expect("a zip file");
    archive.by_name(name).expect("the part").read_to_end(&mut bytes).expect("its bytes");
    bytes
}

/// Writes a zip file again with its parts altered: a part that becomes nothing is left out.
fn rewritten(file: &File, mut alter: impl FnMut(&str, Vec<u8>) -> Option<Vec<u8>>) -> File {
    let mut archive = ZipArchive::new(file.try_clone().expect("the file")).expect("a zip file");
    let mut writer = ZipWriter::new(tempfile::tempfile().expect("a file"));
    for place in 0..archive.len() {
        let mut part = archive.by_index(place).expect("a part");
        let name = part.name().expect("a name").into_owned();
        let mut bytes = Vec::new();
        part.read_to_end(&mut bytes).expect("its bytes");
        if let Some(bytes) = alter(&name, bytes) {
            writer.start_file(name.as_str(), SimpleFileOptions::default()).expect("a part");
            writer.write_all(&bytes).expect("its bytes");
        }
    }
    let mut file = writer.finish().expect("a zip file");
    file.seek(SeekFrom::Start(0)).expect("its beginning");
    file
}

fn faults(verified: &Verified) -> String {
    verified.checks.iter().flat_map(|check| check.faults.clone()).collect::<Vec<_>>().join("\n")
}

#[test]
fn what_is_written_is_verified_and_says_how_much_it_checked() {
    let made = Made::new();
    let verified = made.verified(made.write(&ALL));
    assert_eq!(faults(&verified), "");
    assert!(verified.is_intact() && verified.is_key_known);
    let found: Vec<String> =
        verified.checks.iter().map(|check| format!("{}: {}", check.what, check.found)).collect();
    assert_eq!(
        found[3..],
        ["deviations: listed: 1; openings and closings in the chain: 1", "figures: 8 clauses, counted again"]
    );
    let clauses = verified.manifest.figures.counted.clauses;
    let expected =
        ClauseCounts { compliant: 4, in_doubt: 2, noncompliant: 1, conceded: 1, unexamined: 0, unknown: 2 };
    assert_eq!(clauses, expected);
    let strangers = verify(made.write(&[]), &["ed25519:another".into()]).expect("a file of evidence");
    assert!(strangers.is_intact() && !strangers.is_key_known);
}

#[test]
fn one_flipped_bit_in_any_part_is_found() {
    let made = Made::new();
    let file = made.write(&ALL);
    let mut archive = ZipArchive::new(file.try_clone().expect("the file")).expect("a zip file");
    let names: Vec<String> = (0..archive.len())
        .map(|place| archive.by_index(place).expect("a part").name().expect("a name").into_owned())
        .collect();
    assert_eq!(names.len(), 15, "{names:?}");
    for name in &names {
        let length = part(&file, name).len();
        for place in [0, length / 2, length - 2] {
            let altered = rewritten(&file, |part, mut bytes| {
                if part == name {
                    bytes[place] ^= 1;
                }
                Some(bytes)
            });
            let is_found = verify(altered, &[]).map_or(true, |verified| !verified.is_intact());
            assert!(is_found, "byte {place} of {name}");
        }
        let without = rewritten(&file, |part, bytes| (part != name).then_some(bytes));
        assert!(verify(without, &[]).map_or(true, |verified| !verified.is_intact()), "without {name}");
    }
}

#[test]
fn a_cut_off_or_foreign_file_is_no_evidence() {
    let made = Made::new();
    let mut file = made.write(&[]);
    let mut bytes = Vec::new();
    file.read_to_end(&mut bytes).expect("its bytes");
    let of = |bytes: &[u8]| {
        let mut file = tempfile::tempfile().expect("a file");
        file.write_all(bytes).expect("its bytes");
        file
    };
    for length in [0, 1, bytes.len() / 2, bytes.len() - 1] {
        assert!(verify(of(&bytes[..length]), &[]).is_err(), "{length} bytes");
    }
    let empty = rewritten(&of(&bytes), |_, _| None);
    assert_eq!(verify(empty, &[]).expect_err("nothing in it").to_string(), "manifest.json is missing");
}

/// Signs a file again, as one who has another key, or the right one and bad intent.
fn signed_again(
    file: &File,
    key: &SigningKey,
    keys: &[KeyEntry],
    mut alter: impl FnMut(&mut Value, &str, Vec<u8>) -> Vec<u8>,
) -> File {
    let mut manifest: Value = serde_json::from_slice(&part(file, "manifest.json")).expect("a manifest");
    manifest["key"] = keys.last().expect("a key").id.clone().into();
    let mut parts = Vec::new();
    drop(rewritten(file, |name, bytes| {
        if !["manifest.json", "signature.txt"].contains(&name) {
            let bytes = if name == "keys.json" {
                serde_json::to_vec(keys).expect("keys")
            } else {
                alter(&mut manifest, name, bytes)
            };
            let (size, digest) = constans_core::evidence::file_digest(&bytes[..]).expect("a digest");
            let files = manifest["files"].as_array_mut().expect("files");
            let entry = files.iter_mut().find(|entry| entry["name"] == name).expect("the file");
            entry["bytes"] = size.into();
            entry["sha256"] = digest.into();
            parts.push((name.to_owned(), bytes));
        }
        None
    }));
    let manifest = serde_json::to_vec(&manifest).expect("a manifest");
    parts.push(("signature.txt".into(), key.sign(&manifest).into_bytes()));
    parts.push(("manifest.json".into(), manifest));
    let mut writer = ZipWriter::new(tempfile::tempfile().expect("a file"));
    for (name, bytes) in parts {
        writer.start_file(name.as_str(), SimpleFileOptions::default()).expect("a part");
        writer.write_all(&bytes).expect("its bytes");
    }
    let mut file = writer.finish().expect("a zip file");
    file.seek(SeekFrom::Start(0)).expect("its beginning");
    file
}

#[test]
fn another_servers_key_is_not_known_and_a_successor_is() {
    let made = Made::new();
    let file = made.write(&[]);
    let stranger = signing_key();
    let strange = vec![stranger.first_entry(at(LEARNED))];
    let forged = made.verified(signed_again(&file, &stranger, &strange, |_, _, bytes| bytes));
    assert!(forged.is_intact() && !forged.is_key_known, "{}", faults(&forged));
    let next = signing_key();
    let keys = vec![made.keys[0].clone(), made.key.endorse(&next, at(LEARNED))];
    let followed = made.verified(signed_again(&file, &next, &keys, |_, _, bytes| bytes));
    assert!(followed.is_intact() && followed.is_key_known, "{}", faults(&followed));
    // Somebody who puts the known key before their own, without its endorsement.
    let keys = vec![made.keys[0].clone(), strange[0].clone()];
    let pretended = made.verified(signed_again(&file, &stranger, &keys, |_, _, bytes| bytes));
    assert!(faults(&pretended).contains("did not endorse it"), "{}", faults(&pretended));
}

#[test]
fn whoever_signs_cannot_remove_a_row_or_rewrite_a_day_unseen() {
    let made = Made::new();
    let file = made.write(&[]);
    let again = |alter: &dyn Fn(&str, String) -> String| {
        let file = signed_again(&file, &made.key, &made.keys, |_, name, bytes| {
            alter(name, String::from_utf8(bytes).expect("a text")).into_bytes()
        });
        faults(&made.verified(file))
    };
    assert_eq!(again(&|_, text| text), "");
    let without = |of: &'static str, word: &'static str| {
        move |name: &str, text: String| match name == of {
            true => text.split_inclusive("\r\n").filter(|line| !line.contains(word)).collect(),
            false => text,
        }
    };
    let removed = again(&without("clauses.csv", "noncompliant"));
    assert!(removed.contains("do not add up"), "{removed}");
    let removed = again(&without("deviations.csv", "gate-auken-1"));
    assert!(removed.contains("deviations.csv does not have it"), "{removed}");
    let removed = again(&without("days.csv", "2026-11-20"));
    assert!(removed.contains("one of them was altered"), "{removed}");
    let altered = again(&|name, text| {
        if name == "deviations.csv" { text.replace("23:47:10", "22:47:10") } else { text }
    });
    assert!(altered.contains("it was inserted or altered"), "{altered}");
}

#[test]
fn later_reports_are_additions_and_a_rewritten_day_is_none() {
    let made = Made::new();
    let earlier = made.write(&[]);
    let later = Made { known_at: at("2026-11-25T00:00:00Z"), has_late_report: true, ..made };
    let file = later.write(&[]);
    let copy = |file: &File| rewritten(file, |_, bytes| Some(bytes));
    let found = additions(copy(&earlier), copy(&file)).expect("two answers");
    let words: Vec<String> = found
        .iter()
        .map(|one| format!("{} {} {} {:?}", one.node, one.before, one.after, one.learned))
        .collect();
    assert_eq!(words, ["gate-auken-2 compliant noncompliant Some(2026-11-23T08:00:00Z)"]);
    assert!(
        additions(copy(&file), copy(&earlier))
            .expect_err("the wrong way")
            .to_string()
            .contains("earlier one")
    );
    let rewritten_day = rewritten(&file, |name, bytes| {
        let text = String::from_utf8_lossy(&bytes).into_owned();
        Some(if name == "days.csv" {
            text.replace("2026-11-21,3", "2026-11-21,4").into_bytes()
        } else {
            bytes
        })
    });
    let fault = additions(copy(&earlier), rewritten_day).expect_err("a rewritten day").to_string();
    assert!(fault.starts_with("2026-11-21 was rewritten"), "{fault}");
}

#[test]
fn the_spreadsheet_is_read_by_another_library() {
    let file = Made::new().write(&[Format::Xlsx]);
    let mut book: Xlsx<_> = Xlsx::new(Cursor::new(part(&file, "evidence.xlsx"))).expect("a spreadsheet");
    assert_eq!(book.sheet_names(), ["Summary", "Clauses", "Nodes", "Deviations", "Concessions", "Gaps"]);
    let clauses = book.worksheet_range("Clauses").expect("the sheet");
    assert_eq!(clauses.get_size(), (9, 26));
    assert_eq!(clauses.get((1, 0)), Some(&Data::String("gate-auken-1".into())));
    assert_eq!(clauses.get((1, 11)), Some(&Data::String("=owner root".into())), "a text and no formula");
    assert!(book.worksheet_formula("Clauses").expect("the sheet").is_empty(), "no cell is a formula");
    let summary = book.worksheet_range("Summary").expect("the sheet");
    let noncompliant = summary.rows().find(|row| row[0] == Data::String("Clauses not compliant".into()));
    assert_eq!(noncompliant.map(|row| row[1].clone()), Some(Data::Float(1.0)));
    let control = summary.rows().find(|row| row[0] == Data::String("SK-9".into())).expect("a control");
    assert_eq!(control[2..7], [2.0, 1.0, 0.0, 0.0, 1.0].map(Data::Float));
}

#[test]
fn oscal_is_valid_and_read_back_each_control_has_its_state() {
    let file = Made::new().write(&[Format::Oscal]);
    let schema: Value = serde_json::from_str(include_str!("oscal-1.1-part.schema.json")).expect("a schema");
    let schema = jsonschema::validator_for(&schema).expect("a schema");
    let read = |name| serde_json::from_slice::<Value>(&part(&file, name)).expect("a document");
    let (plan, results) = (read("assessment-plan.json"), read("assessment-results.json"));
    for document in [&plan, &results] {
        let faults: Vec<String> =
            schema.iter_errors(document).map(|error| format!("{}: {error}", error.instance_path())).collect();
        assert_eq!(faults, Vec::<String>::new());
    }
    let mut broken = results.clone();
    broken["assessment-results"]["results"][0]["findings"][0]["target"]["status"]["state"] = "fine".into();
    assert!(!schema.is_valid(&broken), "the schema finds what is wrong");
    let result = &results["assessment-results"]["results"][0];
    let states: Vec<String> = result["findings"]
        .as_array()
        .expect("findings")
        .iter()
        .map(|finding| format!("{} {}", finding["target"]["target-id"], finding["target"]["status"]["state"]))
        .collect();
    assert_eq!(
        states,
        [
            "\"_800-53\" \"not-satisfied\"",
            "\"SK-2\" \"not-satisfied\"",
            "\"SK-9\" \"not-satisfied\"",
            "\"SK-11\" \"not-satisfied\""
        ]
    );
    let observations = result["observations"].as_array().expect("observations");
    let itemised = observations.iter().filter(|one| one["subjects"].is_array()).count();
    assert_eq!((itemised, observations.len()), (4, 8), "each clause that is not compliant, and each control");
    let ids: std::collections::BTreeSet<&str> =
        observations.iter().filter_map(|one| one["uuid"].as_str()).collect();
    for finding in result["findings"].as_array().expect("findings") {
        for related in finding["related-observations"].as_array().expect("observations") {
            assert!(ids.contains(related["observation-uuid"].as_str().expect("an id")));
        }
    }
}

#[test]
fn the_page_shows_texts_as_texts_and_the_json_document_is_whole() {
    let file = Made::new().write(&ALL);
    let page = String::from_utf8(part(&file, "evidence.html")).expect("a text");
    for text in [
        "the auditor &lt;asked&gt;",
        "Tariffs are &lt;those&gt; that were decided",
        "&lt;b&gt;=SUM(A1)&lt;&#x2f;b&gt; in place of 12",
        "50.00 %",
    ] {
        assert!(page.contains(text), "{text}");
    }
    assert_eq!(page.matches("<tr><td>gate-auken-").count(), 4);
    let document: Value = serde_json::from_slice(&part(&file, "evidence.json")).expect("a document");
    let lengths =
        ["nodes", "gaps", "deviations", "clauses"].map(|name| document[name].as_array().map(Vec::len));
    assert_eq!(lengths, [Some(5), Some(1), Some(1), Some(8)]);
    assert_eq!(document["facts"]["question"]["as_of"], AS_OF);
    assert_eq!(document["clauses"][0]["found"]["cause"], "drift");
}
