//! The generated parts of the papers, compared with the code they speak of.

#![expect(clippy::unwrap_used, reason = "a test may panic")]

use constans_core::compare::TextDiffRefusal;
use constans_core::compliance::{DeviationCause, MoveReason, OVERDUE};
use constans_core::document::findings_as_markdown;
use constans_core::episode::ClosedAs;
use constans_core::filter::{LISTED_FIELDS, RECORD_LISTS, RecordList, STABLE_FIELDS};
use constans_core::joining::WaitsBecause;
use constans_core::kind::{baseline_schema, case_schema, kinds_as_markdown, manifest_schema};
use constans_core::node_status::{NodeProblem, NodeStatus};
use constans_core::param::Layer;
use constans_core::run::Outcome;
use constans_core::run_comparison::ResultChange;
use constans_e2e::demo_kit;
use constans_wire::exit::Exit;
use constans_wire::report::StartedBy;
use constans_wire::rollout::{RolloutNodeState, RolloutStatus};
use jsonschema::Validator;
use serde_json::Value;
use std::fmt::Write as _;
use std::path::{Path, PathBuf};

fn held(name: &str, text: &str) {
    let path = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../docs/reference").join(name);
    if std::env::var_os("WRITE_PAPERS").is_some() {
        std::fs::write(&path, text).unwrap();
    }
    let written = std::fs::read_to_string(&path).unwrap_or_default();
    assert_eq!(
        written,
        text,
        "{} is out of date: WRITE_PAPERS=1 cargo test -p constans-e2e --test e2e papers",
        path.display()
    );
}

#[test]
fn the_table_of_exit_codes_is_current() {
    let mut text =
        "# Exit codes\n\nAll commands end with one of these.\n\n| code | meaning |\n|---|---|\n".to_owned();
    for (exit, meaning) in Exit::TABLE {
        let _ = writeln!(text, "| {} | {meaning} |", exit.code());
    }
    held("exit-codes.md", &text);
}

/// The first sentence of a file's documentation.
fn purpose(file: &Path) -> String {
    let text = std::fs::read_to_string(file).unwrap_or_default();
    let lines: Vec<&str> = text
        .lines()
        .map_while(|line| line.strip_prefix("//!"))
        .map(str::trim)
        .take_while(|line| !line.is_empty())
        .collect();
    let whole = lines.join(" ");
    assert!(!whole.is_empty(), "{} has no documentation", file.display());
    let end = whole.find(". ").unwrap_or_else(|| whole.trim_end_matches('.').len());
    whole[..end].to_owned()
}

#[test]
fn the_rooms_are_current_and_each_has_a_purpose() {
    let crates = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("..");
    let sorted = |folder: &Path| {
        let mut all: Vec<PathBuf> =
            std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path()).collect();
        all.sort();
        all
    };
    let name = |path: &Path| path.file_stem().unwrap().to_str().unwrap().to_owned();
    let mut text = "# The rooms\n\nMade from the first sentence of each module's documentation.\n".to_owned();
    for folder in
        sorted(&crates).into_iter().map(|folder| folder.join("src")).filter(|folder| folder.is_dir())
    {
        let top =
            [folder.join("lib.rs"), folder.join("main.rs")].into_iter().find(|file| file.exists()).unwrap();
        let _ = writeln!(text, "\n## {}\n{}.\n", name(folder.parent().unwrap()), purpose(&top));
        let modules = sorted(&folder).into_iter().filter_map(|path| {
            let own = path.join("mod.rs");
            let file = if path.is_dir() { own } else { path };
            let is_module = file.extension().is_some_and(|end| end == "rs") && file.exists();
            (is_module && !matches!(name(&file).as_str(), "lib" | "main")).then_some(file)
        });
        let rows: Vec<String> = modules
            .map(|file| {
                let named = if name(&file) == "mod" { name(file.parent().unwrap()) } else { name(&file) };
                format!("| `{named}` | {} |\n", purpose(&file))
            })
            .collect();
        if !rows.is_empty() {
            text += &format!("| module | purpose |\n|---|---|\n{}", rows.concat());
        }
    }
    held("../design/rooms.md", &text);
}

/// The words of a list of statuses, by the word that the interface uses for each.
fn table<T: serde::Serialize + Copy>(all: &[T], words: impl Fn(T) -> String) -> Value {
    let entry = |one: &T| {
        let word = serde_json::to_value(one).unwrap();
        (word.as_str().expect("a word").to_owned(), Value::from(words(*one)))
    };
    Value::Object(all.iter().map(entry).collect())
}

#[test]
fn the_words_of_the_console_are_those_of_the_client() {
    let name = || "{name}".to_owned();
    let layers = [
        Layer::Default,
        Layer::Stage(name()),
        Layer::Group(name()),
        Layer::Node,
        Layer::CommandLine,
        Layer::Case,
    ];
    let layers: serde_json::Map<String, Value> = layers
        .iter()
        .map(|layer| {
            let word = serde_json::to_value(layer).unwrap()["layer"].as_str().expect("a word").to_owned();
            (word, Value::from(layer.words()))
        })
        .collect();
    let mut causes = table(&DeviationCause::ALL, |cause| cause.words().to_owned());
    causes[OVERDUE.0] = OVERDUE.1.into();
    let words = serde_json::json!({
        "node_status": table(&NodeStatus::ALL, |status| status.words().to_owned()),
        "node_problem": table(&NodeProblem::ALL, |problem| problem.words().to_owned()),
        "outcome": table(&Outcome::ALL, |outcome| outcome.words().to_owned()),
        "result_change": table(&ResultChange::ALL, |change| change.words().to_owned()),
        "started_by": table(&StartedBy::ALL, |by| by.words().to_owned()),
        "text_diff_refusal": table(&TextDiffRefusal::ALL, |refusal| refusal.words().to_owned()),
        "deviation_cause": causes,
        "move_reason": table(&MoveReason::ALL, |reason| reason.words().to_owned()),
        "closed_as": table(&ClosedAs::ALL, |closed| closed.words().to_owned()),
        "layer": layers,
        "waits_because": table(&WaitsBecause::ALL, |because| because.words().to_owned()),
        "rollout_status": table(&RolloutStatus::ALL, |status| status.words().to_owned()),
        "rollout_node_state": table(&RolloutNodeState::ALL, |state| state.words().to_owned()),
        "list_fields": list_fields(),
    });
    held(
        "../../console/src/words/words.json",
        &format!("{}\n", serde_json::to_string_pretty(&words).unwrap()),
    );
}

#[test]
fn the_reference_of_kinds_is_current() {
    held("kinds.md", &kinds_as_markdown());
}

#[test]
fn the_chapter_of_findings_is_current() {
    held("findings.md", &findings_as_markdown());
}

#[test]
fn the_schemas_for_editors_are_current() {
    for (name, schema) in
        [("kit.json", manifest_schema()), ("baseline.json", baseline_schema()), ("case.json", case_schema())]
    {
        held(&format!("schemas/{name}"), &format!("{}\n", serde_json::to_string_pretty(&schema).unwrap()));
    }
}

/// What filters of each list can ask, by the name of the list.
fn list_fields() -> Value {
    let of_nodes = LISTED_FIELDS.iter().map(|field| format!("node.{field}"));
    let reported = STABLE_FIELDS.iter().map(|field| format!("about.{}", field.path));
    let nodes = ["node.name".to_owned()].into_iter().chain(of_nodes).chain(reported).collect::<Value>();
    let fields = |list: &RecordList| -> Value {
        list.fields.iter().map(|field| format!("{}.{}", list.name, field.name)).collect()
    };
    let records = RECORD_LISTS.iter().map(|list| (list.name.to_owned(), fields(list)));
    [("node".to_owned(), nodes)].into_iter().chain(records).collect::<serde_json::Map<_, _>>().into()
}

fn validator(schema: &Value) -> Validator {
    jsonschema::validator_for(schema).expect("it is a schema")
}

fn mistakes(validator: &Validator, document: &str) -> Vec<String> {
    let document: Value = toml::from_str(document).expect("it is TOML");
    validator.iter_errors(&document).map(|error| error.to_string()).collect()
}

#[test]
fn editors_that_check_by_the_schemas_agree_with_the_check_on_the_demos_documents() {
    let all = [("baselines", validator(&baseline_schema())), ("cases", validator(&case_schema()))];
    for kit in ["quay-base", "kiosk-floor", "gate-reader", "ship-gateway"] {
        let kit = PathBuf::from(demo_kit(kit));
        let manifest = std::fs::read_to_string(kit.join("kit.toml")).unwrap();
        assert_eq!(mistakes(&validator(&manifest_schema()), &manifest), Vec::<String>::new());
        for (folder, validator) in &all {
            for entry in std::fs::read_dir(kit.join(folder)).unwrap() {
                let document = std::fs::read_to_string(entry.unwrap().path()).unwrap();
                assert_eq!(mistakes(validator, &document), Vec::<String>::new(), "{document}");
            }
        }
    }
    for wrong in [
        "what = \"file:/x\"\npermisions = \"0644\"",
        "what = \"file:/x\"\npermissions = 644",
        "what = \"pakage:x\"",
        "what = \"service:x\"\ngone = true",
    ] {
        assert!(
            !mistakes(&all[0].1, &format!("[baseline]\nname = \"x\"\n[[clause]]\n{wrong}\n")).is_empty(),
            "{wrong}"
        );
    }
}
