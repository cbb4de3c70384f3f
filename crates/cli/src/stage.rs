//! `constans stage`.

use crate::change::{ChangeOptions, confirmed, print_changed};
use crate::error::ClientError;
use crate::server::{Server, ServerArguments};
use clap::{Args, Subcommand, ValueEnum};
use constans_wire::kit::{Advance, GoBack, PlaceStage, RenameStage, SecondPerson, Serve, Stage, WentBack};
use percent_encoding::{NON_ALPHANUMERIC, utf8_percent_encode};

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
    /// Make a stage, before another one or as the last
    Make {
        #[command(flatten)]
        server: ServerArguments,
        /// The stage
        stage: String,
        /// The stage that comes after it
        #[arg(long, value_name = "STAGE")]
        before: Option<String>,
        #[command(flatten)]
        options: ChangeOptions,
    },
    /// Move a stage before another one, or to the end
    Move {
        #[command(flatten)]
        server: ServerArguments,
        /// The stage
        stage: String,
        /// The stage that comes after it
        #[arg(long, value_name = "STAGE")]
        before: Option<String>,
        #[command(flatten)]
        options: ChangeOptions,
    },
    /// Rename a stage: groups that name it and the releases that it serves follow
    Rename {
        #[command(flatten)]
        server: ServerArguments,
        /// The stage
        stage: String,
        /// Its next name
        to: String,
        #[command(flatten)]
        options: ChangeOptions,
    },
    /// Let changes of what a stage serves need a second person, or no longer
    SecondPerson {
        #[command(flatten)]
        server: ServerArguments,
        /// The stage
        stage: String,
        /// Whether they need one
        required: Required,
        #[command(flatten)]
        options: ChangeOptions,
    },
    /// Remove a stage that no group names
    Remove {
        #[command(flatten)]
        server: ServerArguments,
        /// The stage
        stage: String,
        #[command(flatten)]
        options: ChangeOptions,
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
    /// Serve in a stage what an earlier one serves, all or none
    Advance {
        #[command(flatten)]
        server: ServerArguments,
        /// The earlier stage
        from: String,
        /// The stage that is to serve the same
        to: String,
        /// Only these kits
        #[arg(long = "kit", value_name = "KIT")]
        kits: Vec<String>,
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

/// Whether a second person has to approve.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Required {
    /// One has to
    Required,
    /// None has to
    NotRequired,
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
            if stages.is_empty() {
                println!("no stages yet\nNext: constans stage make NAME");
            }
            for stage in stages {
                println!(
                    "{:<12}  {}{}",
                    stage.name,
                    if stage.serves.is_empty() {
                        "serves no releases yet".to_owned()
                    } else {
                        stage.serves.join("  ")
                    },
                    if stage.second_person { "  (changes need a second person)" } else { "" }
                );
            }
            Ok(())
        }
        StageCommand::Make { server, stage, before, options } => {
            let server = Server::open(server)?;
            let wanted = PlaceStage { before: before.clone(), how: options.how() };
            let changed =
                confirmed(&server, server.put(&format!("/api/stages/{}", word(stage)), &wanted).await)
                    .await?;
            print_changed(&server, &format!("the stage {stage} is made"), &changed);
            Ok(())
        }
        StageCommand::Move { server, stage, before, options } => {
            let server = Server::open(server)?;
            let wanted = PlaceStage { before: before.clone(), how: options.how() };
            let changed =
                confirmed(&server, server.post(&format!("/api/stages/{}/move", word(stage)), &wanted).await)
                    .await?;
            print_changed(&server, &format!("the stage {stage} is moved"), &changed);
            Ok(())
        }
        StageCommand::Rename { server, stage, to, options } => {
            let server = Server::open(server)?;
            let wanted = RenameStage { to: to.clone(), how: options.how() };
            let changed = confirmed(
                &server,
                server.post(&format!("/api/stages/{}/rename", word(stage)), &wanted).await,
            )
            .await?;
            print_changed(&server, &format!("the stage {stage} is called {to}"), &changed);
            Ok(())
        }
        StageCommand::SecondPerson { server, stage, required, options } => {
            let server = Server::open(server)?;
            let wanted = SecondPerson { required: *required == Required::Required, how: options.how() };
            let changed = confirmed(
                &server,
                server.post(&format!("/api/stages/{}/second-person", word(stage)), &wanted).await,
            )
            .await?;
            let needs = if wanted.required { "need" } else { "no longer need" };
            print_changed(
                &server,
                &format!("changes of the stage {stage} {needs} a second person"),
                &changed,
            );
            Ok(())
        }
        StageCommand::Remove { server, stage, options } => {
            let server = Server::open(server)?;
            let changed = confirmed(
                &server,
                server.delete(&format!("/api/stages/{}?{}", word(stage), options.query())).await,
            )
            .await?;
            print_changed(&server, &format!("the stage {stage} is removed"), &changed);
            Ok(())
        }
        StageCommand::Serve { server, stage, releases, options } => {
            let wanted = Serve { releases: releases.clone(), assign: Vec::new(), how: options.how() };
            let server = Server::open(server)?;
            let changed =
                confirmed(&server, server.post(&format!("/api/stages/{stage}/serve"), &wanted).await).await?;
            print_changed(&server, &format!("{stage} serves {}", releases.join(" ")), &changed);
            Ok(())
        }
        StageCommand::Advance { server, from, to, kits, options } => {
            let wanted = Advance { from: from.clone(), kits: kits.clone(), how: options.how() };
            let server = Server::open(server)?;
            let answered = server.post(&format!("/api/stages/{}/advance", word(to)), &wanted).await;
            let changed = confirmed(&server, answered).await?;
            let of = if kits.is_empty() { String::new() } else { format!(" of {}", kits.join(", ")) };
            print_changed(&server, &format!("{to} serves what {from} serves{of}"), &changed);
            Ok(())
        }
        StageCommand::Back { server, stage, kit, options } => {
            let server = Server::open(server)?;
            let wanted = GoBack { kit: kit.clone(), how: options.how() };
            match server.post::<_, WentBack>(&format!("/api/stages/{stage}/back"), &wanted).await {
                Ok(back) if server.says_json(&back) => {}
                Ok(back) => print_changed(
                    &server,
                    &format!("{stage} serves {} again, which it served before {}", back.to, back.from),
                    &back.changed,
                ),
                Err(error) => {
                    let changed = confirmed(&server, Err(error)).await?;
                    print_changed(
                        &server,
                        &format!("{stage} serves the previous release of {kit} again"),
                        &changed,
                    );
                }
            }
            Ok(())
        }
    }
}

fn word(name: &str) -> String {
    utf8_percent_encode(name, NON_ALPHANUMERIC).to_string()
}
