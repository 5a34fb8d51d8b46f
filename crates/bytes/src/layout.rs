//! Values whose bytes follow from one list of their fields.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use crate::codec::{Decoder, Encoder, Truncated};
use crate::digest::Digest;

/// A value that is written and read by one list: what is written first is read first.
/// [`layout!`](crate::layout) makes it from the names of fields.
pub trait Layout: Sized {
    /// Writes it.
    fn write(&self, out: &mut Encoder);

    /// Reads it back.
    ///
    /// # Errors
    /// When the bytes are damaged.
    fn read(from: &mut Decoder<'_>) -> Result<Self, Truncated>;

    /// Writes one after the other.
    fn write_each(items: &[Self], out: &mut Encoder) {
        items.iter().for_each(|item| item.write(out));
    }

    /// Reads so many, one after the other.
    ///
    /// # Errors
    /// When the bytes are damaged.
    fn read_each(count: usize, from: &mut Decoder<'_>) -> Result<Vec<Self>, Truncated> {
        // Every item takes at least a byte: a damaged length cannot exhaust memory.
        let mut items = Vec::with_capacity(count.min(from.rest().len()));
        for _ in 0..count {
            items.push(Self::read(from)?);
        }
        Ok(items)
    }

    /// The value alone, as bytes.
    fn to_bytes(&self) -> Vec<u8> {
        let mut out = Encoder::new();
        self.write(&mut out);
        out.bytes
    }

    /// The value alone, after the version of its format.
    fn to_version(&self, version: u8) -> Vec<u8> {
        let mut out = Encoder::new();
        out.u8(version);
        self.write(&mut out);
        out.bytes
    }

    /// The value that some bytes are in this version of its format.
    ///
    /// # Errors
    /// When they are damaged, more than the value, or of another version.
    fn of_version(bytes: &[u8], version: u8) -> Result<Self, Truncated> {
        let rest = bytes.strip_prefix(&[version]).ok_or(Truncated)?;
        Self::of_bytes(rest)
    }

    /// The value that some bytes are, from the first to the last.
    ///
    /// # Errors
    /// When they are damaged, or more than the value.
    fn of_bytes(bytes: &[u8]) -> Result<Self, Truncated> {
        let mut from = Decoder::new(bytes);
        let value = Self::read(&mut from)?;
        if from.is_at_end() {
            Ok(value)
        } else {
            Err(Truncated)
        }
    }
}

/// Gives a type its [`Layout`]: the names of all its fields in the order in which they are written.
/// A field that is neither there nor left out does not compile.
///
/// ```
/// use nubrik_bytes::{Layout, layout};
///
/// #[derive(PartialEq, Debug)]
/// struct Tide { height: u32, place: String, seen_here: bool }
///
/// layout!(Tide { place, height } without { seen_here: false });
///
/// struct Port(u32);
///
/// layout!(Port(number));
///
/// #[derive(PartialEq, Debug)]
/// enum Water { Slack, High(Tide), Low { since: u64 } }
///
/// layout!(enum Water { 0 => Slack, 1 => High(tide), 2 => Low { since } });
///
/// let tide = |seen_here| Tide { height: 3, place: "mole".to_owned(), seen_here };
/// assert_eq!(Tide::of_bytes(&tide(true).to_bytes()), Ok(tide(false)));
/// assert_eq!(Water::of_bytes(&[0]), Ok(Water::Slack));
/// assert!(Water::of_bytes(&[3]).is_err());
/// ```
#[macro_export]
macro_rules! layout {
    ($name:ident { $($field:ident),+ $(,)? }) => {
        $crate::layout!($name { $($field),+ } without {});
    };
    // What is left out is, after reading, what is said here.
    ($name:ident { $($field:ident),+ $(,)? } without { $($left:ident : $instead:expr),* $(,)? }) => {
        impl $crate::Layout for $name {
            fn write(&self, out: &mut $crate::Encoder) {
                let $name { $($field,)+ $($left: _,)* } = self;
                $($crate::Layout::write($field, out);)+
            }

            fn read(from: &mut $crate::Decoder<'_>) -> Result<Self, $crate::Truncated> {
                Ok($name { $($field: $crate::Layout::read(from)?,)+ $($left: $instead,)* })
            }
        }
    };
    // A name around one value.
    ($name:ident($inner:ident)) => {
        impl $crate::Layout for $name {
            fn write(&self, out: &mut $crate::Encoder) {
                let $name($inner) = self;
                $crate::Layout::write($inner, out);
            }

            fn read(from: &mut $crate::Decoder<'_>) -> Result<Self, $crate::Truncated> {
                Ok($name($crate::Layout::read(from)?))
            }
        }
    };
    (enum $name:ident { $($tag:literal => $kind:ident $(($($part:ident),+))? $({ $($field:ident),+ })?),+ $(,)? }) => {
        impl $crate::Layout for $name {
            fn write(&self, out: &mut $crate::Encoder) {
                match self {
                    $($name::$kind $(($($part),+))? $({ $($field),+ })? => {
                        out.u8($tag);
                        $($($crate::Layout::write($part, out);)+)?
                        $($($crate::Layout::write($field, out);)+)?
                    })+
                }
            }

            fn read(from: &mut $crate::Decoder<'_>) -> Result<Self, $crate::Truncated> {
                Ok(match from.u8()? {
                    $($tag => {
                        $($(let $part = $crate::Layout::read(from)?;)+)?
                        $($(let $field = $crate::Layout::read(from)?;)+)?
                        $name::$kind $(($($part),+))? $({ $($field),+ })?
                    })+
                    _ => return Err($crate::Truncated),
                })
            }
        }
    };
}

macro_rules! numbers {
    ($($kind:ident)*) => {$(
        impl Layout for $kind {
            fn write(&self, out: &mut Encoder) {
                out.bytes.extend_from_slice(&self.to_le_bytes());
            }

            fn read(from: &mut Decoder<'_>) -> Result<Self, Truncated> {
                from.array().map($kind::from_le_bytes)
            }
        }
    )*};
}

numbers!(u32 u64 i32 i64);

/// In eight bytes on every machine.
impl Layout for usize {
    fn write(&self, out: &mut Encoder) {
        out.u64(*self as u64);
    }

    fn read(from: &mut Decoder<'_>) -> Result<usize, Truncated> {
        usize::try_from(from.u64()?).map_err(|_| Truncated)
    }
}

impl Layout for u8 {
    fn write(&self, out: &mut Encoder) {
        out.u8(*self);
    }

    fn read(from: &mut Decoder<'_>) -> Result<u8, Truncated> {
        from.u8()
    }

    fn write_each(items: &[u8], out: &mut Encoder) {
        out.bytes.extend_from_slice(items);
    }

    fn read_each(count: usize, from: &mut Decoder<'_>) -> Result<Vec<u8>, Truncated> {
        from.take(count).map(<[u8]>::to_vec)
    }
}

impl Layout for bool {
    fn write(&self, out: &mut Encoder) {
        out.bool(*self);
    }

    fn read(from: &mut Decoder<'_>) -> Result<bool, Truncated> {
        from.bool()
    }
}

impl Layout for String {
    fn write(&self, out: &mut Encoder) {
        out.text(self);
    }

    fn read(from: &mut Decoder<'_>) -> Result<String, Truncated> {
        from.text().map(str::to_owned)
    }
}

impl Layout for Arc<str> {
    fn write(&self, out: &mut Encoder) {
        out.text(self);
    }

    fn read(from: &mut Decoder<'_>) -> Result<Arc<str>, Truncated> {
        from.text().map(Arc::from)
    }
}

impl Layout for Digest {
    fn write(&self, out: &mut Encoder) {
        out.digest(self);
    }

    fn read(from: &mut Decoder<'_>) -> Result<Digest, Truncated> {
        from.digest()
    }
}

impl<const N: usize> Layout for [u8; N] {
    fn write(&self, out: &mut Encoder) {
        out.bytes.extend_from_slice(self);
    }

    fn read(from: &mut Decoder<'_>) -> Result<[u8; N], Truncated> {
        from.array()
    }
}

impl<T: Layout> Layout for Vec<T> {
    fn write(&self, out: &mut Encoder) {
        out.u32(self.len() as u32);
        T::write_each(self, out);
    }

    fn read(from: &mut Decoder<'_>) -> Result<Vec<T>, Truncated> {
        let count = from.u32()? as usize;
        T::read_each(count, from)
    }
}

/// As a list of its items, in their order.
impl<T: Layout + Ord> Layout for BTreeSet<T> {
    fn write(&self, out: &mut Encoder) {
        out.u32(self.len() as u32);
        self.iter().for_each(|item| item.write(out));
    }

    fn read(from: &mut Decoder<'_>) -> Result<BTreeSet<T>, Truncated> {
        Vec::read(from).map(BTreeSet::from_iter)
    }
}

/// As a list of its pairs, in their order.
impl<K: Layout + Ord, V: Layout> Layout for BTreeMap<K, V> {
    fn write(&self, out: &mut Encoder) {
        out.u32(self.len() as u32);
        for (key, value) in self {
            key.write(out);
            value.write(out);
        }
    }

    fn read(from: &mut Decoder<'_>) -> Result<BTreeMap<K, V>, Truncated> {
        Vec::read(from).map(BTreeMap::from_iter)
    }
}

/// A yes or no, and then what is there.
impl<T: Layout> Layout for Option<T> {
    fn write(&self, out: &mut Encoder) {
        out.bool(self.is_some());
        self.iter().for_each(|value| value.write(out));
    }

    fn read(from: &mut Decoder<'_>) -> Result<Option<T>, Truncated> {
        Ok(if from.bool()? {
            Some(T::read(from)?)
        } else {
            None
        })
    }
}

/// A yes and what there is, or a no and why.
impl<T: Layout, E: Layout> Layout for Result<T, E> {
    fn write(&self, out: &mut Encoder) {
        out.bool(self.is_ok());
        match self {
            Ok(value) => value.write(out),
            Err(why) => why.write(out),
        }
    }

    fn read(from: &mut Decoder<'_>) -> Result<Result<T, E>, Truncated> {
        Ok(if from.bool()? {
            Ok(T::read(from)?)
        } else {
            Err(E::read(from)?)
        })
    }
}

impl<T: Layout> Layout for Arc<T> {
    fn write(&self, out: &mut Encoder) {
        T::write(self, out);
    }

    fn read(from: &mut Decoder<'_>) -> Result<Arc<T>, Truncated> {
        T::read(from).map(Arc::new)
    }
}

macro_rules! tuples {
    ($($($kind:ident $at:tt),+;)*) => {$(
        impl<$($kind: Layout),+> Layout for ($($kind,)+) {
            fn write(&self, out: &mut Encoder) {
                $(self.$at.write(out);)+
            }

            fn read(from: &mut Decoder<'_>) -> Result<Self, Truncated> {
                Ok(($($kind::read(from)?,)+))
            }
        }
    )*};
}

tuples! {
    A 0, B 1;
    A 0, B 1, C 2;
    A 0, B 1, C 2, D 3;
    A 0, B 1, C 2, D 3, E 4;
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use super::*;

    #[test]
    fn lists_of_bytes_are_what_they_are_as_bytes() {
        let (mut list, mut bytes) = (Encoder::new(), Encoder::new());
        vec![7u8, 0, 9].write(&mut list);
        bytes.bytes(&[7, 0, 9]);
        assert_eq!(list.bytes, bytes.bytes);
        assert_eq!(Vec::<u8>::of_bytes(&bytes.bytes), Ok(vec![7, 0, 9]));
    }

    #[test]
    fn what_is_cut_or_goes_on_is_not_read() {
        type Value = (Vec<(Arc<str>, Option<i32>)>, BTreeMap<u64, bool>, [u8; 3]);
        let value: Value = (
            vec![("ebb".into(), Some(-3)), ("flow".into(), None)],
            BTreeMap::from([(9, true)]),
            *b"end",
        );
        let mut bytes = value.to_bytes();
        assert_eq!(Value::of_bytes(&bytes), Ok(value));
        for end in 0..bytes.len() {
            assert_eq!(
                Value::of_bytes(&bytes[..end]),
                Err(Truncated),
                "cut at {end}"
            );
        }
        bytes.push(0);
        assert_eq!(Value::of_bytes(&bytes), Err(Truncated));
        // A length that is damaged takes no memory.
        assert_eq!(Vec::<u64>::of_bytes(&[255; 12]), Err(Truncated));
        assert_eq!(Vec::<u8>::of_bytes(&[255; 12]), Err(Truncated));
    }
}
