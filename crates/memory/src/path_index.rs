//! Finding a piece by its bytes: one or two by looking at all, many by a table.

use std::hash::BuildHasher;
use std::sync::OnceLock;
use std::sync::atomic::{AtomicUsize, Ordering};

use hashbrown::HashTable;
use rustc_hash::FxBuildHasher;

/// So many are looked for one by one: a table of all of them takes as long as some of these
/// searches.
const FEW: usize = 6;

/// Numbers of pieces by their bytes. Of several with the same bytes the first counts.
#[derive(Default)]
pub(crate) struct PieceIndex {
    searches: AtomicUsize,
    table: OnceLock<HashTable<u32>>,
}

impl PieceIndex {
    /// The number of the piece with some bytes, among `count`, each of which `piece` gives.
    pub fn find<'p>(
        &self,
        bytes: &[u8],
        count: usize,
        piece: impl Fn(usize) -> &'p [u8],
    ) -> Option<u32> {
        if self.table.get().is_none() && self.searches.fetch_add(1, Ordering::Relaxed) < FEW {
            return (0..count).find(|n| piece(*n) == bytes).map(|n| n as u32);
        }
        let hash = |bytes: &[u8]| FxBuildHasher.hash_one(bytes);
        let table = self.table.get_or_init(|| {
            let mut table = HashTable::with_capacity(count);
            for number in 0..count {
                let bytes = piece(number);
                let found = table.entry(
                    hash(bytes),
                    |other: &u32| piece(*other as usize) == bytes,
                    |other| hash(piece(*other as usize)),
                );
                found.or_insert(number as u32);
            }
            table
        });
        table
            .find(hash(bytes), |number| piece(*number as usize) == bytes)
            .copied()
    }
}

/// A copy is of something that may become another one: it has no table yet.
impl Clone for PieceIndex {
    fn clone(&self) -> PieceIndex {
        PieceIndex::default()
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use super::*;

    #[test]
    fn the_first_of_equal_pieces_is_found_each_way() {
        let pieces: Vec<String> = (0..500).map(|n| format!("p{}", n % 400)).collect();
        let index = PieceIndex::default();
        for round in 0..3 {
            for number in 0..500 {
                let found = index.find(pieces[number].as_bytes(), 500, |n| pieces[n].as_bytes());
                assert_eq!(found, Some(number as u32 % 400), "round {round}");
            }
            assert_eq!(index.find(b"other", 500, |n| pieces[n].as_bytes()), None);
        }
        assert!(index.table.get().is_some());
        assert!(index.clone().table.get().is_none());
        assert_eq!(PieceIndex::default().find(b"x", 0, |_| b""), None);
    }
}
