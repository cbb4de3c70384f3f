//! `make bench`: figures compared with their budgets, as ratios measured side by side in one run.
//!
//! Prints a table and writes it as JSON to the file that is named; words after it choose some of the works.

mod check_ins;
mod console;
mod fleet;
mod node;
mod past;
mod waking;

use constans_core::check::{Surroundings, check};
use constans_core::digest::DigestKey;
use constans_core::document::KitFiles;
use constans_core::filter::NodeView;
use constans_core::kit::Kit;
use constans_core::state::{Assigned, Conditions, ResolveInput, resolve};
use constans_folder::on_large_stack;
use serde_json::json;
use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::time::{Duration, Instant};

/// As in the agent.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// One figure beside its budget.
struct Figure {
    work: &'static str,
    against: &'static str,
    measured: f64,
    budget: f64,
    unit: &'static str,
    bound: Bound,
}

/// On which side of its budget a figure has to be.
#[derive(Clone, Copy, PartialEq)]
enum Bound {
    AtMost,
    AtLeast,
}

impl Figure {
    fn ratio(
        work: &'static str,
        against: &'static str,
        measured: Duration,
        beside: Duration,
        budget: f64,
    ) -> Self {
        Self {
            work,
            against,
            measured: measured.as_secs_f64() / beside.as_secs_f64(),
            budget,
            unit: "×",
            bound: Bound::AtMost,
        }
    }

    fn is_met(&self) -> bool {
        match self.bound {
            Bound::AtMost => self.measured <= self.budget,
            Bound::AtLeast => self.measured >= self.budget,
        }
    }
}

fn main() {
    let only: Vec<String> = std::env::args().skip(2).collect();
    type Work = fn() -> Vec<Figure>;
    let works: [(&str, Work); 10] = [
        ("checking", checking),
        ("resolving", resolving),
        ("files", node::files),
        ("packages", node::packages),
        ("agent", node::agent),
        ("console", console::first_load),
        ("check-ins", check_ins::check_ins),
        ("fleet", fleet::at_scale),
        ("compliance", past::compliance),
        ("waking", waking::waking),
    ];
    let wanted = works.iter().filter(|(name, _)| only.is_empty() || only.iter().any(|word| word == name));
    let figures: Vec<Figure> = on_large_stack(|| wanted.flat_map(|(_, work)| work()).collect());
    println!("{:<52} {:<38} {:>10} {:>10}  met", "work", "measured against", "measured", "budget");
    for figure in &figures {
        println!(
            "{:<52} {:<38} {:>8.2} {} {}{:>7.2} {}  {}",
            figure.work,
            figure.against,
            figure.measured,
            figure.unit,
            if figure.bound == Bound::AtMost { "≤" } else { "≥" },
            figure.budget,
            figure.unit,
            if figure.is_met() { "yes" } else { "NO" }
        );
    }
    if let Some(path) = std::env::args().nth(1) {
        let all: Vec<_> = figures
            .iter()
            .map(|figure| json!({ "work": figure.work, "against": figure.against, "measured": figure.measured, "budget": figure.budget, "unit": figure.unit, "met": figure.is_met() }))
            .collect();
        if let Err(error) = std::fs::write(&path, format!("{:#}\n", json!(all))) {
            eprintln!("error: cannot write {path}: {error}\nhint: name a file that you may write");
            std::process::exit(1);
        }
    }
}

/// Returns the shortest of several times of each work, done in turn: what disturbs only makes them longer. Short works are
/// done more often, for a second at the least.
fn best<const N: usize>(mut works: [&mut dyn FnMut(); N]) -> [Duration; N] {
    let mut shortest = [Duration::MAX; N];
    let first = Instant::now();
    for _ in (0..).take_while(|round| *round < 15 || first.elapsed() < Duration::from_secs(1)) {
        for (work, shortest) in works.iter_mut().zip(&mut shortest) {
            let began = Instant::now();
            work();
            *shortest = began.elapsed().min(*shortest);
        }
    }
    shortest
}

/// A kit of this many baselines with this many clauses each, of the kinds that kits mostly have.
fn kit_of(baselines: usize, clauses: usize) -> BTreeMap<String, Vec<u8>> {
    let mut files = BTreeMap::from([(
        "kit.toml".to_owned(),
        b"[kit]\nname = \"quay-base\"\nversion = \"1.0.0\"\n".to_vec(),
    )]);
    files.insert(
        "renders/lane.jinja".into(),
        b"lane = {{ params.lane }}\nsite = {{ labels.site }}\n".to_vec(),
    );
    for baseline in 0..baselines {
        let mut text = format!(
            "[baseline]\nname = \"part-{baseline}\"\nsummary = \"A part of what every node has\"\nseverity = \"high\"\nsatisfies = [\"SK-7\"]\n\n[params.lane]\ntype = \"string\"\ndefault = \"A\"\nnote = \"The lane\"\n"
        );
        for clause in 0..clauses {
            let _ = match clause % 5 {
                0 => writeln!(
                    text,
                    "\n[[clause]]\nwhat = \"package:part-{baseline}-{clause}\"\nversion = \"3.2.*\""
                ),
                1 => writeln!(
                    text,
                    "\n[[clause]]\nwhat = \"file:/etc/part-{baseline}/{clause}.conf\"\ntext = \"lane = {{{{ params.lane }}}}\\n\"\nowner = \"root\"\ngroup = \"root\"\npermissions = \"0644\"\nneeds = [\"package:part-{baseline}-{}\"]\ntopics = [\"settings\"]",
                    clause - 1
                ),
                2 => writeln!(
                    text,
                    "\n[[clause]]\nwhat = \"file:/etc/lanes-{baseline}/{clause}.conf\"\nrender = \"lane.jinja\"\npermissions = \"0644\"\nwhere = \"labels.role == 'kiosk'\""
                ),
                3 => writeln!(
                    text,
                    "\n[[clause]]\nwhat = \"directory:/var/lib/part-{baseline}/{clause}\"\npermissions = \"0755\""
                ),
                _ => writeln!(
                    text,
                    "\n[[clause]]\nwhat = \"service:unit-{baseline}-{clause}\"\nrunning = true\nenabled = true\nreacts_to = [\"file:/etc/part-{baseline}/{}.conf\"]\nreaction = \"restart\"",
                    clause - 3
                ),
            };
        }
        files.insert(format!("baselines/part-{baseline}.toml"), text.into_bytes());
    }
    files
}

fn checking() -> Vec<Figure> {
    let files = kit_of(200, 50);
    let texts: Vec<String> = files
        .iter()
        .filter(|(path, _)| path.ends_with(".toml"))
        .map(|(_, bytes)| String::from_utf8_lossy(bytes).into_owned())
        .collect();
    let files = KitFiles::new(files);
    let [alone, checked] =
        best([&mut || texts.iter().for_each(|text| drop(toml::from_str::<toml::Table>(text))), &mut || {
            let checked = check(files.clone(), Some("quay-base"), Surroundings::default());
            assert_eq!(checked.findings, [], "the kit is well");
        }]);
    println!("checking 10,000 clauses: {checked:?}; parsing them with `toml` alone: {alone:?}");
    vec![Figure::ratio(
        "checking a kit of 200 baselines, 10,000 clauses",
        "parsing the same text with `toml` alone",
        checked,
        alone,
        4.0,
    )]
}

fn resolving() -> Vec<Figure> {
    let kit: Kit = check(KitFiles::new(kit_of(6, 50)), None, Surroundings::default())
        .kit
        .unwrap_or_else(|| std::process::exit(1));
    let (key, given) = (DigestKey::new("bench"), BTreeMap::new());
    // Each time another node, as a server resolves them: its name is its own, its site that of others too.
    let mut nodes = (0..).map(|at: usize| NodeView {
        name: format!("kiosk-{at}"),
        labels: [("role", "kiosk"), ("site", ["auken", "brisk", "corran", "dunmoy", "eldrey"][at % 5])]
            .map(|(key, value)| (key.to_owned(), value.to_owned()))
            .into(),
        ..NodeView::sample()
    });
    let mut resolve_next = || {
        let view = nodes.next().expect("there is always another");
        let assigned = kit.baselines.iter().map(|baseline| Assigned::plainly(&kit, baseline)).collect();
        let input = ResolveInput {
            assigned,
            kits: &[],
            given: &given,
            own: &constans_core::state::OwnProperties::new(),
            view: &view,
            key: &key,
            conditions: Conditions::Decide,
            untouchable: &[],
        };
        assert_eq!(resolve(&input).map(|resolved| resolved.state.clauses.len()), Ok(300));
    };
    let began = Instant::now();
    resolve_next();
    let first = began.elapsed();
    let [resolved] = best([&mut resolve_next]);
    println!(
        "resolving 300 clauses: {resolved:?}; for the first node that the kit is resolved for: {first:?}"
    );
    vec![Figure {
        work: "resolving one node's state of 300 clauses",
        against: "-",
        measured: resolved.as_secs_f64() * 1_000.0,
        budget: 1.0,
        unit: "ms",
        bound: Bound::AtMost,
    }]
}
