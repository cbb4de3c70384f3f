//! What is desired and what was found, in the words of one cell.

use crate::compare::{Difference, PRESENCE, Side};
use crate::kit::Gone;
use crate::run::ClauseResult;
use crate::state::Clause;

/// The longest text of one property.
const LONGEST: usize = 400;

/// Returns what is desired of a clause; concealed values are not shown.
pub fn desired_words(clause: &Clause) -> String {
    let gone = match clause.gone {
        Gone::No => None,
        Gone::Yes => Some("gone".to_owned()),
        Gone::WithSettings => Some("gone, with its settings".to_owned()),
    };
    let properties = clause.properties.iter().map(|(property, value)| {
        let value =
            if clause.concealed.contains(property) { Side::Concealed } else { Side::value(value.clone()) };
        format!("{property} {}", cut(&value.words()))
    });
    match gone.into_iter().chain(properties).collect::<Vec<_>>() {
        none if none.is_empty() => "present".to_owned(),
        words => words.join("; "),
    }
}

/// Returns how a clause was found that was not as desired.
pub fn actual_words(result: &ClauseResult) -> String {
    let differences = |differences: &[Difference]| {
        // Of what is absent nothing more is to be said.
        let presence = differences.iter().position(|difference| difference.property == PRESENCE);
        if let Some(difference) = presence.and_then(|place| differences.get(place)) {
            return vec![cut(&difference.found.words())];
        }
        differences
            .iter()
            .map(|difference| format!("{} {}", difference.property, cut(&difference.found.words())))
            .collect::<Vec<_>>()
    };
    let failed = result.failure.as_ref().map(|failure| cut(&failure.message));
    let unsupported = result.unsupported.as_ref().map(|why| cut(why));
    differences(&result.differences)
        .into_iter()
        .chain(failed)
        .chain(unsupported)
        .collect::<Vec<_>>()
        .join("; ")
}

fn cut(text: &str) -> String {
    match text.char_indices().nth(LONGEST) {
        Some((end, _)) => format!("{}…", &text[..end]),
        None => text.to_owned(),
    }
}
