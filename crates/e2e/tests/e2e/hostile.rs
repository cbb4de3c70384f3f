//! Kits that are built to do harm: the real client and the real server end with a clear word, within bounds.

#![expect(clippy::unwrap_used, reason = "a test may panic")]

use constans_e2e::{Fleet, client, program};
use std::fs;
use std::path::Path;
use std::process::Command;

/// A text that doubles with every step.
fn doubling() -> String {
    format!("{{% set x = 'Skerry Line' %}}{}{{{{ x }}}}", "{% set x = x ~ x %}".repeat(60))
}

fn kit(folder: &Path, render: &str) -> String {
    for inner in ["baselines", "renders"] {
        fs::create_dir_all(folder.join(inner)).unwrap();
    }
    fs::write(folder.join("kit.toml"), "[kit]\nname = \"hostile\"\nversion = \"1.0.0\"\n").unwrap();
    fs::write(
        folder.join("baselines/all.toml"),
        "[baseline]\nname = \"all\"\n[[clause]]\nwhat = \"file:/etc/x\"\nrender = \"x\"\n",
    )
    .unwrap();
    fs::write(folder.join("renders/x"), render).unwrap();
    folder.display().to_string()
}

#[test]
fn a_render_that_grows_without_end_is_a_finding_at_the_client_and_at_the_server() {
    let folder = tempfile::tempdir().unwrap();
    let kit = kit(&folder.path().join("hostile"), &doubling());
    let ended = client(&["kit", "check", &kit]);
    assert!(
        ended.exit == Some(1) && ended.stdout.contains("C0150: the render takes more than 1000000 steps"),
        "{}",
        ended.stdout
    );

    // A program that publishes without the client's check meets the server's.
    let fleet = Fleet::start();
    let mut publisher = fleet.curl().with_token(&fleet.token("program.publisher", "publisher"));
    let mut files = Vec::new();
    for path in ["kit.toml", "baselines/all.toml", "renders/x"] {
        let whole = Path::new(&kit).join(path);
        let name = constans_core::digest::of_contents(&fs::read(&whole).unwrap()).as_str().to_owned();
        assert_eq!(publisher.put_file(&format!("/api/contents/{name}"), &whole).0, 200);
        files.push((path, name));
    }
    let (status, answer) =
        publisher.post("/api/releases", &serde_json::json!({ "kits": [{ "files": files }] }).to_string());
    assert!(status == 422 && answer.contains("C0150"), "{status} {answer}");
}

#[test]
fn a_check_that_goes_beyond_its_bounds_ends_a_second_process_and_not_what_was_asked_for() {
    let folder = tempfile::tempdir().unwrap();
    let kit = kit(&folder.path().join("hostile"), "x\n");
    // As if the check took more than the machine may give it.
    let ended = Command::new(program("constans"))
        .args(["kit", "check", &kit])
        .env("CONSTANS_CHECK_MEMORY", "30000000")
        .output()
        .unwrap();
    let message = String::from_utf8_lossy(&ended.stderr);
    assert!(
        ended.status.code() == Some(1)
            && message.contains("was stopped (C0114)")
            && message.contains("grows without limit"),
        "{message}"
    );
    assert_eq!(client(&["kit", "check", &kit]).exit, Some(0));
}

#[test]
fn links_odd_files_and_a_hundred_megabytes_are_refused_by_name() {
    let folder = tempfile::tempdir().unwrap();
    let kit = kit(&folder.path().join("hostile"), "x\n");
    std::os::unix::fs::symlink("/etc/shadow", Path::new(&kit).join("renders/y")).unwrap();
    let linked = client(&["kit", "check", &kit]);
    assert!(
        linked.stderr.contains("renders/y is a symbolic link, which a kit may not contain"),
        "{}",
        linked.stderr
    );
    fs::remove_file(Path::new(&kit).join("renders/y")).unwrap();
    let large = Path::new(&kit).join("baselines/large.toml");
    fs::File::create(&large).unwrap().set_len(100 * 1024 * 1024).unwrap();
    let refused = client(&["kit", "check", &kit]);
    assert!(
        refused.stdout.contains("error C0114: the document has 104857600 bytes, at most 4194304 are read"),
        "{}",
        refused.stdout
    );
    fs::remove_file(large).unwrap();
    fs::write(Path::new(&kit).join("baselines/a\u{7}.toml"), "").unwrap();
    assert!(
        client(&["kit", "check", &kit]).stderr.contains("has a name that cannot be written in a document")
    );
}

#[test]
fn one_content_under_many_paths_takes_its_memory_once_and_counts_as_often_as_it_is_named() {
    let folder = tempfile::tempdir().unwrap();
    let fleet = Fleet::start();
    let mut publisher = fleet.curl().with_token(&fleet.token("program.publisher", "publisher"));
    let large = folder.path().join("large");
    fs::write(&large, vec![b'x'; 7 * 1024 * 1024]).unwrap();
    let name = constans_core::digest::of_contents(&fs::read(&large).unwrap()).as_str().to_owned();
    let (status, message) = publisher.put_file(&format!("/api/contents/{name}"), &large);
    assert_eq!(status, 200, "{message}");
    let peak = || -> u64 {
        let status = fs::read_to_string(format!("/proc/{}/status", fleet.process())).unwrap();
        status
            .lines()
            .find_map(|line| line.strip_prefix("VmHWM:")?.split_whitespace().next()?.parse().ok())
            .unwrap()
    };
    let before = peak();
    let mut publish = |paths: usize| {
        let files: Vec<(String, &str)> =
            (0..paths).map(|number| (format!("copies/{number}"), name.as_str())).collect();
        publisher.post("/api/releases", &serde_json::json!({ "kits": [{ "files": files }] }).to_string())
    };
    let (status, message) = publish(2_000);
    assert!(status == 413 && message.contains("a kit has at most 256 MiB"), "{status} {message}");
    let (status, message) = publish(20_001);
    assert!(status == 422 && message.contains("a kit has at most 20000 files"), "{status} {message}");
    let grown = (peak() - before) / 1024;
    assert!(grown < 100, "the server took {grown} MiB more for a content of 7 MiB");
}
