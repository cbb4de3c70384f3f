//! Brings the values of properties into the one form in which they are compared and digested.

use super::property::ValueType;
use super::version::VersionWish;
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
pub fn normalise(name: &str, value_type: ValueType, value: &Value) -> Result<Value, Refused> {
    match value_type {
        ValueType::Text | ValueType::Contents => text(value).map(Value::from).ok_or_else(|| wrong(name, "a text", value)),
        ValueType::KitPath => kit_path(name, value),
        ValueType::Path => absolute_path(value.as_str().ok_or_else(|| wrong(name, "a path in quotes", value))?).map(Value::from),
        ValueType::LinkTarget => match value.as_str() {
            Some(target) if !target.is_empty() && !target.contains('\0') => Ok(value.clone()),
            _ => Err(wrong(name, "the path that the link points at", value)),
        },
        ValueType::Boolean => value.as_bool().map(Value::from).ok_or_else(|| wrong(name, "`true` or `false`", value)),
        ValueType::Id => id(name, value),
        ValueType::Permissions => permissions(name, value),
        ValueType::TextSet => text_set(name, value),
        ValueType::Argv => argv(name, value),
        ValueType::Condition => condition(name, value),
        ValueType::TextMap => text_map(name, value),
        ValueType::Duration => duration(name, value),
        ValueType::Version => version(name, value),
        ValueType::PasswordHash => password_hash(value),
    }
}

fn wrong(name: &str, wanted: &str, value: &Value) -> Refused {
    Refused::new(format!("`{name}` takes {wanted}, and this is {}", type_word(value)))
}

/// Returns what a person calls the type of a value.
pub(crate) fn type_word(value: &Value) -> &'static str {
    match value {
        Value::Null => "nothing",
        Value::Bool(_) => "a boolean",
        Value::Number(number) if number.is_f64() => "a number with a fraction",
        Value::Number(_) => "an integer",
        Value::String(_) => "a text",
        Value::Array(_) => "a list",
        Value::Object(_) => "a map",
    }
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
    let safe = !path.is_empty() && !path.starts_with('/') && !path.split('/').any(|part| matches!(part, "" | "." | ".."));
    safe.then(|| value.clone()).ok_or_else(|| {
        Refused::new(format!("`{path}` leads out of the kit")).hint(format!("`{name}` is a path below the kit's folder for it, without `..`"))
    })
}

/// Returns an absolute path without doubled slashes, `.` and a slash at its end.
pub(crate) fn absolute_path(path: &str) -> Result<String, Refused> {
    if !path.starts_with('/') {
        return Err(Refused::new(format!("`{path}` is not an absolute path")).hint(format!("write `/{path}`")));
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
        return Err(Refused::new(format!("`{digits}` is not three or four octal digits")).hint(format!("write {name} = \"0644\", or what is meant")));
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
        return Err(
            Refused::new(format!("`{name}` takes a list: the program, then its arguments")).hint(format!("write {name} = [{}]", words.join(", ")))
        );
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
    let written = value.as_str().ok_or_else(|| wrong(name, "a duration in quotes, as \"30s\"", value).hint(format!("write {name} = \"30s\"")))?;
    duration_secs(written).map(|secs| json!(secs)).ok_or_else(|| {
        Refused::new(format!("`{written}` is not a duration of at least one second")).hint("write it as \"30s\", \"5m\", \"2h\" or \"1d\"")
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
    let wish = match value {
        Value::String(wish) => wish,
        Value::Number(number) => {
            return Err(
                Refused::new(format!("`{name}` takes a version in quotes, and this is a number")).hint(format!("write {name} = \"{number}\""))
            );
        }
        other => return Err(wrong(name, "a version in quotes", other)),
    };
    match VersionWish::parse(wish) {
        Ok(wish) => Ok(json!(wish.to_string())),
        Err(error) => Err(Refused::new(error.to_string()).hint("write a version, a pattern \"3.2.*\", a range \">= 3.2, < 4\", or \"newest\"")),
    }
}

fn password_hash(value: &Value) -> Result<Value, Refused> {
    let hash = value.as_str().unwrap_or_default();
    let fields: Vec<&str> = hash.split('$').collect();
    let is_hash = fields.len() >= 4 && fields[0].is_empty() && fields.iter().skip(1).all(|field| !field.is_empty()) && !hash.contains([':', '\n']);
    // The value itself is never repeated: it may be the password.
    is_hash.then(|| value.clone()).ok_or_else(|| {
        Refused::new("`password_hash` takes a hash as crypt(5) writes it, not the password itself")
            .hint("make one with `mkpasswd --method=yescrypt`, and choose a new password, since this one is written down")
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn shown(name: &str, value_type: ValueType, value: &Value) -> String {
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
        ] {
            assert_eq!(shown("p", value_type, &value), normal);
        }
    }

    #[test]
    fn what_is_refused_says_what_to_write_instead() {
        for (value_type, value, reason) in [
            (ValueType::Permissions, json!(640), "`p` takes octal digits in quotes, and this is a number; write p = \"0640\""),
            (ValueType::Permissions, json!("0888"), "`0888` is not three or four octal digits; write p = \"0644\", or what is meant"),
            (ValueType::Version, json!(3), "`p` takes a version in quotes, and this is a number; write p = \"3\""),
            (ValueType::Argv, json!("ls -l"), "`p` takes a list: the program, then its arguments; write p = [\"ls\", \"-l\"]"),
            (ValueType::KitPath, json!("../x"), "`../x` leads out of the kit; `p` is a path below the kit's folder for it, without `..`"),
            (ValueType::Path, json!("etc/x"), "`etc/x` is not an absolute path; write `/etc/x`"),
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
