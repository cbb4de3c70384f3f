//! What a file says of its last change: its times and its owner (inode(7)).

use crate::error::HostError;
use crate::files::{Entry, Files};
use constans_core::kind::Claim;
use constans_core::run::{RelatedKind, RelatedRecord};
use constans_core::state::Clause;
use jiff::Timestamp;

/// Returns the path that a clause keeps something of.
pub fn path_of(clause: &Clause) -> Option<&str> {
    match &clause.claim {
        Claim::Path(path) | Claim::Key(path, _) | Claim::Line(path, _) => Some(path),
        Claim::Account(_) => Some("/etc/passwd"),
        Claim::AccountGroup(_) => Some("/etc/group"),
        _ => None,
    }
}

/// Returns what the file at a path says; if it is gone, its folder says when an entry last came or went.
pub fn records(
    files: &Files,
    names: &dyn Fn(u32, u32) -> (String, String),
    path: &str,
) -> Result<Vec<RelatedRecord>, HostError> {
    let record = |at: Option<Timestamp>, account: Option<String>, text: String| {
        at.map(|at| RelatedRecord {
            at,
            until: None,
            kind: RelatedKind::File,
            account,
            text,
            source: path.to_owned(),
        })
    };
    let Some(entry) = files.look(path)? else {
        let folder =
            path.rsplit_once('/').map_or("/", |(folder, _)| if folder.is_empty() { "/" } else { folder });
        let Some(entry) = files.look(folder)? else { return Ok(Vec::new()) };
        let text = format!("is not there; an entry of {folder} last came, went or was renamed (mtime)");
        return Ok(record(modified(&entry), None, text).into_iter().collect());
    };
    let (owner, group) = names(entry.uid, entry.gid);
    let owned =
        format!("owner {owner}, group {group}, permissions {:04o}, {} bytes", entry.permissions, entry.size);
    let contents = record(modified(&entry), None, format!("its contents were last changed (mtime); {owned}"));
    let any = record(
        time(entry.stamp.ctime_ns),
        None,
        "its contents, owner, permissions or name were last changed (ctime, which nobody can set)".to_owned(),
    );
    Ok(contents.into_iter().chain(any).collect())
}

fn modified(entry: &Entry) -> Option<Timestamp> {
    time(entry.stamp.mtime_ns)
}

fn time(nanoseconds: i64) -> Option<Timestamp> {
    Timestamp::from_nanosecond(nanoseconds.into()).ok()
}
