//! Framing of the language server's messages over stdin and stdout; invalid bytes are answered with an error and skipped.

use lsp_server::{Connection, Message};
use std::io::{self, BufRead, Read, Write as _};
use std::thread::JoinHandle;

/// The longest line of a message's head, in bytes.
const LONGEST_LINE: u64 = 4 * 1024;
/// The largest message, in bytes.
const MAX_BYTES: usize = 64 * 1024 * 1024;

/// Begins to read stdin and write stdout. The connection ends with stdin; pending messages are written until the thread ends.
pub fn speak() -> (Connection, JoinHandle<()>) {
    let (ours, theirs) = Connection::memory();
    let (sender, receiver) = (theirs.sender, theirs.receiver);
    // It may wait for a line that never comes, and ends with the process.
    std::thread::spawn(move || {
        let mut input = io::stdin().lock();
        while let Ok(Some(body)) = read_frame(&mut input) {
            match serde_json::from_slice::<Message>(&body) {
                Ok(message) => {
                    if sender.send(message).is_err() {
                        return;
                    }
                }
                Err(error) => say_unreadable(&error),
            }
        }
    });
    let writing = std::thread::spawn(move || {
        for message in receiver {
            if message.write(&mut io::stdout().lock()).is_err() {
                return;
            }
        }
    });
    (ours, writing)
}

/// Reads the body of the next message; lines that are no head of one are left out. Returns none at the end.
fn read_frame(input: &mut impl BufRead) -> io::Result<Option<Vec<u8>>> {
    let mut length: Option<usize> = None;
    loop {
        let mut line = Vec::new();
        if Read::by_ref(input).take(LONGEST_LINE).read_until(b'\n', &mut line)? == 0 {
            return Ok(None);
        }
        let line = String::from_utf8_lossy(&line);
        let line = line.trim_end();
        match (line.split_once(':'), length) {
            (Some((name, value)), _) if name.eq_ignore_ascii_case("content-length") => {
                length = value.trim().parse().ok().filter(|length| *length <= MAX_BYTES);
            }
            (_, Some(length)) if line.is_empty() => {
                let mut body = vec![0; length];
                input.read_exact(&mut body)?;
                return Ok(Some(body));
            }
            _ => {}
        }
    }
}

/// JSON-RPC 2.0: what cannot be read has no id.
fn say_unreadable(error: &serde_json::Error) {
    let answer = serde_json::json!({ "jsonrpc": "2.0", "id": null, "error": { "code": -32700, "message": format!("this is no message: {error}") } });
    let text = answer.to_string();
    let _ = write!(io::stdout().lock(), "Content-Length: {}\r\n\r\n{text}", text.len());
}

#[cfg(test)]
mod tests {
    use super::*;

    fn frames(mut input: &[u8]) -> Vec<String> {
        std::iter::from_fn(|| read_frame(&mut input).ok().flatten())
            .map(|body| String::from_utf8_lossy(&body).into_owned())
            .collect()
    }

    #[test]
    fn messages_are_found_between_whatever_else_comes() {
        assert_eq!(
            frames(b"Content-Length: 2\r\nContent-Type: x\r\n\r\n{}content-length: 2\r\n\r\n[]"),
            ["{}", "[]"]
        );
        assert_eq!(
            frames(b"\xff\x00noise\r\n\r\nContent-Length: many\r\n\r\nContent-Length: 2\r\n\r\n{}"),
            ["{}"]
        );
        assert_eq!(frames(b"Content-Length: 99999999999999999999\r\n\r\nContent-Length: 900000000000\r\n\r\nContent-Length: 2\r\n\r\n{}"), ["{}"]);
        assert_eq!(frames(b"Content-Length: 5\r\n\r\n{}"), [] as [String; 0], "it ends too soon");
    }
}
