//! The stable fields that an agent reports about its node.

use crate::error::HostError;
use crate::files::Files;
use crate::os_release::os_release;
use crate::packages::{DPKG_STATUS, rpm_database};
use constans_core::filter::About;
use serde_json::{Value, json};
use std::path::Path;

/// Finds out the stable fields. What cannot be found out is left out.
///
/// # Errors
///
/// Returns why the root could not be read.
pub fn find_out(files: &Files, is_private_root: bool) -> Result<About, HostError> {
    let mut fields: Vec<(String, Value)> = Vec::new();
    let mut add =
        |path: &str, value: Option<Value>| fields.extend(value.map(|value| (path.to_owned(), value)));
    let release = os_release(files)?;
    let field = |key: &str| {
        release
            .lines()
            .find_map(|line| line.strip_prefix(key)?.strip_prefix('='))
            .map(|value| value.trim_matches('"').to_owned())
    };
    let name = field("ID");
    let family = field("ID_LIKE")
        .and_then(|like| like.split_whitespace().next().map(str::to_owned))
        .or_else(|| name.clone());
    add("os.family", family.map(Value::from));
    add("os.name", name.map(Value::from));
    add("os.version", field("VERSION_ID").map(Value::from));
    add("arch", Some(json!(std::env::consts::ARCH)));
    add("cpu.count", std::thread::available_parallelism().ok().map(|count| json!(count.get())));
    add("memory.mib", memory_mib().map(Value::from));
    let systemd_runs = !is_private_root && Path::new("/run/systemd/system").is_dir();
    add("init", Some(json!(if systemd_runs { "systemd" } else { "none" })));
    let packages =
        if files.look(DPKG_STATUS)?.is_some() { Some("dpkg") } else { rpm_database(files)?.map(|_| "rpm") };
    add("packages", packages.map(Value::from));
    add("virtual", virtual_kind().map(Value::from));
    Ok(About::new(fields))
}

fn memory_mib() -> Option<u64> {
    let text = std::fs::read_to_string("/proc/meminfo").ok()?;
    let line = text.lines().find_map(|line| line.strip_prefix("MemTotal:"))?;
    let kib: u64 = line.trim().trim_end_matches(" kB").parse().ok()?;
    Some(kib / 1024)
}

fn virtual_kind() -> Option<String> {
    let text = std::fs::read_to_string("/proc/cpuinfo").ok()?;
    let is_virtual = text
        .lines()
        .filter(|line| line.starts_with("flags"))
        .any(|line| line.split_whitespace().any(|flag| flag == "hypervisor"));
    if !is_virtual {
        return Some("none".to_owned());
    }
    let vendor = std::fs::read_to_string("/sys/class/dmi/id/sys_vendor").unwrap_or_default();
    Some(vendor.split_whitespace().next().map_or_else(|| "machine".to_owned(), str::to_lowercase))
}
