//! `constans desired`: the desired state as one document, for version control.

use crate::change::{ChangeOptions, confirmed, print_changed};
use crate::error::ClientError;
use crate::server::{Server, ServerArguments};
use clap::{Args, Subcommand};
use constans_core::change::{WholeDocument, updated_text};
use constans_wire::desired::ImportDesired;
use std::path::{Path, PathBuf};

/// Arguments of `desired`.
#[derive(Debug, Args)]
pub struct DesiredArguments {
    #[command(subcommand)]
    command: DesiredCommand,
}

#[derive(Debug, Subcommand)]
enum DesiredCommand {
    /// Write stages, what they serve, and groups as TOML
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
            let document: WholeDocument = server.get("/api/desired").await?;
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
            let document = toml::from_str(&text).map_err(|error| {
                let message = format!("{}: {}", file.display(), error.to_string().trim_end());
                ClientError::new(message, "constans desired export writes such a document")
            })?;
            let server = Server::open(server)?;
            let wanted = ImportDesired { document, how: options.how() };
            let changed = confirmed(&server, server.post("/api/desired", &wanted).await).await?;
            print_changed(&server, &format!("the desired state is as {} says", file.display()), &changed);
            Ok(())
        }
    }
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
