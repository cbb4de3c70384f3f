//! `constans stage`.

use crate::server::{ClientError, Server, ServerArguments, say_changed};
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
    /// List the stages in order, with what each serves
    List {
        #[command(flatten)]
        server: ServerArguments,
    },
    /// Serve releases in a stage; all of them or none
    Serve {
        #[command(flatten)]
        server: ServerArguments,
        /// The stage
        stage: String,
        /// The releases, as quay-base@1.0.0
        #[arg(required = true, value_name = "KIT@VERSION")]
        releases: Vec<String>,
        /// Go on although some nodes' state cannot be resolved then
        #[arg(long)]
        although_unusable: bool,
    },
    /// Go back: serve the release of a kit that the stage served before the present one
    Back {
        #[command(flatten)]
        server: ServerArguments,
        /// The stage
        stage: String,
        /// The kit
        kit: String,
        /// Go on although some nodes' state cannot be resolved then
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
                println!("{:<12}  {}", stage.name, if stage.serves.is_empty() { "serves nothing yet".to_owned() } else { stage.serves.join("  ") });
            }
            Ok(())
        }
        StageCommand::Serve { server, stage, releases, although_unusable } => {
            let wanted = Serve { releases: releases.clone(), although_unusable: *although_unusable };
            let server = Server::open(server)?;
            let changed: Changed = server.post(&format!("/api/stages/{stage}/serve"), &wanted).await?;
            say_changed(&server, &format!("{stage} serves {}", releases.join(" ")), &changed);
            Ok(())
        }
        StageCommand::Back { server, stage, kit, although_unusable } => {
            let server = Server::open(server)?;
            let wanted = GoBack { kit: kit.clone(), although_unusable: *although_unusable };
            let back: WentBack = server.post(&format!("/api/stages/{stage}/back"), &wanted).await?;
            if !server.says_json(&back) {
                say_changed(&server, &format!("{stage} serves {} again, as before {}", back.to, back.from), &back.changed);
            }
            Ok(())
        }
    }
}
