//! `constans stage`.

use crate::change::{ChangeOptions, asked, print_changed};
use crate::server::{ClientError, Server, ServerArguments};
use clap::{Args, Subcommand};
use constans_wire::kit::{GoBack, Serve, Stage, WentBack};

/// Arguments of `stage`.
#[derive(Debug, Args)]
pub struct StageArguments {
    #[command(subcommand)]
    command: StageCommand,
}

#[derive(Debug, Subcommand)]
enum StageCommand {
    /// List the stages in order, with the releases they serve
    List {
        #[command(flatten)]
        server: ServerArguments,
    },
    /// Serve releases in a stage, all or none
    Serve {
        #[command(flatten)]
        server: ServerArguments,
        /// The stage
        stage: String,
        /// The releases, for example quay-base@1.0.0
        #[arg(required = true, value_name = "KIT@VERSION")]
        releases: Vec<String>,
        #[command(flatten)]
        options: ChangeOptions,
    },
    /// Serve the previous release of a kit again
    Back {
        #[command(flatten)]
        server: ServerArguments,
        /// The stage
        stage: String,
        /// The kit
        kit: String,
        #[command(flatten)]
        options: ChangeOptions,
    },
}

/// Lists or serves.
pub async fn run(arguments: &StageArguments) -> Result<(), ClientError> {
    match &arguments.command {
        StageCommand::List { server } => {
            let server = Server::open(server)?;
            let stages: Vec<Stage> = server.get("/api/stages").await?;
            if server.says_json(&stages) {
                return Ok(());
            }
            for stage in stages {
                println!(
                    "{:<12}  {}",
                    stage.name,
                    if stage.serves.is_empty() { "serves no releases yet".to_owned() } else { stage.serves.join("  ") }
                );
            }
            Ok(())
        }
        StageCommand::Serve { server, stage, releases, options } => {
            let wanted = Serve { releases: releases.clone(), how: options.how() };
            let server = Server::open(server)?;
            let changed = asked(&server, server.post(&format!("/api/stages/{stage}/serve"), &wanted).await).await?;
            print_changed(&server, &format!("{stage} serves {}", releases.join(" ")), &changed);
            Ok(())
        }
        StageCommand::Back { server, stage, kit, options } => {
            let server = Server::open(server)?;
            let wanted = GoBack { kit: kit.clone(), how: options.how() };
            match server.post::<_, WentBack>(&format!("/api/stages/{stage}/back"), &wanted).await {
                Ok(back) if server.says_json(&back) => {}
                Ok(back) => print_changed(&server, &format!("{stage} serves {} again, which it served before {}", back.to, back.from), &back.changed),
                Err(error) => {
                    let changed = asked(&server, Err(error)).await?;
                    print_changed(&server, &format!("{stage} serves the previous release of {kit} again"), &changed);
                }
            }
            Ok(())
        }
    }
}
