//! The machine under the engine: files by a kept folder handle, tools, confined processes.

use std::ffi::OsString;
use std::fs;
use std::io;
use std::os::fd::OwnedFd;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, OnceLock};
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use nubrik_confine::{
    Access, CancelSwitch, Capture, Ended, PipelineSpec, Recorder, RuleSet, StageSpec, SystemFolders,
    can_record,
};
use nubrik_engine::{
    FoundTool, Job, JobEnd, Lent, Outside, Seen, ServiceFailure, Signature, ToolProblem, TreeFile, Work,
};
use nubrik_graph::Service;
use nubrik_store::Digest;
use rustix::fs::{AtFlags, Mode, OFlags};

use crate::grants::Grants;
use crate::services::{House, Loan};
use crate::tools::ToolFinder;
use crate::workers::Workers;

/// How much of what a step prints is kept, in bytes.
const PRINTED_LIMIT: usize = 1 << 20;

/// A disk with less room than this is taken to be full, in bytes.
const FULL: u64 = 64 << 10;

/// Variables that every step gets, besides `HOME` and `TMPDIR` (its own scratch folder). Part of what
/// the version of the step key stands for.
pub const CONFINED_ENVIRONMENT: [(&str, &str); 6] = [
    ("PATH", "/usr/local/bin:/usr/bin:/bin"),
    ("LANG", "C.UTF-8"),
    ("LC_ALL", "C.UTF-8"),
    ("TZ", "UTC"),
    // Tools that write their folder into results write this, wherever the workspace is.
    ("PWD", "/proc/self/cwd"),
    ("SOURCE_DATE_EPOCH", "315532800"),
];

/// This machine, seen from a workspace.
pub struct Machine {
    root: PathBuf,
    root_handle: OwnedFd,
    system: SystemFolders,
    network_filter: bool,
    pub(crate) tools: ToolFinder,
    cancel: Arc<CancelSwitch>,
    /// Set once the folder of private temporary folders was made.
    temporary: OnceLock<()>,
    /// Whether commands are told that files which they do not declare are not there.
    hides_undeclared: bool,
    /// Whether a job ran, and with it processes that it may have left behind.
    started: AtomicBool,
    house: House,
    workers: Workers,
}

impl Machine {
    /// The machine, with what an earlier run remembered of its tools.
    ///
    /// # Errors
    /// When the root cannot be opened.
    pub fn new(
        root: &Path,
        search_path: OsString,
        remembered_tools: &[u8],
        cancel: Arc<CancelSwitch>,
    ) -> io::Result<Machine> {
        let root_handle =
            rustix::fs::open(root, OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC, Mode::empty())?;
        Ok(Machine {
            root: root.to_owned(),
            root_handle,
            system: SystemFolders::open(root),
            network_filter: nubrik_confine::support().network_filter,
            tools: ToolFinder::new(search_path, remembered_tools),
            cancel,
            temporary: OnceLock::new(),
            hides_undeclared: false,
            started: AtomicBool::new(false),
            house: House::default(),
            workers: Workers::default(),
        })
    }

    /// Tells commands that files which they do not declare are not there, where this machine can do that.
    #[must_use]
    pub fn hiding_undeclared(mut self, hides: bool) -> Machine {
        self.hides_undeclared = hides && can_record();
        self
    }

    /// A folder, opened to look up names below it.
    pub(crate) fn open_folder(&self, path: &[u8]) -> Option<OwnedFd> {
        let flags = OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC;
        rustix::fs::openat(&self.root_handle, path, flags, Mode::empty()).ok()
    }

    /// A file's metadata, links followed, by a path below an open folder.
    pub(crate) fn check_at(folder: &OwnedFd, path: &[u8]) -> Option<Signature> {
        let stat = rustix::fs::statat(folder, path, AtFlags::empty()).ok()?;
        let nanos = |seconds: i64, nanos: i64| seconds.wrapping_mul(1_000_000_000).wrapping_add(nanos);
        Some(Signature {
            size: stat.st_size as u64,
            changed: nanos(stat.st_mtime, stat.st_mtime_nsec as i64),
            touched: nanos(stat.st_ctime, stat.st_ctime_nsec as i64),
            inode: stat.st_ino,
            mode: stat.st_mode,
        })
    }

    /// A file's metadata, links followed, by its path from the workspace's root.
    pub(crate) fn check_below_root(&self, path: &[u8]) -> Option<Signature> {
        Machine::check_at(&self.root_handle, path)
    }

    /// The workspace's root.
    pub(crate) fn root(&self) -> &Path {
        &self.root
    }

    pub(crate) fn system(&self) -> &SystemFolders {
        &self.system
    }

    pub(crate) fn filters_network(&self) -> bool {
        self.network_filter
    }

    pub(crate) fn house(&self) -> &House {
        &self.house
    }

    pub(crate) fn cancel(&self) -> &CancelSwitch {
        &self.cancel
    }

    /// Whether any command was started.
    pub fn has_started_commands(&self) -> bool {
        self.started.load(Ordering::Relaxed)
    }

    fn rules(&self, job: &Job<'_>, temporary: &Path) -> io::Result<RuleSet> {
        let rules = RuleSet::new(&self.system)?;
        for path in job.readable {
            // What is not there is reported by the command that wants it.
            match rules.allow(&self.root.join(&**path), Access::Read) {
                Err(e) if e.kind() != io::ErrorKind::NotFound => return Err(e),
                _ => {}
            }
        }
        for part in job.tools.iter().flat_map(|t| &t.parts) {
            if let Some(folder) = needed_folder(Path::new(&**part), &self.root) {
                rules.allow(&folder, Access::Read)?;
            }
        }
        rules.allow(&self.root.join(job.folder), Access::Write)?;
        rules.allow(temporary, Access::Write)?;
        Ok(rules)
    }

    /// Runs a job's processes, confined, to their end.
    fn run_in_box(&self, job: &Job<'_>, printed: &mut Vec<u8>, recorder: Option<&Recorder<'_>>) -> JobEnd {
        self.started.store(true, Ordering::Relaxed);
        // Services have a network of their own, and a recorder has a filter of its own.
        if job.lent.is_none() && recorder.is_none() && self.filters(job, None) {
            self.workers.without_network();
        }
        let prepared = self.temporary_folder(job).and_then(|folder| {
            let rules = self.rules(job, &self.root.join(&folder))?;
            Ok((folder, rules))
        });
        let (temporary, rules) = match prepared {
            Ok(prepared) => prepared,
            Err(problem) => return JobEnd::NotStarted(self.root.join(job.folder), problem),
        };
        let loan = job.lent.and_then(|lent| self.house.loan(lent));
        let environment = environment(job, &temporary, loan.as_deref());
        let path = |p: &Option<nubrik_source::WsPath>| p.as_ref().map(|p| PathBuf::from(p.as_str()));
        let stages = job.stages.iter().map(|(program, stage)| StageSpec {
            program: program.clone(),
            words: match &loan {
                Some(loan) => called_by(program, &unmarked(loan, &stage.words)),
                None => called_by(program, &stage.words),
            },
            stdin: path(&stage.stdin),
            stdout: path(&stage.stdout),
            stderr: path(&stage.stderr),
        });
        let spec = PipelineSpec {
            stages: stages.collect(),
            folder: &self.root,
            work: &self.root.join(job.work),
            environment: &environment,
            rules: Some(&rules),
            filter_network: self.filters(job, loan.as_deref()),
            apart: loan.as_ref().and_then(|loan| loan.apart()),
            timeout: job.limits.timeout.map(Duration::from_millis),
            memory: job.limits.memory,
            recorder,
            attached: false,
        };
        let mut capture = Capture::new(PRINTED_LIMIT.saturating_sub(printed.len()));
        let ended = nubrik_confine::run(&spec, &mut capture, &self.cancel);
        let temporary = self.root.join(temporary);
        let _ = fs::remove_dir(&temporary).or_else(|_| fs::remove_dir_all(&temporary));
        match &loan {
            Some(loan) => printed.extend(loan.without_secrets(capture.bytes)),
            None => printed.extend_from_slice(&capture.bytes),
        }
        if capture.cut > 0 {
            printed.extend_from_slice(
                format!("\n[{} more bytes were printed and not kept]\n", capture.cut).as_bytes(),
            );
        }
        match ended {
            Ended::Well => JobEnd::Well,
            Ended::Code(code) => JobEnd::Code(code),
            Ended::Signal(signal) => JobEnd::Signal(signal),
            Ended::Cancelled => JobEnd::Cancelled,
            Ended::TimedOut => JobEnd::TimedOut,
            Ended::NotStarted(program, problem) => JobEnd::NotStarted(program, problem),
        }
    }

    /// Whether new sockets are refused to a job. One whose services are in this machine's network needs it.
    fn filters(&self, job: &Job<'_>, loan: Option<&Loan>) -> bool {
        let reaches_services = loan.is_none_or(|loan| loan.apart().is_some());
        self.network_filter && !job.limits.network && reaches_services
    }

    /// Runs a program in a job's box, in this terminal: same folder, environment and rules.
    pub(crate) fn attach(
        &self,
        job: &Job<'_>,
        program: &Path,
        words: &[&str],
        prompt: &str,
    ) -> io::Result<i32> {
        let temporary = self.temporary_folder(job)?;
        let rules = self.rules(job, &self.root.join(&temporary))?;
        // For the line editing and the job control of a shell.
        let _ = rules.allow(Path::new("/dev/tty"), Access::Terminal);
        let loan = job.lent.and_then(|lent| self.house.loan(lent));
        let mut environment = environment(job, &temporary, loan.as_deref());
        environment.push(("PS1".to_owned(), prompt.to_owned()));
        environment.push(("TERM".to_owned(), std::env::var("TERM").unwrap_or_else(|_| "dumb".to_owned())));
        let words = words.iter().map(|w| (*w).to_owned()).collect();
        let stage = StageSpec { program: program.to_owned(), words, stdin: None, stdout: None, stderr: None };
        let spec = PipelineSpec {
            stages: vec![stage],
            folder: &self.root,
            work: &self.root.join(job.work),
            environment: &environment,
            rules: Some(&rules),
            filter_network: self.filters(job, loan.as_deref()),
            apart: loan.as_ref().and_then(|loan| loan.apart()),
            timeout: None,
            memory: job.limits.memory,
            recorder: None,
            attached: true,
        };
        let ended = nubrik_confine::run(&spec, &mut Capture::new(0), &self.cancel);
        let _ = fs::remove_dir_all(self.root.join(&temporary));
        Ok(match ended {
            Ended::Well => 0,
            Ended::Code(code) => code,
            Ended::Signal(signal) => 128 + signal,
            Ended::Cancelled | Ended::TimedOut => 130,
            Ended::NotStarted(_, problem) => return Err(problem),
        })
    }

    /// What a job may touch, as its path rules say.
    fn grants(&self, job: &Job<'_>) -> Grants<'_> {
        let whole = |path: &str| {
            let path = self.root.join(path);
            path.canonicalize().unwrap_or(path)
        };
        let mut readable: Vec<PathBuf> = job.readable.iter().map(|path| whole(path)).collect();
        let parts = job.tools.iter().flat_map(|t| &t.parts);
        readable.extend(parts.filter_map(|part| needed_folder(Path::new(&**part), &self.root)));
        self.make_temporary();
        // It is not there yet, but the folder that it will be in is.
        let name = temporary_name(job.folder);
        let temporary = whole(TEMPORARY).join(name.rsplit('/').next().unwrap_or(&name));
        let own = vec![whole(job.folder), temporary];
        readable.sort();
        readable.dedup();
        Grants {
            root: self.root.canonicalize().unwrap_or(self.root.clone()),
            system: &self.system,
            readable,
            own,
        }
    }

    /// Makes the folder of all private temporary folders. It is in memory where the machine offers that,
    /// behind a link: many file systems are slow at making and freeing what lives for a moment.
    fn make_temporary(&self) {
        self.temporary.get_or_init(|| self.make_temporary_now());
    }

    fn make_temporary_now(&self) {
        let own = self.root.join(TEMPORARY);
        if let Some(in_memory) = memory_folder(&self.root) {
            let _ = fs::remove_file(&own);
            let _ = std::os::unix::fs::symlink(&in_memory, &own);
        }
        let _ = fs::create_dir_all(&own);
    }

    /// Makes a job's private temporary folder: its path from the root, which is the same in every
    /// run.
    fn temporary_folder(&self, job: &Job<'_>) -> io::Result<String> {
        self.make_temporary();
        let folder = temporary_name(job.folder);
        let path = self.root.join(&folder);
        match fs::create_dir(&path) {
            Err(e) if e.kind() == io::ErrorKind::AlreadyExists => {
                // A run that was killed left it.
                fs::remove_dir_all(&path)?;
                fs::create_dir(&path)?;
            }
            Err(e) if e.kind() == io::ErrorKind::NotFound => {
                // Another command that ended took the folder around it away, which was empty then.
                self.make_temporary_now();
                fs::create_dir(&path)?;
            }
            other => other?,
        }
        Ok(folder)
    }
}

impl Drop for Machine {
    /// Leaves nothing in the machine's memory. The folder goes only if nobody has anything in it.
    fn drop(&mut self) {
        let own = self.root.join(TEMPORARY);
        if self.temporary.get().is_some()
            && let Ok(in_memory) = fs::read_link(&own)
            && fs::remove_dir(in_memory).is_ok()
        {
            let _ = fs::remove_file(own);
        }
    }
}

impl Machine {
    /// Runs a job whose undeclared files are hidden from it.
    fn run_hiding(&self, job: &Job<'_>, printed: &mut Vec<u8>) -> JobEnd {
        let grants = self.grants(job);
        let hidden = |path: &Path| grants.hide(path);
        self.run_in_box(job, printed, Some(&Recorder::new().hiding(&hidden)))
    }

    /// Runs a job, and tells what its processes did.
    fn run_with_recorder(&self, job: &Job<'_>, printed: &mut Vec<u8>) -> (JobEnd, Seen) {
        let grants = self.grants(job);
        let hidden = |path: &Path| grants.hide(path);
        let mut recorder = Recorder::new();
        if self.hides_undeclared {
            recorder = recorder.hiding(&hidden);
        }
        let ended = self.run_in_box(job, printed, Some(&recorder));
        let touched = recorder.touched().into_iter().map(|touched| grants.judge(touched)).collect();
        let mut seen = Seen { touched, wanted_network: recorder.wanted_network() };
        seen.touched.sort_by(|a, b| a.path.cmp(&b.path));
        (ended, seen)
    }
}

/// All variables that a job's processes see.
fn environment(job: &Job<'_>, temporary: &str, loan: Option<&Loan>) -> Vec<(String, String)> {
    // As seen from the folder in which it runs: the same words on every machine.
    let up = "../".repeat(job.work.split('/').filter(|p| !p.is_empty()).count());
    let scratch = format!("/proc/self/cwd/{up}{temporary}");
    let mut environment: Vec<(String, String)> =
        CONFINED_ENVIRONMENT.iter().map(|(n, v)| ((*n).to_owned(), (*v).to_owned())).collect();
    environment.push(("HOME".to_owned(), scratch.clone()));
    environment.push(("TMPDIR".to_owned(), scratch));
    for (name, value) in job.env {
        environment.retain(|(n, _)| **n != **name);
        let value = loan.map_or_else(|| value.to_string(), |loan| loan.unmarked(value));
        environment.push((name.to_string(), value));
    }
    environment
}

/// Words with the places of services in their marks.
fn unmarked(loan: &Loan, words: &[Arc<str>]) -> Vec<Arc<str>> {
    words.iter().map(|word| loan.unmarked(word).into()).collect()
}

/// A process's words. A program that looks itself up by the name it was called by would find another
/// one of that name in the step's own search path: such a program is called by its whole path.
pub(crate) fn called_by(program: &Path, words: &[Arc<str>]) -> Vec<String> {
    let mut words: Vec<String> = words.iter().map(|w| w.to_string()).collect();
    if let Some(name) = words.first_mut().filter(|n| !n.contains('/')) {
        let (_, search_path) = CONFINED_ENVIRONMENT[0];
        let found = search_path.split(':').map(|f| Path::new(f).join(&*name)).find(|p| p.exists());
        if found.is_none_or(|found| found != program) {
            *name = program.to_string_lossy().into_owned();
        }
    }
    words
}

/// The folder of all private temporary folders, from the root.
const TEMPORARY: &str = ".nubrik/tmp";

/// The private temporary folder of the step in a folder, both from the root.
pub(crate) fn temporary_name(folder: &str) -> String {
    format!("{TEMPORARY}/{}", &Digest::of(folder.as_bytes()).hex()[..16])
}

/// A folder of this person and workspace in the machine's memory; `None` where there is none.
fn memory_folder(root: &Path) -> Option<PathBuf> {
    let shared = Path::new("/dev/shm");
    let is_memory = rustix::fs::statfs(shared).is_ok_and(|s| s.f_type == TMPFS);
    let user = rustix::process::getuid().as_raw();
    let name = &Digest::of(root.as_os_str().as_encoded_bytes()).hex()[..16];
    let folder = shared.join(format!("nubrik-{user}-{name}"));
    if !is_memory {
        return None;
    }
    let mut builder = fs::DirBuilder::new();
    match std::os::unix::fs::DirBuilderExt::mode(&mut builder, 0o700).create(&folder) {
        Ok(()) => {}
        Err(e) if e.kind() == io::ErrorKind::AlreadyExists => {}
        Err(_) => return None,
    }
    // Somebody else's folder of that name is not ours to use.
    let owner = folder.symlink_metadata().ok().filter(fs::Metadata::is_dir)?;
    (std::os::unix::fs::MetadataExt::uid(&owner) == user).then_some(folder)
}

/// The kernel's number for file systems in memory (`linux/magic.h`).
const TMPFS: i64 = 0x0102_1994;

/// The folder that a tool outside the system's folders needs: its prefix when it stands in one's
/// `bin`, else the file itself. Never one that the workspace lies in.
pub(crate) fn needed_folder(tool: &Path, root: &Path) -> Option<PathBuf> {
    if ["/usr", "/bin", "/sbin", "/lib", "/lib64", "/opt"].iter().any(|s| tool.starts_with(s)) {
        return None;
    }
    let folder = tool.parent()?;
    let prefix = if folder.file_name().is_some_and(|n| n == "bin") { folder.parent()? } else { tool };
    let is_home = std::env::var_os("HOME").is_some_and(|home| Path::new(&home) == prefix);
    Some(if root.starts_with(prefix) || is_home || prefix == Path::new("/") {
        tool.to_owned()
    } else {
        prefix.to_owned()
    })
}

impl Outside for Machine {
    fn check(&self, path: &str) -> Option<Signature> {
        Machine::check_at(&self.root_handle, path.as_bytes())
    }

    fn digest(&self, path: &str) -> io::Result<Digest> {
        Digest::of_file(&self.locate(path))
    }

    fn read(&self, path: &str) -> io::Result<Vec<u8>> {
        fs::read(self.locate(path))
    }

    fn tree(&self, folder: &str) -> io::Result<Vec<TreeFile>> {
        let mut files = Vec::new();
        let mut open = vec![String::new()];
        while let Some(below) = open.pop() {
            for entry in fs::read_dir(self.locate(folder).join(&below))? {
                let entry = entry?;
                let name = entry.file_name().to_string_lossy().into_owned();
                let path = if below.is_empty() { name } else { format!("{below}/{name}") };
                if entry.file_type()?.is_dir() {
                    open.push(path);
                } else if let Some(signature) = self.check(&format!("{folder}/{path}")) {
                    files.push(TreeFile { path, signature });
                }
            }
        }
        files.sort_by(|a, b| a.path.cmp(&b.path));
        Ok(files)
    }

    fn fresh_folder(&self, folder: &str, inner: &[String]) -> io::Result<()> {
        let path = self.root.join(folder);
        // Most often it is not there, and the folder above it is.
        match fs::create_dir(&path) {
            Ok(()) => {}
            Err(e) if e.kind() == io::ErrorKind::AlreadyExists => {
                if path.symlink_metadata()?.is_dir() {
                    fs::remove_dir_all(&path)?
                } else {
                    fs::remove_file(&path)?
                }
                fs::create_dir_all(&path)?;
            }
            // Next often only the folder above it is missing: one try less than from the bottom up.
            Err(_) => match path.parent().map(fs::create_dir) {
                Some(Ok(())) => fs::create_dir(&path)?,
                _ => fs::create_dir_all(&path)?,
            },
        }
        inner.iter().try_for_each(|inner| fs::create_dir_all(path.join(inner)))
    }

    fn discard(&self, path: &str) {
        let path = self.root.join(path);
        let _ = if path.is_dir() { fs::remove_dir_all(&path) } else { fs::remove_file(&path) };
    }

    fn publish(&self, from: &str, to: &str) -> io::Result<()> {
        crate::publish::publish(&self.root.join(from), &self.root.join(to))
    }

    fn locate(&self, path: &str) -> PathBuf {
        self.root.join(path)
    }

    fn tool(&self, name: &Arc<str>) -> Result<FoundTool, ToolProblem> {
        self.tools.find(self, name)
    }

    fn version_told(&self, name: &Arc<str>) -> Option<Arc<str>> {
        self.tools.version_told(self, name)
    }

    fn begin_worker(&self, workers: usize) {
        self.workers.begin(workers);
    }

    fn run(&self, job: &Job<'_>, printed: &mut Vec<u8>) -> JobEnd {
        if self.hides_undeclared() {
            return self.workers.with_network(|| self.run_hiding(job, printed));
        }
        if job.lent.is_some() || !self.filters(job, None) {
            return self.workers.with_network(|| self.run_in_box(job, printed, None));
        }
        self.run_in_box(job, printed, None)
    }

    fn run_recorded(&self, job: &Job<'_>, printed: &mut Vec<u8>) -> Option<(JobEnd, Seen)> {
        can_record().then(|| self.workers.with_network(|| self.run_with_recorder(job, printed)))
    }

    fn lend(
        &self,
        user: &str,
        services: &[Arc<Service>],
        network: bool,
    ) -> Result<Lent, Option<ServiceFailure>> {
        self.started.store(true, Ordering::Relaxed);
        self.workers.with_network(|| self.house.lend(self, user, services, network, None))
    }

    fn give_back(&self, lent: Lent) -> Vec<(Arc<str>, Vec<u8>)> {
        self.workers.with_network(|| self.house.give_back(&lent))
    }

    fn no_longer_needed(&self, service: &Service) {
        self.workers.with_network(|| self.house.no_longer_needed(service));
    }

    fn tells_secret(&self, folder: &str, lent: &Lent) -> Option<(String, String)> {
        self.secret_told(folder, lent)
    }

    fn hides_undeclared(&self) -> bool {
        self.hides_undeclared
    }

    fn set_aside(&self, from: &str, to: &str) -> io::Result<()> {
        let (from, to) = (self.root.join(from), self.root.join(to));
        if to.is_dir() {
            fs::remove_dir_all(&to)?;
        }
        fs::rename(from, to)
    }

    fn work(&self, work: &Work, to: &str) -> Result<(), String> {
        let done = || crate::natives::work(&self.root, work, to);
        if matches!(work, Work::Fetch { .. }) { self.workers.with_network(done) } else { done() }
    }

    fn judge(&self, report: &str) -> Result<(usize, usize), String> {
        let cases = fs::read(self.locate(report)).map_err(|e| e.to_string())?;
        let cases = nubrik_cases::read(&cases)?;
        let failed = cases.iter().filter(|c| c.outcome == nubrik_cases::Outcome::Failed).count();
        Ok((failed, cases.len()))
    }

    fn is_full(&self) -> bool {
        let known = rustix::fs::statvfs(self.root.join(".nubrik"));
        known.is_ok_and(|s| s.f_blocks > 0 && s.f_bavail.saturating_mul(s.f_frsize) < FULL)
    }

    fn is_cancelled(&self) -> bool {
        self.cancel.is_thrown()
    }

    fn now(&self) -> i64 {
        SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |d| d.as_nanos() as i64)
    }
}
