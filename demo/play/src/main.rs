//! The demo: a private PostgreSQL, the server, and the nodes of Skerry Line, simulated ones among them, all on loopback, until Ctrl-C.

mod crowd;
mod fleet;
mod past;
mod stage_play;

use constans_world::{Postgres, build_repository, kits};
use crowd::LivingCrowd;
use fleet::{Fleet, Ports};
use sha2::{Digest as _, Sha256};
use std::fs;
use std::io;
use std::os::unix::fs::PermissionsExt as _;
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, mpsc};
use std::time::Instant;

fn main() -> ExitCode {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let [folder, programs] = arguments.as_slice() else {
        eprintln!("usage: constans-demo FOLDER PROGRAMS");
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
    rustls::crypto::ring::default_provider()
        .install_default()
        .map_err(|_| io::Error::other("another TLS provider was installed before"))?;
    let began = Instant::now();
    let (told, stop) = mpsc::channel();
    let is_past = Arc::new(AtomicBool::new(false));
    let stops_at_once = is_past.clone();
    ctrlc::set_handler(move || {
        if stops_at_once.load(Ordering::Relaxed) {
            println!("\nstopped: make demo begins the simulated days anew");
            // PostgreSQL and the server end with this program.
            std::process::exit(130);
        }
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
    begin_anew_unless_made_by_this_version(folder)?;
    println!("starting PostgreSQL and the server");
    let postgres = Postgres::start(&folder.join("postgres"))?;
    let simulated = past::size_of_environment()?;
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build()?;
    if simulated > 0 && !folder.join("played").exists() {
        let clock = past::clock(folder)?;
        let fleet = Fleet::start(folder, &postgres, ports, Some(clock.path()))?;
        is_past.store(true, Ordering::Relaxed);
        past::tell(&fleet, clock, simulated, &runtime)?;
        is_past.store(false, Ordering::Relaxed);
    }
    let has_past = past::kept_in(folder).exists();
    let mut fleet = Fleet::start(folder, &postgres, ports, None)?;
    stage_play::perform(&mut fleet, has_past)?;
    let crowd = (has_past && simulated > 0).then(|| LivingCrowd::begin(&fleet, &runtime)).transpose()?;
    println!("ready after {} s", began.elapsed().as_secs());
    print!("{}", fleet.words()?);
    // It ends by Ctrl-C, or when a part of it does.
    while stop.recv_timeout(std::time::Duration::from_secs(1)).is_err() {
        fleet.check_alive()?;
    }
    println!("\nstopping what this demo started; make demo goes on where it was");
    drop(crowd);
    drop(fleet);
    drop(postgres);
    Ok(())
}

/// Removes what another version made, whose database this one may not read, and what was not made to the end.
fn begin_anew_unless_made_by_this_version(folder: &Path) -> io::Result<()> {
    let made_by = folder.join("made-by");
    let version = migrations_digest()?;
    let is_made = folder.join("played").exists();
    if is_made && fs::read_to_string(&made_by).is_ok_and(|by| by == version) {
        return Ok(());
    }
    if folder.join("postgres").exists() {
        let why = if is_made { "was made by another version" } else { "was not made to the end" };
        println!("the data of this demo {why}: it is made anew");
    }
    for part in ["postgres", "protected"] {
        match fs::remove_dir_all(folder.join(part)) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => return Err(error),
            _ => {}
        }
    }
    for part in [folder.join("played"), past::kept_in(folder)] {
        match fs::remove_file(part) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => return Err(error),
            _ => {}
        }
    }
    fs::write(made_by, version)
}

/// The SHA-256 of the names and texts of the server's migrations.
fn migrations_digest() -> io::Result<String> {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../crates/server/migrations");
    let mut files: Vec<PathBuf> =
        fs::read_dir(folder)?.map(|entry| Ok(entry?.path())).collect::<io::Result<_>>()?;
    files.sort();
    let mut hash = Sha256::new();
    for file in files {
        hash.update(file.file_name().unwrap_or_default().as_encoded_bytes());
        hash.update(fs::read(file)?);
    }
    Ok(hash.finalize().iter().map(|byte| format!("{byte:02x}")).collect())
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
