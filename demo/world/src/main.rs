//! The demo: a private PostgreSQL, the server, and the nodes of Skerry Line, all on loopback, until Ctrl-C.

mod fleet;
mod stage_play;

use constans_world::{Postgres, build_repository, kits};
use fleet::{Fleet, Ports};
use std::fs;
use std::io;
use std::os::unix::fs::PermissionsExt as _;
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use std::sync::mpsc;
use std::time::Instant;

fn main() -> ExitCode {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let [folder, programs] = arguments.as_slice() else {
        eprintln!("usage: constans-world FOLDER PROGRAMS");
        return ExitCode::from(2);
    };
    match run(Path::new(folder), Path::new(programs)) {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => {
            eprintln!(
                "error: the demo ended: {error}\nhint: its logs lie in {folder}; make demo-reset, then make demo, begins anew"
            );
            ExitCode::FAILURE
        }
    }
}

fn run(folder: &Path, programs: &Path) -> io::Result<()> {
    let began = Instant::now();
    let (told, stop) = mpsc::channel();
    ctrlc::set_handler(move || {
        let _ = told.send(());
    })
    .map_err(io::Error::other)?;
    let ports = Ports::of_environment()?;
    ports.check_free()?;
    fs::create_dir_all(folder)?;
    fs::set_permissions(folder, fs::Permissions::from_mode(0o755))?;
    copy_all(&kits(), &folder.join("kits"))?;
    for program in ["constans-agent", "constans", "constans-server"] {
        fs::copy(programs.join(program), folder.join("new"))?;
        fs::rename(folder.join("new"), folder.join(program))?;
    }
    if !folder.join("packages/Packages").exists() {
        println!("building the packages of Skerry Line");
        build_repository(&folder.join("packages"))?;
    }
    println!("starting PostgreSQL and the server");
    let postgres = Postgres::start(&folder.join("postgres"))?;
    let mut fleet = Fleet::start(folder, &postgres, ports)?;
    stage_play::perform(&mut fleet)?;
    println!("ready after {} s", began.elapsed().as_secs());
    print!("{}", fleet.words()?);
    // It ends by Ctrl-C, or when a part of it does.
    while stop.recv_timeout(std::time::Duration::from_secs(1)).is_err() {
        fleet.check_alive()?;
    }
    println!("\nstopping what this demo started; make demo goes on where it was");
    drop(fleet);
    drop(postgres);
    Ok(())
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
