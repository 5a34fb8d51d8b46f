//! Where people edited what steps are made of. A step of a kit is written in the kit; what its users edited is a value
//! somewhere else, and reasons name that place.

use std::fs;
use std::sync::{Arc, OnceLock, PoisonError};

use nubrik_memory::Roles;

use super::Session;

/// A file of definitions or data that evaluation read.
struct ReadText {
    path: Arc<str>,
    /// When its content last changed, in nanoseconds since 1970.
    changed: i64,
    text: OnceLock<String>,
}

/// The files that evaluation read, the one that was edited last first.
pub(super) struct Edits<'s> {
    session: &'s Session,
    files: OnceLock<Vec<ReadText>>,
}

impl Session {
    /// Where what the last evaluation read was edited.
    pub(super) fn edits(&self) -> Edits<'_> {
        Edits { session: self, files: OnceLock::new() }
    }
}

impl Edits<'_> {
    /// The same as the engine asks for it.
    pub(super) fn finder(&self) -> impl Fn(&[String], i64) -> Option<Arc<str>> + Sync + '_ {
        |words, since| self.place(words, since)
    }

    /// The place, as `file:line`, where the first of some words is written in a file that was edited since a time (nanoseconds since
    /// 1970).
    fn place(&self, words: &[String], since: i64) -> Option<Arc<str>> {
        let edited: Vec<&ReadText> = self.files().iter().take_while(|file| file.changed > since).collect();
        words.iter().find_map(|word| {
            edited.iter().find_map(|file| {
                let line = line_with(file.text(self.session), word)?;
                Some(format!("{}:{line}", file.path).into())
            })
        })
    }

    fn files(&self) -> &[ReadText] {
        self.files.get_or_init(|| {
            let seen = self.session.seen.lock().unwrap_or_else(PoisonError::into_inner);
            let read = seen.files.iter().filter(|(_, entry)| entry.roles.has(Roles::READ));
            let mut files: Vec<ReadText> = read
                .filter_map(|(path, entry)| {
                    let path = path.in_workspace()?.shared().clone();
                    Some(ReadText { path, changed: entry.signature?.changed, text: OnceLock::new() })
                })
                .collect();
            files.sort_by(|a, b| b.changed.cmp(&a.changed).then_with(|| a.path.cmp(&b.path)));
            files
        })
    }
}

impl ReadText {
    fn text(&self, session: &Session) -> &str {
        let read = || fs::read_to_string(session.workspace.root.join(&*self.path)).unwrap_or_default();
        self.text.get_or_init(read)
    }
}

/// The number of the first line, from 1, that has a word which is no part of a longer one.
fn line_with(text: &str, word: &str) -> Option<usize> {
    let is_inner = |c: char| c.is_alphanumeric() || c == '_';
    let stands_alone = |line: &str, at: usize| {
        let before = line[..at].chars().next_back();
        let after = line[at + word.len()..].chars().next();
        let (first, last) = (word.chars().next(), word.chars().next_back());
        let goes_on =
            |one: Option<char>, other: Option<char>| one.is_some_and(is_inner) && other.is_some_and(is_inner);
        !goes_on(before, first) && !goes_on(last, after)
    };
    let has = |line: &str| {
        let code = line.trim_start();
        !code.starts_with('#') && line.match_indices(word).any(|(at, _)| stands_alone(line, at))
    };
    text.lines().position(has).map(|line| line + 1)
}

#[cfg(test)]
mod tests {
    use super::line_with;

    #[test]
    fn a_word_is_found_where_it_stands_alone() {
        let text = "# -O2 is said here\nlet a = [\"-O21\", \"x-O2y\"]\nlet b = [\"-O2\"]\nlet c = 1905\n";
        assert_eq!(line_with(text, "-O2"), Some(3));
        assert_eq!(line_with(text, "190"), None);
        assert_eq!(line_with(text, "1905"), Some(4));
    }
}
