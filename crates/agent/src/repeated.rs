//! The arguments that select desired state and root, repeated in suggested commands.

use constans_agent::command_line::{WantedArguments, WhereArguments};

/// Returns the words that name what is wanted and where, for the next command.
pub fn repeated_arguments(arguments: &WantedArguments) -> String {
    let mut words = Vec::new();
    let mut add = |option: &str, value: String| words.push(format!("{option} {}", quoted(&value)));
    if let Some(kit) = &arguments.what.kit {
        add("--kit", kit.display().to_string());
    }
    if let Some(baseline) = &arguments.what.baseline {
        add("--baseline", baseline.clone());
    }
    if let Some(file) = &arguments.what.file {
        add("--file", file.display().to_string());
    }
    for (option, pairs) in [("--set", &arguments.set), ("--label", &arguments.labels)] {
        for (name, value) in pairs {
            add(option, format!("{name}={value}"));
        }
    }
    for (option, values) in [("--clause", &arguments.clauses), ("--topic", &arguments.topics)] {
        for value in values {
            add(option, value.clone());
        }
    }
    format!("{}{}", words.join(" "), repeated_place(&arguments.place)).trim_start().to_owned()
}

pub fn repeated_place(place: &WhereArguments) -> String {
    let mut words = String::new();
    if place.root != std::path::Path::new("/") {
        words += &format!(" --root {}", quoted(&place.root.display().to_string()));
    }
    if let Some(folder) = &place.state_dir {
        words += &format!(" --state-dir {}", quoted(&folder.display().to_string()));
    }
    words
}

fn quoted(word: &str) -> String {
    let is_plain = !word.is_empty() && word.chars().all(|c| c.is_alphanumeric() || "-_=./:,+@%".contains(c));
    if is_plain { word.to_owned() } else { format!("'{}'", word.replace('\'', "'\\''")) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use clap::Parser;

    #[derive(Parser)]
    struct CommandLine {
        #[command(flatten)]
        wanted: WantedArguments,
    }

    /// A suggested command is copied into a shell: it means there what was typed.
    #[test]
    fn repeated_arguments_name_the_same_to_a_shell() {
        for typed in [
            &["--kit", "kits/quay-base", "--baseline", "login"][..],
            &["--file", "my kit's/shell.toml", "--set", "idle=45", "--label", "site=auken"],
            &[
                "--kit",
                "quay",
                "--clause",
                "file:/etc/kiosk/*",
                "--topic",
                "lanes",
                "--root",
                "/srv/a b",
                "--state-dir",
                "/srv/state",
            ],
        ] {
            let parsed = CommandLine::parse_from(std::iter::once("enforce").chain(typed.iter().copied()));
            let repeated = repeated_arguments(&parsed.wanted);
            let output = std::process::Command::new("/bin/sh")
                .args(["-fc", &format!("printf '%s\\n' {repeated}")])
                .output()
                .unwrap();
            let words = String::from_utf8(output.stdout).unwrap();
            assert_eq!(words.lines().collect::<Vec<_>>(), typed, "{repeated}");
        }
    }
}
