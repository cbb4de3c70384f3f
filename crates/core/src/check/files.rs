//! The files of a kit, compared with the clauses that name them.

use crate::document::Code;
use crate::document::Finding;
use crate::document::Place;
use crate::kit::Kit;
use crate::nearest::nearest_word;
use std::collections::BTreeSet;

/// Says which files nobody reads, and which are left for a later version.
pub(super) fn check_files(kit: &Kit, findings: &mut Vec<Finding>) {
    const FOLDERS: [&str; 5] = ["baselines", "copies", "renders", "kinds", "cases"];
    let named = |properties: &[&str]| -> BTreeSet<String> {
        let clauses = kit.baselines.iter().flat_map(|baseline| &baseline.clauses);
        clauses
            .flat_map(|clause| &clause.properties)
            .filter(|(name, _)| properties.contains(&name.as_str()))
            .filter_map(|(_, value)| value.value.as_str().map(str::to_owned))
            .collect()
    };
    let (copies, renders) = (named(&["copy", "signed_by"]), named(&["render"]));
    // A rendered name may be any file; an include in a render may be, too.
    let rendered_names = copies.iter().chain(&renders).any(|name| name.contains("{{"));
    let includes = kit.files.below("renders").any(|path| {
        kit.files
            .text(&format!("renders/{path}"))
            .is_some_and(|text| ["include", "import", "extends"].iter().any(|word| text.contains(word)))
    });
    for (folder, used, sure) in
        [("copies", &copies, !rendered_names), ("renders", &renders, !rendered_names && !includes)]
    {
        for path in kit.files.below(folder).filter(|path| sure && !is_used(used, path)) {
            findings.push(
                Finding::warning(
                    Code::UnusedFile,
                    Place::of_file(&format!("{folder}/{path}")),
                    "no clause uses this file",
                )
                .hint("name it in a clause, or delete it"),
            );
        }
    }
    for path in kit.files.paths() {
        let Some((folder, _)) = path.split_once('/') else {
            if path.ends_with(".toml") && path != "kit.toml" {
                findings.push(
                    Finding::warning(
                        Code::UnusedFile,
                        Place::of_file(path),
                        "documents are read from baselines/ only",
                    )
                    .hint(format!("move it to baselines/{path}")),
                );
            }
            continue;
        };
        if !FOLDERS.contains(&folder) && !folder.starts_with('.') {
            let hint = nearest_word(folder, FOLDERS).map_or_else(
                || format!("a kit has {}", FOLDERS.map(|folder| format!("{folder}/")).join(", ")),
                |near| format!("did you mean {near}/?"),
            );
            findings.push(
                Finding::warning(
                    Code::UnusedFile,
                    Place::of_file(path),
                    format!("the folder {folder}/ is not read"),
                )
                .hint(hint),
            );
        }
    }
}

/// Returns whether a file is named, or is in a folder that is.
fn is_used(used: &BTreeSet<String>, path: &str) -> bool {
    used.contains(path) || path.match_indices('/').any(|(at, _)| used.contains(&path[..at]))
}
