//! Values as lines of JSON that steer no terminal.

use std::borrow::Cow;

use serde::Serialize;

use super::visible::steers;

/// A value on a line; `None` where it is none that JSON can hold.
pub fn line(value: &impl Serialize) -> Option<String> {
    serde_json::to_string(value)
        .ok()
        .map(|line| format!("{}\n", escaped(&line)))
}

/// JSON in which no character is left that would steer a terminal: such characters are in its texts
/// only, where an escape means the same.
fn escaped(line: &str) -> Cow<'_, str> {
    if !line.chars().any(steers) {
        return Cow::Borrowed(line);
    }
    let mut escaped = String::with_capacity(line.len() + 16);
    for c in line.chars() {
        if steers(c) {
            let mut units = [0; 2];
            c.encode_utf16(&mut units)
                .iter()
                .for_each(|unit| escaped.push_str(&format!("\\u{unit:04x}")));
        } else {
            escaped.push(c);
        }
    }
    Cow::Owned(escaped)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn texts_stay_what_they_are_and_steer_nothing() {
        let text = "a\u{9b}31m b\u{202e}c\u{7f} \x1b[0m \"é\"";
        let line = serde_json::to_string(text).unwrap();
        let shown = escaped(&line);
        assert!(!shown.chars().any(steers), "{shown}");
        assert_eq!(serde_json::from_str::<String>(&shown).unwrap(), text);
        assert!(matches!(escaped("\"plain\""), Cow::Borrowed(_)));
    }
}
