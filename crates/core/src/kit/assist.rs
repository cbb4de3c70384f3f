//! What an editor offers while a document is written: completions, what a word means, where it is declared.
//!
//! The text may be half written, so it is read line by line around the cursor; what is known of the kit comes from the
//! last time that it could be read.

use super::Kit;
use super::baseline::Baseline;
use crate::address::{fits_text, is_pattern};
use crate::document::Place;
use crate::document::keys::{CLAUSE_KEYS, Key, Takes, of_header};
use crate::filter::STABLE_FIELDS;
use crate::kind::{self, KINDS, Kind, ValueType};
use std::collections::BTreeSet;
use std::sync::Arc;

/// A document that is just written, and what is known around it.
#[derive(Debug, Clone, Copy)]
pub struct OpenDocument<'a> {
    /// Its kit, as it could be read last.
    pub kit: &'a Kit,
    /// The kits that it requires.
    pub others: &'a [Kit],
    /// The document below the kit's folder.
    pub file: &'a str,
    /// Its text now.
    pub text: &'a str,
}

/// Something that can be written at the cursor.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Suggestion {
    /// What is written.
    pub label: String,
    /// What it is, in a few words.
    pub detail: String,
    /// What sort of thing it is.
    pub sort: SuggestionSort,
}

/// What sort of thing a suggestion is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[expect(missing_docs, reason = "the words say it")]
pub enum SuggestionSort {
    Kind,
    Key,
    Value,
    Parameter,
    Address,
    File,
}

/// The position of the cursor.
struct Spot<'a> {
    /// The header of the table that it is in, as `clause` or `params.idle`.
    header: String,
    /// The lines of that table up to the next header.
    block: Vec<&'a str>,
    /// The key of the line, if there is a `=` before the cursor.
    key: Option<&'a str>,
    /// The line up to the cursor.
    before: &'a str,
    /// The word that the cursor is in, within quotes the whole text.
    word: &'a str,
    /// The kit's custom kinds.
    custom_kinds: &'a [Kind],
}

impl<'a> Spot<'a> {
    fn of(text: &'a str, offset: usize, custom_kinds: &'a [Kind]) -> Self {
        let mut offset = offset.min(text.len());
        while !text.is_char_boundary(offset) {
            offset -= 1;
        }
        let line_start = text[..offset].rfind('\n').map_or(0, |at| at + 1);
        let line_end = text[offset..].find('\n').map_or(text.len(), |at| offset + at);
        let is_header = |line: &str| {
            line.trim_start().starts_with('[') && line.trim_end().ends_with(']') && !line.contains('=')
        };
        let mut header = String::new();
        let mut block_start = 0;
        let mut at = 0;
        for line in text[..line_end].split_inclusive('\n') {
            if is_header(line) && !line.trim().trim_matches(['[', ']']).contains(['"', ',']) {
                header = line.trim().trim_matches(['[', ']']).to_owned();
                block_start = at;
            }
            at += line.len();
        }
        let block: Vec<&str> = text[block_start..]
            .lines()
            .enumerate()
            .take_while(|(number, line)| *number == 0 || !is_header(line))
            .map(|(_, line)| line)
            .collect();
        let line = &text[line_start..line_end];
        let before = &text[line_start..offset];
        Self {
            header,
            key: key_before(&text[block_start.min(line_start)..offset], before),
            block,
            before,
            word: word_at(line, offset - line_start),
            custom_kinds,
        }
    }

    /// Returns the kind of the clause that the cursor is in.
    fn kind(&self) -> Option<&'a Kind> {
        let what = self.block.iter().find_map(|line| {
            line.trim().strip_prefix("what")?.trim_start().strip_prefix('=')?.trim().strip_prefix('"')
        })?;
        kind::find_among(what.split(':').next()?, self.custom_kinds)
    }

    fn present(&self) -> BTreeSet<&str> {
        self.block.iter().filter_map(|line| Some(line.split_once('=')?.0.trim())).collect()
    }

    fn is_clause(&self) -> bool {
        matches!(self.header.as_str(), "clause" | "expect")
    }

    /// Returns whether the cursor is in something that is rendered or evaluated.
    fn is_expression(&self) -> bool {
        let open = self.before.rfind("{{").is_some_and(|open| !self.before[open..].contains("}}"));
        open || matches!(self.key, Some("where" | "for"))
    }
}

/// Returns the key whose value the cursor is in; a list may have been opened lines before.
fn key_before<'a>(block: &'a str, line: &'a str) -> Option<&'a str> {
    let key_of = |line: &'a str| {
        line.split_once('=')
            .map(|(key, _)| key.trim())
            .filter(|key| !key.is_empty() && !key.contains(['"', '[', '{', ' ']))
    };
    if let Some(key) = key_of(line) {
        return Some(key);
    }
    let opener = block.lines().rev().skip(1).find(|line| line.contains('='))?;
    let opened = block.rfind(opener).map(|at| &block[at..])?;
    (opened.matches('[').count() > opened.matches(']').count()).then(|| key_of(opener)).flatten()
}

fn word_at(line: &str, column: usize) -> &str {
    let quote = |c: char| c == '"' || c == '\'';
    let (before, after) = line.split_at(column.min(line.len()));
    if before.matches(quote).count() % 2 == 1 {
        let start = before.rfind(quote).map_or(0, |at| at + 1);
        let end = column + after.find(quote).unwrap_or(after.len());
        let whole = &line[start..end];
        if !whole.contains([' ', '{', '(', '=']) {
            return whole;
        }
    }
    let is_word = |c: char| c.is_alphanumeric() || c == '_' || c == '.' || c == '-';
    let start = before
        .rfind(|c| !is_word(c))
        .map_or(0, |at| at + before[at..].chars().next().map_or(1, char::len_utf8));
    let end = column + after.find(|c| !is_word(c)).unwrap_or(after.len());
    &line[start..end]
}

/// Something that a document declares.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Symbol {
    /// What sort of thing.
    pub sort: SymbolSort,
    /// Its name, or its address.
    pub name: String,
    /// Where.
    pub place: Place,
    /// The baseline that it belongs to.
    pub within: Option<String>,
}

/// What sort of thing a document declares.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SymbolSort {
    /// A baseline.
    Baseline,
    /// A parameter.
    Parameter,
    /// A clause.
    Clause,
}

/// Returns where a text names something whole.
fn named_in(path: &str, text: &str, name: &str) -> Vec<Place> {
    let goes_on = |c: char| c.is_alphanumeric() || matches!(c, '_' | '-' | '.' | '/' | ':' | '@');
    let file: Arc<str> = path.into();
    let whole = |start: &usize| {
        let (before, after) = (text[..*start].chars().next_back(), text[start + name.len()..].chars().next());
        !before.is_some_and(goes_on) && !after.is_some_and(goes_on)
    };
    let starts = text.match_indices(name).map(|(start, _)| start).filter(whole);
    starts.map(|start| Place::new(&file, text, start..start + name.len())).collect()
}

impl OpenDocument<'_> {
    /// Returns what can be written at an offset in bytes.
    pub fn complete(&self, offset: usize) -> Vec<Suggestion> {
        let spot = Spot::of(self.text, offset, &self.kit.kinds);
        let Some(key) = spot.key else { return keys(&spot) };
        if spot.is_expression() {
            return self.names(&spot);
        }
        match key {
            "what" if spot.header == "expect" => self.addresses(),
            "what" => KINDS
                .iter()
                .chain(&self.kit.kinds)
                .map(|kind| suggestion(format!("{}:", kind.name()), kind.purpose(), SuggestionSort::Kind))
                .collect(),
            "needs" | "reacts_to" | "after" => self.addresses(),
            "include" | "baselines" => self.baselines(),
            "reaction" => words(
                spot.kind()
                    .map(|kind| kind.reactions().iter().map(|reaction| reaction.word()).collect())
                    .unwrap_or_default(),
                true,
            ),
            "copy" | "signed_by" => self.files("copies"),
            "render" => self.files("renders"),
            other => {
                let own = spot.kind().and_then(|kind| kind.property(other)).map(|property| property.value);
                let takes = keys_of(&spot).find(|key| key.name == other).map(|key| key.takes);
                match (own, takes) {
                    (Some(ValueType::Boolean), _) | (None, Some(Takes::Boolean | Takes::Gone)) => {
                        words(vec!["true", "false"], false)
                    }
                    (Some(ValueType::Word(known)), _) => words(known.iter().collect(), true),
                    (None, Some(Takes::Words(known))) => words(known.to_vec(), true),
                    _ => Vec::new(),
                }
            }
        }
    }

    /// Says what the word at an offset means, as Markdown.
    pub fn hover(&self, offset: usize) -> Option<String> {
        let spot = Spot::of(self.text, offset, &self.kit.kinds);
        let word = spot.word;
        if spot.key == Some("what")
            && let Some(kind) =
                word.split(':').next().and_then(|name| kind::find_among(name, spot.custom_kinds))
        {
            return Some(about_kind(kind));
        }
        if let Some(parameter) =
            word.strip_prefix("params.").and_then(|name| self.parameter(name.split('.').next()?))
        {
            let default = parameter
                .default
                .as_ref()
                .map_or_else(|| "required".to_owned(), |default| format!("default `{}`", default.value));
            return Some(format!(
                "**{}**: {} ({default})",
                parameter.name.value,
                parameter.note.as_deref().unwrap_or("a parameter")
            ));
        }
        if let Some(field) =
            word.strip_prefix("about.").and_then(|path| STABLE_FIELDS.iter().find(|field| field.path == path))
        {
            return Some(format!("**about.{}**: {}", field.path, field.note));
        }
        if matches!(spot.key, Some("needs" | "reacts_to" | "after")) {
            let found = self.definition(offset);
            let shown: Vec<String> = found.iter().map(|place| format!("- {place}")).collect();
            return Some(if found.is_empty() {
                format!("no clause is called `{word}`")
            } else {
                format!("`{word}` is\n{}", shown.join("\n"))
            });
        }
        let key_here = spot.before.split_once('=').is_none();
        if !key_here {
            return None;
        }
        if let Some(property) = spot.kind().and_then(|kind| kind.property(word)) {
            let default =
                property.default.map(|default| format!("; `{default}` if left out")).unwrap_or_default();
            return Some(format!(
                "**{}**: {}\n\ntakes: {}{default}",
                property.name,
                property.note,
                property.value.words()
            ));
        }
        keys_of(&spot)
            .find(|key| key.name == word)
            .map(|key| format!("**{}**: {}\n\ntakes: {}", key.name, key.note, key.takes.words()))
    }

    /// Returns where the thing that the word at an offset names is declared.
    pub fn definition(&self, offset: usize) -> Vec<Place> {
        let spot = Spot::of(self.text, offset, &self.kit.kinds);
        let word = spot.word;
        match spot.key {
            Some("needs" | "reacts_to" | "after") => self.clauses_called(word),
            Some("what") if spot.header == "expect" => self.clauses_called(word),
            Some("include" | "baselines") => self
                .baseline_called(word)
                .map(|(_, baseline, place)| place.unwrap_or_else(|| baseline.name.place.clone()))
                .into_iter()
                .collect(),
            Some("render") if self.kit.files.get(&format!("renders/{word}")).is_some() => {
                vec![Place::of_file(&format!("renders/{word}"))]
            }
            Some("copy") if self.kit.files.get(&format!("copies/{word}")).is_some() => {
                vec![Place::of_file(&format!("copies/{word}"))]
            }
            _ => word
                .strip_prefix("params.")
                .and_then(|name| self.parameter(name.split('.').next()?))
                .map(|parameter| parameter.name.place.clone())
                .into_iter()
                .collect(),
        }
    }

    /// Returns everywhere in the kit's documents where the thing that the word at an offset names is named: clauses by their
    /// addresses, baselines, parameters, renders and copies.
    pub fn references(&self, offset: usize) -> Vec<Place> {
        let spot = Spot::of(self.text, offset, &self.kit.kinds);
        let is_declared_here = matches!(spot.key, Some("what" | "name")) && !spot.word.is_empty();
        if !is_declared_here && self.definition(offset).is_empty() {
            return Vec::new();
        }
        let documents =
            self.kit.files.paths().filter(|path| path.ends_with(".toml") || path.starts_with("renders/"));
        let texts = documents.filter_map(|path| {
            Some((path, if path == self.file { self.text } else { self.kit.files.text(path)? }))
        });
        texts.flat_map(|(path, text)| named_in(path, text, spot.word)).collect()
    }

    /// Returns what a document declares, in its order.
    pub fn symbols(&self) -> Vec<Symbol> {
        let mut all = Vec::new();
        for baseline in self.kit.baselines.iter().filter(|baseline| *baseline.name.place.file == *self.file) {
            let within = Some(baseline.name.value.clone());
            let mut add = |sort, name: &str, place: &Place, within| {
                all.push(Symbol { sort, name: name.to_owned(), place: place.clone(), within });
            };
            add(SymbolSort::Baseline, &baseline.name.value, &baseline.name.place, None);
            for parameter in &baseline.parameters {
                add(SymbolSort::Parameter, &parameter.name.value, &parameter.name.place, within.clone());
            }
            for clause in &baseline.clauses {
                add(SymbolSort::Clause, &clause.what.value, &clause.what.place, within.clone());
            }
        }
        all.sort_by_key(|symbol| symbol.place.start);
        all
    }

    fn own_baseline(&self) -> Option<&Baseline> {
        let own = self.kit.baselines.iter().find(|baseline| *baseline.name.place.file == *self.file);
        own.or_else(|| self.kit.baselines.first().filter(|_| self.kit.baselines.len() == 1))
    }

    fn parameter(&self, name: &str) -> Option<&crate::param::Parameter> {
        let everywhere = self.kit.baselines.iter().flat_map(|baseline| &baseline.parameters);
        let own = self.own_baseline().into_iter().flat_map(|baseline| &baseline.parameters);
        own.chain(everywhere).find(|parameter| parameter.name.value == name)
    }

    /// Returns the baselines that can be referred to from here: the own one and what it includes; for a case all.
    fn in_reach(&self) -> Vec<(&str, &Baseline)> {
        let Some(own) =
            self.own_baseline().filter(|_| self.file.starts_with("baselines/") || !self.file.contains('/'))
        else {
            return self.kit.baselines.iter().map(|baseline| (self.kit.name.as_str(), baseline)).collect();
        };
        let included = own
            .include
            .iter()
            .filter_map(|include| self.baseline_called(&include.value))
            .map(|(kit, baseline, _)| (kit, baseline));
        std::iter::once((self.kit.name.as_str(), own)).chain(included).collect()
    }

    fn baseline_called(&self, name: &str) -> Option<(&str, &Baseline, Option<Place>)> {
        let (kit_name, name) = name.split_once('/').unwrap_or((&self.kit.name, name));
        if kit_name == self.kit.name {
            return self.kit.baseline(name).map(|baseline| (self.kit.name.as_str(), baseline, None));
        }
        let kit = self.others.iter().find(|kit| kit.name == kit_name)?;
        let baseline = kit.baseline(name)?;
        Some((&kit.name, baseline, Some(baseline.name.place.clone().in_kit(&kit.name))))
    }

    fn clauses_called(&self, name: &str) -> Vec<Place> {
        let mut places = Vec::new();
        for (kit, baseline) in self.in_reach() {
            for clause in &baseline.clauses {
                let second = clause.common.second_name.as_ref().map(|second| second.value.as_str());
                // A rendered address is a pattern of what it will be.
                let written = pattern_of(&clause.what.value);
                let meant =
                    |address: &str| if is_pattern(name) { fits_text(name, address) } else { address == name };
                if meant(&clause.what.value)
                    || second.is_some_and(meant)
                    || (written.contains('*') && (fits_text(&written, name) || meant(&written)))
                {
                    let place = clause.what.place.clone();
                    places.push(if kit == self.kit.name { place } else { place.in_kit(kit) });
                }
            }
        }
        places
    }

    fn addresses(&self) -> Vec<Suggestion> {
        let reach = self.in_reach();
        let clauses = reach
            .iter()
            .flat_map(|(kit, baseline)| baseline.clauses.iter().map(move |clause| (*kit, baseline, clause)));
        let mut all: Vec<Suggestion> = clauses
            .flat_map(|(kit, baseline, clause)| {
                let detail = format!("{kit}/{}", baseline.name.value);
                let names = std::iter::once(&clause.what.value)
                    .chain(clause.common.second_name.as_ref().map(|name| &name.value));
                names
                    .map(move |name| suggestion(pattern_of(name), &detail, SuggestionSort::Address))
                    .collect::<Vec<_>>()
            })
            .collect();
        all.dedup();
        all
    }

    fn baselines(&self) -> Vec<Suggestion> {
        let own = self.kit.baselines.iter().filter(|baseline| *baseline.name.place.file != *self.file).map(
            |baseline| suggestion(baseline.name.value.clone(), &baseline.summary, SuggestionSort::Address),
        );
        let others = self.others.iter().flat_map(|kit| {
            kit.baselines.iter().map(move |baseline| {
                suggestion(
                    format!("{}/{}", kit.name, baseline.name.value),
                    &baseline.summary,
                    SuggestionSort::Address,
                )
            })
        });
        own.chain(others).collect()
    }

    fn files(&self, folder: &str) -> Vec<Suggestion> {
        self.kit
            .files
            .below(folder)
            .map(|path| suggestion(path.to_owned(), &format!("a file of {folder}/"), SuggestionSort::File))
            .collect()
    }

    /// The names that conditions and renders know.
    fn names(&self, spot: &Spot<'_>) -> Vec<Suggestion> {
        let parameters = self.own_baseline().into_iter().flat_map(|baseline| &baseline.parameters);
        let mut all: Vec<Suggestion> = parameters
            .map(|parameter| {
                let note = parameter.note.as_deref().unwrap_or("a parameter");
                suggestion(format!("params.{}", parameter.name.value), note, SuggestionSort::Parameter)
            })
            .collect();
        all.extend(
            STABLE_FIELDS
                .iter()
                .map(|field| suggestion(format!("about.{}", field.path), field.note, SuggestionSort::Value)),
        );
        all.push(suggestion(
            "labels.".into(),
            "the labels of the node; a missing one reads as \"\"",
            SuggestionSort::Value,
        ));
        all.push(suggestion("node.name".into(), "the node's name", SuggestionSort::Value));
        if !matches!(spot.key, Some("where" | "for")) {
            let loops = spot
                .block
                .iter()
                .find_map(|line| line.trim().strip_prefix("for")?.trim_start().strip_prefix('='));
            let names = loops
                .into_iter()
                .flat_map(|loops| loops.trim().trim_matches(['{', '}']).split(','))
                .filter_map(|one| Some(one.split_once('=')?.0.trim().to_owned()));
            all.extend(names.map(|name| suggestion(name, "a name of the loop", SuggestionSort::Value)));
        }
        all
    }
}

/// Returns an address as written with `*` for what is rendered.
fn pattern_of(written: &str) -> String {
    let mut pattern = String::new();
    let mut rest = written;
    while let Some(open) = rest.find("{{") {
        pattern += &rest[..open];
        pattern.push('*');
        rest = rest[open..].find("}}").map_or("", |close| &rest[open + close + 2..]);
    }
    pattern + rest
}

fn suggestion(label: String, detail: &str, sort: SuggestionSort) -> Suggestion {
    Suggestion { label, detail: detail.to_owned(), sort }
}

fn words(words: Vec<&str>, quoted: bool) -> Vec<Suggestion> {
    let detail = if quoted { "a word, in quotes" } else { "a boolean" };
    words.into_iter().map(|word| suggestion(word.to_owned(), detail, SuggestionSort::Value)).collect()
}

/// The keys of a table. What a case expects of a clause has keys of clauses too.
fn keys_of(spot: &Spot<'_>) -> impl Iterator<Item = &'static Key> {
    let of_clause = if spot.header == "expect" { CLAUSE_KEYS } else { &[] };
    of_header(&spot.header).iter().chain(of_clause)
}

fn keys(spot: &Spot<'_>) -> Vec<Suggestion> {
    let present = spot.present();
    let kind = spot.kind().filter(|_| spot.is_clause());
    let own =
        kind.into_iter().flat_map(|kind| kind.properties()).map(|property| (property.name, property.note));
    let can_be_gone = kind.is_none_or(|kind| kind.can_be_gone());
    let reacts = kind.is_none_or(|kind| !kind.reactions().is_empty());
    own.chain(of_header(&spot.header).iter().map(|key| (key.name, key.note)))
        .filter(|(key, _)| !present.contains(key))
        .filter(|(key, _)| (can_be_gone || *key != "gone") && (reacts || *key != "reaction"))
        .map(|(key, note)| suggestion(key.to_owned(), note, SuggestionSort::Key))
        .collect()
}

fn about_kind(kind: &Kind) -> String {
    let properties: Vec<String> = kind.properties().map(|property| format!("`{}`", property.name)).collect();
    format!(
        "**{}**: {}\n\nclaims {}; has {}\n\n```toml\n{}```",
        kind.name(),
        kind.purpose(),
        kind.claims(),
        properties.join(", "),
        kind.example()
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::check::{Surroundings, check};
    use crate::document::KitFiles;

    const BASELINE: &str = "[baseline]\nname = \"shell\"\n\n[params.idle]\ntype = \"integer\"\ndefault = 90\nnote = \"Seconds\"\n\n[[clause]]\nwhat = \"package:kiosk-shell\"\n\n[[clause]]\nfor = { lane = \"['A']\" }\nwhat = \"file:/etc/kiosk/lanes/{{ lane }}\"\ntext = \"{{ params.idle }}\"\n\n";

    fn kit() -> Kit {
        let kind = "[kind]\nprogram = \"light\"\nsummary = \"Keeps the light of a lane\"\nexample = \"\"\"\n[[clause]]\nwhat = \"kiosk/lane_light:A\"\nlit = true\n\"\"\"\n\n[properties.lit]\ntype = \"boolean\"\nnote = \"Whether it is on\"\n";
        let files = [
            ("kit.toml", "[kit]\nname = \"kiosk\"\nversion = \"1.0.0\"\n"),
            ("baselines/shell.toml", BASELINE),
            ("copies/issue", "x"),
            ("kinds/lane_light/kind.toml", kind),
            ("kinds/lane_light/light", "#!/bin/sh\n"),
        ];
        check(
            KitFiles::new(files.map(|(path, text)| (path.to_owned(), text.as_bytes().to_vec()))),
            None,
            Surroundings::default(),
        )
        .kit
        .unwrap()
    }

    /// Completes at `|`.
    fn completed(rest: &str) -> Vec<String> {
        let kit = kit();
        let whole = format!("{BASELINE}{rest}");
        let offset = whole.find('|').unwrap();
        let text = whole.replacen('|', "", 1);
        let draft = OpenDocument { kit: &kit, others: &[], file: "baselines/shell.toml", text: &text };
        draft.complete(offset).into_iter().map(|suggestion| suggestion.label).collect()
    }

    #[test]
    fn what_fits_the_place_is_offered() {
        assert!(completed("[[clause]]\nwhat = \"pa|").contains(&"package:".to_owned()));
        let keys = completed("[[clause]]\nwhat = \"service:kiosk-shell\"\nrunning = true\n|");
        assert!(
            keys.contains(&"enabled".into())
                && keys.contains(&"needs".into())
                && !keys.contains(&"running".into())
                && !keys.contains(&"gone".into())
        );
        assert_eq!(
            completed("[[clause]]\nwhat = \"service:x\"\nneeds = [\"|"),
            ["package:kiosk-shell", "file:/etc/kiosk/lanes/*"]
        );
        assert_eq!(
            completed("[[clause]]\nwhat = \"service:x\"\nneeds = [\n  \"|"),
            ["package:kiosk-shell", "file:/etc/kiosk/lanes/*"]
        );
        assert_eq!(completed("[[clause]]\nwhat = \"service:x\"\nreaction = \"|"), ["restart", "reload"]);
        assert_eq!(
            completed("[[clause]]\nwhat = \"packet_rule:x\"\nthen = \"|"),
            ["accept", "drop", "reject"]
        );
        assert_eq!(completed("[[clause]]\nwhat = \"file:/x\"\ncopy = \"|"), ["issue"]);
        assert!(
            completed("[[clause]]\nwhat = \"file:/x\"\ntext = \"{{ pa|").contains(&"params.idle".to_owned())
        );
        assert!(
            completed("[[clause]]\nwhat = \"file:/x\"\nwhere = \"|").contains(&"about.os.family".to_owned())
        );
        assert_eq!(completed("[params.x]\ntype = \"|").len(), 7);
    }

    #[test]
    fn custom_kinds_are_offered_and_explained() {
        assert!(completed("[[clause]]\nwhat = \"ki|").contains(&"kiosk/lane_light:".to_owned()));
        assert!(completed("[[clause]]\nwhat = \"kiosk/lane_light:A\"\n|").contains(&"lit".to_owned()));
        assert_eq!(completed("[[clause]]\nwhat = \"kiosk/lane_light:A\"\nlit = |"), ["true", "false"]);
        let kit = kit();
        let text = format!("{BASELINE}[[clause]]\nwhat = \"kiosk/lane_light:A\"\nlit = true\n");
        let draft = OpenDocument { kit: &kit, others: &[], file: "baselines/shell.toml", text: &text };
        let at = |what: &str| text.rfind(what).unwrap() + 1;
        assert!(draft.hover(at("kiosk/lane_light")).unwrap().contains("Keeps the light of a lane"));
        assert!(draft.hover(at("lit =")).unwrap().contains("Whether it is on"));
    }

    #[test]
    fn words_are_explained_and_lead_to_where_they_are_declared() {
        let kit = kit();
        let text = format!(
            "{BASELINE}[[clause]]\nwhat = \"service:x\"\nneeds = [\"file:/etc/kiosk/lanes/A\"]\nenabled = true\n"
        );
        let draft = OpenDocument { kit: &kit, others: &[], file: "baselines/shell.toml", text: &text };
        let at = |what: &str| text.rfind(what).unwrap() + 1;
        assert_eq!(draft.definition(at("file:/etc/kiosk/lanes/A"))[0].line, 14);
        assert_eq!(draft.definition(at("params.idle"))[0].line, 4);
        assert!(draft.hover(at("enabled")).unwrap().contains("started at boot"));
        assert!(draft.hover(at("service:x")).unwrap().starts_with("**service**"));
        assert!(draft.hover(at("params.idle")).unwrap().contains("Seconds (default `90`)"));
    }
}
