//! Where people edited what steps are made of. A step of a kit is written in the kit; what its
//! users edited is a value somewhere else, and reasons name that place.

use std::sync::{Arc, OnceLock};

use nubrik_memory::Roles;
use rustc_hash::FxHashMap;

use super::Session;

/// A file of definitions or data that evaluation read.
struct ReadText {
    path: Arc<str>,
    /// When its content last changed, in nanoseconds since 1970.
    changed: i64,
    text: OnceLock<IndexedText>,
}

/// A text with the first line of each of its words: many steps may ask for words of it.
struct IndexedText {
    text: String,
    /// By word, where the first line with it begins and its number from 1.
    first: FxHashMap<String, (usize, usize)>,
}

/// The files that evaluation read, the one that was edited last first.
pub(super) struct Edits<'s> {
    session: &'s Session,
    files: OnceLock<Vec<ReadText>>,
}

impl Session {
    /// Where what the last evaluation read was edited.
    pub(super) fn edits(&self) -> Edits<'_> {
        Edits {
            session: self,
            files: OnceLock::new(),
        }
    }
}

impl Edits<'_> {
    /// The same as the engine asks for it.
    pub(super) fn finder(&self) -> impl Fn(&[String], i64) -> Option<Arc<str>> + Sync + '_ {
        |words, since| self.place(words, since)
    }

    /// The place, as `file:line`, where the first of some words is written in a file that was
    /// edited since a time (nanoseconds since 1970).
    fn place(&self, words: &[String], since: i64) -> Option<Arc<str>> {
        let edited: Vec<&ReadText> = self
            .files()
            .iter()
            .take_while(|file| file.changed > since)
            .collect();
        words.iter().find_map(|word| {
            edited.iter().find_map(|file| {
                let line = file.text(self.session).line_with(word)?;
                Some(format!("{}:{line}", file.path).into())
            })
        })
    }

    fn files(&self) -> &[ReadText] {
        self.files.get_or_init(|| {
            let seen = self.session.seen.lock();
            let read = seen
                .files
                .iter()
                .filter(|(_, entry)| entry.roles.has(Roles::READ));
            let mut files: Vec<ReadText> = read
                .filter_map(|(path, entry)| {
                    let path = path.in_workspace()?.shared().clone();
                    Some(ReadText {
                        path,
                        changed: entry.signature?.changed,
                        text: OnceLock::new(),
                    })
                })
                .collect();
            files.sort_by(|a, b| b.changed.cmp(&a.changed).then_with(|| a.path.cmp(&b.path)));
            files
        })
    }
}

impl ReadText {
    fn text(&self, session: &Session) -> &IndexedText {
        // A file that cannot be read now names no place; the reason then says what differs.
        let read = || {
            nubrik_disk::read_text(&session.workspace.root.join(&*self.path)).unwrap_or_default()
        };
        self.text.get_or_init(|| IndexedText::of(read()))
    }
}

impl IndexedText {
    fn of(text: String) -> IndexedText {
        let mut first = FxHashMap::default();
        let mut start = 0;
        for (number, line) in text.split_inclusive('\n').enumerate() {
            if !line.trim_start().starts_with('#') {
                for word in words(line) {
                    first.entry(word.to_owned()).or_insert((start, number + 1));
                }
            }
            start += line.len();
        }
        IndexedText { text, first }
    }

    /// The number of the first line, from 1, with the longest word of some words, if it holds all
    /// of them and they are no part of longer ones.
    fn line_with(&self, wanted: &str) -> Option<usize> {
        let longest = words(wanted).max_by_key(|word| word.len())?;
        let (start, number) = *self.first.get(longest)?;
        let line = self.text[start..].lines().next()?;
        line.match_indices(wanted)
            .any(|(at, _)| stands_alone(line, at, wanted))
            .then_some(number)
    }
}

/// The words of a text, with signs that belong to flags and names of files.
fn words(text: &str) -> impl Iterator<Item = &str> {
    text.split(|c: char| !c.is_alphanumeric() && !"_-.".contains(c))
        .filter(|word| !word.is_empty())
}

/// Whether what is found at a byte of a line is no part of a longer word.
fn stands_alone(line: &str, at: usize, found: &str) -> bool {
    let is_inner = |c: char| c.is_alphanumeric() || c == '_';
    let goes_on = |one: Option<char>, other: Option<char>| {
        one.is_some_and(is_inner) && other.is_some_and(is_inner)
    };
    let (before, after) = (
        line[..at].chars().next_back(),
        line[at + found.len()..].chars().next(),
    );
    !goes_on(before, found.chars().next()) && !goes_on(found.chars().next_back(), after)
}

#[cfg(test)]
mod tests {
    use super::IndexedText;

    #[test]
    fn words_are_found_where_they_stand_alone() {
        let text = "# -O2 is said here\nlet a = [\"-O21\", \"x-O2y\"]\nlet b = [\"-O2\"]\nlet c = 1905\nlet d = \"high water\"";
        let text = IndexedText::of(text.to_owned());
        assert_eq!(text.line_with("-O2"), Some(3));
        assert_eq!(
            (text.line_with("190"), text.line_with("1905")),
            (None, Some(4))
        );
        assert_eq!(
            (text.line_with("high water"), text.line_with("high tide")),
            (Some(5), None)
        );
        assert_eq!((text.line_with(""), text.line_with(" ")), (None, None));
    }
}
