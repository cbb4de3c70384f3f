//! Bounds of a report: applied by the agent before sending and by the server on receipt. What is left out is recorded.

use crate::report::{LeftOut, RunReport};
use constans_core::compare::{Difference, Side};
use constans_core::run::{
    ClauseResult, Decision, Leave, MAX_RELATED, NativeStep, Outcome, PackageChange, PackagePreview,
    RelatedRecords,
};
use serde::Serialize;
use serde_json::Value;
use std::io;

/// The most text of one clause in a report that leaves the node, in bytes: differences of texts and output of programs.
pub const MAX_CLAUSE_TEXT: usize = 8 * 1024;
/// The most such text of all clauses, in bytes.
pub const MAX_RUN_TEXT: usize = 256 * 1024;
/// The most bytes of one value, message or command line.
pub const MAX_VALUE: usize = 1024;
/// The most differences, native steps, packages or other entries of each list of a clause.
pub const MAX_ENTRIES: usize = 50;
/// The most packages in a run's list of what it would change.
const MAX_PREVIEWED: usize = 1000;
/// The largest report, in bytes of JSON.
pub const MAX_REPORT: usize = 6 * 1024 * 1024;

/// What ends a text of a program that was cut.
const CUT_HERE: &str = "\n(cut here: the run's texts are longer than a report may be)";

impl RunReport {
    /// Returns the report as it may leave the node: without text diffs that must stay there, and bounded.
    #[must_use]
    pub fn for_server(mut self) -> Self {
        for clause in &mut self.clauses {
            clause.text_diff.take_if(|diff| diff.stays_here);
        }
        self.bounded()
    }

    /// Returns the report within the bounds that hold for every report, with what was left out recorded.
    #[must_use]
    pub fn bounded(mut self) -> Self {
        let mut left_out = self.left_out.unwrap_or_default();
        let mut of_run = MAX_RUN_TEXT;
        for clause in &mut self.clauses {
            bound_clause(clause, &mut of_run, &mut left_out);
        }
        for text in [&mut self.machine, &mut self.agent]
            .into_iter()
            .chain(&mut self.root)
            .chain(&mut self.reason)
            .chain(&mut self.by)
        {
            cut_value(text, &mut left_out);
        }
        if let Some(pending) = &mut self.restart_pending {
            bound_list(&mut pending.because, &mut left_out);
            pending.because.iter_mut().for_each(|cause| cut_value(cause, &mut left_out));
        }
        bound_list(&mut self.due, &mut left_out);
        if let Some(package_preview) = &mut self.package_preview {
            bound_preview(package_preview, &mut of_run, &mut left_out);
        }
        leave_out_clauses(&mut self, &mut left_out);
        self.left_out = (left_out != LeftOut::default()).then_some(left_out);
        self
    }

    /// Returns the report without details of its clauses: their results and the names of different properties stay.
    #[must_use]
    pub fn without_details(mut self) -> Self {
        for clause in &mut self.clauses {
            (clause.text_diff, clause.native, clause.related) = (None, Vec::new(), None);
            for difference in clause.differences.iter_mut().chain(&mut clause.still_different) {
                (difference.wanted, difference.found) = (Side::Absent, Side::Absent);
            }
            if let Some(failure) = &mut clause.failure {
                failure.command = None;
            }
        }
        self.left_out = Some(LeftOut { details: true, ..self.left_out.unwrap_or_default() });
        self
    }
}

/// Returns what came out of a clause as it may leave the node, within the bounds that hold in a report; `of_run` is what is left of
/// the bytes of all texts of its run.
#[must_use]
pub fn bounded_clause(mut clause: ClauseResult, of_run: &mut usize) -> ClauseResult {
    clause.text_diff.take_if(|diff| diff.stays_here);
    bound_clause(&mut clause, of_run, &mut LeftOut::default());
    clause
}

fn bound_clause(clause: &mut ClauseResult, of_run: &mut usize, left_out: &mut LeftOut) {
    bound_list(&mut clause.differences, left_out);
    bound_list(&mut clause.still_different, left_out);
    bound_list(&mut clause.native, left_out);
    bound_list(&mut clause.kept, left_out);
    bound_list(&mut clause.not_examined, left_out);
    bound_list(&mut clause.origins, left_out);
    bound_list(&mut clause.dropped_needs, left_out);
    bound_list(&mut clause.missed, left_out);
    if let Some(related) = &mut clause.related {
        bound_related(related, left_out);
    }
    for difference in clause.differences.iter_mut().chain(&mut clause.still_different) {
        bound_difference(difference, left_out);
    }
    bound_packages(&mut clause.packages, MAX_ENTRIES, left_out);
    for decision in [Some(&mut clause.decision), clause.would.as_mut()].into_iter().flatten() {
        if let Decision::Leave { why: Leave::NotAlone { packages } } = decision {
            bound_packages(packages, MAX_ENTRIES, left_out);
        }
    }
    let failure = clause.failure.as_mut();
    let notes =
        failure.map(|failure| [Some(&mut failure.message), failure.remedy.as_mut()].into_iter().flatten());
    let whys = clause.not_examined.iter_mut().flat_map(|one| [&mut one.property, &mut one.why]);
    notes
        .into_iter()
        .flatten()
        .chain(whys)
        .chain(&mut clause.unsupported)
        .chain(&mut clause.stand_in)
        .for_each(|text| cut_value(text, left_out));

    let mut of_clause = MAX_CLAUSE_TEXT.min(*of_run);
    let before = of_clause;
    if let Some(diff) = &mut clause.text_diff
        && cut(&mut diff.text, &mut of_clause, "")
    {
        diff.cut = true;
        left_out.cut += 1;
    }
    let of_failure = clause.failure.as_mut().and_then(|failure| failure.command.as_mut());
    bound_steps(of_failure.into_iter().chain(&mut clause.native), &mut of_clause, left_out);
    *of_run -= before - of_clause;
}

fn bound_related(related: &mut RelatedRecords, left_out: &mut LeftOut) {
    bound_list_to(&mut related.records, MAX_RELATED, left_out);
    bound_list_to(&mut related.not_searched, MAX_RELATED, left_out);
    let of_records = related
        .records
        .iter_mut()
        .flat_map(|record| record.account.iter_mut().chain([&mut record.text, &mut record.source]));
    let of_others = related.not_searched.iter_mut().flat_map(|one| [&mut one.source, &mut one.why]);
    of_records.chain(of_others).for_each(|text| cut_value(text, left_out));
}

fn bound_packages(packages: &mut Vec<PackageChange>, most: usize, left_out: &mut LeftOut) {
    bound_list_to(packages, most, left_out);
    for package in packages {
        let texts = [Some(&mut package.package), package.before.as_mut(), package.after.as_mut()];
        texts.into_iter().flatten().for_each(|text| cut_value(text, left_out));
    }
}

fn bound_preview(package_preview: &mut PackagePreview, of_run: &mut usize, left_out: &mut LeftOut) {
    bound_packages(&mut package_preview.packages, MAX_PREVIEWED, left_out);
    bound_list(&mut package_preview.not_known, left_out);
    bound_list(&mut package_preview.native, left_out);
    let mut of_preview = MAX_CLAUSE_TEXT.min(*of_run);
    let before = of_preview;
    let mut of_failures = Vec::new();
    for failure in package_preview.failure.iter_mut().chain(&mut package_preview.not_known) {
        [Some(&mut failure.message), failure.remedy.as_mut()]
            .into_iter()
            .flatten()
            .for_each(|text| cut_value(text, left_out));
        of_failures.extend(failure.command.as_mut());
    }
    bound_steps(of_failures.into_iter().chain(&mut package_preview.native), &mut of_preview, left_out);
    *of_run -= before - of_preview;
}

fn bound_steps<'s>(
    steps: impl Iterator<Item = &'s mut NativeStep>,
    most: &mut usize,
    left_out: &mut LeftOut,
) {
    for NativeStep { what, output, .. } in steps {
        cut_value(what, left_out);
        left_out.cut += u64::from(cut(output, most, CUT_HERE));
    }
}

fn bound_difference(difference: &mut Difference, left_out: &mut LeftOut) {
    cut_value(&mut difference.property, left_out);
    for side in [&mut difference.wanted, &mut difference.found] {
        match side {
            Side::Value { value: Value::String(text) }
            | Side::Unreadable { reason: text }
            | Side::Content { digest: text, .. } => {
                cut_value(text, left_out);
            }
            Side::Value { value } if matches!(value, Value::Array(_) | Value::Object(_)) => {
                let mut text = value.to_string();
                if text.len() > MAX_VALUE {
                    cut_value(&mut text, left_out);
                    *value = Value::String(text);
                }
            }
            Side::Value { .. } | Side::Concealed | Side::Absent => {}
        }
    }
}

fn bound_list<T>(list: &mut Vec<T>, left_out: &mut LeftOut) {
    bound_list_to(list, MAX_ENTRIES, left_out);
}

fn bound_list_to<T>(list: &mut Vec<T>, most: usize, left_out: &mut LeftOut) {
    left_out.entries += list.len().saturating_sub(most) as u64;
    list.truncate(most);
}

/// Leaves clauses out of a report that is too large even so: those in line first, then the last ones.
fn leave_out_clauses(report: &mut RunReport, left_out: &mut LeftOut) {
    let mut size = size_of(report);
    for is_quiet in [true, false] {
        if size <= MAX_REPORT {
            return;
        }
        let mut kept = Vec::with_capacity(report.clauses.len());
        for clause in std::mem::take(&mut report.clauses).into_iter().rev() {
            if size > MAX_REPORT && (!is_quiet || matches!(clause.outcome, Outcome::InLine | Outcome::Idle)) {
                size -= size_of(&clause).min(size);
                left_out.clauses += 1;
            } else {
                kept.push(clause);
            }
        }
        kept.reverse();
        report.clauses = kept;
    }
}

/// Returns how many bytes of JSON a value is.
fn size_of(value: &impl Serialize) -> usize {
    struct Counted(usize);
    impl io::Write for Counted {
        fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
            self.0 += bytes.len();
            Ok(bytes.len())
        }

        fn flush(&mut self) -> io::Result<()> {
            Ok(())
        }
    }
    let mut counted = Counted(0);
    serde_json::to_writer(&mut counted, value).map_or(usize::MAX, |()| counted.0)
}

fn cut_value(text: &mut String, left_out: &mut LeftOut) {
    let remark = format!("… (cut: {} bytes)", text.len());
    left_out.cut += u64::from(cut(text, &mut { MAX_VALUE }, &remark));
}

/// Cuts a text to what is left, with a remark at its end if there is room for one, and subtracts it. Returns whether anything
/// was cut.
fn cut(text: &mut String, left: &mut usize, remark: &str) -> bool {
    let is_cut = text.len() > *left;
    if is_cut {
        let remark = if remark.len() <= *left { remark } else { "" };
        let end = (0..=*left - remark.len()).rev().find(|at| text.is_char_boundary(*at)).unwrap_or(0);
        text.truncate(end);
        text.push_str(remark);
    }
    *left -= text.len();
    is_cut
}

#[cfg(test)]
mod tests;
