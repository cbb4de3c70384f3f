//! Filters and orders of lists of anything but nodes: CEL over one record of the list, whose fields are closed.

use super::record_lists::{FieldType, RecordField, RecordList};
use super::walk::Names;
use super::{ConditionError, Expression, items_of};
use crate::nearest::nearest_word;
use cel::Value as CelValue;
use serde_json::{Map, Value};
use std::cmp::Ordering;

/// A filter of a list that was read and whose names are all known.
#[derive(Debug)]
pub struct RecordFilter {
    expression: Expression,
    list: &'static RecordList,
}

impl RecordFilter {
    /// Reads a filter of a list: `change.who == "ilse.maren"`.
    ///
    /// # Errors
    ///
    /// Returns everything that is wrong with it: syntax, size, names that the list does not know.
    pub fn parse(source: &str, list: &'static RecordList) -> Result<Self, Vec<ConditionError>> {
        Ok(Self { expression: Expression::parse(source, Names::OfRecord(list))?, list })
    }

    /// Returns whether a record matches, as it is sent by the interface. What a record leaves out is the empty text, the empty
    /// list, false or 0, by the type of its field.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be evaluated.
    pub fn holds(&self, record: &Value) -> Result<bool, ConditionError> {
        let mut asked = self.list.asked_of(record);
        let labels = self.list.fields.iter().filter(|field| field.field_type == FieldType::Labels);
        for labels in labels {
            if let Some(Value::Object(labels)) = asked.get_mut(labels.name) {
                for label in &self.expression.uses.labels {
                    labels.entry(label).or_insert_with(|| Value::from(""));
                }
            }
        }
        let record = Value::Object(asked);
        let longest = record.as_object().into_iter().flat_map(Map::values).map(items_of).max();
        self.expression.check_volume(longest.unwrap_or(0), record.to_string().len())?;
        match self.expression.execute([(self.list.name, record)]) {
            Ok(CelValue::Bool(holds)) => Ok(holds),
            Ok(_) => {
                Err(ConditionError::whole("the filter does not evaluate to `true` or `false`".into(), 0))
            }
            Err(error) => {
                let message = format!("the filter cannot be evaluated for an entry: {error}");
                let hint = Some(self.list.examples());
                Err(ConditionError { hint, ..ConditionError::whole(message, 0) })
            }
        }
    }
}

/// An order of a list: by one of its fields, upwards or downwards.
#[derive(Debug, Clone, Copy)]
pub struct RecordOrder {
    list: &'static RecordList,
    field: &'static str,
    is_descending: bool,
}

impl RecordOrder {
    /// Reads an order: `who`, or `-who` for the other way round.
    ///
    /// # Errors
    ///
    /// Returns which fields the list can be sorted by.
    pub fn parse(text: &str, list: &'static RecordList) -> Result<Self, String> {
        let (is_descending, name) = text.strip_prefix('-').map_or((false, text), |name| (true, name));
        match list.fields.iter().find(|field| field.name == name) {
            Some(field) => Ok(Self { list, field: field.name, is_descending }),
            None => {
                let names: Vec<&str> = list.fields.iter().map(|field| field.name).collect();
                Err(match nearest_word(name, names.iter().copied()) {
                    Some(near) => format!("the list is not sorted by `{name}`: did you mean `{near}`?"),
                    None => format!("the list is sorted by {}, or by one of them with `-`", names.join(", ")),
                })
            }
        }
    }

    /// Returns what a record is sorted by; of labels the text `role=kiosk site=auken`.
    pub fn key(&self, record: &Value) -> Value {
        match self.list.asked_of(record).remove(self.field).unwrap_or_default() {
            Value::Object(labels) => {
                let label =
                    |(key, value): (&String, &Value)| format!("{key}={}", value.as_str().unwrap_or_default());
                Value::from(labels.iter().map(label).collect::<Vec<_>>().join(" "))
            }
            key => key,
        }
    }

    /// Compares two records by their keys: texts without regard to upper and lower case, lists by their length.
    pub fn compare(&self, left: &Value, right: &Value) -> Ordering {
        let ordering = match (left, right) {
            (Value::Number(left), Value::Number(right)) => {
                left.as_f64().partial_cmp(&right.as_f64()).unwrap_or(Ordering::Equal)
            }
            (Value::String(left), Value::String(right)) => left.to_lowercase().cmp(&right.to_lowercase()),
            (Value::Array(left), Value::Array(right)) => left.len().cmp(&right.len()),
            (Value::Bool(left), Value::Bool(right)) => left.cmp(right),
            _ => Ordering::Equal,
        };
        if self.is_descending { ordering.reverse() } else { ordering }
    }
}

impl RecordList {
    /// What can be asked, as a hint.
    pub(super) fn examples(&self) -> String {
        let fields: Vec<String> =
            self.fields.iter().map(|field| format!("{}.{}", self.name, field.name)).collect();
        format!("this list knows {}", fields.join(", "))
    }

    /// The fields of a record that can be asked for, by name, moments to the second.
    fn asked_of(&self, record: &Value) -> Map<String, Value> {
        let asked = |field: &RecordField| {
            let found = field
                .path
                .split('.')
                .try_fold(record, |at, key| at.get(key))
                .filter(|found| !found.is_null());
            let value = match (field.field_type, found) {
                (FieldType::Moment, Some(Value::String(moment))) => Value::from(to_the_second(moment)),
                (FieldType::Flag, Some(found)) => Value::from(found.as_bool().unwrap_or(true)),
                (FieldType::Texts, Some(Value::Object(map))) => map.keys().cloned().collect(),
                (_, Some(found)) => found.clone(),
                (FieldType::Text | FieldType::Moment, None) => Value::from(""),
                (FieldType::Number, None) => Value::from(0),
                (FieldType::Flag, None) => Value::from(false),
                (FieldType::Texts, None) => Value::Array(Vec::new()),
                (FieldType::Labels, None) => Value::Object(Map::new()),
            };
            (field.name.to_owned(), value)
        };
        self.fields.iter().map(asked).collect()
    }
}

/// Moments are compared as texts: without a fraction of a second, which would sort after the `Z` of a whole one.
fn to_the_second(moment: &str) -> String {
    moment.split_once('.').map_or_else(|| moment.to_owned(), |(whole, _)| format!("{whole}Z"))
}

#[cfg(test)]
mod tests {
    use super::super::record_lists::{CHANGES, JOINING_REQUESTS};
    use super::*;
    use serde_json::json;

    fn change() -> Value {
        json!({ "no": 118, "who": "ilse.maren", "because": null, "drafted": "2026-10-14T05:31:00.25Z", "nodes": 41,
            "status": "handed_out" })
    }

    fn holds(source: &str) -> bool {
        RecordFilter::parse(source, &CHANGES).unwrap().holds(&change()).unwrap()
    }

    #[test]
    fn a_record_is_asked_by_its_fields() {
        for source in [
            "change.who == \"ilse.maren\"",
            "change.no >= 118 && change.nodes > 40",
            "change.because == \"\"",
            "change.drafted >= \"2026-10-14\" && change.drafted < \"2026-10-14T05:31:01Z\"",
            "change.who.startsWith(\"ilse\")",
        ] {
            assert!(holds(source), "{source}");
        }
        assert!(!holds("change.who == \"aron.feld\""));
    }

    #[test]
    fn labels_that_a_record_does_not_have_are_empty() {
        let request = json!({ "name": "kiosk-lab-01", "labels": { "site": "auken" } });
        for (source, expected) in [
            ("request.labels.site == \"auken\"", true),
            ("request.labels.role == \"\"", true),
            ("request.labels[\"site\"] == \"bodun\"", false),
        ] {
            let filter = RecordFilter::parse(source, &JOINING_REQUESTS).unwrap();
            assert_eq!(filter.holds(&request).unwrap(), expected, "{source}");
        }
    }

    #[test]
    fn names_are_those_of_the_list_and_the_nearest_is_offered() {
        for (source, hint) in [
            ("change.woh == \"x\"", "did you mean `change.who`?"),
            ("chnage.who == \"x\"", "did you mean `change`?"),
            ("node.status == \"failed\"", "this list knows change.no"),
        ] {
            let errors = RecordFilter::parse(source, &CHANGES).err().unwrap();
            assert!(errors[0].hint.as_deref().unwrap().contains(hint), "{source}: {errors:?}");
        }
        assert!(RecordFilter::parse("change", &CHANGES).is_err(), "the record itself is no value");
        let unlike = RecordFilter::parse("change.no > \"x\"", &CHANGES).unwrap();
        assert!(unlike.holds(&change()).is_err(), "what cannot be compared is said and not left out");
    }

    #[test]
    fn an_order_is_by_a_field_of_the_list() {
        let order = |text: &str| RecordOrder::parse(text, &CHANGES).unwrap();
        let (by_number, backwards) = (order("no"), order("-no"));
        let (low, high) = (by_number.key(&json!({ "no": 9 })), by_number.key(&json!({ "no": 118 })));
        assert_eq!(by_number.compare(&low, &high), Ordering::Less);
        assert_eq!(backwards.compare(&low, &high), Ordering::Greater);
        let who = order("who");
        assert_eq!(who.compare(&json!("aron"), &json!("Ilse")), Ordering::Less);
        let labels = RecordOrder::parse("-labels", &JOINING_REQUESTS).unwrap();
        let key = |site: &str| labels.key(&json!({ "labels": { "role": "kiosk", "site": site } }));
        assert_eq!(key("auken"), "role=kiosk site=auken");
        assert_eq!(labels.compare(&key("auken"), &key("brisk")), Ordering::Greater);
        assert!(RecordOrder::parse("woh", &CHANGES).unwrap_err().contains("did you mean `who`?"));
    }
}
