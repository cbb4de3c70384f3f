//! Sentences for people, with their times kept apart from their words: what is said is decided here, and each interface writes
//! the times as its readers expect them (a zone, an age that grows while the page is open).

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// A sentence, part by part.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(transparent)]
pub struct Sentence(Vec<SentencePart>);

/// A part of a sentence.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum SentencePart {
    /// Words.
    Text(String),
    /// A moment, written as a date and time.
    Time(Timestamp),
    /// A moment in the past, written as its age: *4 min ago*.
    Ago(Timestamp),
    /// A moment in the past, written as the span since it: *4 min*.
    Span(Timestamp),
    /// A moment at which something is due: *in 4 min*, or *was due 4 min ago*.
    Due(Timestamp),
}

impl Sentence {
    /// Returns a sentence that begins with these words.
    pub fn new(text: impl Into<String>) -> Self {
        Self::default().text(text)
    }

    /// Adds words.
    #[must_use]
    pub fn text(mut self, text: impl Into<String>) -> Self {
        let text = text.into();
        match self.0.last_mut() {
            _ if text.is_empty() => {}
            Some(SentencePart::Text(last)) => last.push_str(&text),
            _ => self.0.push(SentencePart::Text(text)),
        }
        self
    }

    /// Adds a date and time.
    #[must_use]
    pub fn time(self, at: Timestamp) -> Self {
        self.with(SentencePart::Time(at))
    }

    /// Adds the age of a moment.
    #[must_use]
    pub fn ago(self, at: Timestamp) -> Self {
        self.with(SentencePart::Ago(at))
    }

    /// Adds the span since a moment.
    #[must_use]
    pub fn span(self, since: Timestamp) -> Self {
        self.with(SentencePart::Span(since))
    }

    /// Adds when something is due.
    #[must_use]
    pub fn due(self, at: Timestamp) -> Self {
        self.with(SentencePart::Due(at))
    }

    /// Adds another sentence.
    #[must_use]
    pub fn then(self, other: Self) -> Self {
        other.0.into_iter().fold(self, |sentence, part| match part {
            SentencePart::Text(text) => sentence.text(text),
            part => sentence.with(part),
        })
    }

    /// Returns whether it has no words.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// Returns the sentence for a terminal: times in UTC, ages as of `now`.
    pub fn write(&self, now: Timestamp) -> String {
        let secs = |at: &Timestamp| now.duration_since(*at).as_secs();
        self.written(|part| match part {
            SentencePart::Text(text) => text.clone(),
            SentencePart::Time(at) => utc(*at),
            SentencePart::Ago(at) => ago_words(secs(at)),
            SentencePart::Span(at) => span_words(secs(at).max(0)),
            SentencePart::Due(at) if secs(at) > 0 => format!("was due {} ago", span_words(secs(at))),
            SentencePart::Due(at) => format!("in {}", span_words(-secs(at))),
        })
    }

    /// Returns the sentence for what is read at any later time, such as a record: every moment as a date and time in UTC.
    pub fn write_dated(&self) -> String {
        self.written(|part| match part {
            SentencePart::Text(text) => text.clone(),
            SentencePart::Time(at)
            | SentencePart::Ago(at)
            | SentencePart::Span(at)
            | SentencePart::Due(at) => utc(*at),
        })
    }

    fn with(mut self, part: SentencePart) -> Self {
        self.0.push(part);
        self
    }

    fn written(&self, write: impl Fn(&SentencePart) -> String) -> String {
        self.0.iter().map(write).collect()
    }
}

/// Returns a moment as people read it: UTC, to the second.
pub fn utc(at: Timestamp) -> String {
    at.strftime("%Y-%m-%d %H:%M:%S UTC").to_string()
}

/// Returns a span of seconds in its largest whole unit.
pub fn span_words(secs: i64) -> String {
    match secs.abs() {
        0..120 => format!("{secs} s"),
        120..7_200 => format!("{} min", secs / 60),
        7_200..172_800 => format!("{} h", secs / 3_600),
        _ => format!("{} days", secs / 86_400),
    }
}

/// Returns how long ago something was; a time from a node whose clock is ahead may be in the future.
pub fn ago_words(secs: i64) -> String {
    match secs {
        ..-60 => format!("{} ahead of now by its clock", span_words(-secs)),
        _ => format!("{} ago", span_words(secs.max(0))),
    }
}

/// Returns how far a node's clock is from the server's, to the minute.
pub fn clock_words(off_secs: i64) -> String {
    let off = off_secs.abs();
    let to_the_minute = if off < 120 { off } else { (off + 30) / 60 * 60 };
    format!("{} {} the server's", span_words(to_the_minute), if off_secs < 0 { "behind" } else { "ahead of" })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(secs: i64) -> Timestamp {
        Timestamp::from_second(1_795_000_000 + secs).unwrap()
    }

    #[test]
    fn ages_are_as_of_now_and_dated_text_has_none() {
        let sentence = Sentence::new("last contact ").ago(at(-240)).text(", next ").due(at(600));
        assert_eq!(sentence.write(at(0)), "last contact 4 min ago, next in 10 min");
        assert_eq!(sentence.write(at(900)), "last contact 19 min ago, next was due 5 min ago");
        assert_eq!(
            sentence.write_dated(),
            "last contact 2026-11-18 11:02:40 UTC, next 2026-11-18 11:16:40 UTC"
        );
    }

    #[test]
    fn neighbouring_words_are_one_part_and_empty_ones_none() {
        let sentence = Sentence::new("a").text("").then(Sentence::new("b").time(at(0))).text("c");
        assert_eq!(
            serde_json::to_string(&sentence).unwrap(),
            r#"[{"text":"ab"},{"time":"2026-11-18T11:06:40Z"},{"text":"c"}]"#
        );
        assert!(Sentence::default().is_empty());
    }

    #[test]
    fn a_clock_that_is_off_is_told_with_its_direction_and_no_age_is_negative() {
        assert_eq!(
            [10_799, -10_799, 75].map(clock_words),
            ["3 h ahead of the server's", "3 h behind the server's", "75 s ahead of the server's"]
        );
        assert_eq!(
            [90, -1, -10_800].map(ago_words),
            ["90 s ago", "0 s ago", "3 h ahead of now by its clock"]
        );
    }
}
