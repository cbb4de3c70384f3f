//! `constans-agent inspect`: the present state of the machine, written as clauses.

use constans_agent::command_line::{InspectArguments, Output};
use constans_agent::error::AgentError;
use constans_core::kind::{find, nearest};
use constans_core::kit::WrittenClause;
use constans_host::Machine;
use constans_host::error::CannotDescribe;
use constans_wire::exit::Exit;
use jiff::Timestamp;

/// Tells one thing, or all of a kind. Nothing is changed, and no folder of the agent's own is needed.
pub fn inspect(arguments: &InspectArguments) -> Result<Exit, AgentError> {
    let kind = find(&arguments.kind).ok_or_else(|| {
        let hint = nearest(&arguments.kind).map_or_else(
            || "`constans kind list` lists the kinds".to_owned(),
            |near| format!("did you mean `{near}`?"),
        );
        AgentError::new(format!("there is no kind `{}`", arguments.kind)).hint(hint).exit(Exit::Usage)
    })?;
    let mut machine = Machine::open(&arguments.place.root, &std::env::temp_dir())?;
    let clauses = match &arguments.name {
        Some(name) => machine.describe(kind, name).map(|clauses| clauses.into_iter().collect()),
        None => machine.describe_all(kind),
    };
    let clauses: Vec<WrittenClause> = clauses.map_err(|error| match error {
        CannotDescribe::NotOfThisKind(why) => AgentError::new(why).exit(Exit::Usage),
        CannotDescribe::Unsupported(why) => {
            AgentError::new(format!("a {} cannot be inspected on this machine: {why}", kind.noun()))
        }
        CannotDescribe::Failed(error) => error.into(),
    })?;
    if let (Some(name), []) = (&arguments.name, &clauses[..]) {
        return Err(AgentError::new(format!("there is no {} {name} on this machine", kind.noun())).hint(format!(
            "to keep it away, write a clause with gone = true; `constans-agent inspect --all {}` lists those that are there",
            kind.name()
        )));
    }
    match arguments.output {
        Output::Json => println!("{}", serde_json::to_string_pretty(&clauses).expect("it is plain data")),
        Output::Text => {
            let place = if machine.acted_on.is_private_root() {
                format!(" below {}", machine.acted_on.root.display())
            } else {
                String::new()
            };
            println!(
                "# {}{place}, {}",
                machine.acted_on.machine,
                Timestamp::now().strftime("%Y-%m-%d %H:%M:%S UTC")
            );
            if clauses.is_empty() {
                println!("# There is none.");
            }
            for clause in &clauses {
                println!();
                print!("{}", clause.toml());
            }
        }
    }
    Ok(Exit::Well)
}
