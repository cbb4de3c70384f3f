//! The nearest known word to a misspelt one.

/// Returns the candidate that is spelt most like `word`, if any is near enough.
pub fn nearest_word<'w>(word: &str, candidates: impl IntoIterator<Item = &'w str>) -> Option<&'w str> {
    candidates
        .into_iter()
        .map(|candidate| (strsim::damerau_levenshtein(word, candidate), candidate))
        .filter(|(distance, candidate)| {
            *distance <= 1 + candidate.chars().count().min(word.chars().count()) / 4
        })
        .min_by_key(|(distance, _)| *distance)
        .map(|(_, candidate)| candidate)
}
