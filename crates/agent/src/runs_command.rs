//! `constans-agent runs`: the node's own record.

use crate::asking::open_place;
use crate::repeated::repeated_place;
use constans_agent::command_line::{Output, RunsArguments};
use constans_agent::error::AgentError;
use constans_agent::kept_runs::KeptRuns;
use constans_agent::membership::Membership;
use constans_terminal::{run_line, show_kept_run, style, styled};
use constans_wire::exit::Exit;

pub fn runs(arguments: &RunsArguments) -> Result<Exit, AgentError> {
    let (state_dir, machine) = open_place(&arguments.reporting.place)?;
    let kept = KeptRuns::of(&state_dir);
    let is_json = arguments.reporting.output == Output::Json;
    if let Some(id) = &arguments.run {
        let report = kept.whole(id)?;
        match is_json {
            true => println!("{}", serde_json::to_string_pretty(&report).expect("a report is JSON")),
            false => {
                let name = Membership::read(&state_dir)?
                    .map_or(machine.acted_on.machine, |membership| membership.name);
                anstream::print!("{}", show_kept_run(&name, &report, None, arguments.verbose));
            }
        }
        return Ok(Exit::Well);
    }
    let all = kept.all()?;
    if is_json {
        println!("{}", serde_json::to_string_pretty(&all).expect("it is plain data"));
        return Ok(Exit::Well);
    }
    all.iter().for_each(|run| println!("{}", run_line(run)));
    let place = repeated_place(&arguments.reporting.place);
    let next = if all.is_empty() {
        "no runs yet; constans-agent observe starts one".to_owned()
    } else {
        format!("constans-agent runs{place} RUN shows one; the beginning of its id is enough")
    };
    anstream::println!("{} {next}", styled(style::STRONG, "Next:"));
    Ok(Exit::Well)
}
