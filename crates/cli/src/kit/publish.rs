//! `constans kit publish` and `kit list`.

use crate::change::{ChangeOptions, confirmed, print_changed};
use crate::error::ClientError;
use crate::server::{ListArguments, Server, ServerArguments};
use clap::Args;
use constans_core::digest::of_contents;
use constans_core::document::{KitFiles, explain_findings};
use constans_core::kit::Kit;
use constans_folder::{CheckedFolder, check_folder};
use constans_terminal::{count, harmless};
use constans_wire::change::HowToChange;
use constans_wire::kit::{AssignAlso, Lacking, Publish, Published, Release, ReleaseFiles, Serve};
use percent_encoding::{NON_ALPHANUMERIC, utf8_percent_encode};
use std::collections::{BTreeMap, BTreeSet};
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
    /// Serve what is published in this stage, as one change
    #[arg(long, value_name = "STAGE")]
    serve: Option<String>,
    /// Assign the kit's baseline to this group by the same change; can be given more than once
    #[arg(long, value_name = "GROUP", requires = "serve")]
    assign: Vec<String>,
    /// Which baseline is assigned, if the kit has more than one; can be given more than once
    #[arg(long, value_name = "BASELINE", requires = "assign")]
    baseline: Vec<String>,
    #[command(flatten)]
    options: ChangeOptions,
}

impl PublishArguments {
    /// Refuses options of a change that nothing is asked for by.
    fn check_options(&self) -> Result<(), ClientError> {
        if self.serve.is_some() || self.options.how() == HowToChange::default() {
            return Ok(());
        }
        Err(ClientError::new(
            "--because, --preview, --request, --confirm and the like are about a change, and publishing alone is none",
            "name the stage that is to serve it: --serve STAGE",
        ))
    }

    /// Returns which baselines of a kit which groups are to be assigned.
    fn assigned(&self, kit: &Kit) -> Result<Vec<AssignAlso>, ClientError> {
        if self.assign.is_empty() {
            return Ok(Vec::new());
        }
        let has: Vec<&str> = kit.baselines.iter().map(|baseline| baseline.name.value.as_str()).collect();
        let which: Vec<&str> = match (self.baseline.as_slice(), has.as_slice()) {
            ([], [only]) => vec![only],
            ([], _) => {
                return Err(ClientError::new(
                    format!(
                        "{} has {}: {}",
                        kit.name,
                        count(has.len(), "baseline", "baselines"),
                        has.join(", ")
                    ),
                    "say which is assigned: --baseline BASELINE",
                ));
            }
            (named, _) => named.iter().map(String::as_str).collect(),
        };
        if let Some(missing) = which.iter().find(|name| !has.contains(*name)) {
            return Err(ClientError::new(
                format!("{} has no baseline `{missing}`; it has {}", kit.name, has.join(", ")),
                "nothing was published",
            ));
        }
        let of_group = |group: &String| {
            let one = |baseline: &&str| AssignAlso {
                group: group.clone(),
                kit: kit.name.clone(),
                baseline: (*baseline).to_owned(),
            };
            which.iter().map(one).collect::<Vec<_>>()
        };
        Ok(self.assign.iter().flat_map(of_group).collect())
    }

    /// Returns the kits that are published, each with those beside it.
    pub fn kits(&self) -> Vec<(&Path, &[PathBuf])> {
        std::iter::once(&self.kit)
            .chain(&self.with)
            .map(|kit| (kit.as_path(), self.with.as_slice()))
            .collect()
    }
}

/// Arguments of `kit list`.
#[derive(Debug, Args)]
pub struct KitListArguments {
    #[command(flatten)]
    server: ServerArguments,
    #[command(flatten)]
    which: ListArguments,
}

/// Lists the published releases.
pub async fn list(arguments: &KitListArguments) -> Result<(), ClientError> {
    let server = Server::open(&arguments.server)?;
    let releases: Vec<Release> = server.get_all(&arguments.which.address("/api/releases")).await?;
    if server.says_json(&releases) {
        return Ok(());
    }
    if releases.is_empty() {
        println!("{}", arguments.which.none("no releases yet\nNext: constans kit publish DIR"));
    }
    for release in releases {
        let at = release.published_at.strftime("%Y-%m-%d %H:%M UTC");
        let served = if release.served_in.is_empty() {
            String::new()
        } else {
            format!("  served in {}", release.served_in.join(", "))
        };
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
    checked.kit.ok_or_else(|| {
        ClientError::new(
            format!("the kit cannot be read\n\n{}", explain_findings(&checked.findings, &files, &shown)),
            "fix it first",
        )
    })
}

/// A kit that is to be published.
pub struct Prepared {
    kit: Option<Kit>,
    listed: ReleaseFiles,
    contents: BTreeMap<String, Vec<u8>>,
}

/// Checks here first, sends what the server lacks, and publishes; all kits or none.
pub async fn run(arguments: &PublishArguments) -> Result<(), ClientError> {
    let mut prepared = vec![prepare(&arguments.kit, &arguments.with)?];
    for folder in &arguments.with {
        prepared.push(prepare(folder, &arguments.with)?);
    }
    arguments.check_options()?;
    let assign = match prepared.first().and_then(|first| first.kit.as_ref()) {
        Some(kit) => arguments.assigned(kit)?,
        None => Vec::new(),
    };
    let server = Server::open(&arguments.server)?;
    let releases: Vec<Release> = server.get_all("/api/releases").await?;
    if let Some(missing) = Missing::of(arguments, &prepared, &releases) {
        return Err(missing.error(arguments));
    }
    let publish = send(&server, prepared).await?;
    let published: Published = server.post("/api/releases", &publish).await?;
    if arguments.serve.is_none() && server.says_json(&published) {
        return Ok(());
    }
    if !published.warnings.is_empty() {
        anstream::eprintln!("{}", harmless(&published.warnings));
    }
    for release in published.releases.iter().filter(|_| !server.prints_json()) {
        println!("published {}@{}  {}", release.kit, release.version, release.digest);
    }
    let names: Vec<String> =
        published.releases.iter().map(|release| format!("{}@{}", release.kit, release.version)).collect();
    let Some(stage) = &arguments.serve else {
        println!("Next: constans stage serve STAGE {}", names.join(" "));
        return Ok(());
    };
    let done = format!("{stage} serves {}{}", names.join(" "), assigned_words(&assign));
    let wanted = Serve { releases: names, assign, how: arguments.options.how() };
    let answered = server.post(&format!("/api/stages/{}/serve", word(stage)), &wanted).await;
    print_changed(&server, &done, &confirmed(&server, answered).await?);
    Ok(())
}

fn assigned_words(assign: &[AssignAlso]) -> String {
    assign.iter().map(|one| format!("; {} is assigned {}/{}", one.group, one.kit, one.baseline)).collect()
}

fn word(name: &str) -> String {
    utf8_percent_encode(name, NON_ALPHANUMERIC).to_string()
}

fn prepare(kit: &Path, with: &[PathBuf]) -> Result<Prepared, ClientError> {
    let failed = |error: constans_folder::ReadKitError| ClientError::new(error.to_string(), error.hint());
    let CheckedFolder { files, checked, .. } = check_folder(kit, with).map_err(failed)?;
    let folder = format!("{}/", kit.display().to_string().trim_end_matches('/'));
    if checked.has_errors() {
        let explained = explain_findings(&checked.findings, &files, &folder);
        return Err(ClientError::new(
            format!("the kit has errors; nothing was sent\n\n{explained}"),
            "fix the errors, then publish again",
        ));
    }
    Ok(prepared(&files, checked.kit))
}

/// Returns a kit's files as they are sent.
pub fn prepared(files: &KitFiles, kit: Option<Kit>) -> Prepared {
    let name = |path: &str| Some(of_contents(files.get(path)?).as_str().to_owned());
    Prepared {
        kit,
        listed: ReleaseFiles {
            files: files.paths().filter_map(|path| Some((path.to_owned(), name(path)?))).collect(),
        },
        contents: files.paths().filter_map(|path| Some((name(path)?, files.get(path)?.to_vec()))).collect(),
    }
}

/// Sends what the server lacks of kits, and returns what names them.
pub async fn send(server: &Server, prepared: Vec<Prepared>) -> Result<Publish, ClientError> {
    for kit in &prepared {
        send_lacking(server, kit).await?;
    }
    Ok(Publish { kits: prepared.into_iter().map(|kit| kit.listed).collect() })
}

/// Kits that are required, of which no release is published and which are not published along.
struct Missing {
    /// Each with the kits that require it.
    kits: BTreeMap<String, BTreeSet<String>>,
    /// The folders of those that are beside the kit.
    beside: Vec<PathBuf>,
    /// Whether all of them do.
    are_all_beside: bool,
}

impl Missing {
    /// Finds them, also what those require that are beside the kit.
    fn of(arguments: &PublishArguments, prepared: &[Prepared], releases: &[Release]) -> Option<Self> {
        let mut there: BTreeSet<String> = releases.iter().map(|release| release.kit.clone()).collect();
        there.extend(prepared.iter().filter_map(|one| Some(one.kit.as_ref()?.name.clone())));
        let mut open: Vec<Kit> = prepared.iter().filter_map(|one| one.kit.clone()).collect();
        let mut missing = Self { kits: BTreeMap::new(), beside: Vec::new(), are_all_beside: true };
        while let Some(kit) = open.pop() {
            for required in kit.requires.iter().filter(|required| !there.contains(&required.kit)) {
                let is_new = !missing.kits.contains_key(&required.kit);
                missing.kits.entry(required.kit.clone()).or_default().insert(kit.name.clone());
                if !is_new {
                    continue;
                }
                match beside(&arguments.kit, &required.kit) {
                    Some((folder, kit)) => {
                        missing.beside.push(folder);
                        open.push(kit);
                    }
                    None => missing.are_all_beside = false,
                }
            }
        }
        (!missing.kits.is_empty()).then_some(missing)
    }

    fn error(&self, arguments: &PublishArguments) -> ClientError {
        let by = |(kit, by): (&String, &BTreeSet<String>)| {
            format!("{kit} (required by {})", by.iter().cloned().collect::<Vec<_>>().join(", "))
        };
        let all: Vec<String> = self.kits.iter().map(by).collect();
        let shown = |folder: &PathBuf| format!(" --with {}", folder.display());
        let with: String = arguments.with.iter().chain(&self.beside).map(shown).collect();
        let command = format!("constans kit publish {}{with}", arguments.kit.display());
        let hint = if self.are_all_beside {
            format!("publish all together: {command}")
        } else {
            format!("publish all together, with a folder for each: {command} --with DIR")
        };
        ClientError::new(format!("no release is published of {}; nothing was sent", all.join(", ")), hint)
    }
}

/// Returns the folder of this kit beside another one.
fn beside(folder: &Path, name: &str) -> Option<(PathBuf, Kit)> {
    let parent = folder
        .components()
        .next_back()
        .filter(|last| matches!(last, std::path::Component::Normal(_)))
        .and_then(|_| folder.parent());
    let beside = parent.map_or_else(|| folder.join("..").join(name), |parent| parent.join(name));
    let kit = check_folder(&beside, &[]).ok()?.checked.kit.filter(|kit| kit.name == name)?;
    Some((beside, kit))
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
