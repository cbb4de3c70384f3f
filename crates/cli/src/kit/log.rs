//! `constans kit log` and `kit withdraw`.

use crate::error::ClientError;
use crate::server::{Server, ServerArguments};
use clap::Args;
use constans_terminal::{harmless, time};
use constans_wire::kit::{Logged, Release, Withdraw};

/// Arguments of `kit log`.
#[derive(Debug, Args)]
pub struct LogArguments {
    #[command(flatten)]
    server: ServerArguments,
    /// The kit's name
    kit: String,
}

/// Arguments of `kit withdraw`.
#[derive(Debug, Args)]
pub struct WithdrawArguments {
    #[command(flatten)]
    server: ServerArguments,
    /// The release
    #[arg(value_name = "KIT@VERSION")]
    release: String,
    /// The reason, for the record
    #[arg(long, value_name = "TEXT")]
    because: String,
}

/// Shows a kit's releases with where each was served.
pub async fn run(arguments: &LogArguments) -> Result<(), ClientError> {
    let server = Server::open(&arguments.server)?;
    let releases: Vec<Logged> = server.get_all(&format!("/api/kits/{}/log", arguments.kit)).await?;
    if server.says_json(&releases) {
        return Ok(());
    }
    for logged in &releases {
        let release = &logged.release;
        println!(
            "{}@{}  published {} by {}  {}",
            release.kit,
            release.version,
            time(release.published_at),
            harmless(&release.published_by),
            short(&release.digest)
        );
        if let Some(withdrawn) = &release.withdrawn {
            println!(
                "  withdrawn {} by {}: {}",
                time(withdrawn.at),
                harmless(&withdrawn.by),
                harmless(&withdrawn.because)
            );
        }
        for served in &logged.served {
            let until =
                served.until.map_or_else(|| "until now".to_owned(), |until| format!("until {}", time(until)));
            println!("  {}  from {} {until}, by {}", served.stage, time(served.from), harmless(&served.by));
        }
        if logged.served.is_empty() {
            println!("  never served");
        }
    }
    if let [newest, before, ..] = releases.as_slice() {
        let kit = &arguments.kit;
        println!("Next: constans kit diff {kit}@{} {kit}@{}", before.release.version, newest.release.version);
    }
    Ok(())
}

fn short(digest: &str) -> &str {
    digest.get(..15).unwrap_or(digest)
}

/// Withdraws a release.
pub async fn withdraw(arguments: &WithdrawArguments) -> Result<(), ClientError> {
    let path = release_path(&arguments.release)?;
    let server = Server::open(&arguments.server)?;
    let release: Release =
        server.post(&format!("{path}/withdraw"), &Withdraw { because: arguments.because.clone() }).await?;
    if !server.says_json(&release) {
        println!(
            "withdrawn {}@{}: no stage can serve it again; nodes keep it until another release is served",
            release.kit, release.version
        );
    }
    Ok(())
}

/// Returns the path of a release in the interface.
pub fn release_path(release: &str) -> Result<String, ClientError> {
    let (kit, version) = release.split_once('@').ok_or_else(|| {
        ClientError::new(
            format!("`{release}` is not a release"),
            "write KIT@VERSION, for example quay-base@1.3.0",
        )
    })?;
    Ok(format!("/api/releases/{kit}/{version}"))
}
