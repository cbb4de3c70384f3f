//! Unknown fields in the report of a newer agent, stored as received.

use crate::report::RunReport;
use constans_core::run::ClauseResult;
use serde::de::{Deserialize, Deserializer, Error as _, Visitor};
use serde_json::{Map, Value};

/// The most bytes of JSON that are kept of what is not known.
const MAX_UNKNOWN: usize = 64 * 1024;

/// Adds to a report, as it is stored, the fields of the report and of its clauses that this version does not know. Returns how
/// many were left out since they are too large.
pub fn keep_unknown(stored: &mut Value, sent: &[u8]) -> u64 {
    let Ok(Value::Object(mut sent)) = serde_json::from_slice(sent) else { return 0 };
    let (mut room, mut left_out) = (MAX_UNKNOWN, 0);
    let of_clauses = sent.remove("clauses");
    let mut keep = |into: &mut Map<String, Value>, from: Map<String, Value>, known: &[&str]| {
        for (name, value) in from.into_iter().filter(|(name, _)| !known.contains(&name.as_str())) {
            let bytes = name.len() + value.to_string().len();
            match room.checked_sub(bytes) {
                Some(rest) => {
                    room = rest;
                    into.insert(name, value);
                }
                None => left_out += 1,
            }
        }
    };
    let Value::Object(report) = stored else { return 0 };
    keep(report, sent, fields_of::<RunReport>());
    let known = fields_of::<ClauseResult>();
    let Some(Value::Array(clauses)) = report.get_mut("clauses") else { return left_out };
    let sent_clauses =
        of_clauses.as_ref().and_then(Value::as_array).into_iter().flatten().filter_map(Value::as_object);
    let mut at = 0;
    for sent in sent_clauses {
        // Clauses are in the order in which they came, and some may have been left out.
        let is_it = |stored: &Value| stored["address"] == sent["address"];
        if let Some(Value::Object(clause)) = clauses.get_mut(at).filter(|clause| is_it(clause)) {
            at += 1;
            keep(clause, sent.clone(), known);
        }
    }
    left_out
}

/// Returns the names of the fields that a struct is read from.
fn fields_of<T: for<'de> Deserialize<'de>>() -> &'static [&'static str] {
    let mut fields: &'static [&'static str] = &[];
    let _ = T::deserialize(FieldNames(&mut fields));
    fields
}

/// A deserializer that only learns which fields it is asked for.
struct FieldNames<'a>(&'a mut &'static [&'static str]);

impl<'de> Deserializer<'de> for FieldNames<'_> {
    type Error = serde::de::value::Error;

    fn deserialize_struct<V: Visitor<'de>>(
        self,
        _: &'static str,
        fields: &'static [&'static str],
        _: V,
    ) -> Result<V::Value, Self::Error> {
        *self.0 = fields;
        Err(Self::Error::custom("only the names are asked for"))
    }

    fn deserialize_any<V: Visitor<'de>>(self, _: V) -> Result<V::Value, Self::Error> {
        Err(Self::Error::custom("this is no struct"))
    }

    serde::forward_to_deserialize_any! {
        bool i8 i16 i32 i64 i128 u8 u16 u32 u64 u128 f32 f64 char str string bytes byte_buf option unit unit_struct newtype_struct seq
        tuple tuple_struct map enum identifier ignored_any
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn what_is_not_known_of_report_and_clauses_is_kept_and_what_is_known_is_not_brought_back() {
        let mut stored = json!({ "run": 1, "clauses": [{ "address": "file:/a" }, { "address": "file:/c", "outcome": "failed" }] });
        let sent = json!({ "run": 1, "reason": "cut on purpose", "weather": { "sea": "calm" }, "clauses": [
            { "address": "file:/a", "native": ["left out on purpose"], "mood": "well" },
            { "address": "file:/b", "mood": "left out" },
            { "address": "file:/c", "outcome": "failed", "mood": "low" },
        ] });
        assert_eq!(keep_unknown(&mut stored, sent.to_string().as_bytes()), 0);
        let kept = json!({ "run": 1, "clauses": [{ "address": "file:/a" , "mood": "well" }, { "address": "file:/c", "outcome": "failed", "mood": "low" }], "weather": { "sea": "calm" } });
        // The clause that was left out is passed over.
        assert_eq!(stored["weather"], kept["weather"]);
        assert_eq!(stored, kept);
    }

    #[test]
    fn what_is_too_large_is_counted() {
        let mut stored = json!({ "clauses": [] });
        let sent = json!({ "ballast": "x".repeat(MAX_UNKNOWN), "weather": "calm" });
        assert_eq!(keep_unknown(&mut stored, sent.to_string().as_bytes()), 1);
        assert_eq!(stored, json!({ "clauses": [], "weather": "calm" }));
    }
}
