//! Prepares the demo: three machines of Skerry Line as private roots, brought in by the real agent, then disturbed as
//! people disturb machines.

use constans_world::{PrivateRoot, UNPRIVILEGED, build_repository, is_root, kits};
use std::fs;
use std::io;
use std::os::unix::fs::PermissionsExt as _;
use std::os::unix::process::CommandExt as _;
use std::path::{Path, PathBuf};
use std::process::{Command, ExitCode, Stdio};

/// One machine of the demo.
struct Machine {
    name: &'static str,
    kit: &'static str,
    labels: &'static [&'static str],
}

const MACHINES: &[Machine] = &[
    Machine { name: "kiosk-auken-1", kit: "kiosk-floor", labels: &["role=kiosk", "site=auken"] },
    Machine { name: "gate-auken-1", kit: "gate-reader", labels: &["role=gate", "site=auken"] },
    Machine { name: "bridge-tern", kit: "ship-gateway", labels: &["role=bridge", "ship=tern"] },
];

fn main() -> ExitCode {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let [folder, programs] = arguments.as_slice() else {
        eprintln!("usage: constans-world FOLDER PROGRAMS");
        return ExitCode::from(2);
    };
    match prepare(Path::new(folder), Path::new(programs)) {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => {
            eprintln!("error: the demo cannot be prepared: {error}\nhint: make demo-reset, then make demo again");
            ExitCode::FAILURE
        }
    }
}

fn prepare(folder: &Path, programs: &Path) -> io::Result<()> {
    fs::create_dir_all(folder)?;
    fs::set_permissions(folder, fs::Permissions::from_mode(0o755))?;
    copy_all(&kits(), &folder.join("kits"))?;
    fs::copy(programs.join("constans-agent"), folder.join("constans-agent.new"))?;
    fs::rename(folder.join("constans-agent.new"), folder.join("constans-agent"))?;
    if !folder.join("packages/Packages").exists() {
        println!("building the packages of Skerry Line");
        build_repository(&folder.join("packages"))?;
    }
    for machine in MACHINES {
        let place = folder.join(machine.name);
        if place.join("ready").exists() {
            println!("{} is there already", machine.name);
            continue;
        }
        println!("making {} and bringing in {}", machine.name, machine.kit);
        let _ = fs::remove_dir_all(&place);
        let root = PrivateRoot::make(&place.join("root"), &folder.join("packages"))?;
        bring_in(folder, &root, machine)?;
        disturb(&root, machine.name)?;
        fs::write(place.join("arguments"), arguments_of(folder, machine).join("\n") + "\n")?;
        fs::write(place.join("ready"), "")?;
    }
    Ok(())
}

fn arguments_of(folder: &Path, machine: &Machine) -> Vec<String> {
    let kit = folder.join("kits").join(machine.kit);
    let labels = machine.labels.iter().flat_map(|label| ["--label".to_owned(), (*label).to_owned()]);
    ["--kit".to_owned(), kit.display().to_string()].into_iter().chain(labels).collect()
}

fn bring_in(folder: &Path, root: &PrivateRoot, machine: &Machine) -> io::Result<()> {
    let mut command = Command::new(folder.join("constans-agent"));
    command.arg("enforce").arg("--yes").args(arguments_of(folder, machine)).arg("--root").arg(root.path()).stdin(Stdio::null());
    if is_root() {
        command.uid(UNPRIVILEGED).gid(UNPRIVILEGED);
    }
    let output = command.output()?;
    if output.status.success() {
        return Ok(());
    }
    let said = String::from_utf8_lossy(&output.stdout).into_owned() + &String::from_utf8_lossy(&output.stderr);
    Err(io::Error::other(format!("the agent did not bring in {}:\n{said}", machine.name)))
}

/// Does what people do to machines.
fn disturb(root: &PrivateRoot, name: &str) -> io::Result<()> {
    match name {
        "kiosk-auken-1" => {
            let conf = root.read("/etc/kiosk/shell.conf")?;
            root.write("/etc/kiosk/shell.conf", &conf.replace("idle = 90", "idle = 600"))
        }
        "gate-auken-1" => {
            let tariffs = root.read("/etc/gate/tariffs.csv")?;
            root.write("/etc/gate/tariffs.csv", &tariffs.replace("4.20", "4.10"))
        }
        _ => Ok(()),
    }
}

fn copy_all(from: &Path, to: &PathBuf) -> io::Result<()> {
    fs::create_dir_all(to)?;
    for entry in fs::read_dir(from)? {
        let entry = entry?;
        let target = to.join(entry.file_name());
        if entry.path().is_dir() {
            copy_all(&entry.path(), &target)?;
        } else {
            fs::copy(entry.path(), target)?;
        }
    }
    Ok(())
}
