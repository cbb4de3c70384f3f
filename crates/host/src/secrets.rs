//! Texts that are never reported, in whatever form a program repeats them.

/// The replacement.
const CONCEALED: &str = "(concealed)";
/// Lines and words of a longer text are concealed by themselves from this many bytes on: shorter ones occur in any output.
const SHORTEST_PART: usize = 6;

/// Texts that are never reported.
#[derive(Debug, Clone, Default)]
pub struct Secrets {
    /// Every form of every text, the longest first, so that no part of a longer one is left.
    forms: Vec<String>,
}

impl Secrets {
    /// Returns one text that is never reported.
    pub fn of(text: &str) -> Self {
        let mut secrets = Self::default();
        secrets.add([text.to_owned()]);
        secrets
    }

    /// Adds texts. Each is concealed as it is, quoted for a shell, and as a string of JSON or of a debugger.
    pub fn add(&mut self, texts: impl IntoIterator<Item = String>) {
        for text in texts.into_iter().filter(|text| !text.is_empty()) {
            let as_json = serde_json::to_string(&text).unwrap_or_default();
            let (quoted, debugged) = (text.replace('\'', "'\\''"), text.escape_debug().to_string());
            let forms =
                [quoted, as_json.trim_matches('"').to_owned(), debugged, text.replace('"', "\\\""), text];
            self.forms.extend(forms);
        }
        self.forms.sort_by(|one, other| other.len().cmp(&one.len()).then_with(|| one.cmp(other)));
        self.forms.dedup();
    }

    /// Adds a text of which a program may repeat lines and words, as a script.
    pub fn add_with_parts(&mut self, text: &str) {
        let lines = text.lines().map(str::trim);
        let words = text.split(|c: char| {
            c.is_whitespace() || matches!(c, '\'' | '"' | '`' | ';' | '=' | '(' | ')' | '|' | '&' | '<' | '>')
        });
        let parts = lines.chain(words).filter(|part| part.len() >= SHORTEST_PART).map(str::to_owned);
        self.add(std::iter::once(text.to_owned()).chain(parts));
    }

    /// Returns a text without them.
    pub fn blot(&self, text: &str) -> String {
        self.forms.iter().fold(text.to_owned(), |text, secret| {
            if text.contains(secret.as_str()) { text.replace(secret, CONCEALED) } else { text }
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_secret_is_concealed_in_every_form_in_which_a_program_repeats_it() {
        let mut secrets = Secrets::default();
        secrets.add(["it's \"Tern\"\n1234".to_owned(), "Tern".to_owned()]);
        for output in [
            "got it's \"Tern\"\n1234.",
            "+ login 'it'\\''s \"Tern\"\n1234'",
            r#"{"key": "it's \"Tern\"\n1234"}"#,
            r#"bad value "it\'s \"Tern\"\n1234""#,
            "Tern",
        ] {
            let blotted = secrets.blot(output);
            assert!(
                blotted.contains(CONCEALED) && !blotted.contains("Tern") && !blotted.contains("1234"),
                "{output}: {blotted}"
            );
        }
        assert_eq!(secrets.blot("a ternary"), "a ternary");
    }

    #[test]
    fn lines_and_words_of_a_script_are_concealed_too() {
        let mut secrets = Secrets::default();
        secrets.add_with_parts("set -e\ncurl -H 'Token: Tern-1234' https://hub\n");
        let output = secrets
            .blot("sh: 2: curl: no such host\n* header: Tern-1234\n+ curl -H 'Token: Tern-1234' https://hub");
        assert_eq!(output, "sh: 2: curl: no such host\n* header: (concealed)\n+ (concealed)");
    }
}
