//! dnf's repositories in the format of dnf.conf(5).

use super::{Format, Written, file_name};
use crate::error::HostError;
use constans_core::compare::FoundValue;
use constans_core::state::Clause;

pub(super) const FORMAT: Format = Format {
    needs: "/etc/yum.repos.d",
    folder: "/etc/yum.repos.d",
    extension: "repo",
    keys: "/etc/pki/rpm-gpg",
    read,
    write,
};

fn read(name: &str, text: &str) -> Written {
    let section = format!("[{name}]");
    let lines = text
        .lines()
        .map(str::trim)
        .skip_while(|line| *line != section)
        .skip(1)
        .take_while(|line| !line.starts_with('['));
    let entries: Vec<(&str, &str)> = lines
        .filter_map(|line| line.split_once('='))
        .map(|(key, value)| (key.trim(), value.trim()))
        .collect();
    let value =
        |key: &str| entries.iter().find(|(entries, _)| *entries == key).map(|(_, value)| (*value).to_owned());
    let is_checked = value("gpgcheck").is_some_and(|value| value == "1");
    Written {
        is_enabled: value("enabled").is_none_or(|value| value != "0"),
        url: value("baseurl").unwrap_or_default(),
        suite: has_none("suite"),
        parts: has_none("parts"),
        // A key that nothing is compared with signs nothing.
        key: value("gpgkey")
            .filter(|_| is_checked)
            .and_then(|key| key.strip_prefix("file://").map(str::to_owned)),
    }
}

fn write(clause: &Clause, key: Option<&str>) -> Result<String, HostError> {
    let name = file_name(clause.name());
    let url = clause.text("url").unwrap_or_default();
    let signed = key.map(|key| format!("gpgcheck=1\ngpgkey=file://{key}\n")).unwrap_or_default();
    Ok(format!("[{name}]\nname={name}\nbaseurl={url}\nenabled=1\n{signed}"))
}

fn has_none(property: &str) -> FoundValue {
    FoundValue::NotExaminedHere(format!("repositories of rpm packages have no {property}, the url says all"))
}
