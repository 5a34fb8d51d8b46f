//! What declarations' values were taken from, as tables beside a sealed graph: which of them a
//! changed file reaches.

use std::sync::Arc;

use nubrik_bytes::{Digest, Frame, Magic, Truncated};
use nubrik_engine::FileBytes;
use nubrik_lang::{REQUEST, Trail};
use nubrik_source::WsPath;
use rustc_hash::{FxHashMap, FxHashSet};

use crate::numbers::{
    Bodies, FileDecoder, ListReader, Lists, NumberList, decode_numbers, encode_numbers,
};

const MAGIC: Magic = *b"nbtrail1";

/// Marks a unit that was looked for and is not there, in the number of its file.
const ABSENT: u32 = 1 << 31;

/// A trail as tables. Units have the numbers of the trail.
#[derive(Default, Clone, PartialEq)]
pub struct Trails {
    /// Definition files.
    files: Bodies,
    /// The file of each unit.
    unit_files: Vec<u32>,
    /// The name of each unit.
    names: Bodies,
    /// Units that took something from each unit.
    users: Lists,
    /// Paths that were looked at.
    paths: Bodies,
    /// Units that looked at each path.
    readers: Lists,
}

/// Trails in which files and paths are looked up by their names.
pub struct TrailIndex<'t> {
    trails: &'t Trails,
    files: FxHashMap<&'t str, usize>,
    /// Units of each file.
    units: Lists,
    paths: FxHashMap<&'t str, usize>,
}

impl TrailIndex<'_> {
    /// The number of a definition file.
    pub fn file(&self, path: &str) -> Option<usize> {
        self.files.get(path).copied()
    }

    /// Units whose values may be others when a definition file changes: those that it declared, and
    /// those that it declares now.
    pub fn declared_in(&self, file: usize, now: impl Fn(&str) -> bool) -> Vec<u32> {
        let Trails {
            unit_files, names, ..
        } = self.trails;
        let is_changed = |unit: &u32| {
            let unit = *unit as usize;
            unit_files[unit] & ABSENT == 0 || now(names.text(unit))
        };
        self.units.get(file).iter().filter(is_changed).collect()
    }

    /// Units that looked at a path.
    pub fn readers(&self, path: &str) -> NumberList<'_> {
        self.paths
            .get(path)
            .map_or(NumberList::default(), |number| {
                self.trails.readers.get(*number)
            })
    }
}

/// The numbers of texts, of equal ones the first.
fn numbered(texts: &Bodies) -> FxHashMap<&str, usize> {
    let texts = texts.reader();
    (0..texts.len())
        .rev()
        .map(|number| (texts.text(number), number))
        .collect()
}

/// Pairs as lists: for each second number up to `count`, the first ones.
fn grouped(pairs: &[(u32, u32)], count: usize) -> Lists {
    let mut starts = vec![0u32; count + 1];
    for (_, to) in pairs {
        starts[*to as usize + 1] += 1;
    }
    for at in 1..starts.len() {
        starts[at] += starts[at - 1];
    }
    let ends = starts[1..].to_vec();
    let mut items = vec![0; pairs.len()];
    for (from, to) in pairs {
        let place = &mut starts[*to as usize];
        items[*place as usize] = *from;
        *place += 1;
    }
    Lists {
        ends: ends.into(),
        items: items.into(),
    }
}

impl Trails {
    /// The tables of a trail.
    pub fn of(trail: &Trail) -> Trails {
        let mut trails = Trails::default();
        let mut files: FxHashMap<Arc<str>, u32> = FxHashMap::default();
        for unit in &trail.units {
            let file = *files.entry(unit.file.clone()).or_insert_with(|| {
                trails.files.push(unit.file.as_bytes());
                trails.files.len() as u32 - 1
            });
            trails
                .unit_files
                .push(if unit.absent { file | ABSENT } else { file });
            trails.names.push(unit.name.as_bytes());
        }
        // Several threads may have noted the same.
        let mut needs = trail.needs.clone();
        needs.sort_unstable();
        needs.dedup();
        trails.users = grouped(&needs, trail.units.len());
        trails.set_reads(trail.paths.iter().map(WsPath::as_str), &trail.reads);
        trails
    }

    /// Sets who read what; the same path may be there several times.
    fn set_reads<'p>(&mut self, paths: impl Iterator<Item = &'p str>, reads: &[(u32, u32)]) {
        let mut known: FxHashMap<&str, u32> = FxHashMap::default();
        let mut list = Bodies::default();
        let mut numbers = Vec::new();
        for path in paths {
            numbers.push(*known.entry(path).or_insert_with(|| {
                list.push(path.as_bytes());
                list.len() as u32 - 1
            }));
        }
        let mut reads: Vec<(u32, u32)> = reads
            .iter()
            .map(|(u, p)| (*u, numbers[*p as usize]))
            .collect();
        reads.sort_unstable();
        reads.dedup();
        self.readers = grouped(&reads, list.len());
        self.paths = list;
    }

    /// The tables as bytes.
    pub fn encode(&self) -> Vec<u8> {
        let mut out = Frame::begin(MAGIC);
        for bodies in [&self.files, &self.names, &self.paths] {
            bodies.encode(&mut out);
        }
        encode_numbers(&self.unit_files, &mut out);
        for lists in [&self.users, &self.readers] {
            lists.encode(&mut out);
        }
        Frame::end(out)
    }

    /// The id of tables, from the beginning of their bytes; `None` where they are none.
    pub fn id_in(bytes: &[u8]) -> Option<Digest> {
        Frame::id_in(MAGIC, bytes)
    }

    /// The tables with this id that bytes hold.
    ///
    /// # Errors
    /// When they are damaged, or others.
    pub fn decode(file: &FileBytes, id: Digest) -> Result<Trails, Truncated> {
        let frame = Frame::of(MAGIC, (**file).as_ref())?;
        if frame.id != id {
            return Err(Truncated);
        }
        let from = &mut FileDecoder::new(file, frame.head)?;
        let (files, names, paths) = (
            Bodies::decode(from)?,
            Bodies::decode(from)?,
            Bodies::decode(from)?,
        );
        let unit_files = decode_numbers(&mut from.decoder)?;
        let (users, readers) = (Lists::decode(from)?, Lists::decode(from)?);
        Ok(Trails {
            files,
            unit_files,
            names,
            users,
            paths,
            readers,
        })
    }

    /// The tables as many changed files are looked up in them.
    pub fn index(&self) -> TrailIndex<'_> {
        let units = self.unit_files.iter().enumerate();
        let pairs = units.map(|(unit, file)| (unit as u32, file & !ABSENT));
        let pairs: Vec<(u32, u32)> = pairs
            .filter(|(_, file)| (*file as usize) < self.files.len())
            .collect();
        TrailIndex {
            trails: self,
            files: numbered(&self.files),
            units: grouped(&pairs, self.files.len()),
            paths: numbered(&self.paths),
        }
    }

    /// By unit: whether its value may be another one when those of some units are. `None` when even
    /// what the request means may be something else.
    pub fn reached(&self, changed: Vec<u32>) -> Option<Vec<bool>> {
        let mut reached = vec![false; self.unit_files.len()];
        let (mut open, users) = (changed, self.users.reader());
        while let Some(unit) = open.pop() {
            if !std::mem::replace(reached.get_mut(unit as usize)?, true) {
                open.extend(users.get(unit as usize).iter());
            }
        }
        (!reached[REQUEST as usize]).then_some(reached)
    }

    /// The units with some files and names, in their order; `None` for those that are not there.
    pub fn find<'n>(&self, wanted: impl Iterator<Item = (&'n str, &'n str)>) -> Vec<Option<u32>> {
        let wanted: Vec<(&str, &str)> = wanted.collect();
        let mut found = vec![None; wanted.len()];
        let files: FxHashSet<&str> = wanted.iter().map(|(file, _)| *file).collect();
        let files: Vec<bool> = (0..self.files.len())
            .map(|file| files.contains(self.files.text(file)))
            .collect();
        let places: FxHashMap<(&str, &str), usize> = wanted
            .into_iter()
            .enumerate()
            .map(|(at, key)| (key, at))
            .collect();
        let (texts, names) = (self.files.reader(), self.names.reader());
        for (unit, file) in self.unit_files.iter().enumerate() {
            let file = (file & !ABSENT) as usize;
            if files.get(file) == Some(&true)
                && let Some(at) = places.get(&(texts.text(file), names.text(unit)))
            {
                found[*at] = Some(unit as u32);
            }
        }
        found
    }

    /// The same tables, with what was reached taken from a newer trail.
    pub fn spliced(&self, reached: &[bool], newer: &Trail) -> Trails {
        let mut result = self.clone();
        let texts = self.files.reader();
        let mut files: FxHashMap<&str, u32> = (0..texts.len())
            .map(|n| (texts.text(n), n as u32))
            .collect();
        let known = newer.units.iter().map(|unit| (&*unit.file, &*unit.name));
        let mut units = Vec::with_capacity(newer.units.len());
        for (unit, known) in newer.units.iter().zip(self.find(known)) {
            let file = *files.entry(&unit.file).or_insert_with(|| {
                result.files.push(unit.file.as_bytes());
                result.files.len() as u32 - 1
            });
            let file = if unit.absent { file | ABSENT } else { file };
            units.push(match known {
                Some(number) => {
                    // What was missing may be there now, or the other way round.
                    if !unit.absent || reached[number as usize] {
                        result.unit_files[number as usize] = file;
                    }
                    number
                }
                None => {
                    result.unit_files.push(file);
                    result.names.push(unit.name.as_bytes());
                    result.unit_files.len() as u32 - 1
                }
            });
        }
        let is_reached = |unit: u32| reached.get(unit as usize).is_some_and(|r| *r);
        let needs = newer
            .needs
            .iter()
            .map(|(a, b)| (units[*a as usize], units[*b as usize]));
        result.users = merged(
            self.users.reader(),
            result.unit_files.len(),
            is_reached,
            needs,
        );
        let paths = self.numbers_of(&newer.paths, &mut result.paths);
        let reads = newer
            .reads
            .iter()
            .map(|(unit, path)| (units[*unit as usize], paths[*path as usize]));
        result.readers = merged(self.readers.reader(), result.paths.len(), is_reached, reads);
        result
    }

    /// The numbers of some paths; new ones are added to a list.
    fn numbers_of(&self, wanted: &[WsPath], list: &mut Bodies) -> Vec<u32> {
        let mut numbers: FxHashMap<&str, Option<u32>> =
            wanted.iter().map(|path| (path.as_str(), None)).collect();
        let paths = self.paths.reader();
        for number in 0..paths.len() {
            if let Some(found) = numbers.get_mut(paths.text(number)) {
                *found = Some(number as u32);
            }
        }
        let mut number = |path| {
            *numbers.entry(path).or_default().get_or_insert_with(|| {
                list.push(path.as_bytes());
                list.len() as u32 - 1
            })
        };
        wanted.iter().map(|path| number(path.as_str())).collect()
    }
}

/// Lists without some members, and with others (pairs of member and list). Members stay sorted.
fn merged(
    lists: ListReader<'_>,
    count: usize,
    is_gone: impl Fn(u32) -> bool,
    more: impl Iterator<Item = (u32, u32)>,
) -> Lists {
    let mut additions: FxHashMap<u32, Vec<u32>> = FxHashMap::default();
    for (member, list) in more {
        additions.entry(list).or_default().push(member);
    }
    let mut result = Lists::default();
    let mut members: Vec<u32> = Vec::new();
    for number in 0..count {
        members.clear();
        members.extend(lists.get(number).iter().filter(|member| !is_gone(*member)));
        if let Some(more) = additions.get(&(number as u32)) {
            members.extend(more);
            members.sort_unstable();
            members.dedup();
        }
        result.push(members.iter().copied());
    }
    result
}
