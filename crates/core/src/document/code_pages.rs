//! The page of each code: what it means, an example that triggers it, and one that does not.
//!
//! An example is a baseline below its head, or several files, each after a line `--- path`. A test checks every one of
//! them: the wrong one has the code, the right one has not.

use super::codes::Code;
use super::finding::Level;
use std::fmt::Write as _;

/// What there is to know of a code.
pub struct CodePage {
    /// The code.
    pub code: Code,
    /// Whether it forbids going on.
    pub level: Level,
    /// What it says, in a few words.
    pub title: &'static str,
    /// What it means and what to do.
    pub meaning: &'static str,
    /// What triggers it; empty where only a server or a broken file can.
    pub wrong: &'static str,
    /// How to write it instead.
    pub right: &'static str,
}

const fn error(
    code: Code,
    title: &'static str,
    meaning: &'static str,
    wrong: &'static str,
    right: &'static str,
) -> CodePage {
    CodePage { code, level: Level::Error, title, meaning, wrong, right }
}

const fn warning(
    code: Code,
    title: &'static str,
    meaning: &'static str,
    wrong: &'static str,
    right: &'static str,
) -> CodePage {
    CodePage { level: Level::Warning, ..error(code, title, meaning, wrong, right) }
}

/// The pages of all codes, in their order.
pub const CODE_PAGES: &[CodePage] = &[
    error(
        Code::Syntax,
        "not TOML",
        "The document is not TOML 1.0. What is never closed is reported where it was opened, not where the reader gave up.",
        "[[clause]]\nwhat = \"file:/etc/issue\ntext = \"x\"\n",
        "[[clause]]\nwhat = \"file:/etc/issue\"\ntext = \"x\"\n",
    ),
    error(
        Code::Unreadable,
        "cannot be read as text",
        "A document is UTF-8. Save the file as UTF-8; other contents belong in copies/.",
        "",
        "",
    ),
    error(
        Code::RefusedValue,
        "a value that kits do not support",
        "TOML has dates, NaN and integers beyond 2^53; kits do not, because JSON readers do not support them. Write them as texts.",
        "[[clause]]\nwhat = \"account:ops\"\ncomment = 2026-11-23\n",
        "[[clause]]\nwhat = \"account:ops\"\ncomment = \"2026-11-23\"\n",
    ),
    error(
        Code::UnknownKey,
        "an unknown key",
        "The key is not known at this place. The nearest valid key is suggested; `constans kind show KIND` lists the properties of a kind.",
        "[[clause]]\nwhat = \"file:/etc/issue\"\npermisions = \"0644\"\n",
        "[[clause]]\nwhat = \"file:/etc/issue\"\npermissions = \"0644\"\n",
    ),
    error(
        Code::MissingKey,
        "a key is missing",
        "A required key is missing. Each clause has `what`, each parameter a `type`.",
        "[[clause]]\ntext = \"x\"\n",
        "[[clause]]\nwhat = \"file:/etc/issue\"\ntext = \"x\"\n",
    ),
    error(
        Code::WrongValue,
        "a value of the wrong type or range",
        "The key does not accept this value. If the intended value is clear, the line to write instead is given.",
        "[[clause]]\nwhat = \"file:/etc/issue\"\npermissions = 644\n",
        "[[clause]]\nwhat = \"file:/etc/issue\"\npermissions = \"0644\"\n",
    ),
    error(
        Code::TooLarge,
        "too large or too deep",
        "A document has at most 4 MiB, lists and tables at most 64 levels, a kit at most 20,000 clauses: larger ones could not be checked in bounded time and memory. Split it.",
        "[[clause]]\nwhat = \"file:/etc/issue\"\ntext = [[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[\"x\"]]]]]]]]]]]]]]]]]]]]]]]]]]]]]]]]]]]]]]]]]]]]]]]]]]]]]]]]]]]]]]]]]]]]\n",
        "[[clause]]\nwhat = \"file:/etc/issue\"\ntext = \"x\"\n",
    ),
    error(
        Code::UnknownKind,
        "an unknown kind",
        "The part of an address before the first `:` is a kind. `constans kind list` shows all, `constans kind find` finds one by purpose.",
        "[[clause]]\nwhat = \"pakage:kiosk-shell\"\n",
        "[[clause]]\nwhat = \"package:kiosk-shell\"\n",
    ),
    error(
        Code::NotAnAddress,
        "no address",
        "An address is `kind:name`. Names are NFC, without control characters, at most 255 bytes, and have the form that their kind requires; the kind itself is never rendered.",
        "[[clause]]\nwhat = \"kiosk-shell\"\n",
        "[[clause]]\nwhat = \"package:kiosk-shell\"\n",
    ),
    error(
        Code::Properties,
        "properties that exclude each other",
        "A property is missing, or two exclude each other: contents have one source, a clause with `gone` has no properties.",
        "[[clause]]\nwhat = \"link:/etc/kiosk/current\"\n",
        "[[clause]]\nwhat = \"link:/etc/kiosk/current\"\ntarget = \"shell.conf\"\n",
    ),
    error(
        Code::CustomKind,
        "an invalid custom kind",
        "A kit brings a custom kind as `kinds/NAME/kind.toml` and a program beside it. The kind declares its properties with their types; `claim` names the required ones that tell one thing from another; the program begins with `#!` or is an ELF file. Clauses of the kit name it `KIT/NAME:…`.",
        "--- kit.toml\n[kit]\nname = \"kiosk-floor\"\nversion = \"1.0.0\"\n--- kinds/lane_light/kind.toml\n[kind]\nprogram = \"light\"\n--- kinds/lane_light/light\nno program\n",
        "--- kit.toml\n[kit]\nname = \"kiosk-floor\"\nversion = \"1.0.0\"\n--- kinds/lane_light/kind.toml\n[kind]\nprogram = \"light\"\n--- kinds/lane_light/light\n#!/bin/sh\n",
    ),
    error(
        Code::CannotBeGone,
        "cannot be gone",
        "Some kinds have no `gone`: declare a service as stopped instead, leave out a command.",
        "[[clause]]\nwhat = \"service:kiosk-shell\"\ngone = true\n",
        "[[clause]]\nwhat = \"service:kiosk-shell\"\nrunning = false\nenabled = false\n",
    ),
    error(
        Code::Reaction,
        "an invalid reaction",
        "The kind does not have this reaction, or nothing triggers it. The reaction is a property of the clause that reacts.",
        "[[clause]]\nwhat = \"service:kiosk-shell\"\nreaction = \"restart\"\n",
        "[[clause]]\nwhat = \"file:/etc/issue\"\n[[clause]]\nwhat = \"service:kiosk-shell\"\nreacts_to = [\"file:/etc/issue\"]\nreaction = \"restart\"\n",
    ),
    error(
        Code::ParameterValue,
        "an invalid value of a parameter",
        "The value is not of the declared type, or out of `min`, `max`, `one_of` or `pattern`. The layer of the value is named.",
        "[params.days]\ntype = \"integer\"\nmin = 30\ndefault = 7\n[[clause]]\nwhat = \"file:/etc/x\"\ntext = \"{{ params.days }}\"\n",
        "[params.days]\ntype = \"integer\"\nmin = 30\ndefault = 90\n[[clause]]\nwhat = \"file:/etc/x\"\ntext = \"{{ params.days }}\"\n",
    ),
    error(
        Code::UnknownParameter,
        "a parameter that is not declared",
        "A layer sets a parameter that the baseline does not declare. Reported when the state of a node is resolved, and in cases.",
        "",
        "",
    ),
    error(
        Code::MissingParameter,
        "a parameter without a value",
        "It has no default and no layer sets it. Reported when the state of a node is resolved, and in cases.",
        "",
        "",
    ),
    warning(
        Code::UnusedParameter,
        "an unused parameter",
        "No condition, loop, text or template of the baseline uses it. It may be misspelt where it is used.",
        "[params.days]\ntype = \"integer\"\ndefault = 90\n[[clause]]\nwhat = \"file:/etc/x\"\n",
        "[params.days]\ntype = \"integer\"\ndefault = 90\n[[clause]]\nwhat = \"file:/etc/x\"\ntext = \"{{ params.days }}\"\n",
    ),
    error(
        Code::UnknownSecret,
        "an unknown secret",
        "A parameter of the type `secret` names a secret by name and version, and the server does not have it: publishing is refused, and the state of a node cannot be resolved.",
        "",
        "",
    ),
    error(
        Code::SecretDecides,
        "a secret in a condition",
        "`where` and `for` cannot use secrets: the desired state would reveal the value.",
        "[params.key]\ntype = \"secret\"\n[[clause]]\nwhat = \"file:/etc/x\"\ntext = \"{{ params.key }}\"\nwhere = \"params.key == 'x'\"\n",
        "[params.key]\ntype = \"secret\"\n[[clause]]\nwhat = \"file:/etc/x\"\ntext = \"{{ params.key }}\"\n",
    ),
    error(
        Code::Condition,
        "an invalid condition",
        "Conditions are CEL, at most 2 KiB, 500 parts, two nested loops, and evaluate to true or false.",
        "[[clause]]\nwhat = \"file:/etc/x\"\nwhere = \"labels.role = 'kiosk'\"\n",
        "[[clause]]\nwhat = \"file:/etc/x\"\nwhere = \"labels.role == 'kiosk'\"\n",
    ),
    error(
        Code::ConditionName,
        "an unknown name in a condition",
        "Conditions and loops can use `labels`, `about` (its stable fields), `params` (those declared) and `node.name`.",
        "[[clause]]\nwhat = \"file:/etc/x\"\nwhere = \"about.os.famly == 'debian'\"\n",
        "[[clause]]\nwhat = \"file:/etc/x\"\nwhere = \"about.os.family == 'debian'\"\n",
    ),
    error(
        Code::Loop,
        "an invalid loop",
        "`for` iterates over a list in its order or a map by key, with at most 1,000 items, and expands to at most 1,000 clauses.",
        "[[clause]]\nfor = { lane = \"'A'\" }\nwhat = \"file:/etc/{{ lane }}\"\n",
        "[[clause]]\nfor = { lane = \"['A', 'B']\" }\nwhat = \"file:/etc/{{ lane }}\"\n",
    ),
    warning(
        Code::UnknownLabel,
        "a label or a value that no node has",
        "The condition uses a label that no node of the fleet has, so it reads as an empty text everywhere; or it compares a label with a value that no node has. Reported where the fleet is known: when publishing, and by `kit check --online`.",
        "",
        "",
    ),
    error(
        Code::Render,
        "a failing template",
        "The template is invalid, takes more than 1,000,000 steps, produces more than 1 MiB, or fails with its values.",
        "[[clause]]\nwhat = \"file:/etc/x\"\ntext = \"{% for a in range(9999) %}{% for b in range(9999) %}{% endfor %}{% endfor %}\"\n",
        "[[clause]]\nwhat = \"file:/etc/x\"\ntext = \"{% for a in range(3) %}{{ a }}{% endfor %}\"\n",
    ),
    error(
        Code::RenderName,
        "an unknown name in a template",
        "In scope are `params` (those declared), `labels`, `about` (its stable fields), `node.name`, and in a loop its names. Names are also looked for in branches that are not taken.",
        "[params.idle]\ntype = \"integer\"\ndefault = 9\n[[clause]]\nwhat = \"file:/etc/x\"\ntext = \"{{ params.idel }} {{ params.idle }}\"\n",
        "[params.idle]\ntype = \"integer\"\ndefault = 9\n[[clause]]\nwhat = \"file:/etc/x\"\ntext = \"{{ params.idle }}\"\n",
    ),
    error(
        Code::MissingFile,
        "a missing file",
        "`copy` names a file of copies/, `render` one of renders/. The nearest name is suggested.",
        "--- kit.toml\n[kit]\nname = \"gate\"\nversion = \"1.0.0\"\n--- baselines/gate.toml\n[baseline]\nname = \"gate\"\n[[clause]]\nwhat = \"file:/etc/tariffs\"\ncopy = \"tariff.csv\"\n--- copies/tariffs.csv\nx\n",
        "--- kit.toml\n[kit]\nname = \"gate\"\nversion = \"1.0.0\"\n--- baselines/gate.toml\n[baseline]\nname = \"gate\"\n[[clause]]\nwhat = \"file:/etc/tariffs\"\ncopy = \"tariffs.csv\"\n--- copies/tariffs.csv\nx\n",
    ),
    warning(
        Code::UnusedFile,
        "an unused file",
        "No clause uses it, or its folder is not one of a kit. It is published nevertheless.",
        "--- kit.toml\n[kit]\nname = \"gate\"\nversion = \"1.0.0\"\n--- copies/old.csv\nx\n",
        "--- kit.toml\n[kit]\nname = \"gate\"\nversion = \"1.0.0\"\n--- baselines/gate.toml\n[baseline]\nname = \"gate\"\n[[clause]]\nwhat = \"file:/etc/tariffs\"\ncopy = \"old.csv\"\n--- copies/old.csv\nx\n",
    ),
    error(
        Code::ClaimConflict,
        "conflicting clauses",
        "Both claim the same path, package, unit, key of a file, …, with different values. Both places are named. Equal clauses are merged.",
        "[[clause]]\nwhat = \"package:quay\"\nversion = \"1.0\"\n[[clause]]\nwhat = \"package:quay\"\nversion = \"2.0\"\n",
        "[[clause]]\nwhat = \"package:quay\"\nversion = \"2.0\"\n",
    ),
    error(
        Code::NothingFits,
        "a reference that matches nothing",
        "`needs` and `reacts_to` name clauses by address or pattern (`file:/etc/kiosk/*`), and no clause of this baseline or its included ones matches.",
        "[[clause]]\nwhat = \"file:/etc/x\"\nneeds = [\"package:quay\"]\n",
        "[[clause]]\nwhat = \"package:quay\"\n[[clause]]\nwhat = \"file:/etc/x\"\nneeds = [\"package:quay\"]\n",
    ),
    error(
        Code::Circle,
        "a cycle of clauses",
        "The cycle is printed with its places. An explicit relation overrides an implied one (a file in a directory, owned by an account).",
        "[[clause]]\nwhat = \"package:a\"\nneeds = [\"package:b\"]\n[[clause]]\nwhat = \"package:b\"\nneeds = [\"package:a\"]\n",
        "[[clause]]\nwhat = \"package:a\"\n[[clause]]\nwhat = \"package:b\"\nneeds = [\"package:a\"]\n",
    ),
    error(
        Code::TouchesAgent,
        "a clause that changes the agent or the server",
        "It would stop, remove or change the agent itself or its state folder; on the machine of the server, the server or its database. Reported when the state of a node is resolved.",
        "",
        "",
    ),
    error(
        Code::SameName,
        "a duplicate name",
        "Two clauses have one name, or two baselines do.",
        "[[clause]]\nwhat = \"package:httpd\"\nas = \"package:web\"\n[[clause]]\nwhat = \"package:proxy\"\nas = \"package:web\"\n",
        "[[clause]]\nwhat = \"package:httpd\"\nas = \"package:web\"\n[[clause]]\nwhat = \"package:proxy\"\n",
    ),
    warning(
        Code::FolderName,
        "the folder has another name",
        "A kit and its folder have the same name, so that other kits beside it find it.",
        "",
        "",
    ),
    warning(
        Code::Empty,
        "an empty baseline or kit",
        "The baseline has no clauses and includes none, or the kit has no baselines.",
        "\n",
        "[[clause]]\nwhat = \"file:/etc/x\"\n",
    ),
    warning(
        Code::AtticOff,
        "replaced contents are not stored",
        "With `attic = false` overwritten contents cannot be shown or restored. It is meant for contents that must not be stored.",
        "[[clause]]\nwhat = \"file:/etc/x\"\ntext = \"x\"\nattic = false\n",
        "[[clause]]\nwhat = \"file:/etc/x\"\ntext = \"x\"\n",
    ),
    error(
        Code::UnknownBaseline,
        "an unknown baseline",
        "`include` names a baseline of this kit, or KIT/BASELINE of a required one.",
        "--- kit.toml\n[kit]\nname = \"gate\"\nversion = \"1.0.0\"\n--- baselines/gate.toml\n[baseline]\nname = \"gate\"\ninclude = [\"login\"]\n",
        "--- kit.toml\n[kit]\nname = \"gate\"\nversion = \"1.0.0\"\n--- baselines/gate.toml\n[baseline]\nname = \"gate\"\ninclude = [\"login\"]\n--- baselines/login.toml\n[baseline]\nname = \"login\"\n[[clause]]\nwhat = \"file:/etc/x\"\n",
    ),
    error(
        Code::IncludeCircle,
        "baselines that include each other",
        "An included baseline is handled before the including one; in a cycle none can be first.",
        "--- kit.toml\n[kit]\nname = \"gate\"\nversion = \"1.0.0\"\n--- baselines/gate.toml\n[baseline]\nname = \"gate\"\ninclude = [\"gate\"]\n[[clause]]\nwhat = \"file:/etc/x\"\n",
        "--- kit.toml\n[kit]\nname = \"gate\"\nversion = \"1.0.0\"\n--- baselines/gate.toml\n[baseline]\nname = \"gate\"\n[[clause]]\nwhat = \"file:/etc/x\"\n",
    ),
    error(
        Code::UnknownKit,
        "a kit that is not published",
        "A group assigns a baseline of a kit, or sets a parameter of one, of which no release is published. Reported when a group is set.",
        "",
        "",
    ),
    warning(
        Code::UnknownControl,
        "an unknown control",
        "An assignment satisfies a control that the catalogue of the server does not have. Reported when a group is set, once there is a catalogue.",
        "",
        "",
    ),
    error(
        Code::Unsolvable,
        "an unmet requirement",
        "No release of the required kit matches (SemVer), or the matching ones conflict with other requirements. All unmet requirements are listed, with the existing releases. The newest compatible releases are used.",
        "--- kit.toml\n[kit]\nname = \"gate\"\nversion = \"1.0.0\"\n[requires]\ngate = \"^1.0\"\n",
        "--- kit.toml\n[kit]\nname = \"gate\"\nversion = \"1.0.0\"\n",
    ),
    error(
        Code::NotRequired,
        "a kit that is used but not required",
        "A baseline of another kit is included, but [requires] has no range of releases for it.",
        "--- kit.toml\n[kit]\nname = \"gate\"\nversion = \"1.0.0\"\n--- baselines/gate.toml\n[baseline]\nname = \"gate\"\ninclude = [\"quay-base/login\"]\n",
        "",
    ),
    warning(
        Code::NotAtHand,
        "a required kit is not available",
        "Baselines included from it were not checked. Kits beside this folder are found; name others with --with. The server uses published releases. For a node, a missing included baseline is an error.",
        "--- kit.toml\n[kit]\nname = \"gate\"\nversion = \"1.0.0\"\n[requires]\nquay-base = \"^1.0\"\n",
        "--- kit.toml\n[kit]\nname = \"gate\"\nversion = \"1.0.0\"\n",
    ),
    error(
        Code::RequiredNotWell,
        "a required kit has errors",
        "The required kit has errors; the first one is named. Fix it first.",
        "",
        "",
    ),
    error(
        Code::Password,
        "a password, or a hash that is too weak",
        "`password_hash` takes a hash as crypt(5) writes it (yescrypt, SHA-512, bcrypt), never the password, and no MD5 or SHA-1. The value is never shown. Change a password that was written down.",
        "[[clause]]\nwhat = \"account:ops\"\npassword_hash = \"Tern-1234\"\n",
        "[[clause]]\nwhat = \"account:ops\"\npassword_hash = \"$y$j9T$Auken$Brisk\"\n",
    ),
    warning(
        Code::PlainSecret,
        "a possible secret",
        "Everyone who can read the kit can read it, and it stays in every release. Declare a parameter of type `secret` and render it.",
        "[[clause]]\nwhat = \"file:/etc/x\"\ntext = \"password = Tern-1234\\n\"\n",
        "[[clause]]\nwhat = \"file:/etc/x\"\ntext = \"user = tern\\n\"\n",
    ),
    warning(
        Code::Unrelated,
        "a service that does not react to its file",
        "The service probably reads this file, but neither reacts to it nor needs it: it would continue with the old contents.",
        "[[clause]]\nwhat = \"file:/etc/kiosk/shell.conf\"\ntext = \"x\"\n[[clause]]\nwhat = \"service:kiosk-shell\"\nrunning = true\n",
        "[[clause]]\nwhat = \"file:/etc/kiosk/shell.conf\"\ntext = \"x\"\n[[clause]]\nwhat = \"service:kiosk-shell\"\nrunning = true\nreacts_to = [\"file:/etc/kiosk/*\"]\nreaction = \"restart\"\n",
    ),
    warning(
        Code::LocksOut,
        "administrators may be locked out",
        "The clause ends remote sign-in, removes the last administrator, or could break sudo or sshd without a check.",
        "[[clause]]\nwhat = \"file:/etc/sudoers.d/ops\"\ntext = \"%ops ALL=(root) ALL\\n\"\n",
        "[[clause]]\nwhat = \"file:/etc/sudoers.d/ops\"\ntext = \"%ops ALL=(root) ALL\\n\"\ncheck_with = [\"/usr/sbin/visudo\", \"-cf\", \"{candidate}\"]\n",
    ),
];

impl CodePage {
    /// Returns the page of a code as a person writes it, `C0107` or `107`.
    pub fn find(code: &str) -> Option<&'static Self> {
        let digits = code.trim().trim_start_matches(['C', 'c']);
        let number: u16 = digits.parse().ok()?;
        CODE_PAGES.iter().find(|page| page.code as u16 == number)
    }

    /// Returns the page as Markdown.
    pub fn as_markdown(&self) -> String {
        let level = if self.level == Level::Error { "error" } else { "warning" };
        let mut text = format!("## {} {}\n*{level}* · {}\n", self.code, self.title, self.meaning);
        for (what, example) in [("triggers it", self.wrong), ("instead", self.right)] {
            if !example.trim().is_empty() {
                let _ = write!(text, "\n{what}:\n```toml\n{example}```\n");
            }
        }
        text
    }
}

/// Returns all pages as one Markdown chapter.
pub fn findings_as_markdown() -> String {
    let mut text = String::from(
        "# Findings\n\nMade from the table of codes in the code. A code never changes its meaning. Errors forbid publishing and running; warnings do\n\
         not (`--strict` takes them for errors). `constans explain C0120` prints one of these.\n\n| code | | |\n|---|---|---|\n",
    );
    for page in CODE_PAGES {
        let level = if page.level == Level::Error { "error" } else { "warning" };
        let _ = writeln!(text, "| {} | {level} | {} |", page.code, page.title);
    }
    for page in CODE_PAGES {
        text.push('\n');
        text += &page.as_markdown();
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::check::{Checked, Surroundings, check};
    use crate::document::KitFiles;
    use std::collections::BTreeMap;

    fn checked(example: &str) -> Checked {
        let mut files: BTreeMap<String, Vec<u8>> = BTreeMap::new();
        if example.contains("--- ") {
            for part in example.split("--- ").skip(1) {
                let (path, text) = part.split_once('\n').unwrap();
                files.insert(path.to_owned(), text.as_bytes().to_vec());
            }
        } else {
            files.insert("kit.toml".into(), b"[kit]\nname = \"quay\"\nversion = \"1.0.0\"\n".to_vec());
            files.insert(
                "baselines/quay.toml".into(),
                format!("[baseline]\nname = \"quay\"\n{example}").into_bytes(),
            );
        }
        check(KitFiles::new(files), None, Surroundings::default())
    }

    #[test]
    fn every_example_brings_about_its_code_and_the_other_does_not() {
        for page in CODE_PAGES {
            let codes = |example: &str| {
                checked(example)
                    .findings
                    .iter()
                    .map(|finding| (finding.code, finding.level))
                    .collect::<Vec<_>>()
            };
            if !page.wrong.is_empty() {
                assert!(
                    codes(page.wrong).contains(&(page.code, page.level)),
                    "{}: {:?}",
                    page.code,
                    codes(page.wrong)
                );
            }
            if !page.right.is_empty() {
                assert!(codes(page.right).iter().all(|(code, _)| *code != page.code), "{}", page.code);
                assert!(
                    !checked(page.right).has_errors(),
                    "{}: {:?}",
                    page.code,
                    checked(page.right).findings
                );
            }
        }
    }

    #[test]
    fn every_code_has_its_page_and_is_found_by_how_it_is_written() {
        let source = include_str!("codes.rs");
        let declared =
            source.lines().filter(|line| line.trim_end().ends_with(',') && line.contains(" = ")).count();
        assert_eq!(CODE_PAGES.len(), declared);
        for written in ["C0120", "c120", "0120", "120"] {
            assert_eq!(CodePage::find(written).map(|page| page.code), Some(Code::UnknownKind), "{written}");
        }
        assert!(CodePage::find("C9999").is_none());
        assert!(CODE_PAGES.is_sorted_by_key(|page| page.code as u16));
    }
}
