//! `constans kit check`.

use super::KitPaths;
use crate::server::{self, ClientError, Server, ServerAddress};
use clap::{Args, ValueEnum};
use constans_core::kit::{Checked, Finding, Kit, KitFiles, Level};
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
    /// Ask the server for the labels of nodes, and warn about labels that no node has
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

/// Checks a kit and says what was found.
pub fn run(arguments: &CheckArguments) -> ExitCode {
    match &arguments.online {
        false => check(arguments, None).into(),
        true => server::on_network(check_online(arguments)),
    }
}

/// Asks the server first which labels nodes have.
async fn check_online(arguments: &CheckArguments) -> Result<(), ClientError> {
    let server = Server::at(&arguments.server, server::Output::Text)?;
    let labels: BTreeMap<String, Vec<String>> = server.get("/api/labels").await?;
    let labels: BTreeSet<String> = labels.into_keys().collect();
    match check(arguments, Some(&labels)) {
        Exit::Well => Ok(()),
        _ => Err(ClientError::new("the kit has errors", "fix the errors")),
    }
}

fn check(arguments: &CheckArguments, labels: Option<&BTreeSet<String>>) -> Exit {
    let known = Known { beside: &arguments.paths.with, labels, ..Known::default() };
    let read = if arguments.paths.kit.is_file() { check_document(&arguments.paths.kit) } else { check_folder_knowing(&arguments.paths.kit, &known) };
    let CheckedFolder { files, checked, .. } = match read {
        Ok(read) => read,
        Err(error) => return refuse(&error.to_string(), error.hint()),
    };
    let folder =
        if arguments.paths.kit.is_file() { String::new() } else { format!("{}/", arguments.paths.kit.display().to_string().trim_end_matches('/')) };
    let fails = checked.has_errors() || (arguments.strict && !checked.findings.is_empty());
    match arguments.output {
        Output::Text => anstream::print!("{}", text(&checked, &files, &folder, fails)),
        Output::Json => {
            let said = json!({ "well": !fails, "findings": checked.findings });
            println!("{}", serde_json::to_string_pretty(&said).expect("findings are JSON"));
        }
        Output::Junit => print!("{}", junit(&checked.findings, &files, &folder, arguments.strict)),
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
    let _ = writeln!(text, "{}", if warnings > 0 { format!("no errors, {}", counted(warnings, "warning")) } else { "no findings".to_owned() });
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
            *kinds.entry(clause.kind.name).or_default() += 1;
        }
        let kinds: Vec<String> = kinds.into_iter().map(|(kind, number)| format!("{number} {kind}")).collect();
        let parameters = baseline.parameters.len();
        let _ = writeln!(text, "  baseline {}  {}", baseline.name.value, baseline.summary);
        let clauses = baseline.clauses.len();
        let parameters = if parameters == 0 { String::new() } else { format!("; {parameters} parameter{}", if parameters == 1 { "" } else { "s" }) };
        let _ = writeln!(text, "    {clauses} clause{}: {}{parameters}", if clauses == 1 { "" } else { "s" }, kinds.join(", "));
    }
    text
}

/// One test case a finding, or a single passing one.
fn junit(findings: &[Finding], files: &KitFiles, folder: &str, strict: bool) -> String {
    let fails = |finding: &&Finding| strict || finding.level == Level::Error;
    let mut text = String::from("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n");
    let _ =
        writeln!(text, "<testsuite name=\"kit check\" tests=\"{}\" failures=\"{}\">", findings.len().max(1), findings.iter().filter(fails).count());
    for finding in findings {
        let name = escaped(&format!("{} {}", finding.code, finding.message));
        let place = escaped(&format!("{folder}{}", finding.place.file));
        let said = escaped(&finding.explain(files, folder));
        if fails(&finding) {
            let _ = writeln!(
                text,
                "  <testcase name=\"{name}\" classname=\"{place}\"><failure message=\"{}\">{said}</failure></testcase>",
                escaped(&finding.message)
            );
        } else {
            let _ = writeln!(text, "  <testcase name=\"{name}\" classname=\"{place}\"><system-out>{said}</system-out></testcase>");
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
