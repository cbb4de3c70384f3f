//! Edits of a group in one line, and by an editor.

use crate::change::{ChangeOptions, confirmed, print_changed};
use crate::error::ClientError;
use crate::group_document::set_document;
use crate::server::{Server, ServerArguments};
use clap::{ArgGroup, Args, Subcommand, ValueEnum};
use constans_core::change::{GroupEdit, TermsEdit};
use constans_core::kit::{OnDrift, OnRollout, Severity};
use constans_wire::group::{EditGroup, GroupShown};
use constans_wire::kit::Changed;
use jiff::SignedDuration;
use percent_encoding::{NON_ALPHANUMERIC, utf8_percent_encode};
use serde_json::Value;
use std::path::{Path, PathBuf};
use std::process::Command;

/// Which group, and how it is changed.
#[derive(Debug, Args)]
pub struct Target {
    #[command(flatten)]
    server: ServerArguments,
    /// The group
    #[arg(value_name = "GROUP")]
    name: String,
    #[command(flatten)]
    options: ChangeOptions,
}

#[derive(Debug, Subcommand)]
pub enum GroupEditCommand {
    /// Edit a group's document in your editor ($VISUAL or $EDITOR)
    Edit {
        #[command(flatten)]
        target: Target,
    },
    /// Assign a baseline, or alter the terms or the place of one that is assigned
    Assign {
        #[command(flatten)]
        target: Target,
        /// The baseline
        #[arg(value_name = "KIT/BASELINE", value_parser = baseline)]
        baseline: (String, String),
        /// Whether drift of its clauses is corrected
        #[arg(long, value_enum)]
        on_drift: Option<Drift>,
        /// Whether what is newly desired is applied
        #[arg(long, value_enum)]
        on_rollout: Option<Rollout>,
        /// The severity of clauses that set none
        #[arg(long, value_enum)]
        severity: Option<SeverityTerm>,
        /// Controls that its clauses satisfy beside their own; an empty text for none
        #[arg(long, value_name = "CONTROLS", value_delimiter = ',')]
        satisfies: Option<Vec<String>>,
        /// Its place among the group's assignments, from 1; the last by default
        #[arg(long, value_name = "PLACE", value_parser = clap::value_parser!(u32).range(1..))]
        place: Option<u32>,
    },
    /// No longer assign a baseline: nothing on the nodes is undone
    Unassign {
        #[command(flatten)]
        target: Target,
        /// The baseline
        #[arg(value_name = "KIT/BASELINE", value_parser = baseline)]
        baseline: (String, String),
    },
    /// Give a parameter a value, or take the group's value away
    #[command(group = ArgGroup::new("how").required(true))]
    Param {
        #[command(flatten)]
        target: Target,
        /// The parameter
        #[arg(value_name = "KIT/BASELINE.PARAMETER")]
        parameter: String,
        /// The value as in a document: 45, true, ["A", "B"]; anything else is a text
        #[arg(group = "how", allow_hyphen_values = true)]
        value: Option<String>,
        /// Take away what the group gives
        #[arg(long, group = "how")]
        unset: bool,
    },
    /// Set how the agents of the group's nodes work, or leave it to other groups
    #[command(group = ArgGroup::new("how").required(true))]
    Setting {
        #[command(flatten)]
        target: Target,
        /// The setting, for example mode or interval_secs; group show lists them
        #[arg(value_name = "SETTING")]
        word: String,
        /// The value as in a document; a time also as "15 min"
        #[arg(group = "how", allow_hyphen_values = true)]
        value: Option<String>,
        /// Take away what the group sets
        #[arg(long, group = "how")]
        unset: bool,
    },
    /// Set which nodes a group has by their labels and what they report
    #[command(group = ArgGroup::new("how").required(true))]
    Filter {
        #[command(flatten)]
        target: Target,
        /// The filter in CEL, for example 'labels.role == "kiosk"'
        #[arg(group = "how", value_name = "FILTER")]
        filter: Option<String>,
        /// Only named members
        #[arg(long, group = "how")]
        none: bool,
    },
    /// Name members by hand, whatever the filter says
    #[command(group = ArgGroup::new("how").required(true).multiple(true))]
    Members {
        #[command(flatten)]
        target: Target,
        /// Nodes that become members
        #[arg(long, group = "how", value_name = "NODES", value_delimiter = ',')]
        add: Vec<String>,
        /// Nodes that are no longer members by name
        #[arg(long, group = "how", value_name = "NODES", value_delimiter = ',')]
        remove: Vec<String>,
    },
    /// Set the stage of a group's nodes
    #[command(group = ArgGroup::new("how").required(true))]
    Stage {
        #[command(flatten)]
        target: Target,
        /// The stage
        #[arg(group = "how", value_name = "STAGE")]
        stage: Option<String>,
        /// Leave it to other groups
        #[arg(long, group = "how")]
        none: bool,
    },
    /// Set the priority: what a group of higher priority gives is put over what a lower one gives
    Priority {
        #[command(flatten)]
        target: Target,
        /// The priority
        #[arg(allow_negative_numbers = true)]
        priority: i32,
    },
    /// Have changes of the group ask for a second person, or no longer
    SecondPerson {
        #[command(flatten)]
        target: Target,
        /// Whether they do
        #[arg(value_name = "yes|no", action = clap::ArgAction::Set, value_parser = clap::builder::BoolishValueParser::new())]
        required: bool,
    },
}

/// The switch for drift of an assignment.
#[derive(Debug, Clone, Copy, ValueEnum)]
pub enum Drift {
    Correct,
    Report,
    /// As the kit or the agent's settings say
    None,
}

/// The switch for what is newly desired.
#[derive(Debug, Clone, Copy, ValueEnum)]
pub enum Rollout {
    Apply,
    Wait,
    /// As the kit or the agent's settings say
    None,
}

/// The severity of an assignment.
#[derive(Debug, Clone, Copy, ValueEnum)]
pub enum SeverityTerm {
    Low,
    Medium,
    High,
    Critical,
    /// As the kit says
    None,
}

fn baseline(text: &str) -> Result<(String, String), String> {
    match text.split_once('/') {
        Some((kit, baseline)) if !kit.is_empty() && !baseline.is_empty() => {
            Ok((kit.to_owned(), baseline.to_owned()))
        }
        _ => Err("a baseline is written with its kit, as kiosk-floor/kiosk-lockdown".to_owned()),
    }
}

/// Edits a group.
pub async fn run(command: &GroupEditCommand) -> Result<(), ClientError> {
    let (target, edit, what) = match command {
        GroupEditCommand::Edit { target } => return edit_document(target).await,
        GroupEditCommand::Assign { target, baseline, on_drift, on_rollout, severity, satisfies, place } => {
            let (kit, baseline) = baseline.clone();
            let satisfies = satisfies
                .as_ref()
                .map(|controls| controls.iter().filter(|control| !control.is_empty()).cloned().collect());
            let terms = TermsEdit {
                on_drift: on_drift.map(Drift::term),
                on_rollout: on_rollout.map(Rollout::term),
                severity: severity.map(SeverityTerm::term),
                satisfies,
                change_window: None,
            };
            let what = format!("{} is assigned {kit}/{baseline}", target.name);
            let place = place.map(|place| place as usize - 1);
            (target, GroupEdit::Assign { kit, baseline, terms, place }, what)
        }
        GroupEditCommand::Unassign { target, baseline: (kit, baseline) } => {
            let what = format!("{} is no longer assigned {kit}/{baseline}", target.name);
            (target, GroupEdit::Unassign { kit: kit.clone(), baseline: baseline.clone() }, what)
        }
        GroupEditCommand::Param { target, parameter, value, .. } => {
            let value = value.as_deref().map(read_value);
            let what = match &value {
                Some(value) => format!("{} gives {parameter} = {value}", target.name),
                None => format!("{} gives no value for {parameter}", target.name),
            };
            (target, GroupEdit::Parameter { name: parameter.clone(), value }, what)
        }
        GroupEditCommand::Setting { target, word, value, .. } => {
            let value = value.as_deref().map(|value| read_setting(word, value));
            let what = match &value {
                Some(value) => format!("{} sets {word} = {value}", target.name),
                None => format!("{} does not set {word}", target.name),
            };
            (target, GroupEdit::Setting { word: word.clone(), value }, what)
        }
        GroupEditCommand::Filter { target, filter, .. } => {
            let what = match filter {
                Some(filter) => format!("{} has the nodes where {filter}", target.name),
                None => format!("{} has only its named members", target.name),
            };
            (target, GroupEdit::Filter { filter: filter.clone() }, what)
        }
        GroupEditCommand::Members { target, add, remove } => {
            let edit = GroupEdit::Members {
                add: add.iter().cloned().collect(),
                remove: remove.iter().cloned().collect(),
            };
            (target, edit, format!("{} has other named members", target.name))
        }
        GroupEditCommand::Stage { target, stage, .. } => {
            let what = match stage {
                Some(stage) => format!("the stage of {} is {stage}", target.name),
                None => format!("{} has no stage of its own", target.name),
            };
            (target, GroupEdit::Stage { stage: stage.clone() }, what)
        }
        GroupEditCommand::Priority { target, priority } => {
            let what = format!("the priority of {} is {priority}", target.name);
            (target, GroupEdit::Priority { priority: *priority }, what)
        }
        GroupEditCommand::SecondPerson { target, required } => {
            let need = if *required { "need" } else { "no longer need" };
            let what = format!("changes of {} {need} a second person", target.name);
            (target, GroupEdit::SecondPerson { required: *required }, what)
        }
    };
    let server = Server::open(&target.server)?;
    let path = format!("{}/edits", path(&target.name));
    let body = EditGroup { edits: vec![edit], how: target.options.how() };
    let answered: Result<Changed, ClientError> = server.post(&path, &body).await;
    let changed = confirmed(&server, answered).await?;
    print_changed(&server, &what, &changed);
    Ok(())
}

/// Returns the address of a group.
pub fn path(group: &str) -> String {
    format!("/api/groups/{}", utf8_percent_encode(group, NON_ALPHANUMERIC))
}

impl Drift {
    fn term(self) -> Option<OnDrift> {
        match self {
            Self::Correct => Some(OnDrift::Correct),
            Self::Report => Some(OnDrift::Report),
            Self::None => None,
        }
    }
}

impl Rollout {
    fn term(self) -> Option<OnRollout> {
        match self {
            Self::Apply => Some(OnRollout::Apply),
            Self::Wait => Some(OnRollout::Wait),
            Self::None => None,
        }
    }
}

impl SeverityTerm {
    fn term(self) -> Option<Severity> {
        match self {
            Self::Low => Some(Severity::Low),
            Self::Medium => Some(Severity::Medium),
            Self::High => Some(Severity::High),
            Self::Critical => Some(Severity::Critical),
            Self::None => None,
        }
    }
}

/// Reads a value as a document has it; what is none there is a text.
fn read_value(text: &str) -> Value {
    let document: Result<std::collections::BTreeMap<String, Value>, _> =
        toml::from_str(&format!("value = {text}"));
    match document.ok().as_mut().filter(|document| document.len() == 1).and_then(|read| read.remove("value"))
    {
        Some(value) => value,
        None => Value::String(text.to_owned()),
    }
}

/// Reads the value of a setting; one in seconds also as a time with its unit.
fn read_setting(word: &str, text: &str) -> Value {
    let value = read_value(text);
    let span = value
        .as_str()
        .filter(|_| word.ends_with("_secs"))
        .and_then(|text| text.parse::<SignedDuration>().ok());
    span.map_or(value, |span| span.as_secs().into())
}

/// Has a person edit the document; it is set when the editor ends, unless nothing was edited.
async fn edit_document(target: &Target) -> Result<(), ClientError> {
    let editor = ["VISUAL", "EDITOR"].into_iter().find_map(std::env::var_os).ok_or_else(|| {
        ClientError::new(
            "no editor is set",
            "set VISUAL or EDITOR, for example: EDITOR=nano; or alter single things: constans group --help",
        )
    })?;
    let server = Server::open(&target.server)?;
    let shown: GroupShown = server.get(&path(&target.name)).await?;
    let before = toml::to_string_pretty(&shown.group)
        .map_err(|error| ClientError::new(format!("the group cannot be written: {error}"), ""))?;
    let file = draft(&target.name, &before)?;
    let mut command = Command::new("sh");
    command.args(["-c", "exec $0 \"$1\""]).arg(&editor).arg(&file);
    let ended = command.status().map_err(|error| cannot(&file, &error))?;
    let after = std::fs::read_to_string(&file).map_err(|error| cannot(&file, &error))?;
    if !ended.success() {
        let message = format!("the editor ended with {ended}; nothing is changed");
        return Err(ClientError::new(message, format!("what you wrote is in {}", file.display())));
    }
    if after == before {
        let _ = std::fs::remove_file(&file);
        println!("nothing was edited");
        return Ok(());
    }
    let mut options = target.options.clone();
    options.refuse_if_edited_after(shown.changed.as_ref().map(|changed| changed.no));
    // What was written stays until it is taken, whatever comes between.
    let done = set_document(&server, &file, &after, &options, Some(&target.name)).await;
    match &done {
        Ok(()) => drop(std::fs::remove_file(&file)),
        Err(_) => eprintln!("what you wrote is kept: constans group set {}", file.display()),
    }
    done
}

fn draft(name: &str, text: &str) -> Result<PathBuf, ClientError> {
    let file = tempfile::Builder::new()
        .prefix(&format!("constans-{name}-"))
        .suffix(".toml")
        .tempfile()
        .and_then(|file| file.keep().map_err(|error| error.error))
        .map_err(|error| cannot(&std::env::temp_dir(), &error))?;
    std::fs::write(&file.1, text).map_err(|error| cannot(&file.1, &error))?;
    Ok(file.1)
}

fn cannot(path: &Path, error: &std::io::Error) -> ClientError {
    ClientError::new(format!("{}: {error}", path.display()), "check that the folder can be written")
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn values_are_read_as_in_a_document_and_everything_else_is_a_text() {
        for (text, value) in [
            ("45", json!(45)),
            ("true", json!(true)),
            ("[\"A\", \"B\"]", json!(["A", "B"])),
            ("\"45\"", json!("45")),
            ("Ticket office", json!("Ticket office")),
            ("1 = 2", json!("1 = 2")),
            ("45\nother = 1", json!("45\nother = 1")),
        ] {
            assert_eq!(read_value(text), value, "{text}");
        }
    }

    #[test]
    fn a_setting_in_seconds_takes_a_time_with_its_unit() {
        assert_eq!(read_setting("interval_secs", "15 min"), json!(900));
        assert_eq!(read_setting("grace_secs", "1h 30m"), json!(5400));
        assert_eq!(read_setting("grace_secs", "soon"), json!("soon"));
        assert_eq!(read_setting("zone", "Europe/Oslo"), json!("Europe/Oslo"));
        assert_eq!(read_setting("interval_secs", "900"), json!(900));
    }
}
