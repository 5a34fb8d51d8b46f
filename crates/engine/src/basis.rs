//! What results rest on of the machine, besides what identifies their steps: noted where others are
//! to use the results, and compared with another machine before it uses them.
//!
//! It is kept in parts, one a folder, as many steps rest on the same ones: each part is a content
//! of the cache.

use std::collections::BTreeMap;
use std::collections::HashSet;
use std::sync::Arc;

use nubrik_bytes::{Digest, Encoder, Layout, layout};
use nubrik_graph::StepId;
use nubrik_source::FilePath;
use nubrik_store::{Basis, FoundInput};

use crate::build::Build;
use crate::examine::Examined;
use crate::files::Began;
use crate::mismatch::RestMismatch;
use crate::seen::{Named, Seen, Touch};

/// Version of a part's byte layout.
const VERSION: u8 = 2;

/// Where sandboxes have files of their own: what is there on the machine is seen only where it
/// belongs to a tool.
const OF_SANDBOXES: [&str; 3] = ["/tmp", "/var/tmp", "/run"];

/// Files of the kernel by which runtimes set themselves up, and devices that are the same
/// everywhere. How many processors there are, and how much memory, is among it: results that depend
/// on these are found by running steps again elsewhere.
const OF_RUNTIMES: [&str; 17] = [
    "/dev/null",
    "/dev/zero",
    "/dev/full",
    "/dev/random",
    "/dev/urandom",
    "/dev/tty",
    "/dev/fd",
    "/dev/stdin",
    "/dev/stdout",
    "/dev/stderr",
    "/dev/shm",
    "/proc/self",
    "/proc/thread-self",
    "/proc/filesystems",
    "/sys/fs/cgroup",
    "/sys/devices/system/cpu",
    "/sys/kernel/mm/transparent_hugepage",
];

/// Files below /proc of which the same is true.
const SETTINGS: [&str; 6] = [
    "/proc/meminfo",
    "/proc/stat",
    "/proc/sys/vm",
    "/proc/sys/kernel/cap_last_cap",
    "/proc/cgroups",
    "/proc/sys/kernel/ngroups_max",
];

/// The list by which the loader finds libraries. It names all that are installed: what counts is
/// where those are that were asked for.
const LOADER_LIST: &str = "/etc/ld.so.cache";

/// A library that each list of the loader has.
const LIBC: &str = "libc.so.6";

/// What interprets programs, which the kernel opens itself.
const LOADERS: [&str; 2] = ["/lib64/ld-linux-x86-64.so.2", "/lib/ld-linux-aarch64.so.1"];

/// Permissions among the bits of a file's mode.
const PERMISSIONS: u32 = 0o7777;

/// What was found at a path of the machine, or asked of it.
#[derive(Clone, PartialEq, Eq, Debug)]
enum RestedOn {
    /// It was not there.
    Nothing,
    /// It was asked what it is: a file with these permissions, and of this size in bytes.
    File { permissions: u32, size: u64 },
    /// It was asked what it is: a folder with these permissions.
    Folder { permissions: u32 },
    /// Its content, and its permissions.
    Content { digest: Digest, permissions: u32 },
    /// The names in it, each with its kind, and its permissions.
    Names { digest: Digest, permissions: u32 },
    /// Where the loader's list has a library of this name; nowhere if it is empty.
    Loaded(Arc<str>),
}

layout!(enum RestedOn {
    0 => Nothing,
    1 => File { permissions, size },
    2 => Folder { permissions },
    3 => Content { digest, permissions },
    4 => Names { digest, permissions },
    5 => Loaded(path),
});

/// Something that is rested on.
#[derive(Clone, PartialEq, Eq, Debug)]
struct RestedRow {
    rest: RestedOn,
    /// The links on the way to it, itself among them, and their texts: commands can read these,
    /// too, and ask whether something is a link.
    way: Digest,
}

layout!(RestedRow { way, rest });

/// What is rested on in a folder, by name.
type BasisPart = BTreeMap<Arc<str>, RestedRow>;

/// All that is rested on, by folder.
#[derive(Default)]
struct BasisParts(BTreeMap<String, BasisPart>);

impl BasisParts {
    fn add(&mut self, path: &str, row: RestedRow) {
        let (folder, name) = path.rsplit_once('/').unwrap_or(("", path));
        self.0
            .entry(folder.to_owned())
            .or_default()
            .insert(name.into(), row);
    }
}

/// A part as it is kept: the folder, and what is rested on in it.
fn encode(folder: &str, part: &BasisPart) -> Vec<u8> {
    let mut out = Encoder::new();
    out.u8(VERSION);
    out.text(folder);
    part.write(&mut out);
    out.bytes
}

/// A part that was read: the folder, and what is rested on by name.
type ReadPart = (Arc<str>, Vec<(Arc<str>, RestedRow)>);

fn is_in(path: &str, folders: &[&str]) -> bool {
    folders.iter().any(|folder| {
        path.strip_prefix(folder)
            .is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
    })
}

/// A file of the process itself: others call it by its number.
fn is_of_process(path: &str) -> bool {
    path.strip_prefix("/proc/")
        .is_some_and(|rest| rest.starts_with(|c: char| c.is_ascii_digit()))
}

impl Build<'_> {
    /// What a result rests on, or why that cannot be said. `seen` is all that its commands did.
    pub(crate) fn basis_of(
        &self,
        id: StepId,
        now: &Examined,
        seen: Option<&Seen>,
        found: &[FoundInput],
        began: Began,
    ) -> Basis {
        if !self.options.notes_basis {
            return Basis::Unnoted;
        }
        match self.noted(id, now, seen, found, began) {
            Ok(parts) => Basis::Noted(parts),
            Err(why) => Basis::Unfit(why),
        }
    }

    fn noted(
        &self,
        id: StepId,
        now: &Examined,
        seen: Option<&Seen>,
        found: &[FoundInput],
        began: Began,
    ) -> Result<Vec<Digest>, Arc<str>> {
        if let Some(why) = self.unfit(id) {
            return Err(why.into());
        }
        if self.is_in_image(id) || self.graph.step(id).commands.is_empty() {
            return Ok(Vec::new());
        }
        let is_whole =
            |seen: &&Seen| !seen.incomplete && !seen.lacks_named && !seen.recording.only_workspace;
        let seen = seen.filter(is_whole);
        let seen = seen.ok_or("not all that its commands read could be seen")?;
        let counted = self.counted(now, found);
        let mut rests = BasisParts::default();
        for named in &seen.named {
            self.note_named(named, &counted, &mut rests, began)?;
        }
        for program in started_programs(seen) {
            let interpreters = self.outside.interpreters(&program);
            for interpreter in interpreters.iter().filter(|path| path.is_of_machine()) {
                let path = interpreter.as_str();
                if counted.contains(path) {
                    continue;
                }
                let found = self.outside.check(interpreter).is_some().then_some(false);
                if let Some(rest) = self.rest_at(path, Touch::Started, found, began)? {
                    let way = self.way_to(path);
                    rests.add(path, RestedRow { rest, way });
                }
            }
        }
        for loader in LOADERS {
            if self.outside.check(&FilePath::of_machine(loader)).is_some()
                && let Some(rest) = self.rest_at(loader, Touch::Started, Some(false), began)?
            {
                let way = self.way_to(loader);
                rests.add(loader, RestedRow { rest, way });
            }
        }
        let store = self.store.ok_or("nothing is kept")?;
        let mut kept: Vec<Digest> = Vec::new();
        for (folder, part) in &rests.0 {
            let kept_part = store.keep_bytes(&encode(folder, part));
            kept.push(kept_part.map_err(|e| Arc::from(e.to_string()))?);
        }
        kept.sort();
        Ok(kept)
    }

    /// Why the results of a step are of no use to others, whatever its commands do.
    fn unfit(&self, id: StepId) -> Option<&'static str> {
        let step = self.graph.step(id);
        let reasons = [
            (
                step.is_made_anywhere(),
                "nubrik makes it itself, from what is there",
            ),
            (step.limits.network, "it may use the network"),
            (!step.services.is_empty(), "it uses a service"),
            (
                !step.kept.is_empty(),
                "it finds something again that it kept the last time",
            ),
            (
                self.outside.sees_besides().is_some(),
                "its commands see more than they declare, as this machine makes no sandboxes",
            ),
        ];
        reasons
            .iter()
            .find(|(is_so, _)| *is_so)
            .map(|(_, why)| *why)
    }

    /// Notes what commands did with a path, if it matters.
    fn note_named(
        &self,
        named: &Named,
        counted: &HashSet<&str>,
        rests: &mut BasisParts,
        began: Began,
    ) -> Result<(), Arc<str>> {
        let path = &*named.path;
        let is_own = self.is_of_sandbox(path, named.folder) || is_of_process(path);
        if is_own || is_in(path, &OF_RUNTIMES) || is_in(path, &SETTINGS) {
            return Ok(());
        }
        if is_in(path, &["/proc", "/sys", "/dev"]) {
            return match named.touch == Touch::LookedUp || named.folder.is_none() {
                true => Ok(()),
                false => Err(format!("it reads {path}, which differs between machines").into()),
            };
        }
        if let Some((_, library)) = path
            .rsplit_once('/')
            .filter(|(_, name)| name.contains(".so"))
        {
            let from = self.outside.loaded_from(library).unwrap_or_default();
            let way = self.way_to(LOADER_LIST);
            rests.add(
                &format!("{LOADER_LIST}/{library}"),
                RestedRow {
                    rest: RestedOn::Loaded(from),
                    way,
                },
            );
        }
        // Where the list cannot be read in parts, all of it counts.
        let is_told = path == LOADER_LIST && self.outside.loaded_from(LIBC).is_some();
        if is_told || named.touch == Touch::Written || counted.contains(path) {
            return Ok(());
        }
        if let Some(rest) = self.rest_at(path, named.touch, named.folder, began)? {
            rests.add(
                path,
                RestedRow {
                    rest,
                    way: self.way_to(path),
                },
            );
        }
        Ok(())
    }

    /// Whether a path is one of the sandbox's own, such as a temporary file: the machine has
    /// nothing there, or nothing was found.
    fn is_of_sandbox(&self, path: &str, found: Option<bool>) -> bool {
        let is_there = || self.outside.check(&FilePath::of_machine(path)).is_some();
        is_in(path, &OF_SANDBOXES) && (found.is_none() || !is_there())
    }

    /// Paths of the machine that identify the step already.
    fn counted<'n>(&self, now: &'n Examined, found: &'n [FoundInput]) -> HashSet<&'n str> {
        let tools = now
            .tools
            .iter()
            .flat_map(|tool| &tool.parts)
            .map(|part| &**part);
        let inputs = now.parts.inputs.iter().map(|(path, _)| path.as_str());
        tools
            .chain(inputs)
            .chain(found.iter().map(|found| &*found.path))
            .collect()
    }

    /// What is to be noted of a path that commands used; nothing where the sandbox shows nothing to
    /// anybody.
    fn rest_at(
        &self,
        path: &str,
        touch: Touch,
        folder: Option<bool>,
        began: Began,
    ) -> Result<Option<RestedOn>, Arc<str>> {
        let file = FilePath::of_machine(path);
        let unreadable = |e: std::io::Error| {
            Arc::from(format!("{path}, which it read, cannot be read again: {e}"))
        };
        Ok(Some(match (folder, touch) {
            // Of what is there and was not to be seen, nobody sees anything in such a sandbox.
            (None, _) if self.outside.check(&file).is_some() => return Ok(None),
            (None, _) => RestedOn::Nothing,
            (Some(is_folder), touch) => {
                let gone = || Arc::from(format!("{path}, which it used, is gone"));
                let seen = self
                    .outside
                    .check(&file)
                    .filter(|seen| seen.is_folder() == is_folder);
                let seen = seen.ok_or_else(gone)?;
                // What was replaced meanwhile was another one for the commands.
                self.must_be_unmoved(&file, Some(began))
                    .or_else(|failure| if is_folder { Ok(()) } else { Err(failure) })
                    .map_err(|_| {
                        Arc::from(format!("{path}, which it used, changed while it ran"))
                    })?;
                let permissions = seen.mode & PERMISSIONS;
                match (is_folder, touch) {
                    (true, Touch::Read) => {
                        let digest = self.names_digest(path).map_err(unreadable)?;
                        RestedOn::Names {
                            digest,
                            permissions,
                        }
                    }
                    (true, _) => RestedOn::Folder { permissions },
                    (false, Touch::LookedUp) => RestedOn::File {
                        permissions,
                        size: seen.size,
                    },
                    (false, _) => {
                        match self.table.entry(self.outside, &file).map_err(unreadable)? {
                            Some(entry) => RestedOn::Content {
                                digest: entry.digest,
                                permissions,
                            },
                            None => return Err(gone()),
                        }
                    }
                }
            }
        }))
    }

    /// What identifies the links on the way to a path of the machine.
    fn way_to(&self, path: &str) -> Digest {
        let mut out = Encoder::new();
        out.list(&self.outside.links_of_machine(path), |out, (link, text)| {
            out.text(link);
            out.text(text);
        });
        Digest::of(&out.bytes)
    }

    fn names_digest(&self, folder: &str) -> std::io::Result<Digest> {
        let names = self.outside.names_in(folder)?;
        let mut out = Encoder::new();
        out.list(&names, |out, (name, kind)| {
            out.text(name);
            out.u32(*kind);
        });
        Ok(Digest::of(&out.bytes))
    }

    /// Whether this machine is as a result that was made elsewhere needs it.
    ///
    /// # Errors
    /// The first thing by which it is not, or by which that cannot be known.
    pub(crate) fn rests_here(&self, parts: &[Digest]) -> Result<(), RestMismatch> {
        for part in parts {
            let known = self.known.basis.lock().get(part).cloned();
            let differs = match known {
                Some(known) => known,
                None => {
                    let found = self.differing(part);
                    self.known.basis.lock().insert(*part, found.clone());
                    found
                }
            };
            if let Some(mismatch) = differs {
                return Err(mismatch);
            }
        }
        Ok(())
    }

    /// The first thing of a part by which this machine is another one.
    fn differing(&self, part: &Digest) -> Option<RestMismatch> {
        let read = self
            .store
            .and_then(|store| store.bytes(part))
            .and_then(|bytes| ReadPart::of_version(&bytes, VERSION).ok());
        let Some((folder, rows)) = read else {
            return Some(RestMismatch::NotHere);
        };
        let differs = |(name, row): &(Arc<str>, RestedRow)| !self.is_so(&folder, name, row);
        let other = rows.iter().find(|row| differs(row));
        other.map(|(name, _)| RestMismatch::Other(Arc::from(format!("{folder}/{name}"))))
    }

    fn is_so(&self, folder: &str, name: &str, RestedRow { rest, way }: &RestedRow) -> bool {
        if let RestedOn::Loaded(from) = rest {
            return self.way_to(LOADER_LIST) == *way
                && folder == LOADER_LIST
                && self.outside.loaded_from(name).unwrap_or_default() == *from;
        }
        let path = format!("{folder}/{name}");
        if !path.starts_with('/') || self.way_to(&path) != *way {
            return false;
        }
        let file = FilePath::of_machine(&path);
        let found = self.outside.check(&file);
        let has = |is_folder: bool, permissions: u32| {
            found.is_some_and(|found| {
                found.is_folder() == is_folder && found.mode & PERMISSIONS == permissions
            })
        };
        match *rest {
            RestedOn::Nothing => found.is_none(),
            RestedOn::File { permissions, size } => {
                has(false, permissions) && found.is_some_and(|found| found.size == size)
            }
            RestedOn::Folder { permissions } => has(true, permissions),
            RestedOn::Content {
                digest,
                permissions,
            } => {
                has(false, permissions)
                    && matches!(self.table.entry(self.outside, &file), Ok(Some(entry)) if entry.digest == digest)
            }
            RestedOn::Names {
                digest,
                permissions,
            } => {
                has(true, permissions)
                    && self.names_digest(&path).is_ok_and(|found| found == digest)
            }
            RestedOn::Loaded(_) => false,
        }
    }
}

/// The programs that commands started. What interprets them the kernel opens itself, as the first
/// lines of scripts and heads of programs say.
fn started_programs(seen: &Seen) -> impl Iterator<Item = FilePath> {
    let touched = seen.touched.iter();
    let of_workspace = touched
        .filter(|touched| touched.touch == Touch::Started)
        .filter_map(|touched| Some(FilePath::from(&touched.path.in_workspace()?)));
    let named = seen.named.iter();
    let of_machine = named
        .filter(|named| named.touch == Touch::Started)
        .map(|named| FilePath::of_machine(&named.path));
    of_workspace.chain(of_machine)
}
