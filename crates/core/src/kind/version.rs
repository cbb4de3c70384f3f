//! Wishes for a package's version and how a version fits them.
//!
//! Versions are ordered as Debian Policy 5.6.12 orders them.

use debversion::Version;
use std::fmt;

/// What version of a package is wanted.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum VersionWish {
    /// Exactly this one.
    Exact(String),
    /// One that fits a pattern with `*`.
    Pattern(String),
    /// One that fulfils every bound.
    Range(Vec<(Bound, String)>),
    /// The newest that the package's sources offer.
    Newest,
}

/// One bound of a range.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Bound {
    /// `<`
    Below,
    /// `<=`
    AtMost,
    /// `>=`
    AtLeast,
    /// `>`
    Above,
}

/// Why a text is no wish for a version.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum VersionWishError {
    /// A bound has no sign or no version.
    #[error("`{0}` is no bound of a version range")]
    Bound(String),
    /// Not a version of a package.
    #[error("`{0}` is not a version")]
    Version(String),
}

impl VersionWish {
    /// Reads a wish: `3.2.1`, `3.2.*`, `>= 3.2, < 4` or `newest`.
    ///
    /// # Errors
    ///
    /// Returns the part that cannot be read.
    pub fn parse(text: &str) -> Result<Self, VersionWishError> {
        let text = text.trim();
        if text == "newest" {
            return Ok(Self::Newest);
        }
        if text.starts_with(['<', '>']) {
            return text.split(',').map(parse_bound).collect::<Result<_, _>>().map(Self::Range);
        }
        if text.is_empty() || text.chars().any(char::is_whitespace) {
            return Err(VersionWishError::Version(text.to_owned()));
        }
        if text.contains('*') {
            return Ok(Self::Pattern(text.to_owned()));
        }
        version(text).ok_or_else(|| VersionWishError::Version(text.to_owned()))?;
        Ok(Self::Exact(text.to_owned()))
    }

    /// Returns whether a version fits. `newest` fits only the candidate that the sources offer; without one, any.
    pub fn fits(&self, found: &str, candidate: Option<&str>) -> bool {
        match self {
            Self::Exact(wanted) => found == wanted,
            Self::Pattern(pattern) => wildmatch::WildMatch::new(pattern).matches(found),
            Self::Range(bounds) => version(found)
                .is_some_and(|found| bounds.iter().all(|(bound, limit)| version(limit).is_some_and(|limit| bound.holds(&found, &limit)))),
            Self::Newest => candidate.is_none_or(|candidate| candidate == found),
        }
    }

    /// Returns the newest of the versions that fit.
    pub fn best<'v>(&self, offered: impl IntoIterator<Item = &'v str>) -> Option<&'v str> {
        offered.into_iter().filter(|offer| self.fits(offer, None)).max_by(|left, right| version(left).cmp(&version(right)))
    }
}

impl Bound {
    fn holds(self, found: &Version, limit: &Version) -> bool {
        match self {
            Self::Below => found < limit,
            Self::AtMost => found <= limit,
            Self::AtLeast => found >= limit,
            Self::Above => found > limit,
        }
    }
}

impl fmt::Display for VersionWish {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Exact(text) | Self::Pattern(text) => f.write_str(text),
            Self::Newest => f.write_str("newest"),
            Self::Range(bounds) => {
                let words: Vec<String> = bounds.iter().map(|(bound, limit)| format!("{} {limit}", bound.sign())).collect();
                f.write_str(&words.join(", "))
            }
        }
    }
}

impl Bound {
    fn sign(self) -> &'static str {
        match self {
            Self::Below => "<",
            Self::AtMost => "<=",
            Self::AtLeast => ">=",
            Self::Above => ">",
        }
    }
}

fn parse_bound(text: &str) -> Result<(Bound, String), VersionWishError> {
    let text = text.trim();
    // The longer signs first: "<=" begins with "<".
    for bound in [Bound::AtMost, Bound::AtLeast, Bound::Below, Bound::Above] {
        if let Some(limit) = text.strip_prefix(bound.sign()) {
            let limit = limit.trim();
            version(limit).ok_or_else(|| VersionWishError::Version(limit.to_owned()))?;
            return Ok((bound, limit.to_owned()));
        }
    }
    Err(VersionWishError::Bound(text.to_owned()))
}

fn version(text: &str) -> Option<Version> {
    text.parse().ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn versions_fit_their_wishes() {
        for (wish, found, fits) in [
            ("3.2.1", "3.2.1", true),
            ("3.2.1", "3.2.1-1", false),
            ("3.2.*", "3.2.10", true),
            ("3.2.*", "3.3.0", false),
            (">= 3.2, < 4", "3.10", true),
            (">= 3.2, < 4", "4.0", false),
            (">= 3.2", "3.2~rc1", false),
            ("> 1:1.0", "9.0", false),
            ("newest", "1.0", true),
        ] {
            assert_eq!(VersionWish::parse(wish).unwrap().fits(found, None), fits, "{wish} and {found}");
        }
    }

    #[test]
    fn newest_is_held_against_what_the_sources_offer() {
        assert!(!VersionWish::Newest.fits("1.0", Some("1.1")));
    }

    #[test]
    fn the_best_offer_is_the_newest_that_fits() {
        let wish = VersionWish::parse("3.2.*").unwrap();
        assert_eq!(wish.best(["3.2.9", "3.2.10", "4.0"]), Some("3.2.10"));
    }

    #[test]
    fn what_cannot_be_read_is_named() {
        assert_eq!(VersionWish::parse(">= 3.2, 4").unwrap_err().to_string(), "`4` is no bound of a version range");
        assert_eq!(VersionWish::parse("a b").unwrap_err().to_string(), "`a b` is not a version");
    }
}
