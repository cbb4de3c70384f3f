//! `constans evidence verify`: without a server.

use crate::credentials::KnownKeys;
use crate::error::ClientError;
use constans_core::compliance::Rate;
use constans_core::evidence::Question;
use constans_evidence::{Addition, Verified, additions, verify};
use constans_terminal::{count, harmless, style, styled, time};
use constans_wire::exit::Exit;
use std::fmt::Write as _;
use std::fs::File;
use std::path::Path;

/// Says that a file is no evidence.
pub fn not_read(path: &Path, error: &constans_evidence::EvidenceError) -> ClientError {
    ClientError::new(
        format!("{} is no evidence that can be verified: {error}", path.display()),
        "ask for the file again from whoever gave it",
    )
}

fn open(path: &Path) -> Result<File, ClientError> {
    File::open(path).map_err(|error| {
        ClientError::new(
            format!("{} cannot be read: {error}", path.display()),
            "name the zip file of evidence",
        )
    })
}

/// Verifies a file, and compares it with an earlier one.
pub fn verified(
    path: &Path,
    keys: &[String],
    earlier: Option<&Path>,
    json: bool,
) -> Result<Exit, ClientError> {
    let known = if keys.is_empty() { KnownKeys::here().and_then(|keys| keys.ids())? } else { keys.to_vec() };
    let verified = verify(open(path)?, &known).map_err(|error| not_read(path, &error))?;
    let since = match earlier {
        Some(earlier) => {
            let before = verify(open(earlier)?, &known).map_err(|error| not_read(earlier, &error))?;
            if !before.is_intact() {
                anstream::print!("{}", words(&before));
                return Err(ClientError::new(
                    format!("{} was altered", earlier.display()),
                    "take the earlier file as it was given",
                ));
            }
            Some(additions(open(earlier)?, open(path)?).map_err(|error| not_read(path, &error))?)
        }
        None => None,
    };
    if json {
        let all =
            serde_json::json!({ "verified": verified, "is_intact": verified.is_intact(), "since": since });
        anstream::println!("{}", serde_json::to_string_pretty(&all).expect("what was verified is JSON"));
    } else {
        anstream::println!(
            "E{} of {}, {}",
            verified.manifest.evidence,
            harmless(&verified.manifest.server),
            of(&verified.manifest.question)
        );
        anstream::print!("{}", words(&verified));
        if let Some(since) = &since {
            anstream::print!("{}", became_known(since));
        }
    }
    if !verified.is_intact() {
        return Err(ClientError::new(
            format!(
                "{} was altered since it was signed, or its numbers are not those of its rows",
                path.display()
            ),
            "do not rely on it; ask for the file again from whoever gave it",
        ));
    }
    if !verified.is_key_known {
        let hint = format!(
            "ask the organisation, and not whoever gave you the file, whether {} is its key; then: constans evidence verify {} --key {}",
            verified.key,
            path.display(),
            verified.key
        );
        let message = if keys.is_empty() {
            "nothing of it was altered since it was signed; but by whom is not known here".to_owned()
        } else {
            format!("it is signed by {}, which is none of the keys that you named", verified.key)
        };
        return Err(ClientError::new(message, hint).declined());
    }
    Ok(Exit::Well)
}

/// What was checked, a line each, and the figures.
pub fn words(verified: &Verified) -> String {
    let mut text = String::new();
    for check in &verified.checks {
        let (mark, look) =
            if check.faults.is_empty() { ("ok", style::WELL) } else { ("ALTERED", style::BAD) };
        let _ = writeln!(text, "  {:<14} {}  {}", check.what, styled(look, mark), harmless(&check.found));
        for fault in &check.faults {
            let _ = writeln!(text, "  {:<14} {}", "", styled(style::BAD, harmless(fault)));
        }
    }
    let counted = &verified.manifest.figures.counted;
    let _ = writeln!(
        text,
        "{} without any deviation of {}, {} with a critical one; {} of {} compliant, {}",
        number_of(counted.nodes.without_deviation, "node", "nodes"),
        counted.nodes.all(),
        counted.nodes.with_critical,
        counted.clauses.compliant,
        number_of(counted.clauses.all(), "clause", "clauses"),
        Rate::words_of(counted.clauses.rate())
    );
    for left in &verified.manifest.figures.left_out {
        let nodes = number_of(left.nodes, "node is", "nodes are");
        let _ = writeln!(text, "{nodes} not counted: {}", harmless(&left.because));
    }
    text
}

fn became_known(additions: &[Addition]) -> String {
    if additions.is_empty() {
        return "Nothing became known since the earlier file.\n".to_owned();
    }
    let mut text =
        format!("Since the earlier file {} counts otherwise:\n", count(additions.len(), "clause", "clauses"));
    for one in additions {
        let learned = one.learned.map(|at| format!(", learned {}", time(at))).unwrap_or_default();
        let _ = writeln!(
            text,
            "  {} on {}: {} then {}{learned}",
            harmless(&one.address),
            harmless(&one.node),
            one.before,
            one.after
        );
    }
    text
}

/// A number with what it counts.
pub fn number_of(number: u64, one: &str, more: &str) -> String {
    count(usize::try_from(number).unwrap_or(usize::MAX), one, more)
}

/// What is asked, in words.
pub fn of(question: &Question) -> String {
    let mut text = format!("as of {}", time(question.as_of));
    if question.as_known_at != question.as_of {
        let _ = write!(text, ", as known at {}", time(question.as_known_at));
    }
    if let Some(since) = question.since {
        let _ = write!(text, ", deviations since {}", time(since));
    }
    if !question.controls.is_empty() {
        let _ = write!(text, ", {}", harmless(&question.controls.join(", ")));
    }
    match &question.filter {
        Some(filter) => {
            let _ = write!(text, ", nodes where {}", harmless(filter));
        }
        None => text.push_str(", all nodes"),
    }
    text
}
