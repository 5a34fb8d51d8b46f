//! Sandboxes: views of the machine in which commands see what they declare, and nothing else. What
//! is not there cannot be read, asked about, changed or listed, by whatever call.
//!
//! A sandbox has the system's folders, the workspace at [`ROOT`] with only what was put there, an
//! empty folder for temporary files, devices that have nothing to tell, and processes and a network
//! of its own. Where the kernel does not let this user make sandboxes, [`crate::RuleSet`] is what
//! there is instead.

use parking_lot::{Mutex, MutexGuard};
use rustix::fs::{Mode, OFlags};
use std::collections::{BTreeMap, HashSet};
use std::ffi::{CStr, CString};
use std::io;
use std::os::fd::OwnedFd;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::MetadataExt;
use std::path::{Component, Path, PathBuf};
use std::sync::Arc;
use std::thread::JoinHandle;

use crate::furnish::{Contents, LaidOut, NO_DEVICES, NO_SETUID, Plan, Planned, READ_ONLY, ROOT};
use crate::identities::{Identities, Identity, Look};
use crate::networks::{Loopback, OwnNetwork};
use crate::rules::{DEVICES, READABLE};
use crate::sys::{self, SandboxHandle, TemplateHandle};

/// The folder for temporary files in a sandbox, and the home of its processes: both empty.
pub const TEMPORARY: &str = "/tmp/own";
/// See [`TEMPORARY`].
pub const HOME: &str = "/tmp/home";

/// What the machine is called in a sandbox.
const NAME: &CStr = c"nubrik";

/// Who commands are in a sandbox: `nobody`, nearly everywhere.
const NOBODY: u32 = 65534;

/// The whole machine, while what all sandboxes begin from is laid out.
const MACHINE: &str = "/.all";
/// The same in a view that began in that of another template.
const MACHINE_BELOW: &str = "/.all/.all";
/// How a process that lays out a template finds its own namespaces, by the machine's view of
/// processes.
const OWN: [&CStr; 3] = [
    c"/.all/proc/self/ns/user",
    c"/.all/proc/self/ns/mnt",
    c"/proc/self/ns/mnt",
];
const OWN_BELOW: [&CStr; 3] = [
    c"/.all/.all/proc/self/ns/user",
    c"/.all/.all/proc/self/ns/mnt",
    c"/proc/self/ns/mnt",
];
/// What sandboxes may take, hidden in each behind an empty folder from those who are in it.
const SOURCES: &str = "/.in";
const NOTHING: &str = "/.none";
/// A file that nobody may open, in the place of files that are some people's only.
const CLOSED: &str = "/.closed";
/// The machine's settings: keys and passwords are among them.
const SETTINGS: &str = "/etc";
/// The workspace among the sources.
const WORKSPACE: &str = "/.in/workspace";

/// How many sandboxes are kept to be used again.
const KEPT: usize = 64;

/// What all sandboxes of a workspace begin from, and sandboxes that no one is in.
pub struct Sandboxes {
    template: TemplateHandle,
    /// Whether they show only what each process is of the kernel's files about processes and
    /// itself.
    hides_kernel: bool,
    /// Where the machine is seen while more of it is taken.
    machine: &'static str,
    /// Whether commands may change the root.
    is_changed: bool,
    workspace: OwnedFd,
    /// Which files of the workspace are where.
    identities: Identities,
    /// What was taken of the machine besides the workspace.
    taken: Mutex<AllTaken>,
    /// Where the last command that was in it has ended. The last in this list was used last.
    empty: Mutex<Vec<Sandbox>>,
    /// Networks in which nothing was sent yet, for sandboxes that are to be made.
    loopbacks: Mutex<Vec<Loopback>>,
    /// The last that goes.
    ending: EndingSandboxes,
}

/// Sandboxes that end while all that they began from is given back. The kernel takes some
/// milliseconds for each of these, in which it mostly waits.
#[derive(Default)]
struct EndingSandboxes(Option<JoinHandle<()>>);

impl Drop for EndingSandboxes {
    fn drop(&mut self) {
        if let Some(thread) = self.0.take() {
            let _ = thread.join();
        }
    }
}

impl Drop for Sandboxes {
    fn drop(&mut self) {
        let empty = std::mem::take(self.empty.get_mut());
        empty
            .iter()
            .for_each(|sandbox| sandbox.handle.begin_to_end());
        if !empty.is_empty() {
            self.ending.0 = std::thread::Builder::new().spawn(move || drop(empty)).ok();
        }
    }
}

#[derive(Default)]
struct AllTaken {
    by_path: BTreeMap<PathBuf, HeldFile>,
    count: usize,
}

/// Something that was taken of the machine.
#[derive(Clone, Copy)]
struct HeldFile {
    /// Its name among the sources.
    number: usize,
    folder: bool,
    /// Which file it was: another one may be in its place later.
    identity: Identity,
}

/// Something in a sandbox.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum SandboxPlace<'a> {
    /// A file of the workspace, to be read.
    File(&'a str),
    /// A folder of the workspace with all that is in it, to be read.
    Folder(&'a str),
    /// A folder of the workspace to write to.
    Own(&'a str),
    /// An empty folder.
    Empty(&'a str),
    /// A link in the workspace, and where it leads.
    Link(&'a str, &'a str),
    /// In the workspace at this path, a file of the machine: where a link leads out.
    Outside(&'a str, &'a Path),
    /// A file or folder of the machine at its own path, to be read.
    Machine(&'a Path),
    /// The same, to be read and written: a terminal.
    Terminal(&'a Path),
}

/// Files, folders and links of the workspace that many sandboxes show: they are laid out once, as
/// long as nothing is made, removed or renamed in the folders around them.
#[derive(Default)]
pub struct CommonPlaces {
    files: Vec<Arc<str>>,
    folders: Vec<Arc<str>>,
    /// Each with where it leads.
    links: Vec<(Arc<str>, Arc<str>)>,
    laid: Mutex<Option<Arc<LaidOut>>>,
}

impl CommonPlaces {
    /// Files, folders with all that is in them, and links.
    pub fn new(
        files: Vec<Arc<str>>,
        folders: Vec<Arc<str>>,
        links: Vec<(Arc<str>, Arc<str>)>,
    ) -> CommonPlaces {
        CommonPlaces {
            files,
            folders,
            links,
            laid: Mutex::default(),
        }
    }

    /// All of them.
    pub fn places(&self) -> impl Iterator<Item = SandboxPlace<'_>> {
        let files = self.files.iter().map(|path| SandboxPlace::File(path));
        let folders = self.folders.iter().map(|path| SandboxPlace::Folder(path));
        files.chain(folders).chain(
            self.links
                .iter()
                .map(|(path, to)| SandboxPlace::Link(path, to)),
        )
    }
}

/// What is to be in a sandbox: what many have, if there is that, and what only this one has.
pub type AllPlaces<'p> = (Option<&'p CommonPlaces>, &'p [SandboxPlace<'p>]);

/// What a sandbox has of its own besides what is seen in it.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct SandboxKind {
    /// Whether it has numbers of processes of its own. Without them the terminal's job control
    /// works.
    pub own_processes: bool,
    /// Whether it has memory and queues of its own that processes share.
    pub own_memory: bool,
}

/// A sandbox in which commands can run. Dropping it ends all that runs there, and waits for that.
pub struct Sandbox {
    handle: SandboxHandle,
    kind: SandboxKind,
    contents: Contents,
    /// What is to be done there before the first command starts.
    pending: Mutex<Option<Plan>>,
    /// How many things had been taken of the machine when it was made.
    taken: usize,
    /// The network of commands that use no other one; `/proc/net` says nothing of the machine's
    /// connections there.
    loopback: Loopback,
}

/// A path of the machine, seen while the first template is laid out.
fn on_machine(path: &Path) -> Vec<u8> {
    [MACHINE.as_bytes(), path.as_os_str().as_bytes()].concat()
}

/// Begins a new user's view, and shows the machine's system.
fn begin(first: &mut Plan, workspace: &Path) -> io::Result<()> {
    let (user, group) = (
        rustix::process::geteuid().as_raw(),
        rustix::process::getegid().as_raw(),
    );
    first.write("/proc/self/setgroups", "deny")?;
    first.write("/proc/self/uid_map", &format!("{NOBODY} {user} 1"))?;
    first.write("/proc/self/gid_map", &format!("{NOBODY} {group} 1"))?;
    first.orders.push(Planned::Private);
    // Any folder would do that is there everywhere and that no workspace lies in.
    first.memory("/proc", "mode=755")?;
    first.folder(format!("/proc{MACHINE}"))?;
    let pivot = Planned::Pivot(first.text("/proc")?, first.text(format!("/proc{MACHINE}"))?);
    first.orders.push(pivot);
    first.folder(NOTHING)?;
    show_system(first, workspace)
}

/// Begins a new user's view, in which that user is the superuser, with a folder as its root, which
/// commands may change.
fn begin_in_copy(first: &mut Plan, root: &Path) -> io::Result<()> {
    let (user, group) = (
        rustix::process::geteuid().as_raw(),
        rustix::process::getegid().as_raw(),
    );
    first.write("/proc/self/setgroups", "deny")?;
    first.write("/proc/self/uid_map", &format!("0 {user} 1"))?;
    first.write("/proc/self/gid_map", &format!("0 {group} 1"))?;
    first.orders.push(Planned::Private);
    first.show(root.as_os_str().as_bytes(), "/proc", true)?;
    first.attributes("/proc", NO_SETUID | NO_DEVICES, true)?;
    first.folder(format!("/proc{MACHINE}"))?;
    let pivot = Planned::Pivot(first.text("/proc")?, first.text(format!("/proc{MACHINE}"))?);
    first.orders.push(pivot);
    first.folder(NOTHING)
}

/// What the root of sandboxes is.
#[derive(Clone, Copy)]
enum Root<'a> {
    /// This machine's system.
    Machine,
    /// The root of an image, which nobody changes, in a view that begins in that of other
    /// sandboxes.
    Image(&'a Sandboxes, &'a Path),
    /// A folder that commands may change.
    Copy(&'a Path),
}

/// Begins a view in that of another template, in whose place for temporary files nothing is yet,
/// and shows the root of an image.
fn begin_in_root(first: &mut Plan, root: &Path, machine: &Path) -> io::Result<()> {
    first.memory("/tmp", "mode=755")?;
    first.folder(format!("/tmp{MACHINE}"))?;
    let pivot = Planned::Pivot(first.text("/tmp")?, first.text(format!("/tmp{MACHINE}"))?);
    first.orders.push(pivot);
    first.folder(NOTHING)?;
    show_root(first, root, machine)
}

impl Sandboxes {
    /// Lays out what all sandboxes of a workspace begin from that show this machine's system.
    ///
    /// # Errors
    /// When the kernel does not let this user make sandboxes with a network of their own, and why.
    pub fn new(workspace: &Path) -> io::Result<Sandboxes> {
        Sandboxes::with_root(workspace, Root::Machine)
    }

    /// The same with the root of an image, a folder of this machine, in place of the machine's
    /// system. Nothing of the kernel's files is seen there but each process's own, and no settings
    /// of the machine. Commands there can be in one network with those in sandboxes of this kind.
    ///
    /// # Errors
    /// When the kernel refuses, or the root cannot be shown.
    pub fn in_root(&self, workspace: &Path, root: &Path) -> io::Result<Sandboxes> {
        Sandboxes::with_root(workspace, Root::Image(self, root))
    }

    /// The same with a folder of this machine as the root that commands may change, and in which
    /// they are the superuser, whose privileges end at its own files. Places that are
    /// [`OF_SANDBOXES`] are made there for the sandboxes.
    ///
    /// # Errors
    /// When the kernel refuses.
    pub fn in_copy(workspace: &Path, root: &Path) -> io::Result<Sandboxes> {
        Sandboxes::with_root(workspace, Root::Copy(root))
    }

    fn with_root(workspace: &Path, root: Root<'_>) -> io::Result<Sandboxes> {
        let mut first = Plan::default();
        // Where the machine is seen while this is laid out: a view that another one began with has
        // it there already.
        let machine = if let Root::Image(..) = root {
            MACHINE_BELOW
        } else {
            MACHINE
        };
        let on_machine = |path: &Path| [machine.as_bytes(), path.as_os_str().as_bytes()].concat();
        match root {
            Root::Machine => begin(&mut first, workspace)?,
            Root::Image(_, root) => begin_in_root(&mut first, root, Path::new(machine))?,
            Root::Copy(root) => begin_in_copy(&mut first, root)?,
        }
        let hides_kernel = !matches!(root, Root::Machine);
        put_devices(&mut first, on_machine)?;
        for folder in ["/proc", "/sys", "/tmp", "/var", ROOT, SOURCES, WORKSPACE] {
            if folder != "/sys" || hides_kernel {
                first.folder(folder)?;
            }
        }
        first.link("/var/tmp", "/tmp")?;
        // A sandbox can show its own processes only where these were seen whole.
        first.show(on_machine(Path::new("/proc")), "/proc", true)?;
        first.attributes("/proc", READ_ONLY | NO_SETUID | NO_DEVICES, true)?;
        first.show(on_machine(workspace), WORKSPACE, true)?;
        first.attributes(WORKSPACE, NO_SETUID | NO_DEVICES, true)?;
        let mut then = Plan::default();
        let before = then.text(MACHINE)?;
        then.orders.push(Planned::Remove(before));
        let (own, base) = match root {
            Root::Image(base, _) => (OWN_BELOW, Some(&base.template)),
            Root::Machine | Root::Copy(_) => (OWN, None),
        };
        let template = sys::found_template(base, &first.orders(), &then.orders(), own)?;
        let flags = OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC;
        let workspace = rustix::fs::open(workspace, flags, Mode::empty())?;
        let identities = Identities::default();
        // All sandboxes have one, or there are none: what a test finds is the same on each machine.
        let loopbacks = Mutex::new(vec![Loopback::new(&template)?]);
        let (taken, empty) = Default::default();
        let is_changed = matches!(root, Root::Copy(_));
        Ok(Sandboxes {
            template,
            hides_kernel,
            machine,
            is_changed,
            workspace,
            identities,
            taken,
            empty,
            loopbacks,
            ending: EndingSandboxes::default(),
        })
    }

    /// Takes a file or folder of the machine among the sources; `None` where it is not there.
    fn take(&self, path: &Path, set: u64) -> io::Result<Option<HeldFile>> {
        let mut taken = self.taken.lock();
        let Ok(found) = path.metadata() else {
            return Ok(None);
        };
        let identity = (found.dev(), found.ino());
        let known = taken.by_path.get(path);
        if let Some(known) = known.filter(|known| known.identity == identity) {
            return Ok(Some(*known));
        }
        let number = taken.count;
        let at = c_string(format!("{SOURCES}/{number}"))?;
        // Links are followed here: where the machine is laid out below another root, those that
        // begin with `/` lead nowhere.
        let real = path.canonicalize()?;
        let from = c_string([self.machine.as_bytes(), real.as_os_str().as_bytes()].concat())?;
        sys::add_source(&self.template, &from, &at, found.is_dir(), set)?;
        if let Some(top) = top_of(path) {
            // Where it will be seen.
            sys::add_folder(&self.template, &c_string(top.as_os_str().as_bytes())?)?;
        }
        let new = HeldFile {
            number,
            folder: found.is_dir(),
            identity,
        };
        taken.count += 1;
        taken.by_path.insert(path.to_owned(), new);
        Ok(Some(new))
    }

    /// Makes a sandbox with some things in it, or takes one that no one is in and changes what is
    /// there. Of things that are not there nothing is seen.
    ///
    /// # Errors
    /// When the kernel refuses.
    pub fn sandbox(&self, places: AllPlaces<'_>, kind: SandboxKind) -> io::Result<Sandbox> {
        let contents = self.all_contents(places)?;
        let mut empty = self.empty.lock();
        let fits = |sandbox: &Sandbox| {
            sandbox.kind == kind && sandbox.contents.can_become(&contents, sandbox.taken)
        };
        let known = empty.iter().rposition(fits).map(|at| empty.remove(at));
        drop(empty);
        if let Some(sandbox) = known.filter(|sandbox| sandbox.handle.is_kept()) {
            let plan = contents.plan_from(&sandbox.contents)?;
            return Ok(Sandbox {
                contents,
                pending: Mutex::new(Some(plan)),
                ..sandbox
            });
        }
        let loopback = self.loopback()?;
        let SandboxKind {
            own_processes,
            own_memory,
        } = kind;
        let plan = contents.plan(self.is_changed)?;
        let taken = self.taken.lock().count;
        let covers = [c"/.in", c"/.none"];
        let kind_of_handle = sys::HandleKind {
            own_processes,
            own_memory,
            hides_kernel: self.hides_kernel,
        };
        let handle = sys::found_sandbox(&self.template, covers, NAME, kind_of_handle)?;
        Ok(Sandbox {
            handle,
            kind,
            contents,
            pending: Mutex::new(Some(plan)),
            taken,
            loopback,
        })
    }

    /// A network in which nothing was sent yet.
    fn loopback(&self) -> io::Result<Loopback> {
        let known = self.loopbacks.lock().pop();
        known.map_or_else(|| Loopback::new(&self.template), Ok)
    }

    /// Has other things in a sandbox in which a program stays. Where that cannot be, the sandbox is
    /// given back as it was: its programs are to be ended, and waited for, before it is dropped.
    ///
    /// # Errors
    /// The sandbox that cannot be changed.
    pub fn change(
        &self,
        mut sandbox: Box<Sandbox>,
        places: AllPlaces<'_>,
    ) -> Result<Box<Sandbox>, Box<Sandbox>> {
        let Ok(contents) = self.all_contents(places) else {
            return Err(sandbox);
        };
        let fits =
            sandbox.contents.can_become(&contents, sandbox.taken) && sandbox.contents.can_stay();
        if !fits || !sandbox.handle.is_kept() || sandbox.pending.lock().is_some() {
            return Err(sandbox);
        }
        match contents.plan_from(&sandbox.contents) {
            Ok(plan) => {
                (sandbox.contents, sandbox.pending) = (contents, Mutex::new(Some(plan)));
                Ok(sandbox)
            }
            Err(_) => Err(sandbox),
        }
    }

    /// What is to be in a sandbox.
    fn all_contents(&self, (common, own): AllPlaces<'_>) -> io::Result<Contents> {
        let Some(common) = common else {
            return self.contents(own, Contents::default(), None);
        };
        let laid = self.laid_out(common)?;
        // What is around something that many have, or in its place, is put together with it.
        let is_apart = |place: &SandboxPlace<'_>| match *place {
            SandboxPlace::Folder(path) => !path.is_empty() && !laid.has(&in_root(path), true),
            SandboxPlace::File(path)
            | SandboxPlace::Own(path)
            | SandboxPlace::Empty(path)
            | SandboxPlace::Link(path, _)
            | SandboxPlace::Outside(path, _) => !laid.has(&in_root(path), false),
            SandboxPlace::Machine(_) | SandboxPlace::Terminal(_) => true,
        };
        if own.iter().all(is_apart) {
            return self.contents(own, Contents::with(laid.clone()), Some(&laid.whole));
        }
        let all: Vec<SandboxPlace<'_>> = common.places().chain(own.iter().copied()).collect();
        self.contents(&all, Contents::default(), None)
    }

    /// What many sandboxes have, as it is now.
    fn laid_out(&self, common: &CommonPlaces) -> io::Result<Arc<LaidOut>> {
        let known = common.laid.lock().clone();
        if let Some(known) = known.filter(|laid| Identities::are_so(&self.workspace, &laid.states))
        {
            return Ok(known);
        }
        let places: Vec<SandboxPlace<'_>> = common.places().collect();
        let mut look = self.identities.look(&self.workspace);
        let contents = self.contents_by(&places, Contents::default(), None, &mut look)?;
        let states = look.states();
        let is_known = states.is_some();
        let whole = common.folders.iter().map(|path| path.to_string()).collect();
        let laid = Arc::new(contents.into_common(whole, states.unwrap_or_default()));
        *common.laid.lock() = is_known.then(|| laid.clone());
        Ok(laid)
    }

    /// Some places, and what is there besides; `whole` are the folders that are there whole
    /// already.
    fn contents(
        &self,
        places: &[SandboxPlace<'_>],
        besides: Contents,
        whole: Option<&HashSet<String>>,
    ) -> io::Result<Contents> {
        self.contents_by(
            places,
            besides,
            whole,
            &mut self.identities.look(&self.workspace),
        )
    }

    fn contents_by<'l>(
        &'l self,
        places: &[SandboxPlace<'l>],
        besides: Contents,
        whole: Option<&HashSet<String>>,
        look: &mut Look<'l>,
    ) -> io::Result<Contents> {
        let mut contents = besides;
        let covered = covered(places, whole);
        for (place, covered) in places.iter().zip(covered) {
            match *place {
                SandboxPlace::Own(path) => {
                    contents.add_own(in_root(path), c_string(in_workspace(path))?, covered);
                }
                // It is there with the folder around it, in which nothing must be made.
                SandboxPlace::File(_)
                | SandboxPlace::Folder(_)
                | SandboxPlace::Empty(_)
                | SandboxPlace::Link(..)
                | SandboxPlace::Outside(..)
                    if covered => {}
                SandboxPlace::Empty(path) => contents.make_empty(&in_root(path)),
                SandboxPlace::File(path) | SandboxPlace::Folder(path) => {
                    let folder = matches!(place, SandboxPlace::Folder(_));
                    if let Some(identity) = look.identify(path, folder) {
                        contents.show(
                            in_root(path),
                            c_string(in_workspace(path))?,
                            folder,
                            identity,
                        );
                    }
                }
                SandboxPlace::Link(path, target) => contents.link(in_root(path), target),
                SandboxPlace::Outside(path, file) => {
                    if let Some(taken) = self.take(file, READ_ONLY | NO_SETUID | NO_DEVICES)? {
                        let from = c_string(taken.number.to_string())?;
                        contents.show(in_root(path), from, taken.folder, taken.identity);
                        contents.needs_taken(taken.number);
                    }
                }
                SandboxPlace::Machine(path) | SandboxPlace::Terminal(path) => {
                    let is_terminal = matches!(place, SandboxPlace::Terminal(_));
                    let set = if is_terminal {
                        NO_SETUID
                    } else {
                        READ_ONLY | NO_SETUID | NO_DEVICES
                    };
                    let (Some(taken), Some(top)) = (self.take(path, set)?, top_of(path)) else {
                        continue;
                    };
                    let from = c_string(taken.number.to_string())?;
                    contents.show_of_machine(path, top, from, taken.folder, taken.identity);
                    contents.needs_taken(taken.number);
                }
            }
        }
        Ok(contents)
    }

    /// Takes a sandbox back whose commands have ended, to be used again. What they left running
    /// there is ended: how many processes that were.
    pub fn put_back(&self, sandbox: Sandbox) -> usize {
        let can_stay = sandbox.kind.own_processes
            && !sandbox.kind.own_memory
            && sandbox.contents.can_stay()
            && sandbox.pending.lock().is_none();
        match sandbox.handle.running() {
            Some(0) if can_stay && sandbox.loopback.is_untouched() => {
                let mut empty = self.empty.lock();
                let oldest = (empty.len() >= KEPT).then(|| empty.remove(0));
                empty.push(sandbox);
                drop(empty);
                drop(oldest);
                0
            }
            running => {
                let Sandbox {
                    handle, loopback, ..
                } = sandbox;
                // Its processes end here: none of them sends anything any more.
                drop(handle);
                if loopback.is_untouched() {
                    self.loopbacks.lock().push(loopback);
                }
                running.unwrap_or(0)
            }
        }
    }

    /// A network in which no one is yet.
    ///
    /// # Errors
    /// When the kernel refuses.
    pub fn network(&self) -> io::Result<OwnNetwork> {
        OwnNetwork::new(&self.template)
    }

    /// Whether someone accepts connections at a place of a network.
    ///
    /// # Errors
    /// When no connection can be tried.
    pub fn answers(
        &self,
        network: &OwnNetwork,
        address: std::net::Ipv4Addr,
        port: u16,
        patience: std::time::Duration,
    ) -> io::Result<bool> {
        let socket = sys::socket_apart(self.template.user(), network.as_fd(), sys::CONNECTIONS)?;
        crate::apart::answers_at(&socket, address, port, patience)
    }
}

/// For each place whether it lies in a folder that is put into the sandbox whole.
fn covered(places: &[SandboxPlace<'_>], besides: Option<&HashSet<String>>) -> Vec<bool> {
    let whole = |place: &SandboxPlace<'_>| {
        if let SandboxPlace::Folder(path) = place {
            Some(path.to_string())
        } else {
            None
        }
    };
    let whole: HashSet<String> = places.iter().filter_map(whole).collect();
    let is_in = |whole: &HashSet<String>, path: &str| {
        let above = path.match_indices('/').map(|(at, _)| &path[..at]);
        !whole.is_empty()
            && (!path.is_empty() && whole.contains("")
                || above.into_iter().any(|f| whole.contains(f)))
    };
    let is_covered =
        |path: &str| is_in(&whole, path) || besides.is_some_and(|besides| is_in(besides, path));
    let is_covered = |place: &SandboxPlace<'_>| match *place {
        SandboxPlace::File(path)
        | SandboxPlace::Folder(path)
        | SandboxPlace::Own(path)
        | SandboxPlace::Empty(path) => is_covered(path),
        SandboxPlace::Link(path, _) | SandboxPlace::Outside(path, _) => is_covered(path),
        SandboxPlace::Machine(_) | SandboxPlace::Terminal(_) => false,
    };
    places.iter().map(is_covered).collect()
}

fn c_string(bytes: impl AsRef<[u8]>) -> io::Result<CString> {
    CString::new(bytes.as_ref())
        .map_err(|_| io::Error::new(io::ErrorKind::InvalidInput, "a path holds a NUL byte"))
}

fn in_root(path: &str) -> Vec<u8> {
    if path.is_empty() {
        ROOT.into()
    } else {
        format!("{ROOT}/{path}").into_bytes()
    }
}

/// Where something of the workspace lies among the sources.
fn in_workspace(path: &str) -> Vec<u8> {
    if path.is_empty() {
        "workspace".into()
    } else {
        format!("workspace/{path}").into_bytes()
    }
}

/// Shows the system's folders, but none of the workspace if that lies in one of them.
fn show_system(first: &mut Plan, workspace: &Path) -> io::Result<()> {
    let mut system = Vec::new();
    first.closed_file(CLOSED)?;
    for folder in READABLE.into_iter().filter(|folder| *folder != "/proc") {
        let path = Path::new(folder);
        if let Ok(target) = path.read_link() {
            first.link(folder, target.as_os_str().as_bytes())?;
        } else if path.is_dir() {
            for (end, _) in folder.match_indices('/').skip(1) {
                first.folder(&folder[..end])?;
            }
            first.folder(folder)?;
            first.show(on_machine(path), folder, true)?;
            if path == Path::new(SETTINGS) {
                for secret in ahead::secrets(path) {
                    let cover = if secret.is_folder { NOTHING } else { CLOSED };
                    first.show(cover, secret.path.as_os_str().as_bytes(), false)?;
                }
            }
            first.attributes(folder, READ_ONLY | NO_SETUID | NO_DEVICES, true)?;
            system.push(path);
        }
    }
    if system.iter().any(|folder| workspace.starts_with(folder)) {
        // It is seen at its own place, and only what belongs there.
        first.memory(workspace.as_os_str().as_bytes(), "mode=755")?;
        first.attributes(workspace.as_os_str().as_bytes(), READ_ONLY, false)?;
    }
    Ok(())
}

/// What sandboxes have of their own, whatever an image has there: paths from the root, of which all
/// but the last are names at its top.
pub const OF_SANDBOXES: [&str; 10] = [
    "dev", "proc", "sys", "tmp", "nubrik", ".all", ".in", ".none", ".closed", "var/tmp",
];

/// Shows the root of an image: everything at its top, and of `/var` everything in it, so that the
/// folder for temporary files there is the sandbox's.
fn show_root(first: &mut Plan, root: &Path, machine: &Path) -> io::Result<()> {
    show_entries(first, (machine, root), "", &OF_SANDBOXES)?;
    let var = root.join("var");
    if var.symlink_metadata().is_ok_and(|found| found.is_dir()) {
        first.folder("/var")?;
        show_entries(first, (machine, &var), "/var", &["tmp"])?;
    }
    Ok(())
}

/// Shows what is in a folder of an image at its place, but for some names.
fn show_entries(
    first: &mut Plan,
    (machine, folder): (&Path, &Path),
    at: &str,
    without: &[&str],
) -> io::Result<()> {
    let on_machine =
        |path: &Path| [machine.as_os_str().as_bytes(), path.as_os_str().as_bytes()].concat();
    let mut entries: Vec<_> = std::fs::read_dir(folder)?.collect::<io::Result<_>>()?;
    entries.sort_by_key(std::fs::DirEntry::file_name);
    for entry in entries {
        let name = entry.file_name();
        let is_spread = at.is_empty() && name == "var" && entry.file_type()?.is_dir();
        if is_spread || without.iter().any(|own| name == *own) {
            continue;
        }
        let place = [at.as_bytes(), b"/", name.as_bytes()].concat();
        let kind = entry.file_type()?;
        if kind.is_symlink() {
            first.link(&place, entry.path().read_link()?.as_os_str().as_bytes())?;
        } else if kind.is_dir() {
            first.folder(&place)?;
            first.show(on_machine(&entry.path()), &place, true)?;
            first.attributes(&place, READ_ONLY | NO_SETUID | NO_DEVICES, true)?;
        } else if kind.is_file() {
            first.file(&place)?;
            first.show(on_machine(&entry.path()), &place, false)?;
            first.attributes(&place, READ_ONLY | NO_SETUID | NO_DEVICES, false)?;
        }
    }
    Ok(())
}

/// Something that not everybody may read.
struct SecretPlace {
    path: PathBuf,
    is_folder: bool,
}

/// Files below a folder that not everybody may read, and folders that not everybody may look into:
/// whoever builds may be their owner, or the superuser, and steps are neither.
fn secrets_below(folder: &Path) -> Vec<SecretPlace> {
    let mut secrets = Vec::new();
    for entry in std::fs::read_dir(folder).into_iter().flatten().flatten() {
        // A link is as readable as the file that it leads to. Half of what there is are links,
        // which the folder itself says.
        if entry.file_type().is_ok_and(|kind| kind.is_symlink()) {
            continue;
        }
        let Ok(found) = entry.metadata() else {
            continue;
        };
        let (path, mode) = (entry.path(), found.mode());
        match found.is_dir() {
            true if mode & 0o005 != 0o005 => secrets.push(SecretPlace {
                path,
                is_folder: true,
            }),
            true => secrets.extend(secrets_below(&path)),
            false if found.is_file() && mode & 0o004 == 0 => {
                secrets.push(SecretPlace {
                    path,
                    is_folder: false,
                });
            }
            false => {}
        }
    }
    secrets
}

pub use ahead::look_ahead;

/// What a sandbox must not show is looked for while something else is done.
mod ahead {
    use std::path::Path;
    use std::thread::JoinHandle;
    use std::time::{Duration, Instant};

    use parking_lot::Mutex;

    use super::{SETTINGS, SecretPlace, secrets_below};

    /// What was found longer ago than this is looked for again.
    const FRESH: Duration = Duration::from_millis(500);

    struct Search {
        began: Instant,
        thread: JoinHandle<Vec<SecretPlace>>,
    }

    static SEARCH: Mutex<Option<Search>> = Mutex::new(None);

    /// Begins with what the first sandbox needs of this machine, in a thread: for who will make one
    /// in a moment.
    pub fn look_ahead() {
        let mut search = SEARCH.lock();
        if search.is_none() {
            let began = Instant::now();
            let thread = std::thread::Builder::new().spawn(|| secrets_below(Path::new(SETTINGS)));
            *search = thread.ok().map(|thread| Search { began, thread });
        }
    }

    /// What is secret below the folder of settings.
    pub(super) fn secrets(folder: &Path) -> Vec<SecretPlace> {
        let ahead = SEARCH
            .lock()
            .take()
            .filter(|search| search.began.elapsed() < FRESH);
        let found = ahead.and_then(|search| search.thread.join().ok());
        found.unwrap_or_else(|| secrets_below(folder))
    }
}

/// Whether steps can read a file of the machine, by its path without links: it lies in a folder of
/// the system, and is no secret there.
pub fn is_shown_to_steps(file: &Path) -> bool {
    let is_shown = READABLE.iter().any(|folder| file.starts_with(folder));
    let is_closed = |path: &Path, bits: u32| {
        path.metadata()
            .is_ok_and(|found| found.mode() & bits != bits)
    };
    let is_secret = file.starts_with(SETTINGS)
        && (is_closed(file, 0o004)
            || file
                .ancestors()
                .skip(1)
                .any(|folder| is_closed(folder, 0o005)));
    is_shown && !is_secret
}

/// The first folder on the way to an absolute path.
fn top_of(path: &Path) -> Option<PathBuf> {
    match path.components().nth(1)? {
        Component::Normal(name) => Some(Path::new("/").join(name)),
        _ => None,
    }
}

impl Sandbox {
    pub(crate) fn handle(&self) -> &SandboxHandle {
        &self.handle
    }

    /// Whether a process there has something of a folder of the workspace open or mapped, or is in
    /// it; also where that cannot be known.
    pub fn holds(&self, folder: &str) -> bool {
        self.handle.holds(in_root(folder).as_slice())
    }

    pub(crate) fn kind(&self) -> SandboxKind {
        self.kind
    }

    /// The network of commands that use no other one.
    pub(crate) fn loopback(&self) -> &OwnNetwork {
        self.loopback.network()
    }

    /// What is to be done there before the first command starts.
    pub(crate) fn pending(&self) -> MutexGuard<'_, Option<Plan>> {
        self.pending.lock()
    }
}

/// Puts the devices of the machine into a sandbox that others begin with, and the links beside
/// them.
fn put_devices(plan: &mut Plan, on_machine: impl Fn(&Path) -> Vec<u8>) -> io::Result<()> {
    plan.folder("/dev")?;
    for device in DEVICES {
        plan.file(device)?;
        plan.show(on_machine(Path::new(device)), device, false)?;
        // Devices are written to all the same; of the superuser's sandboxes nobody changes their
        // permissions.
        plan.attributes(device, READ_ONLY | NO_SETUID, false)?;
    }
    let links = [
        ("/dev/fd", "/proc/self/fd"),
        ("/dev/stdin", "/proc/self/fd/0"),
        ("/dev/stdout", "/proc/self/fd/1"),
        ("/dev/stderr", "/proc/self/fd/2"),
        ("/dev/shm", "/tmp/shm"),
    ];
    links
        .into_iter()
        .try_for_each(|(at, target)| plan.link(at, target))
}
