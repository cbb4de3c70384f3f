//! `constans kit publish` and `kit list`.

use crate::server::{ClientError, Server, ServerArguments};
use clap::Args;
use constans_core::digest::of_contents;
use constans_core::kit::explain_findings;
use constans_folder::check_folder;
use constans_wire::kit::{Lacking, Release, ReleaseFiles};
use std::collections::BTreeMap;
use std::path::PathBuf;

/// Arguments of `kit publish`.
#[derive(Debug, Args)]
pub struct PublishArguments {
    #[command(flatten)]
    server: ServerArguments,
    /// The kit's folder
    #[arg(value_name = "DIR")]
    kit: PathBuf,
}

/// Arguments of `kit list`.
#[derive(Debug, Args)]
pub struct ListArguments {
    #[command(flatten)]
    server: ServerArguments,
}

/// Lists the published releases.
pub async fn list(arguments: &ListArguments) -> Result<(), ClientError> {
    let server = Server::open(&arguments.server)?;
    let releases: Vec<Release> = server.get("/api/releases").await?;
    if server.says_json(&releases) {
        return Ok(());
    }
    if releases.is_empty() {
        println!("nothing is published yet\nNext: constans kit publish DIR");
    }
    for release in releases {
        let at = release.published_at.strftime("%Y-%m-%d %H:%M UTC");
        println!("{}@{}  by {} at {at}  {}", release.kit, release.version, release.published_by, release.summary);
    }
    Ok(())
}

/// Checks here first, sends what the server lacks, and publishes.
pub async fn run(arguments: &PublishArguments) -> Result<(), ClientError> {
    let (files, checked) = check_folder(&arguments.kit).map_err(|error| ClientError::new(error.to_string(), error.hint()))?;
    let folder = format!("{}/", arguments.kit.display().to_string().trim_end_matches('/'));
    if checked.has_errors() {
        let said = explain_findings(&checked.findings, &files, &folder);
        return Err(ClientError::new(format!("the kit is not well, nothing was sent\n\n{said}"), "mend the errors, then publish again"));
    }
    let server = Server::open(&arguments.server)?;
    let contents: BTreeMap<String, &[u8]> =
        files.paths().filter_map(|path| files.get(path)).map(|bytes| (of_contents(bytes).as_str().to_owned(), bytes)).collect();
    let listed = files.paths().filter_map(|path| Some((path.to_owned(), of_contents(files.get(path)?).as_str().to_owned()))).collect();
    let kit = ReleaseFiles { files: listed };
    let lacking: Lacking = server.post("/api/releases/prepare", &kit).await?;
    for name in &lacking.contents {
        let bytes = contents
            .get(name)
            .ok_or_else(|| ClientError::new(format!("the server asks for {name}, which the kit does not have"), "is it a server of this version?"))?;
        let _: bool = server.put_bytes(&format!("/api/contents/{name}"), bytes.to_vec()).await?;
    }
    let release: Release = server.post("/api/releases", &kit).await?;
    if server.says_json(&release) {
        return Ok(());
    }
    println!("published {}@{}  {}", release.kit, release.version, release.digest);
    println!("Next: constans stage serve STAGE {}@{}", release.kit, release.version);
    Ok(())
}
