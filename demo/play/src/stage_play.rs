//! What happens at Skerry Line, so that every page has something true to show: nothing is written into the database, the
//! real agents and the real client do it all.

use crate::fleet::Fleet;
use constans_world::PrivateRoot;
use serde_json::Value;
use std::fs;
use std::io;
use std::path::Path;
use std::time::{Duration, Instant};

/// One machine of the demo.
struct Machine {
    name: &'static str,
    labels: &'static [&'static str],
    part: Part,
}

/// What a machine does in the demo.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Part {
    /// Its agent goes on as a daemon.
    Stays,
    /// Its agent stops after a first round: the ship is at sea.
    AtSea,
    /// It was approved, and its agent was never started.
    NeverReports,
    /// It asked to join, and nobody has answered.
    Waits,
}

const MACHINES: &[Machine] = &[
    Machine { name: "kiosk-auken-1", labels: &["role=kiosk", "site=auken"], part: Part::Stays },
    Machine { name: "kiosk-brisk-1", labels: &["role=kiosk", "site=brisk"], part: Part::Stays },
    Machine { name: "gate-auken-1", labels: &["role=gate", "site=auken"], part: Part::Stays },
    Machine { name: "gate-brisk-1", labels: &["role=gate", "site=brisk"], part: Part::Stays },
    Machine { name: "bridge-tern", labels: &["role=bridge", "ship=tern"], part: Part::AtSea },
    Machine { name: "depot-print-1", labels: &["role=depot"], part: Part::NeverReports },
    Machine { name: "kiosk-corran-1", labels: &["role=kiosk", "site=corran"], part: Part::Waits },
];

/// Releases of `quay-base`, which every node has.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Release {
    /// 1.3.0, with the first releases of all other kits.
    First,
    /// 1.4.0: another banner.
    Second,
    /// 1.5.0: yet another.
    Third,
}

impl Release {
    /// Returns its name.
    pub fn name(self) -> String {
        format!("quay-base@{}", self.version())
    }

    fn version(self) -> &'static str {
        match self {
            Self::First => "1.3.0",
            Self::Second => "1.4.0",
            Self::Third => "1.5.0",
        }
    }

    fn banner(self) -> &'static str {
        match self {
            Self::First => "Skerry Line",
            Self::Second => "Skerry Line, five islands",
            Self::Third => "Skerry Line, five islands, one fare",
        }
    }
}

const STAGES: [&str; 2] = ["harbour", "open-water"];

/// Plays the whole the first time; later only starts the agents again. Without a past, all that was published in it comes first.
pub fn perform(fleet: &mut Fleet, has_past: bool) -> io::Result<()> {
    let played = fleet.folder().join("played");
    if !played.exists() {
        println!("publishing the kits of Skerry Line");
        let token = fleet.token().to_owned();
        if !has_past {
            publish(fleet, &token, Release::First)?;
            make_stages(fleet, &token)?;
            publish(fleet, &token, Release::Second)?;
            for stage in STAGES {
                fleet.client(&["stage", "serve", stage, &Release::Second.name()])?;
            }
            set_groups(fleet, &token)?;
            set_controls(fleet, &token)?;
        }
        // The next release of what every node has, which only the harbour has so far.
        publish(fleet, &token, Release::Third)?;
        fleet.client(&["stage", "serve", "harbour", &Release::Third.name()])?;
        for machine in MACHINES {
            join_and_run(fleet, machine)?;
        }
        disturb(fleet)?;
        set_inventory(fleet)?;
        fs::write(played, "")?;
    }
    for machine in MACHINES.iter().filter(|machine| machine.part == Part::Stays) {
        fleet.start_agent(machine.name)?;
    }
    Ok(())
}

/// Publishes a release; with the first one all other kits.
pub fn publish(fleet: &Fleet, token: &str, release: Release) -> io::Result<()> {
    let kits = fleet.folder().join("kits");
    if release == Release::First {
        for kit in ["quay-base", "kiosk-floor", "gate-reader", "ship-gateway"] {
            fleet.client_by(token, &["kit", "publish", path(&kits.join(kit))])?;
        }
        return Ok(());
    }
    let kit = kits.join("quay-base");
    for (file, from, to) in [
        ("kit.toml", Release::First.version(), release.version()),
        ("copies/issue", Release::First.banner(), release.banner()),
    ] {
        let original = fs::read_to_string(constans_world::kits().join("quay-base").join(file))?;
        fs::write(kit.join(file), original.replace(from, to))?;
    }
    fleet.client_by(token, &["kit", "publish", path(&kit)]).map(|_| ())
}

/// Makes the stages, which serve the first release of each kit.
pub fn make_stages(fleet: &Fleet, token: &str) -> io::Result<()> {
    let first = Release::First.name();
    let served = [first.as_str(), "kiosk-floor@1.0.0", "gate-reader@2.1.0", "ship-gateway@0.9.0"];
    for stage in STAGES {
        fleet.client_by(token, &["stage", "make", stage])?;
        fleet.client_by(token, &[&["stage", "serve", stage], served.as_slice()].concat())?;
    }
    Ok(())
}

/// Sets the groups, with what they are assigned.
pub fn set_groups(fleet: &Fleet, token: &str) -> io::Result<()> {
    let groups = fleet.folder().join("groups");
    fs::create_dir_all(&groups)?;
    for (name, text) in GROUPS {
        let file = groups.join(format!("{name}.toml"));
        fs::write(&file, text)?;
        fleet.client_by(token, &["group", "set", path(&file)])?;
    }
    Ok(())
}

/// Sets the catalogue of controls, if it is not set.
pub fn set_controls(fleet: &Fleet, token: &str) -> io::Result<()> {
    let file = fleet.folder().join("controls.toml");
    fs::write(&file, CONTROLS)?;
    fleet
        .client_by(token, &["control", "set", path(&file), "--because", "the controls of this year"])
        .map(|_| ())
}

/// Sets the inventory: the nodes of the fleet, and two machines that never joined.
fn set_inventory(fleet: &Fleet) -> io::Result<()> {
    let listed: Value = serde_json::from_str(&fleet.client(&["node", "list", "--output", "json"])?)?;
    let nodes = listed["nodes"].as_array().or(listed.as_array()).into_iter().flatten();
    let mut lines = vec!["name,place,bought".to_owned()];
    lines.extend(nodes.filter_map(|node| {
        let name = node["name"].as_str()?;
        Some(format!("{name},{},2024", name.split('-').nth(1).unwrap_or_default()))
    }));
    lines
        .extend(["gate-eldrey-49,\"eldrey, west quay\",2017", "depot-print-9,depot,2016"].map(str::to_owned));
    let file = fleet.folder().join("inventory.csv");
    fs::write(&file, lines.join("\r\n") + "\r\n")?;
    fleet.client(&["asset", "set", path(&file)]).map(|_| ())
}

const CONTROLS: &str = include_str!("../../controls.toml");

const GROUPS: [(&str, &str); 6] = [
    (
        "everyone",
        "name = \"everyone\"\n\n[[assignments]]\nkit = \"quay-base\"\nbaseline = \"login\"\nsatisfies = [\"SK-6\"]\n\n[settings]\nmode = \"enforce\"\ninterval_secs = 15\n",
    ),
    (
        "kiosks",
        "name = \"kiosks\"\npriority = 10\nfilter = \"labels.role == 'kiosk'\"\n\n[[assignments]]\nkit = \"kiosk-floor\"\nbaseline = \"kiosk-lockdown\"\n\n[parameters]\n\"kiosk-floor/kiosk-lockdown.idle_seconds\" = 45\n",
    ),
    (
        "gates",
        "name = \"gates\"\npriority = 10\nfilter = \"labels.role == 'gate'\"\n\n[[assignments]]\nkit = \"gate-reader\"\nbaseline = \"reader\"\nsatisfies = [\"SK-12\"]\n\n[settings]\ngrace_secs = 7200\nzone = \"Europe/Oslo\"\nrun_interval_secs = 20\nrestart = \"in_window\"\n",
    ),
    (
        "bridges",
        "name = \"bridges\"\npriority = 10\nfilter = \"labels.role == 'bridge'\"\n\n[[assignments]]\nkit = \"ship-gateway\"\nbaseline = \"store-and-forward\"\n\n[settings]\ninterval_secs = 5\n",
    ),
    (
        "brisk-first",
        "name = \"brisk-first\"\npriority = 20\nfilter = \"labels.site == 'brisk'\"\nstage = \"harbour\"\n",
    ),
    (
        "night-trial",
        "name = \"night-trial\"\npriority = 40\nfilter = \"node.name in ['kiosk-corran-20', 'kiosk-corran-22', 'kiosk-corran-24', 'gate-corran-21', 'gate-corran-23', 'gate-corran-25']\"\n\n[settings]\nmode = \"observe\"\n",
    ),
];

fn join_and_run(fleet: &Fleet, machine: &Machine) -> io::Result<()> {
    println!("joining {}", machine.name);
    let place = fleet.folder().join(machine.name);
    let _ = fs::remove_dir_all(&place);
    // The package source of this one kiosk is empty: what it is to install cannot be had.
    let source = if machine.name == "kiosk-brisk-1" {
        fleet.folder().join("no-packages")
    } else {
        fleet.folder().join("packages")
    };
    fs::create_dir_all(&source)?;
    if !source.join("Packages").exists() {
        fs::write(source.join("Packages"), "")?;
    }
    PrivateRoot::make(&place.join("root"), &source)?;
    if machine.name == "gate-auken-1" {
        // As Debian's packages leave it when they need a restart.
        fs::create_dir_all(place.join("root/run"))?;
        fs::write(place.join("root/run/reboot-required"), "")?;
        fs::write(place.join("root/run/reboot-required.pkgs"), "libc6\n")?;
    }
    let labels: Vec<&str> = machine.labels.iter().flat_map(|label| ["--label", label]).collect();
    let invitation = fleet.client(&[&["invite", "--for", "1h"], labels.as_slice()].concat())?;
    let file = place.join("invitation");
    fs::write(&file, invitation)?;
    let join = ["join", "--invitation-file", path(&file), "--name", machine.name, "--wait", "0"];
    // Nobody approved it yet, which the agent says by its exit status.
    let _ = fleet.on(machine.name, &join);
    if machine.part == Part::Waits {
        return Ok(());
    }
    fleet.client(&["join", "approve", machine.name])?;
    if machine.part != Part::NeverReports {
        fleet.on(machine.name, &join)?;
        fleet.on(machine.name, &["daemon", "--once"])?;
    }
    Ok(())
}

/// Does what people do to machines, and lets the agents find it.
fn disturb(fleet: &Fleet) -> io::Result<()> {
    println!("editing nodes by hand");
    let edit = |node: &str, file: &str, from: &str, to: &str| -> io::Result<()> {
        let path = fleet.folder().join(node).join("root").join(file);
        let text = fs::read_to_string(&path)?;
        if !text.contains(from) {
            return Err(io::Error::other(format!("{} does not hold `{from}`", path.display())));
        }
        fs::write(path, text.replace(from, to))
    };
    edit("gate-auken-1", "etc/gate/tariffs.csv", "4.20", "4.10")?;
    fleet.on("gate-auken-1", &["daemon", "--once"])?;
    edit("kiosk-auken-1", "etc/kiosk/shell.conf", "idle = 45", "idle = 600")?;
    fleet.on("kiosk-auken-1", &["daemon", "--once"])?;
    let end = Instant::now() + Duration::from_secs(30);
    while !fleet
        .client(&["node", "list", "--filter", "node.status == 'drift_found'"])?
        .contains("gate-auken-1")
    {
        if Instant::now() > end {
            return Err(io::Error::other("the changed tariffs of gate-auken-1 were not found"));
        }
        std::thread::sleep(Duration::from_millis(200));
    }
    Ok(())
}

/// Returns a path as an argument.
pub fn path(path: &Path) -> &str {
    path.to_str().unwrap_or_default()
}
