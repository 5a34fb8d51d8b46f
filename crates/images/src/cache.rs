//! Images on this machine: layers that were read, and roots that are put together.
//!
//! ```text
//! v1/files/ab/cdef…     a file's content, with its permissions and time: layers and roots share it
//! v1/layers/METHOD-…    what a layer changes, by the digest of its tar
//! v1/roots/…/root       a root that is whole, by the digest of its tree
//! v1/roots/…/tree       the tree
//! v1/roots/…/whole      in which run of the machine all of it was written or checked
//! ```
//!
//! Everything appears whole, by a rename. Whoever uses a root holds a lock on its folder; whoever
//! puts one together, on `v1`. Both are gone with their process.

use std::fs::{DirBuilder, File, Permissions};
use std::io::{self, Read};
use std::os::unix::fs::{DirBuilderExt, MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

use nubrik_bytes::{Digest, Layout};
use rustix::fs::{AtFlags, FlockOperation, Mode, OFlags, ResolveFlags};

use crate::blobs::{Blobs, document_of};
use crate::checked::BlobDigest;
use crate::files::{FilePool, fresh_name, times};
use crate::layer::{UnpackListener, read_layer};
use crate::manifest::{
    BlobDescriptor, ConfigDocument, ImageChoice, IndexDocument, ManifestDocument, document,
};
use crate::problem::{ImageProblem, ImageResult, bad, refused};
use crate::statement::{RootStatement, variables};
use crate::tree::{ImageAmount, Layer, RootTree, TreeNode};

/// Version of a kept layer's bytes.
const LAYER_VERSION: u8 = 1;
/// Version of a kept tree's bytes: the one that its digest is of.
const TREE_VERSION: u8 = 1;

/// How many layers an image may have, and how deep lists of images may lie in one another.
const MOST_LAYERS: usize = 512;
const DEEPEST: usize = 4;

/// Images on this machine.
pub struct ImageCache {
    folder: PathBuf,
    files: FilePool,
}

/// A root on this machine, for as long as this is held.
pub struct HeldRoot {
    path: PathBuf,
    /// Held, so that nobody removes it.
    _lock: File,
}

/// What an image consists of, before its layers were read.
pub(crate) struct ImageParts {
    pub manifest: BlobDescriptor,
    pub config: BlobDescriptor,
    /// Layers, each with the digest of its tar.
    pub layers: Vec<(BlobDescriptor, BlobDigest)>,
    pub env: Vec<(String, String)>,
}

impl ImageCache {
    /// The cache in a folder, made if it is not there.
    ///
    /// # Errors
    /// When it cannot be made, or others may write to it.
    pub fn open(folder: &Path) -> ImageResult<ImageCache> {
        let folder = folder.join("v1");
        for inner in [
            folder.clone(),
            folder.join("files"),
            folder.join("layers"),
            folder.join("roots"),
        ] {
            let made = DirBuilder::new().recursive(true).mode(0o700).create(&inner);
            made.map_err(refused(&inner))?;
        }
        let found = folder.metadata().map_err(refused(&folder))?;
        if found.uid() != rustix::process::geteuid().as_raw() || found.mode() & 0o022 != 0 {
            let place = folder.display();
            return Err(ImageProblem::Machine(format!(
                "{place} belongs to others, or others may write to it"
            )));
        }
        let files = FilePool::open(&folder.join("files"))?;
        Ok(ImageCache { folder, files })
    }

    /// What an image is, as steps see it. Layers that were not read yet are.
    ///
    /// # Errors
    /// When the image is damaged or refused, or this machine cannot unpack it.
    pub fn statement(
        &self,
        blobs: &dyn Blobs,
        choice: &ImageChoice,
        listener: &dyn UnpackListener,
    ) -> ImageResult<RootStatement> {
        let _used = self.lock()?;
        self.tree_of(blobs, choice, listener, true)
            .map(|(_, statement)| statement)
    }

    /// The root that a statement names: one that is there, or put together from an image.
    ///
    /// # Errors
    /// The same, and when the image is another one now.
    pub fn root(
        &self,
        statement: &RootStatement,
        listener: &dyn UnpackListener,
        image: impl Fn() -> ImageResult<(Box<dyn Blobs>, ImageChoice)>,
    ) -> ImageResult<HeldRoot> {
        if let Some(root) = self.known(statement.tree(), listener)? {
            return Ok(root);
        }
        let _used = self.lock()?;
        let (blobs, choice) = image()?;
        for may_trust in [true, false] {
            let (tree, found) = self.tree_of(&*blobs, &choice, listener, may_trust)?;
            if found != *statement {
                return bad("the image is another one than the one that was asked for");
            }
            match self.make_root(statement.tree(), &tree, listener) {
                // Its contents were removed in the meantime.
                Err(why) if may_trust && why.kind() == io::ErrorKind::NotFound => {}
                Err(_) if listener.is_stopped() => return Err(ImageProblem::Stopped),
                Err(why) => return Err(refused(&self.folder)(why)),
                Ok(()) => break,
            }
        }
        let root = self.known(statement.tree(), listener)?;
        root.ok_or_else(|| {
            ImageProblem::Machine(format!("{}: the root is gone again", self.folder.display()))
        })
    }

    /// The root that a statement names, if it is on this machine and whole.
    ///
    /// # Errors
    /// When this machine refuses.
    pub fn held(
        &self,
        statement: &RootStatement,
        listener: &dyn UnpackListener,
    ) -> ImageResult<Option<HeldRoot>> {
        self.known(statement.tree(), listener)
    }

    /// Held while something is put together here.
    pub(crate) fn lock(&self) -> ImageResult<File> {
        let lock = File::open(&self.folder).map_err(refused(&self.folder))?;
        let held = rustix::fs::flock(&lock, FlockOperation::LockShared).map_err(io::Error::from);
        held.map(|()| lock).map_err(refused(&self.folder))
    }

    /// The tree of an image. `may_trust`: layers that were read before are not read again.
    fn tree_of(
        &self,
        blobs: &dyn Blobs,
        choice: &ImageChoice,
        listener: &dyn UnpackListener,
        may_trust: bool,
    ) -> ImageResult<(RootTree, RootStatement)> {
        let ImageParts {
            manifest: _,
            config: _,
            layers,
            env,
        } = parts_of(blobs, choice)?;
        let mut tree = RootTree::default();
        for (layer, unpacked) in layers {
            let (method, digits) = unpacked.parts();
            let kept = self
                .folder
                .join("layers")
                .join(format!("{method}-{digits}"));
            let known = std::fs::read(&kept).ok().filter(|_| may_trust);
            let known =
                known.and_then(|bytes| Layer::of_version(whole(&bytes)?, LAYER_VERSION).ok());
            let layer = match known {
                Some(layer) => {
                    let now = rustix::fs::Timestamps {
                        last_access: now(),
                        last_modification: now(),
                    };
                    let _ = rustix::fs::utimensat(rustix::fs::CWD, &kept, &now, AtFlags::empty());
                    layer
                }
                None => {
                    let read = read_layer(blobs, &layer, &unpacked, &self.files, listener)?;
                    let bytes = read.to_version(LAYER_VERSION);
                    let bytes = [Digest::of(&bytes).0.as_slice(), &bytes].concat();
                    self.write_whole(&kept, &bytes).map_err(refused(&kept))?;
                    read
                }
            };
            tree.lay_over(&layer)?;
        }
        let statement = RootStatement::new(&tree.digest(), tree.amount(), env);
        Ok((tree, statement))
    }

    pub(crate) fn fresh_name(&self, folder: &str) -> PathBuf {
        self.folder.join(folder).join(fresh_name())
    }

    fn write_whole(&self, path: &Path, bytes: &[u8]) -> io::Result<()> {
        let temporary = self.fresh_name("layers");
        let written =
            std::fs::write(&temporary, bytes).and_then(|()| std::fs::rename(&temporary, path));
        written.inspect_err(|_| drop(std::fs::remove_file(&temporary)))
    }

    /// Puts a root together.
    fn make_root(
        &self,
        name: &str,
        tree: &RootTree,
        listener: &dyn UnpackListener,
    ) -> io::Result<()> {
        let temporary = self.fresh_name("roots");
        let made = self.fill_root(&temporary, tree, listener);
        let made = made.and_then(|()| {
            match std::fs::rename(&temporary, self.folder.join("roots").join(name)) {
                // Somebody else made the same one meanwhile.
                Err(why)
                    if matches!(
                        why.kind(),
                        io::ErrorKind::AlreadyExists | io::ErrorKind::DirectoryNotEmpty
                    ) =>
                {
                    Ok(())
                }
                renamed => renamed,
            }
        });
        // What is left of it where that failed, or was not wanted.
        let _ = remove_root(&temporary);
        made
    }

    fn fill_root(
        &self,
        at: &Path,
        tree: &RootTree,
        listener: &dyn UnpackListener,
    ) -> io::Result<()> {
        DirBuilder::new().mode(0o700).create(at)?;
        let path = at.join("root");
        DirBuilder::new().mode(0o755).create(&path)?;
        let root = File::open(&path)?;
        for (number, (at, node)) in tree.nodes().enumerate() {
            if number % 256 == 0 && listener.is_stopped() {
                return Err(io::Error::other("it was stopped"));
            }
            match node {
                TreeNode::Folder { .. } => rustix::fs::mkdirat(&root, at, Mode::RWXU)?,
                TreeNode::File(file) => self.files.put(file, &root, at)?,
                TreeNode::Link { target, time } => {
                    rustix::fs::symlinkat(target.as_slice(), &root, at)?;
                    rustix::fs::utimensat(&root, at, &times(*time), AtFlags::SYMLINK_NOFOLLOW)?;
                }
            }
        }
        // What is in a folder changes its time, and needs the permission to write.
        for (at, node) in tree.nodes().rev() {
            if let TreeNode::Folder { mode, time } = node {
                rustix::fs::chmodat(&root, at, Mode::from_raw_mode(*mode), AtFlags::empty())?;
                rustix::fs::utimensat(&root, at, &times(*time), AtFlags::empty())?;
            }
        }
        std::fs::write(at.join("tree"), tree.to_version(TREE_VERSION))?;
        std::fs::write(at.join("whole"), run_of_machine())
    }

    /// A root that is there and whole.
    fn known(&self, name: &str, listener: &dyn UnpackListener) -> ImageResult<Option<HeldRoot>> {
        let folder = self.folder.join("roots").join(name);
        let Ok(lock) = File::open(&folder) else {
            return Ok(None);
        };
        rustix::fs::flock(&lock, FlockOperation::LockShared)
            .map_err(|why| refused(&folder)(why.into()))?;
        // Whoever removed it held the lock before.
        if !folder.join("whole").is_file() {
            return Ok(None);
        }
        let this_run = run_of_machine();
        let whole = folder.join("whole");
        if std::fs::read_to_string(&whole).is_ok_and(|written| written != this_run) {
            // The machine may have stopped before all of it was on the disk.
            match self.check_root(&folder, name, listener) {
                Ok(true) => std::fs::write(&whole, this_run).map_err(refused(&whole))?,
                Ok(false) => {
                    drop(lock);
                    let _ = self.remove(&folder);
                    return Ok(None);
                }
                Err(why) => return Err(why),
            }
        } else {
            let now = rustix::fs::Timestamps {
                last_access: now(),
                last_modification: now(),
            };
            let _ = rustix::fs::utimensat(rustix::fs::CWD, &whole, &now, AtFlags::empty());
        }
        Ok(Some(HeldRoot {
            path: folder.join("root"),
            _lock: lock,
        }))
    }

    /// Whether all that a root is to have is there. The content of a file that is damaged is
    /// removed from those that are kept.
    fn check_root(
        &self,
        folder: &Path,
        name: &str,
        listener: &dyn UnpackListener,
    ) -> ImageResult<bool> {
        let Ok(bytes) = std::fs::read(folder.join("tree")) else {
            return Ok(false);
        };
        if Digest::of(&bytes).hex() != name {
            return Ok(false);
        }
        let Ok(tree) = RootTree::of_version(&bytes, TREE_VERSION) else {
            return Ok(false);
        };
        let root = File::open(folder.join("root")).map_err(refused(folder))?;
        let mut is_whole = true;
        for (at, node) in tree.nodes() {
            if listener.is_stopped() {
                return Err(ImageProblem::Stopped);
            }
            let TreeNode::File(file) = node else {
                is_whole &= has_folder_or_link(&root, at, node);
                continue;
            };
            let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::CLOEXEC | OFlags::NONBLOCK;
            let opened = rustix::fs::openat(&root, at, flags, Mode::empty()).map(File::from);
            let is_same = match opened {
                Ok(mut opened) => {
                    Digest::of_open(&mut opened).is_ok_and(|digest| digest == file.digest)
                }
                // Nobody may read it: its size is all that can be compared.
                Err(rustix::io::Errno::ACCESS) => {
                    rustix::fs::statat(&root, at, AtFlags::SYMLINK_NOFOLLOW)
                        .is_ok_and(|found| found.st_size as u64 == file.size)
                }
                Err(_) => false,
            };
            if !is_same {
                let _ = std::fs::remove_file(self.files.path_of(file));
                is_whole = false;
            }
        }
        Ok(is_whole)
    }

    /// What is in a root.
    pub(crate) fn tree_of_root(&self, root: &HeldRoot) -> ImageResult<RootTree> {
        let statement = root.path.with_file_name("tree");
        let bytes = std::fs::read(&statement).map_err(refused(&statement))?;
        match RootTree::of_version(&bytes, TREE_VERSION) {
            Ok(tree) => Ok(tree),
            Err(_) => bad(format!("{} is damaged", statement.display())),
        }
    }

    /// Removes a root that nobody uses.
    fn remove(&self, folder: &Path) -> io::Result<bool> {
        let Ok(lock) = File::open(folder) else {
            return Ok(false);
        };
        if rustix::fs::flock(&lock, FlockOperation::NonBlockingLockExclusive).is_err() {
            return Ok(false);
        }
        let aside = self.fresh_name("roots");
        std::fs::rename(folder, &aside)?;
        remove_root(&aside).map(|()| true)
    }

    /// Removes roots and layers that nobody used for some time, and contents that no root has any
    /// more. Gives how much went.
    ///
    /// # Errors
    /// When this machine refuses.
    pub fn prune(&self, unused: Duration) -> ImageResult<ImageAmount> {
        let lock = File::open(&self.folder).map_err(refused(&self.folder))?;
        if rustix::fs::flock(&lock, FlockOperation::NonBlockingLockExclusive).is_err() {
            // Somebody puts a root together just now, of contents that no root has yet.
            return Ok(ImageAmount::default());
        }
        let is_old = |path: &Path| {
            let time = path.metadata().and_then(|found| found.modified()).ok();
            time.and_then(|time| SystemTime::now().duration_since(time).ok())
                .is_some_and(|age| age >= unused)
        };
        let roots = self.folder.join("roots");
        for folder in entries(&roots).map_err(refused(&roots))? {
            let is_left_over = folder
                .file_name()
                .is_some_and(|name| name.to_string_lossy().starts_with('.'));
            if is_left_over {
                remove_root(&folder).map_err(refused(&folder))?;
            } else if is_old(&folder.join("whole")) {
                self.remove(&folder).map_err(refused(&folder))?;
            }
        }
        let layers = self.folder.join("layers");
        for layer in entries(&layers).map_err(refused(&layers))? {
            if is_old(&layer) {
                let _ = std::fs::remove_file(&layer);
            }
        }
        let mut amount = ImageAmount::default();
        let files = self.folder.join("files");
        for inner in entries(&files).map_err(refused(&files))? {
            let listed = if inner.is_dir() {
                entries(&inner).map_err(refused(&inner))?
            } else {
                vec![inner]
            };
            for file in listed {
                let Ok(found) = file.symlink_metadata() else {
                    continue;
                };
                if found.is_file() && found.nlink() == 1 && std::fs::remove_file(&file).is_ok() {
                    amount = amount.with(found.len());
                }
            }
        }
        Ok(amount)
    }

    /// Removes what nobody used for some time, at most once a day.
    ///
    /// # Errors
    /// When this machine refuses.
    pub fn look_after(&self, unused: Duration) -> ImageResult<()> {
        const DAY: Duration = Duration::from_secs(24 * 3600);
        let stamp = self.folder.join("looked-after");
        let looked = stamp.metadata().and_then(|found| found.modified());
        if looked.is_ok_and(|time| time.elapsed().is_ok_and(|age| age < DAY)) {
            return Ok(());
        }
        std::fs::write(&stamp, "").map_err(refused(&stamp))?;
        self.prune(unused).map(drop)
    }

    /// Compares all roots with their digests. One that is damaged is removed, and made again when
    /// it is needed: gives which.
    ///
    /// # Errors
    /// When this machine refuses.
    pub fn verify(&self, listener: &dyn UnpackListener) -> ImageResult<Vec<PathBuf>> {
        let roots = self.folder.join("roots");
        let mut damaged = Vec::new();
        for folder in entries(&roots).map_err(refused(&roots))? {
            let name = folder
                .file_name()
                .unwrap_or_default()
                .to_string_lossy()
                .into_owned();
            if name.starts_with('.') || self.check_root(&folder, &name, listener)? {
                continue;
            }
            self.remove(&folder).map_err(refused(&folder))?;
            damaged.push(folder);
        }
        Ok(damaged)
    }

    /// How much there is for roots: each content once.
    ///
    /// # Errors
    /// When this machine refuses.
    pub fn amount(&self) -> ImageResult<ImageAmount> {
        let mut amount = ImageAmount::default();
        let files = self.folder.join("files");
        for inner in entries(&files).map_err(refused(&files))? {
            for file in entries(&inner).unwrap_or_default() {
                let Ok(found) = file.symlink_metadata() else {
                    continue;
                };
                amount = amount.with(found.len());
            }
        }
        Ok(amount)
    }
}

/// What an image consists of.
pub(crate) fn parts_of(blobs: &dyn Blobs, choice: &ImageChoice) -> ImageResult<ImageParts> {
    let index = blobs.index()?;
    let mut listed: IndexDocument = document("index.json", &index)?;
    let mut by_name = true;
    let mut manifest = None;
    for _ in 0..DEEPEST {
        let chosen = choice.of(&listed.manifests, by_name)?.clone();
        let bytes = document_of(blobs, &chosen)?;
        if !chosen.is_index() {
            manifest = Some((
                chosen,
                document::<ManifestDocument>("the manifest", &bytes)?,
            ));
            break;
        }
        listed = document("a list of images", &bytes)?;
        by_name = false;
    }
    let Some((described, manifest)) = manifest else {
        return bad("lists of images lead to one another");
    };
    let bytes = document_of(blobs, &manifest.config)?;
    let config: ConfigDocument = document("the configuration", &bytes)?;
    choice.check(&config)?;
    let unpacked = config.rootfs.diff_ids;
    if unpacked.len() != manifest.layers.len() || unpacked.len() > MOST_LAYERS {
        let (layers, said) = (manifest.layers.len(), unpacked.len());
        return bad(format!(
            "it has {layers} layers, and its configuration names {said} ({MOST_LAYERS} at most)"
        ));
    }
    let layers = manifest
        .layers
        .into_iter()
        .zip(unpacked)
        .map(|(layer, unpacked)| match BlobDigest::parse(&unpacked) {
            Some(digest) => Ok((layer, digest)),
            None => bad(format!("{unpacked:?} is no digest of a layer")),
        });
    let env = config.config.unwrap_or_default().env.unwrap_or_default();
    Ok(ImageParts {
        manifest: described,
        config: manifest.config,
        layers: layers.collect::<ImageResult<_>>()?,
        env: variables(&env)?,
    })
}

impl HeldRoot {
    /// A folder as a root that nobody else has.
    pub(crate) fn of(path: PathBuf) -> io::Result<HeldRoot> {
        let lock = File::open(&path)?;
        Ok(HeldRoot { path, _lock: lock })
    }

    /// The folder that is the root.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// The path at which a program is found in the root, by its name or absolute path: the first
    /// folder that has it.
    pub fn program(&self, name: &str, folders: &[String]) -> Option<String> {
        let is_program = |path: &str| {
            self.open(path).is_some_and(|file| {
                file.metadata()
                    .is_ok_and(|found| found.is_file() && found.mode() & 0o111 != 0)
            })
        };
        if name.starts_with('/') {
            return is_program(name).then(|| name.to_owned());
        }
        let paths = folders
            .iter()
            .map(|folder| format!("{}/{name}", folder.trim_end_matches('/')));
        paths.into_iter().find(|path| is_program(path))
    }

    /// What is at a path of the root, links followed and none of them out of it; not to be read.
    fn open(&self, path: &str) -> Option<File> {
        self.open_as(path, OFlags::PATH).ok()
    }

    fn open_as(&self, path: &str, how: OFlags) -> rustix::io::Result<File> {
        let root = rustix::fs::open(
            &self.path,
            OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC,
            Mode::empty(),
        )?;
        // The kernel refuses flags here that mean nothing for a path alone.
        let wait = if how.contains(OFlags::PATH) {
            OFlags::empty()
        } else {
            OFlags::NONBLOCK
        };
        let flags = how | OFlags::CLOEXEC | wait;
        let path = path.trim_start_matches('/');
        let path = if path.is_empty() { "." } else { path };
        rustix::fs::openat2(&root, path, flags, Mode::empty(), ResolveFlags::IN_ROOT)
            .map(File::from)
    }

    /// A file's content, links followed and none of them out of the root; `None` where there is
    /// none of at most so many bytes.
    pub fn read(&self, path: &str, most: u64) -> Option<Vec<u8>> {
        let file = self.open_as(path, OFlags::RDONLY).ok()?;
        let found = file
            .metadata()
            .ok()
            .filter(|found| found.is_file() && found.len() <= most)?;
        let mut bytes = Vec::with_capacity(found.len() as usize);
        file.take(most).read_to_end(&mut bytes).ok()?;
        Some(bytes)
    }

    /// The names in a folder of the root; none where there is no such folder.
    pub fn names(&self, folder: &str) -> Vec<String> {
        let Ok(folder) = self.open_as(folder, OFlags::RDONLY | OFlags::DIRECTORY) else {
            return Vec::new();
        };
        let Ok(listed) = rustix::fs::Dir::read_from(&folder) else {
            return Vec::new();
        };
        let names = listed
            .flatten()
            .filter_map(|entry| entry.file_name().to_str().ok().map(str::to_owned));
        let mut names: Vec<String> = names.filter(|name| name != "." && name != "..").collect();
        names.sort();
        names
    }
}

/// What follows its own digest, if it has that.
/// Whether a folder or a link is at a place of a root. One in a folder that nobody may search is
/// not seen by steps either.
fn has_folder_or_link(root: &File, at: &[u8], node: &TreeNode) -> bool {
    let found = match node {
        TreeNode::Folder { mode, .. } => rustix::fs::statat(root, at, AtFlags::SYMLINK_NOFOLLOW)
            .map(|found| {
                let is_folder = rustix::fs::FileType::from_raw_mode(found.st_mode).is_dir();
                is_folder && found.st_mode & 0o7777 == *mode
            }),
        TreeNode::Link { target, .. } => rustix::fs::readlinkat(root, at, Vec::new())
            .map(|found| found.as_bytes() == target.as_slice()),
        TreeNode::File(_) => Ok(true),
    };
    match found {
        Ok(is_same) => is_same,
        Err(why) => why == rustix::io::Errno::ACCESS,
    }
}

fn whole(bytes: &[u8]) -> Option<&[u8]> {
    let (digest, rest) = bytes.split_at_checked(32)?;
    (Digest::of(rest).0 == digest).then_some(rest)
}

fn entries(folder: &Path) -> io::Result<Vec<PathBuf>> {
    std::fs::read_dir(folder)?
        .map(|entry| Ok(entry?.path()))
        .collect()
}

fn now() -> rustix::fs::Timespec {
    rustix::fs::Timespec {
        tv_sec: 0,
        tv_nsec: rustix::fs::UTIME_NOW,
    }
}

/// What tells this run of the machine from others.
fn run_of_machine() -> String {
    std::fs::read_to_string("/proc/sys/kernel/random/boot_id").unwrap_or_default()
}

/// Removes a root, or what is left of one: folders in it may not be written to.
pub(crate) fn remove_root(folder: &Path) -> io::Result<()> {
    let Ok(found) = folder.symlink_metadata() else {
        return Ok(());
    };
    if !found.is_dir() {
        return std::fs::remove_file(folder);
    }
    let mut open = vec![folder.to_owned()];
    while let Some(folder) = open.pop() {
        std::fs::set_permissions(&folder, Permissions::from_mode(0o700))?;
        for entry in std::fs::read_dir(&folder)? {
            let entry = entry?;
            if entry.file_type()?.is_dir() {
                open.push(entry.path());
            }
        }
    }
    std::fs::remove_dir_all(folder)
}
