//! `constans desired`: the desired state as one document, for version control.

use crate::change::{ChangeOptions, confirmed, print_changed};
use crate::control::what_was_set;
use crate::error::ClientError;
use crate::server::{Server, ServerArguments};
use clap::{Args, Subcommand};
use constans_core::change::{WholeDocument, WholeStage, updated_text};
use constans_core::control::Catalogue;
use constans_core::group::Group;
use constans_wire::control::{CatalogueSet, SetCatalogue, ValidCatalogue};
use constans_wire::desired::ImportDesired;
use serde::{Deserialize, Serialize};
use std::path::{Path, PathBuf};

/// Arguments of `desired`.
#[derive(Debug, Args)]
pub struct DesiredArguments {
    #[command(subcommand)]
    command: DesiredCommand,
}

#[derive(Debug, Subcommand)]
enum DesiredCommand {
    /// Write stages, what they serve, groups and the catalogue of controls as TOML
    Export {
        #[command(flatten)]
        server: ServerArguments,
        /// The file to write; standard output if left out
        #[arg(long, value_name = "FILE")]
        to: Option<PathBuf>,
        /// A document that is there: what is the same stays as it is written, with its comments and its order
        #[arg(long, value_name = "FILE", conflicts_with = "to")]
        update: Option<PathBuf>,
    },
    /// Make the desired state as a document says, as one change: what it does not have goes
    Import {
        #[command(flatten)]
        server: ServerArguments,
        /// The document, TOML as it is exported
        #[arg(value_name = "FILE")]
        file: PathBuf,
        #[command(flatten)]
        options: ChangeOptions,
    },
}

/// Exports or imports.
pub async fn run(arguments: &DesiredArguments) -> Result<(), ClientError> {
    match &arguments.command {
        DesiredCommand::Export { server, to, update } => {
            let server = Server::open(server)?;
            let document = DesiredFile::of_server(&server).await?;
            if server.says_json(&document) {
                return Ok(());
            }
            let text = toml::to_string_pretty(&document)
                .map_err(|error| ClientError::new(format!("it cannot be written as TOML: {error}"), ""))?;
            match (to, update) {
                (Some(file), _) => write_whole(file, &text),
                (None, Some(file)) => update_file(file, &text),
                (None, None) => {
                    print!("{text}");
                    Ok(())
                }
            }
        }
        DesiredCommand::Import { server, file, options } => {
            let text = std::fs::read_to_string(file).map_err(|error| cannot(file, &error))?;
            let document: DesiredFile = toml::from_str(&text).map_err(|error| {
                let message = format!("{}: {}", file.display(), error.to_string().trim_end());
                ClientError::new(message, "constans desired export writes such a document")
            })?;
            import(&Server::open(server)?, file, document, options).await
        }
    }
}

/// The document as it is written.
#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct DesiredFile {
    stages: Vec<WholeStage>,
    groups: Vec<Group>,
    /// The catalogue of controls; without one it stays as it is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    controls: Option<Catalogue>,
}

impl DesiredFile {
    async fn of_server(server: &Server) -> Result<Self, ClientError> {
        let WholeDocument { stages, groups } = server.get("/api/desired").await?;
        let valid: ValidCatalogue = server.get("/api/controls/catalogue").await?;
        let controls = (valid.version > 0).then_some(valid.catalogue);
        Ok(Self { stages, groups, controls })
    }
}

/// Makes the desired state as the document says, then the catalogue: what is so already is left alone. What is wrong with the catalogue is
/// told before anything is handed out.
async fn import(
    server: &Server,
    file: &Path,
    document: DesiredFile,
    options: &ChangeOptions,
) -> Result<(), ClientError> {
    let DesiredFile { stages, groups, controls } = document;
    let how = options.how();
    let valid: ValidCatalogue = server.get("/api/controls/catalogue").await?;
    let set = controls.filter(|catalogue| *catalogue != valid.catalogue).map(|catalogue| SetCatalogue {
        catalogue,
        keep_scopes: false,
        because: how.because.clone(),
        unless_changed_after: Some(valid.version),
        preview: true,
    });
    if let Some(set) = &set {
        let previewed: CatalogueSet = server.put("/api/controls", set).await?;
        if how.preview && !server.prints_json() {
            eprint!("controls: {}", what_was_set(&previewed, true));
        }
    }
    let wanted = ImportDesired { document: WholeDocument { stages, groups }, how: how.clone() };
    // Where only the catalogue is otherwise, that alone is set.
    let is_same = set.is_some() && says_the_same(&wanted.document, &server.get("/api/desired").await?);
    if !is_same {
        let changed = confirmed(server, server.post("/api/desired", &wanted).await).await?;
        print_changed(server, &format!("the desired state is as {} says", file.display()), &changed);
    }
    match set {
        None => {}
        Some(_) if how.preview => {}
        Some(_) if how.request => {
            eprintln!(
                "the controls stay as they are: whoever approves the change imports the document again"
            );
        }
        Some(set) => {
            let done: CatalogueSet =
                server.put("/api/controls", &SetCatalogue { preview: false, ..set }).await?;
            if !server.prints_json() {
                print!("controls: {}", what_was_set(&done, false));
            }
        }
    }
    Ok(())
}

/// Whether two documents say the same, in whatever order their groups are.
fn says_the_same(one: &WholeDocument, other: &WholeDocument) -> bool {
    let sorted = |document: &WholeDocument| {
        let mut groups = document.groups.clone();
        groups.sort_by(|left, right| left.name.cmp(&right.name));
        groups
    };
    one.stages == other.stages && sorted(one) == sorted(other)
}

/// Makes a document say what another one says.
fn update_file(file: &Path, exported: &str) -> Result<(), ClientError> {
    let before = std::fs::read_to_string(file).map_err(|error| cannot(file, &error))?;
    let text = updated_text(&before, exported).map_err(|because| {
        ClientError::new(
            format!("{}: {because}", file.display()),
            "correct it, or write a new document: constans desired export --to FILE",
        )
    })?;
    if text == before {
        println!("{} says what the server has; it stays as it is", file.display());
        return Ok(());
    }
    write_whole(file, &text)?;
    println!("{} says what the server has now; its version control shows what is otherwise", file.display());
    Ok(())
}

/// Writes a file whole, or leaves it as it is.
fn write_whole(file: &Path, text: &str) -> Result<(), ClientError> {
    let mut beside = file.as_os_str().to_owned();
    beside.push(".new");
    let beside = PathBuf::from(beside);
    std::fs::write(&beside, text)
        .and_then(|()| std::fs::rename(&beside, file))
        .inspect_err(|_| drop(std::fs::remove_file(&beside)))
        .map_err(|error| cannot(file, &error))
}

fn cannot(file: &Path, error: &std::io::Error) -> ClientError {
    ClientError::new(format!("{}: {error}", file.display()), "name a file that you may read and write")
}
