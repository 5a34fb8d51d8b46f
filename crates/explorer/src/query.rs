//! What is behind `?` in an address.

use std::collections::HashMap;

/// Names with their values.
pub(crate) fn read(query: &str) -> HashMap<String, String> {
    let pairs = query.split('&').filter(|pair| !pair.is_empty());
    pairs
        .map(|pair| {
            let (name, value) = pair.split_once('=').unwrap_or((pair, ""));
            (plain(name), plain(value))
        })
        .collect()
}

/// A text without what represents other bytes: `%2f`, and `+` for a blank.
fn plain(text: &str) -> String {
    let mut bytes = Vec::with_capacity(text.len());
    let mut rest = text.bytes();
    while let Some(byte) = rest.next() {
        match byte {
            b'+' => bytes.push(b' '),
            b'%' => {
                let digits: Vec<u8> = rest.by_ref().take(2).collect();
                let digits = std::str::from_utf8(&digits)
                    .ok()
                    .filter(|digits| digits.len() == 2);
                let number = digits.and_then(|digits| u8::from_str_radix(digits, 16).ok());
                bytes.push(number.unwrap_or(b'?'));
            }
            other => bytes.push(other),
        }
    }
    String::from_utf8_lossy(&bytes).into_owned()
}

/// A text as an address holds it.
pub(crate) fn escaped(text: &str) -> String {
    text.bytes()
        .map(|byte| match byte {
            b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'-' | b'_' | b'.' => {
                (byte as char).to_string()
            }
            other => format!("%{other:02x}"),
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_escaped_is_read_back() {
        for text in ["tide/fit", "a b&c=d+e", "höhe", "%", ""] {
            let query = format!("x={}&depth=3", escaped(text));
            assert_eq!(read(&query)["x"], text);
        }
        assert_eq!(read("words=a+b&&flag")["words"], "a b");
        assert_eq!(read("words=%zz%2")["words"], "??");
    }
}
