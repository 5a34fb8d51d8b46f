//! Aligned differences: new bytes laid beside old ones, subtracted, and compressed. In a program
//! that was linked again most bytes stand beside an equal one, only farther on, and addresses
//! differ by the same amount everywhere: what is left compresses well.
//!
//! The old bytes are indexed by the hashes of their blocks. New bytes keep to the alignment that
//! they have as long as it is good; where it is not, a block that is equal somewhere in the old
//! ones gives another one, and what is in none is written as it is.

use nubrik_bytes::{Decoder, Encoder};

use crate::bundle::expanded;

const VERSION: u8 = 2;

/// How many bytes are compared at once.
const BLOCK: usize = 32;

/// How many bytes are equal where another alignment begins.
const SEED: usize = 16;

/// Over how many bytes two alignments are compared.
const AHEAD: usize = 64;

/// The index has the block at every so many bytes of the old ones.
const STRIDE: usize = 8;

/// An alignment is good where so many bytes of a block are equal.
const GOOD: usize = BLOCK / 2;

/// By so many equal bytes of these another one must be better.
const BETTER: usize = 12;

/// How hard the streams are compressed.
const LEVEL: i32 = 17;

/// The longest bytes that are laid beside others; the index holds places as `u32`.
pub(crate) const LIMIT: u64 = 1 << 30;

/// Places of some bytes, by the hashes of what begins there.
struct BlockIndex {
    /// The number of a place plus one, by the first bits of the hash; 0 for none.
    slots: Vec<u32>,
    shift: u32,
}

/// Eight bytes as a number.
fn word(bytes: &[u8], at: usize) -> u64 {
    let mut word = [0; 8];
    word.copy_from_slice(&bytes[at..at + 8]);
    u64::from_le_bytes(word)
}

fn hash(bytes: &[u8], at: usize) -> u64 {
    const ODD: u64 = 0x9E37_79B9_7F4A_7C15;
    let mut hash = 0u64;
    for part in 0..SEED / 8 {
        hash = (hash.rotate_left(23) ^ word(bytes, at + 8 * part)).wrapping_mul(ODD);
    }
    hash
}

/// Whether all bytes of a seed are the same: such ones are everywhere, and say nothing of an
/// alignment.
fn is_flat(bytes: &[u8], at: usize) -> bool {
    let first = word(bytes, at);
    first == u64::from_le_bytes([bytes[at]; 8])
        && (1..SEED / 8).all(|part| word(bytes, at + 8 * part) == first)
}

/// Where new bytes go on better than beside what they were beside.
struct BetterPlace {
    /// How many new bytes later that begins.
    after: usize,
    /// How many bytes before that are the same, too.
    back: usize,
    /// Where it begins in the old bytes.
    place: usize,
    /// For how many bytes both are the same.
    run: usize,
}

impl BlockIndex {
    /// Something better than the place that is kept to may begin at any of the next places.
    fn better_place(
        &self,
        old: &[u8],
        new: &[u8],
        at: usize,
        kept: Option<usize>,
    ) -> Option<BetterPlace> {
        let length = BLOCK.min(new.len() - at);
        let (after, place) = (0..STRIDE.min(length))
            .find_map(|step| Some((step, self.find(old, new, at + step)?)))?;
        let found = equal(old, new, place, at + after, AHEAD);
        let as_kept = kept.map_or(0, |kept| equal(old, new, kept + after, at + after, AHEAD));
        if found <= as_kept + BETTER {
            return None;
        }
        let mut back = 0;
        while back < after && place > back && old[place - back - 1] == new[at + after - back - 1] {
            back += 1;
        }
        let run = same_run(old, new, place, at + after);
        Some(BetterPlace {
            after,
            back,
            place,
            run,
        })
    }

    fn of(old: &[u8]) -> BlockIndex {
        let count = old.len() / STRIDE;
        let bits = (count.max(16) * 2).ilog2();
        let mut index = BlockIndex {
            slots: vec![0; 1 << bits],
            shift: 64 - bits,
        };
        for number in 0..count {
            let at = number * STRIDE;
            if at + SEED > old.len() {
                break;
            }
            if is_flat(old, at) {
                continue;
            }
            let slot = &mut index.slots[(hash(old, at) >> index.shift) as usize];
            // The first one stays: later ones are mostly repetitions.
            if *slot == 0 {
                *slot = number as u32 + 1;
            }
        }
        index
    }

    /// Where a seed of the new bytes is in the old ones.
    fn find(&self, old: &[u8], new: &[u8], at: usize) -> Option<usize> {
        if at + SEED > new.len() || is_flat(new, at) {
            return None;
        }
        let slot = self.slots[(hash(new, at) >> self.shift) as usize];
        let place = (slot.checked_sub(1)? as usize) * STRIDE;
        (old[place..place + SEED] == new[at..at + SEED]).then_some(place)
    }
}

/// How many bytes are equal where new ones stand beside old ones, in the next block.
fn equal(old: &[u8], new: &[u8], old_at: usize, new_at: usize, length: usize) -> usize {
    let (Some(old), Some(new)) = (old.get(old_at..), new.get(new_at..)) else {
        return 0;
    };
    old.iter()
        .zip(new)
        .take(length)
        .filter(|(a, b)| a == b)
        .count()
}

/// How many bytes are the same from two places on.
fn same_run(old: &[u8], new: &[u8], old_at: usize, new_at: usize) -> usize {
    old[old_at..]
        .iter()
        .zip(&new[new_at..])
        .take_while(|(a, b)| a == b)
        .count()
}

/// A stretch of the new bytes: laid beside old ones, and then some that are in none.
struct Stretch {
    old_at: usize,
    beside: usize,
    plain: usize,
}

/// Lays new bytes beside old ones.
fn stretches(old: &[u8], new: &[u8]) -> Vec<Stretch> {
    let index = BlockIndex::of(old);
    let mut all = vec![Stretch {
        old_at: 0,
        beside: 0,
        plain: 0,
    }];
    // What is beside `new[at]`, where an alignment is kept to.
    let (mut at, mut beside) = (0, Some(0usize));
    while at < new.len() {
        let length = BLOCK.min(new.len() - at);
        let kept = beside.filter(|place| place + length <= old.len());
        let score = kept.map_or(0, |place| equal(old, new, place, at, length));
        if score < length
            && let Some(better) = index.better_place(old, new, at, kept)
        {
            let before = better.after - better.back;
            if let Some(last) = all.last_mut() {
                match kept {
                    Some(_) if last.plain == 0 => last.beside += before,
                    _ => last.plain += before,
                }
            }
            all.push(Stretch {
                old_at: better.place - better.back,
                beside: better.back + better.run,
                plain: 0,
            });
            at += better.after + better.run;
            beside = Some(better.place + better.run);
            continue;
        }
        let Some(last) = all.last_mut() else { break };
        if score >= GOOD.min(length.div_ceil(2)) && kept.is_some() {
            let place = kept.unwrap_or(0);
            if last.plain == 0 {
                last.beside += length;
            } else {
                all.push(Stretch {
                    old_at: place,
                    beside: length,
                    plain: 0,
                });
            }
        } else {
            last.plain += length;
        }
        at += length;
        beside = beside.map(|place| place + length);
    }
    all.retain(|stretch| stretch.beside + stretch.plain > 0);
    all
}

fn number(out: &mut Vec<u8>, mut value: u64) {
    while value >= 0x80 {
        out.push(value as u8 | 0x80);
        value >>= 7;
    }
    out.push(value as u8);
}

/// A number at the beginning of some bytes, which are moved on.
fn read_number(bytes: &mut &[u8]) -> Option<u64> {
    let (mut value, mut shift) = (0u64, 0u32);
    loop {
        let (first, rest) = bytes.split_first()?;
        *bytes = rest;
        value |= u64::from(first & 0x7f).checked_shl(shift)?;
        if first & 0x80 == 0 {
            return Some(value);
        }
        shift += 7;
    }
}

/// Where sums are zero, as lengths of runs: of zeros and of others, in turns; and the others. Most
/// are zero, and where they are not says more than what they are: apart from one another both
/// compress better than as they stand.
fn without_zeros(sums: &[u8]) -> (Vec<u8>, Vec<u8>) {
    let (mut runs, mut others) = (Vec::new(), Vec::new());
    let mut rest = sums;
    while !rest.is_empty() {
        let zeros = rest.iter().take_while(|sum| **sum == 0).count();
        rest = &rest[zeros..];
        let count = rest.iter().take_while(|sum| **sum != 0).count();
        number(&mut runs, zeros as u64);
        number(&mut runs, count as u64);
        others.extend_from_slice(&rest[..count]);
        rest = &rest[count..];
    }
    (runs, others)
}

/// What leads from old bytes to new ones, both shorter than 1 GiB.
///
/// # Errors
/// When it cannot be compressed.
pub fn difference(old: &[u8], new: &[u8]) -> std::io::Result<Vec<u8>> {
    let (mut places, mut sums, mut plain) = (Vec::new(), Vec::new(), Vec::new());
    let (mut at, mut expected) = (0, 0i64);
    for Stretch {
        old_at,
        beside,
        plain: count,
    } in stretches(old, new)
    {
        number(&mut places, beside as u64);
        number(&mut places, count as u64);
        // From where the last one ended; small ones of both signs are short.
        let jump = old_at as i64 - expected;
        number(&mut places, ((jump << 1) ^ (jump >> 63)) as u64);
        expected = (old_at + beside) as i64;
        sums.extend(
            new[at..at + beside]
                .iter()
                .zip(&old[old_at..])
                .map(|(new, old)| new.wrapping_sub(*old)),
        );
        plain.extend_from_slice(&new[at + beside..at + beside + count]);
        at += beside + count;
    }
    let (runs, sums) = without_zeros(&sums);
    let mut out = Encoder::new();
    out.u8(VERSION);
    for stream in [&places, &runs, &sums, &plain] {
        out.u64(stream.len() as u64);
        out.bytes(&zstd::bulk::compress(stream, LEVEL)?);
    }
    Ok(out.bytes)
}

/// Sums by the lengths of their runs; nothing where they do not go together, or are more than so
/// many.
fn with_zeros(mut runs: &[u8], mut others: &[u8], most: u64) -> Option<Vec<u8>> {
    let mut sums = Vec::new();
    while !runs.is_empty() {
        let (zeros, count) = (read_number(&mut runs)?, read_number(&mut runs)?);
        if zeros.checked_add(count)?.checked_add(sums.len() as u64)? > most {
            return None;
        }
        sums.resize(sums.len() + zeros as usize, 0);
        let (these, rest) = others.split_at_checked(count as usize)?;
        sums.extend_from_slice(these);
        others = rest;
    }
    others.is_empty().then_some(sums)
}

/// New bytes by old ones and what leads from them; nothing where that is damaged, or leads to
/// another number of bytes.
pub fn apply(old: &[u8], difference: &[u8], length: u64) -> Option<Vec<u8>> {
    let mut from = Decoder::new(difference);
    if from.u8().ok()? != VERSION {
        return None;
    }
    let mut stream = || {
        let raw = from.u64().ok()?;
        // No stream is longer than what it is for, but for a few bytes for each place.
        (raw <= length.saturating_add(64))
            .then(|| expanded(from.bytes().ok()?, raw))
            .flatten()
    };
    let (places, runs, sums, plain) = (stream()?, stream()?, stream()?, stream()?);
    let sums = with_zeros(&runs, &sums, length)?;
    if !from.is_at_end() || (sums.len() + plain.len()) as u64 != length {
        return None;
    }
    let (mut places, mut sums, mut plain) = (places.as_slice(), sums.as_slice(), plain.as_slice());
    let mut new = Vec::with_capacity(length as usize);
    let mut expected = 0i64;
    while !places.is_empty() {
        let (beside, count, jump) = (
            read_number(&mut places)?,
            read_number(&mut places)?,
            read_number(&mut places)?,
        );
        let jump = (jump >> 1) as i64 ^ -((jump & 1) as i64);
        let old_at = expected.checked_add(jump)?;
        let old = old
            .get(usize::try_from(old_at).ok()?..)?
            .get(..usize::try_from(beside).ok()?)?;
        let (these, rest) = sums.split_at_checked(old.len())?;
        sums = rest;
        new.extend(
            these
                .iter()
                .zip(old)
                .map(|(sum, old)| sum.wrapping_add(*old)),
        );
        let (these, rest) = plain.split_at_checked(usize::try_from(count).ok()?)?;
        plain = rest;
        new.extend_from_slice(these);
        expected = old_at.checked_add_unsigned(beside)?;
    }
    (new.len() as u64 == length).then_some(new)
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn both_ways(old: &[u8], new: &[u8]) -> usize {
        let difference = difference(old, new).unwrap();
        assert_eq!(apply(old, &difference, new.len() as u64).unwrap(), new);
        difference.len()
    }

    #[test]
    fn a_damaged_difference_leads_nowhere() {
        let (old, new) = (program(1, 400), program(2, 400));
        let whole = difference(&old, &new).unwrap();
        let length = new.len() as u64;
        let mut other_version = whole.clone();
        other_version[0] ^= 1;
        assert_eq!(apply(&old, &other_version, length), None);
        let longer = [&whole[..], b"x"].concat();
        assert_eq!(apply(&old, &longer, length), None);
        assert_eq!(apply(&old, &whole, length + 1), None);
        assert_eq!(apply(&old, &whole, length - 1), None);
        // Zeros that would fill the memory, and sums that are more than what they are for.
        let mut runs = Vec::new();
        number(&mut runs, u64::MAX >> 1);
        number(&mut runs, 0);
        assert_eq!(with_zeros(&runs, &[], 100), None);
        let mut runs = Vec::new();
        number(&mut runs, 99);
        number(&mut runs, 2);
        assert_eq!(with_zeros(&runs, &[1, 2], 100), None);
        assert_eq!(
            with_zeros(&runs, &[1, 2], 101).map(|sums| sums.len()),
            Some(101)
        );
    }

    /// Bytes like those of a program: words, of which some count up.
    fn program(seed: u64, words: u64) -> Vec<u8> {
        let mut state = seed;
        let next = |state: &mut u64| {
            *state = state
                .wrapping_mul(6_364_136_223_846_793_005)
                .wrapping_add(1);
            *state >> 40
        };
        (0..words)
            .flat_map(|n| {
                if n % 5 == 0 {
                    (n as u32 * 16).to_le_bytes()
                } else {
                    (next(&mut state) as u32).to_le_bytes()
                }
            })
            .collect()
    }

    #[test]
    fn what_moved_and_counts_from_elsewhere_takes_little() {
        let old = program(7, 100_000);
        let mut new = old[..200_000].to_vec();
        new.extend_from_slice(b"a branch that was not there");
        new.extend_from_slice(&[0; 5]);
        // All addresses behind it are others by the same amount.
        new.extend(old[200_000..].chunks(20).flat_map(|chunk| {
            let mut chunk = chunk.to_vec();
            let address = u32::from_le_bytes([chunk[0], chunk[1], chunk[2], chunk[3]]) + 32;
            chunk[..4].copy_from_slice(&address.to_le_bytes());
            chunk
        }));
        let length = both_ways(&old, &new);
        assert!(length < old.len() / 50, "{length} of {}", old.len());
    }

    #[test]
    fn nothing_and_all_are_borders() {
        let some = program(3, 50);
        for (old, new) in [
            (&some[..], &[][..]),
            (&[], &some),
            (&[], &[]),
            (&some, &some),
            (&some, &some[..7]),
        ] {
            both_ways(old, new);
        }
    }

    #[test]
    fn damaged_differences_lead_nowhere() {
        let (old, new) = (program(1, 2_000), program(2, 2_000));
        let good = difference(&old, &new).unwrap();
        for cut in 0..good.len() {
            assert!(apply(&old, &good[..cut], new.len() as u64).is_none());
        }
        assert!(apply(&old, &good, new.len() as u64 - 1).is_none());
        for at in (0..good.len()).step_by(7) {
            let mut bad = good.clone();
            bad[at] ^= 0x41;
            // It may lead to other bytes, whose digest is not the right one; never farther than it
            // should.
            assert!(apply(&old, &bad, new.len() as u64).is_none_or(|made| made.len() == new.len()));
            assert!(
                apply(&old[..100], &bad, new.len() as u64)
                    .is_none_or(|made| made.len() == new.len())
            );
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..Default::default() })]

        #[test]
        fn a_difference_leads_to_what_it_was_made_for(
            old in prop::collection::vec(0u8..4, 0..600),
            edits in prop::collection::vec((0usize..600, 0usize..80, prop::collection::vec(0u8..4, 0..60)), 0..6),
        ) {
            let mut new = old.clone();
            for (at, gone, more) in edits {
                let at = at.min(new.len());
                let end = (at + gone).min(new.len());
                new.splice(at..end, more);
            }
            both_ways(&old, &new);
        }
    }
}
