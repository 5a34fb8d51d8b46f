//! Which lines of sources ran, as tests tell of it in open formats: LCOV's tracefiles and Cobertura's XML. Both are read
//! and written. Of what they hold only lines count; branches and functions are left out.
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
use std::ops::RangeInclusive;

use crate::Malformed;

/// How often the lines of files ran.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct Coverage {
    /// The files by their paths, as they were told or as [`Coverage::renamed`] names them.
    pub files: BTreeMap<String, LineCounts>,
}

/// How often the lines of one file ran that can run.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct LineCounts(BTreeMap<u32, u64>);

impl LineCounts {
    /// Adds runs of a line; lines are counted from 1.
    pub fn add(&mut self, line: u32, times: u64) {
        let known = self.0.entry(line).or_default();
        *known = known.saturating_add(times);
    }

    /// How many lines can run.
    pub fn len(&self) -> usize {
        self.0.len()
    }

    /// Whether no line can run.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// How many lines ran.
    pub fn covered(&self) -> usize {
        self.0.values().filter(|times| **times > 0).count()
    }

    /// How often a line ran; `None` where it is none that can.
    pub fn times(&self, line: u32) -> Option<u64> {
        self.0.get(&line).copied()
    }

    /// The lines that can run with how often they did, in their order.
    pub fn iter(&self) -> impl Iterator<Item = (u32, u64)> + '_ {
        self.0.iter().map(|(line, times)| (*line, *times))
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

impl Coverage {
    /// Adds what another test ran.
    pub fn merge(&mut self, other: Coverage) {
        for (path, lines) in other.files {
            self.add(path, &lines);
        }
    }

    /// Adds the lines of a file.
    pub fn add(&mut self, path: String, lines: &LineCounts) {
        let known = self.files.entry(path).or_default();
        lines.iter().for_each(|(line, times)| known.add(line, times));
    }

    /// The same with other paths; files without one are left out. Files that get the same path become one.
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
        self.files.values().fold((0, 0), |(covered, all), f| (covered + f.covered(), all + f.len()))
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

/// Which lines ran, as told in one of the formats. A tracefile without a file in it, or an empty one, tells of none.
///
/// # Errors
/// What is wrong, for people, when it is neither of the formats.
pub fn read(bytes: &[u8]) -> Result<Coverage, Malformed> {
    let text = String::from_utf8_lossy(bytes);
    let text = text.trim_start_matches('\u{feff}');
    if text.trim_start().starts_with('<') { cobertura::read(text) } else { lcov::read(text) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn some() -> impl Strategy<Value = Coverage> {
        let lines = prop::collection::btree_map(1..60u32, 0..4u64, 1..20);
        prop::collection::btree_map("[a-z]{1,3}(/[a-z &<]{1,3})?[a-z]", lines, 0..5).prop_map(|files| {
            Coverage { files: files.into_iter().map(|(path, lines)| (path, LineCounts(lines))).collect() }
        })
    }

    #[test]
    fn lines_that_cannot_run_part_nothing() {
        let lines = LineCounts(BTreeMap::from([(2, 0), (5, 0), (6, 1), (8, 0), (9, 0)]));
        assert_eq!(lines.uncovered(), [2..=5, 8..=9]);
        assert_eq!(lines.uncovered_of(|line| line != 8), [2..=5, 9..=9]);
        assert_eq!((lines.times(6), lines.times(7)), (Some(1), None));
    }

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..Default::default() })]

        #[test]
        fn both_formats_hold_everything(all in some()) {
            prop_assert_eq!(read(all.to_lcov().as_bytes()).unwrap(), all.clone());
            prop_assert_eq!(read(all.to_cobertura().as_bytes()).unwrap(), all);
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
