//! What a catalogue has that another one has not.

use super::{Catalogue, Control};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// The ids of controls that are new, altered or no longer there.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CatalogueDifference {
    /// Only in the second.
    pub added: Vec<String>,
    /// In both, and not the same.
    pub altered: Vec<String>,
    /// Only in the first.
    pub removed: Vec<String>,
    /// Whether other times are allowed until something is overdue.
    pub are_times_altered: bool,
}

/// Compares two catalogues.
pub fn difference(before: &Catalogue, after: &Catalogue) -> CatalogueDifference {
    let are_times_altered = before.time_allowed_secs != after.time_allowed_secs
        || before.time_allowed_of_releases_secs != after.time_allowed_of_releases_secs;
    let by_id = |catalogue: &'_ Catalogue| -> BTreeMap<String, Control> {
        catalogue.controls.iter().map(|control| (control.id.clone(), control.clone())).collect()
    };
    let (before, after) = (by_id(before), by_id(after));
    let only_in = |these: &BTreeMap<String, Control>, others: &BTreeMap<String, Control>| {
        these.keys().filter(|id| !others.contains_key(*id)).cloned().collect()
    };
    CatalogueDifference {
        added: only_in(&after, &before),
        altered: after
            .iter()
            .filter(|(id, control)| before.get(*id).is_some_and(|was| was != *control))
            .map(|(id, _)| id.clone())
            .collect(),
        removed: only_in(&before, &after),
        are_times_altered,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn controls_are_added_altered_and_removed() {
        let catalogue = |controls: &[(&str, &str)]| Catalogue {
            controls: controls
                .iter()
                .map(|(id, title)| Control {
                    id: (*id).to_owned(),
                    title: (*title).to_owned(),
                    ..Control::default()
                })
                .collect(),
            ..Catalogue::default()
        };
        let (before, after) = (
            catalogue(&[("SK-1", "a"), ("SK-2", "b"), ("SK-3", "c")]),
            catalogue(&[("SK-2", "b"), ("SK-3", "d"), ("SK-4", "e")]),
        );
        let expected = CatalogueDifference {
            added: vec!["SK-4".to_owned()],
            altered: vec!["SK-3".to_owned()],
            removed: vec!["SK-1".to_owned()],
            are_times_altered: false,
        };
        assert_eq!(difference(&before, &after), expected);
        assert_eq!(difference(&after, &after), CatalogueDifference::default());
    }
}
