//! `kinds/NAME/kind.toml`: the custom kinds of a kit.

use super::baseline;
use crate::digest::of_contents;
use crate::document::Code;
use crate::document::keys::KIND_KEYS;
use crate::document::keys::KIND_PROPERTY_KEYS;
use crate::document::keys::{CLAUSE_KEYS, names as key_names};
use crate::document::{self, Element, ElementValue, Fields, wrong_type};
use crate::document::{Finding, Level};
use crate::document::{KitFiles, Place};
use crate::kind::{self, CustomKind, CustomProperty, CustomType, Kind};

use std::sync::Arc;

/// The largest program of a kind, in bytes.
const MAX_PROGRAM: usize = 4 * 1024 * 1024;
const DEFAULT_TIMEOUT_SECS: u64 = 30;
const LONGEST_TIMEOUT_SECS: u64 = 3_600;
const TYPES: &[(&str, CustomType)] = &[
    ("string", CustomType::String),
    ("integer", CustomType::Integer),
    ("boolean", CustomType::Boolean),
    ("list", CustomType::List),
    ("map", CustomType::Map),
];

/// Reads all kinds of a kit.
pub(crate) fn read_kinds(files: &KitFiles, kit: &str, findings: &mut Vec<Finding>) -> Vec<Kind> {
    let mut kinds = Vec::new();
    let mut examples = Vec::new();
    let folders: std::collections::BTreeSet<&str> =
        files.below("kinds").filter_map(|path| path.split_once('/')).map(|(folder, _)| folder).collect();
    for path in files.below("kinds").filter(|path| !path.contains('/')) {
        let place = Place::of_file(&format!("kinds/{path}"));
        findings.push(
            Finding::error(Code::CustomKind, place, "a kind is a folder")
                .hint("write kinds/NAME/kind.toml, and put its program beside it"),
        );
    }
    for folder in folders {
        let path = format!("kinds/{folder}/kind.toml");
        if !is_name(folder) {
            let message = format!("`{folder}` is not a valid name of a kind");
            let hint = "names have lower-case letters, digits and `_`, and begin with a letter";
            findings.push(Finding::error(Code::CustomKind, Place::of_file(&path), message).hint(hint));
            continue;
        }
        if files.get(&path).is_none() {
            findings.push(Finding::error(
                Code::MissingFile,
                Place::of_file(&path),
                format!("the kind {folder} has no kind.toml"),
            ));
            continue;
        }
        let Some(element) = document::read(files, &path, findings) else { continue };
        let Some((declared, example)) = read_kind(&element, files, kit, folder, findings) else { continue };
        let kind = Kind::Declared(Arc::new(declared));
        examples.extend(example.map(|place| (kind.clone(), place)));
        kinds.push(kind);
    }
    for (kind, place) in examples {
        check_example(&kind, &place, &kinds, findings);
    }
    kinds
}

/// Holds a kind's example against the kind itself: it is what people copy.
fn check_example(kind: &Kind, place: &Place, custom_kinds: &[Kind], findings: &mut Vec<Finding>) {
    let text = format!("[baseline]\nname = \"example\"\n{}", kind.example());
    let files = KitFiles::new(std::iter::once(("example".to_owned(), text.clone().into_bytes())));
    let mut wrong = Vec::new();
    let clauses = document::read(&files, "example", &mut wrong)
        .and_then(|element| baseline::read(&element, &text, custom_kinds, &mut wrong))
        .map_or_else(Vec::new, |example| example.clauses);
    if wrong.is_empty() && !clauses.iter().any(|clause| clause.kind.name() == kind.name()) {
        let hint =
            format!("write [[clause]], and below it what = \"{}:NAME\" and its properties", kind.name());
        findings.push(
            Finding::error(Code::CustomKind, place.clone(), "the example has no clause of the kind")
                .hint(hint),
        );
    }
    let in_kind = |finding: Finding| {
        Finding::error(Code::CustomKind, place.clone(), format!("the example is wrong: {}", finding.message))
            .maybe_hint(finding.hint)
    };
    findings.extend(wrong.into_iter().filter(|finding| finding.level == Level::Error).map(in_kind));
}

fn is_name(text: &str) -> bool {
    text.len() <= 64
        && text.starts_with(|c: char| c.is_ascii_lowercase())
        && text.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_')
}

/// Reads a kind, and returns with it the position of its example, if it has one.
fn read_kind(
    element: &Element,
    files: &KitFiles,
    kit: &str,
    folder: &str,
    findings: &mut Vec<Finding>,
) -> Option<(CustomKind, Option<Place>)> {
    let before = findings.len();
    let mut document = Fields::open(element, "kind.toml", findings)?;
    let head = document.require("kind", "kind.toml", findings);
    let properties =
        document.take("properties").map(|element| read_properties(element, findings)).unwrap_or_default();
    document.finish("kind.toml", findings);
    let mut head = Fields::open_listed(head?, "[kind]", KIND_KEYS, findings)?;
    let summary = head.text("summary", findings).map(|(text, _)| text.to_owned()).unwrap_or_default();
    let docs = head.text("docs", findings).map(|(text, _)| text.to_owned()).unwrap_or_default();
    let example = head.text("example", findings).map(|(text, place)| (text.to_owned(), place.clone()));
    let claim = head.texts("claim", findings);
    let can_be_gone = head.boolean("can_be_gone", findings).unwrap_or(true);
    let correctable = head.boolean("correctable", findings).unwrap_or(true);
    let timeout_secs =
        head.take("timeout").and_then(|element| timeout(element, findings)).unwrap_or(DEFAULT_TIMEOUT_SECS);
    let program = head
        .require("program", "[kind]", findings)
        .and_then(|element| program(element, files, folder, findings));
    head.finish("[kind]", findings);
    for (name, place) in &claim {
        let declared = properties.iter().find(|property| property.name == **name);
        if declared.is_none_or(|property| !property.required) {
            let message = format!("`claim` names `{name}`, which is no required property of the kind");
            findings.push(
                Finding::error(Code::CustomKind, (*place).clone(), message)
                    .hint("declare it with required = true"),
            );
        }
    }
    let (program, bytes) = program?;
    if findings.len() > before {
        return None;
    }
    let (example, example_at) = example.unzip();
    let kind = CustomKind {
        name: format!("{kit}/{folder}"),
        summary,
        claim: claim.into_iter().map(|(name, _)| name.to_owned()).collect(),
        can_be_gone,
        correctable,
        timeout_secs,
        program_digest: of_contents(bytes),
        program,
        properties,
        docs,
        example: example.unwrap_or_default(),
    };
    Some((kind, example_at))
}

fn timeout(element: &Element, findings: &mut Vec<Finding>) -> Option<u64> {
    let secs = element.as_str().and_then(kind::duration_secs).filter(|secs| *secs <= LONGEST_TIMEOUT_SECS);
    if secs.is_none() {
        wrong_type("timeout", "a duration in quotes of at most an hour, as \"30s\"", element, findings);
    }
    secs
}

fn program<'f>(
    element: &Element,
    files: &'f KitFiles,
    folder: &str,
    findings: &mut Vec<Finding>,
) -> Option<(String, &'f [u8])> {
    let Some(name) =
        element.as_str().filter(|name| !name.is_empty() && !name.contains('/') && *name != "kind.toml")
    else {
        wrong_type("program", "the name of a file beside kind.toml", element, findings);
        return None;
    };
    let path = format!("kinds/{folder}/{name}");
    let Some(bytes) = files.get(&path) else {
        findings.push(
            Finding::error(Code::MissingFile, element.place.clone(), format!("the kit has no file {path}"))
                .hint("add the program"),
        );
        return None;
    };
    let starts = bytes.starts_with(b"#!") || bytes.starts_with(b"\x7fELF");
    let refused = if bytes.len() > MAX_PROGRAM {
        Some(format!("the program has {} bytes, at most {MAX_PROGRAM} are allowed", bytes.len()))
    } else {
        (!starts).then(|| format!("{path} is not a program: it begins neither with `#!` nor as an ELF file"))
    };
    if let Some(message) = refused {
        findings.push(
            Finding::error(Code::CustomKind, element.place.clone(), message)
                .hint("a script begins with a line as #!/bin/sh"),
        );
        return None;
    }
    Some((name.to_owned(), bytes))
}

fn read_properties(element: &Element, findings: &mut Vec<Finding>) -> Vec<CustomProperty> {
    let ElementValue::Table(entries) = &element.value else {
        wrong_type("properties", "a table of properties", element, findings);
        return Vec::new();
    };
    let mut properties = Vec::new();
    for (name, place, element) in entries {
        if !is_name(name) || key_names(CLAUSE_KEYS).any(|key| key == name) || name == "content" {
            let message = format!("`{name}` cannot be a property");
            let hint =
                "names have lower-case letters, digits and `_`, and differ from the keys of every clause";
            findings.push(Finding::error(Code::CustomKind, place.clone(), message).hint(hint));
            continue;
        }
        let Some(mut fields) = Fields::open_listed(element, "a property", KIND_PROPERTY_KEYS, findings)
        else {
            continue;
        };
        let value = fields.word("type", TYPES, findings);
        let one_of = fields.texts("one_of", findings).into_iter().map(|(text, _)| text.to_owned()).collect();
        let required = fields.boolean("required", findings).unwrap_or(false);
        let concealed = fields.boolean("concealed", findings).unwrap_or(false);
        let manner = fields.boolean("manner", findings).unwrap_or(false);
        let note = fields.text("note", findings).map(|(text, _)| text.to_owned()).unwrap_or_default();
        let types: Vec<&str> = TYPES.iter().map(|(word, _)| *word).collect();
        if value.is_none() {
            let message = format!("the property `{name}` has no `type`");
            findings.push(
                Finding::error(Code::MissingKey, place.clone(), message)
                    .hint(format!("types are {}", types.join(", "))),
            );
        }
        fields.finish("a property", findings);
        let Some(value) = value else { continue };
        properties.push(CustomProperty {
            name: name.clone(),
            value,
            one_of,
            required,
            concealed,
            manner,
            note,
        });
    }
    properties
}
