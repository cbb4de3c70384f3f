//! `constans kit test`.

use super::KitPaths;
use super::check::escaped;
use clap::{Args, ValueEnum};
use constans_core::check::{Case, CaseFailure, CaseResult, read_cases, run_case};
use constans_core::document::{Level, explain_findings};
use constans_folder::{CheckedFolder, check_folder, on_large_stack};
use constans_terminal::{diff_line, harmless, style, styled};
use constans_wire::exit::Exit;
use std::fmt::Write as _;

/// Arguments of `kit test`.
#[derive(Debug, Args)]
pub struct TestArguments {
    #[command(flatten)]
    pub paths: KitPaths,
    /// Run only cases whose file name contains this
    #[arg(long, value_name = "TEXT")]
    only: Option<String>,
    /// Output format of the results
    #[arg(long, value_enum, default_value_t = Output::Text)]
    output: Output,
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

/// Tries the cases; fails if one of them does.
pub fn run(arguments: &TestArguments) -> Exit {
    let CheckedFolder { files, checked, beside } =
        match check_folder(&arguments.paths.kit, &arguments.paths.with) {
            Ok(read) => read,
            Err(error) => return super::check::refuse(&error.to_string(), error.hint()),
        };
    let folder = format!("{}/", arguments.paths.kit.display().to_string().trim_end_matches('/'));
    let errors: Vec<_> =
        checked.findings.iter().filter(|finding| finding.level == Level::Error).cloned().collect();
    let (Some(kit), true) = (checked.kit, errors.is_empty()) else {
        anstream::eprintln!("{}", explain_findings(&errors, &files, &folder));
        return super::check::refuse("the kit has errors; no case was run", "fix the errors first");
    };
    let wanted = |case: &Case| arguments.only.as_ref().is_none_or(|only| case.file.contains(only.as_str()));
    let cases: Vec<Case> = read_cases(&kit, &mut Vec::new()).into_iter().filter(wanted).collect();
    if cases.is_empty() {
        return super::check::refuse(
            "the kit has no cases",
            "add one to cases/; `constans kit new` creates an example",
        );
    }
    let others = kit.required_among(&beside).unwrap_or_default();
    let results: Vec<CaseResult> =
        on_large_stack(|| cases.iter().map(|case| run_case(&kit, &others, case)).collect());
    match arguments.output {
        Output::Text => anstream::print!("{}", text(&results, &folder)),
        Output::Json => println!("{}", serde_json::to_string_pretty(&results).expect("results are JSON")),
        Output::Junit => print!("{}", junit(&results, &folder)),
    }
    if results.iter().all(|result| result.failures.is_empty()) { Exit::Well } else { Exit::Error }
}

fn text(results: &[CaseResult], folder: &str) -> String {
    let mut text = String::new();
    for result in results {
        let summary = if result.summary.is_empty() {
            String::new()
        } else {
            format!("  {}", harmless(&result.summary))
        };
        if result.failures.is_empty() {
            let clauses = match (&result.refused, result.clauses) {
                (Some(code), _) => format!("refused with {code}"),
                (None, 1) => "1 clause".to_owned(),
                (None, clauses) => format!("{clauses} clauses"),
            };
            let _ = writeln!(
                text,
                "{} {}{summary}  {}",
                styled(style::WELL, "passed"),
                result.file,
                styled(style::MUTED, clauses)
            );
            continue;
        }
        let _ = writeln!(text, "{} {}{summary}", styled(style::BAD, "failed"), result.file);
        for failure in &result.failures {
            let place = if failure.place.kit.is_some() {
                failure.place.to_string()
            } else {
                format!("{folder}{}", failure.place)
            };
            let _ = writeln!(
                text,
                "   {}  {}",
                styled(style::STRONG, harmless(&failure.about)),
                styled(style::MUTED, place)
            );
            text += &failure_line(failure, "      ");
        }
    }
    let failed = results.iter().filter(|result| !result.failures.is_empty()).count();
    let all = if results.len() == 1 { "1 case".to_owned() } else { format!("{} cases", results.len()) };
    let _ = match failed {
        0 => writeln!(text, "passed: {all}"),
        _ => writeln!(text, "{failed} of {all} failed"),
    };
    text
}

fn failure_line(failure: &CaseFailure, indent: &str) -> String {
    let mut text = String::new();
    if let Some(message) = &failure.message {
        let _ = writeln!(text, "{indent}{}", harmless(message));
    }
    let width = failure.differences.iter().map(|one| one.property.chars().count()).max().unwrap_or(0);
    for one in &failure.differences {
        let (wanted, found) = (harmless(&one.wanted.words()), harmless(&one.found.words()));
        let _ = writeln!(
            text,
            "{indent}{:<width$}  expected {}   got {}",
            one.property,
            styled(style::STRONG, wanted),
            styled(style::STRONG, found)
        );
    }
    for line in failure
        .text
        .iter()
        .flat_map(|diff| diff.text.lines())
        .filter(|line| !line.starts_with("---") && !line.starts_with("+++"))
    {
        let _ = writeln!(text, "{indent}   {}", diff_line(line));
    }
    text
}

fn junit(results: &[CaseResult], folder: &str) -> String {
    let failed = results.iter().filter(|result| !result.failures.is_empty()).count();
    let mut text = format!(
        "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<testsuite name=\"kit test\" tests=\"{}\" failures=\"{failed}\">\n",
        results.len()
    );
    for result in results {
        let (name, place) = (
            escaped(if result.summary.is_empty() { &result.file } else { &result.summary }),
            escaped(&format!("{folder}{}", result.file)),
        );
        if result.failures.is_empty() {
            let _ = writeln!(text, "  <testcase name=\"{name}\" classname=\"{place}\"/>");
            continue;
        }
        let lines: String = result
            .failures
            .iter()
            .map(|failure| format!("{}\n{}", failure.about, failure_line(failure, "  ")))
            .collect();
        let plain = anstream::adapter::strip_str(&lines).to_string();
        let _ = writeln!(
            text,
            "  <testcase name=\"{name}\" classname=\"{place}\"><failure message=\"{} failed\">{}</failure></testcase>",
            result.failures.len(),
            escaped(&plain)
        );
    }
    text + "</testsuite>\n"
}
