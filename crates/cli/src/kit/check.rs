//! `constans kit check`.

use super::KitPaths;
use super::publish::{prepared, send};
use crate::error::ClientError;
use crate::server::{self, Server, ServerAddress};
use clap::{Args, ValueEnum};
use constans_core::check::Checked;
use constans_core::document::{Code, Finding, KitFiles, Level};
use constans_core::kit::Kit;
use constans_folder::{CheckedFolder, Known, check_document, check_folder_knowing};
use constans_wire::exit::Exit;
use serde_json::json;
use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;
use std::process::ExitCode;

/// Arguments of `kit check`.
#[derive(Debug, Args)]
pub struct CheckArguments {
    #[command(flatten)]
    pub paths: KitPaths,
    /// Treat warnings as errors
    #[arg(long)]
    strict: bool,
    /// Have the server find what publishing would find: labels that no node has, requirements, included baselines, secrets
    #[arg(long)]
    online: bool,
    /// Output format of the findings
    #[arg(long, value_enum, default_value_t = Output::Text)]
    output: Output,
    #[command(flatten)]
    server: ServerAddress,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Output {
    /// For people
    Text,
    /// For programs
    Json,
    /// For programs that collect test results (JUnit)
    Junit,
}

/// Says why nothing was done, and what to do.
pub fn refuse(message: &str, hint: &str) -> Exit {
    anstream::eprintln!("error: {message}\nhint: {hint}");
    Exit::Error
}

/// Checks a kit and prints the findings.
pub fn run(arguments: &CheckArguments) -> ExitCode {
    match &arguments.online {
        false => check(arguments).into(),
        true => server::on_network(check_online(arguments)),
    }
}

/// Has the server find what publishing would find. Who may not publish learns which labels no node has.
async fn check_online(arguments: &CheckArguments) -> Result<(), ClientError> {
    let server = Server::at(&arguments.server, server::Output::Text)?;
    let labels: BTreeMap<String, Vec<String>> = server.get("/api/labels").await?;
    let labels: BTreeSet<String> = labels.into_keys().collect();
    let mut read = read(arguments, Some(&labels))?;
    if arguments.paths.kit.is_dir() {
        match found_by_server(&server, arguments, &read).await {
            Ok(findings) => read.checked.findings = findings,
            Err(error) if error.is_not_permitted() => {
                anstream::eprintln!(
                    "note: only the labels were asked for; what else publishing finds is told to who may publish (kit.publish)"
                );
            }
            Err(error) => return Err(error),
        }
    }
    match show(arguments, &read) {
        Exit::Well => Ok(()),
        _ => Err(ClientError::new("the kit has errors", "fix the errors")),
    }
}

/// Returns what the server finds of a kit, published together with those beside it.
async fn found_by_server(
    server: &Server,
    arguments: &CheckArguments,
    read: &CheckedFolder,
) -> Result<Vec<Finding>, ClientError> {
    let failed = |error: constans_folder::ReadKitError| ClientError::new(error.to_string(), error.hint());
    let mut kits = vec![prepared(&read.files, None)];
    for folder in &arguments.paths.with {
        kits.push(prepared(&check_folder_knowing(folder, &Known::default()).map_err(failed)?.files, None));
    }
    let publish = send(server, kits).await?;
    let mut found: Vec<Vec<Finding>> = server.post("/api/check/releases", &publish).await?;
    // Only a folder has a name.
    let of_folder = read.checked.findings.iter().filter(|finding| finding.code == Code::FolderName).cloned();
    let mut all: Vec<Finding> = of_folder.chain(found.swap_remove(0)).collect();
    all.sort_by(|left, right| {
        (left.level, &left.place, left.code).cmp(&(right.level, &right.place, right.code))
    });
    Ok(all)
}

fn check(arguments: &CheckArguments) -> Exit {
    match read(arguments, None) {
        Ok(read) => show(arguments, &read),
        Err(error) => error.say(),
    }
}

fn read(arguments: &CheckArguments, labels: Option<&BTreeSet<String>>) -> Result<CheckedFolder, ClientError> {
    let known = Known { beside: &arguments.paths.with, labels, ..Known::default() };
    let kit = &arguments.paths.kit;
    let read = if kit.is_file() { check_document(kit) } else { check_folder_knowing(kit, &known) };
    read.map_err(|error| ClientError::new(error.to_string(), error.hint()))
}

fn show(arguments: &CheckArguments, CheckedFolder { files, checked, .. }: &CheckedFolder) -> Exit {
    let folder = if arguments.paths.kit.is_file() {
        String::new()
    } else {
        format!("{}/", arguments.paths.kit.display().to_string().trim_end_matches('/'))
    };
    let fails = checked.has_errors() || (arguments.strict && !checked.findings.is_empty());
    match arguments.output {
        Output::Text => anstream::print!("{}", text(checked, files, &folder, fails)),
        Output::Json => {
            let report = json!({ "well": !fails, "findings": checked.findings });
            println!("{}", serde_json::to_string_pretty(&report).expect("findings are JSON"));
        }
        Output::Junit => print!("{}", junit(&checked.findings, files, &folder, arguments.strict)),
    }
    if fails { Exit::Error } else { Exit::Well }
}

fn text(checked: &Checked, files: &KitFiles, folder: &str, fails: bool) -> String {
    let mut text = String::new();
    for finding in &checked.findings {
        let _ = writeln!(text, "{}", finding.explain(files, folder));
    }
    let number = |level: Level| checked.findings.iter().filter(|finding| finding.level == level).count();
    let counted = |number: usize, one: &str| format!("{number} {one}{}", if number == 1 { "" } else { "s" });
    let (errors, warnings) = (number(Level::Error), number(Level::Warning));
    if fails {
        let _ = writeln!(
            text,
            "{}, {}: nothing can be published or run until the errors are fixed",
            counted(errors, "error"),
            counted(warnings, "warning")
        );
        return text;
    }
    let Some(kit) = &checked.kit else { return text };
    text += &contents_of(kit);
    let _ = writeln!(
        text,
        "{}",
        if warnings > 0 {
            format!("no errors, {}", counted(warnings, "warning"))
        } else {
            "no findings".to_owned()
        }
    );
    text
}

/// Says what a kit holds.
fn contents_of(kit: &Kit) -> String {
    let mut text = format!("{}@{}  {}\n", kit.name, kit.version, kit.summary);
    for requirement in &kit.requires {
        let _ = writeln!(text, "  requires {} {}", requirement.kit, requirement.releases.value);
    }
    for baseline in &kit.baselines {
        let mut kinds: BTreeMap<&str, usize> = BTreeMap::new();
        for clause in &baseline.clauses {
            *kinds.entry(clause.kind.name()).or_default() += 1;
        }
        let kinds: Vec<String> = kinds.into_iter().map(|(kind, number)| format!("{number} {kind}")).collect();
        let parameters = baseline.parameters.len();
        let _ = writeln!(text, "  baseline {}  {}", baseline.name.value, baseline.summary);
        let clauses = baseline.clauses.len();
        let parameters = if parameters == 0 {
            String::new()
        } else {
            format!("; {parameters} parameter{}", if parameters == 1 { "" } else { "s" })
        };
        let _ = writeln!(
            text,
            "    {clauses} clause{}: {}{parameters}",
            if clauses == 1 { "" } else { "s" },
            kinds.join(", ")
        );
    }
    text
}

/// One test case a finding, or a single passing one.
fn junit(findings: &[Finding], files: &KitFiles, folder: &str, strict: bool) -> String {
    let fails = |finding: &&Finding| strict || finding.level == Level::Error;
    let mut text = String::from("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n");
    let _ = writeln!(
        text,
        "<testsuite name=\"kit check\" tests=\"{}\" failures=\"{}\">",
        findings.len().max(1),
        findings.iter().filter(fails).count()
    );
    for finding in findings {
        let name = escaped(&format!("{} {}", finding.code, finding.message));
        let place = escaped(&format!("{folder}{}", finding.place.file));
        let explained = escaped(&finding.explain(files, folder));
        if fails(&finding) {
            let _ = writeln!(
                text,
                "  <testcase name=\"{name}\" classname=\"{place}\"><failure message=\"{}\">{explained}</failure></testcase>",
                escaped(&finding.message)
            );
        } else {
            let _ = writeln!(
                text,
                "  <testcase name=\"{name}\" classname=\"{place}\"><system-out>{explained}</system-out></testcase>"
            );
        }
    }
    if findings.is_empty() {
        let _ = writeln!(text, "  <testcase name=\"no findings\" classname=\"{}\"/>", escaped(folder));
    }
    text + "</testsuite>\n"
}

/// Returns a text as XML has it.
pub fn escaped(text: &str) -> String {
    let plain: String = text.chars().filter(|c| !c.is_control() || matches!(c, '\n' | '\t')).collect();
    plain.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}
