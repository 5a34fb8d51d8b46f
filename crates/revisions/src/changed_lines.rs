//! Which lines of files changed since a revision of git.

use std::collections::BTreeMap;
use std::ops::RangeInclusive;

use nubrik_machine::Machine;

use crate::git::{Git, SinceProblem};

/// Lines that differ from a revision, uncommitted changes included.
pub struct ChangedLines {
    files: BTreeMap<String, LinesOfFile>,
}

/// What of a file differs.
enum LinesOfFile {
    /// The whole file: it is new, or git does not tell its lines.
    All,
    /// Ranges of lines, counted from 1.
    Some(Vec<RangeInclusive<u32>>),
}

impl ChangedLines {
    /// Asks git.
    ///
    /// # Errors
    /// What git says where it cannot tell.
    pub fn since(machine: &Machine, revision: &str) -> Result<ChangedLines, SinceProblem> {
        let git = Git::of(machine)?;
        let base = git.base_of(revision)?.commit;
        let diff = |how: &[&str]| {
            let common = [
                "diff",
                "--no-ext-diff",
                "--no-textconv",
                "--no-renames",
                "--no-color",
                "--relative",
            ];
            git.text(&[&common[..], how, &[base.as_str(), "--", "."]].concat())
        };
        // Names in the text itself are quoted in a way of git's own: these are not, and come in the
        // same order.
        let names = diff(&["--name-only", "-z"])?;
        let names: Vec<&str> = names.split('\0').filter(|name| !name.is_empty()).collect();
        let mut files = sections(&names, &diff(&["--unified=0"])?);
        let new = git.ask(&[
            "ls-files",
            "--others",
            "--exclude-per-directory=.gitignore",
            "-z",
            "--",
            ".",
        ])?;
        files.extend(new.into_iter().map(|name| (name, LinesOfFile::All)));
        Ok(ChangedLines { files })
    }

    /// Whether a line of a file differs.
    pub fn has(&self, path: &str, line: u32) -> bool {
        match self.files.get(path) {
            None => false,
            Some(LinesOfFile::All) => true,
            Some(LinesOfFile::Some(ranges)) => ranges.iter().any(|range| range.contains(&line)),
        }
    }
}

/// What git said of each of some files, one section after the other.
fn sections(names: &[&str], text: &str) -> BTreeMap<String, LinesOfFile> {
    let mut all: Vec<Vec<RangeInclusive<u32>>> = Vec::new();
    for line in text.lines() {
        // Lines of files stand behind a sign.
        if line.starts_with("diff --git ") {
            all.push(Vec::new());
        } else if let (Some(range), Some(last)) = (new_lines(line), all.last_mut()) {
            last.push(range);
        }
    }
    let are_clear = all.len() == names.len();
    let of = |(number, name): (usize, &&str)| {
        let lines = if are_clear {
            LinesOfFile::Some(all[number].clone())
        } else {
            LinesOfFile::All
        };
        ((*name).to_owned(), lines)
    };
    names.iter().enumerate().map(of).collect()
}

/// The lines that a hunk puts into the new file: `@@ -3,2 +3,4 @@`.
fn new_lines(line: &str) -> Option<RangeInclusive<u32>> {
    let place = line
        .strip_prefix("@@ ")?
        .split(' ')
        .find_map(|word| word.strip_prefix('+'))?;
    let (first, count) = place.split_once(',').unwrap_or((place, "1"));
    let (first, count) = (first.parse::<u32>().ok()?, count.parse::<u32>().ok()?);
    (count > 0).then(|| first..=first.saturating_add(count - 1))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn hunks_tell_lines() {
        let text = "diff --git a/fit.c b/fit.c\n--- a/fit.c\n+++ b/fit.c\n@@ -3,2 +3,3 @@ int fit\n-a\n-b\n+c\n+d\n+diff --git \n\
            @@ -9 +11,0 @@\n-gone\n@@ -20,0 +20 @@\n+new\ndiff --git \"a/\\303\\244.c\" \"b/\\303\\244.c\"\nBinary files differ\n";
        let changed = ChangedLines {
            files: sections(&["fit.c", "ä.c"], text),
        };
        let lines = |path: &str| {
            (1..30)
                .filter(|line| changed.has(path, *line))
                .collect::<Vec<_>>()
        };
        assert_eq!(lines("fit.c"), [3, 4, 5, 20]);
        assert!(lines("ä.c").is_empty() && lines("other.c").is_empty());
        let unclear = ChangedLines {
            files: sections(&["a", "b"], "diff --git a/a b/a\n"),
        };
        assert!(unclear.has("b", 7));
    }
}
