//! Addresses of clauses, `kind:name`, and patterns of them.

use serde::{Deserialize, Serialize, Serializer};
use std::fmt;
use std::sync::Arc;
use unicode_normalization::{UnicodeNormalization, is_nfc};

/// The longest name of a clause, in bytes.
pub const LONGEST_NAME: usize = 255;

/// Names one clause: its kind and its name, split at the first `:` only.
/// Copies share its text.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Deserialize)]
#[serde(try_from = "String")]
pub struct ClauseAddress {
    text: Arc<str>,
    colon: usize,
}

#[cfg(feature = "schema")]
impl utoipa::PartialSchema for ClauseAddress {
    fn schema() -> utoipa::openapi::RefOr<utoipa::openapi::schema::Schema> {
        String::schema()
    }
}

#[cfg(feature = "schema")]
impl utoipa::ToSchema for ClauseAddress {}

/// Why a text is no address of a clause.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum AddressError {
    /// There is no `:`.
    #[error("`{0}` has no `:` between kind and name")]
    NoColon(String),
    /// There is nothing before or after the `:`.
    #[error("`{0}` has no {1}")]
    Empty(String, &'static str),
    /// The name has a control character.
    #[error("the name holds the control character U+{0:04X}")]
    ControlCharacter(u32),
    /// The name is longer than [`LONGEST_NAME`].
    #[error("the name has {0} bytes, at most {LONGEST_NAME} are allowed")]
    TooLong(usize),
}

impl ClauseAddress {
    /// Reads `kind:name`. The name is normalized to NFC.
    ///
    /// # Errors
    ///
    /// Returns what is wrong with the text; whether the kind exists is not asked here.
    pub fn parse(text: &str) -> Result<Self, AddressError> {
        let Some((kind, name)) = text.split_once(':') else {
            return Err(AddressError::NoColon(text.to_owned()));
        };
        if kind.is_empty() {
            return Err(AddressError::Empty(text.to_owned(), "kind"));
        }
        if name.is_empty() {
            return Err(AddressError::Empty(text.to_owned(), "name"));
        }
        if let Some(control) = text.chars().find(|c| c.is_control()) {
            return Err(AddressError::ControlCharacter(control as u32));
        }
        let text = if name.is_ascii() || is_nfc(name) {
            Arc::from(text)
        } else {
            format!("{kind}:{}", name.nfc()).into()
        };
        let address = Self { text, colon: kind.len() };
        if address.name().len() > LONGEST_NAME {
            return Err(AddressError::TooLong(address.name().len()));
        }
        Ok(address)
    }

    /// Returns the kind's name.
    pub fn kind(&self) -> &str {
        &self.text[..self.colon]
    }

    /// Returns the name within the kind.
    pub fn name(&self) -> &str {
        &self.text[self.colon + 1..]
    }

    /// Returns the whole address.
    pub fn as_str(&self) -> &str {
        &self.text
    }
}

impl fmt::Display for ClauseAddress {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

impl TryFrom<String> for ClauseAddress {
    type Error = AddressError;
    fn try_from(text: String) -> Result<Self, AddressError> {
        Self::parse(&text)
    }
}

impl Serialize for ClauseAddress {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(&self.text)
    }
}

/// Returns whether an address fits a pattern, in which `*` stands for any characters and `?` for one.
pub fn fits(pattern: &str, address: &ClauseAddress) -> bool {
    fits_text(pattern, address.as_str())
}

/// Returns whether a text fits a pattern, in which `*` stands for any characters and `?` for one.
pub fn fits_text(pattern: &str, text: &str) -> bool {
    wildmatch::WildMatch::new(pattern).matches(text)
}

/// Returns whether a text is a pattern rather than one address.
pub fn is_pattern(text: &str) -> bool {
    text.contains(['*', '?'])
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_the_first_colon_splits() {
        let address = ClauseAddress::parse("file:/etc/a:b").unwrap();
        assert_eq!((address.kind(), address.name()), ("file", "/etc/a:b"));
    }

    #[test]
    fn names_are_nfc_so_that_one_name_has_one_spelling() {
        assert_eq!(
            ClauseAddress::parse("account:jose\u{301}").unwrap(),
            ClauseAddress::parse("account:jos\u{e9}").unwrap()
        );
    }

    #[test]
    fn what_is_no_address_is_refused_with_its_reason() {
        for (text, reason) in [
            ("package", "`package` has no `:` between kind and name"),
            (":x", "`:x` has no kind"),
            ("file:", "`file:` has no name"),
            ("file:/a\u{7}", "the name holds the control character U+0007"),
            (&format!("file:/{}", "x".repeat(255)), "the name has 256 bytes, at most 255 are allowed"),
        ] {
            assert_eq!(ClauseAddress::parse(text).unwrap_err().to_string(), reason);
        }
    }

    #[test]
    fn a_star_reaches_across_slashes() {
        assert!(fits("file:/etc/kiosk/*", &ClauseAddress::parse("file:/etc/kiosk/lanes/A.conf").unwrap()));
        assert!(!fits("file:/etc/kiosk/*", &ClauseAddress::parse("file:/etc/issue").unwrap()));
    }
}
