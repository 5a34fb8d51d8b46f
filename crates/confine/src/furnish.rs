//! What is put into a sandbox, and how what is in it becomes what is wanted there.
//!
//! A sandbox is used again by another command that wants much the same: what both want stays, the
//! rest is taken away.

use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::ffi::CString;
use std::io;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use crate::identities::{FolderState, Identity};
use crate::sys::Order;

// Attributes of mounts, from `linux/mount.h`.
pub(crate) const READ_ONLY: u64 = 1;
pub(crate) const NO_SETUID: u64 = 2;
pub(crate) const NO_DEVICES: u64 = 4;

/// Paths and orders, as the kernel takes them.
#[derive(Default)]
pub(crate) struct Plan {
    texts: Vec<CString>,
    pub orders: Vec<Planned>,
}

/// An order whose paths are numbers of texts.
#[derive(Clone, Copy)]
pub(crate) enum Planned {
    Write(usize, usize),
    Private,
    Memory(usize, usize),
    Folder(usize),
    File(usize),
    ClosedFile(usize),
    Link(usize, usize),
    Show(usize, usize, bool),
    Attributes(usize, u64, bool),
    Writable(usize),
    Pivot(usize, usize),
    Remove(usize),
    Unmount(usize),
    RemoveFile(usize),
    RemoveFolder(usize),
}

impl Plan {
    pub fn text(&mut self, text: impl AsRef<[u8]>) -> io::Result<usize> {
        let text = CString::new(text.as_ref())
            .map_err(|_| io::Error::new(io::ErrorKind::InvalidInput, "a path holds a NUL byte"))?;
        self.texts.push(text);
        Ok(self.texts.len() - 1)
    }

    pub fn write(&mut self, path: &str, text: &str) -> io::Result<()> {
        let planned = Planned::Write(self.text(path)?, self.text(text)?);
        self.orders.push(planned);
        Ok(())
    }

    pub fn memory(&mut self, at: impl AsRef<[u8]>, options: &str) -> io::Result<()> {
        let planned = Planned::Memory(self.text(at)?, self.text(options)?);
        self.orders.push(planned);
        Ok(())
    }

    pub fn folder(&mut self, at: impl AsRef<[u8]>) -> io::Result<()> {
        let planned = Planned::Folder(self.text(at)?);
        self.orders.push(planned);
        Ok(())
    }

    pub fn file(&mut self, at: impl AsRef<[u8]>) -> io::Result<()> {
        let planned = Planned::File(self.text(at)?);
        self.orders.push(planned);
        Ok(())
    }

    pub fn closed_file(&mut self, at: impl AsRef<[u8]>) -> io::Result<()> {
        self.add(Planned::ClosedFile, at)
    }

    pub fn link(&mut self, at: impl AsRef<[u8]>, target: impl AsRef<[u8]>) -> io::Result<()> {
        let planned = Planned::Link(self.text(at)?, self.text(target)?);
        self.orders.push(planned);
        Ok(())
    }

    pub fn show(
        &mut self,
        from: impl AsRef<[u8]>,
        at: impl AsRef<[u8]>,
        whole: bool,
    ) -> io::Result<()> {
        let planned = Planned::Show(self.text(from)?, self.text(at)?, whole);
        self.orders.push(planned);
        Ok(())
    }

    pub fn attributes(&mut self, at: impl AsRef<[u8]>, set: u64, whole: bool) -> io::Result<()> {
        let planned = Planned::Attributes(self.text(at)?, set, whole);
        self.orders.push(planned);
        Ok(())
    }

    /// Plans something with a place.
    pub fn add(&mut self, planned: fn(usize) -> Planned, at: impl AsRef<[u8]>) -> io::Result<()> {
        let at = self.text(at)?;
        self.orders.push(planned(at));
        Ok(())
    }

    pub fn orders(&self) -> Vec<Order<'_>> {
        let text = |number: usize| self.texts[number].as_c_str();
        let order = |planned: &Planned| match *planned {
            Planned::Write(path, what) => Order::Write {
                path: text(path),
                text: text(what),
            },
            Planned::Private => Order::Private,
            Planned::Memory(at, options) => Order::Memory {
                at: text(at),
                options: text(options),
            },
            Planned::Folder(at) => Order::Folder { at: text(at) },
            Planned::File(at) => Order::File { at: text(at) },
            Planned::ClosedFile(at) => Order::ClosedFile { at: text(at) },
            Planned::Link(at, target) => Order::Link {
                at: text(at),
                target: text(target),
            },
            Planned::Show(from, at, whole) => Order::Show {
                from: text(from),
                at: text(at),
                whole,
            },
            Planned::Attributes(at, set, whole) => Order::Attributes {
                at: text(at),
                set,
                whole,
            },
            Planned::Writable(at) => Order::Writable { at: text(at) },
            Planned::Pivot(at, before) => Order::Pivot {
                at: text(at),
                before: text(before),
            },
            Planned::Remove(at) => Order::Remove { at: text(at) },
            Planned::Unmount(at) => Order::Unmount { at: text(at) },
            Planned::RemoveFile(at) => Order::RemoveFile { at: text(at) },
            Planned::RemoveFolder(at) => Order::RemoveFolder { at: text(at) },
        };
        self.orders.iter().map(order).collect()
    }
}

/// Things that many sandboxes show, as they are laid out: two sandboxes that have the same ones
/// need not be compared there.
#[derive(Default)]
pub(crate) struct LaidOut {
    items: BTreeMap<Vec<u8>, Fitting>,
    folders: BTreeSet<Vec<u8>>,
    /// Folders that are shown whole, by their paths in the workspace.
    pub whole: HashSet<String>,
    /// How the folders were in which these things are: as long as they are so, the same things are
    /// there.
    pub states: Vec<(Box<str>, FolderState)>,
}

/// What is in a sandbox besides what all sandboxes begin with.
#[derive(Default)]
pub(crate) struct Contents {
    /// What many sandboxes have. Nothing of it is among the items, and no item is around something
    /// of it.
    common: Option<Arc<LaidOut>>,
    items: BTreeMap<Vec<u8>, Fitting>,
    /// Folders that were made for the items, and empty ones.
    folders: BTreeSet<Vec<u8>>,
    /// Folders that may be written to, with where they lie among the sources.
    own: Vec<(Vec<u8>, CString)>,
    /// First folders on the ways to files of the machine.
    tops: Vec<PathBuf>,
    /// How many things must have been taken of the machine when the sandbox began.
    taken: usize,
}

#[derive(Clone, PartialEq, Eq, Debug)]
enum Fitting {
    /// Where it lies among the sources, whether it is a folder, and which one.
    Shown(CString, bool, Identity),
    /// Where it leads.
    Link(Vec<u8>),
}

/// Where the workspace is in a sandbox: the same on every machine.
pub const ROOT: &str = "/nubrik";

/// Folders that are in a sandbox anyway, and hold what is put there besides.
const FURNISHED: [&str; 3] = ["/tmp", "/dev", ROOT];

/// What one sandbox has and another one has not, or has otherwise, sorted by its places.
struct Beyond<'c> {
    folders: Vec<&'c Vec<u8>>,
    items: Vec<(&'c Vec<u8>, &'c Fitting)>,
}

impl LaidOut {
    /// Whether something of it is at a place, or, with `below`, in the folder there.
    pub fn has(&self, at: &[u8], below: bool) -> bool {
        let inside = [at, b"/"].concat();
        let is_inside = || {
            self.items
                .range(inside.clone()..)
                .next()
                .is_some_and(|(at, _)| at.starts_with(&inside))
        };
        self.items.contains_key(at) || below && is_inside()
    }
}

impl Contents {
    /// What many sandboxes have, and nothing else so far.
    pub fn with(common: Arc<LaidOut>) -> Contents {
        Contents {
            common: Some(common),
            ..Contents::default()
        }
    }

    /// The same as what many sandboxes have: only files, folders and links of the workspace are in
    /// it.
    pub fn into_common(
        self,
        whole: HashSet<String>,
        states: Vec<(Box<str>, FolderState)>,
    ) -> LaidOut {
        let Contents {
            common: _,
            items,
            folders,
            own: _,
            tops: _,
            taken: _,
        } = self;
        LaidOut {
            items,
            folders,
            whole,
            states,
        }
    }

    /// Whether both have the same things of those that many sandboxes have.
    fn has_common_of(&self, other: &Contents) -> bool {
        match (&self.common, &other.common) {
            (None, None) => true,
            (Some(one), Some(other)) => Arc::ptr_eq(one, other),
            _ => false,
        }
    }

    fn item(&self, at: &[u8]) -> Option<&Fitting> {
        self.items
            .get(at)
            .or_else(|| self.common.as_ref()?.items.get(at))
    }

    fn has_folder(&self, path: &[u8]) -> bool {
        self.folders.contains(path)
            || self
                .common
                .as_ref()
                .is_some_and(|common| common.folders.contains(path))
    }

    /// What it has that another one has not, or has otherwise.
    fn beyond<'c>(&'c self, other: &Contents) -> Beyond<'c> {
        let common = self
            .common
            .as_deref()
            .filter(|_| !self.has_common_of(other));
        let folders = self
            .folders
            .iter()
            .chain(common.into_iter().flat_map(|common| &common.folders));
        let items = self
            .items
            .iter()
            .chain(common.into_iter().flat_map(|common| &common.items));
        let mut folders: Vec<&Vec<u8>> =
            folders.filter(|folder| !other.has_folder(folder)).collect();
        let mut items: Vec<(&Vec<u8>, &Fitting)> = items
            .filter(|(at, item)| other.item(at) != Some(item))
            .collect();
        folders.sort_unstable();
        items.sort_unstable_by_key(|(at, _)| *at);
        Beyond { folders, items }
    }

    /// Something is seen at a place.
    pub fn show(&mut self, at: Vec<u8>, from: CString, folder: bool, identity: Identity) {
        self.make_folders_to(&at, folder);
        self.items
            .insert(at, Fitting::Shown(from, folder, identity));
    }

    /// A link is at a place.
    pub fn link(&mut self, at: Vec<u8>, target: &str) {
        self.make_folders_to(&at, false);
        self.items.insert(at, Fitting::Link(target.into()));
    }

    /// An empty folder is at a place.
    pub fn make_empty(&mut self, at: &[u8]) {
        self.make_folders_to(at, true);
    }

    /// A folder is at a place that may be written to. `covered`: it is there with the folder around
    /// it.
    pub fn add_own(&mut self, at: Vec<u8>, from: CString, covered: bool) {
        if !covered {
            self.make_folders_to(&at, true);
        }
        self.own.push((at, from));
    }

    /// Something of the machine is seen at its own place, the first folder on the way to which is
    /// `top`.
    pub fn show_of_machine(
        &mut self,
        path: &Path,
        top: PathBuf,
        from: CString,
        folder: bool,
        identity: Identity,
    ) {
        let is_furnished = FURNISHED.iter().any(|known| top == Path::new(known));
        if !is_furnished && !self.tops.contains(&top) {
            self.tops.push(top.clone());
            self.tops.sort();
        }
        let above: Vec<&Path> = path.ancestors().skip(usize::from(!folder)).collect();
        for folder in above
            .into_iter()
            .filter(|f| f.starts_with(&top) && *f != top)
        {
            self.folders.insert(folder.as_os_str().as_bytes().into());
        }
        let at = path.as_os_str().as_bytes().to_owned();
        self.items
            .insert(at, Fitting::Shown(from, folder, identity));
    }

    /// Takes note that something of it was taken of the machine as the `number`th.
    pub fn needs_taken(&mut self, number: usize) {
        self.taken = self.taken.max(number + 1);
    }

    /// Whether a sandbox that has this, and began when so many things were taken of the machine,
    /// can be made one that has that.
    pub fn can_become(&self, wanted: &Contents, taken: usize) -> bool {
        fn of_machine(contents: &Contents) -> impl Iterator<Item = (&Vec<u8>, &Fitting)> {
            contents.items.iter().filter(|(at, _)| !is_in_root(at))
        }
        wanted.taken <= taken && self.tops == wanted.tops && of_machine(self).eq(of_machine(wanted))
    }

    /// Whether the sandbox can be used again at all: what is put among temporary files goes with
    /// them.
    pub fn can_stay(&self) -> bool {
        let in_changing = |at: &Vec<u8>| at.starts_with(b"/tmp/") || at.starts_with(b"/dev/");
        !self.items.keys().any(in_changing)
    }

    /// The folders on the way to a place of the workspace, and with `itself` that place.
    fn make_folders_to(&mut self, path: &[u8], itself: bool) {
        let ends = path
            .iter()
            .enumerate()
            .skip(1)
            .filter(|(_, byte)| **byte == b'/')
            .map(|(at, _)| at);
        for end in ends.chain(itself.then_some(path.len())) {
            let folder = &path[..end];
            if folder != ROOT.as_bytes() && !self.has_folder(folder) {
                self.folders.insert(folder.to_owned());
            }
        }
    }

    /// What is to be done in a new sandbox so that this is in it. `may_change_root`: commands may
    /// change its root.
    pub fn plan(&self, may_change_root: bool) -> io::Result<Plan> {
        let mut plan = Plan::default();
        plan.memory(ROOT, "mode=755")?;
        for top in &self.tops {
            plan.memory(top.as_os_str().as_bytes(), "mode=755")?;
            if top == Path::new("/var") {
                plan.link("/var/tmp", "/tmp")?;
            }
        }
        self.add_to(&mut plan, &Contents::default())?;
        for top in &self.tops {
            plan.attributes(top.as_os_str().as_bytes(), READ_ONLY, true)?;
        }
        if !may_change_root {
            plan.attributes("/", READ_ONLY, false)?;
        }
        Ok(plan)
    }

    /// What is to be done in a sandbox that has something else so that it has this.
    pub fn plan_from(&self, before: &Contents) -> io::Result<Plan> {
        let mut plan = Plan::default();
        plan.add(Planned::Writable, ROOT)?;
        for (at, _) in before.own.iter().rev() {
            plan.add(Planned::Unmount, at)?;
        }
        let Beyond { folders, items } = before.beyond(self);
        for (at, item) in items.into_iter().rev() {
            match item {
                Fitting::Shown(_, folder, _) => {
                    plan.add(Planned::Unmount, at)?;
                    if !folder {
                        plan.add(Planned::RemoveFile, at)?;
                    }
                }
                Fitting::Link(_) => plan.add(Planned::RemoveFile, at)?,
            }
        }
        for folder in folders.into_iter().rev() {
            plan.add(Planned::RemoveFolder, folder)?;
        }
        self.add_to(&mut plan, before)?;
        Ok(plan)
    }

    fn add_to(&self, plan: &mut Plan, before: &Contents) -> io::Result<()> {
        let Beyond { folders, items } = self.beyond(before);
        for folder in folders {
            plan.folder(folder)?;
        }
        for (at, item) in items {
            match item {
                Fitting::Shown(from, folder, _) => {
                    if !folder {
                        plan.file(at)?;
                    }
                    plan.show(from.as_bytes(), at, *folder)?;
                }
                Fitting::Link(target) => plan.link(at, target)?,
            }
        }
        plan.attributes(ROOT, READ_ONLY, true)?;
        for (at, from) in &self.own {
            plan.show(from.as_bytes(), at, true)?;
        }
        Ok(())
    }
}

fn is_in_root(at: &[u8]) -> bool {
    at.strip_prefix(ROOT.as_bytes())
        .is_some_and(|rest| rest.is_empty() || rest.starts_with(b"/"))
}
