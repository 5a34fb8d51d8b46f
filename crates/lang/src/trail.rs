//! What each declaration's value was taken from: other declarations, and files and folders that
//! were looked at. When some of these change, evaluation need only go again through what lies
//! downstream.
//!
//! A unit is a declaration, under all options together. What is evaluated later as a part of its
//! value (an entry of a map, a value in a kind) belongs to the unit in which that part was made.

use std::sync::Arc;

use nubrik_source::WsPath;
use parking_lot::Mutex;
use rustc_hash::{FxHashMap, FxHashSet};

use crate::world::{
    Answer, AnswerText, DefinitionText, EntryKind, KitPlace, LibraryRequest, LibrarySearch,
    Listing, NoAnswer, NotText, SampleRequest, StepRoots, ToolRequest, ToolSearch, World,
};

/// The unit of the request itself: what is looked at to find out what there is.
pub const REQUEST: u32 = 0;

/// A declaration.
#[derive(Clone, PartialEq, Eq, Hash, Debug)]
pub struct Unit {
    /// Its definition file, or the name of a kit that ships with the tool.
    pub file: Arc<str>,
    /// Its name.
    pub name: Arc<str>,
    /// Whether it was looked for and is not there.
    pub absent: bool,
}

/// What declarations' values were taken from. Unit 0 is the request.
#[derive(Clone, Default, Debug)]
pub struct Trail {
    /// All units.
    pub units: Vec<Unit>,
    /// Pairs of units: the value of the first was taken from the second.
    pub needs: Vec<(u32, u32)>,
    /// Units with the number of a path that they looked at.
    pub reads: Vec<(u32, u32)>,
    /// Paths, by their numbers.
    pub paths: Vec<WsPath>,
    /// Units that took the answer of a sample, which may have read whatever is there.
    pub sampling: Vec<u32>,
}

impl Trail {
    /// What several trails know together.
    pub fn joined(trails: Vec<Trail>) -> Trail {
        let mut trails = trails.into_iter().filter(|trail| !trail.units.is_empty());
        let Some(mut whole) = trails.next() else {
            return Trail::default();
        };
        let mut known: FxHashMap<(Arc<str>, Arc<str>), u32> = FxHashMap::default();
        for (number, unit) in whole.units.iter().enumerate() {
            known.insert((unit.file.clone(), unit.name.clone()), number as u32);
        }
        for other in trails {
            let mut units = Vec::with_capacity(other.units.len());
            for unit in other.units {
                let key = (unit.file.clone(), unit.name.clone());
                units.push(*known.entry(key).or_insert_with(|| {
                    whole.units.push(unit);
                    whole.units.len() as u32 - 1
                }));
            }
            let first = whole.paths.len() as u32;
            whole.paths.extend(other.paths);
            let unit = |n: u32| units[n as usize];
            whole
                .needs
                .extend(other.needs.into_iter().map(|(a, b)| (unit(a), unit(b))));
            whole.sampling.extend(other.sampling.into_iter().map(unit));
            whole.reads.extend(
                other
                    .reads
                    .into_iter()
                    .map(|(a, path)| (unit(a), path + first)),
            );
        }
        whole
    }
}

/// What is noted while evaluation goes on.
#[derive(Default)]
struct Notes {
    trail: Trail,
    numbers: FxHashMap<(Arc<str>, Arc<str>), u32>,
    paths: FxHashMap<WsPath, u32>,
    needs: FxHashSet<(u32, u32)>,
    reads: FxHashSet<(u32, u32)>,
    /// The unit that is being evaluated.
    current: u32,
}

/// A world that takes note of who looks at what.
pub struct WatchedWorld<'w> {
    world: &'w dyn World,
    notes: Mutex<Notes>,
}

impl<'w> WatchedWorld<'w> {
    /// Watches a world.
    pub fn new(world: &'w dyn World) -> WatchedWorld<'w> {
        let mut notes = Notes::default();
        let request = Unit {
            file: "".into(),
            name: "".into(),
            absent: false,
        };
        notes
            .numbers
            .insert((request.file.clone(), request.name.clone()), REQUEST);
        notes.trail.units.push(request);
        WatchedWorld {
            world,
            notes: Mutex::new(notes),
        }
    }

    fn notes(&self) -> parking_lot::MutexGuard<'_, Notes> {
        self.notes.lock()
    }

    /// The number of a unit.
    pub(crate) fn unit(&self, file: &Arc<str>, name: &Arc<str>, absent: bool) -> u32 {
        let mut notes = self.notes();
        let notes = &mut *notes;
        *notes
            .numbers
            .entry((file.clone(), name.clone()))
            .or_insert_with(|| {
                notes.trail.units.push(Unit {
                    file: file.clone(),
                    name: name.clone(),
                    absent,
                });
                notes.trail.units.len() as u32 - 1
            })
    }

    /// The unit that is being evaluated.
    pub(crate) fn current(&self) -> u32 {
        self.notes().current
    }

    /// Takes note that the unit being evaluated takes something from another one.
    pub(crate) fn take_from(&self, unit: u32) {
        let mut notes = self.notes();
        let from = notes.current;
        // What the request asks for is known anyway.
        if from != unit && (from != REQUEST || notes.trail.units[unit as usize].absent) {
            notes.needs.insert((from, unit));
        }
    }

    /// Goes on with another unit; gives the one before.
    pub(crate) fn enter(&self, unit: u32) -> u32 {
        std::mem::replace(&mut self.notes().current, unit)
    }

    /// Takes note that the unit being evaluated looked at a path.
    pub(crate) fn read(&self, path: &WsPath) {
        let mut notes = self.notes();
        let notes = &mut *notes;
        let number = match notes.paths.get(path) {
            Some(number) => *number,
            None => {
                let number = notes.trail.paths.len() as u32;
                notes.trail.paths.push(path.clone());
                notes.paths.insert(path.clone(), number);
                number
            }
        };
        notes.reads.insert((notes.current, number));
    }

    /// What was noted.
    pub fn trail(&self) -> Trail {
        let mut notes = self.notes();
        let notes = std::mem::take(&mut *notes);
        let (mut needs, mut reads): (Vec<_>, Vec<_>) = (
            notes.needs.into_iter().collect(),
            notes.reads.into_iter().collect(),
        );
        needs.sort_unstable();
        reads.sort_unstable();
        Trail {
            needs,
            reads,
            ..notes.trail
        }
    }
}

impl World for WatchedWorld<'_> {
    // From `nubrik.toml`, which changes everything.
    fn roots(&self) -> &StepRoots {
        self.world.roots()
    }

    fn test_patience(&self) -> u64 {
        self.world.test_patience()
    }

    fn definition(&self, path: &WsPath) -> Answer<DefinitionText> {
        let answer = self.world.definition(path);
        // Declarations of a file hang on it without saying so; whoever loads data says so itself.
        if !matches!(answer, Answer::Ready(DefinitionText::Text(_))) {
            self.read(path);
        }
        answer
    }

    fn shipped_kit(&self, name: &str) -> Option<&'static str> {
        self.world.shipped_kit(name)
    }

    fn shipped_kits(&self) -> Vec<&'static str> {
        self.world.shipped_kits()
    }

    fn kit_archive(&self, name: &str) -> KitPlace {
        self.world.kit_archive(name)
    }

    fn list(&self, folder: &WsPath) -> Answer<Arc<Listing>> {
        self.read(folder);
        self.world.list(folder)
    }

    fn expect_all_below(&self, folder: &WsPath) {
        self.world.expect_all_below(folder);
    }

    fn kind(&self, path: &WsPath) -> Answer<Option<EntryKind>> {
        self.read(path);
        self.world.kind(path)
    }

    fn env(&self, name: &str) -> Result<Option<String>, NotText> {
        self.world.env(name)
    }

    fn dangling(&self, folder: &WsPath) -> Vec<String> {
        self.world.dangling(folder)
    }

    fn tool_names(&self) -> Vec<String> {
        self.world.tool_names()
    }

    fn tool(&self, request: &ToolRequest) -> Answer<ToolSearch> {
        self.world.tool(request)
    }

    fn library(&self, request: &LibraryRequest) -> Answer<LibrarySearch> {
        self.world.library(request)
    }

    fn sample(&self, request: &SampleRequest) -> Answer<Result<AnswerText, NoAnswer>> {
        let mut notes = self.notes();
        let current = notes.current;
        notes.trail.sampling.push(current);
        drop(notes);
        self.world.sample(request)
    }

    fn is_stopped(&self) -> bool {
        self.world.is_stopped()
    }

    fn probe(&self, folder: &WsPath) -> Answer<AnswerText> {
        self.world.probe(folder)
    }
}
