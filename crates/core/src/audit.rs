//! The chain of the audit trail: each entry's digest covers the digest of the entry before it.

use crate::digest::{canonical, of_contents};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};

/// An entry of the audit trail as it is chained.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AuditEntry {
    /// Its number.
    pub id: i64,
    /// When, in microseconds since 1970, as it is stored.
    pub at_micros: i64,
    /// Who did it.
    pub who: String,
    /// What was done.
    pub did: String,
    /// To what.
    pub subject: String,
    /// More of it.
    pub detail: Value,
}

/// Returns the digest of an entry in hexadecimal digits: SHA-256 over the digits of the entry before it (nothing for the first) and
/// the canonical JSON (RFC 8785) of the entry.
pub fn chained(before: &str, entry: &AuditEntry) -> String {
    let AuditEntry { id, at_micros, who, did, subject, detail } = entry;
    let value = json!({ "id": id, "at_micros": at_micros, "who": who, "did": did, "subject": subject, "detail": detail });
    let digest = of_contents(&[before.as_bytes(), &canonical(&value)].concat());
    digest.as_str().trim_start_matches("sha256:").to_owned()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_digest_covers_all_that_came_before() {
        let entry = |id| AuditEntry {
            id,
            at_micros: 1,
            who: "tor.havik".into(),
            did: "served".into(),
            subject: "harbour".into(),
            detail: json!({}),
        };
        let first = chained("", &entry(1));
        // printf '%s' '{"at_micros":1,"detail":{},"did":"served","id":1,"subject":"harbour","who":"tor.havik"}' | sha256sum
        assert_eq!(first, "facfd49601bc63344cf2cd028bbc257d0c5e83ce92d02df86a6136e6f7a6cbf5");
        assert_ne!(chained(&first, &entry(2)), chained("", &entry(2)));
        assert_ne!(
            chained(&first, &entry(2)),
            chained(&first, &AuditEntry { who: "pia.lund".into(), ..entry(2) })
        );
    }
}
