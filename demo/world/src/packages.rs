//! The packages of Skerry Line: built by dpkg-deb from a few lines into a repository that apt reads from a folder.

use sha2::{Digest as _, Sha256};
use std::fmt::Write as _;
use std::fs;
use std::io;
use std::os::unix::fs::PermissionsExt as _;
use std::path::Path;
use std::process::Command;

/// One version of one package.
#[derive(Debug, Clone, Copy)]
pub struct Package {
    /// Its name.
    pub name: &'static str,
    /// Its version.
    pub version: &'static str,
    /// What it depends on, as a control file says it.
    pub depends: &'static str,
    /// Whether it brings a service.
    pub has_service: bool,
    /// What its post-installation script does beyond nothing.
    pub after_install: &'static str,
    /// A configuration file that it brings, and its contents.
    pub settings: Option<(&'static str, &'static str)>,
}

/// A package that brings a program and no more.
pub const fn package(name: &'static str, version: &'static str) -> Package {
    Package { name, version, depends: "", has_service: false, after_install: "", settings: None }
}

const fn service(name: &'static str, version: &'static str) -> Package {
    Package { has_service: true, ..package(name, version) }
}

/// All of them.
pub const PACKAGES: &[Package] = &[
    Package { depends: "quay-fonts", ..service("kiosk-shell", "3.1.0") },
    Package { depends: "quay-fonts", ..service("kiosk-shell", "3.2.1") },
    Package { depends: "quay-fonts (>= 1.1)", ..service("kiosk-shell", "3.2.4") },
    package("quay-fonts", "1.0"),
    package("quay-fonts", "1.1"),
    service("gate-reader", "2.1.4"),
    service("gate-reader", "2.2.0"),
    Package { settings: Some(("/etc/quay-games.conf", "high_score = 0\n")), ..package("quay-games", "1.0") },
    Package {
        settings: Some(("/etc/quay-games.conf", "high_score = 0\nsound = \"on\"\n")),
        ..package("quay-games", "1.1")
    },
    Package { settings: Some(("/etc/issue", "Welcome to quay-motd\n")), ..package("quay-motd", "1.0") },
    Package {
        after_install: "echo 'no voucher printer is connected' >&2\nexit 1\n",
        ..package("voucher-driver", "0.4")
    },
];

/// Builds the repository: a folder for apt's `file:` scheme.
///
/// # Errors
///
/// Returns what could not be written, or what dpkg-deb said.
pub fn build_repository(folder: &Path) -> io::Result<()> {
    build_packages(folder, PACKAGES)
}

/// Builds a repository of these packages; what was built into the folder before stays in its pool.
///
/// # Errors
///
/// Returns what could not be written, or what dpkg-deb said.
pub fn build_packages(folder: &Path, packages: &[Package]) -> io::Result<()> {
    fs::create_dir_all(folder.join("pool"))?;
    let mut index = String::new();
    for package in packages {
        let deb = format!("pool/{}_{}_all.deb", package.name, package.version);
        let tree = folder.join("build").join(format!("{}-{}", package.name, package.version));
        let control = lay_out(package, &tree)?;
        run(Command::new("dpkg-deb")
            .args(["--root-owner-group", "-Znone", "--build"])
            .arg(&tree)
            .arg(folder.join(&deb)))?;
        let bytes = fs::read(folder.join(&deb))?;
        let _ = writeln!(
            index,
            "{}Filename: {deb}\nSize: {}\nSHA256: {}\n",
            control,
            bytes.len(),
            hex(&Sha256::digest(&bytes))
        );
    }
    fs::remove_dir_all(folder.join("build"))?;
    fs::write(folder.join("Packages"), &index)?;
    let sum = hex(&Sha256::digest(index.as_bytes()));
    fs::write(
        folder.join("Release"),
        format!(
            "Origin: Skerry Line\nSuite: quay\nDate: Thu, 01 Jan 2026 00:00:00 UTC\nSHA256:\n {sum} {} Packages\n",
            index.len()
        ),
    )
}

/// Lays out one package and returns its control file.
fn lay_out(package: &Package, tree: &Path) -> io::Result<String> {
    let Package { name, version, depends, .. } = package;
    fs::create_dir_all(tree.join("DEBIAN"))?;
    let depends = if depends.is_empty() { String::new() } else { format!("Depends: {depends}\n") };
    let control = format!(
        "Package: {name}\nVersion: {version}\nArchitecture: all\nMaintainer: Skerry Line <ops@skerry.example>\n{depends}Description: {name} of Skerry Line\n"
    );
    fs::write(tree.join("DEBIAN/control"), &control)?;
    // The indexes of lanes and tariffs are written below the root that the agent names.
    let program = format!(
        "#!/bin/sh\ncase \"$1\" in --index) mkdir -p \"$CONSTANS_ROOT/var/lib/{name}\" && echo {version} >> \"$CONSTANS_ROOT/var/lib/{name}/index\";; --serve) exec sleep infinity;; *) echo {name} {version};; esac\n"
    );
    write_program(&tree.join(format!("usr/bin/{name}")), &program)?;
    write_program(&tree.join("DEBIAN/postinst"), &format!("#!/bin/sh\n{}", package.after_install))?;
    if package.has_service {
        let unit = format!(
            "[Unit]\nDescription={name} {version}\n[Service]\nExecStart=/usr/bin/{name} --serve\n[Install]\nWantedBy=multi-user.target\n"
        );
        write(&tree.join(format!("lib/systemd/system/{name}.service")), &unit)?;
    }
    if let Some((path, contents)) = package.settings {
        write(&tree.join(path.trim_start_matches('/')), contents)?;
        fs::write(tree.join("DEBIAN/conffiles"), format!("{path}\n"))?;
    }
    Ok(control)
}

fn write(path: &Path, contents: &str) -> io::Result<()> {
    fs::create_dir_all(path.parent().unwrap_or(Path::new("/")))?;
    fs::write(path, contents)
}

fn write_program(path: &Path, contents: &str) -> io::Result<()> {
    write(path, contents)?;
    fs::set_permissions(path, fs::Permissions::from_mode(0o755))
}

fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

pub(crate) fn run(command: &mut Command) -> io::Result<()> {
    let output = command.output()?;
    if output.status.success() {
        return Ok(());
    }
    let message = String::from_utf8_lossy(&output.stderr).into_owned();
    Err(io::Error::other(format!("{command:?} failed: {message}")))
}
