//! What declarations' values were taken from, as tables beside a sealed graph: which of them a changed
//! file reaches.

use std::sync::Arc;

use nubrik_lang::{REQUEST, Trail};
use nubrik_source::WsPath;
use nubrik_store::{Decoder, Encoder, Truncated};
use rustc_hash::FxHashMap;

use crate::numbers::{Bodies, Lists, decode_numbers, encode_numbers};

/// Marks a unit that was looked for and is not there, in the number of its file.
const ABSENT: u32 = 1 << 31;

/// A trail as tables. Units have the numbers of the trail.
#[derive(Default, Clone)]
pub(crate) struct Trails {
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
    Lists { ends, items }
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
            trails.unit_files.push(if unit.absent { file | ABSENT } else { file });
            trails.names.push(unit.name.as_bytes());
        }
        trails.users = grouped(&trail.needs, trail.units.len());
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
        let reads: Vec<(u32, u32)> = reads.iter().map(|(u, p)| (*u, numbers[*p as usize])).collect();
        self.readers = grouped(&reads, list.len());
        self.paths = list;
    }

    pub fn encode(&self, out: &mut Encoder) {
        for bodies in [&self.files, &self.names, &self.paths] {
            bodies.encode(out);
        }
        encode_numbers(&self.unit_files, out);
        for lists in [&self.users, &self.readers] {
            lists.encode(out);
        }
    }

    pub fn decode(from: &mut Decoder<'_>) -> Result<Trails, Truncated> {
        let (files, names, paths) = (Bodies::decode(from)?, Bodies::decode(from)?, Bodies::decode(from)?);
        let unit_files = decode_numbers(from)?;
        Ok(Trails {
            files,
            unit_files,
            names,
            users: Lists::decode(from)?,
            paths,
            readers: Lists::decode(from)?,
        })
    }

    /// The number of a definition file.
    pub fn file(&self, path: &str) -> Option<u32> {
        (0..self.files.len()).find(|n| self.files.get(*n) == path.as_bytes()).map(|n| n as u32)
    }

    /// Units whose values may be others when a definition file changes: those that it declared, and those
    /// that it declares now.
    pub fn declared_in(&self, file: u32, now: impl Fn(&str) -> bool) -> Vec<u32> {
        let units = self.unit_files.iter().enumerate().filter(|(_, f)| **f & !ABSENT == file);
        let changed = units.filter(|(n, f)| **f & ABSENT == 0 || now(self.names.text(*n)));
        changed.map(|(n, _)| n as u32).collect()
    }

    /// Units that looked at a path.
    pub fn readers(&self, path: &str) -> &[u32] {
        let number = (0..self.paths.len()).find(|n| self.paths.get(*n) == path.as_bytes());
        number.map_or(&[], |n| self.readers.get(n))
    }

    /// By unit: whether its value may be another one when those of some units are. `None` when even what
    /// the request means may be something else.
    pub fn reached(&self, changed: Vec<u32>) -> Option<Vec<bool>> {
        let mut reached = vec![false; self.unit_files.len()];
        let mut open = changed;
        while let Some(unit) = open.pop() {
            if !std::mem::replace(reached.get_mut(unit as usize)?, true) {
                open.extend(self.users.get(unit as usize));
            }
        }
        (!reached[REQUEST as usize]).then_some(reached)
    }

    /// The units with some files and names, in their order; `None` for those that are not there.
    pub fn find<'n>(&self, wanted: impl Iterator<Item = (&'n str, &'n str)>) -> Vec<Option<u32>> {
        let wanted: Vec<(&str, &str)> = wanted.collect();
        let mut found = vec![None; wanted.len()];
        let places: FxHashMap<(&str, &str), usize> =
            wanted.into_iter().enumerate().map(|(at, key)| (key, at)).collect();
        for (unit, file) in self.unit_files.iter().enumerate() {
            let key = (self.files.text((file & !ABSENT) as usize), self.names.text(unit));
            if let Some(at) = places.get(&key) {
                found[*at] = Some(unit as u32);
            }
        }
        found
    }

    /// The same tables, with what was reached taken from a newer trail.
    pub fn spliced(&self, reached: &[bool], newer: &Trail) -> Trails {
        let mut result = self.clone();
        let mut files: FxHashMap<&str, u32> =
            (0..self.files.len()).map(|n| (self.files.text(n), n as u32)).collect();
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
        let keeps = |unit: &u32| !reached.get(*unit as usize).is_some_and(|r| *r);
        let kept = |lists: &Lists| -> Vec<(u32, u32)> {
            let all = (0..lists.len()).flat_map(|n| lists.get(n).iter().map(move |user| (*user, n as u32)));
            all.filter(|(user, _)| keeps(user)).collect()
        };
        let mut needs = kept(&self.users);
        needs.extend(newer.needs.iter().map(|(a, b)| (units[*a as usize], units[*b as usize])));
        needs.sort_unstable();
        needs.dedup();
        result.users = grouped(&needs, result.unit_files.len());
        let mut reads = kept(&self.readers);
        let first = self.paths.len() as u32;
        reads.extend(newer.reads.iter().map(|(unit, path)| (units[*unit as usize], path + first)));
        let old = (0..self.paths.len()).map(|n| self.paths.text(n));
        result.set_reads(old.chain(newer.paths.iter().map(WsPath::as_str)), &reads);
        result
    }
}
