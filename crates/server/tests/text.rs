//! Whatever a caller sends as JSON, PostgreSQL can keep what is read of it, or it is refused before.

use constans_wire::text::without_nul;
use constans_world::Postgres;
use proptest::prelude::*;
use proptest::test_runner::{Config, TestRunner};
use serde_json::Value;
use sqlx::{Connection as _, PgConnection};
use std::cell::{Cell, RefCell};
use std::os::unix::fs::PermissionsExt as _;

/// A string of JSON: plain characters, and escapes of any UTF-16 unit, a NUL and lone surrogates among them.
fn string() -> impl Strategy<Value = String> {
    let unit = prop_oneof![
        4 => any::<u16>().prop_map(|unit| format!("\\u{unit:04x}")),
        2 => Just("\\u0000".to_owned()),
        2 => (0xd800u16..0xe000).prop_map(|unit| format!("\\u{unit:04X}")),
        1 => (0x10000u32..0x110000).prop_map(|point| {
            let point = point - 0x10000;
            format!("\\u{:04x}\\u{:04x}", 0xd800 + (point >> 10), 0xdc00 + (point & 0x3ff))
        }),
        4 => "[^\"\\\\\\x00-\\x1f]".prop_map(|plain| plain),
        1 => Just("\\\\".to_owned()),
        1 => Just("\\n".to_owned()),
    ];
    proptest::collection::vec(unit, 0..6).prop_map(|units| format!("\"{}\"", units.concat()))
}

#[test]
fn whatever_json_is_read_postgres_can_keep() {
    let folder = tempfile::tempdir().unwrap();
    std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o755)).unwrap();
    let postgres = Postgres::start(&folder.path().join("postgres")).unwrap();
    let database = postgres.database("constans").unwrap();
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    let db = RefCell::new(runtime.block_on(PgConnection::connect(&database)).unwrap());
    let (kept, refused) = (Cell::new(0), Cell::new(0));
    let mut runner = TestRunner::new(Config { failure_persistence: None, ..Config::with_cases(2_000) });
    let ran = runner.run(&(string(), string()), |(key, value)| {
        let mut json = format!("{{{key}: [{value}]}}").into_bytes();
        without_nul(&mut json);
        let Ok(read) = serde_json::from_slice::<Value>(&json) else {
            refused.set(refused.get() + 1);
            return Ok(());
        };
        let text = read.as_object().unwrap().values().next().unwrap()[0].as_str().unwrap().to_owned();
        let back: (Value, String) = runtime
            .block_on(
                sqlx::query_as("select $1::jsonb, $2::text")
                    .bind(&read)
                    .bind(&text)
                    .fetch_one(&mut *db.borrow_mut()),
            )
            .map_err(|error| TestCaseError::fail(error.to_string()))?;
        prop_assert_eq!(back, (read, text));
        kept.set(kept.get() + 1);
        Ok(())
    });
    ran.unwrap();
    assert!(kept.get() > 300 && refused.get() > 300, "{kept:?} kept, {refused:?} refused");
}
