//! Finds kinds by what one wants to achieve.

use super::one::Kind;
use super::table::KINDS;

/// Words that say nothing about a kind.
const EMPTY_WORDS: [&str; 24] = [
    "a", "an", "the", "to", "of", "in", "on", "my", "is", "it", "that", "this", "with", "by", "for", "and",
    "or", "be", "have", "i", "want", "how", "do", "some",
];

/// Words that people say for what the table calls otherwise.
const SAME: [(&str, &str); 16] = [
    ("shut", "close"),
    ("firewall", "packet"),
    ("user", "account"),
    ("users", "account"),
    ("group", "account_group"),
    ("daemon", "service"),
    ("symlink", "link"),
    ("folder", "directory"),
    ("cron", "schedule"),
    ("cronjob", "schedule"),
    ("ntp", "clock"),
    ("sysctl", "kernel_setting"),
    ("software", "package"),
    ("program", "package"),
    ("template", "render"),
    ("delete", "remove"),
];

/// Returns the kinds that fit what one wants to achieve, the best first.
pub fn search(wanted: &str) -> Vec<&'static Kind> {
    let words: Vec<String> = words(wanted).filter(|word| !EMPTY_WORDS.contains(&word.as_str())).collect();
    let mut found: Vec<(u32, &'static Kind)> =
        KINDS.iter().map(|kind| (score(kind, &words), kind)).filter(|(score, _)| *score > 0).collect();
    found.sort_by_key(|(score, _)| std::cmp::Reverse(*score));
    let best = found.first().map_or(0, |(score, _)| *score);
    found.into_iter().filter(|(score, _)| score * 3 >= best).map(|(_, kind)| kind).collect()
}

fn words(text: &str) -> impl Iterator<Item = String> + '_ {
    text.split(|c: char| !c.is_alphanumeric() && c != '_')
        .filter(|word| !word.is_empty())
        .map(str::to_lowercase)
}

/// A word counts most in the kind's name, then in what is achieved by it, then in its purpose and properties; all words in
/// one phrase count more than the same ones scattered.
fn score(kind: &Kind, wanted: &[String]) -> u32 {
    let mut whole = 0;
    let mut best_phrase = 0;
    for phrase in kind.achieves() {
        let matched = u32::try_from(wanted.iter().filter(|word| has(phrase, word)).count()).unwrap_or(0);
        best_phrase = best_phrase.max(matched * matched * 4);
    }
    for word in wanted {
        whole += if has(kind.name(), word)
            || has(&kind.name().replace('_', " "), word)
            || has(kind.noun(), word)
        {
            6
        } else {
            0
        };
        whole += if has(kind.purpose(), word) { 2 } else { 0 };
        whole += if kind.properties().any(|property| has(property.name, word) || has(property.note, word)) {
            1
        } else {
            0
        };
    }
    whole + best_phrase
}

fn has(text: &str, wanted: &str) -> bool {
    let stem =
        |word: &str| word.trim_end_matches("ing").trim_end_matches('s').trim_end_matches('e').to_owned();
    let same = SAME.iter().find(|(word, _)| *word == wanted).map(|(_, meant)| *meant);
    words(text).any(|word| stem(&word) == stem(wanted) || same.is_some_and(|same| word == same))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn kinds_are_found_by_what_one_wants_to_achieve() {
        for (wanted, kind) in [
            ("close a port", "packet_rule"),
            ("install a program", "package"),
            ("restart a daemon when its config changes", "service"),
            ("add a cron job", "schedule"),
            ("turn off ip forwarding", "kernel_setting"),
            ("remove a user", "account"),
            ("edit one value in an ini file", "setting"),
            ("trust our CA", "trust_anchor"),
            ("symlink", "link"),
            ("check that nothing listens on a port", "listening"),
            ("prove that a firewall blocks", "connects"),
        ] {
            assert_eq!(search(wanted).first().map(|kind| kind.name()), Some(kind), "{wanted}");
        }
        assert!(search("xyzzy").is_empty());
    }
}
