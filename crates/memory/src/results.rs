//! Where the results of a request are: many paths in one piece of memory.

use std::collections::HashSet;

use nubrik_bytes::{Encoder, Truncated};

use crate::numbers::{Bodies, BodyReader, FileDecoder};

/// Paths of results from the workspace's root, sorted.
#[derive(Clone, Default, PartialEq)]
pub struct Results(Bodies);

impl std::fmt::Debug for Results {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_list().entries(self.iter()).finish()
    }
}

impl Eq for Results {}

impl Results {
    /// How many there are.
    pub fn len(&self) -> usize {
        self.0.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// All of them.
    pub fn iter(&self) -> impl Iterator<Item = &str> {
        let texts = self.0.reader();
        (0..texts.len()).map(move |n| texts.text(n))
    }

    /// Whether a path is among them.
    pub fn contains(&self, path: &str) -> bool {
        let all = self.0.reader();
        let at = first_not_before(all, path, 0);
        all.get(at) == path.as_bytes() && at < all.len()
    }

    /// The same for many paths, one after the other: quick where they are sorted.
    pub fn search(&self) -> impl FnMut(&str) -> bool + '_ {
        let (all, mut at) = (self.0.reader(), 0);
        move |path| {
            if at > 0 && all.get(at - 1) >= path.as_bytes() {
                at = 0;
            }
            at = first_not_before(all, path, at);
            at < all.len() && all.get(at) == path.as_bytes()
        }
    }

    /// Whether a path lies in one of them, or one of them in it.
    pub fn overlaps(&self, path: &str) -> bool {
        let mut above = path.match_indices('/').map(|(at, _)| &path[..at]);
        if above.any(|folder| self.contains(folder)) {
            return true;
        }
        let below = format!("{path}/");
        let all = self.0.reader();
        all.get(first_not_before(all, &below, 0))
            .starts_with(below.as_bytes())
    }

    /// The same without some paths, and with others.
    pub fn changed(&self, gone: &[String], new: &[String]) -> Results {
        let gone: HashSet<&str> = gone.iter().map(String::as_str).collect();
        let mut new: Vec<&str> = new.iter().map(String::as_str).collect();
        new.sort_unstable();
        let mut new = new.into_iter().peekable();
        let mut result = Bodies::default();
        for path in self.iter().filter(|path| !gone.contains(path)) {
            while let Some(other) = new.next_if(|other| *other <= path) {
                if other < path {
                    result.push(other.as_bytes());
                }
            }
            result.push(path.as_bytes());
        }
        new.for_each(|path| result.push(path.as_bytes()));
        Results(result)
    }

    /// Writes it.
    pub fn encode(&self, out: &mut Encoder) {
        self.0.encode(out);
    }

    /// Reads it back, without a copy.
    ///
    /// # Errors
    /// When the bytes are damaged.
    pub fn decode(from: &mut FileDecoder<'_>) -> Result<Results, Truncated> {
        Bodies::decode(from).map(Results)
    }
}

/// The number of the first that is not before a path, where those before `from` are: near ones are
/// found in a few steps.
fn first_not_before(all: BodyReader<'_>, path: &str, from: usize) -> usize {
    let is_before = |number: usize| number < all.len() && all.get(number) < path.as_bytes();
    let (mut low, mut step) = (from, 1);
    while is_before(low + step - 1) {
        low += step;
        step *= 2;
    }
    let mut high = (low + step - 1).min(all.len());
    while low < high {
        let middle = low + (high - low) / 2;
        if is_before(middle) {
            low = middle + 1
        } else {
            high = middle
        }
    }
    low
}

impl<T: AsRef<str>> FromIterator<T> for Results {
    fn from_iter<I: IntoIterator<Item = T>>(paths: I) -> Results {
        let mut paths: Vec<T> = paths.into_iter().collect();
        paths.sort_by(|a, b| a.as_ref().cmp(b.as_ref()));
        paths.dedup_by(|a, b| a.as_ref() == b.as_ref());
        let mut bodies = Bodies::default();
        paths
            .iter()
            .for_each(|path| bodies.push(path.as_ref().as_bytes()));
        Results(bodies)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn many_are_searched_for_in_any_order() {
        let all: Vec<String> = (0..300).map(|n| format!("r{:03}", n * 3)).collect();
        let results: Results = all.iter().collect();
        for step in [1, 7, 299, 150] {
            let mut search = results.search();
            let mut asked = 0;
            for _ in 0..2_000 {
                asked = (asked + step) % 910;
                let path = format!("r{asked:03}");
                let is_there = asked % 3 == 0 && asked < 900;
                assert_eq!(
                    (search(&path), results.contains(&path)),
                    (is_there, is_there),
                    "{path}"
                );
            }
        }
        assert!(!Results::default().search()("a") && !Results::default().contains(""));
    }

    #[test]
    fn results_are_sorted_and_changed() {
        let results: Results = ["c", "a", "e", "c"].into_iter().collect();
        assert_eq!(results.iter().collect::<Vec<_>>(), ["a", "c", "e"]);
        assert!(results.contains("e") && !results.contains("d"));
        let nested: Results = ["a/b", "a/b.c", "d"].into_iter().collect();
        assert!(nested.overlaps("a") && nested.overlaps("a/b/c") && nested.overlaps("d/e"));
        assert!(
            !nested.overlaps("a/b")
                && !nested.overlaps("a/c")
                && !nested.overlaps("b")
                && !nested.overlaps("e")
        );
        let names = |list: &[&str]| list.iter().map(|n| (*n).to_owned()).collect::<Vec<_>>();
        let changed = results.changed(&names(&["c", "x"]), &names(&["f", "b", "a"]));
        assert_eq!(changed.iter().collect::<Vec<_>>(), ["a", "b", "e", "f"]);
    }
}
