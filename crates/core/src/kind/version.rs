//! Wishes for a package's version and how a version fits them.
//!
//! Versions are ordered as the node's packages order theirs: by Debian Policy 5.6.12, or as rpm-version(7) says.

use debversion::Version;
use rpm_version::Evr;
use std::cmp::Ordering;
use std::fmt;

/// How the versions of a node's packages are ordered.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum VersionOrder {
    /// As dpkg does.
    #[default]
    Dpkg,
    /// As rpm does; where one of two versions says no release, only the rest counts.
    Rpm,
}

impl VersionOrder {
    /// Compares two versions; nothing if one of them is none in this order.
    pub fn compare(self, left: &str, right: &str) -> Option<Ordering> {
        match self {
            Self::Dpkg => Some(left.parse::<Version>().ok()?.cmp(&right.parse().ok()?)),
            Self::Rpm => {
                let [(left_epoch, left_version, left_release), (right_epoch, right_version, right_release)] =
                    [left, right].map(Evr::parse_values);
                let one_says_no_release = left_release.is_empty() || right_release.is_empty();
                let [left_release, right_release] =
                    if one_says_no_release { ["", ""] } else { [left_release, right_release] };
                Some(Evr::new(left_epoch, left_version, left_release).cmp(&Evr::new(
                    right_epoch,
                    right_version,
                    right_release,
                )))
            }
        }
    }

    /// Returns the newest of these versions.
    pub fn newest<'v>(self, versions: impl IntoIterator<Item = &'v str>) -> Option<&'v str> {
        versions.into_iter().reduce(|newest, next| {
            if self.compare(next, newest) == Some(Ordering::Greater) { next } else { newest }
        })
    }
}

/// What version of a package is wanted.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum VersionRequirement {
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
pub enum VersionRequirementError {
    /// A bound has no sign or no version.
    #[error("`{0}` is no bound of a version range")]
    Bound(String),
    /// Not a version of a package.
    #[error("`{0}` is not a version")]
    Version(String),
}

impl VersionRequirement {
    /// Reads a wish: `3.2.1`, `3.2.*`, `>= 3.2, < 4` or `newest`.
    ///
    /// # Errors
    ///
    /// Returns the part that cannot be read.
    pub fn parse(text: &str) -> Result<Self, VersionRequirementError> {
        let text = text.trim();
        if text == "newest" {
            return Ok(Self::Newest);
        }
        if text.starts_with(['<', '>']) {
            return text.split(',').map(parse_bound).collect::<Result<_, _>>().map(Self::Range);
        }
        if text.is_empty() || text.chars().any(char::is_whitespace) {
            return Err(VersionRequirementError::Version(text.to_owned()));
        }
        if text.contains('*') {
            return Ok(Self::Pattern(text.to_owned()));
        }
        must_be_version(text)?;
        Ok(Self::Exact(text.to_owned()))
    }

    /// Returns whether a version fits. `newest` fits only the candidate that the sources offer; without one, any.
    pub fn fits(&self, found: &str, candidate: Option<&str>, order: VersionOrder) -> bool {
        match self {
            Self::Exact(wanted) if order == VersionOrder::Dpkg => found == wanted,
            Self::Exact(wanted) => order.compare(found, wanted) == Some(Ordering::Equal),
            Self::Pattern(pattern) => wildmatch::WildMatch::new(pattern).matches(found),
            Self::Range(bounds) => bounds
                .iter()
                .all(|(bound, limit)| order.compare(found, limit).is_some_and(|order| bound.holds(order))),
            Self::Newest => candidate.is_none_or(|candidate| candidate == found),
        }
    }

    /// Returns the newest of the versions that fit.
    pub fn best<'v>(
        &self,
        offered: impl IntoIterator<Item = &'v str>,
        order: VersionOrder,
    ) -> Option<&'v str> {
        order.newest(offered.into_iter().filter(|offer| self.fits(offer, None, order)))
    }
}

impl Bound {
    fn holds(self, found_to_limit: Ordering) -> bool {
        match self {
            Self::Below => found_to_limit.is_lt(),
            Self::AtMost => found_to_limit.is_le(),
            Self::AtLeast => found_to_limit.is_ge(),
            Self::Above => found_to_limit.is_gt(),
        }
    }
}

impl fmt::Display for VersionRequirement {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Exact(text) | Self::Pattern(text) => f.write_str(text),
            Self::Newest => f.write_str("newest"),
            Self::Range(bounds) => {
                let words: Vec<String> =
                    bounds.iter().map(|(bound, limit)| format!("{} {limit}", bound.sign())).collect();
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

fn parse_bound(text: &str) -> Result<(Bound, String), VersionRequirementError> {
    let text = text.trim();
    // The longer signs first: "<=" begins with "<".
    for bound in [Bound::AtMost, Bound::AtLeast, Bound::Below, Bound::Above] {
        if let Some(limit) = text.strip_prefix(bound.sign()) {
            let limit = limit.trim();
            must_be_version(limit)?;
            return Ok((bound, limit.to_owned()));
        }
    }
    Err(VersionRequirementError::Bound(text.to_owned()))
}

/// Where a document is read it is not known which packages a node has: a version is one if either could have it.
fn must_be_version(text: &str) -> Result<(), VersionRequirementError> {
    let may_be_of_rpm = text.starts_with(|first: char| first.is_ascii_alphanumeric())
        && text.chars().all(|character| character.is_ascii_alphanumeric() || "._+~^:-".contains(character));
    if may_be_of_rpm || text.parse::<Version>().is_ok() {
        Ok(())
    } else {
        Err(VersionRequirementError::Version(text.to_owned()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn versions_fit_their_wishes() {
        for (requirement, found, fits) in [
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
            assert_eq!(
                VersionRequirement::parse(requirement).unwrap().fits(found, None, VersionOrder::Dpkg),
                fits,
                "{requirement} and {found}"
            );
        }
    }

    #[test]
    fn rpm_counts_the_release_only_where_both_say_one() {
        for (requirement, found, fits) in [
            ("3.2.1", "3.2.1-1", true),
            ("3.2.1-2", "3.2.1-1", false),
            ("3.2.1", "1:3.2.1-1", false),
            ("3.2.*", "3.2.10-1.el9", true),
            (">= 3.2, < 4", "3.10-1", true),
            ("< 4", "4-1", false),
            ("> 3.2-1", "3.2-2", true),
            (">= 3.2", "3.2~rc1-1", false),
            ("> 1.0", "1.0^git7-1", true),
        ] {
            assert_eq!(
                VersionRequirement::parse(requirement).unwrap().fits(found, None, VersionOrder::Rpm),
                fits,
                "{requirement} and {found}"
            );
        }
    }

    #[test]
    fn newest_is_held_against_what_the_sources_offer() {
        assert!(!VersionRequirement::Newest.fits("1.0", Some("1.1"), VersionOrder::Dpkg));
    }

    #[test]
    fn the_best_offer_is_the_newest_that_fits() {
        let requirement = VersionRequirement::parse("3.2.*").unwrap();
        assert_eq!(requirement.best(["3.2.9", "3.2.10", "4.0"], VersionOrder::Dpkg), Some("3.2.10"));
    }

    #[test]
    fn what_cannot_be_read_is_named() {
        assert_eq!(
            VersionRequirement::parse(">= 3.2, 4").unwrap_err().to_string(),
            "`4` is no bound of a version range"
        );
        assert_eq!(VersionRequirement::parse("a b").unwrap_err().to_string(), "`a b` is not a version");
    }
}
