//! How much a browser fetches before the console shows its first page.

use crate::{Bound, Figure};
use std::fs;
use std::path::Path;
use std::process::Command;

/// What the page names, what its style names, and the page itself, as the server sends them: text compressed by gzip.
pub fn first_load() -> Vec<Figure> {
    let built = Path::new("console/dist");
    let Ok(page) = fs::read_to_string(built.join("index.html")) else {
        println!(
            "NOT MEASURED: the console's first load, since {} is not there; make console builds it",
            built.display()
        );
        return Vec::new();
    };
    let mut files = vec!["/index.html".to_owned()];
    files.extend(named(&page, "/assets/"));
    let styles: Vec<String> = files.iter().filter(|file| file.ends_with(".css")).cloned().collect();
    for style in styles {
        let text = fs::read_to_string(built.join(style.trim_start_matches('/')))
            .expect("what was built names what was built");
        // Browsers that know the newer format fetch no other.
        files.extend(named(&text, "/assets/").into_iter().filter(|file| file.ends_with(".woff2")));
    }
    let bytes: usize = files.iter().map(|file| sent(&built.join(file.trim_start_matches('/')))).sum();
    vec![Figure {
        work: "the console's first load, compressed",
        against: "-",
        measured: bytes as f64 / 1_024.0,
        budget: 350.0,
        unit: "KB",
        bound: Bound::AtMost,
    }]
}

/// Returns the paths in a text that begin so, each once.
fn named(text: &str, beginning: &str) -> Vec<String> {
    let end = |c: char| matches!(c, '"' | '\'' | ')' | '?');
    let mut paths: Vec<String> = text
        .match_indices(beginning)
        .filter_map(|(at, _)| text[at..].split(end).next())
        .map(str::to_owned)
        .collect();
    paths.sort();
    paths.dedup();
    paths
}

fn sent(file: &Path) -> usize {
    if file.extension().is_some_and(|extension| extension == "woff2") {
        return fs::metadata(file).expect("what was built names what was built").len() as usize;
    }
    Command::new("gzip").arg("-c").arg(file).output().expect("gzip starts").stdout.len()
}
