//! Tests that several machines share: which of them are in which part, and the reports of all parts
//! as one.
//!
//! A split follows from the tests and their times alone, so that machines which know the same of
//! both split alike. Each report of a part names its split: reports of different splits are not
//! joined, nor are those of which one is missing, because a test may have run nowhere then.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::fmt;
use std::str::FromStr;

use nubrik_bytes::{Digest, Encoder};

use crate::cases::{Suite, TestReport};

/// How many parts there may be.
pub const PARTS: usize = 1000;

/// A test whose time nobody knows, where no time is known of any, in microseconds.
const UNKNOWN: u64 = 1_000_000;

/// The longest time of a test that is believed, in seconds.
const LONGEST: f64 = 1e7;

/// One of several parts: `2/5` is the second of five.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub struct TestPart {
    number: usize,
    of: usize,
}

impl TestPart {
    /// Its number, from 1.
    pub fn number(self) -> usize {
        self.number
    }

    /// How many there are.
    pub fn of(self) -> usize {
        self.of
    }
}

impl fmt::Display for TestPart {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}/{}", self.number, self.of)
    }
}

impl FromStr for TestPart {
    type Err = String;

    fn from_str(text: &str) -> Result<TestPart, String> {
        let numbers = text
            .split_once('/')
            .map(|(number, of)| (number.parse(), of.parse()));
        match numbers {
            Some((Ok(number), Ok(of))) if (1..=of).contains(&number) && of <= PARTS => {
                Ok(TestPart { number, of })
            }
            _ => Err(format!(
                "a part is its number and how many there are, up to {PARTS}, such as 2/5"
            )),
        }
    }
}

/// Which part a report is of, and of which split.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct PartMark {
    /// The part.
    pub part: TestPart,
    /// The digits that identify the split.
    pub split: String,
}

/// How long tests took, in microseconds, by their paths.
pub type TestTimes = HashMap<String, u64>;

/// The times that a report holds.
pub fn times_of(report: &TestReport) -> TestTimes {
    // No sum of such times is too large, whatever the file says.
    let time = |suite: &Suite| {
        (
            suite.name.clone(),
            (suite.seconds.clamp(0.0, LONGEST) * 1e6) as u64,
        )
    };
    report.suites.iter().map(time).collect()
}

/// Tests in parts that take as long as one another, as far as their times are known.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Split {
    /// The part of each test, from 0, by its path.
    part_of: HashMap<String, usize>,
    /// How long each part takes, in microseconds.
    took: Vec<u64>,
    /// How many tests have no known time.
    unknown: usize,
    id: String,
}

impl Split {
    /// Splits tests by their paths: the one that takes longest goes first, and each goes to the
    /// part that has least to do. A test without a time counts as the median of the others.
    pub fn new(paths: &[&str], times: &TestTimes, of: usize) -> Split {
        let paths: BTreeSet<&str> = paths.iter().copied().collect();
        let mut known: Vec<u64> = paths
            .iter()
            .filter_map(|path| times.get(*path).copied())
            .collect();
        known.sort_unstable();
        let median = known.get(known.len() / 2).copied().unwrap_or(UNKNOWN);
        let weight = |path: &str| times.get(path).copied().unwrap_or(median).max(1);
        let rows: Vec<(&str, u64)> = paths.iter().map(|path| (*path, weight(path))).collect();
        let mut order = rows.clone();
        order.sort_by_key(|(path, weight)| (std::cmp::Reverse(*weight), *path));
        let (mut part_of, mut took) = (HashMap::new(), vec![0; of]);
        for (path, weight) in order {
            let least = (0..of).min_by_key(|part| (took[*part], *part)).unwrap_or(0);
            part_of.insert(path.to_owned(), least);
            took[least] += weight;
        }
        let mut out = Encoder::new();
        out.text("split 1");
        out.u64(of as u64);
        out.list(&rows, |out, (path, weight)| {
            out.text(path);
            out.u64(*weight);
        });
        let id = Digest::of(&out.bytes).hex()[..12].to_owned();
        Split {
            part_of,
            took,
            unknown: paths.len() - known.len(),
            id,
        }
    }

    /// Whether a test, by its path, is in a part.
    pub fn has(&self, path: &str, part: TestPart) -> bool {
        self.part_of
            .get(path)
            .is_some_and(|at| at + 1 == part.number)
    }

    /// How long a part takes, in microseconds, as far as that is known.
    pub fn micros(&self, part: TestPart) -> u64 {
        self.took.get(part.number - 1).copied().unwrap_or(0)
    }

    /// How many tests have no known time.
    pub fn unknown(&self) -> usize {
        self.unknown
    }

    /// The mark of a part, for its report.
    pub fn mark(&self, part: TestPart) -> PartMark {
        PartMark {
            part,
            split: self.id.clone(),
        }
    }
}

/// Why reports are not joined. Files are named as they were given.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Unjoined {
    /// Parts of which no report was given.
    Missing {
        /// Their numbers.
        parts: Vec<usize>,
        /// How many parts there are.
        of: usize,
    },
    /// Two reports of one part.
    Twice {
        /// The part.
        part: TestPart,
        /// The reports.
        files: [String; 2],
    },
    /// Two reports of parts of different splits.
    OtherSplit {
        /// The reports.
        files: [String; 2],
    },
    /// One test in two parts.
    TestTwice {
        /// Its path.
        test: String,
        /// The reports.
        files: [String; 2],
    },
}

impl fmt::Display for Unjoined {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Unjoined::Missing { parts, of } => {
                let names: Vec<String> = parts.iter().map(|part| format!("{part}/{of}")).collect();
                let (noun, verb) = if parts.len() == 1 {
                    ("part", "is")
                } else {
                    ("parts", "are")
                };
                write!(
                    f,
                    "{noun} {} {verb} missing, so tests may not have run",
                    names.join(", ")
                )
            }
            Unjoined::Twice {
                part,
                files: [one, other],
            } => {
                write!(f, "{one} and {other} are both of part {part}")
            }
            Unjoined::OtherSplit {
                files: [one, other],
            } => write!(
                f,
                "{one} and {other} are parts of different splits: the machines had other tests or other times"
            ),
            Unjoined::TestTwice {
                test,
                files: [one, other],
            } => {
                write!(f, "the test `{test}` is in {one} and in {other}")
            }
        }
    }
}

impl std::error::Error for Unjoined {}

/// One report of several, each with the name of its file. Where some are of parts, all of these
/// parts must be there, and of one split.
/// The tests are in the order of their paths.
///
/// # Errors
/// Why the result would not say what became of each test.
pub fn joined(reports: Vec<(String, TestReport)>) -> Result<Vec<Suite>, Unjoined> {
    let marked = || {
        reports
            .iter()
            .filter_map(|(file, report)| Some((file, report.mark.as_ref()?)))
    };
    let mut by_part: BTreeMap<TestPart, &String> = BTreeMap::new();
    if let Some((first_file, first)) = marked().next() {
        for (file, mark) in marked() {
            if mark.split != first.split || mark.part.of != first.part.of {
                return Err(Unjoined::OtherSplit {
                    files: [first_file.clone(), file.clone()],
                });
            }
            if let Some(before) = by_part.insert(mark.part, file) {
                return Err(Unjoined::Twice {
                    part: mark.part,
                    files: [before.clone(), file.clone()],
                });
            }
        }
        let of = first.part.of;
        let parts: Vec<usize> = (1..=of)
            .filter(|number| {
                !by_part.contains_key(&TestPart {
                    number: *number,
                    of,
                })
            })
            .collect();
        if !parts.is_empty() {
            return Err(Unjoined::Missing { parts, of });
        }
    }
    let mut suites: BTreeMap<String, (String, Vec<Suite>)> = BTreeMap::new();
    for (file, report) in reports {
        let is_part = report.mark.is_some();
        for suite in report.suites {
            let (before, own) = suites
                .entry(suite.name.clone())
                .or_insert_with(|| (file.clone(), Vec::new()));
            // What is wrong with definitions is said in each part.
            if is_part && own.contains(&suite) {
                continue;
            }
            if *before != file {
                let files = [before.clone(), file];
                return Err(Unjoined::TestTwice {
                    test: suite.name,
                    files,
                });
            }
            own.push(suite);
        }
    }
    Ok(suites
        .into_values()
        .flat_map(|(_, suites)| suites)
        .collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn part(text: &str) -> TestPart {
        text.parse().unwrap()
    }

    fn report(names: &[&str], mark: Option<(&str, &str)>) -> TestReport {
        let suite = |name: &&str| Suite {
            name: (*name).to_owned(),
            seconds: 1.0,
            cases: Vec::new(),
        };
        let mark = mark.map(|(text, split)| PartMark {
            part: part(text),
            split: split.to_owned(),
        });
        TestReport {
            suites: names.iter().map(suite).collect(),
            mark,
        }
    }

    fn join(reports: &[TestReport]) -> Result<Vec<String>, String> {
        let named = reports.iter().zip(["a.xml", "b.xml", "c.xml"]);
        let joined = joined(
            named
                .map(|(report, name)| (name.to_owned(), report.clone()))
                .collect(),
        );
        joined
            .map(|suites| suites.into_iter().map(|s| s.name).collect())
            .map_err(|why| why.to_string())
    }

    #[test]
    fn parts_are_read_as_they_are_shown() {
        assert_eq!(part("2/5").to_string(), "2/5");
        for wrong in [
            "", "2", "0/5", "6/5", "2/", "/5", "-1/5", "1/1001", "1/2/3", "a/b",
        ] {
            assert!(wrong.parse::<TestPart>().is_err(), "{wrong}");
        }
    }

    #[test]
    fn parts_take_as_long_as_one_another() {
        let times: TestTimes = [("long", 60), ("b", 30), ("c", 20), ("d", 10)]
            .map(|(name, seconds)| (name.to_owned(), seconds * 1_000_000))
            .into();
        let split = Split::new(&["b", "long", "new", "c", "d"], &times, 2);
        let shown = |text: &str| {
            let part = part(text);
            let names = ["b", "long", "new", "c", "d"].into_iter();
            let own: Vec<&str> = names.filter(|name| split.has(name, part)).collect();
            (own.join(" "), split.micros(part) / 1_000_000)
        };
        // Nobody knows how long `new` takes: as long as the median of the others.
        assert_eq!(
            (shown("1/2"), shown("2/2")),
            (("long c".into(), 80), ("b new d".into(), 70))
        );
        assert_eq!(split.unknown(), 1);
    }

    #[test]
    fn times_that_cannot_be_are_bounded() {
        let named = |name: &str, seconds| Suite {
            name: name.to_owned(),
            seconds,
            cases: Vec::new(),
        };
        let suites = vec![
            named("a", f64::INFINITY),
            named("b", 1e300),
            named("c", f64::NAN),
            named("d", -5.0),
        ];
        let times = times_of(&TestReport { suites, mark: None });
        let split = Split::new(&["a", "b", "c", "d"], &times, 1);
        assert_eq!(split.micros(part("1/1")), 2 * 10_000_000_000_000 + 2);
    }

    #[test]
    fn a_split_is_named_by_all_that_it_follows_from() {
        let times: TestTimes = [("a".to_owned(), 5)].into();
        let id = |paths: &[&str], times: &TestTimes, of| Split::new(paths, times, of).id;
        let one = id(&["a", "b"], &times, 2);
        assert_eq!(one, id(&["b", "a"], &times, 2));
        assert_ne!(one, id(&["a", "b", "c"], &times, 2));
        assert_ne!(one, id(&["a", "b"], &times, 3));
        assert_ne!(one, id(&["a", "b"], &[("a".to_owned(), 6)].into(), 2));
        // Times of tests that are not there do not count.
        assert_eq!(
            one,
            id(
                &["a", "b"],
                &[("a".to_owned(), 5), ("z".to_owned(), 1)].into(),
                2
            )
        );
    }

    #[test]
    fn only_whole_splits_are_joined() {
        let (one, two) = (
            report(&["z"], Some(("1/2", "s"))),
            report(&["a", "b"], Some(("2/2", "s"))),
        );
        assert_eq!(join(&[one.clone(), two.clone()]).unwrap(), ["a", "b", "z"]);
        let other = report(&["e2e"], None);
        assert_eq!(
            join(&[one.clone(), other.clone(), two.clone()]).unwrap(),
            ["a", "b", "e2e", "z"]
        );
        assert_eq!(join(std::slice::from_ref(&other)).unwrap(), ["e2e"]);
        let refused = |reports: &[TestReport]| join(reports).unwrap_err();
        assert_eq!(
            refused(&[one.clone(), other.clone()]),
            "part 2/2 is missing, so tests may not have run"
        );
        assert_eq!(
            refused(&[one.clone(), one.clone()]),
            "a.xml and b.xml are both of part 1/2"
        );
        let strange = report(&["a"], Some(("2/2", "t")));
        assert!(refused(&[one.clone(), strange]).contains("different splits"));
        let more = report(&["a"], Some(("2/3", "s")));
        assert!(refused(&[one.clone(), more]).contains("different splits"));
        let mut again = report(&["z"], Some(("2/2", "s")));
        assert_eq!(join(&[one.clone(), again.clone()]).unwrap(), ["z"]);
        again.suites[0].seconds = 2.0;
        assert_eq!(
            refused(&[one, again]),
            "the test `z` is in a.xml and in b.xml"
        );
    }

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..Default::default() })]

        #[test]
        fn each_test_is_in_one_part_on_all_machines(
            times in prop::collection::vec(prop::option::of(0u64..10_000_000), 0..60),
            of in 1usize..9,
            turn in 0usize..60,
        ) {
            let paths: Vec<String> = (0..times.len()).map(|at| format!("tide/t{at}")).collect();
            let known: TestTimes =
                paths.iter().zip(&times).filter_map(|(path, time)| Some((path.clone(), (*time)?))).collect();
            let here: Vec<&str> = paths.iter().map(String::as_str).collect();
            let mut there = here.clone();
            there.rotate_left(turn % times.len().max(1));
            let (one, other) = (Split::new(&here, &known, of), Split::new(&there, &known, of));
            prop_assert_eq!(&one.id, &other.id);
            for path in &here {
                let parts = (1..=of).map(|number| TestPart { number, of });
                let in_parts: Vec<TestPart> = parts.filter(|part| one.has(path, *part)).collect();
                prop_assert_eq!(in_parts.len(), 1);
                prop_assert!(other.has(path, in_parts[0]));
            }
            // No part takes longer than a fair share and one test more.
            let longest = here.iter().map(|p| known.get(*p).copied().unwrap_or(UNKNOWN)).max().unwrap_or(0);
            let parts: Vec<u64> = (1..=of).map(|number| one.micros(TestPart { number, of })).collect();
            let sum: u64 = parts.iter().sum();
            prop_assert!(parts.iter().all(|took| *took <= sum / of as u64 + longest + 1));
        }
    }
}
