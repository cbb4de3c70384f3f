//! `constans kit new`.

use clap::Args;
use constans_folder::check_folder;
use constans_wire::exit::Exit;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};

/// Arguments of `kit new`.
#[derive(Debug, Args)]
pub struct NewArguments {
    /// The name of the kit and of its folder
    name: String,
    /// The folder to create it in
    #[arg(long, value_name = "DIR", default_value = ".")]
    into: PathBuf,
}

/// Makes a kit that checks and has a case.
pub fn run(arguments: &NewArguments) -> Exit {
    let folder = if arguments.into == Path::new(".") {
        PathBuf::from(&arguments.name)
    } else {
        arguments.into.join(&arguments.name)
    };
    let is_name = arguments.name.starts_with(|c: char| c.is_ascii_lowercase())
        && arguments.name.len() <= 64
        && arguments.name.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-');
    if !is_name {
        return refuse(
            &format!("`{}` is not a valid kit name", arguments.name),
            "names have lower-case letters, digits and `-`, begin with a letter and have at most 64 characters",
        );
    }
    if folder.exists() {
        return refuse(
            &format!("{} already exists; nothing was written", folder.display()),
            "choose another name, or another folder with --into",
        );
    }
    if let Err(error) = write(&folder, &arguments.name) {
        let _ = fs::remove_dir_all(&folder);
        return refuse(
            &format!("cannot write {}: {error}", folder.display()),
            "check the permissions; no partial files were left",
        );
    }
    let shown = folder.display();
    println!(
        "made {shown}\n  kit.toml              its name and version\n  baselines/first.toml  desired state\n  copies/welcome        contents of a file\n  cases/first.toml      expected clauses"
    );
    let is_well = check_folder(&folder, &[]).is_ok_and(|read| read.checked.findings.is_empty());
    println!("{}", if is_well { "no findings" } else { "constans kit check has findings" });
    println!("Next: constans kit test {shown}\n      constans kind list");
    Exit::Well
}

fn refuse(message: &str, hint: &str) -> Exit {
    anstream::eprintln!("error: {message}\nhint: {hint}");
    Exit::Error
}

fn write(folder: &Path, name: &str) -> io::Result<()> {
    for inner in ["baselines", "copies", "renders", "cases"] {
        fs::create_dir_all(folder.join(inner))?;
    }
    let manifest =
        format!("[kit]\nname = \"{name}\"\nversion = \"0.1.0\"\nsummary = \"What it is for, in one line\"\n");
    let baseline = r#"[baseline]
name = "first"
summary = "What these clauses are for"
severity = "medium"

[params.line]
type = "string"
default = "Authorised use only."
note = "What everybody reads before signing in"

# One thing on a node and how it should be. `constans kind list` shows what there is.
[[clause]]
what = "file:/etc/issue.net"
text = "{{ params.line }}\n"
permissions = "0644"

[[clause]]
what = "file:/etc/motd"
copy = "welcome"
permissions = "0644"
"#;
    let case = r#"[case]
summary = "Everybody reads the line that is set"
baselines = ["first"]
only_these = true

[params]
line = "Skerry Line"

[[expect]]
what = "file:/etc/issue.net"
text = "Skerry Line\n"
permissions = "0644"

[[expect]]
what = "file:/etc/motd"
text = "Welcome to this machine.\n"
"#;
    for (path, text) in [
        ("kit.toml", manifest.as_str()),
        ("baselines/first.toml", baseline),
        ("copies/welcome", "Welcome to this machine.\n"),
        ("cases/first.toml", case),
    ] {
        fs::write(folder.join(path), text)?;
    }
    Ok(())
}
