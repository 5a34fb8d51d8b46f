//! Watches on all that seals looked at in a workspace, and what follows from what happens to it.

use std::collections::{BTreeMap, BTreeSet};
use std::fs::File;
use std::io;
use std::os::fd::OwnedFd;

use nubrik_confine::{Writers, writers_of};
use nubrik_disk::{Below, Signature};
use nubrik_memory::{Entry, OpenJournal, Roles, Seal, Version};
use nubrik_source::{FilePath, FilePlace};
use rustc_hash::FxHashMap;
use rustix::fs::{AtFlags, FileType, Mode, OFlags, ResolveFlags, Stat};
use rustix::io::Errno;

use crate::around::{Doubt, RestsOn, SeenFrom};
use crate::kernel::{NoWatch, Note, WatchId, Watches};
use crate::messages::{WatcherAnswer, WatcherStatus};
use crate::sealed::{Sight, WatchedSeal};

/// How many seals are watched. The one that was asked about the longest ago is given up for
/// another.
const SEALS: usize = 4;

/// The flag of a folder in which upper and lower case are the same name (`FS_CASEFOLD_FL`).
const CASE_DOES_NOT_COUNT: u32 = 0x4000_0000;

/// What a seal calls the workspace's root.
const TOP: &str = ".";

/// A link that leads somewhere, a file system that is mounted somewhere: what is behind them is not
/// watched.
const WAY: ResolveFlags = ResolveFlags::BENEATH
    .union(ResolveFlags::NO_SYMLINKS)
    .union(ResolveFlags::NO_MAGICLINKS)
    .union(ResolveFlags::NO_XDEV);

/// Who a watch is for.
enum Whose {
    /// A folder's, by its path.
    Folder(Box<str>),
    /// A file's, by whatever names it has.
    File(WatchedFile),
}

/// A file that is watched.
struct WatchedFile {
    inode: u64,
    /// Whether no program had it open for writing when it was looked at, and nothing has happened
    /// to it since.
    is_quiet: bool,
    /// The paths that lead to it: seals, and numbers in them.
    paths: Vec<(u32, u32)>,
}

/// Why a folder is not watched.
enum NoFolder {
    /// It is not there, and what it would be in is watched.
    Missing,
    /// What is in it is known in no way.
    Not(Sight),
}

/// A folder that is kept open, for the paths in it that follow.
struct NearFolder {
    folder: Box<str>,
    handle: OwnedFd,
}

/// A workspace that is watched.
pub(crate) struct WatchedGround {
    root: Below,
    own: Below,
    device: u64,
    around: RestsOn,
    watches: Watches,
    /// Watched folders by path.
    folders: BTreeMap<Box<str>, WatchId>,
    whose: FxHashMap<WatchId, Whose>,
    /// Watched files by their numbers in the file system.
    inodes: FxHashMap<u64, WatchId>,
    /// The one that was asked about last is the last.
    seals: Vec<WatchedSeal>,
    /// How many seals there have been.
    begun: u32,
    doubt: Option<Doubt>,
    near: Option<NearFolder>,
}

impl WatchedGround {
    /// A workspace by its root and the tool's own folder.
    pub fn new(root: Below, own: Below) -> io::Result<WatchedGround> {
        let device = rustix::fs::fstat(root.top())?.st_dev;
        let (around, watches) = (RestsOn::of(root.top())?, watches_of(&own)?);
        Ok(WatchedGround {
            root,
            own,
            device,
            around,
            watches,
            folders: BTreeMap::new(),
            whose: FxHashMap::default(),
            inodes: FxHashMap::default(),
            seals: Vec::new(),
            begun: 0,
            doubt: None,
            near: None,
        })
    }

    /// What is to be waited for.
    pub fn watches(&self) -> &Watches {
        &self.watches
    }

    /// Hears what happened.
    pub fn hear(&mut self) {
        for note in self.watches.notes() {
            self.near = None;
            match note {
                Note::Overflow => return self.begin_again(Doubt::Overflow),
                Note::Name(watch, name) => self.changed_inside(watch, &name, true),
                Note::Inside(watch, name) => self.changed_inside(watch, &name, false),
                Note::Itself(watch) => self.changed(watch, false),
                Note::Left(watch) => self.changed(watch, true),
            }
        }
    }

    /// Forgets all that is known: it is learnt anew.
    fn begin_again(&mut self, doubt: Doubt) {
        self.doubt = Some(doubt);
        self.near = None;
        // All watches end with what they belong to.
        let begun =
            watches_of(&self.own).and_then(|watches| Ok((watches, RestsOn::of(self.root.top())?)));
        self.folders.clear();
        self.whose.clear();
        self.inodes.clear();
        match begun {
            Ok((watches, around)) => (self.watches, self.around) = (watches, around),
            Err(_) => self.seals.clear(),
        }
        for seal in &mut self.seals {
            seal.sights.fill(Sight::Doubtful);
            seal.watches.fill(None);
            seal.to_see = (0..seal.sights.len() as u32).collect();
        }
    }

    /// Something in a folder: its name came or went, or its metadata is another one.
    fn changed_inside(&mut self, watch: WatchId, name: &[u8], is_name: bool) {
        let Some(Whose::Folder(folder)) = self.whose.get(&watch) else {
            return;
        };
        let folder = folder.clone();
        if is_name {
            for seal in &mut self.seals {
                let itself = own_number(&seal.seal, &folder);
                seal.doubt(itself);
            }
        }
        // No sealed path has another kind of name.
        let Ok(name) = std::str::from_utf8(name) else {
            return;
        };
        let path = if folder.is_empty() {
            name.to_owned()
        } else {
            format!("{folder}/{name}")
        };
        self.doubt_below(&path);
        if is_name {
            self.leave_folders(&path);
        }
    }

    /// Something that is watched itself, and may be somewhere else now.
    fn changed(&mut self, watch: WatchId, has_left: bool) {
        match self.whose.get_mut(&watch) {
            None => {}
            Some(Whose::Folder(path)) => {
                let path = path.clone();
                self.doubt_below(&path);
                if has_left {
                    self.leave_folders(&path);
                }
            }
            Some(Whose::File(_)) if has_left => self.give_up_file(watch),
            // All its paths are doubted since the first time.
            Some(Whose::File(file)) if !file.is_quiet => {}
            Some(Whose::File(file)) => {
                file.is_quiet = false;
                for (seal, number) in &file.paths {
                    if let Some(seal) = self.seals.iter_mut().find(|s| s.id == *seal) {
                        seal.doubt([*number as usize]);
                    }
                }
            }
        }
    }

    /// All sealed paths at a path and below it may be others.
    fn doubt_below(&mut self, path: &str) {
        for seal in &mut self.seals {
            let numbers = seal.seal.at_or_below(path);
            seal.doubt(numbers);
        }
    }

    /// Ends the watches of the folders at a path and below it.
    fn leave_folders(&mut self, path: &str) {
        let below = if path.is_empty() {
            String::new()
        } else {
            format!("{path}/")
        };
        let range = self.folders.range::<str, _>((
            std::ops::Bound::Included(&*below),
            std::ops::Bound::Unbounded,
        ));
        let mut left: Vec<Box<str>> = range
            .take_while(|(folder, _)| folder.starts_with(&below))
            .map(|(folder, _)| folder.clone())
            .collect();
        left.push(path.into());
        for folder in left {
            let Some(watch) = self.folders.remove(&folder) else {
                continue;
            };
            // The same folder may be watched under another path by now.
            if matches!(self.whose.get(&watch), Some(Whose::Folder(of)) if *of == folder) {
                self.whose.remove(&watch);
                self.watches.end(watch);
            }
        }
    }

    /// Ends the watch of a file: its paths are looked at before anything is known of them again.
    fn give_up_file(&mut self, watch: WatchId) {
        let Some(Whose::File(file)) = self.whose.remove(&watch) else {
            return;
        };
        self.watches.end(watch);
        if self.inodes.get(&file.inode) == Some(&watch) {
            self.inodes.remove(&file.inode);
        }
        for (id, number) in file.paths {
            let Some(seal) = self.seals.iter_mut().find(|seal| seal.id == id) else {
                continue;
            };
            let number = number as usize;
            seal.watches[number] = None;
            seal.doubt([number]);
        }
    }

    /// Which paths of a seal may have changed.
    pub fn doubtful(
        &mut self,
        seen: &SeenFrom,
        path: &str,
        version: Version,
        file: Signature,
    ) -> WatcherAnswer {
        if SeenFrom::here(self.root.top()).ok().as_ref() != Some(seen) {
            return WatcherAnswer::All(Doubt::Elsewhere);
        }
        if let Some(doubt) = self.around.changed(self.root.top()) {
            self.begin_again(doubt.clone());
            return WatcherAnswer::All(doubt);
        }
        self.hear();
        let known = self
            .seals
            .iter()
            .position(|seal| seal.path == path && seal.version == version && seal.file == file);
        let Some(place) = known else {
            return WatcherAnswer::All(Doubt::Learning);
        };
        let seal = self.seals.remove(place);
        let doubtful = seal.doubtful();
        self.seals.push(seal);
        WatcherAnswer::Doubtful(doubtful)
    }

    /// Learns the newest state of a seal.
    pub fn learn(&mut self, path: &str) {
        let opened = OpenJournal::<Seal>::open(&self.own, path);
        let found = opened.and_then(|open| {
            let (version, file) = (open.version, open.signature);
            Some((version, file, open.checked()?))
        });
        let place = self.seals.iter().position(|seal| seal.path == path);
        let mut known = place.map(|place| self.seals.remove(place));
        let Some((version, file, seal)) = found else {
            known.into_iter().for_each(|known| self.give_up_seal(known));
            return;
        };
        let is_grown = |known: &mut WatchedSeal| {
            known.version.file == version.file && known.seal.len() <= seal.len()
        };
        if let Some(mut same) = known.take_if(is_grown) {
            if (same.version, same.file) != (version, file) {
                same.grow(seal, (version, file));
            }
            self.seals.push(same);
            return;
        }
        known.into_iter().for_each(|known| self.give_up_seal(known));
        if self.seals.len() >= SEALS {
            let oldest = self.seals.remove(0);
            self.give_up_seal(oldest);
        }
        self.begun = self.begun.wrapping_add(1);
        self.seals
            .push(WatchedSeal::new(self.begun, path, seal, (version, file)));
    }

    /// Ends the watches that only one seal needs.
    fn give_up_seal(&mut self, seal: WatchedSeal) {
        if self.seals.is_empty() {
            // Quicker than one after the other.
            let doubt = self.doubt.take();
            self.begin_again(Doubt::Learning);
            self.doubt = doubt;
            return;
        }
        // Thousands of paths may lead to one file: each is gone through once.
        let watches: BTreeSet<WatchId> = seal.watches.into_iter().flatten().collect();
        for watch in watches {
            let Some(Whose::File(file)) = self.whose.get_mut(&watch) else {
                continue;
            };
            file.paths.retain(|(id, _)| *id != seal.id);
            if file.paths.is_empty() {
                self.give_up_file(watch);
            }
        }
    }

    /// Has everything looked at that may have changed.
    pub fn see_again(&mut self) {
        self.seals.iter_mut().for_each(WatchedSeal::see_again);
    }

    /// Whether there is something to be looked at.
    pub fn is_busy(&self) -> bool {
        self.seals.iter().any(|seal| !seal.to_see.is_empty())
    }

    /// Looks at some paths that may have changed, at most so many.
    pub fn see(&mut self, most: usize) {
        let Some(place) = self.seals.iter().rposition(|seal| !seal.to_see.is_empty()) else {
            return;
        };
        for _ in 0..most {
            let Some(number) = self.seals[place].to_see.pop_front() else {
                break;
            };
            let number = number as usize;
            let seal = &self.seals[place];
            if seal.sights[number] != Sight::Doubtful {
                continue;
            }
            if let Some(watch) = seal.watches[number] {
                self.give_up_file(watch);
            }
            let sight = self.sight(place, number);
            self.seals[place].sights[number] = sight;
        }
        self.near = None;
    }

    /// Watches a path of a seal and the way to it, and looks at it then.
    fn sight(&mut self, place: usize, number: usize) -> Sight {
        let seal = &self.seals[place].seal;
        let entry = seal.entry(number);
        if entry.roles.has(Roles::GONE) {
            return Sight::Same;
        }
        let text = FilePath::from_text(seal.path(number).into());
        let path = match text.place() {
            FilePlace::Workspace(path) => path,
            FilePlace::Link(path) if entry.roles.has(Roles::ITSELF) && !path.starts_with('/') => {
                path
            }
            _ => return Sight::Apart,
        };
        if path == TOP {
            return self.sight_of_folder("", &entry);
        }
        let (folder, name) = path.rsplit_once('/').unwrap_or(("", path));
        let as_if_nothing = |entry: &Entry| {
            if entry.holds(None) {
                Sight::Same
            } else {
                Sight::Doubtful
            }
        };
        match self.watch_folder(folder) {
            Ok(()) => {}
            Err(NoFolder::Missing) => return as_if_nothing(&entry),
            Err(NoFolder::Not(sight)) => return sight,
        }
        let Some(found) = self.look_at(folder, name) else {
            return Sight::Doubtful;
        };
        match found {
            Err(Errno::NOENT) => as_if_nothing(&entry),
            Err(_) => Sight::Apart,
            Ok(found) if found.st_dev != self.device => Sight::Apart,
            Ok(found) => match FileType::from_raw_mode(found.st_mode) {
                // Its folder says when it becomes another one.
                FileType::Symlink if entry.roles.has(Roles::ITSELF) => seen(&entry, &found),
                FileType::Directory => self.sight_of_folder(path, &entry),
                FileType::RegularFile => {
                    self.sight_of_file(place, number, (folder, name), &found, &entry)
                }
                _ => Sight::Apart,
            },
        }
    }

    fn sight_of_folder(&mut self, path: &str, entry: &Entry) -> Sight {
        match self.watch_folder(path) {
            Ok(()) => {}
            Err(NoFolder::Missing) => return Sight::Doubtful,
            Err(NoFolder::Not(sight)) => return sight,
        }
        let found = self.open_folder(path).and_then(rustix::fs::fstat);
        found.map_or(Sight::Doubtful, |found| seen(entry, &found))
    }

    /// A file, which was found in its folder when that was watched.
    fn sight_of_file(
        &mut self,
        place: usize,
        number: usize,
        (folder, name): (&str, &str),
        found: &Stat,
        entry: &Entry,
    ) -> Sight {
        let member = (self.seals[place].id, number as u32);
        if let Some(watch) = self.inodes.get(&found.st_ino).copied() {
            match self.whose.get_mut(&watch) {
                Some(Whose::File(file)) if file.is_quiet => {
                    file.paths.push(member);
                    self.seals[place].watches[number] = Some(watch);
                    return seen(entry, found);
                }
                // It is watched anew, under all its names: nobody asks what happened to it before.
                _ => self.give_up_file(watch),
            }
        }
        let file = match self.open_near(folder, name) {
            Ok(file) => file,
            Err(sight) => return sight,
        };
        let watch = match self.watches.on_file(&file) {
            Ok(watch) => watch,
            Err(NoWatch::Limit) => return Sight::Lacking,
            Err(NoWatch::Refused) => return Sight::Apart,
        };
        let writers = writers_of(&file);
        let now = rustix::fs::fstat(&file)
            .ok()
            .filter(|now| now.st_ino == found.st_ino && now.st_dev == self.device);
        let (Some(now), false) = (now, self.whose.contains_key(&watch)) else {
            // It is another one than a moment ago.
            if !self.whose.contains_key(&watch) {
                self.watches.end(watch);
            }
            return Sight::Doubtful;
        };
        if writers == Writers::Unknown {
            self.watches.end(watch);
            return Sight::Apart;
        }
        let is_quiet = writers == Writers::None;
        let file = WatchedFile {
            inode: now.st_ino,
            is_quiet,
            paths: vec![member],
        };
        self.whose.insert(watch, Whose::File(file));
        self.inodes.insert(now.st_ino, watch);
        self.seals[place].watches[number] = Some(watch);
        if is_quiet {
            seen(entry, &now)
        } else {
            Sight::Doubtful
        }
    }

    /// Opens a file of the folder that was looked at last.
    fn open_near(&self, folder: &str, name: &str) -> Result<File, Sight> {
        let flags =
            OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC | OFlags::NOCTTY;
        let near = self.near.as_ref().filter(|near| &*near.folder == folder);
        let near = near.ok_or(Sight::Doubtful)?;
        match rustix::fs::openat(&near.handle, name, flags, Mode::empty()) {
            Ok(file) => Ok(File::from(file)),
            Err(Errno::NOENT | Errno::LOOP | Errno::MFILE | Errno::NFILE) => Err(Sight::Doubtful),
            Err(_) => Err(Sight::Apart),
        }
    }

    /// Watches a folder and all that it is in.
    fn watch_folder(&mut self, path: &str) -> Result<(), NoFolder> {
        if self.folders.contains_key(path) {
            return Ok(());
        }
        if !path.is_empty() {
            let above = path.rsplit_once('/').map_or("", |(above, _)| above);
            self.watch_folder(above)?;
        }
        let opened = self.open_folder(path).map_err(|error| match error {
            Errno::NOENT | Errno::NOTDIR => NoFolder::Missing,
            Errno::AGAIN | Errno::MFILE | Errno::NFILE | Errno::INTR => {
                NoFolder::Not(Sight::Doubtful)
            }
            _ => NoFolder::Not(Sight::Apart),
        })?;
        let found = rustix::fs::fstat(&opened).map_err(|_| NoFolder::Not(Sight::Doubtful))?;
        if found.st_dev != self.device {
            return Err(NoFolder::Not(Sight::Apart));
        }
        // A name that comes there is not the one that was looked for, and yet leads to it.
        if rustix::fs::ioctl_getflags(&opened)
            .is_ok_and(|flags| flags.bits() & CASE_DOES_NOT_COUNT != 0)
        {
            return Err(NoFolder::Not(Sight::Apart));
        }
        let watch = self.watches.on_folder(&opened).map_err(|none| match none {
            NoWatch::Limit => NoFolder::Not(Sight::Lacking),
            NoWatch::Refused => NoFolder::Not(Sight::Apart),
        })?;
        // A folder that was moved a moment ago is still known by its old path.
        if let Some(Whose::Folder(old)) = self.whose.insert(watch, Whose::Folder(path.into())) {
            self.folders.remove(&old);
        }
        self.folders.insert(path.into(), watch);
        Ok(())
    }

    fn open_folder(&self, path: &str) -> rustix::io::Result<OwnedFd> {
        let path = if path.is_empty() { "." } else { path };
        // A link is refused as such: with `NOFOLLOW` it would seem to be a file.
        let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC;
        rustix::fs::openat2(self.root.top(), path, flags, Mode::empty(), WAY)
    }

    /// Metadata of something in a watched folder; `None` where the folder is not what it was.
    fn look_at(&mut self, folder: &str, name: &str) -> Option<rustix::io::Result<Stat>> {
        if self
            .near
            .as_ref()
            .is_none_or(|near| &*near.folder != folder)
        {
            let handle = self.open_folder(folder).ok()?;
            self.near = Some(NearFolder {
                folder: folder.into(),
                handle,
            });
        }
        let near = self.near.as_ref()?;
        Some(rustix::fs::statat(
            &near.handle,
            name,
            AtFlags::SYMLINK_NOFOLLOW,
        ))
    }

    /// How it is.
    pub fn status(&self) -> WatcherStatus {
        let sum = |sight| self.seals.iter().map(|seal| seal.count(sight)).sum();
        let lacking = sum(Sight::Lacking);
        WatcherStatus {
            paths: self.seals.iter().map(|seal| seal.sights.len()).sum(),
            same: sum(Sight::Same),
            apart: sum(Sight::Apart) + lacking,
            lacking,
            watches: self.whose.len(),
            doubt: self.doubt.clone(),
        }
    }
}

/// What is known of a path whose metadata was found to be this.
fn seen(entry: &Entry, found: &Stat) -> Sight {
    if entry.holds(Some(Signature::from(found))) {
        Sight::Same
    } else {
        Sight::Doubtful
    }
}

/// The number of a folder itself.
fn own_number(seal: &Seal, path: &str) -> Option<usize> {
    seal.find(if path.is_empty() { TOP } else { path })
}

/// No watches yet but one, which says when the tool's own folder goes or what is in it.
fn watches_of(own: &Below) -> io::Result<Watches> {
    let watches = Watches::new()?;
    match watches.on_folder(own.top()) {
        Ok(_) => Ok(watches),
        Err(NoWatch::Limit) => Err(io::Error::other(
            "the kernel allows this user no more watches",
        )),
        Err(NoWatch::Refused) => Err(io::Error::other("the tool's own folder is gone")),
    }
}
