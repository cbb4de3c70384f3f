//! The list of document keys, held against the readers: each key of the list is read, and no key beside it.

use constans_core::check::{Surroundings, check};
use constans_core::document::keys::{self, Key, Takes};
use constans_core::document::{Code, KitFiles};

fn sample(key: &Key) -> &'static str {
    match (key.name, key.takes) {
        ("what", _) => "\"file:/etc/issue\"",
        ("version", _) => "\"1.0.0\"",
        ("about", _) => "{}",
        (_, Takes::Text | Takes::Name | Takes::Condition) => "\"a\"",
        (_, Takes::Texts | Takes::Addresses | Takes::Values) => "[\"a\"]",
        (_, Takes::Boolean | Takes::Gone) => "true",
        (_, Takes::Words(words)) => Box::leak(format!("\"{}\"", words[0]).into_boxed_str()),
        (_, Takes::Number | Takes::Any) => "1",
        (_, Takes::TextTable | Takes::Table | Takes::Loops) => "{ a = \"b\" }",
        (_, Takes::Duration) => "\"30m\"",
    }
}

/// The kit of one document for each table, with each of the table's keys and `extra` in the table `changed`.
fn kit(changed: &str, extra: &str) -> KitFiles {
    let table = |header: &str, lookup: &str| {
        let keys = keys::of_header(lookup).iter();
        let lines: String = keys.map(|key| format!("{} = {}\n", key.name, sample(key))).collect();
        format!("{header}\n{lines}{}", if lookup == changed { extra } else { "" })
    };
    let baseline = [
        table("[baseline]", "baseline"),
        table("[params.text]", "params.text"),
        table("[[clause]]", "clause"),
    ];
    let case = [table("[case]", "case"), table("[node]", "node"), table("[[expect]]", "expect")];
    let kind = [table("[kind]", "kind"), table("[properties.lit]", "properties.lit")];
    KitFiles::new([
        ("kit.toml".to_owned(), table("[kit]", "kit").into_bytes()),
        ("baselines/a.toml".to_owned(), baseline.concat().into_bytes()),
        ("cases/a.toml".to_owned(), case.concat().into_bytes()),
        ("kinds/lane/kind.toml".to_owned(), kind.concat().into_bytes()),
    ])
}

fn unknown_keys(changed: &str, extra: &str) -> Vec<String> {
    check(kit(changed, extra), None, Surroundings::default())
        .findings
        .into_iter()
        .filter(|finding| finding.code == Code::UnknownKey)
        .map(|finding| format!("{}: {}", finding.place.file, finding.message))
        .collect()
}

#[test]
fn each_key_of_the_list_is_read_and_no_other() {
    std::thread::Builder::new()
        .stack_size(64 << 20)
        .spawn(|| {
            assert_eq!(unknown_keys("", ""), Vec::<String>::new());
            for (table, file) in [
                ("kit", "kit.toml"),
                ("baseline", "baselines/a.toml"),
                ("params.text", "baselines/a.toml"),
                ("clause", "baselines/a.toml"),
                ("case", "cases/a.toml"),
                ("node", "cases/a.toml"),
                ("expect", "cases/a.toml"),
                ("kind", "kinds/lane/kind.toml"),
                ("properties.lit", "kinds/lane/kind.toml"),
            ] {
                let found = unknown_keys(table, "weather = 1\n");
                assert!(
                    found.len() == 1 && found[0].starts_with(file) && found[0].contains("`weather`"),
                    "{table}: {found:?}"
                );
            }
        })
        .unwrap()
        .join()
        .unwrap();
}
