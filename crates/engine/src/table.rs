//! A table of remembered values by name: most of it lies in the bytes of a file and is decoded only
//! where it is looked at, what is new lies beside it.

use std::collections::HashMap;
use std::sync::Arc;

use nubrik_bytes::{Decoder, Digest, Encoder, Layout};

/// Length of a record's checksum, in bytes.
const CHECK: usize = 8;

fn check_of(bytes: &[u8]) -> [u8; CHECK] {
    let mut check = [0; CHECK];
    check.copy_from_slice(&Digest::of(bytes).0[..CHECK]);
    check
}

/// The bytes of a file: in memory, or mapped to it.
pub type FileBytes = Arc<dyn AsRef<[u8]> + Send + Sync>;

/// Records in the bytes of a file, found by an index sorted by name.
#[derive(Clone)]
pub(crate) struct Base {
    bytes: FileBytes,
    /// Where the index begins: places of records in `bytes`, eight bytes each.
    index: usize,
    count: usize,
}

impl Default for Base {
    fn default() -> Self {
        Base {
            bytes: Arc::new([]),
            index: 0,
            count: 0,
        }
    }
}

impl Base {
    /// A table whose index lies at `index` and has `count` entries.
    pub fn new(bytes: FileBytes, index: usize, count: usize) -> Base {
        Base {
            bytes,
            index,
            count,
        }
    }

    fn bytes(&self) -> &[u8] {
        (*self.bytes).as_ref()
    }

    fn place(&self, number: usize) -> Option<usize> {
        let at = self.index + number * 8;
        let bytes = self.bytes().get(at..at + 8)?.try_into().ok()?;
        usize::try_from(u64::from_le_bytes(bytes)).ok()
    }

    /// A record's name and value, not yet compared with its checksum.
    fn record(&self, number: usize) -> Option<(&[u8], &[u8])> {
        let at = self.place(number)?;
        let mut from = Decoder::new(self.bytes().get(at..)?);
        let body = from.bytes().ok()?;
        let mut inner = Decoder::new(body);
        let name = inner.bytes().ok()?;
        Some((name, &body[4 + name.len()..]))
    }

    /// A record exactly as it is in the file, with its length and checksum.
    fn raw(&self, number: usize) -> Option<&[u8]> {
        let at = self.place(number)?;
        let body = Decoder::new(self.bytes().get(at..)?).bytes().ok()?;
        let whole = self.bytes().get(at..at + 4 + body.len() + CHECK)?;
        (whole[4 + body.len()..] == check_of(body)).then_some(whole)
    }

    fn find(&self, name: &str) -> Option<usize> {
        let (mut low, mut high) = (0, self.count);
        while low < high {
            let middle = low + (high - low) / 2;
            match self.record(middle)?.0.cmp(name.as_bytes()) {
                std::cmp::Ordering::Less => low = middle + 1,
                std::cmp::Ordering::Greater => high = middle,
                std::cmp::Ordering::Equal => return Some(middle),
            }
        }
        None
    }

    /// The bytes of a value, if it is there and whole.
    fn value(&self, name: &str) -> Option<&[u8]> {
        let number = self.find(name)?;
        self.raw(number)?;
        Some(self.record(number)?.1)
    }

    fn name(&self, number: usize) -> Option<&str> {
        std::str::from_utf8(self.record(number)?.0).ok()
    }
}

/// Values by name.
#[derive(Clone)]
pub struct Table<V> {
    base: Base,
    /// What is newer than the base; `None` for what was removed.
    newer: HashMap<Arc<str>, Option<V>>,
}

impl<V> Default for Table<V> {
    fn default() -> Self {
        Table {
            base: Base::default(),
            newer: HashMap::new(),
        }
    }
}

impl<V: std::fmt::Debug> std::fmt::Debug for Table<V> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{} records and {:?}", self.base.count, self.newer)
    }
}

impl<V: Layout + Clone + PartialEq> PartialEq for Table<V> {
    fn eq(&self, other: &Self) -> bool {
        let names = self.names();
        names == other.names() && names.iter().all(|name| self.get(name) == other.get(name))
    }
}

impl<V: Layout + Clone> Table<V> {
    pub(crate) fn over(base: Base) -> Table<V> {
        Table {
            base,
            newer: HashMap::new(),
        }
    }

    /// The value with this name. A damaged one counts as not there.
    pub fn get(&self, name: &str) -> Option<V> {
        match self.newer.get(name) {
            Some(newer) => newer.clone(),
            None => V::read(&mut Decoder::new(self.base.value(name)?)).ok(),
        }
    }

    /// Something that `from_value` takes from a value, or `from_bytes` from the bytes of one.
    pub(crate) fn peek<T>(
        &self,
        name: &str,
        from_value: impl FnOnce(&V) -> T,
        from_bytes: impl FnOnce(&mut Decoder<'_>) -> Option<T>,
    ) -> Option<T> {
        match self.newer.get(name) {
            Some(newer) => newer.as_ref().map(from_value),
            None => from_bytes(&mut Decoder::new(self.base.value(name)?)),
        }
    }

    /// Sets or removes a value.
    pub(crate) fn set(&mut self, name: Arc<str>, value: Option<V>) {
        self.newer.insert(name, value);
    }

    /// All names, sorted.
    pub fn names(&self) -> Vec<Arc<str>> {
        self.names_where(|_| true)
    }

    /// Names that are wanted, sorted. Most are asked for in their order.
    pub fn names_where(&self, mut is_wanted: impl FnMut(&str) -> bool) -> Vec<Arc<str>> {
        let in_base = (0..self.base.count).filter_map(|n| self.base.name(n));
        let mut names: Vec<Arc<str>> = in_base
            .filter(|name| !self.newer.contains_key(*name) && is_wanted(name))
            .map(Arc::from)
            .collect();
        let newer = self
            .newer
            .iter()
            .filter(|(_, v)| v.is_some())
            .map(|(name, _)| name);
        names.extend(newer.filter(|name| is_wanted(name)).cloned());
        names.sort();
        names
    }

    /// Writes all records, sorted by name, and gives their places in `out`. What is damaged is left
    /// out.
    pub(crate) fn write(&self, out: &mut Encoder) -> Vec<u64> {
        let mut newer: Vec<(&Arc<str>, &Option<V>)> = self.newer.iter().collect();
        newer.sort_by_key(|(name, _)| *name);
        let mut newer = newer.into_iter().peekable();
        let mut places = Vec::with_capacity(self.base.count);
        for number in 0..self.base.count {
            let Some(name) = self.base.name(number) else {
                continue;
            };
            while let Some((other, value)) = newer.next_if(|(other, _)| ***other < *name) {
                write_record(out, &mut places, other, value.as_ref());
            }
            match newer.next_if(|(other, _)| ***other == *name) {
                Some((name, value)) => write_record(out, &mut places, name, value.as_ref()),
                None => {
                    let Some(raw) = self.base.raw(number) else {
                        continue;
                    };
                    places.push(out.bytes.len() as u64);
                    out.bytes.extend_from_slice(raw);
                }
            }
        }
        for (name, value) in newer {
            write_record(out, &mut places, name, value.as_ref());
        }
        places
    }
}

fn write_record<V: Layout + Clone>(
    out: &mut Encoder,
    places: &mut Vec<u64>,
    name: &str,
    value: Option<&V>,
) {
    let Some(value) = value else { return };
    let start = out.bytes.len();
    places.push(start as u64);
    out.u32(0);
    out.text(name);
    value.write(out);
    let length = (out.bytes.len() - start - 4) as u32;
    out.bytes[start..start + 4].copy_from_slice(&length.to_le_bytes());
    let check = check_of(&out.bytes[start + 4..]);
    out.bytes.extend_from_slice(&check);
}
