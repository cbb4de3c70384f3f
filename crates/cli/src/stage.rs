//! `constans stage`.

use crate::server::{ClientError, Server, ServerArguments, print_changed};
use clap::{Args, Subcommand};
use constans_wire::kit::{Changed, GoBack, Serve, Stage, WentBack};

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
        /// Continue although the desired state of some nodes cannot be resolved
        #[arg(long)]
        although_unusable: bool,
    },
    /// Serve the previous release of a kit again
    Back {
        #[command(flatten)]
        server: ServerArguments,
        /// The stage
        stage: String,
        /// The kit
        kit: String,
        /// Continue although the desired state of some nodes cannot be resolved
        #[arg(long)]
        although_unusable: bool,
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
        StageCommand::Serve { server, stage, releases, although_unusable } => {
            let wanted = Serve { releases: releases.clone(), although_unusable: *although_unusable };
            let server = Server::open(server)?;
            let changed: Changed = server.post(&format!("/api/stages/{stage}/serve"), &wanted).await?;
            print_changed(&server, &format!("{stage} serves {}", releases.join(" ")), &changed);
            Ok(())
        }
        StageCommand::Back { server, stage, kit, although_unusable } => {
            let server = Server::open(server)?;
            let wanted = GoBack { kit: kit.clone(), although_unusable: *although_unusable };
            let back: WentBack = server.post(&format!("/api/stages/{stage}/back"), &wanted).await?;
            if !server.says_json(&back) {
                print_changed(&server, &format!("{stage} serves {} again, which it served before {}", back.to, back.from), &back.changed);
            }
            Ok(())
        }
    }
}
