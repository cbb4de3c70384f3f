use super::*;
use constans_core::address::ClauseAddress;
use constans_core::compare::differences;
use constans_core::kind::find;
use constans_core::run::StoredCopy;
use std::borrow::Cow;

struct Texts(BTreeMap<String, Vec<u8>>);

impl Contents for Texts {
    fn get(&self, name: &str) -> Option<Cow<'_, [u8]>> {
        self.0.get(name).map(|bytes| Cow::Borrowed(bytes.as_slice()))
    }
}

#[derive(Default)]
struct Loft(Vec<(String, Vec<u8>)>);

impl Attic for Loft {
    fn keep(
        &mut self,
        path: &str,
        contents: &mut dyn std::io::Read,
        _entry: &Entry,
        _clause: &ClauseAddress,
    ) -> Result<StoredCopy, HostError> {
        let mut bytes = Vec::new();
        contents.read_to_end(&mut bytes).unwrap();
        let kept = StoredCopy {
            attic: 1,
            path: path.to_owned(),
            digest: of_contents(&bytes),
            bytes: bytes.len() as u64,
        };
        self.0.push((path.to_owned(), bytes));
        Ok(kept)
    }
}

fn host() -> SimulatedHost {
    let repository =
        Repository::default().with("kiosk-shell", &["3.1.9", "3.2.0", "3.2.4"], Some("kiosk-shell"));
    SimulatedHost::new("kiosk-auken-10", About::default(), Arc::new(repository))
}

fn clause(address: &str, properties: &[(&str, Value)]) -> Clause {
    let address = ClauseAddress::parse(address).unwrap();
    let kind = find(address.kind()).unwrap();
    let mut clause = Clause::asking(address, kind, &BTreeMap::new());
    clause.properties =
        properties.iter().map(|(property, value)| ((*property).to_owned(), value.clone())).collect();
    clause
}

/// Returns the names of the properties that differ.
fn differing(host: &mut SimulatedHost, clause: &Clause, texts: &Texts) -> Vec<String> {
    let Inspection::Seen(seen) = host.inspect(clause, texts, &DigestKey::new("k")) else {
        panic!("it is not seen")
    };
    differences(clause, &seen.found, seen.content_bytes)
        .into_iter()
        .map(|difference| difference.property)
        .collect()
}

#[test]
fn what_was_corrected_is_in_line_and_old_contents_go_into_the_attic() {
    let (mut host, mut loft) = (host(), Loft::default());
    let name = of_contents(b"idle = 90\n").as_str().to_owned();
    let texts = Texts(BTreeMap::from([(name.clone(), b"idle = 90\n".to_vec())]));
    let clauses = [
        clause("file:/etc/kiosk/shell.conf", &[("content", json!(name)), ("permissions", json!("0640"))]),
        clause("account:ops", &[("shell", json!("/bin/bash"))]),
        clause("package:kiosk-shell", &[("version", json!("3.2.*"))]),
        clause("service:kiosk-shell", &[("running", json!(true)), ("enabled", json!(true))]),
    ];
    host.change("file:/etc/kiosk/shell.conf", |file| file.contents = b"idle = 1\n".to_vec());
    for clause in &clauses {
        // The service comes with its package.
        let expected = clause.address.kind() != "service";
        assert_eq!(!differing(&mut host, clause, &texts).is_empty(), expected, "{}", clause.address);
        if expected {
            assert!(host.correct(clause, &[], &texts, &mut loft).failure.is_none());
        }
        assert_eq!(differing(&mut host, clause, &texts), Vec::<String>::new(), "{}", clause.address);
    }
    assert_eq!(loft.0, [("/etc/kiosk/shell.conf".to_owned(), b"idle = 1\n".to_vec())]);
    assert_eq!(host.thing("package:kiosk-shell").unwrap().text("version"), "3.2.4");
    host.change("account:ops", |account| account.set("shell", "/bin/sh"));
    assert_eq!(differing(&mut host, &clauses[1], &texts), ["shell"]);
}

#[test]
fn what_cannot_be_put_right_or_seen_says_so() {
    let (mut host, mut loft, texts) = (host(), Loft::default(), Texts(BTreeMap::new()));
    let failure = |host: &mut SimulatedHost, loft: &mut Loft, clause: &Clause| {
        host.correct(clause, &[], &texts, loft).failure.unwrap().message
    };
    assert_eq!(
        failure(&mut host, &mut loft, &clause("package:quay-games", &[])),
        "E: Unable to locate package quay-games"
    );
    assert_eq!(
        failure(&mut host, &mut loft, &clause("service:gate-reader", &[("running", json!(true))])),
        "Unit gate-reader.service not found."
    );
    host.fail("package:kiosk-shell", Some("E: dpkg was interrupted\n"));
    assert_eq!(failure(&mut host, &mut loft, &clause("package:kiosk-shell", &[])), "E: dpkg was interrupted");
    host.fail("package:kiosk-shell", None);
    assert!(host.correct(&clause("package:kiosk-shell", &[]), &[], &texts, &mut loft).failure.is_none());
    let unseen = host.inspect(&clause("packet_rule:ssh", &[]), &texts, &DigestKey::new("k"));
    assert!(matches!(unseen, Inspection::Unsupported(why) if why == "a simulated node has no packet_rule"));
}
