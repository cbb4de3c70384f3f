//! `constans desired`: the desired state as one document, for version control.

use crate::change::{ChangeOptions, confirmed, print_changed};
use crate::error::ClientError;
use crate::server::{Server, ServerArguments};
use clap::{Args, Subcommand};
use constans_core::change::WholeDocument;
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
        DesiredCommand::Export { server, to } => {
            let server = Server::open(server)?;
            let document: WholeDocument = server.get("/api/desired").await?;
            if server.says_json(&document) {
                return Ok(());
            }
            let text = toml::to_string_pretty(&document)
                .map_err(|error| ClientError::new(format!("it cannot be written as TOML: {error}"), ""))?;
            match to {
                Some(file) => std::fs::write(file, text).map_err(|error| cannot(file, &error)),
                None => {
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

fn cannot(file: &Path, error: &std::io::Error) -> ClientError {
    ClientError::new(format!("{}: {error}", file.display()), "name a file that you may read and write")
}
