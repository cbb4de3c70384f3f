//! `constans kit diff`.

use super::log::release_path;
use crate::error::ClientError;
use crate::server::{Server, ServerArguments};
use clap::Args;
use constans_core::compare::{Difference, KitDifference, Where, kit_difference};
use constans_core::kit::Kit;
use constans_folder::on_large_stack;
use constans_terminal::{diff_line, harmless, style, styled};
use constans_wire::kit::ReleaseShown;
use std::fmt::Write as _;
use std::path::Path;

/// Arguments of `kit diff`.
#[derive(Debug, Args)]
pub struct DiffArguments {
    #[command(flatten)]
    server: ServerArguments,
    /// The old side: a folder, or a release as KIT@VERSION
    from: String,
    /// The new side
    to: String,
}

impl DiffArguments {
    /// Returns the folders among what is compared.
    pub fn folders(&self) -> impl Iterator<Item = &Path> {
        [&self.from, &self.to]
            .into_iter()
            .map(|named| Path::new(named.as_str()))
            .filter(|folder| folder.is_dir())
    }
}

/// Compares two kits.
pub async fn run(arguments: &DiffArguments) -> Result<(), ClientError> {
    let is_folder = |named: &str| Path::new(named).is_dir();
    let (from, to) = (&arguments.from, &arguments.to);
    let difference: KitDifference = if is_folder(from) && is_folder(to) {
        compare(&super::read_folder(Path::new(from))?, &super::read_folder(Path::new(to))?)
    } else if !is_folder(from) && !is_folder(to) {
        release_path(from)?;
        release_path(to)?;
        Server::open(&arguments.server)?.get(&format!("/api/compare/releases?from={from}&to={to}")).await?
    } else {
        let server = Server::open(&arguments.server)?;
        compare(&read(&server, from).await?, &read(&server, to).await?)
    };
    if arguments.server.prints_json() {
        println!("{}", serde_json::to_string_pretty(&difference).expect("a difference is JSON"));
    } else {
        anstream::print!("{}", text(&difference));
    }
    Ok(())
}

fn compare(from: &Kit, to: &Kit) -> KitDifference {
    on_large_stack(|| kit_difference(from, to))
}

/// Reads a folder, or a release whole; the latter needs the permission to publish, since nothing in it is concealed.
async fn read(server: &Server, named: &str) -> Result<Kit, ClientError> {
    if Path::new(named).is_dir() {
        return super::read_folder(Path::new(named));
    }
    let path = release_path(named)?;
    let shown: ReleaseShown = server.get(&path).await?;
    let mut files = std::collections::BTreeMap::new();
    for file in shown.files {
        let query = percent_encoding::utf8_percent_encode(&file.path, percent_encoding::NON_ALPHANUMERIC);
        files.insert(file.path.clone(), server.get_bytes(&format!("{path}/file?path={query}")).await?);
    }
    constans_folder::read_files(files).ok_or_else(|| {
        ClientError::new(format!("{named} cannot be read"), "was it published by another version?")
    })
}

fn text(difference: &KitDifference) -> String {
    let mut text = String::new();
    let _ = writeln!(
        text,
        "{}  from {} to {}",
        styled(style::STRONG, "differences"),
        difference.from,
        difference.to
    );
    if difference.is_empty() {
        text += "none\n";
    }
    lines(&mut text, "  ", &difference.kit);
    for baseline in &difference.baselines {
        let _ = writeln!(
            text,
            "baseline {}  {}",
            styled(style::STRONG, harmless(&baseline.name)),
            is_words(baseline.is)
        );
        lines(&mut text, "    ", &baseline.differences);
        for clause in &baseline.clauses {
            let _ = writeln!(
                text,
                "  {}  {}",
                styled(style::STRONG, harmless(&clause.address)),
                is_words(clause.is)
            );
            lines(&mut text, "      ", &clause.differences);
        }
    }
    for file in &difference.files {
        let _ = writeln!(text, "{}  {}", styled(style::STRONG, harmless(&file.path)), is_words(file.is));
        for line in file.text.iter().flat_map(|diff| diff.text.lines()).skip(2) {
            let _ = writeln!(text, "      {}", diff_line(line));
        }
    }
    text
}

fn is_words(is: Where) -> &'static str {
    match is {
        Where::Both => "changed",
        Where::OnlyFrom => "taken away",
        Where::OnlyTo => "new",
    }
}

fn lines(text: &mut String, indent: &str, differences: &[Difference]) {
    let width = differences.iter().map(|one| one.property.chars().count()).max().unwrap_or(0);
    for one in differences {
        let side = |words: String| harmless(&words).replace('\n', "\\n");
        let _ = writeln!(
            text,
            "{indent}{:<width$}  was {}, is {}",
            harmless(&one.property),
            side(one.found.words()),
            styled(style::STRONG, side(one.wanted.words()))
        );
    }
}
