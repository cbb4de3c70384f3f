//! What tests of several modules need.

use serde::de::DeserializeOwned;
use serde_json::Value;

/// Reads what a server would answer, with some fields given otherwise.
pub fn answered<T: DeserializeOwned>(mut whole: Value, otherwise: &Value) -> T {
    let fields = otherwise.as_object().expect("fields").clone();
    whole.as_object_mut().expect("an object").extend(fields);
    serde_json::from_value(whole).expect("it is what a server answers")
}
