//! A kit's documents as they may be shown: concealed values are replaced.

use super::Kit;
use super::clause::ClauseDocument;
use std::ops::Range;

/// Returns a file's text with `•` in place of what is concealed, and whether anything is; none if it is no text.
pub fn shown_text(kit: &Kit, path: &str) -> Option<(String, bool)> {
    let text = kit.files.text(path)?;
    let clauses = || kit.baselines.iter().flat_map(|baseline| &baseline.clauses);
    let names_it = |clause: &&ClauseDocument| {
        clause.properties.iter().any(|(name, value)| {
            let folder = match name.as_str() {
                "copy" => "copies",
                "render" => "renders",
                _ => return false,
            };
            value.value.as_str().is_some_and(|file| format!("{folder}/{file}") == path)
        })
    };
    if clauses().filter(|clause| clause.common.conceal).any(|clause| names_it(&clause)) {
        return Some(("•".to_owned(), true));
    }
    let mut hidden: Vec<Range<usize>> = clauses()
        .flat_map(|clause| clause.properties.iter().map(move |(name, value)| (clause, name, value)))
        .filter(|(clause, name, value)| {
            let concealed = clause.common.conceal
                || clause.kind.property(name).is_some_and(|property| property.concealed);
            concealed && *value.place.file == *path
        })
        .map(|(_, _, value)| value.place.start..value.place.end)
        .collect();
    hidden.sort_by_key(|range| range.start);
    let mut shown = String::with_capacity(text.len());
    let mut from = 0;
    for range in &hidden {
        shown += text.get(from..range.start)?;
        shown += "\"•\"";
        from = range.end;
    }
    shown += text.get(from..)?;
    Some((shown, !hidden.is_empty()))
}
