//! A whole run as text: the summary first, then what needs attention.

use super::clause::{clause, failure, native};
use super::words::{count, duration, harmless, style, style_of, styled, time};
use constans_core::run::{ClauseResult, Counts, Mode, Outcome, PackagePreview};
use constans_core::state::Excluded;
use constans_wire::report::RunReport;
use constans_wire::run::{Repeats, RunSummary, RunWords};
use std::collections::BTreeSet;
use std::fmt::Write as _;

/// How a run is shown.
pub struct Shown<'a> {
    /// Whether every clause is shown, with how it was looked at and done.
    pub verbose: bool,
    /// Clauses that conditions exclude on this node.
    pub excluded: &'a [Excluded],
    /// Whether the run was the look ahead of an enforcing one.
    pub is_preview: bool,
}

/// Returns a run of earlier as people read it: which it was and what started it, then all of it.
pub fn show_kept_run(node: &str, report: &RunReport, repeats: Option<&Repeats>, verbose: bool) -> String {
    let opened = if report.now { ", grace and change window opened" } else { "" };
    let reason = report.reason.as_ref().map(|reason| format!(": {}", harmless(reason))).unwrap_or_default();
    let generation = report
        .wanted
        .generation
        .as_ref()
        .map(|generation| format!(", generation {}", harmless(generation)))
        .unwrap_or_default();
    let again = repeats
        .map(|repeats| {
            let runs = usize::try_from(repeats.count).unwrap_or(0);
            format!(
                "found again by {}, the last at {}\n",
                count(runs, "later run", "later runs"),
                time(repeats.last)
            )
        })
        .unwrap_or_default();
    format!(
        "{}, run {}\nbegan {}, started by {}{opened}{reason}{generation}\n{again}{}",
        styled(style::STRONG, harmless(node)),
        report.run,
        time(report.began),
        format_args!(
            "{}{}",
            report.started_by.words(),
            report.by.as_ref().map(|by| format!(" ({})", harmless(by))).unwrap_or_default()
        ),
        show_run(report, &Shown { verbose, excluded: &[], is_preview: false })
    )
}

/// Returns a run, or a row of runs that found the same, in one line.
pub fn run_line(run: &RunSummary) -> String {
    let mode = if run.mode == Mode::Enforce { "enforce" } else { "observe" };
    let part = if run.partial { ", partial" } else { "" };
    let which = match run.run {
        Some(id) if run.did_not_end.is_some() => {
            format!(
                "{}  {id}",
                run.did_not_end.as_ref().map(|unended| harmless(&unended.words())).unwrap_or_default()
            )
        }
        Some(id) if run.count > 1 => format!(
            "{}  {} since {}  {id}",
            run.counts.as_ref().map(counts_words).unwrap_or_default(),
            count(usize::try_from(run.count).unwrap_or(0), "run", "runs"),
            time(run.began)
        ),
        Some(id) => format!("{}{part}  {id}", run.counts.as_ref().map(counts_words).unwrap_or_default()),
        None => format!(
            "{} since {}, uneventful",
            count(usize::try_from(run.count).unwrap_or(0), "run", "runs"),
            time(run.began)
        ),
    };
    let missing = match run.missing {
        0 => String::new(),
        missing => format!(
            "  {} before it never reported",
            count(usize::try_from(missing).unwrap_or(usize::MAX), "run", "runs")
        ),
    };
    format!("{}  {:<18}  {mode}  {which}{missing}", time(run.last), run.status.words())
}

/// Returns how many clauses came out how, the most severe first.
pub fn counts_words(counts: &Counts) -> String {
    let all = [
        (counts.failed, "failed"),
        (counts.blocked, "blocked"),
        (counts.out_of_line, "out of line"),
        (counts.corrected, "corrected"),
        (counts.in_line, "in line"),
        (counts.unsupported, "not examined"),
        (counts.idle, Outcome::Idle.words()),
    ];
    let told: Vec<String> = all
        .into_iter()
        .filter(|(number, _)| *number > 0)
        .map(|(number, words)| format!("{number} {words}"))
        .collect();
    if told.is_empty() { "no clauses".to_owned() } else { told.join(", ") }
}

/// Returns a run as people read it.
pub fn show_run(report: &RunReport, shown: &Shown<'_>) -> String {
    let mut text = String::new();
    head(&mut text, report, shown);
    summary(&mut text, report, shown);
    let speaks = |result: &&ClauseResult| shown.verbose || !result.is_quiet();
    for result in report.clauses.iter().filter(speaks) {
        text.push('\n');
        text += &clause(result, shown.verbose);
    }
    if let Some(package_preview) = &report.package_preview {
        text.push('\n');
        text += &packages_ahead(package_preview, shown.verbose);
    }
    quiet(&mut text, report, shown);
    text
}

/// Says what changing the packages that are out of line would come to.
fn packages_ahead(package_preview: &PackagePreview, verbose: bool) -> String {
    let mut text =
        format!("{}\n", styled(style::STRONG, "packages that would be installed, removed or changed"));
    for change in &package_preview.packages {
        let style = if change.after.is_none() { style::ATTENTION } else { style::MUTED };
        let _ = writeln!(text, "   {}", styled(style, harmless(&change.words())));
    }
    for why in &package_preview.not_known {
        failure(&mut text, Some(why));
    }
    failure(&mut text, package_preview.failure.as_ref());
    if verbose {
        native(&mut text, &package_preview.native);
    }
    text
}

fn head(text: &mut String, report: &RunReport, shown: &Shown<'_>) {
    let doing = match (report.mode, shown.is_preview) {
        (Mode::Observe, false) => "observe: nothing is changed",
        (Mode::Observe, true) => "preview of enforce; nothing is changed yet",
        (Mode::Enforce, _) => "enforce",
    };
    let place = match &report.root {
        Some(root) => format!("{}, in the private root {root}", report.machine),
        None => format!("{}, the machine itself", report.machine),
    };
    let wanted: Vec<String> = report
        .wanted
        .releases
        .iter()
        .map(|release| format!("{} {}", release.release, release.baselines.join(" ")))
        .collect();
    let _ = writeln!(text, "{}", styled(style::STRONG, doing));
    let _ = writeln!(text, "on       {}", harmless(&place));
    let wanted = if wanted.is_empty() { "none yet".to_owned() } else { harmless(&wanted.join(", ")) };
    let _ = writeln!(text, "desired  {wanted}   {}", styled(style::MUTED, report.wanted.digest.short()));
}

fn summary(text: &mut String, report: &RunReport, shown: &Shown<'_>) {
    let words = RunWords::of(report);
    let excluded = match shown.excluded.len() {
        0 => String::new(),
        number => format!("{number} excluded on this node"),
    };
    let totals: Vec<&str> =
        [words.totals.as_str(), &excluded].into_iter().filter(|part| !part.is_empty()).collect();
    let partial = words.part.map(|part| format!("; {part}")).unwrap_or_default();
    if let Some(unended) = &report.did_not_end {
        let words = harmless(&unended.words());
        let _ = writeln!(
            text,
            "result   {}   {words}: the agent was killed or the machine stopped",
            styled(style::BAD, "failed")
        );
        return;
    }
    let total = count(report.clauses.len(), "clause", "clauses");
    let _ = writeln!(
        text,
        "result   {}   {total} in {}{}{}{partial}",
        styled(style_of(report.status), report.status.words()),
        duration(report.took_us),
        if totals.is_empty() { "" } else { ": " },
        totals.join(", ")
    );
    if let Some(left_out) = &report.left_out {
        let _ = writeln!(text, "{}", styled(style::ATTENTION, left_out.words()));
    }
    if let Some(pending) = &report.restart_pending {
        let because = harmless(&pending.because.join(", "));
        let _ = writeln!(
            text,
            "{}",
            styled(style::ATTENTION, format!("restart pending since {}: {because}", time(pending.since)))
        );
    }
}

fn quiet(text: &mut String, report: &RunReport, shown: &Shown<'_>) {
    let mut remarks = Vec::new();
    let in_line: Vec<&ClauseResult> = report
        .clauses
        .iter()
        .filter(|result| result.outcome == Outcome::InLine && result.is_quiet())
        .collect();
    if !shown.verbose && !in_line.is_empty() && in_line.len() < report.clauses.len() {
        remarks.push(format!("{} in line; -v lists them", count(in_line.len(), "clause is", "clauses are")));
    }
    let already = in_line.iter().filter(|result| result.already_there).count();
    let brought = in_line.iter().filter(|result| result.changed_by.is_some()).count();
    if brought > 0 && !shown.verbose {
        remarks.push(format!(
            "{} changed by other clauses of this run",
            count(brought, "clause was", "clauses were")
        ));
    }
    if already > 0 && !shown.verbose {
        remarks.push(format!(
            "{} already in line at the first look",
            count(already, "clause was", "clauses were")
        ));
    }
    for excluded in shown.excluded.iter().filter(|_| shown.verbose) {
        remarks.push(format!("{} is excluded here: {}", excluded.address, excluded.condition));
    }
    let left_out: BTreeSet<(&str, &str)> = report
        .clauses
        .iter()
        .flat_map(|result| &result.not_examined)
        .map(|left_out| (left_out.property.as_str(), left_out.why.as_str()))
        .collect();
    if !shown.verbose && !left_out.is_empty() {
        let properties: Vec<&str> = left_out.iter().map(|(property, _)| *property).collect();
        remarks.push(format!(
            "not examined here: {} ({})",
            properties.join(", "),
            left_out.first().map_or("", |(_, why)| why)
        ));
    }
    if let Some(stand_in) =
        report.clauses.iter().find_map(|result| result.stand_in.as_deref()).filter(|_| !shown.verbose)
    {
        remarks.push(stand_in.to_owned());
    }
    if !remarks.is_empty() {
        text.push('\n');
    }
    for remark in remarks {
        let _ = writeln!(text, "{}", styled(style::MUTED, harmless(&remark)));
    }
}
