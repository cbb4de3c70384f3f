//! CA certificates in the system's store.

use super::{put, take_away};
use crate::error::HostError;
use crate::files::Ownership;
use crate::machine::{InspectionContext, Machine, NotSeen, Work, seen};
use crate::native::Native;
use constans_core::compare::Found;
use constans_core::digest::of_contents;
use constans_core::kit::Gone;
use constans_core::run::Seen;
use constans_core::state::Clause;

/// A store of trusted certificates: where new ones are put, what is made of them, and by which program.
struct Store {
    folder: &'static str,
    end: &'static str,
    bundle: &'static str,
    program: &'static str,
}

/// The program that takes all locations as options.
const DEBIANS: &str = "update-ca-certificates";
const STORES: [Store; 2] = [
    Store {
        folder: "/usr/local/share/ca-certificates",
        end: "crt",
        bundle: "/etc/ssl/certs/ca-certificates.crt",
        program: DEBIANS,
    },
    Store {
        folder: "/etc/pki/ca-trust/source/anchors",
        end: "pem",
        bundle: "/etc/pki/ca-trust/extracted/pem/tls-ca-bundle.pem",
        program: "update-ca-trust",
    },
];

fn store(machine: &Machine) -> Result<&'static Store, NotSeen> {
    for store in &STORES {
        for folder in ["/usr/sbin", "/usr/bin"] {
            if machine.files.look(&format!("{folder}/{}", store.program))?.is_none() {
                continue;
            }
            if machine.acted_on.is_private_root() && store.program != DEBIANS {
                return Err(NotSeen::Unsupported(format!(
                    "{} acts on the machine itself, not below a private root",
                    store.program
                )));
            }
            return Ok(store);
        }
    }
    Err(NotSeen::Unsupported(
        "no store of trusted certificates is installed (Debian's package ca-certificates)".to_owned(),
    ))
}

/// Returns where the certificate of this name is put; none if there is no store.
pub(crate) fn path_of(machine: &Machine, name: &str) -> Option<String> {
    store(machine).ok().map(|store| store.path(name))
}

/// Returns the certificates that were added to those of the system.
pub(super) fn names(machine: &Machine) -> Result<Vec<String>, NotSeen> {
    let store = store(machine)?;
    let files = machine.files.list(store.folder)?.unwrap_or_default();
    Ok(files
        .iter()
        .filter_map(|file| file.strip_suffix(store.end)?.strip_suffix('.'))
        .map(str::to_owned)
        .collect())
}

impl Store {
    fn path(&self, name: &str) -> String {
        format!("{}/{name}.{}", self.folder, self.end)
    }
}

pub(super) fn inspect(
    machine: &Machine,
    clause: &Clause,
    look: &InspectionContext<'_>,
) -> Result<Seen, NotSeen> {
    let store = store(machine)?;
    let wanted = clause.text("content").unwrap_or_default();
    let content_bytes = look.contents.get(wanted).map(|bytes| bytes.len() as u64);
    let seen = |found| Ok(Seen { content_bytes, ..seen(found) });
    let Some(pem) = machine.files.read(&store.path(clause.name()))? else { return seen(Found::absent()) };
    let bundle = certificates(&machine.files.read_text(store.bundle)?);
    let all = certificates(&String::from_utf8_lossy(&pem));
    if all.is_empty() || !all.iter().all(|certificate| bundle.contains(certificate)) {
        return seen(Found::half("in its folder, not in the store that programs read"));
    }
    seen(Found {
        size: Some(pem.len() as u64),
        ..Found::present().with("content", of_contents(&pem).as_str())
    })
}

/// Returns the certificates of a PEM text, without their line ends.
pub(super) fn certificates(pem: &str) -> Vec<String> {
    let bodies = pem
        .split("-----BEGIN CERTIFICATE-----")
        .skip(1)
        .filter_map(|rest| rest.split("-----END CERTIFICATE-----").next());
    bodies.map(|body| body.split_whitespace().collect()).collect()
}

pub(super) fn correct(machine: &Machine, clause: &Clause, work: &mut Work<'_>) -> Result<(), HostError> {
    let store = store(machine).map_err(|not_seen| match not_seen {
        NotSeen::Unsupported(why) => HostError::new(why),
        NotSeen::Failed(error) => error,
    })?;
    let path = store.path(clause.name());
    if clause.gone == Gone::No {
        let name = clause.text("content").unwrap_or_default();
        let pem = work
            .contents
            .get(name)
            .ok_or_else(|| HostError::new(format!("the contents {name} are missing yet")))?
            .to_vec();
        if certificates(&String::from_utf8_lossy(&pem)).is_empty() {
            return Err(HostError::new("the contents hold no certificate in PEM form")
                .remedy("they begin with -----BEGIN CERTIFICATE-----"));
        }
        machine.files.make_way(&path)?;
        put(
            machine,
            work,
            &clause.address,
            &path,
            &pem,
            Ownership { permissions: Some(0o644), ..Ownership::default() },
        )?;
    } else {
        take_away(machine, work, &clause.address, &path)?;
    }
    let ended = Native::new(store.program, folders_below(machine, store)).must()?;
    work.done.native.push(ended.step);
    Ok(())
}

/// Sets all paths below a private root. Debian's program takes each folder by itself, whatever its version; an
/// option that it does not know it takes for a cry for help, and ends well.
fn folders_below(machine: &Machine, store: &Store) -> Vec<String> {
    if !machine.acted_on.is_private_root() {
        return Vec::new();
    }
    let folders = [
        ("--certsconf", "/etc/ca-certificates.conf"),
        ("--certsdir", "/usr/share/ca-certificates"),
        ("--localcertsdir", store.folder),
        ("--etccertsdir", "/etc/ssl/certs"),
        ("--hooksdir", "/etc/ca-certificates/update.d"),
    ];
    folders
        .iter()
        .flat_map(|(option, folder)| {
            [(*option).to_owned(), machine.files.outside(folder).display().to_string()]
        })
        .collect()
}
