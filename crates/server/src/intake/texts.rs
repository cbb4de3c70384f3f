//! Takes long texts out of a report before it is stored, and puts them in again when it is read.

use constans_core::digest::of_contents;
use serde_json::Value;
use std::collections::BTreeMap;

/// Shorter texts stay where they are: a reference would be as long.
const SHORTEST: usize = 96;

/// A report's long texts, taken out of it.
#[derive(Debug, Default)]
pub struct ExtractedTexts {
    /// From a JSON pointer (RFC 6901) into the report to the text's digest.
    pub places: BTreeMap<String, String>,
    /// The texts by digest.
    pub texts: BTreeMap<String, String>,
}

/// Takes long texts out of a report.
pub fn take_out(report: &mut Value) -> ExtractedTexts {
    let mut extracted = ExtractedTexts::default();
    let clauses = report["clauses"].as_array().map_or(0, Vec::len);
    for clause in 0..clauses {
        let native = report["clauses"][clause]["native"].as_array().map_or(0, Vec::len);
        let mut places = vec![
            format!("/clauses/{clause}/text_diff/text"),
            format!("/clauses/{clause}/failure/command/output"),
        ];
        places.extend((0..native).map(|step| format!("/clauses/{clause}/native/{step}/output")));
        for place in places {
            let Some(Value::String(text)) = report
                .pointer_mut(&place)
                .filter(|text| text.as_str().is_some_and(|text| text.len() >= SHORTEST))
            else {
                continue;
            };
            let digest = of_contents(text.as_bytes()).as_str().to_owned();
            extracted.texts.insert(digest.clone(), std::mem::take(text));
            extracted.places.insert(place, digest);
        }
    }
    extracted
}

/// Puts texts in again. One that is not stored any more is replaced by a remark.
pub fn put_in(report: &mut Value, places: &BTreeMap<String, String>, texts: &BTreeMap<String, String>) {
    for (place, digest) in places {
        if let Some(at) = report.pointer_mut(place) {
            *at = texts.get(digest).map_or("(text removed by retention)", String::as_str).into();
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn long_texts_are_taken_out_and_come_back_where_they_were() {
        let long = "auken ".repeat(40);
        let report = json!({ "clauses": [
            { "text_diff": { "text": long, "cut": false } },
            { "native": [{ "what": "true", "output": "short" }, { "what": "apt-get", "output": long }], "failure": { "command": { "output": long } } },
        ] });
        let mut stored = report.clone();
        let extracted = take_out(&mut stored);
        assert_eq!((extracted.texts.len(), extracted.places.len()), (1, 3), "the same text is stored once");
        assert!(stored.to_string().len() < 250, "{stored}");
        put_in(&mut stored, &extracted.places, &extracted.texts);
        assert_eq!(stored, report);
    }
}
