//! `kit.toml`: a kit's name, version, summary and what it requires.

use crate::document::Code;
use crate::document::Finding;
use crate::document::Located;
use crate::document::keys::KIT_KEYS;
use crate::document::{Element, ElementValue, Fields, wrong_type};
use semver::{Version, VersionReq};

/// Another kit that a kit requires.
#[derive(Debug, Clone)]
pub struct Requirement {
    /// The other kit's name.
    pub kit: String,
    /// The releases of it that will do (SemVer).
    pub releases: Located<VersionReq>,
}

/// What `kit.toml` says.
#[derive(Debug, Clone)]
pub(crate) struct Manifest {
    pub name: Located<String>,
    pub version: Version,
    pub summary: String,
    pub requires: Vec<Requirement>,
}

pub(crate) fn read(element: &Element, findings: &mut Vec<Finding>) -> Option<Manifest> {
    let mut document = Fields::open(element, "kit.toml", findings)?;
    let kit = document.require("kit", "kit.toml", findings);
    let requires =
        document.take("requires").map(|element| requirements(element, findings)).unwrap_or_default();
    document.finish("kit.toml", findings);
    let mut kit = Fields::open_listed(kit?, "[kit]", KIT_KEYS, findings)?;
    let name = kit.require("name", "[kit]", findings).and_then(|element| name_of(element, "name", findings));
    let version = kit.require("version", "[kit]", findings).and_then(|element| version_of(element, findings));
    let summary = kit.text("summary", findings).map(|(text, _)| text.to_owned()).unwrap_or_default();
    kit.finish("[kit]", findings);
    Some(Manifest { name: name?, version: version?, summary, requires })
}

/// Reads a name of a kit or a baseline: lower-case letters, digits and `-`.
pub(super) fn name_of(element: &Element, key: &str, findings: &mut Vec<Finding>) -> Option<Located<String>> {
    let Some(text) = element.as_str() else {
        wrong_type(key, "a text", element, findings);
        return None;
    };
    let fine = text.starts_with(|c: char| c.is_ascii_lowercase())
        && text.len() <= 64
        && text.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-');
    if !fine {
        findings.push(
            Finding::error(Code::WrongValue, element.place.clone(), format!("`{text}` is not a valid name"))
                .hint("names have lower-case letters, digits and `-`, begin with a letter and have at most 64 characters"),
        );
    }
    fine.then(|| Located { value: text.to_owned(), place: element.place.clone() })
}

fn version_of(element: &Element, findings: &mut Vec<Finding>) -> Option<Version> {
    let parsed = element.as_str().and_then(|text| Version::parse(text).ok());
    if parsed.is_none() {
        findings.push(
            Finding::error(
                Code::WrongValue,
                element.place.clone(),
                "`version` takes three numbers in quotes (SemVer)",
            )
            .hint("write version = \"1.0.0\""),
        );
    }
    parsed
}

fn requirements(element: &Element, findings: &mut Vec<Finding>) -> Vec<Requirement> {
    let ElementValue::Table(entries) = &element.value else {
        wrong_type("requires", "a table of kits and releases", element, findings);
        return Vec::new();
    };
    let mut requirements = Vec::new();
    for (kit, _, releases) in entries {
        match releases.as_str().and_then(|text| VersionReq::parse(text).ok()) {
            Some(value) => requirements.push(Requirement {
                kit: kit.clone(),
                releases: Located { value, place: releases.place.clone() },
            }),
            None => findings.push(
                Finding::error(
                    Code::WrongValue,
                    releases.place.clone(),
                    format!("`{kit}` takes a SemVer requirement in quotes"),
                )
                .hint(format!("write {kit} = \"^1.0\"")),
            ),
        }
    }
    requirements
}
