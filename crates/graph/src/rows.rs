//! Finding rows of a table by a key that is in them, so that no key is held twice.

use std::hash::{Hash, Hasher};

use hashbrown::HashTable;
use rustc_hash::FxHasher;

/// An entry: the digest of a row's key, so that tables grow without a look at the rows, and its
/// number.
type RowEntry = (u32, u32);

/// The numbers of a table's rows by their keys.
#[derive(Default)]
pub struct RowIndex {
    entries: HashTable<RowEntry>,
}

impl RowIndex {
    /// Makes room for so many more rows.
    pub fn reserve(&mut self, rows: usize) {
        self.entries.reserve(rows, |entry| spread(entry.0));
    }

    /// Whether there is no row.
    pub fn is_empty(&self) -> bool {
        self.entries.is_empty()
    }

    /// The number of the row whose key has this digest; `has_key` says whether a row has the key
    /// itself.
    pub fn find(&self, digest: u32, has_key: impl Fn(usize) -> bool) -> Option<usize> {
        let found = self
            .entries
            .find(spread(digest), |e| e.0 == digest && has_key(e.1 as usize));
        found.map(|entry| entry.1 as usize)
    }

    /// The number of the row whose key has this digest, or `None` after `new` was entered as its
    /// number.
    pub fn find_or_insert(
        &mut self,
        digest: u32,
        has_key: impl Fn(usize) -> bool,
        new: usize,
    ) -> Option<usize> {
        let same = |e: &RowEntry| e.0 == digest && has_key(e.1 as usize);
        match self.entries.entry(spread(digest), same, |e| spread(e.0)) {
            hashbrown::hash_table::Entry::Occupied(entry) => Some(entry.get().1 as usize),
            hashbrown::hash_table::Entry::Vacant(entry) => {
                entry.insert((digest, new as u32));
                None
            }
        }
    }

    /// The digests of all rows' keys, by their numbers.
    pub fn digests(&self) -> Vec<u32> {
        let mut digests = vec![0; self.entries.len()];
        self.entries
            .iter()
            .for_each(|(digest, row)| digests[*row as usize] = *digest);
        digests
    }

    /// Enters rows from number 0 on, by the digests of their keys; no two rows have the same key.
    pub fn insert_all(&mut self, digests: impl ExactSizeIterator<Item = u32>) {
        self.reserve(digests.len());
        (0..)
            .zip(digests)
            .for_each(|(number, digest)| self.insert_new(digest, number));
    }

    /// Enters a row whose key no other row has, by its digest.
    pub fn insert_new(&mut self, digest: u32, new: usize) {
        self.entries
            .insert_unique(spread(digest), (digest, new as u32), |e| spread(e.0));
    }
}

/// The digest of a row's key.
pub fn row_digest(key: &str) -> u32 {
    let mut hasher = FxHasher::default();
    key.hash(&mut hasher);
    let hash = hasher.finish();
    (hash ^ (hash >> 32)) as u32
}

/// The digest over all bits that the table looks at.
fn spread(digest: u32) -> u64 {
    u64::from(digest).wrapping_mul(0x9e37_79b9_7f4a_7c15)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rows_are_found_by_what_stands_in_them() {
        let mut rows: Vec<String> = Vec::new();
        let mut index = RowIndex::default();
        assert!(index.is_empty());
        for turn in 0..2 {
            for n in 0..1000 {
                let key = format!("tide/page{n}");
                let found =
                    index.find_or_insert(row_digest(&key), |row| rows[row] == key, rows.len());
                assert_eq!(found, (turn == 1).then_some(n));
                if found.is_none() {
                    rows.push(key);
                }
            }
        }
        assert_eq!(
            index.find(row_digest("tide/page7"), |row| rows[row] == "tide/page7"),
            Some(7)
        );
        assert_eq!(
            index.find(row_digest("tide/page1000"), |row| rows[row]
                == "tide/page1000"),
            None
        );
        assert_eq!(
            index.digests(),
            rows.iter().map(|key| row_digest(key)).collect::<Vec<_>>()
        );
        index.reserve(5000);
        index.insert_new(row_digest("ebb"), rows.len());
        rows.push("ebb".to_owned());
        assert_eq!(
            index.find(row_digest("ebb"), |row| rows[row] == "ebb"),
            Some(1000)
        );
    }
}
