//! Lists in which things are looked for by halving: sorted because there is no other way to make
//! one.

use std::ops::Deref;

use nubrik_bytes::{Decoder, Encoder, Layout, Truncated};

/// A list that is sorted, each item once.
///
/// ```
/// use nubrik_graph::Sorted;
///
/// let heights = Sorted::from(vec![8, 3, 5, 3]);
/// assert_eq!(*heights, [3, 5, 8]);
/// assert!(heights.holds(&5) && !heights.holds(&4));
/// ```
#[derive(Clone, PartialEq, Eq, Hash, Debug)]
pub struct Sorted<T>(Vec<T>);

impl<T: Ord> Sorted<T> {
    /// Whether something is in the list.
    pub fn holds(&self, item: &T) -> bool {
        self.0.binary_search(item).is_ok()
    }

    /// Changes all items; the list is sorted again.
    pub fn change(&mut self, change: impl FnMut(&mut T)) {
        self.0.iter_mut().for_each(change);
        self.0.sort_unstable();
        self.0.dedup();
    }
}

/// As a list.
impl<T: Layout + Ord> Layout for Sorted<T> {
    fn write(&self, out: &mut Encoder) {
        self.0.write(out);
    }

    fn read(from: &mut Decoder<'_>) -> Result<Sorted<T>, Truncated> {
        Vec::read(from).map(Sorted::from)
    }
}

impl<T> Default for Sorted<T> {
    fn default() -> Self {
        Sorted(Vec::new())
    }
}

impl<T: Ord> From<Vec<T>> for Sorted<T> {
    fn from(mut items: Vec<T>) -> Sorted<T> {
        items.sort_unstable();
        items.dedup();
        Sorted(items)
    }
}

impl<T: Ord> FromIterator<T> for Sorted<T> {
    fn from_iter<I: IntoIterator<Item = T>>(items: I) -> Sorted<T> {
        Sorted::from(items.into_iter().collect::<Vec<T>>())
    }
}

impl<T> Deref for Sorted<T> {
    type Target = [T];

    fn deref(&self) -> &[T] {
        &self.0
    }
}

impl<'a, T> IntoIterator for &'a Sorted<T> {
    type Item = &'a T;
    type IntoIter = std::slice::Iter<'a, T>;

    fn into_iter(self) -> Self::IntoIter {
        self.0.iter()
    }
}
