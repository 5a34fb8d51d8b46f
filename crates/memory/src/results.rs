//! Where the results of a request are: many paths in one piece of memory.

use std::collections::HashSet;

use nubrik_bytes::{Decoder, Encoder, Truncated};

use crate::numbers::Bodies;

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
        (0..self.len()).map(|n| self.0.text(n))
    }

    /// Whether a path is among them.
    pub fn contains(&self, path: &str) -> bool {
        let (mut low, mut high) = (0, self.len());
        while low < high {
            let middle = low + (high - low) / 2;
            match self.0.text(middle).cmp(path) {
                std::cmp::Ordering::Less => low = middle + 1,
                std::cmp::Ordering::Greater => high = middle,
                std::cmp::Ordering::Equal => return true,
            }
        }
        false
    }

    /// Whether a path lies in one of them, or one of them in it.
    pub fn overlaps(&self, path: &str) -> bool {
        let mut above = path.match_indices('/').map(|(at, _)| &path[..at]);
        if above.any(|folder| self.contains(folder)) {
            return true;
        }
        let below = format!("{path}/");
        let (mut low, mut high) = (0, self.len());
        while low < high {
            let middle = low + (high - low) / 2;
            if self.0.text(middle) < below.as_str() { low = middle + 1 } else { high = middle }
        }
        low < self.len() && self.0.text(low).starts_with(&below)
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

    /// Reads it back.
    ///
    /// # Errors
    /// When the bytes are damaged.
    pub fn decode(from: &mut Decoder<'_>) -> Result<Results, Truncated> {
        Bodies::decode(from).map(Results)
    }
}

impl<T: AsRef<str>> FromIterator<T> for Results {
    fn from_iter<I: IntoIterator<Item = T>>(paths: I) -> Results {
        let mut paths: Vec<T> = paths.into_iter().collect();
        paths.sort_by(|a, b| a.as_ref().cmp(b.as_ref()));
        paths.dedup_by(|a, b| a.as_ref() == b.as_ref());
        let mut bodies = Bodies::default();
        paths.iter().for_each(|path| bodies.push(path.as_ref().as_bytes()));
        Results(bodies)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

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
