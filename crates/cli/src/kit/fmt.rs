//! `constans kit fmt`.

use clap::Args;
use constans_core::kit::format;
use constans_wire::exit::Exit;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};

/// Arguments of `kit fmt`.
#[derive(Debug, Args)]
pub struct FmtArguments {
    /// The kit's folder, or single documents
    #[arg(value_name = "DIR|FILE", required = true)]
    paths: Vec<PathBuf>,
    /// Write nothing; fail if a document is not formatted
    #[arg(long)]
    check: bool,
}

/// Writes documents in their usual form.
pub fn run(arguments: &FmtArguments) -> Exit {
    let mut documents = Vec::new();
    for path in &arguments.paths {
        match documents_of(path) {
            Ok(found) => documents.extend(found),
            Err(error) => {
                return super::check::refuse(
                    &format!("cannot read {}: {error}", path.display()),
                    "name a kit's folder, or a document",
                );
            }
        }
    }
    let (mut changed, mut failed) = (0, 0);
    for path in &documents {
        match format_one(path, arguments.check) {
            Ok(false) => {}
            Ok(true) => {
                changed += 1;
                println!(
                    "{} {}",
                    if arguments.check { "not formatted:" } else { "formatted:" },
                    path.display()
                );
            }
            Err(message) => {
                failed += 1;
                anstream::eprintln!(
                    "error: {}: {message}\nhint: constans kit check shows where; the file was not changed",
                    path.display()
                );
            }
        }
    }
    let documents =
        if documents.len() == 1 { "1 document".to_owned() } else { format!("{} documents", documents.len()) };
    println!("{documents}, {changed} {}", if arguments.check { "to format" } else { "formatted" });
    if failed > 0 || (arguments.check && changed > 0) { Exit::Error } else { Exit::Well }
}

fn documents_of(path: &Path) -> io::Result<Vec<PathBuf>> {
    if fs::metadata(path)?.is_file() {
        return Ok(vec![path.to_owned()]);
    }
    let mut documents: Vec<PathBuf> =
        vec![path.join("kit.toml")].into_iter().filter(|path| path.is_file()).collect();
    for folder in ["baselines", "cases"] {
        let Ok(entries) = fs::read_dir(path.join(folder)) else { continue };
        let mut found: Vec<PathBuf> = entries
            .filter_map(|entry| Some(entry.ok()?.path()))
            .filter(|path| path.extension().is_some_and(|end| end == "toml"))
            .collect();
        found.sort();
        documents.extend(found);
    }
    Ok(documents)
}

/// Returns whether the document was, or would be, written again. It is replaced in one step.
fn format_one(path: &Path, only_check: bool) -> Result<bool, String> {
    let text = fs::read_to_string(path).map_err(|error| error.to_string())?;
    let formatted = format(&text).map_err(|error| error.message().to_owned())?;
    if formatted == text {
        return Ok(false);
    }
    if !only_check {
        let beside = path.with_extension("toml.new");
        let permissions = fs::metadata(path).map_err(|error| error.to_string())?.permissions();
        let replaced = fs::write(&beside, formatted)
            .and_then(|()| fs::set_permissions(&beside, permissions))
            .and_then(|()| fs::rename(&beside, path));
        replaced.map_err(|error| error.to_string())?;
    }
    Ok(true)
}
