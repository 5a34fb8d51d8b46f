//! Which lines of sources ran and which branches were taken, as tests report it in open formats:
//! LCOV's tracefiles and Cobertura's XML. Both are read and written. Functions are left out.
//!
//! ```
//! let mut all = nubrik_reports::coverage::read(b"SF:fit.c\nDA:3,2\nDA:4,0\nend_of_record\n").expect("a tracefile");
//! all.merge(nubrik_reports::coverage::read(b"SF:fit.c\nDA:4,1\nDA:9,0\nend_of_record\n").expect("a tracefile"));
//! let lines = &all.files["fit.c"];
//! assert_eq!((lines.covered(), lines.len()), (2, 3));
//! assert_eq!(lines.uncovered(), [9..=9]);
//! ```

mod cobertura;
mod lcov;

use std::collections::BTreeMap;
use std::ops::{Add, RangeInclusive};

use crate::Malformed;

/// How often the lines of files ran.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct Coverage {
    /// The files by their paths, as they were reported or as [`Coverage::renamed`] names them.
    pub files: BTreeMap<String, LineCounts>,
}

/// How often the lines of one file ran that can run, and how often each branch in them was taken.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct LineCounts {
    lines: BTreeMap<u32, u64>,
    /// By their line, and by the name that the counter gives them there.
    branches: BTreeMap<(u32, Box<str>), u64>,
}

/// How many of some branches were taken.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default)]
pub struct BranchSum {
    /// Those that were taken.
    pub taken: usize,
    /// All.
    pub all: usize,
}

impl Add for BranchSum {
    type Output = BranchSum;

    fn add(self, other: BranchSum) -> BranchSum {
        BranchSum {
            taken: self.taken + other.taken,
            all: self.all + other.all,
        }
    }
}

impl LineCounts {
    /// Adds runs of a line; lines are counted from 1.
    pub fn add(&mut self, line: u32, times: u64) {
        let known = self.lines.entry(line).or_default();
        *known = known.saturating_add(times);
    }

    /// Adds how often a branch of a line was taken. Its name tells it apart from others of its
    /// line.
    pub fn add_branch(&mut self, line: u32, name: &str, times: u64) {
        let known = self.branches.entry((line, name.into())).or_default();
        *known = known.saturating_add(times);
    }

    /// Adds all that another count of the file has.
    pub fn merge(&mut self, other: &LineCounts) {
        other.iter().for_each(|(line, times)| self.add(line, times));
        other
            .branches()
            .for_each(|(line, name, times)| self.add_branch(line, name, times));
    }

    /// The branches in the order of their lines: line, name, and how often it was taken.
    pub fn branches(&self) -> impl Iterator<Item = (u32, &str, u64)> + '_ {
        self.branches
            .iter()
            .map(|((line, name), times)| (*line, &**name, *times))
    }

    /// How many branches were taken.
    pub fn branch_sum(&self) -> BranchSum {
        self.branches()
            .map(one_branch)
            .fold(BranchSum::default(), BranchSum::add)
    }

    /// The same of each line that has branches.
    pub fn branches_by_line(&self) -> BTreeMap<u32, BranchSum> {
        let mut lines: BTreeMap<u32, BranchSum> = BTreeMap::new();
        for branch in self.branches() {
            let known = lines.entry(branch.0).or_default();
            *known = *known + one_branch(branch);
        }
        lines
    }

    /// The lines that ran and have a branch that was never taken.
    pub fn partly_run(&self) -> Vec<u32> {
        let ran = |line: u32| self.times(line).is_some_and(|times| times > 0);
        let by_line = self.branches_by_line().into_iter();
        by_line
            .filter(|(line, sum)| sum.taken < sum.all && ran(*line))
            .map(|(line, _)| line)
            .collect()
    }

    /// How many lines can run.
    pub fn len(&self) -> usize {
        self.lines.len()
    }

    /// Whether no line can run.
    pub fn is_empty(&self) -> bool {
        self.lines.is_empty()
    }

    /// How many lines ran.
    pub fn covered(&self) -> usize {
        self.lines.values().filter(|times| **times > 0).count()
    }

    /// How often a line ran; `None` where it is none that can.
    pub fn times(&self, line: u32) -> Option<u64> {
        self.lines.get(&line).copied()
    }

    /// The lines that can run with how often they did, in their order.
    pub fn iter(&self) -> impl Iterator<Item = (u32, u64)> + '_ {
        self.lines.iter().map(|(line, times)| (*line, *times))
    }

    /// The lines that did not run. Lines that cannot run do not part those around them.
    pub fn uncovered(&self) -> Vec<RangeInclusive<u32>> {
        self.uncovered_of(|_| true)
    }

    /// Those of some lines that did not run. Any other line that can run parts those around it.
    pub fn uncovered_of(&self, is_meant: impl Fn(u32) -> bool) -> Vec<RangeInclusive<u32>> {
        let mut found: Vec<RangeInclusive<u32>> = Vec::new();
        let mut goes_on = false;
        for (line, times) in self.iter() {
            let counts = times == 0 && is_meant(line);
            match found.last_mut() {
                Some(last) if counts && goes_on => *last = *last.start()..=line,
                _ if counts => found.push(line..=line),
                _ => {}
            }
            goes_on = counts;
        }
        found
    }
}

fn one_branch((_, _, times): (u32, &str, u64)) -> BranchSum {
    BranchSum {
        taken: usize::from(times > 0),
        all: 1,
    }
}

impl Coverage {
    /// Adds what another test ran.
    pub fn merge(&mut self, other: Coverage) {
        for (path, lines) in other.files {
            self.add(path, &lines);
        }
    }

    /// Adds the lines of a file.
    pub fn add(&mut self, path: String, lines: &LineCounts) {
        self.files.entry(path).or_default().merge(lines);
    }

    /// The same with other paths; files without one are left out. Files that get the same path
    /// become one.
    #[must_use]
    pub fn renamed(&self, name: impl Fn(&str) -> Option<String>) -> Coverage {
        let mut all = Coverage::default();
        for (path, lines) in &self.files {
            if let Some(path) = name(path) {
                all.add(path, lines);
            }
        }
        all
    }

    /// How many lines ran, and how many can.
    pub fn total(&self) -> (usize, usize) {
        self.files.values().fold((0, 0), |(covered, all), f| {
            (covered + f.covered(), all + f.len())
        })
    }

    /// How many branches were taken.
    pub fn branch_sum(&self) -> BranchSum {
        self.files
            .values()
            .map(LineCounts::branch_sum)
            .fold(BranchSum::default(), BranchSum::add)
    }

    /// As a tracefile of LCOV.
    pub fn to_lcov(&self) -> String {
        lcov::write(self)
    }

    /// As XML of Cobertura, without a time: the same lines give the same bytes.
    pub fn to_cobertura(&self) -> String {
        cobertura::write(self)
    }
}

/// Which lines ran, as reported in one of the formats. A tracefile without a file in it, or an
/// empty one, tells of none.
///
/// # Errors
/// What is wrong, for people, when it is neither of the formats.
pub fn read(bytes: &[u8]) -> Result<Coverage, Malformed> {
    let text = String::from_utf8_lossy(bytes);
    let text = text.trim_start_matches('\u{feff}');
    if text.trim_start().starts_with('<') {
        cobertura::read(text)
    } else {
        lcov::read(text)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn some() -> impl Strategy<Value = Coverage> {
        let lines = prop::collection::btree_map(1..60u32, 0..4u64, 1..20);
        let branches = prop::collection::btree_map((1..60u32, "[a-z0-9,]{1,3}"), 0..3u64, 0..9);
        let counts = (lines, branches).prop_map(|(lines, branches)| {
            let branches = branches
                .into_iter()
                .filter(|((line, _), _)| lines.contains_key(line));
            let branches = branches
                .map(|((line, name), times)| ((line, name.into()), times))
                .collect();
            LineCounts { lines, branches }
        });
        prop::collection::btree_map("[a-z]{1,3}(/[a-z &<]{1,3})?[a-z]", counts, 0..5)
            .prop_map(|files| Coverage { files })
    }

    #[test]
    fn lines_that_cannot_run_part_nothing() {
        let lines = BTreeMap::from([(2, 0), (5, 0), (6, 1), (8, 0), (9, 0)]);
        let lines = LineCounts {
            lines,
            ..LineCounts::default()
        };
        assert_eq!(lines.uncovered(), [2..=5, 8..=9]);
        assert_eq!(lines.uncovered_of(|line| line != 8), [2..=5, 9..=9]);
        assert_eq!((lines.times(6), lines.times(7)), (Some(1), None));
    }

    #[test]
    fn branches_are_counted_by_their_names() {
        let one = read(
            b"SF:a\nDA:3,2\nBRDA:3,0,0,2\nBRDA:3,0,1,0\nDA:4,0\nBRDA:4,0,0,-\nend_of_record\n",
        )
        .unwrap();
        assert_eq!(one.branch_sum(), BranchSum { taken: 1, all: 3 });
        assert_eq!(
            one.files["a"].partly_run(),
            [3],
            "a line that never ran is no news"
        );
        let mut both = one;
        both.merge(read(b"SF:a\nDA:3,1\nBRDA:3,0,1,1\nend_of_record\n").unwrap());
        assert_eq!(both.branch_sum(), BranchSum { taken: 2, all: 3 });
        assert!(both.files["a"].partly_run().is_empty());
    }

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..Default::default() })]

        #[test]
        fn both_formats_hold_everything(all in some()) {
            prop_assert_eq!(read(all.to_lcov().as_bytes()).unwrap(), all.clone());
            // Cobertura has only how many branches of a line were taken.
            let read = read(all.to_cobertura().as_bytes()).unwrap();
            for (path, lines) in &all.files {
                prop_assert_eq!(&read.files[path].lines, &lines.lines);
                prop_assert_eq!(read.files[path].branches_by_line(), lines.branches_by_line());
            }
            prop_assert_eq!(read.files.len(), all.files.len());
        }

        #[test]
        fn merging_adds_and_has_no_order(a in some(), b in some()) {
            let (mut one, mut other) = (a.clone(), b.clone());
            one.merge(b.clone());
            other.merge(a.clone());
            prop_assert_eq!(&one, &other);
            for (path, lines) in &one.files {
                for (line, times) in lines.iter() {
                    let of = |all: &Coverage| all.files.get(path).and_then(|l| l.times(line)).unwrap_or(0);
                    prop_assert_eq!(times, of(&a) + of(&b));
                }
            }
        }

        #[test]
        fn uncovered_lines_are_those_that_never_ran(all in some()) {
            for lines in all.files.values() {
                let inside = |line| lines.uncovered().iter().any(|range| range.contains(&line));
                prop_assert!(lines.iter().all(|(line, times)| (times == 0) == inside(line)));
            }
        }

        #[test]
        fn any_bytes_are_survived(bytes in prop::collection::vec(any::<u8>(), 0..200), xml in any::<bool>()) {
            let _ = read(&bytes);
            let _ = read(&[if xml { &b"<coverage>"[..] } else { b"SF:a\nDA:1," }, &bytes].concat());
        }
    }
}
