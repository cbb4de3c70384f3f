//! `constans-crowd`: simulated nodes for tests, figures and the demo.

use clap::Parser;
use constans_clock::MovedClock;
use constans_core::kind::duration_secs;
use constans_crowd::{Crowd, CrowdError, Operator, Pace, Plan, Rates};
use jiff::{SignedDuration, Timestamp};
use std::path::PathBuf;
use std::process::ExitCode;
use std::time::Duration;

/// Thousands of small values are made and dropped at once.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// Have simulated nodes join a server and live, with all that happens to them written down
#[derive(Debug, Parser)]
#[command(name = "constans-crowd", version, max_term_width = 110)]
struct CommandLine {
    /// The server's address for people, as https://127.0.0.1:7444
    #[arg(long, env = "CONSTANS_SERVER", value_name = "URL")]
    server: String,
    /// Fingerprint of the server's CA
    #[arg(long, env = "CONSTANS_CA", value_name = "SHA256")]
    ca: String,
    /// The token of an operator who invites, approves and revokes
    #[arg(long, env = "CONSTANS_TOKEN", hide_env_values = true, value_name = "TOKEN")]
    token: String,
    /// How many nodes it begins with
    #[arg(long, default_value_t = 200)]
    nodes: usize,
    /// Whatever happens by chance follows from it
    #[arg(long, default_value_t = 1)]
    seed: u64,
    /// How long they live, as 90s, 6h or 30d
    #[arg(long = "for", value_name = "TIME", default_value = "1h", value_parser = time)]
    span: u64,
    /// The file that the truth is written to, a line of JSON for each fact
    #[arg(long, value_name = "FILE")]
    truth: Option<PathBuf>,
    /// Moves the clock in this file, which a server started with --clock FILE goes by, as fast as everything can be done
    #[arg(long, value_name = "FILE")]
    clock: Option<PathBuf>,
    /// Where the moved clock begins, as 2026-10-29T00:00:00Z; default: now
    #[arg(long, value_name = "TIME", requires = "clock")]
    from: Option<Timestamp>,
    /// How much longer a request takes on a slow link, in milliseconds
    #[arg(long, value_name = "MILLISECONDS", default_value_t = 80)]
    slow_by: u64,
    /// How many nodes do something at the same time
    #[arg(long, default_value_t = 64)]
    at_once: usize,
    #[command(flatten)]
    rates: Rates,
}

fn time(text: &str) -> Result<u64, String> {
    duration_secs(text).ok_or_else(|| "write it as 90s, 15min, 6h or 30d".to_owned())
}

fn main() -> ExitCode {
    rustls::crypto::ring::default_provider()
        .install_default()
        .expect("no other provider was installed before");
    let runtime =
        tokio::runtime::Builder::new_multi_thread().enable_all().build().expect("a runtime can be started");
    match runtime.block_on(run(CommandLine::parse())) {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => {
            eprintln!("error: {error}");
            if let Some(source) = std::error::Error::source(&error) {
                eprintln!("  since: {source}");
            }
            ExitCode::FAILURE
        }
    }
}

async fn run(arguments: CommandLine) -> Result<(), CrowdError> {
    let operator = Operator::new(&arguments.server, &arguments.ca, &arguments.token)?;
    let pace = match &arguments.clock {
        None => Pace::Real,
        Some(path) => {
            let made = MovedClock::create(path, arguments.from.unwrap_or_else(Timestamp::now));
            Pace::Moved(made.map_err(|source| CrowdError::File { what: path.display().to_string(), source })?)
        }
    };
    let plan = Plan {
        rates: arguments.rates,
        slow_by: Duration::from_millis(arguments.slow_by),
        at_once: arguments.at_once.max(1),
        ..Plan::of(arguments.nodes, arguments.seed)
    };
    let before = resident_kib();
    let tell = &mut |how_far: &str| eprintln!("{how_far}");
    let mut crowd = Crowd::gather(plan, operator, pace, arguments.truth.as_deref(), tell).await?;
    crowd.live(SignedDuration::from_secs(i64::try_from(arguments.span).unwrap_or(i64::MAX)), tell).await?;
    let nodes = crowd.names().count();
    println!("{nodes} nodes lived until {:.0}; {} facts", crowd.now(), crowd.facts().len());
    if let (Some(before), Some(now)) = (before, resident_kib()) {
        println!(
            "{} KiB of memory a node, {} KiB of them in its folder",
            now.saturating_sub(before) / nodes.max(1),
            crowd.bytes() / 1024 / nodes.max(1)
        );
    }
    Ok(())
}

/// Returns how much memory this process holds, in KiB (proc(5)).
fn resident_kib() -> Option<usize> {
    let status = std::fs::read_to_string("/proc/self/status").ok()?;
    status.lines().find_map(|line| line.strip_prefix("VmRSS:")?.trim().trim_end_matches(" kB").parse().ok())
}
