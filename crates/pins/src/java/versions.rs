//! Versions of archives, and ranges of them.

use std::cmp::Ordering;

/// A version, compared part by part: numbers as numbers, and words for early versions before none.
#[derive(Clone, Debug)]
pub(crate) struct ArchiveVersion {
    pub text: String,
    parts: Vec<VersionPart>,
}

#[derive(Clone, PartialEq, Eq, Debug)]
enum VersionPart {
    Number(u128),
    Word(String),
}

/// Words for what comes before a release and after it, in their order; an empty one is the release
/// itself.
const WORDS: [&str; 7] = ["alpha", "beta", "milestone", "rc", "snapshot", "", "sp"];

impl ArchiveVersion {
    pub(crate) fn new(text: &str) -> ArchiveVersion {
        let mut parts = Vec::new();
        let lower = text.to_lowercase();
        let mut rest = lower.as_str();
        while let Some(first) = rest.chars().next() {
            let is_digit = first.is_ascii_digit();
            let end = rest
                .find(|c: char| {
                    matches!(c, '.' | '-' | '_' | '+') || c.is_ascii_digit() != is_digit
                })
                .unwrap_or(rest.len());
            let (part, after) = rest.split_at(end);
            match part {
                "" => {}
                part if is_digit => {
                    parts.push(VersionPart::Number(part.parse().unwrap_or(u128::MAX)))
                }
                part => parts.push(VersionPart::Word(usual(part, after).to_owned())),
            }
            rest = after.strip_prefix(['.', '-', '_', '+']).unwrap_or(after);
            if part.is_empty() && rest.len() == after.len() {
                break;
            }
        }
        // `1.0` and `1` are the same, and so are `1.0-rc` and `1-rc`.
        while matches!(parts.last(), Some(VersionPart::Number(0)))
            || parts.last() == Some(&VersionPart::Word(String::new()))
        {
            parts.pop();
        }
        ArchiveVersion {
            text: text.to_owned(),
            parts,
        }
    }

    /// Whether it comes before a release.
    pub(crate) fn is_early(&self) -> bool {
        self.parts
            .iter()
            .any(|part| matches!(part, VersionPart::Word(word) if place(word) < release()))
    }
}

/// The usual spelling of a word; a short one counts only in front of a number.
fn usual<'t>(word: &'t str, after: &str) -> &'t str {
    let before_number = after.starts_with(|c: char| c.is_ascii_digit());
    match word {
        "a" if before_number => "alpha",
        "b" if before_number => "beta",
        "m" if before_number => "milestone",
        "cr" => "rc",
        "ga" | "final" | "release" => "",
        word => word,
    }
}

fn place(word: &str) -> usize {
    WORDS
        .iter()
        .position(|known| *known == word)
        .unwrap_or(WORDS.len())
}

fn release() -> usize {
    place("")
}

impl PartialEq for ArchiveVersion {
    fn eq(&self, other: &ArchiveVersion) -> bool {
        self.cmp(other) == Ordering::Equal
    }
}

impl Eq for ArchiveVersion {}

impl PartialOrd for ArchiveVersion {
    fn partial_cmp(&self, other: &ArchiveVersion) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for ArchiveVersion {
    fn cmp(&self, other: &ArchiveVersion) -> Ordering {
        let count = self.parts.len().max(other.parts.len());
        for n in 0..count {
            let ordering = match (self.parts.get(n), other.parts.get(n)) {
                (Some(VersionPart::Number(a)), Some(VersionPart::Number(b))) => a.cmp(b),
                (Some(VersionPart::Word(a)), Some(VersionPart::Word(b))) => {
                    (place(a), a).cmp(&(place(b), b))
                }
                (Some(VersionPart::Number(_)), Some(VersionPart::Word(_))) => Ordering::Greater,
                (Some(VersionPart::Word(_)), Some(VersionPart::Number(_))) => Ordering::Less,
                (Some(VersionPart::Number(a)), None) => a.cmp(&0),
                (None, Some(VersionPart::Number(b))) => 0.cmp(b),
                (Some(VersionPart::Word(a)), None) => place(a).cmp(&release()),
                (None, Some(VersionPart::Word(b))) => release().cmp(&place(b)),
                (None, None) => Ordering::Equal,
            };
            if ordering != Ordering::Equal {
                return ordering;
            }
        }
        Ordering::Equal
    }
}

/// Which versions will do: one, or ranges such as `[1.2,2)` with `,` between them.
#[derive(Clone, Debug)]
pub(crate) enum WantedVersions {
    Any,
    One(String),
    Ranges(Vec<(RangeEnd, RangeEnd)>),
}

type RangeEnd = Option<(ArchiveVersion, bool)>;

impl WantedVersions {
    /// Reads a requirement; `None` if it is none.
    pub(crate) fn read(text: &str) -> Option<WantedVersions> {
        let text = text.trim();
        if text.is_empty() {
            return Some(WantedVersions::Any);
        }
        if !text.starts_with(['[', '(']) {
            let is_fine = !text.contains([',', '[', ']', '(', ')', '<', '>', ' ']);
            return is_fine.then(|| WantedVersions::One(text.to_owned()));
        }
        let mut ranges = Vec::new();
        let mut rest = text;
        while !rest.is_empty() {
            let end = rest.find([']', ')'])?;
            let (open, close) = (rest.chars().next()?, rest[end..].chars().next()?);
            let inside = &rest[1..end];
            let bound = |text: &str, is_in: bool| {
                let text = text.trim();
                (!text.is_empty()).then(|| (ArchiveVersion::new(text), is_in))
            };
            ranges.push(match inside.split_once(',') {
                Some((from, to)) => (bound(from, open == '['), bound(to, close == ']')),
                None => (bound(inside, true), bound(inside, true)),
            });
            rest = rest[end + 1..].trim_start_matches(',').trim_start();
            if !rest.is_empty() && !rest.starts_with(['[', '(']) {
                return None;
            }
        }
        Some(WantedVersions::Ranges(ranges))
    }

    pub(crate) fn contains(&self, version: &ArchiveVersion) -> bool {
        match self {
            WantedVersions::Any => true,
            WantedVersions::One(text) => *text == version.text,
            WantedVersions::Ranges(ranges) => ranges.iter().any(|(from, to)| {
                let above = from
                    .as_ref()
                    .is_none_or(|(from, is_in)| version > from || (*is_in && version == from));
                let below = to
                    .as_ref()
                    .is_none_or(|(to, is_in)| version < to || (*is_in && version == to));
                above && below
            }),
        }
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use super::*;

    #[test]
    fn versions_are_in_the_order_of_their_parts() {
        let order = [
            "1.0-alpha1",
            "1.0-beta2",
            "1.0-M3",
            "1.0-rc1",
            "1.0-SNAPSHOT",
            "1.0",
            "1.0-sp1",
            "1.0.1",
            "1.2",
            "1.10",
            "2.0",
        ];
        for pair in order.windows(2) {
            assert!(
                ArchiveVersion::new(pair[0]) < ArchiveVersion::new(pair[1]),
                "{pair:?}"
            );
        }
        for (a, b) in [
            ("1", "1.0.0"),
            ("1.0-ga", "1"),
            ("1.0.Final", "1.0"),
            ("1-a1", "1-alpha-1"),
        ] {
            assert_eq!(ArchiveVersion::new(a), ArchiveVersion::new(b), "{a} {b}");
        }
        assert!(
            ArchiveVersion::new("1.0-rc1").is_early() && !ArchiveVersion::new("1.0-jre").is_early()
        );
    }

    #[test]
    fn ranges_have_ends() {
        let has = |range: &str, version: &str| {
            WantedVersions::read(range)
                .unwrap()
                .contains(&ArchiveVersion::new(version))
        };
        assert!(
            has("[1.2,2)", "1.2")
                && has("[1.2,2)", "1.9")
                && !has("[1.2,2)", "2.0")
                && !has("(1.2,)", "1.2")
        );
        assert!(
            has("[1.5]", "1.5")
                && !has("[1.5]", "1.6")
                && has("[1,2),[3,)", "3.1")
                && !has("[1,2),[3,)", "2.5")
        );
        assert!(has("", "7") && has("1.2", "1.2") && !has("1.2", "1.3"));
        for wrong in ["[1", ">=1", "1,2", "[1,2)x", "[1,2),3]", "[1,2)x]"] {
            assert!(WantedVersions::read(wrong).is_none(), "{wrong}");
        }
    }
}
