//! Messages of an editor on standard input and output. Editors keep texts in UTF-16, and may send
//! half of a pair, which is no text: it becomes the sign for what cannot be shown, and the
//! conversation goes on.

use std::io::{self, BufRead, Read};
use std::thread::JoinHandle;

use lsp_server::{Connection, Message};

/// The most that one message may have, in bytes.
const LONGEST: u64 = 256 << 20;

/// Threads that carry messages.
pub(crate) struct Carriers {
    reads: JoinHandle<io::Result<()>>,
    writes: JoinHandle<io::Result<()>>,
}

impl Carriers {
    /// Waits until all was carried.
    ///
    /// # Errors
    /// When the editor sends something that is no message, or reads no more.
    pub fn join(self) -> io::Result<()> {
        let broken = |_| io::Error::other("a thread that carries messages broke off");
        self.writes.join().map_err(broken)??;
        // It ends with the editor's last message; who waits for more waits for the editor.
        if self.reads.is_finished() {
            self.reads.join().map_err(broken)?
        } else {
            Ok(())
        }
    }
}

/// Begins a conversation over standard input and output.
pub(crate) fn over_standard_streams() -> (Connection, Carriers) {
    let (here, there) = Connection::memory();
    let (sender, receiver) = (there.sender, there.receiver);
    let reads = std::thread::spawn(move || {
        let mut input = io::stdin().lock();
        while let Some(message) = read(&mut input)? {
            let is_last = matches!(&message, Message::Notification(it) if it.method == "exit");
            if sender.send(message).is_err() || is_last {
                break;
            }
        }
        Ok(())
    });
    let writes = std::thread::spawn(move || {
        let mut output = io::stdout().lock();
        receiver
            .into_iter()
            .try_for_each(|message| message.write(&mut output))
    });
    (here, Carriers { reads, writes })
}

/// The next message; nothing at the end.
fn read(input: &mut impl BufRead) -> io::Result<Option<Message>> {
    let wrong = |what: &str| io::Error::new(io::ErrorKind::InvalidData, what.to_owned());
    let mut length: Option<u64> = None;
    loop {
        let mut line = String::new();
        if (&mut *input).take(4096).read_line(&mut line)? == 0 {
            return Ok(None);
        }
        let line = line
            .strip_suffix("\r\n")
            .ok_or_else(|| wrong("a head of a message does not end"))?;
        if line.is_empty() {
            break;
        }
        if let Some((name, value)) = line.split_once(':')
            && name.eq_ignore_ascii_case("Content-Length")
        {
            length = value.trim().parse().ok();
        }
    }
    let length = length.filter(|length| *length <= LONGEST);
    let length =
        length.ok_or_else(|| wrong("a message does not say how long it is, or is too long"))?;
    let mut bytes = Vec::new();
    if input.take(length).read_to_end(&mut bytes)? as u64 != length {
        return Ok(None);
    }
    let text = String::from_utf8_lossy(&bytes);
    // Its text is the person's, and goes into no log.
    let message =
        serde_json::from_str(&text).or_else(|_| serde_json::from_str(&with_whole_pairs(&text)));
    message
        .map(Some)
        .map_err(|_| wrong("a message is no JSON-RPC"))
}

/// A text in JSON in which no escape is half of a pair of UTF-16.
fn with_whole_pairs(text: &str) -> String {
    let unit = |at: usize| {
        let digits = text.get(at..at + 6)?.strip_prefix("\\u")?;
        u16::from_str_radix(digits, 16).ok()
    };
    let (mut out, mut at) = (String::with_capacity(text.len()), 0);
    while let Some(next) = text[at..].find('\\') {
        out.push_str(&text[at..at + next]);
        at += next;
        let size = match (unit(at), unit(at + 6)) {
            (Some(0xD800..=0xDBFF), Some(0xDC00..=0xDFFF)) => 12,
            (Some(0xD800..=0xDFFF), _) => {
                out.push_str("\\ufffd");
                at += 6;
                continue;
            }
            (Some(_), _) => 6,
            // An escape of one character, which may have more than one byte.
            (None, _) => 1 + text[at + 1..].chars().next().map_or(0, char::len_utf8),
        };
        out.push_str(&text[at..at + size]);
        at += size;
    }
    out.push_str(&text[at..]);
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn halves_of_pairs_become_a_sign() {
        assert_eq!(
            with_whole_pairs(r#""a\ud83d\ude00b""#),
            r#""a\ud83d\ude00b""#
        );
        assert_eq!(with_whole_pairs(r#""a\ud83d""#), r#""a\ufffd""#);
        assert_eq!(
            with_whole_pairs(r#""\ude00\ud83d\n""#),
            r#""\ufffd\ufffd\n""#
        );
        assert_eq!(
            with_whole_pairs(r#""\\ud83d \u00e4 \"""#),
            r#""\\ud83d \u00e4 \"""#
        );
    }

    #[test]
    fn messages_are_read_and_others_are_refused() {
        let read_all = |bytes: &str| read(&mut bytes.as_bytes());
        let message = |body: &str| format!("Content-Length: {}\r\n\r\n{body}", body.len());
        assert!(matches!(
            read_all(&message(
                r#"{"jsonrpc":"2.0","method":"x","params":{"text":"\ud800"}}"#
            )),
            Ok(Some(Message::Notification(_)))
        ));
        assert!(read_all("Content-Length: 100000000000000\r\n\r\n{}").is_err());
        assert!(
            read_all("Content-Length: x\r\n\r\n{}").is_err() && read_all(&message("{")).is_err()
        );
        assert!(matches!(read_all(""), Ok(None)));
    }
}
