//! The machine of the server is a node of its fleet: what would stop the server or its database is refused, all else counts.

use constans_e2e::Fleet;
use constans_e2e::story::{group, joined, well};

const KIT: &str = "[kit]\nname = \"quay-base\"\nversion = \"1.3.0\"\nsummary = \"What every node has\"\n";
const LOGIN: &str =
    "[baseline]\nname = \"login\"\n[[clause]]\nwhat = \"file:/etc/issue\"\ntext = \"Skerry Line\\n\"\n";
const UPKEEP: &str = "[baseline]\nname = \"upkeep\"\n[[clause]]\nwhat = \"CLAUSE\"\nGONE\n";

#[test]
fn the_servers_own_machine_is_a_node_and_nothing_stops_the_server_or_its_database_there() {
    let fleet = Fleet::start();
    let server = joined(&fleet, "quay-auken-1", &["role=quay"]);
    let other = joined(&fleet, "quay-brisk-1", &["role=quay"]);
    let id = std::fs::read_to_string("/etc/machine-id").expect("this machine has one, by machine-id(5)");
    server.root.write("/etc/machine-id", &id).expect("it is written");
    other.root.write("/etc/machine-id", "00000000000000000000000000000001\n").expect("it is written");
    for (version, clause, gone) in [
        ("1.3.0", "file:/etc/kiosk/none", "gone = true"),
        ("1.3.1", "package:postgresql-15", "gone = true"),
        ("1.3.2", "service:postgresql.service", "running = false"),
        ("1.3.3", "service:constans-server.service", "enabled = false"),
        ("1.3.4", "account:postgres", "gone = true"),
        ("1.3.5", "directory:/var/lib/postgresql", "gone = true"),
        ("1.3.6", "service:ssh.service", "running = false"),
    ] {
        let folder = server.root.path().parent().expect("a folder").join(format!("kit-{version}/quay-base"));
        for (path, text) in [
            ("kit.toml", KIT.replace("1.3.0", version)),
            ("baselines/login.toml", LOGIN.to_owned()),
            ("baselines/upkeep.toml", UPKEEP.replace("CLAUSE", clause).replace("GONE", gone)),
        ] {
            let path = folder.join(path);
            std::fs::create_dir_all(path.parent().expect("a folder")).expect("it is made");
            std::fs::write(path, text).expect("it is written");
        }
        well(&fleet.client(&["kit", "publish", &folder.display().to_string()]));
    }
    well(&fleet.client(&["stage", "serve", "harbour", "quay-base@1.3.0"]));
    well(&group(
        &fleet,
        &server,
        "name = \"quays\"\npriority = 10\nfilter = \"labels.role == 'quay'\"\nstage = \"harbour\"\n[[assignments]]\nkit = \"quay-base\"\nbaseline = \"login\"\n[[assignments]]\nkit = \"quay-base\"\nbaseline = \"upkeep\"\n",
    ));
    for node in [&server, &other] {
        well(&node.run(&["check-in"]));
    }
    assert_eq!(fleet.query("select string_agg(name, ' ') from node where hosts_server"), "quay-auken-1");
    for (version, told) in [
        ("1.3.1", "package:postgresql-15 would stop, remove or change the server's database"),
        ("1.3.2", "service:postgresql.service would stop, remove or change the server's database"),
        ("1.3.3", "service:constans-server.service would stop, remove or change the server of Constans"),
        ("1.3.4", "account:postgres would stop, remove or change the server's database"),
        ("1.3.5", "directory:/var/lib/postgresql would stop, remove or change the server's database"),
    ] {
        let release = format!("quay-base@{version}");
        let refused = fleet.client(&["stage", "serve", "harbour", &release]);
        assert_eq!(refused.exit, Some(1), "{version}: {}{}", refused.stdout, refused.stderr);
        let text = format!("{}{}", refused.stdout, refused.stderr);
        assert!(text.contains("quay-auken-1") && text.contains(told), "{told}: {text}");
        assert!(!text.contains("quay-brisk-1"), "only that machine is the server's: {text}");
    }
    // All else counts there as anywhere, and whoever moves the machine-id away is a node like others.
    well(&fleet.client(&["stage", "serve", "harbour", "quay-base@1.3.6", "--confirm", "2"]));
    assert!(well(&fleet.client(&["node", "why", "quay-auken-1"])).contains("quay-base@1.3.6/upkeep"));
    server.root.write("/etc/machine-id", "00000000000000000000000000000002\n").expect("it is written");
    well(&server.run(&["check-in"]));
    assert_eq!(fleet.query("select count(*) from node where hosts_server"), "0");
}
