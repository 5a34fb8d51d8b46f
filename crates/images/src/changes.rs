//! Roots that commands may change: a copy for each, and a layer of what is another in it
//! afterwards.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::fs::{DirBuilder, File, Permissions};
use std::io::{self, Read, Write};
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::os::unix::fs::{DirBuilderExt, MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};

use nubrik_bytes::Digest;
use rustix::fs::{AtFlags, FileType, Mode, OFlags};

use crate::cache::{HeldRoot, ImageCache, remove_root};
use crate::files::times;
use crate::layer::{GONE, OF_USERS, UnpackListener, user_attribute};
use crate::make::TIME;
use crate::problem::{ImageProblem, ImageResult, bad, refused};
use crate::tree::{RootPath, RootTree, TreeNode, shown};

/// A root that commands may change. Dropping it removes it.
pub struct RootCopy {
    folder: PathBuf,
    held: HeldRoot,
    /// As it was.
    tree: RootTree,
    /// Files as they were put there: which one, and when the kernel says that it was last touched.
    copied: HashMap<RootPath, FileIdentity>,
    /// When all of them were there: what was touched then or later may be touched again without a
    /// sign.
    whole_since: (i64, i64),
    /// Places at the top that are not the image's, and never a part of a layer.
    without: Vec<RootPath>,
    /// Held, so that nobody takes it for what an ended process left.
    _used: File,
}

/// Inode, and time of the last change of anything in seconds and nanoseconds.
type FileIdentity = (u64, (i64, i64));

/// What a layer says of a path.
enum RootChange {
    Folder(u32),
    File {
        mode: u32,
        size: u64,
        attributes: Vec<(Vec<u8>, Vec<u8>)>,
    },
    Link(Vec<u8>),
    Gone,
}

/// Changes as far as they were looked for.
#[derive(Default)]
struct FoundChanges {
    changes: BTreeMap<RootPath, RootChange>,
    /// Permissions of what this user could not read as it was, by inode: a file may have several
    /// names.
    opened_up: HashMap<u64, u32>,
}

impl FoundChanges {
    /// The permissions that commands gave something.
    fn mode_of(&self, status: &std::fs::Metadata) -> u32 {
        self.opened_up
            .get(&status.ino())
            .copied()
            .unwrap_or(status.mode() & 0o7777)
    }

    /// Lets this user do with something of theirs what they need to do.
    fn open_up(&mut self, path: &Path, status: &std::fs::Metadata, needed: u32) -> io::Result<()> {
        let mode = status.mode() & 0o7777;
        if mode & needed == needed {
            return Ok(());
        }
        self.opened_up.entry(status.ino()).or_insert(mode);
        std::fs::set_permissions(path, Permissions::from_mode(mode | needed))
    }
}

impl ImageCache {
    /// Copies a root, but for places that are not the image's, as paths from its top.
    ///
    /// # Errors
    /// When this machine refuses, or nobody may read a file of the root.
    pub fn copy(
        &self,
        root: &HeldRoot,
        without: &[&str],
        listener: &dyn UnpackListener,
    ) -> ImageResult<RootCopy> {
        let used = self.lock()?;
        let tree = self.tree_of_root(root)?;
        let folder = self.fresh_name("roots");
        let path = folder.join("root");
        for made in [&folder, &path] {
            DirBuilder::new()
                .mode(if made == &folder { 0o700 } else { 0o755 })
                .create(made)
                .map_err(refused(made))?;
        }
        let held = HeldRoot::of(path.clone()).map_err(refused(&path))?;
        let without: Vec<RootPath> = without
            .iter()
            .map(|path| path.as_bytes().to_vec())
            .collect();
        let mut copy = RootCopy {
            folder,
            held,
            tree,
            copied: HashMap::new(),
            whole_since: (0, 0),
            without,
            _used: used,
        };
        copy.fill(root, listener)?;
        Ok(copy)
    }
}

impl RootCopy {
    /// The root.
    pub fn root(&self) -> &HeldRoot {
        &self.held
    }

    fn is_without(&self, path: &[u8]) -> bool {
        let is_at = |other: &RootPath| {
            path.strip_prefix(other.as_slice())
                .is_some_and(|rest| rest.is_empty() || rest[0] == b'/')
        };
        self.without.iter().any(is_at)
    }

    fn fill(&mut self, from: &HeldRoot, listener: &dyn UnpackListener) -> ImageResult<()> {
        let open = |path: &Path| {
            let flags = OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC;
            rustix::fs::open(path, flags, Mode::empty()).map_err(|why| refused(path)(why.into()))
        };
        let (from, to) = (open(from.path())?, open(self.held.path())?);
        let mut copied = HashMap::new();
        for (number, (at, node)) in self.tree.nodes().enumerate() {
            if number % 256 == 0 && listener.is_stopped() {
                return Err(ImageProblem::Stopped);
            }
            if self.is_without(at) {
                continue;
            }
            let put = match node {
                TreeNode::Folder { .. } => {
                    rustix::fs::mkdirat(&to, at, Mode::RWXU).map_err(io::Error::from)
                }
                TreeNode::File(file) => {
                    let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
                    let opened =
                        rustix::fs::openat(&from, at, flags, Mode::empty()).map(File::from);
                    let copy = |from: File| crate::files::copy(from, file, &to, at);
                    opened.map_err(io::Error::from).and_then(copy).map(|found| {
                        copied.insert(at.to_vec(), identity(&found));
                    })
                }
                TreeNode::Link { target, time } => {
                    rustix::fs::symlinkat(target.as_slice(), &to, at)
                        .and_then(|()| {
                            rustix::fs::utimensat(&to, at, &times(*time), AtFlags::SYMLINK_NOFOLLOW)
                        })
                        .map_err(io::Error::from)
                }
            };
            put.map_err(|why| {
                ImageProblem::Machine(format!("{} cannot be copied: {why}", shown(at)))
            })?;
        }
        for (at, node) in self
            .tree
            .nodes()
            .rev()
            .filter(|(at, _)| !self.is_without(at))
        {
            if let TreeNode::Folder { mode, time } = node {
                // Commands there are their owner, who can change them anyway.
                let mode = Mode::from_raw_mode(*mode | 0o700);
                let set = rustix::fs::chmodat(&to, at, mode, AtFlags::empty())
                    .and_then(|()| rustix::fs::utimensat(&to, at, &times(*time), AtFlags::empty()));
                set.map_err(|why| refused(&self.folder)(why.into()))?;
            }
        }
        let mark = self.folder.join("copied");
        std::fs::write(&mark, "").map_err(refused(&mark))?;
        self.whole_since = identity(&mark.metadata().map_err(refused(&mark))?).1;
        self.copied = copied;
        Ok(())
    }

    /// Writes the layer that its changes are, as a tar: the same bytes for the same changes.
    ///
    /// # Errors
    /// When something there is nothing that a layer holds, or this machine refuses.
    pub fn write_changes(
        &self,
        to: &mut dyn Write,
        listener: &dyn UnpackListener,
    ) -> ImageResult<()> {
        let mut found = FoundChanges::default();
        self.look_at(&mut RootPath::new(), &mut found, listener)?;
        let mut changes = found.changes;
        self.leave_out_ways(&mut changes);
        self.add_gone(&mut changes)?;
        let mut tar = tar::Builder::new(to);
        for (at, change) in &changes {
            let put = self.put_change(&mut tar, at, change);
            put.map_err(|why| {
                ImageProblem::Machine(format!("{} cannot be packed: {why}", shown(at)))
            })?;
        }
        tar.finish()
            .map_err(|why| ImageProblem::Machine(format!("the layer cannot be written: {why}")))
    }

    /// What is new or another in a folder and below it.
    fn look_at(
        &self,
        folder: &mut RootPath,
        found: &mut FoundChanges,
        listener: &dyn UnpackListener,
    ) -> ImageResult<()> {
        let place = self.place(folder);
        let names = std::fs::read_dir(&place).and_then(|listed| {
            listed
                .map(|entry| entry.map(|entry| entry.file_name()))
                .collect::<io::Result<Vec<_>>>()
        });
        for name in names.map_err(refused(&place))? {
            if listener.is_stopped() {
                return Err(ImageProblem::Stopped);
            }
            let length = folder.len();
            if length > 0 {
                folder.push(b'/');
            }
            folder.extend_from_slice(name.as_bytes());
            if name.as_bytes().starts_with(GONE) {
                return bad(format!(
                    "the commands left {}: in a layer, such a name says that something is gone",
                    shown(folder)
                ));
            }
            if !self.is_without(folder) {
                self.look_at_one(folder, found, listener)?;
            }
            folder.truncate(length);
        }
        Ok(())
    }

    fn look_at_one(
        &self,
        at: &mut RootPath,
        found: &mut FoundChanges,
        listener: &dyn UnpackListener,
    ) -> ImageResult<()> {
        let place = self.place(at);
        let status = place.symlink_metadata().map_err(refused(&place))?;
        let before = self.tree.get(at);
        let mode = found.mode_of(&status);
        match FileType::from_raw_mode(status.mode()) {
            FileType::Directory => {
                if !matches!(before, Some(TreeNode::Folder { mode: before, .. }) if before | 0o700 == mode)
                {
                    found.changes.insert(at.clone(), RootChange::Folder(mode));
                }
                // It is ours, and goes once it was looked at.
                found
                    .open_up(&place, &status, 0o700)
                    .map_err(refused(&place))?;
                self.look_at(at, found, listener)?;
            }
            FileType::RegularFile => self.look_at_file(at, &status, found)?,
            FileType::Symlink => {
                let target = place
                    .read_link()
                    .map_err(refused(&place))?
                    .into_os_string()
                    .into_vec();
                if !matches!(before, Some(TreeNode::Link { target: before, .. }) if *before == target)
                {
                    found.changes.insert(at.clone(), RootChange::Link(target));
                }
            }
            kind => {
                let kind = match kind {
                    FileType::Fifo => "a pipe",
                    FileType::Socket => "a socket",
                    _ => "a device",
                };
                return bad(format!(
                    "the commands left {}, which is {kind}: no layer holds one",
                    shown(at)
                ));
            }
        }
        Ok(())
    }

    /// Finds out whether a file is another one than the image's.
    fn look_at_file(
        &self,
        at: &RootPath,
        status: &std::fs::Metadata,
        found: &mut FoundChanges,
    ) -> ImageResult<()> {
        let place = self.place(at);
        let known = self.copied.get(at);
        let known = known.filter(|(_, touched)| *touched < self.whole_since);
        if known.is_some_and(|known| *known == identity(status)) {
            return Ok(());
        }
        found
            .open_up(&place, status, 0o400)
            .map_err(refused(&place))?;
        let mode = found.mode_of(status);
        let attributes = attributes_of(&place).map_err(refused(&place))?;
        let is_same = match self.tree.get(at) {
            Some(TreeNode::File(before)) => {
                let mut open = File::open(&place).map_err(refused(&place))?;
                before.mode == mode
                    && before.size == status.len()
                    && before.attributes == attributes
                    && before.digest == Digest::of_open(&mut open).map_err(refused(&place))?
            }
            _ => false,
        };
        if !is_same {
            let change = RootChange::File {
                mode,
                size: status.len(),
                attributes,
            };
            found.changes.insert(at.clone(), change);
        }
        Ok(())
    }

    /// Leaves out folders that are there only because places of the sandbox are in them.
    fn leave_out_ways(&self, changes: &mut BTreeMap<RootPath, RootChange>) {
        for path in &self.without {
            let ways = path
                .iter()
                .enumerate()
                .filter(|(_, byte)| **byte == b'/')
                .map(|(end, _)| &path[..end]);
            for way in ways.collect::<Vec<_>>().into_iter().rev() {
                let inside = [way, b"/"].concat();
                let is_bare = !changes
                    .range(inside.clone()..)
                    .next()
                    .is_some_and(|(at, _)| at.starts_with(&inside));
                if self.tree.get(way).is_none() && is_bare {
                    changes.remove(way);
                }
            }
        }
    }

    /// What is not there any more: not again what is in a folder that is gone, or is none now.
    fn add_gone(&self, changes: &mut BTreeMap<RootPath, RootChange>) -> ImageResult<()> {
        let mut gone: HashSet<&[u8]> = HashSet::new();
        for (at, _) in self.tree.nodes().filter(|(at, _)| !self.is_without(at)) {
            let end = at.iter().rposition(|byte| *byte == b'/');
            if end.is_some_and(|end| gone.contains(&at[..end])) {
                gone.insert(at);
                continue;
            }
            match self.place(at).symlink_metadata() {
                Ok(found) if found.is_dir() => {}
                // What takes the place of a folder takes away all that was in it.
                Ok(_) => drop(gone.insert(at)),
                Err(why) if why.kind() == io::ErrorKind::NotFound => {
                    gone.insert(at);
                    changes.insert(at.to_vec(), RootChange::Gone);
                }
                Err(why) => return Err(refused(&self.place(at))(why)),
            }
        }
        Ok(())
    }

    fn put_change(
        &self,
        tar: &mut tar::Builder<&mut dyn Write>,
        at: &[u8],
        change: &RootChange,
    ) -> io::Result<()> {
        let mut header = tar::Header::new_gnu();
        header.set_uid(0);
        header.set_gid(0);
        header.set_mtime(TIME);
        header.set_size(0);
        let path = |at: &[u8]| PathBuf::from(std::ffi::OsString::from_vec(at.to_vec()));
        match change {
            RootChange::Folder(mode) => {
                header.set_entry_type(tar::EntryType::Directory);
                header.set_mode(*mode);
                tar.append_data(&mut header, path(at), io::empty())
            }
            RootChange::Link(target) => {
                header.set_entry_type(tar::EntryType::Symlink);
                header.set_mode(0o777);
                tar.append_link(&mut header, path(at), path(target))
            }
            RootChange::Gone => {
                let end = at
                    .iter()
                    .rposition(|byte| *byte == b'/')
                    .map_or(0, |end| end + 1);
                let name = [&at[..end], GONE, &at[end..]].concat();
                header.set_entry_type(tar::EntryType::Regular);
                header.set_mode(0o644);
                tar.append_data(&mut header, path(&name), io::empty())
            }
            RootChange::File {
                mode,
                size,
                attributes,
            } => {
                put_attributes(tar, attributes)?;
                header.set_entry_type(tar::EntryType::Regular);
                header.set_mode(*mode);
                header.set_size(*size);
                let file = File::open(self.place(at))?;
                // Never more than was said: somebody may still be writing.
                tar.append_data(
                    &mut header,
                    path(at),
                    io::BufReader::with_capacity(256 << 10, file).take(*size),
                )
            }
        }
    }

    fn place(&self, at: &[u8]) -> PathBuf {
        self.held.path().join(std::ffi::OsStr::from_bytes(at))
    }
}

/// Writes attributes of the file that comes next.
fn put_attributes(
    tar: &mut tar::Builder<&mut dyn Write>,
    attributes: &[(Vec<u8>, Vec<u8>)],
) -> io::Result<()> {
    let all = attributes.iter().map(|(name, value)| {
        let name = user_attribute(&String::from_utf8_lossy(name));
        (name, value.as_slice())
    });
    let records: Vec<(String, &[u8])> = all.collect();
    if records.is_empty() {
        return Ok(());
    }
    let borrowed = records.iter().map(|(name, value)| (name.as_str(), *value));
    tar.append_pax_extensions(borrowed)
}

impl Drop for RootCopy {
    fn drop(&mut self) {
        // What is left of it goes with what ended processes left.
        let _ = remove_root(&self.folder);
    }
}

fn identity(found: &std::fs::Metadata) -> FileIdentity {
    (found.ino(), (found.ctime(), found.ctime_nsec()))
}

/// Extended attributes of users, sorted by name.
fn attributes_of(file: &Path) -> io::Result<Vec<(Vec<u8>, Vec<u8>)>> {
    let mut names = vec![0u8; 64 << 10];
    let length = match rustix::fs::llistxattr(file, &mut names) {
        Ok(length) => length,
        Err(rustix::io::Errno::NOTSUP) => 0,
        Err(why) => return Err(why.into()),
    };
    let mut attributes = Vec::new();
    for name in names[..length]
        .split(|byte| *byte == 0)
        .filter(|name| name.starts_with(OF_USERS.as_bytes()))
    {
        let mut value = vec![0u8; 64 << 10];
        let length = rustix::fs::lgetxattr(file, name, &mut value)?;
        value.truncate(length);
        attributes.push((name.to_vec(), value));
    }
    attributes.sort();
    Ok(attributes)
}
