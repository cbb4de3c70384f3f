//! Publishing kits together, reading and comparing releases, going back, withdrawing.

use constans_e2e::Fleet;
use constans_e2e::story::{change, group, joined, kits, well};
use std::fs;

#[test]
fn a_kit_brings_what_it_requires_along_or_nothing_is_published() {
    let fleet = Fleet::start();
    let kits = kits();
    let at = |kit: &str| kits.path().join(kit).display().to_string();
    let alone = fleet.client(&["kit", "publish", &at("ship-gateway")]);
    assert_eq!(alone.exit, Some(1));
    assert!(
        alone
            .stderr
            .contains("no release is published of quay-base (required by ship-gateway); nothing was sent"),
        "{}",
        alone.stderr
    );
    assert_eq!(fleet.query("select count(*) from content"), "0", "nothing was sent");
    let command = alone.stderr.split("publish all together: constans ").nth(1).unwrap().trim();
    assert_eq!(command, format!("kit publish {} --with {}", at("ship-gateway"), at("quay-base")));

    let secret = "\n[params.ops_hash]\ntype = \"secret\"\ndefault = \"ops-hash@1\"\n\n[[clause]]\nwhat = \"file:/etc/ops\"\ntext = \"{{ params.ops_hash }}\"\n";
    let upkeep = kits.path().join("quay-base/baselines/upkeep.toml");
    let fine = fs::read_to_string(&upkeep).unwrap();
    fs::write(&upkeep, fine.clone() + secret).unwrap();
    let refused = fleet.client(&["kit", "publish", &at("ship-gateway"), "--with", &at("quay-base")]);
    assert!(
        refused.stderr.contains("the kits were refused whole: 1 error")
            && refused.stderr.contains("the server has no secret `ops-hash@1`"),
        "{}",
        refused.stderr
    );
    assert_eq!(fleet.query("select count(*) from release"), "0", "all or nothing");

    fs::write(&upkeep, fine).unwrap();
    let published = fleet.client(&["kit", "publish", &at("ship-gateway"), "--with", &at("quay-base")]);
    let lines: Vec<&str> = well(&published).lines().map(|line| line.split("  ").next().unwrap()).collect();
    assert_eq!(
        lines[..2],
        ["published quay-base@1.3.0", "published ship-gateway@0.9.0"],
        "in the right order"
    );
    let (of_release, of_folder) =
        (fleet.client(&["kit", "show", "quay-base@1.3.0"]), fleet.client(&["kit", "show", &at("quay-base")]));
    assert_eq!(well(&of_release), well(&of_folder), "a release is shown as its folder is");
    assert!(
        published.stderr.contains("C0143") && published.stderr.contains("no node has the label `role`"),
        "labels nobody has are warned of: {}",
        published.stderr
    );

    let unmet = fleet.client(&["stage", "serve", "harbour", "ship-gateway@0.9.0"]);
    assert!(
        unmet.stderr.contains("ship-gateway@0.9.0 requires quay-base ^1.0, and the stage serves none"),
        "{}",
        unmet.stderr
    );
    let command = unmet.stderr.split("serve them together: constans ").nth(1).unwrap().trim();
    well(&fleet.client(&command.split(' ').collect::<Vec<_>>()));

    change(&kits.path().join("quay-base/kit.toml"), "1.3.0", "2.0.0");
    let too_new = fleet.client(&["kit", "publish", &at("quay-base")]);
    well(&too_new);
    let unmet = fleet.client(&["stage", "serve", "harbour", "quay-base@2.0.0"]);
    assert!(
        unmet.stderr.contains("ship-gateway@0.9.0 requires quay-base ^1.0, and the stage serves 2.0.0"),
        "{}",
        unmet.stderr
    );
}

#[test]
fn releases_are_logged_compared_gone_back_from_and_withdrawn() {
    let fleet = Fleet::start();
    let kits = kits();
    let gate = kits.path().join("gate-reader");
    let kit = gate.display().to_string();
    change(&gate.join("kit.toml"), "\n[requires]\nquay-base = \"^1.0\"\n", "");
    well(&fleet.client(&["kit", "publish", &kit]));
    well(&fleet.client(&["stage", "serve", "harbour", "gate-reader@2.1.0"]));
    change(&gate.join("kit.toml"), "2.1.0", "2.2.0");
    change(&gate.join("copies/tariffs.csv"), "4.20", "4.40");
    change(&gate.join("baselines/reader.toml"), "version = \"2.1.4\"", "version = \"2.2.*\"");
    well(&fleet.client(&["kit", "publish", &kit]));
    well(&fleet.client(&["stage", "serve", "harbour", "gate-reader@2.2.0"]));

    let difference = fleet.client(&["kit", "diff", "gate-reader@2.1.0", "gate-reader@2.2.0"]);
    for part in ["version  was 2.1.4, is 2.2.*", "-auken,brisk,4.20,2.10", "+auken,brisk,4.40,2.10"] {
        assert!(well(&difference).contains(part), "{part} in {}", difference.stdout);
    }
    let with_folder = fleet.client(&["kit", "diff", "gate-reader@2.1.0", &kit]);
    assert_eq!(with_folder.stdout, difference.stdout, "a folder and the release of it are the same");

    let served = fleet.client(&["stage", "back", "harbour", "gate-reader"]);
    assert!(
        well(&served)
            .starts_with("harbour serves gate-reader@2.1.0 again, which it served before gate-reader@2.2.0"),
        "{}",
        served.stdout
    );
    let refused = fleet.client(&["kit", "withdraw", "gate-reader@2.1.0", "--because", "wrong tariffs"]);
    assert!(
        refused.stderr.contains("gate-reader@2.1.0 is served in harbour")
            && refused.stderr.contains("stage back"),
        "{}",
        refused.stderr
    );
    well(&fleet.client(&["kit", "withdraw", "gate-reader@2.2.0", "--because", "wrong tariffs"]));
    let again = fleet.client(&["stage", "serve", "harbour", "gate-reader@2.2.0"]);
    assert!(
        again.stderr.contains("gate-reader@2.2.0 was withdrawn by ilse.maren: wrong tariffs"),
        "{}",
        again.stderr
    );
    let log = fleet.client(&["kit", "log", "gate-reader"]);
    let log = well(&log);
    assert!(
        log.contains("withdrawn")
            && log.contains("wrong tariffs")
            && log.contains("until now, by ilse.maren")
            && log.contains("Next: constans kit diff"),
        "{log}"
    );
    assert!(fleet.client(&["kit", "log", "gate-raeder"]).stderr.contains("there is no kit `gate-raeder`"));
    assert_eq!(
        fleet.query("select string_agg(did, ' ' order by id) from event where did in ('withdrew', 'handed out a change')"),
        "handed out a change handed out a change handed out a change withdrew"
    );
}

#[test]
fn what_is_concealed_in_a_release_is_shown_to_nobody_who_only_reads() {
    let fleet = Fleet::start();
    let kits = kits();
    let base = kits.path().join("quay-base");
    let hash = "$y$j9T$Auken$BriskCorranDunmoyEldrey";
    change(
        &base.join("baselines/login.toml"),
        "home = \"/home/ops\"",
        &format!("home = \"/home/ops\"\npassword_hash = \"{hash}\""),
    );
    change(&base.join("baselines/login.toml"), "copy = \"issue\"", "copy = \"issue\"\nconceal = true");
    well(&fleet.client(&["kit", "publish", &base.display().to_string()]));
    let reader = fleet.curl().with_token(&fleet.token("pia.lund", "reader"));
    let mut answers = String::new();
    for path in ["", "/text?path=baselines/login.toml", "/text?path=copies/issue"] {
        let (status, answer) = reader.get(&format!("/api/releases/quay-base/1.3.0{path}"));
        assert_eq!(status, 200, "{answer}");
        answers += &answer;
    }
    assert!(
        answers.contains("(concealed)")
            && answers.contains("•")
            && !answers.contains("j9T")
            && !answers.contains("Authorised"),
        "{answers}"
    );
    assert_eq!(
        reader.get("/api/releases/quay-base/1.3.0/file?path=baselines/login.toml").0,
        403,
        "the file itself is for those who publish"
    );
    assert_eq!(reader.get("/api/releases/quay-base/1.3.0/text?path=../../etc/passwd").0, 404);
}

#[test]
fn an_included_baseline_reaches_the_node_with_its_own_release_and_the_layers_of_a_list_are_told() {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    let kits = kits();
    change(
        &kits.path().join("kiosk-floor/baselines/kiosk-lockdown.toml"),
        "satisfies = [\"SK-7\"]",
        "satisfies = [\"SK-7\"]\ninclude = [\"quay-base/login\"]",
    );
    let at = |kit: &str| kits.path().join(kit).display().to_string();
    well(&fleet.client(&["kit", "publish", &at("kiosk-floor"), "--with", &at("quay-base")]));
    well(&fleet.client(&["stage", "serve", "open-water", "kiosk-floor@1.0.0", "quay-base@1.3.0"]));
    let kiosks = "name = \"kiosks\"\npriority = 10\nfilter = \"labels.role == 'kiosk'\"\n[[assignments]]\nkit = \"kiosk-floor\"\nbaseline = \"kiosk-lockdown\"\n[parameters]\n\"kiosk-floor/kiosk-lockdown.lanes\" = { add = [\"C\"] }\n[settings]\nmode = \"enforce\"\n";
    well(&group(&fleet, &kiosk, kiosks));
    well(&kiosk.run(&["daemon", "--once"]));
    assert!(kiosk.root.read("/etc/kiosk/lanes/C.conf").unwrap().contains("lane = C"));
    assert!(
        kiosk.root.read("/etc/issue").unwrap().contains("Skerry Line"),
        "the included baseline was brought in too"
    );
    let explained = fleet.client(&["node", "why", "kiosk-auken-1"]).stdout;
    assert!(
        explained.contains("lanes = [\"A\",\"B\",\"C\"]   from the group `kiosks`, over the default"),
        "{explained}"
    );
    let nodes = fleet.client(&["node", "list"]).stdout;
    assert!(nodes.contains("kiosk-floor@1.0.0") && nodes.contains("quay-base@1.3.0"), "{nodes}");
}

#[test]
fn all_missing_requirements_are_named_at_once_with_the_command_and_online_a_check_finds_what_publishing_would()
 {
    let fleet = Fleet::start();
    let _gate = joined(&fleet, "gate-auken-1", &["role=gate"]);
    let kits = kits();
    let at = |kit: &str| kits.path().join(kit).display().to_string();
    // One beside requires another, and one is nowhere.
    change(
        &kits.path().join("gate-reader/kit.toml"),
        "quay-base = \"^1.0\"",
        "ship-gateway = \"^0.9\"\ntide-tables = \"^1.0\"",
    );
    let missing = fleet.client(&["kit", "publish", &at("gate-reader")]);
    assert!(
        missing.stderr.contains("no release is published of quay-base (required by ship-gateway), ship-gateway (required by gate-reader), tide-tables (required by gate-reader); nothing was sent")
            && missing.stderr.contains(&format!("kit publish {} --with {} --with {} --with DIR", at("gate-reader"), at("ship-gateway"), at("quay-base"))),
        "{}",
        missing.stderr
    );
    change(&kits.path().join("gate-reader/kit.toml"), "\ntide-tables = \"^1.0\"", "");

    let secret = "\n[params.ops_hash]\ntype = \"secret\"\ndefault = \"ops-hash@1\"\n\n[[clause]]\nwhat = \"file:/etc/ops\"\ntext = \"{{ params.ops_hash }} {{ labels.rolle }} {{ labels.role }}\"\n";
    let upkeep = kits.path().join("quay-base/baselines/upkeep.toml");
    fs::write(&upkeep, fs::read_to_string(&upkeep).unwrap() + secret).unwrap();
    let offline = fleet.client(&["kit", "check", &at("quay-base")]);
    assert!(!offline.stdout.contains("secret `ops-hash@1`"), "{}", offline.stdout);
    let online = fleet.client(&["kit", "check", "--online", &at("quay-base")]);
    assert_eq!(online.exit, Some(1), "{}{}", online.stdout, online.stderr);
    assert!(online.stdout.contains("the server has no secret `ops-hash@1`"), "{}", online.stdout);
    assert!(
        online.stdout.contains("C0143")
            && online.stdout.contains("no node has the label `rolle`")
            && online.stdout.contains("did you mean `labels.role`?"),
        "{}",
        online.stdout
    );
    assert!(!online.stdout.contains("the label `role`"), "{}", online.stdout);
    assert!(
        online.stdout.contains(&format!("{}/baselines/upkeep.toml:", at("quay-base"))),
        "places are those of the folder: {}",
        online.stdout
    );
    let of_ship = fleet.client(&["kit", "check", "--online", &at("ship-gateway")]);
    assert!(
        of_ship.exit == Some(1) && of_ship.stdout.contains("no release of `quay-base` is published"),
        "{}",
        of_ship.stdout
    );
    assert_eq!(fleet.query("select count(*) from release"), "0", "a check publishes nothing");

    let reader = fleet.token("pia.lund", "reader");
    let read = fleet.client_by(&reader, &["kit", "check", "--online", &at("quay-base")]);
    assert!(
        read.stderr.contains("only the labels were asked for")
            && read.stdout.contains("no node has the label `rolle`"),
        "{}{}",
        read.stdout,
        read.stderr
    );
}
