//! Each format: read, replace, add, remove, and what is refused.

use super::*;
use proptest::prelude::*;
use serde_json::json;

fn set(text: &str, format: Format, key: &[&str], value: impl Into<Value>) -> String {
    write_setting(text, format, key, &value.into()).unwrap()
}

fn refused(result: Result<String, PartError>) -> String {
    result.unwrap_err().message
}

const JOURNALD: &str =
    "# keep what is below\n[Journal]\n#Storage=auto\nCompress=yes ; all\n\n[Other]\nStorage=none\n";

#[test]
fn ini_keeps_comments_sections_and_order() {
    let text = set(JOURNALD, Format::Ini, &["Journal", "Storage"], "persistent");
    insta::assert_snapshot!(text, @r"
    # keep what is below
    [Journal]
    #Storage=auto
    Storage=persistent
    Compress=yes ; all

    [Other]
    Storage=none
    ");
    assert_eq!(read_setting(&text, Format::Ini, &["Journal", "Storage"]).unwrap(), Some(json!("persistent")));
    assert_eq!(remove_setting(&text, Format::Ini, &["Journal", "Storage"]).unwrap(), JOURNALD);
    assert_eq!(set("", Format::Ini, &["Time", "NTP"], "a b"), "[Time]\nNTP=a b\n");
    assert_eq!(set("[A]\nx = 1\r\n", Format::Ini, &["A", "y"], 2), "[A]\nx = 1\r\ny = 2\r\n");
    assert_eq!(
        refused(write_setting("[A]\nx=1\nx=2\n", Format::Ini, &["A", "x"], &json!(3))),
        "x is on the lines 2, 3"
    );
    assert_eq!(
        refused(write_setting("", Format::Ini, &["A"], &json!([1]))),
        "this format holds texts only, no lists and maps"
    );
}

#[test]
fn key_value_files_keep_their_quotes_and_never_write_into_a_conditional_part() {
    let shell = "export A=\"x y\"\n# B=1\nC=2\n";
    assert_eq!(set(shell, Format::KeyEqualsValue, &["A"], "z"), "export A=\"z\"\n# B=1\nC=2\n");
    assert_eq!(
        set(shell, Format::KeyEqualsValue, &["B"], "z w"),
        "export A=\"x y\"\n# B=1\nB=\"z w\"\nC=2\n"
    );
    let sshd = "#PermitRootLogin prohibit-password\nport 22\nMatch User ops\n  PermitRootLogin yes\n";
    assert_eq!(
        set(sshd, Format::KeySpaceValue, &["PermitRootLogin"], "no").lines().nth(1),
        Some("PermitRootLogin no")
    );
    assert_eq!(set(sshd, Format::KeySpaceValue, &["Port"], 2222).lines().nth(1), Some("port 2222"));
    assert_eq!(
        set(sshd, Format::KeySpaceValue, &["X11Forwarding"], "no").lines().nth(2),
        Some("X11Forwarding no")
    );
}

#[test]
fn json_keeps_comments_and_layout() {
    let text = "{\n  // who may\n  \"users\": [\"ops\"],\n  \"deep\": {\"a\": 1} // last\n}\n";
    assert_eq!(set(text, Format::Json, &["deep", "a"], 2), text.replace("1}", "2}"));
    insta::assert_snapshot!(set(text, Format::Json, &["new", "inner"], json!(["x"])), @r#"
    {
      // who may
      "users": ["ops"],
      "deep": {"a": 1}, // last
      "new": {
        "inner": ["x"]
      }
    }
    "#);
    assert_eq!(read_setting(text, Format::Json, &["users"]).unwrap(), Some(json!(["ops"])));
    assert!(!remove_setting(text, Format::Json, &["users"]).unwrap().contains("users"));
    assert_eq!(read_setting("{}", Format::Json, &["a", "b"]).unwrap(), None);
    assert_eq!(
        refused(write_setting("{\"a\": 1}", Format::Json, &["a", "b"], &json!(1))),
        "a has no keys below it"
    );
    assert!(
        refused(write_setting("{\"a\" 1}", Format::Json, &["b"], &json!(1)))
            .starts_with("the file is not JSON")
    );
}

#[test]
fn toml_keeps_comments_and_layout() {
    let text = "# top\n[server]\nport = 80 # plain\nhosts = [\"a\"]\n";
    assert_eq!(set(text, Format::Toml, &["server", "port"], 443), text.replace("80", "443"));
    assert_eq!(
        set(text, Format::Toml, &["client", "name"], "x"),
        format!("{text}\n[client]\nname = \"x\"\n")
    );
    assert_eq!(
        remove_setting(text, Format::Toml, &["server", "hosts"]).unwrap(),
        "# top\n[server]\nport = 80 # plain\n"
    );
    assert_eq!(
        refused(write_setting(text, Format::Toml, &["server", "port", "x"], &json!(1))),
        "server.port has no keys below it"
    );
}

const NET: &str = "# who\nnetwork:\n  version: 2   # fixed\n  lan:\n    dhcp: yes\n    names: [a, b]\n    routes:\n      - x\n      - y\n# end\nlast: 'q'\n";

#[test]
fn yaml_keeps_comments_and_layout() {
    assert_eq!(set(NET, Format::Yaml, &["network", "version"], 3), NET.replace("2  ", "3  "));
    assert_eq!(
        set(NET, Format::Yaml, &["network", "lan", "names"], json!(["c d"])),
        NET.replace("[a, b]", "[\"c d\"]")
    );
    assert_eq!(
        set(NET, Format::Yaml, &["network", "lan", "mtu"], 9000),
        NET.replace("      - y\n", "      - y\n    mtu: 9000\n")
    );
    assert_eq!(
        set(NET, Format::Yaml, &["network", "lan", "routes"], json!(["z"])),
        NET.replace(":\n      - x\n      - y", ": [z]")
    );
    assert_eq!(set(NET, Format::Yaml, &["a", "b"], "yes"), format!("{NET}a:\n  b: \"yes\"\n"));
    assert_eq!(set("a:\nb: 1\n", Format::Yaml, &["a", "c"], 1), "a:\n  c: 1\nb: 1\n");
    assert_eq!(set("a: {b: 1}\n", Format::Yaml, &["a", "c"], 1), "a: {b: 1, c: 1}\n");
    assert_eq!(set("# nothing yet\n", Format::Yaml, &["a"], 1), "# nothing yet\na: 1\n");
    assert_eq!(
        remove_setting(NET, Format::Yaml, &["network", "lan", "names"]).unwrap(),
        NET.replace("    names: [a, b]\n", "")
    );
    assert_eq!(remove_setting("a:\n  b: 1\nc: 2\n", Format::Yaml, &["a", "b"]).unwrap(), "a: {}\nc: 2\n");
    assert_eq!(read_setting(NET, Format::Yaml, &["network", "lan", "dhcp"]).unwrap(), Some(json!("yes")));
    assert_eq!(
        refused(write_setting("a: &x 1\nb: *x\n", Format::Yaml, &["b"], &json!(2))),
        "the value is an alias or has a tag"
    );
    assert_eq!(
        refused(write_setting("a: 1\n---\na: 2\n", Format::Yaml, &["a"], &json!(2))),
        "the file holds several YAML documents"
    );
}

#[test]
fn a_line_replaces_the_one_it_matches_or_goes_to_its_place() {
    let hosts = "127.0.0.1 localhost\n192.0.2.9 hub.skerry.example\n";
    let line =
        Line::new(Some("192.0.2.10 hub.skerry.example"), Some(r"\shub\.skerry\.example$"), None).unwrap();
    assert_eq!(line.read(hosts).unwrap(), Some("192.0.2.9 hub.skerry.example"));
    assert_eq!(line.write(hosts).unwrap(), "127.0.0.1 localhost\n192.0.2.10 hub.skerry.example\n");
    assert_eq!(line.remove(hosts), "127.0.0.1 localhost\n");
    let place =
        |place: &str| Line::new(Some("new"), None, Some(place)).unwrap().write("a1\r\nb\r\na2\r\n").unwrap();
    assert_eq!(place("start"), "new\r\na1\r\nb\r\na2\r\n");
    assert_eq!(place("after ^a"), "a1\r\nb\r\na2\r\nnew\r\n");
    let several = Line::new(Some("x"), Some("^a"), None).unwrap().write("a1\nb\na2\n").unwrap_err();
    assert_eq!(several.message, "`match` matches the lines 1, 3, but may match only one");
}

proptest! {
    #[test]
    fn what_was_written_is_read_again_and_nothing_else_changes(
        names in proptest::collection::vec("[a-z]{1,6}", 1..3),
        value in "[a-zA-Z0-9 :#'\"{}-]{0,12}",
        format in proptest::sample::select(vec![(Format::Toml, "# c\nzz = 1 # d\n[yy]\nxx = [1, 2]\n"), (Format::Json, "{\n  \"zz\": 1, // d\n  \"yy\": {\"xx\": [1]}\n}\n"), (Format::Yaml, "# c\nzz: 1 # d\nyy:\n  xx: [1]\n")]),
    ) {
        let key: Vec<&str> = names.iter().map(String::as_str).collect();
        let (format, text) = format;
        // A refusal is well; a wrong text is not.
        if let Ok(written) = write_setting(text, format, &key, &json!(value)) {
            prop_assert_eq!(read_setting(&written, format, &key).unwrap(), Some(json!(value)));
            prop_assert!(written.contains(if format == Format::Json { "// d" } else { "# d" }), "the comment is gone: {}", written);
            let removed = remove_setting(&written, format, &key).unwrap();
            prop_assert_eq!(read_setting(&removed, format, &key).unwrap(), None);
        }
    }

    #[test]
    fn no_text_brings_it_down(text in "[a-z:\\-\\[\\]{}#\"'&*!|> \n=]{0,60}", format in proptest::sample::select(vec![Format::Ini, Format::Toml, Format::Json, Format::Yaml, Format::KeyEqualsValue, Format::KeySpaceValue])) {
        let _ = write_setting(&text, format, &["a", "b"], &json!("x"));
        let _ = write_setting(&text, format, &["a"], &json!("x"));
        let _ = remove_setting(&text, format, &["a", "b"]);
    }
}

#[test]
fn what_ends_other_lines_is_never_touched() {
    assert_eq!(set("a=1\r\nb=2\n\nc=3", Format::KeyEqualsValue, &["b"], "9"), "a=1\r\nb=9\n\nc=3");
    assert_eq!(set("[s]\r\na=1\nlast=2", Format::Ini, &["s", "b"], "9"), "[s]\r\na=1\nlast=2\r\nb=9\r\n");
    for (text, format) in [
        ("a=1\r\nb=2\nlast", Format::KeyEqualsValue),
        ("a = 1\r\nb = 2", Format::Toml),
        ("{\"a\": 1}", Format::Json),
    ] {
        assert_eq!(remove_setting(text, format, &["not_there"]).unwrap(), text);
    }
    assert_eq!(set("a = 1\r\nb = 2", Format::Toml, &["b"], 3), "a = 1\r\nb = 3");
    let line = Line::new(Some("b"), Some("^b"), None).unwrap();
    assert_eq!(line.write("a\r\nb=1\nc").unwrap(), "a\r\nb\nc");
    assert_eq!(Line::new(Some("d"), None, None).unwrap().write("a\r\nc").unwrap(), "a\r\nc\r\nd\r\n");
}

#[test]
fn a_deep_key_takes_no_longer_than_a_shallow_one_whatever_stands_before_the_object() {
    let key = ["a"; 32];
    #[expect(clippy::disallowed_methods, reason = "how long it takes is what is asked")]
    let began = std::time::Instant::now();
    for (text, format) in
        [("\n {}", Format::Json), ("\n ", Format::Json), ("", Format::Toml), ("", Format::Yaml)]
    {
        let written = set(text, format, &key, 1);
        assert_eq!(read_setting(&written, format, &key).unwrap(), Some(json!(1)), "{written}");
    }
    assert!(began.elapsed().as_secs() < 2, "took {:?}", began.elapsed());
    assert_eq!(
        refused(write_setting("{}", Format::Json, &["a"; 33], &json!(1))),
        "`key` goes 33 names deep, and at most 32 are followed"
    );
}

#[test]
fn a_comment_after_a_flow_map_is_not_taken_for_a_part_of_it() {
    assert_eq!(set("a: {b: 1} # über\n", Format::Yaml, &["a", "c"], 2), "a: {b: 1, c: 2} # über\n");
    assert_eq!(set("{a: [1, 2]} #ü", Format::Yaml, &["b"], 2), "{a: [1, 2], b: 2} #ü");
    assert_eq!(
        set("# Grüße\na: [1] # ä\nb: 2 # ö\n", Format::Yaml, &["a"], 3),
        "# Grüße\na: 3 # ä\nb: 2 # ö\n"
    );
    let odd = write_setting(" -o$2:\n - {b: y$2,[nets:]} ", Format::Yaml, &["a"], &json!(1));
    assert!(odd.is_err(), "whatever is wrong with it, it is said: {odd:?}");
    let anchored = remove_setting("e:\na: &x {x: 1}\n", Format::Yaml, &["a", "x"]);
    assert_eq!(refused(anchored), "the key shares its line with other parts of the file");
    assert_eq!(
        remove_setting("a: {b: {c: 1} # ü\n, d: 2}\n", Format::Yaml, &["a", "d"]).unwrap(),
        "a: {b: {c: 1} # ü\n}\n"
    );
}

#[test]
fn below_a_toml_table_on_one_line_new_tables_are_on_it_too() {
    assert_eq!(
        set("a = {b = 1}\n", Format::Toml, &["a", "c", "d", "e"], 2),
        "a = {b = 1, c = { d = { e = 2 } } }\n"
    );
    assert!(write_setting("a ={b = 1,}\n", Format::Toml, &["a", "b\"c\"", "d"], &json!(1)).is_ok());
}
