//! `constans kit publish` and `kit list`.

use crate::server::{ClientError, Server, ServerArguments};
use clap::Args;
use constans_core::digest::of_contents;
use constans_core::kit::{Kit, explain_findings};
use constans_folder::{CheckedFolder, check_folder};
use constans_terminal::harmless;
use constans_wire::kit::{Lacking, Publish, Published, Release, ReleaseFiles};
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

/// Arguments of `kit publish`.
#[derive(Debug, Args)]
pub struct PublishArguments {
    #[command(flatten)]
    server: ServerArguments,
    /// The kit's folder
    #[arg(value_name = "DIR")]
    kit: PathBuf,
    /// Folder of a required kit, to publish with it; all are published or none
    #[arg(long, value_name = "DIR")]
    with: Vec<PathBuf>,
}

impl PublishArguments {
    /// Returns the kits that are published, each with those beside it.
    pub fn kits(&self) -> Vec<(&Path, &[PathBuf])> {
        std::iter::once(&self.kit).chain(&self.with).map(|kit| (kit.as_path(), self.with.as_slice())).collect()
    }
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
        println!("no releases yet\nNext: constans kit publish DIR");
    }
    for release in releases {
        let at = release.published_at.strftime("%Y-%m-%d %H:%M UTC");
        let served = if release.served_in.is_empty() { String::new() } else { format!("  served in {}", release.served_in.join(", ")) };
        let withdrawn = if release.withdrawn.is_some() { "  withdrawn" } else { "" };
        let (by, summary) = (harmless(&release.published_by), harmless(&release.summary));
        println!("{}@{}  by {by} at {at}{served}{withdrawn}  {summary}", release.kit, release.version);
    }
    Ok(())
}

/// Reads a kit's folder as far as it can be read.
pub fn read_folder(folder: &Path) -> Result<Kit, ClientError> {
    let failed = |error: constans_folder::ReadKitError| ClientError::new(error.to_string(), error.hint());
    let CheckedFolder { files, checked, .. } = check_folder(folder, &[]).map_err(failed)?;
    let shown = format!("{}/", folder.display().to_string().trim_end_matches('/'));
    checked
        .kit
        .ok_or_else(|| ClientError::new(format!("the kit cannot be read\n\n{}", explain_findings(&checked.findings, &files, &shown)), "fix it first"))
}

/// A kit that is to be published.
struct Prepared {
    listed: ReleaseFiles,
    contents: BTreeMap<String, Vec<u8>>,
}

/// Checks here first, sends what the server lacks, and publishes; all kits or none.
pub async fn run(arguments: &PublishArguments) -> Result<(), ClientError> {
    let mut prepared = vec![prepare(&arguments.kit, &arguments.with)?];
    for folder in &arguments.with {
        prepared.push(prepare(folder, &arguments.with)?);
    }
    let server = Server::open(&arguments.server)?;
    for kit in &prepared {
        send_lacking(&server, kit).await?;
    }
    let publish = Publish { kits: prepared.into_iter().map(|kit| kit.listed).collect() };
    let published: Published = server.post("/api/releases", &publish).await?;
    if server.says_json(&published) {
        return Ok(());
    }
    if !published.warnings.is_empty() {
        anstream::eprintln!("{}", harmless(&published.warnings));
    }
    for release in &published.releases {
        println!("published {}@{}  {}", release.kit, release.version, release.digest);
    }
    let names: Vec<String> = published.releases.iter().map(|release| format!("{}@{}", release.kit, release.version)).collect();
    println!("Next: constans stage serve STAGE {}", names.join(" "));
    Ok(())
}

fn prepare(kit: &Path, with: &[PathBuf]) -> Result<Prepared, ClientError> {
    let failed = |error: constans_folder::ReadKitError| ClientError::new(error.to_string(), error.hint());
    let CheckedFolder { files, checked, .. } = check_folder(kit, with).map_err(failed)?;
    let folder = format!("{}/", kit.display().to_string().trim_end_matches('/'));
    if checked.has_errors() {
        let said = explain_findings(&checked.findings, &files, &folder);
        return Err(ClientError::new(format!("the kit has errors; nothing was sent\n\n{said}"), "fix the errors, then publish again"));
    }
    let name = |path: &str| Some(of_contents(files.get(path)?).as_str().to_owned());
    Ok(Prepared {
        listed: ReleaseFiles { files: files.paths().filter_map(|path| Some((path.to_owned(), name(path)?))).collect() },
        contents: files.paths().filter_map(|path| Some((name(path)?, files.get(path)?.to_vec()))).collect(),
    })
}

async fn send_lacking(server: &Server, kit: &Prepared) -> Result<(), ClientError> {
    let lacking: Lacking = server.post("/api/releases/prepare", &kit.listed).await?;
    let all = lacking.contents.len();
    for (number, name) in lacking.contents.iter().enumerate() {
        let bytes = kit.contents.get(name).ok_or_else(|| {
            ClientError::new(
                format!("the server asks for {name}, which the kit does not have"),
                "check that the server has the version of this client",
            )
        })?;
        let _: bool = server.put_bytes(&format!("/api/contents/{name}"), bytes.clone()).await?;
        if all >= 50 && (number + 1) % 50 == 0 {
            anstream::eprintln!("sent {} of {all} files", number + 1);
        }
    }
    Ok(())
}
