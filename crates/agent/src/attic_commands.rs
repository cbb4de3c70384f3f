//! `constans-agent attic`.

use crate::asking::{ask, open_place, place_words, wait_for_lock};
use constans_agent::attic::{AtticEntry, AtticStore};
use constans_agent::command_line::{
    AtticListArguments, AtticOneArguments, Output, PutBackArguments, WhereArguments,
};
use constans_agent::error::AgentError;
use constans_agent::show::show_list;
use constans_agent::state_dir::StateDir;
use constans_core::compare::text_diff;
use constans_host::Machine;
use constans_host::files::{EntryKind, Ownership};
use constans_wire::exit::Exit;
use std::io::Write as _;

fn open_attic(place: &WhereArguments) -> Result<(StateDir, AtticStore, Machine), AgentError> {
    let (state_dir, machine) = open_place(place)?;
    let attic = AtticStore::open(&state_dir, None)?;
    Ok((state_dir, attic, machine))
}

pub fn list(arguments: &AtticListArguments) -> Result<Exit, AgentError> {
    let (_, attic, machine) = open_attic(&arguments.place)?;
    let mut found: Vec<&AtticEntry> = Vec::new();
    for kept in attic.all() {
        let by_path = arguments
            .path
            .as_ref()
            .is_none_or(|pattern| constans_core::address::fits_text(pattern, &kept.path));
        let by_run = arguments
            .run
            .as_ref()
            .is_none_or(|run| kept.run.is_some_and(|id| id.to_string().starts_with(run)));
        let by_time = arguments.since.is_none_or(|since| kept.at >= since)
            && arguments.until.is_none_or(|until| kept.at <= until);
        if by_path && by_run && by_time && holds(&attic, kept, arguments.content.as_deref())? {
            found.push(kept);
        }
    }
    match arguments.output {
        Output::Json => println!("{}", serde_json::to_string_pretty(&found).expect("it is plain data")),
        Output::Text => {
            anstream::print!("{}", show_list(&found, &attic.forgotten()?, &place_words(&machine)));
        }
    }
    Ok(Exit::Well)
}

fn holds(attic: &AtticStore, kept: &AtticEntry, text: Option<&str>) -> Result<bool, AgentError> {
    let Some(text) = text else { return Ok(true) };
    Ok(String::from_utf8_lossy(&attic.contents(kept)?).contains(text))
}

pub fn show(arguments: &AtticOneArguments) -> Result<Exit, AgentError> {
    let (_, attic, _) = open_attic(&arguments.place)?;
    let contents = attic.contents(attic.find(arguments.number)?)?;
    std::io::stdout()
        .write_all(&contents)
        .map_err(|error| AgentError::new(format!("cannot write: {error}")))?;
    Ok(Exit::Well)
}

pub fn compare(arguments: &AtticOneArguments) -> Result<Exit, AgentError> {
    let (_, attic, machine) = open_attic(&arguments.place)?;
    let kept = attic.find(arguments.number)?;
    let contents = attic.contents(kept)?;
    let Some(now) = machine.files().read(&kept.path)? else {
        println!("{} does not exist now; entry {} has {} bytes", kept.path, kept.number, kept.bytes);
        return Ok(Exit::Well);
    };
    if now == contents {
        println!("{} has the same contents now as number {}", kept.path, kept.number);
        return Ok(Exit::Well);
    }
    match text_diff(&now, &contents, true) {
        Ok(diff) => print!(
            "{}",
            diff.text.replace("--- actual", &format!("--- {} now", kept.path)).replace(
                "+++ desired",
                &format!("+++ number {}, replaced {}", kept.number, constans_terminal::time(kept.at))
            )
        ),
        Err(_) => println!("both differ: {} bytes now, {} bytes in the attic", now.len(), kept.bytes),
    }
    Ok(Exit::Well)
}

pub fn put_back(arguments: &PutBackArguments) -> Result<Exit, AgentError> {
    let (state_dir, mut attic, machine) = open_attic(&arguments.one.place)?;
    let kept = attic.find(arguments.one.number)?.clone();
    let contents = attic.contents(&kept)?;
    if !arguments.yes
        && !ask(&format!(
            "restore {} as it was until {} on {}?",
            kept.path,
            constans_terminal::time(kept.at),
            place_words(&machine)
        ))?
    {
        eprintln!("nothing was changed");
        return Ok(Exit::Refused);
    }
    let _lock = wait_for_lock(&state_dir, "attic put-back", arguments.wait)?;
    if let Some(entry) = machine.files().look(&kept.path)? {
        if entry.what != EntryKind::File {
            return Err(AgentError::new(format!("{} is {} now", kept.path, entry.what.words()))
                .hint("remove it first"));
        }
        let now = machine.files().read(&kept.path)?.unwrap_or_default();
        attic.keep_before_put_back(&kept.path, &now, &entry)?;
    }
    let owners = rustix::process::geteuid().is_root();
    let ownership = Ownership {
        uid: owners.then_some(kept.uid),
        gid: owners.then_some(kept.gid),
        permissions: u32::from_str_radix(&kept.permissions, 8).ok(),
    };
    machine.files().replace(&kept.path, &contents, ownership, |_| Ok(()))?;
    println!("{} is as it was until {}", kept.path, constans_terminal::time(kept.at));
    match &kept.clause {
        Some(clause) => println!(
            "Next: this differs from {clause}, so the next enforcing run will undo it; change the document to keep it"
        ),
        None => println!("Next: constans-agent attic list shows the contents that this replaced"),
    }
    Ok(Exit::Well)
}
