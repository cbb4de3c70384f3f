//! Edits of a group in one line, and by an editor.

use crate::change::{ChangeOptions, confirmed, print_changed};
use crate::error::ClientError;
use crate::given_edit::{AssignArguments, ParamArguments, SettingArguments, UnassignArguments};
use crate::group_document::set_document;
use crate::server::{Server, ServerArguments};
use clap::{ArgGroup, Args, Subcommand};
use constans_core::change::GroupEdit;
use constans_wire::group::{EditGroup, GroupShown};
use constans_wire::kit::Changed;
use percent_encoding::{NON_ALPHANUMERIC, utf8_percent_encode};
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
        #[command(flatten)]
        given: AssignArguments,
    },
    /// No longer assign a baseline: nothing on the nodes is undone
    Unassign {
        #[command(flatten)]
        target: Target,
        #[command(flatten)]
        given: UnassignArguments,
    },
    /// Give a parameter a value, or take the group's value away
    Param {
        #[command(flatten)]
        target: Target,
        #[command(flatten)]
        given: ParamArguments,
    },
    /// Set how the agents of the group's nodes work, or leave it to other groups
    Setting {
        #[command(flatten)]
        target: Target,
        #[command(flatten)]
        given: SettingArguments,
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

/// Edits a group.
pub async fn run(command: &GroupEditCommand) -> Result<(), ClientError> {
    let (target, edit, what) = match command {
        GroupEditCommand::Edit { target } => return edit_document(target).await,
        GroupEditCommand::Assign { target, given } => with(target, given.edit(&target.name)),
        GroupEditCommand::Unassign { target, given } => with(target, given.edit(&target.name)),
        GroupEditCommand::Param { target, given } => with(target, given.edit(&target.name)),
        GroupEditCommand::Setting { target, given } => with(target, given.edit(&target.name)),
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

fn with(target: &Target, (edit, what): (GroupEdit, String)) -> (&Target, GroupEdit, String) {
    (target, edit, what)
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
