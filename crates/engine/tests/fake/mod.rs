//! A machine and a store in memory: steps "run" by joining the contents of what they read.

#![allow(clippy::unwrap_used, dead_code)]

use std::collections::{BTreeMap, HashMap, VecDeque};
use std::io;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, AtomicI64, AtomicU64, AtomicUsize, Ordering};
use std::sync::{Arc, OnceLock};
use std::time::Duration;

use nubrik_bytes::{Digest, Layout};
use nubrik_engine::{
    Changes, Event, FoundTool, Job, JobEnd, Lent, Listener, MadeThing, Options, Outcome,
    OutsideFiles, OutsideServices, OutsideSystem, OutsideWork, Recording, Request, Seen,
    ServiceFailure, Signature, State, ToolProblem, TreeFile, TreeFileKind, Verdict, WorkProblem,
    build,
};
use nubrik_graph::{
    FileId, FileNode, Graph, OutputNode, Pipeline, Place, Program, Role, Stage, Step, StepId,
    Target, TargetId, ToolId,
};
use nubrik_graph::{Service, Tables};
use nubrik_source::{FilePath, WsPath};
use nubrik_store::{
    Basis, Opened, Provenance, Record, RecordEntry, Store, StoreError, StoredContent,
};
use parking_lot::Mutex;

#[derive(Clone, Default)]
struct File {
    bytes: Vec<u8>,
    signature: Signature,
}

/// Something that a test does at some moment.
pub type Hook = Box<dyn Fn(&str) + Send + Sync>;

/// Files, clock and tools in memory.
#[derive(Default)]
pub struct FakeMachine {
    files: Mutex<BTreeMap<String, File>>,
    clock: AtomicI64,
    inode: AtomicU64,
    pub cancelled: AtomicBool,
    /// Identity of the one tool; none when it is missing.
    pub tool: Mutex<Option<&'static str>>,
    /// How often each file was read for its digest.
    pub digested: Mutex<BTreeMap<String, usize>>,
    /// A source that changes while a step runs.
    pub moves: Mutex<Option<String>>,
    /// What happens before commands run, by the file that they make.
    pub before_run: OnceLock<Hook>,
    /// After so many jobs everything is stopped.
    pub stops_after: Mutex<Option<usize>>,
    /// Whether it is whatever a step says of a machine.
    pub is_all: AtomicBool,
}

impl FakeMachine {
    pub fn new(files: &[(&str, &str)]) -> FakeMachine {
        let machine = FakeMachine {
            clock: AtomicI64::new(1_000_000_000_500),
            ..Default::default()
        };
        *machine.tool.lock() = Some("one");
        for (path, text) in files {
            machine.write(path, text);
        }
        machine
    }

    /// Lets time pass, so that files are not young any more.
    pub fn wait(&self) {
        self.clock.fetch_add(1_000_000_000, Ordering::SeqCst);
    }

    pub fn write(&self, path: &str, text: &str) {
        let now = self.clock.fetch_add(1_000, Ordering::SeqCst);
        let inode = self.inode.fetch_add(1, Ordering::SeqCst) + 1;
        let signature = Signature {
            size: text.len() as u64,
            changed: now,
            touched: now,
            inode,
            mode: 0o100_644,
        };
        self.files.lock().insert(
            path.to_owned(),
            File {
                bytes: text.as_bytes().to_vec(),
                signature,
            },
        );
    }

    pub fn remove(&self, path: &str) {
        self.files.lock().remove(path);
    }

    pub fn text(&self, path: &str) -> Option<String> {
        self.files
            .lock()
            .get(path)
            .map(|f| String::from_utf8(f.bytes.clone()).unwrap())
    }

    /// How often sources were read for their digests since the last call.
    pub fn take_digested(&self) -> BTreeMap<String, usize> {
        std::mem::take(&mut *self.digested.lock())
    }
}

impl FakeMachine {
    /// `expand MAIN [dir=FOLDER…] [keep=N] [listing=FILE] [out=FILE…] [parts=FOLDER]`: a small
    /// compiler. In the text of MAIN `<x>` represents the text of the first `FOLDER/x` that is
    /// there; of the whole the first N letters are kept. `!` in it is an error. Each output gets
    /// that text with its own number behind it; a folder gets it, too, and a file
    /// for each letter.
    fn expand(&self, job: &Job<'_>, words: &[Arc<str>]) -> JobEnd {
        let named = |name: &str| -> Vec<&str> {
            words.iter().filter_map(|w| w.strip_prefix(name)).collect()
        };
        let mains: Vec<&str> = words[1..]
            .iter()
            .map(|w| &**w)
            .filter(|w| !w.contains('='))
            .collect();
        let may_read = |path: &str| job.readable.iter().any(|r| r.path.as_str() == path);
        let mut listed = Vec::new();
        let mut text = String::new();
        for main in mains {
            match self.text(main).filter(|_| may_read(main)) {
                Some(main_text) => {
                    listed.push(main.to_owned());
                    let read = |path: &str| self.text(path).filter(|_| may_read(path));
                    text.push_str(&expanded(&main_text, &named("dir="), &read, &mut listed, 0));
                }
                None => return JobEnd::Code(2),
            }
        }
        if text.contains('!') {
            return JobEnd::Code(1);
        }
        if let Some(keep) = named("keep=").first() {
            text.truncate(keep.parse().unwrap());
        }
        for (number, out) in named("out=").iter().enumerate() {
            self.write(out, &format!("{text}{number}"));
        }
        for folder in named("parts=") {
            self.write(&format!("{folder}/all"), &text);
            for letter in text.chars() {
                self.write(&format!("{folder}/{letter}"), &letter.to_string());
            }
        }
        for listing in named("listing=") {
            self.write(listing, &format!("x: {}", listed.join(" ")));
        }
        JobEnd::Well
    }
}

/// A text with `<x>` replaced by what the first folder has under that name; nothing where none has.
pub fn expanded(
    text: &str,
    folders: &[&str],
    read: &dyn Fn(&str) -> Option<String>,
    listed: &mut Vec<String>,
    depth: usize,
) -> String {
    let mut out = String::new();
    let mut rest = text;
    while let Some((before, after)) = rest.split_once('<') {
        out.push_str(before);
        let (name, after) = after.split_once('>').unwrap_or((after, ""));
        let found = folders
            .iter()
            .map(|f| format!("{f}/{name}"))
            .find_map(|p| Some((read(&p)?, p)));
        if let Some((inner, path)) = found
            && depth < 3
        {
            listed.push(path);
            out.push_str(&expanded(&inner, folders, read, listed, depth + 1));
        }
        rest = after;
    }
    out + rest
}

impl OutsideFiles for FakeMachine {
    fn check(&self, path: &FilePath) -> Option<Signature> {
        let path = path.as_str();
        let files = self.files.lock();
        let below = format!("{path}/");
        // Folders are there where files are.
        let folder = || {
            files
                .range(below.clone()..)
                .next()
                .is_some_and(|(p, _)| p.starts_with(&below))
        };
        let of_folder = || {
            folder().then(|| Signature {
                mode: 0o040_755,
                ..Signature::default()
            })
        };
        files.get(path).map(|f| f.signature).or_else(of_folder)
    }

    fn check_itself(&self, path: &WsPath) -> Option<Signature> {
        self.check(&path.into())
    }

    fn look_at_made(&self, path: &WsPath, _: &WsPath) -> MadeThing {
        self.check_itself(path)
            .map_or(MadeThing::Nothing, MadeThing::There)
    }

    fn links_to(&self, _: &WsPath) -> Vec<(WsPath, Arc<str>)> {
        Vec::new()
    }

    fn followed(&self, _: &WsPath) -> Option<WsPath> {
        None
    }

    fn digest(&self, path: &FilePath) -> io::Result<Digest> {
        *self.digested.lock().entry(path.to_string()).or_default() += 1;
        self.read(path).map(|bytes| Digest::of(&bytes))
    }

    fn is_being_written(&self, _: &FilePath) -> bool {
        false
    }

    fn read(&self, path: &FilePath) -> io::Result<Vec<u8>> {
        let files = self.files.lock();
        files
            .get(path.as_str())
            .map(|f| f.bytes.clone())
            .ok_or_else(|| io::ErrorKind::NotFound.into())
    }

    fn tree(&self, folder: &WsPath) -> io::Result<Vec<TreeFile>> {
        let files = self.files.lock();
        let below = files
            .iter()
            .filter_map(|(p, f)| Some((p.strip_prefix(folder.as_str())?.strip_prefix('/')?, f)));
        let file = |path: &str, f: &File| TreeFile {
            path: path.to_owned(),
            kind: TreeFileKind::File,
            signature: f.signature,
        };
        Ok(below.map(|(path, f)| file(path, f)).collect())
    }

    fn put(&self, path: &WsPath, content: StoredContent, _: bool) -> io::Result<()> {
        let StoredContent::Bytes(bytes) = content else {
            return Err(io::ErrorKind::Unsupported.into());
        };
        self.write(path.as_str(), std::str::from_utf8(&bytes).unwrap());
        Ok(())
    }

    fn make_link(&self, path: &WsPath, _: &str) -> io::Result<()> {
        unreachable!("{path} is a link")
    }

    fn fresh_folder(&self, folder: &WsPath, _: &[String]) -> io::Result<()> {
        let prefix = format!("{folder}/");
        self.files
            .lock()
            .retain(|path, _| !path.starts_with(&prefix));
        Ok(())
    }

    fn set_aside(&self, from: &WsPath, to: &WsPath) -> io::Result<()> {
        let from = from.as_str();
        let mut files = self.files.lock();
        let inside = |path: &String| path.starts_with(&format!("{from}/"));
        let moved: Vec<String> = files.keys().filter(|p| inside(p)).cloned().collect();
        for path in moved {
            let file = files.remove(&path).unwrap();
            files.insert(format!("{to}{}", &path[from.len()..]), file);
        }
        Ok(())
    }

    fn while_watching(&self, _: &[WsPath], _: &(dyn Fn(usize) + Sync), act: &mut dyn FnMut()) {
        act();
    }

    fn discard(&self, path: &WsPath) {
        let path = path.as_str();
        let prefix = format!("{path}/");
        self.files
            .lock()
            .retain(|p, _| p != path && !p.starts_with(&prefix));
    }

    fn publish(&self, from: &WsPath, to: &WsPath) -> io::Result<()> {
        let bytes = self.read(&from.into())?;
        self.write(to.as_str(), &String::from_utf8(bytes).unwrap());
        Ok(())
    }

    fn locate(&self, path: &WsPath) -> PathBuf {
        PathBuf::from("/work").join(path.as_str())
    }

    fn times_full(&self) -> u64 {
        0
    }

    fn now(&self) -> i64 {
        self.clock.load(Ordering::SeqCst)
    }
}

impl OutsideSystem for FakeMachine {
    fn tool(&self, name: &Arc<str>) -> Result<FoundTool, ToolProblem> {
        match *self.tool.lock() {
            Some(identity) => Ok(FoundTool {
                path: "/usr/bin/join".into(),
                identity: Digest::of(identity.as_bytes()),
                parts: vec![],
                search: vec![],
                libraries: vec![],
                search_state: Digest::default(),
                unanswered: None,
            }),
            None => Err(ToolProblem {
                name: name.clone(),
                searched: vec!["/usr/bin".into()],
                mend: None,
                unanswered: None,
                image: None,
            }),
        }
    }

    fn version_told(&self, _: &Arc<str>) -> Option<Arc<str>> {
        None
    }

    fn is_as_found(&self, _: &FoundTool) -> bool {
        true
    }

    fn looked_up(&self, _: &str) -> Vec<FilePath> {
        Vec::new()
    }

    fn interpreters(&self, _: &FilePath) -> Vec<FilePath> {
        Vec::new()
    }

    fn is_system(&self, path: &str) -> bool {
        ["/usr/", "/lib", "/bin/", "/sbin/", "/etc/", "/opt/"]
            .iter()
            .any(|folder| path.starts_with(folder))
    }

    fn names_in(&self, folder: &str) -> io::Result<Vec<(String, u32)>> {
        unreachable!("{folder} is listed, and nothing is recorded")
    }

    fn links_of_machine(&self, _: &str) -> Vec<(String, Arc<str>)> {
        Vec::new()
    }

    fn loaded_from(&self, _: &str) -> Option<Arc<str>> {
        None
    }

    fn running_since(&self) -> Option<String> {
        Some(String::new())
    }

    fn has_labels(&self, _: &[Arc<str>]) -> bool {
        self.is_all.load(Ordering::SeqCst)
    }

    fn inherits(&self) -> Option<Arc<str>> {
        None
    }

    fn sees_besides(&self) -> Option<Arc<str>> {
        None
    }
}

impl OutsideWork for FakeMachine {
    fn begin_worker(&self, _: usize) {}

    /// `join OUT IN…`: joins contents; a line `fail` in them fails, and a word `listing=PATH` makes
    /// it list the inputs that hold something.
    fn run(&self, job: &Job<'_>, printed: &mut Vec<u8>) -> JobEnd {
        if let Some(hook) = self.before_run.get() {
            job.stages
                .iter()
                .for_each(|(_, stage)| hook(&stage.words[1]));
        }
        if let Some(path) = self.moves.lock().take() {
            self.write(&path, "moved");
        }
        if let Some(left) = &mut *self.stops_after.lock() {
            if *left == 0 {
                self.cancelled.store(true, Ordering::SeqCst);
                return JobEnd::Cancelled;
            }
            *left -= 1;
        }
        for (_, stage) in &job.stages {
            if &*stage.words[0] == "expand" {
                return self.expand(job, &stage.words);
            }
            let words: Vec<&str> = stage.words.iter().map(|w| &**w).collect();
            let (mut joined, mut listed) = (String::new(), String::from("x:"));
            let listing = words.iter().find_map(|w| w.strip_prefix("listing="));
            for path in words[2..].iter().filter(|w| !w.contains('=')) {
                match self.text(path) {
                    Some(text) if !text.is_empty() => {
                        joined.push_str(&text);
                        listed.push_str(&format!(" {path}"));
                    }
                    Some(_) => {}
                    None => return JobEnd::Code(2),
                }
            }
            if joined.contains("fail") {
                printed.extend_from_slice(b"cannot join");
                return JobEnd::Code(1);
            }
            self.write(words[1], &joined);
            if let Some(listing) = listing {
                self.write(listing, &listed);
            }
        }
        JobEnd::Well
    }

    fn records(&self) -> bool {
        false
    }

    fn run_recorded(&self, _: &Job<'_>, _: &mut Vec<u8>, _: Recording) -> Option<(JobEnd, Seen)> {
        None
    }

    fn work(&self, work: &nubrik_engine::Work, to: &WsPath) -> Result<(), WorkProblem> {
        match work {
            nubrik_engine::Work::Native(nubrik_graph::Native::Write { text, .. }) => {
                self.write(to.as_str(), text)
            }
            other => {
                return Err(WorkProblem::Machine(format!(
                    "{other:?} is not played here"
                )));
            }
        }
        Ok(())
    }

    fn is_at_hand(&self, _places: &[Arc<str>], _digest: &str) -> bool {
        false
    }

    fn judge(&self, report: &WsPath) -> std::io::Result<(usize, usize)> {
        unreachable!("{report} is a check's")
    }

    fn rest(&self) {}

    fn is_cancelled(&self) -> bool {
        self.cancelled.load(Ordering::SeqCst)
    }
}

/// No step of these tests uses a service.
impl nubrik_engine::OutsideRoots for FakeMachine {
    fn open_root(
        &self,
        _: &WsPath,
        _: &nubrik_graph::ImageSource<nubrik_graph::PlainFile>,
        _: &dyn Fn(),
    ) -> Result<nubrik_engine::OpenRoot, WorkProblem> {
        Err(WorkProblem::Machine("no image is played here".to_owned()))
    }

    fn program_in(
        &self,
        root: &nubrik_engine::OpenRoot,
        name: &Arc<str>,
    ) -> Result<std::path::PathBuf, ToolProblem> {
        let searched = root.search.clone();
        Err(ToolProblem {
            name: name.clone(),
            searched,
            mend: None,
            unanswered: None,
            image: None,
        })
    }

    fn open_copy(
        &self,
        root: &nubrik_engine::OpenRoot,
    ) -> Result<nubrik_engine::OpenRoot, WorkProblem> {
        Err(WorkProblem::Machine(format!("{} is not open", root.tree)))
    }

    fn close_copy(
        &self,
        copy: &nubrik_engine::OpenRoot,
        _: Option<&WsPath>,
    ) -> Result<(), WorkProblem> {
        Err(WorkProblem::Machine(format!("{} is not open", copy.tree)))
    }
}

impl OutsideServices for FakeMachine {
    fn lend(
        &self,
        user: &str,
        _: &[Arc<Service>],
        _: bool,
    ) -> Result<Lent, Option<ServiceFailure>> {
        unreachable!("{user} uses a service")
    }

    fn give_back(&self, _: Lent) -> Vec<(Arc<str>, Vec<u8>)> {
        unreachable!("nothing was lent")
    }

    fn no_longer_needed(&self, service: &Service) {
        unreachable!("{} is used", service.address)
    }

    fn tells_secret(&self, folder: &WsPath, _: &Lent) -> io::Result<Option<(String, String)>> {
        unreachable!("{folder} knows a secret")
    }
}

/// A store in memory, which puts contents back on its machine.
#[derive(Default)]
pub struct FakeStore {
    records: Mutex<HashMap<Digest, Record>>,
    blobs: Mutex<HashMap<Digest, Vec<u8>>>,
    /// Whether contents are lost on the way.
    pub loses: AtomicBool,
    /// Whether contents are far until they are brought.
    pub is_far: AtomicBool,
    /// How many were brought.
    pub brought: AtomicUsize,
    /// Whether others gave the results.
    pub is_given: AtomicBool,
    /// Whether each of the next contents is lost on its way.
    pub losses: Mutex<VecDeque<bool>>,
}

impl FakeStore {
    /// A store with the same contents, in which no result is recorded.
    pub fn contents_only(&self) -> FakeStore {
        let blobs = self.blobs.lock().clone();
        FakeStore {
            blobs: Mutex::new(blobs),
            ..FakeStore::default()
        }
    }
}

/// What represents the shared cache.
pub const fn team() -> Digest {
    Digest([7; 32])
}

/// The store as one machine sees it.
pub struct StoreOn<'a>(pub &'a FakeStore, pub &'a FakeMachine);

fn inside(path: &Path) -> WsPath {
    WsPath::from_normal(path.strip_prefix("/work").unwrap().to_str().unwrap())
}

impl Store for StoreOn<'_> {
    fn used(&self, _: &Digest, _: &RecordEntry) {}

    fn record(&self, key: &Digest) -> Option<Record> {
        let mut record = self.0.records.lock().get(key).cloned()?;
        if self.0.is_given.load(Ordering::SeqCst) {
            for entry in &mut record.entries {
                entry.origin = Provenance::Shared {
                    root: team(),
                    writer: [7; 32],
                };
                entry.basis = Basis::Noted(Vec::new());
            }
        }
        Some(record)
    }

    fn keep_record(&self, key: &Digest, record: &Record) -> Result<(), StoreError> {
        self.0.records.lock().insert(*key, record.clone());
        Ok(())
    }

    fn keep_file(&self, file: &Path, digest: &Digest, _: bool) -> Result<(), StoreError> {
        let bytes = self.1.read(&FilePath::from(&inside(file))).unwrap();
        self.0.blobs.lock().insert(*digest, bytes);
        Ok(())
    }

    fn keep_bytes(&self, bytes: &[u8]) -> Result<Digest, StoreError> {
        let digest = Digest::of(bytes);
        self.0.blobs.lock().insert(digest, bytes.to_vec());
        Ok(digest)
    }

    fn bytes(&self, digest: &Digest) -> Option<Vec<u8>> {
        self.0.blobs.lock().get(digest).cloned()
    }

    fn is_near(&self, _: &Digest, _: bool) -> bool {
        !self.0.is_far.load(Ordering::SeqCst)
    }

    fn bring(&self, contents: &[(Digest, bool)], _: Option<Duration>) {
        self.0.brought.fetch_add(contents.len(), Ordering::SeqCst);
    }

    fn open(&self, digest: &Digest, _: bool) -> Result<Opened, StoreError> {
        let is_lost = self.0.losses.lock().pop_front().unwrap_or(false);
        if is_lost || self.0.loses.load(Ordering::SeqCst) {
            return Ok(Opened::Missing);
        }
        let bytes = self.0.blobs.lock().get(digest).cloned();
        Ok(bytes.map_or(Opened::Missing, |bytes| {
            Opened::There(StoredContent::Bytes(bytes))
        }))
    }
}

/// Hears events, and keeps them as short texts.
#[derive(Default)]
pub struct Log(pub Mutex<Vec<String>>);

impl Listener for Log {
    fn hear(&self, event: &Event) {
        let text = match event {
            Event::Began { order } => format!("began {}", order.len()),
            Event::WillRun { step, .. } => format!("will run {}", step.0),
            Event::Elsewhere { step, machine } => format!("{machine} runs {}", step.0),
            Event::Unpacks { step, is_over } => format!("unpacks {}, over: {is_over}", step.0),
            Event::Done {
                step,
                verdict: Verdict::Current,
                ..
            } => format!("current {}", step.0),
            Event::Done {
                step,
                verdict,
                reason,
                ..
            } => format!("{} {}: {reason}", verdict.word(), step.0),
            Event::Survived { step, refused } => format!("survived {}: {refused:?}", step.0),
            Event::Notice(notice) => format!("notice {notice:?}"),
        };
        self.0.lock().push(text);
    }
}

/// A graph of `join` steps: step `i` makes `f{i}` from sources by name and earlier steps by number.
#[derive(Default)]
pub struct Joins {
    pub graph: Tables,
}

impl Joins {
    pub fn new() -> Joins {
        let mut joins = Joins::default();
        joins.graph.tools.push("join".into());
        joins
    }

    /// The graph of all steps.
    pub fn finished(&self) -> Graph {
        self.graph.clone().finish().unwrap()
    }

    fn file(&mut self, path: &str, maker: Option<StepId>) -> FileId {
        if let Some(at) = self
            .graph
            .files
            .iter()
            .position(|f| f.path.as_str() == path)
        {
            return FileId(at as u32);
        }
        self.graph.files.push(FileNode {
            path: WsPath::from_normal(path),
            maker,
            folder: false,
        });
        FileId(self.graph.files.len() as u32 - 1)
    }

    /// Adds a step with certain inputs.
    pub fn step(&mut self, sources: &[&str], steps: &[u32]) -> u32 {
        self.add(sources, steps, &[])
    }

    /// Adds a step that lists which of its candidates it read.
    pub fn listing_step(&mut self, candidates: &[&str]) -> u32 {
        self.add(&[], &[], candidates)
    }

    fn add(&mut self, sources: &[&str], steps: &[u32], candidates: &[&str]) -> u32 {
        let number = self.graph.steps.len() as u32;
        let folder = WsPath::from_normal(&format!("made/@f{number}"));
        let out = format!("{}/f{number}", folder.as_str());
        let output = self.file(&out, Some(StepId(number)));
        let mut words: Vec<Arc<str>> = vec!["join".into(), out.as_str().into()];
        let mut inputs: Vec<FileId> = Vec::new();
        for source in sources {
            words.push((*source).into());
            inputs.push(self.file(source, None));
        }
        for step in steps {
            let path = format!("made/@f{step}/f{step}");
            words.push(path.as_str().into());
            inputs.push(self.file(&path, None));
        }
        let mut found = Vec::new();
        let mut candidate_files = Vec::new();
        if !candidates.is_empty() {
            let listing = WsPath::from_normal(&format!("{}/x.d", folder.as_str()));
            words.push(format!("listing={}", listing.as_str()).into());
            found.push(listing);
            for candidate in candidates {
                words.push((*candidate).into());
                candidate_files.push(self.file(candidate, None));
            }
        }
        inputs.sort();
        let candidates = match candidate_files.is_empty() {
            true => vec![],
            false => vec![self.graph.sets.intern(candidate_files)],
        };
        let target = TargetId(self.graph.targets.len() as u32);
        self.graph.targets.push(Target {
            address: format!("t{number}").into(),
            package: WsPath::root(),
            kind: "step".into(),
            reads_field: "".into(),
            documentation: "".into(),
            place: Place {
                file: "targets.nub".into(),
                line: number + 1,
            },
            role: Role::Target,
            private: false,
            tags: Vec::new(),
            results: vec![],
        });
        self.graph.steps.push(Box::new(Step {
            target,
            say: format!("join {number}").into(),
            commands: vec![Pipeline {
                stages: vec![Stage {
                    program: Program::Tool(ToolId(0)),
                    words,
                    stdin: None,
                    stdout: None,
                    stderr: None,
                    answers: false,
                }],
            }],
            env: vec![],
            folder,
            inputs: inputs.into(),
            candidates: candidates.into(),
            outputs: vec![OutputNode::new(output, format!("f{number}"))],
            found,
            scratch: vec![],
            tools: vec![ToolId(0)],
            place: Place {
                file: "targets.nub".into(),
                line: number + 1,
            },
            ..Step::empty(WsPath::root())
        }));
        number
    }
}

/// A workspace: machine, store and state that live from build to build.
pub struct Bench {
    pub machine: FakeMachine,
    pub store: FakeStore,
    pub state: State,
}

impl Bench {
    pub fn new(files: &[(&str, &str)]) -> Bench {
        let machine = FakeMachine::new(files);
        machine.wait();
        Bench {
            machine,
            store: FakeStore::default(),
            state: State::default(),
        }
    }

    /// Builds the last step; gives what was heard.
    pub fn build(&mut self, joins: &Joins) -> Vec<String> {
        self.build_with(joins, Options::plain()).1
    }

    pub fn build_with(&mut self, joins: &Joins, options: Options) -> (Outcome, Vec<String>) {
        let last = joins.graph.steps.last().unwrap().outputs[0].file;
        self.build_files(joins, &[last], options)
    }

    pub fn build_files(
        &mut self,
        joins: &Joins,
        files: &[FileId],
        options: Options,
    ) -> (Outcome, Vec<String>) {
        let log = Log::default();
        let store = StoreOn(&self.store, &self.machine);
        let mut outcome = build(
            Request::whole(&joins.finished(), files),
            &WsPath::from_normal("out"),
            &self.state,
            &self.machine,
            Some(&store),
            &log,
            options,
        );
        self.machine.wait();
        let changes = std::mem::take(&mut outcome.changes);
        // What is kept of a build is what its bytes say.
        self.state
            .take(Changes::of_bytes(&changes.to_bytes()).unwrap());
        (outcome, log.0.into_inner())
    }
}
