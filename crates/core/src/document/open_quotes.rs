//! Quotes that are left open on a line: TOML's reader gives up far behind them, often inside of what is right.

use std::ops::Range;

/// A document with the quotes closed that are left open, so that the rest of it can be read. No byte moves.
#[derive(Debug, PartialEq, Eq)]
pub(super) struct Closed {
    /// Where each was opened.
    pub opened: Vec<usize>,
    /// The document with them closed.
    pub text: String,
}

/// Closes the quotes of texts that end on none of their line; none if there is no such text.
pub(super) fn close(text: &str) -> Option<Closed> {
    let mut closing = Closing { bytes: text.as_bytes().to_vec(), depth: 0, opened: Vec::new() };
    let mut at = 0;
    while at < closing.bytes.len() {
        at = closing.line(at);
    }
    let closed = String::from_utf8(closing.bytes).ok()?;
    (!closing.opened.is_empty()).then_some(Closed { opened: closing.opened, text: closed })
}

/// Returns whether a byte is in one of the lines in which these quotes were opened.
pub(super) fn is_on_line_of(text: &str, opened: &[usize], at: usize) -> bool {
    opened.iter().any(|quote| line_of(text.as_bytes(), *quote).contains(&at))
}

struct Closing {
    bytes: Vec<u8>,
    /// How many lists and inline tables are open.
    depth: usize,
    opened: Vec<usize>,
}

impl Closing {
    /// Goes over what begins at a byte to the end of its line, and over texts of several lines. Returns where the next line begins.
    fn line(&mut self, start: usize) -> usize {
        let mut at = start;
        while let Some(byte) = self.bytes.get(at).copied() {
            match byte {
                b'\n' => return at + 1,
                b'#' => return line_of(&self.bytes, at).end + 1,
                b'[' | b'{' => self.depth += 1,
                b']' | b'}' => self.depth = self.depth.saturating_sub(1),
                b'"' | b'\'' if self.bytes[at..].starts_with(&[byte; 3]) => {
                    at = self.after_several_lines(at, byte);
                    continue;
                }
                b'"' | b'\'' => match self.text(at, byte) {
                    Some(after) => {
                        at = after;
                        continue;
                    }
                    None => return line_of(&self.bytes, at).end + 1,
                },
                _ => {}
            }
            at += 1;
        }
        at
    }

    fn after_several_lines(&self, start: usize, quote: u8) -> usize {
        let mut at = start + 3;
        while at < self.bytes.len() {
            match self.bytes[at] {
                b'\\' if quote == b'"' => at += 2,
                _ if self.bytes[at..].starts_with(&[quote; 3]) => return at + 3,
                _ => at += 1,
            }
        }
        self.bytes.len()
    }

    /// Goes over a text of one line, which is closed if it is left open. Returns where it ends; none if nothing can be said of the
    /// rest of the line.
    fn text(&mut self, start: usize, quote: u8) -> Option<usize> {
        let line_end = line_of(&self.bytes, start).end;
        let Some(end) = self.closing_quote(start + 1..line_end, quote) else {
            let follows_a_word = start.checked_sub(1).is_some_and(|before| {
                self.bytes[before].is_ascii_alphanumeric() || self.bytes[before] == b'_'
            });
            if follows_a_word {
                // Its opening quote is missing, not this one's closing one.
                return None;
            }
            self.opened.push(start);
            self.close_before_the_end(start, line_end);
            return Some(line_end);
        };
        let rest = &self.bytes[end + 1..line_end];
        let follows_what_may =
            rest.iter().find(|byte| !byte.is_ascii_whitespace()).is_none_or(|next| b",]}#=.".contains(next));
        let quotes_behind = rest.iter().filter(|byte| **byte == quote).count();
        if follows_what_may || quotes_behind % 2 == 0 {
            return Some(end + 1);
        }
        // The quote that seemed to close it opens the next text.
        self.opened.push(start);
        self.bytes[end] = b'_';
        self.closing_quote(end..line_end, quote).map(|end| end + 1)
    }

    fn closing_quote(&self, within: Range<usize>, quote: u8) -> Option<usize> {
        let mut at = within.start;
        while at < within.end {
            match self.bytes[at] {
                b'\\' if quote == b'"' => at += 2,
                byte if byte == quote => return Some(at),
                _ => at += 1,
            }
        }
        None
    }

    fn close_before_the_end(&mut self, start: usize, line_end: usize) {
        let is_end = |byte: &u8| byte.is_ascii_whitespace() || (self.depth > 0 && b",]}".contains(byte));
        let content = &self.bytes[start + 1..line_end];
        let kept = content.len() - content.iter().rev().take_while(|byte| is_end(byte)).count();
        match kept.checked_sub(1).map(|last| start + 1 + last) {
            None => self.bytes[start] = b' ',
            Some(last) => {
                let quote = self.bytes[start];
                // A sign of several bytes goes whole.
                let mut first = last;
                while self.bytes[first] & 0b1100_0000 == 0b1000_0000 {
                    first -= 1;
                }
                self.bytes[first..last].fill(b'_');
                self.bytes[last] = quote;
            }
        }
        let closes =
            self.bytes[start + 1 + kept..line_end].iter().filter(|byte| b"]}".contains(byte)).count();
        self.depth = self.depth.saturating_sub(closes);
    }
}

fn line_of(bytes: &[u8], at: usize) -> Range<usize> {
    let at = at.min(bytes.len());
    let start = bytes[..at].iter().rposition(|byte| *byte == b'\n').map_or(0, |newline| newline + 1);
    let end = bytes[at..].iter().position(|byte| *byte == b'\n').map_or(bytes.len(), |newline| at + newline);
    start..end
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_quote_left_open_is_closed_where_its_text_should_end() {
        for (written, opened, closed) in [
            ("topics = [\"login, \"settings\"]\n", 10, "topics = [\"login, _settings\"]\n"),
            ("topics = ['login, 'settings']\n", 10, "topics = ['login, _settings']\n"),
            ("topics = [\"login, settings]\n", 10, "topics = [\"login, setting\"]\n"),
            (
                "topics = [\n  \"login\",\n  \"settings,\n  \"quay\",\n]\n",
                24,
                "topics = [\n  \"login\",\n  \"setting\",\n  \"quay\",\n]\n",
            ),
            ("what = \"file:/etc/issue\ntext = \"x\"\n", 7, "what = \"file:/etc/issu\"\ntext = \"x\"\n"),
            ("text = \"a, b]\nmode = 1\n", 7, "text = \"a, b\"\nmode = 1\n"),
            ("text = \"Kjørefelt é\n", 7, "text = \"Kjørefelt _\"\n"),
            ("topics = [\"]\n", 10, "topics = [ ]\n"),
        ] {
            assert_eq!(
                close(written),
                Some(Closed { opened: vec![opened], text: closed.into() }),
                "{written}"
            );
        }
    }

    #[test]
    fn what_is_closed_or_lacks_something_else_is_left_as_it_is() {
        for text in [
            "a = \"x\" # a \"quote\n",
            "a = \"\"\"one \"\ntwo\"\"\"\nb = '''it's\n'''\n",
            "a = \"he said \\\"no\\\"\"\n",
            "a = [\"x\" \"y\"]\n",
            "a = [\"login\", settings\"]\n",
            "\"a\".b = 'c'\n",
            "a = \"never",
        ] {
            let is_open = text.ends_with("never");
            assert_eq!(close(text).is_some(), is_open, "{text}");
        }
    }

    proptest! {
        #[test]
        fn any_text_keeps_its_length_and_lines(text in "[a-z\"'\\\\\\[\\]{}=,#é\n ]{0,60}") {
            if let Some(closed) = close(&text) {
                prop_assert_eq!(closed.text.len(), text.len());
                prop_assert_eq!(closed.text.matches('\n').count(), text.matches('\n').count());
                prop_assert!(closed.opened.iter().all(|at| matches!(text.as_bytes()[*at], b'"' | b'\'')));
            }
        }
    }
}
