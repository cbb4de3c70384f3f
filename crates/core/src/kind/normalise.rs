//! Brings the values of properties into the one form in which they are compared and digested.

use super::property::{ValueType, Words};
use super::version::VersionRequirement;
use crate::document::type_word;
use serde_json::{Value, json};

/// Why a value is refused, and what to write instead.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Refused {
    /// What is wrong, one fact.
    pub message: String,
    /// The line to write instead, or what to do.
    pub hint: Option<String>,
}

impl Refused {
    fn new(message: impl Into<String>) -> Self {
        Self { message: message.into(), hint: None }
    }

    fn hint(mut self, hint: impl Into<String>) -> Self {
        self.hint = Some(hint.into());
        self
    }
}

/// Returns a value in its normal form.
///
/// # Errors
///
/// Returns what is wrong with it in the eyes of a person who wrote it for the property `name`.
pub fn normalise(name: &str, value_type: ValueType<'_>, value: &Value) -> Result<Value, Refused> {
    match value_type {
        ValueType::Text | ValueType::Contents => {
            text(value).map(Value::from).ok_or_else(|| wrong(name, "a text", value))
        }
        ValueType::KitPath => kit_path(name, value),
        ValueType::Path => {
            absolute_path(value.as_str().ok_or_else(|| wrong(name, "a path in quotes", value))?)
                .map(Value::from)
        }
        ValueType::LinkTarget => match value.as_str() {
            Some(target) if !target.is_empty() && !target.contains('\0') => Ok(value.clone()),
            _ => Err(wrong(name, "the path that the link points at", value)),
        },
        ValueType::Boolean => {
            value.as_bool().map(Value::from).ok_or_else(|| wrong(name, "`true` or `false`", value))
        }
        ValueType::Id => id(name, value),
        ValueType::Integer => {
            value.as_i64().map(Value::from).ok_or_else(|| wrong(name, "a whole number", value))
        }
        ValueType::Permissions => permissions(name, value),
        ValueType::TextSet => text_set(name, value),
        ValueType::Argv => argv(name, value),
        ValueType::Condition => condition(name, value),
        ValueType::TextMap => text_map(name, value),
        ValueType::Duration => duration(name, value),
        ValueType::Version => version(name, value),
        ValueType::PasswordHash => password_hash(value),
        ValueType::TextList => texts(name, value).map(Value::from),
        ValueType::Any => Ok(value.clone()),
        ValueType::Word(words) => word(name, words, value),
        ValueType::SysctlValue => {
            let value = text(value).ok_or_else(|| wrong(name, "a text or a number", value))?;
            Ok(json!(value.split_whitespace().collect::<Vec<_>>().join(" ")))
        }
        ValueType::Port => match value.as_u64() {
            Some(port) if (1..=65_535).contains(&port) => Ok(json!(port)),
            _ => Err(wrong(name, "a port from 1 to 65535", value)),
        },
        ValueType::Mebibytes => match value.as_u64() {
            Some(size) if (1..=1_024).contains(&size) => Ok(json!(size)),
            _ => Err(wrong(name, "a size in MiB from 1 to 1024", value)),
        },
        ValueType::Expectation => expectation(name, value),
        shaped => shaped_text(name, shaped, value),
    }
}

fn wrong(name: &str, wanted: &str, value: &Value) -> Refused {
    Refused::new(format!("`{name}` takes {wanted}, and this is {}", type_word(value)))
}

fn text(value: &Value) -> Option<String> {
    match value {
        Value::String(text) => Some(text.clone()),
        Value::Number(number) => Some(number.to_string()),
        Value::Bool(boolean) => Some(boolean.to_string()),
        _ => None,
    }
}

fn kit_path(name: &str, value: &Value) -> Result<Value, Refused> {
    let path = value.as_str().ok_or_else(|| wrong(name, "a path within the kit, in quotes", value))?;
    let safe = !path.is_empty()
        && !path.starts_with('/')
        && !path.split('/').any(|part| matches!(part, "" | "." | ".."));
    safe.then(|| value.clone()).ok_or_else(|| {
        Refused::new(format!("`{path}` leads out of the kit"))
            .hint(format!("`{name}` is a path below the kit's folder for it, without `..`"))
    })
}

/// Returns an absolute path without doubled slashes, `.` and a slash at its end.
pub(crate) fn absolute_path(path: &str) -> Result<String, Refused> {
    if !path.starts_with('/') {
        return Err(
            Refused::new(format!("`{path}` is not an absolute path")).hint(format!("write `/{path}`"))
        );
    }
    if path.contains('\0') || path.split('/').any(|part| part == "..") {
        return Err(Refused::new(format!("`{path}` must not hold `..`")).hint("write the path that is meant"));
    }
    let parts: Vec<&str> = path.split('/').filter(|part| !matches!(*part, "" | ".")).collect();
    Ok(format!("/{}", parts.join("/")))
}

fn id(name: &str, value: &Value) -> Result<Value, Refused> {
    match value.as_u64() {
        Some(id) if id < u64::from(u32::MAX) => Ok(json!(id)),
        _ => Err(wrong(name, "a whole number from 0 to 4294967294", value)),
    }
}

fn permissions(name: &str, value: &Value) -> Result<Value, Refused> {
    let digits = match value {
        Value::String(digits) => digits,
        Value::Number(number) => {
            return Err(Refused::new(format!("`{name}` takes octal digits in quotes, and this is a number"))
                .hint(format!("write {name} = \"{:0>4}\"", number.to_string())));
        }
        other => return Err(wrong(name, "octal digits in quotes", other)),
    };
    let octal = (3..=4).contains(&digits.len()) && digits.chars().all(|digit| digit.is_digit(8));
    if !octal {
        return Err(Refused::new(format!("`{digits}` is not three or four octal digits"))
            .hint(format!("write {name} = \"0644\", or what is meant")));
    }
    Ok(json!(format!("{digits:0>4}")))
}

fn texts(name: &str, value: &Value) -> Result<Vec<String>, Refused> {
    let list = value.as_array().ok_or_else(|| wrong(name, "a list of texts", value))?;
    list.iter().map(|item| text(item).ok_or_else(|| wrong(name, "a list of texts", item))).collect()
}

fn text_set(name: &str, value: &Value) -> Result<Value, Refused> {
    let mut set = texts(name, value)?;
    set.sort();
    set.dedup();
    Ok(json!(set))
}

fn argv(name: &str, value: &Value) -> Result<Value, Refused> {
    if let Value::String(line) = value {
        let words: Vec<String> = line.split_whitespace().map(|word| format!("{word:?}")).collect();
        return Err(Refused::new(format!("`{name}` takes a list: the program, then its arguments"))
            .hint(format!("write {name} = [{}]", words.join(", "))));
    }
    let words = texts(name, value)?;
    if words.first().is_none_or(String::is_empty) {
        return Err(Refused::new(format!("`{name}` names no program")));
    }
    if words.iter().any(|word| word.contains('\0')) {
        return Err(Refused::new(format!("`{name}` must not hold a NUL character")));
    }
    Ok(json!(words))
}

fn condition(name: &str, value: &Value) -> Result<Value, Refused> {
    match value {
        Value::String(path) => absolute_path(path).map(Value::from),
        Value::Array(_) => argv(name, value),
        other => Err(wrong(name, "a path in quotes, or a program with its arguments as a list", other)),
    }
}

fn text_map(name: &str, value: &Value) -> Result<Value, Refused> {
    let map = value.as_object().ok_or_else(|| wrong(name, "a map of names and texts", value))?;
    let mut normal = serde_json::Map::new();
    for (key, item) in map {
        normal.insert(key.clone(), text(item).map(Value::from).ok_or_else(|| wrong(key, "a text", item))?);
    }
    Ok(Value::Object(normal))
}

fn duration(name: &str, value: &Value) -> Result<Value, Refused> {
    let written = value.as_str().ok_or_else(|| {
        wrong(name, "a duration in quotes, as \"30s\"", value).hint(format!("write {name} = \"30s\""))
    })?;
    duration_secs(written).map(|secs| json!(secs)).ok_or_else(|| {
        Refused::new(format!("`{written}` is not a duration of at least one second"))
            .hint("write it as \"30s\", \"5m\", \"2h\" or \"1d\"")
    })
}

/// Returns the seconds of `30s`, `5m`, `2h`, `1d`; `None` if it is no such text or less than a second.
pub fn duration_secs(text: &str) -> Option<u64> {
    let unit = text.chars().last()?;
    let count: u64 = text[..text.len() - unit.len_utf8()].trim().parse().ok()?;
    let secs = match unit {
        's' => 1,
        'm' => 60,
        'h' => 3_600,
        'd' => 86_400,
        _ => return None,
    };
    count.checked_mul(secs).filter(|secs| *secs > 0)
}

fn version(name: &str, value: &Value) -> Result<Value, Refused> {
    let requirement = match value {
        Value::String(requirement) => requirement,
        Value::Number(number) => {
            return Err(Refused::new(format!("`{name}` takes a version in quotes, and this is a number"))
                .hint(format!("write {name} = \"{number}\"")));
        }
        other => return Err(wrong(name, "a version in quotes", other)),
    };
    match VersionRequirement::parse(requirement) {
        Ok(requirement) => Ok(json!(requirement.to_string())),
        Err(error) => Err(Refused::new(error.to_string())
            .hint("write a version, a pattern \"3.2.*\", a range \">= 3.2, < 4\", or \"newest\"")),
    }
}

fn word(name: &str, words: Words<'_>, value: &Value) -> Result<Value, Refused> {
    let word = value.as_str().ok_or_else(|| wrong(name, "a word in quotes", value))?;
    if words.iter().any(|one| one == word) {
        return Ok(value.clone());
    }
    let all: Vec<String> = words.iter().map(|word| format!("`{word}`")).collect();
    let refused = Refused::new(format!("`{name}` is one of {}, and this is `{word}`", all.join(", ")));
    Err(match crate::nearest::nearest_word(word, words.iter()) {
        Some(near) => refused.hint(format!("did you mean `{near}`?")),
        None => refused,
    })
}

fn expectation(name: &str, value: &Value) -> Result<Value, Refused> {
    let usage = "write expect = { exit = 0, stdout = \"a regular expression\" }, or one of both";
    let entries = value
        .as_object()
        .filter(|entries| !entries.is_empty())
        .ok_or_else(|| wrong(name, "a map of `exit` and `stdout`", value).hint(usage))?;
    for (key, value) in entries {
        match key.as_str() {
            "exit" if value.as_u64().is_some_and(|exit| exit < 256) => {}
            "exit" => return Err(Refused::new("`exit` is a number from 0 to 255").hint(usage)),
            "stdout" => drop(shaped_text("stdout", ValueType::Pattern, value)?),
            other => return Err(Refused::new(format!("`{name}` has no `{other}`")).hint(usage)),
        }
    }
    Ok(value.clone())
}

/// Texts of a certain shape.
fn shaped_text(name: &str, shape: ValueType, value: &Value) -> Result<Value, Refused> {
    let word = value.as_str().ok_or_else(|| wrong(name, &format!("{} in quotes", shape.words()), value))?;
    let (fits, example) = match shape {
        ValueType::Pattern => (
            regex::RegexBuilder::new(word).size_limit(256 * 1024).build().is_ok(),
            r"\shub\.skerry\.example$",
        ),
        ValueType::Url => (
            ["https://", "http://", "file:"].iter().any(|scheme| word.starts_with(scheme))
                && !word.contains(char::is_whitespace),
            "https://packages.skerry.example/debian",
        ),
        ValueType::Fingerprint => {
            let digits: String = word.chars().filter(|c| !c.is_whitespace() && *c != ':').collect();
            let fits = matches!(digits.len(), 40 | 64) && digits.chars().all(|c| c.is_ascii_hexdigit());
            return fits.then(|| json!(digits.to_ascii_uppercase())).ok_or_else(|| {
                Refused::new(format!("`{name}` takes 40 or 64 hexadecimal digits"))
                    .hint("copy the fingerprint whole")
            });
        }
        ValueType::CronTime => (is_cron_time(word), "15 3 * * *"),
        ValueType::SshKey => (is_ssh_key(word), "ssh-ed25519 AAAAC3Nza…"),
        ValueType::TimeZone => (
            word.split('/').all(|part| {
                !part.is_empty() && part.chars().all(|c| c.is_ascii_alphanumeric() || "_+-".contains(c))
            }),
            "Etc/UTC",
        ),
        ValueType::HostName => (is_host_name(word), "kiosk-auken-1"),
        ValueType::Remote => {
            (is_host_name(word) || word.parse::<std::net::IpAddr>().is_ok(), "hub.skerry.example")
        }
        ValueType::Network => (is_network(word), "192.0.2.0/24"),
        _ => (true, ""),
    };
    fits.then(|| value.clone()).ok_or_else(|| {
        Refused::new(format!("`{name}` takes {}, and `{word}` is none", shape.words()))
            .hint(format!("write it as \"{example}\""))
    })
}

fn is_host_name(text: &str) -> bool {
    text.len() <= 253
        && text.split('.').all(|part| {
            (1..=63).contains(&part.len())
                && !part.starts_with('-')
                && !part.ends_with('-')
                && part.chars().all(|c| c.is_ascii_alphanumeric() || c == '-')
        })
}

/// Returns whether a text has the five fields of crontab(5): numbers, names, `*`, ranges, lists and steps.
fn is_cron_time(text: &str) -> bool {
    const LIMITS: [(u32, u32); 5] = [(0, 59), (0, 23), (1, 31), (1, 12), (0, 7)];
    let fields: Vec<&str> = text.split_whitespace().collect();
    let number = |text: &str, (least, most): (u32, u32)| {
        let is_name = text.len() == 3
            && text.chars().all(|c| c.is_ascii_alphabetic())
            && matches!((least, most), (1, 12) | (0, 7));
        is_name || text.parse::<u32>().is_ok_and(|number| (least..=most).contains(&number))
    };
    let item = |text: &str, limits| {
        let (range, step) = text.split_once('/').map_or((text, None), |(range, step)| (range, Some(step)));
        let ends = range.split_once('-');
        step.is_none_or(|step| step.parse::<u32>().is_ok_and(|step| step > 0))
            && (range == "*"
                || ends.map_or_else(
                    || number(range, limits),
                    |(from, to)| number(from, limits) && number(to, limits),
                ))
    };
    fields.len() == 5
        && fields.iter().zip(LIMITS).all(|(field, limits)| field.split(',').all(|part| item(part, limits)))
}

fn is_ssh_key(text: &str) -> bool {
    let mut words = text.split_whitespace();
    let known = [
        "ssh-ed25519",
        "ssh-rsa",
        "ecdsa-sha2-nistp256",
        "ecdsa-sha2-nistp384",
        "ecdsa-sha2-nistp521",
        "sk-ssh-ed25519@openssh.com",
    ];
    let is_base64 =
        |word: &str| word.len() >= 40 && word.chars().all(|c| c.is_ascii_alphanumeric() || "+/=".contains(c));
    words.next().is_some_and(|word| known.contains(&word))
        && words.next().is_some_and(is_base64)
        && words.next().is_none()
}

fn is_network(text: &str) -> bool {
    let (address, bits) = text.split_once('/').map_or((text, None), |(address, bits)| (address, Some(bits)));
    let Ok(address) = address.parse::<std::net::IpAddr>() else { return false };
    let most = if address.is_ipv4() { 32 } else { 128 };
    bits.is_none_or(|bits| bits.parse::<u8>().is_ok_and(|bits| bits <= most))
}

fn password_hash(value: &Value) -> Result<Value, Refused> {
    let hash = value.as_str().unwrap_or_default();
    let fields: Vec<&str> = hash.split('$').collect();
    let is_hash = fields.len() >= 4
        && fields[0].is_empty()
        && fields.iter().skip(1).all(|field| !field.is_empty())
        && !hash.contains([':', '\n']);
    let is_weak = is_hash && ["1", "md5", "sha1", "3"].contains(&fields[1]);
    if is_weak {
        return Err(Refused::new("this hash is too weak: whoever reads it finds the password")
            .hint("make one with `mkpasswd --method=yescrypt`"));
    }
    // The value itself is never repeated: it may be the password.
    is_hash.then(|| value.clone()).ok_or_else(|| {
        Refused::new("`password_hash` takes a hash as crypt(5) writes it, not the password itself")
            .hint("make one with `mkpasswd --method=yescrypt`, and choose a new password, since this one is written down")
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn shown(name: &str, value_type: ValueType<'_>, value: &Value) -> String {
        match normalise(name, value_type, value) {
            Ok(normal) => normal.to_string(),
            Err(refused) => format!("{}; {}", refused.message, refused.hint.unwrap_or_default()),
        }
    }

    #[test]
    fn values_have_one_normal_form() {
        for (value_type, value, normal) in [
            (ValueType::Permissions, json!("640"), "\"0640\""),
            (ValueType::Text, json!(0), "\"0\""),
            (ValueType::Text, json!(true), "\"true\""),
            (ValueType::Path, json!("//etc/./kiosk/"), "\"/etc/kiosk\""),
            (ValueType::TextSet, json!(["b", "a", "b"]), "[\"a\",\"b\"]"),
            (ValueType::Duration, json!("5m"), "300"),
            (ValueType::Version, json!(">=3.2,<4"), "\">= 3.2, < 4\""),
            (ValueType::Condition, json!("/var//lib/x"), "\"/var/lib/x\""),
            (ValueType::SysctlValue, json!(" 4096\t87380   6291456"), "\"4096 87380 6291456\""),
            (ValueType::SysctlValue, json!(0), "\"0\""),
            (ValueType::Fingerprint, json!("a".repeat(40)), &format!("{:?}", "A".repeat(40))),
            (ValueType::CronTime, json!("*/15 3,4 1-5 jan mon-fri"), "\"*/15 3,4 1-5 jan mon-fri\""),
            (ValueType::Network, json!("2001:db8::/32"), "\"2001:db8::/32\""),
        ] {
            assert_eq!(shown("p", value_type, &value), normal);
        }
    }

    #[test]
    fn what_is_refused_says_what_to_write_instead() {
        for (value_type, value, reason) in [
            (
                ValueType::Permissions,
                json!(640),
                "`p` takes octal digits in quotes, and this is a number; write p = \"0640\"",
            ),
            (
                ValueType::Permissions,
                json!("0888"),
                "`0888` is not three or four octal digits; write p = \"0644\", or what is meant",
            ),
            (
                ValueType::Version,
                json!(3),
                "`p` takes a version in quotes, and this is a number; write p = \"3\"",
            ),
            (
                ValueType::Argv,
                json!("ls -l"),
                "`p` takes a list: the program, then its arguments; write p = [\"ls\", \"-l\"]",
            ),
            (
                ValueType::KitPath,
                json!("../x"),
                "`../x` leads out of the kit; `p` is a path below the kit's folder for it, without `..`",
            ),
            (ValueType::Path, json!("etc/x"), "`etc/x` is not an absolute path; write `/etc/x`"),
            (
                ValueType::CronTime,
                json!("61 3 * * *"),
                "`p` takes five fields of cron, and `61 3 * * *` is none; write it as \"15 3 * * *\"",
            ),
            (
                ValueType::Network,
                json!("192.0.2.0/33"),
                "`p` takes IP address or network, and `192.0.2.0/33` is none; write it as \"192.0.2.0/24\"",
            ),
            (
                ValueType::Mebibytes,
                json!(0),
                "`p` takes a size in MiB from 1 to 1024, and this is an integer; ",
            ),
            (ValueType::Port, json!(0), "`p` takes a port from 1 to 65535, and this is an integer; "),
            (
                ValueType::Word(Words::Table(&["in", "out"])),
                json!("ni"),
                "`p` is one of `in`, `out`, and this is `ni`; did you mean `in`?",
            ),
            (ValueType::Boolean, json!("yes"), "`p` takes `true` or `false`, and this is a text; "),
        ] {
            assert_eq!(shown("p", value_type, &value), reason);
        }
    }

    #[test]
    fn a_plain_password_is_refused_without_being_repeated() {
        let refused = shown("password_hash", ValueType::PasswordHash, &json!("Tern-1234"));
        assert!(refused.contains("mkpasswd") && !refused.contains("Tern-1234"), "{refused}");
        assert!(shown("password_hash", ValueType::PasswordHash, &json!("$y$j9T$salt$hash")).starts_with('"'));
    }
}
