//! Text that every part of Constans can store.

/// Replaces every NUL in the strings of a JSON text (RFC 8259) by U+2400, its symbol: PostgreSQL cannot hold it in
/// any text. Nothing else changes, the length neither. Returns how many were replaced.
///
/// A lone surrogate, which it cannot hold either, is refused by readers of JSON; a NUL that is not escaped is no JSON.
pub fn without_nul(json: &mut [u8]) -> usize {
    let mut replaced = 0;
    let mut at = 0;
    while let Some(found) = json[at..].iter().position(|byte| *byte == b'\\') {
        let escape = at + found;
        if json[escape..].starts_with(br"\u0000") {
            json[escape..escape + 6].copy_from_slice(br"\u2400");
            replaced += 1;
        }
        // What is escaped is no escape of its own.
        at = (escape + 2).min(json.len());
    }
    replaced
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_an_escaped_nul_is_replaced() {
        for (before, after, replaced) in [
            (r#"{"output": "a\u0000b"}"#, r#"{"output": "a\u2400b"}"#, 1),
            (r#"{"\u0000": ["\u0000\u0000"]}"#, r#"{"\u2400": ["\u2400\u2400"]}"#, 3),
            (r#""a\\u0000b""#, r#""a\\u0000b""#, 0),
            (r#""a\\\u0000b""#, r#""a\\\u2400b""#, 1),
            (r#""\u00000""#, r#""\u24000""#, 1),
            (r#""\u000"#, r#""\u000"#, 0),
            (r#""\"#, r#""\"#, 0),
        ] {
            let mut json = before.as_bytes().to_vec();
            assert_eq!(
                (without_nul(&mut json), String::from_utf8(json).unwrap().as_str()),
                (replaced, after)
            );
        }
    }
}
