//! Running a pipeline: its processes side by side, output captured in order and bounded, the whole
//! tree ended when the first reason to do so comes up.

mod starting;

use std::collections::VecDeque;
use std::fs::File;
use std::io::{self, Write};
use std::os::fd::{OwnedFd, RawFd};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::pipe::{PipeFlags, pipe_with};

use crate::filter::{Network, Surroundings};
use crate::networks::OwnNetwork;
use crate::record::{self, Recorder};
use crate::sys::{self, ProcessEnd, SandboxSetup, Space};
use crate::{Apart, CancelSwitch, RuleSet, Sandbox};

pub use starting::furnish;
pub(crate) use starting::{StartProblem, start_all, start_talking};

/// One process to start.
#[derive(Clone)]
pub struct StageSpec {
    /// The program's file.
    pub program: PathBuf,
    /// All words, the first one included.
    pub words: Vec<String>,
    /// Files that replace standard input, output and error.
    pub stdin: Option<PathBuf>,
    /// File for standard output.
    pub stdout: Option<PathBuf>,
    /// File for standard error.
    pub stderr: Option<PathBuf>,
}

/// Processes to run side by side, each one's output the next one's input.
pub struct PipelineSpec<'a> {
    /// The processes.
    pub stages: Vec<StageSpec>,
    /// The folder from which relative paths of redirects start, as they see it.
    pub folder: &'a Path,
    /// The folder they run in, as they see it.
    pub work: &'a Path,
    /// All variables of the environment.
    pub environment: &'a [(String, String)],
    /// What they may reach.
    pub confinement: Confinement<'a>,
    /// How long they may take.
    pub timeout: Option<Duration>,
    /// How much memory each process may have for its data, in bytes.
    pub memory: Option<u64>,
    /// Who notes what they do with files, which makes them slower.
    pub recorder: Option<&'a Recorder<'a>>,
    /// Whether they get this program's own standard streams, and stay in its process group: the
    /// terminal then treats them as it treats this program, and nothing is captured.
    pub attached: bool,
}

/// What commands may reach.
#[derive(Clone, Copy)]
pub enum Confinement<'a> {
    /// Everything that this program may.
    Free,
    /// What rules allow.
    Rules {
        /// The rules.
        rules: &'a RuleSet,
        /// Whether they have the network, this machine's or that of `apart`.
        network: bool,
        /// As whom they run, and in which network, where that is not this program's.
        apart: Option<&'a Apart>,
    },
    /// What rules allow, and that only to look at: no network, and nothing of what is seen changes.
    Looks(&'a RuleSet),
    /// What is in a sandbox.
    Sandbox {
        /// The sandbox.
        sandbox: &'a Sandbox,
        /// Which network they have.
        network: Reach<'a>,
    },
}

/// Which network commands in a sandbox have.
#[derive(Clone, Copy)]
pub enum Reach<'a> {
    /// The sandbox's own, in which nobody else is.
    Loopback,
    /// The machine's.
    Machine,
    /// One that other sandboxes have, too.
    Own(&'a OwnNetwork),
}

impl Confinement<'_> {
    /// What surrounds the commands, which decides what they are refused; `None` where nothing is
    /// refused, or where this kernel cannot.
    fn surroundings(&self) -> Option<Surroundings> {
        if !sys::network_filter_works() {
            return None;
        }
        Some(match self {
            Confinement::Free => return None,
            Confinement::Rules { network, apart, .. } => Surroundings {
                network: match (network, apart) {
                    (false, _) => Network::None,
                    (true, Some(apart)) if apart.has_own_network() => Network::Own,
                    (true, _) => Network::Machine,
                },
                own_processes: false,
                own_memory: false,
                only_looks: false,
            },
            Confinement::Looks(_) => Surroundings {
                network: Network::None,
                own_processes: false,
                own_memory: false,
                only_looks: true,
            },
            Confinement::Sandbox { sandbox, network } => Surroundings {
                network: match network {
                    Reach::Machine => Network::Machine,
                    Reach::Loopback | Reach::Own(_) => Network::Own,
                },
                own_processes: sandbox.kind().own_processes,
                own_memory: sandbox.kind().own_memory,
                only_looks: false,
            },
        })
    }

    fn rules(&self) -> Option<RawFd> {
        match self {
            Confinement::Rules { rules, .. } | Confinement::Looks(rules) => rules.descriptor(),
            _ => None,
        }
    }

    fn space<'s>(&'s self, furnishing: Option<&'s SandboxSetup<'s>>) -> Space<'s> {
        match self {
            Confinement::Free | Confinement::Looks(_) | Confinement::Rules { apart: None, .. } => {
                Space::Here
            }
            Confinement::Rules {
                apart: Some(apart), ..
            } => {
                let (user, network) = apart.descriptors();
                Space::Apart(user, network)
            }
            Confinement::Sandbox { sandbox, network } => {
                let network = match network {
                    Reach::Own(own) => Some(*own),
                    Reach::Loopback => Some(sandbox.loopback()),
                    Reach::Machine => None,
                };
                Space::Sandbox(
                    sandbox.handle(),
                    network.map(OwnNetwork::descriptor),
                    furnishing,
                )
            }
        }
    }
}

/// What commands printed, up to a limit.
pub struct Capture {
    /// The first bytes of it.
    pub bytes: Vec<u8>,
    /// The first bytes of what went to standard error, where that is kept apart.
    pub errors: Option<Vec<u8>>,
    /// How many bytes were printed and not kept.
    pub cut: u64,
    limit: usize,
    /// The last bytes, where these are kept besides the first ones.
    last: Option<VecDeque<u8>>,
    whole: WholeOutput,
}

/// Opens a file for all that is printed, and gives its name for people; nothing where there can be
/// none.
pub type OpenWhole = Box<dyn FnOnce() -> Option<(File, String)>>;

/// The most that goes to such a file, in bytes: what prints without end does not fill the disk.
const WHOLE_LIMIT: u64 = 1 << 30;

/// What is before and behind the name of such a file, in the line that stands for what is not kept.
const BEFORE_NAME: &str = "more were printed here; where it ran, ";
const BEHIND_NAME: &str = " has";

/// The file that has all of something that was printed, as the line in the place of what is not
/// kept says; none where all is kept, or nothing more is.
pub fn file_with_all(printed: &str) -> Option<&str> {
    let lines = printed
        .lines()
        .filter(|line| line.starts_with('[') && line.ends_with("of it]"));
    let names = lines.filter_map(|line| line.split_once(BEFORE_NAME)?.1.split_once(BEHIND_NAME));
    names.map(|(name, _)| name).next_back()
}

/// Where all that is printed goes, once it is more than what is kept.
enum WholeOutput {
    Nowhere,
    /// It has not been needed yet.
    Ready(OpenWhole),
    Open {
        file: File,
        name: String,
        written: u64,
    },
}

impl Capture {
    /// Keeps at most `limit` bytes.
    pub fn new(limit: usize) -> Capture {
        Capture {
            bytes: Vec::new(),
            errors: None,
            cut: 0,
            limit,
            last: None,
            whole: WholeOutput::Nowhere,
        }
    }

    /// Keeps at most `limit` bytes, a quarter of them from the beginning and the others from the
    /// end, where errors mostly are.
    /// [`Capture::take_ends`] gives them.
    pub fn of_ends(limit: usize) -> Capture {
        Capture {
            last: Some(VecDeque::new()),
            ..Capture::new(limit / 4)
        }
    }

    /// Has all that is printed written to a file, if it is more than what is kept.
    pub fn with_all_in(self, open: OpenWhole) -> Capture {
        Capture {
            whole: WholeOutput::Ready(open),
            ..self
        }
    }

    /// Writes what comes to the file for all of it, from the beginning when that is needed first.
    fn write_whole(&mut self, more: &[u8]) {
        let is_first = matches!(self.whole, WholeOutput::Ready(_));
        if is_first
            && let WholeOutput::Ready(open) =
                std::mem::replace(&mut self.whole, WholeOutput::Nowhere)
            && let Some((mut file, name)) = open()
        {
            let (one, other) = self
                .last
                .as_ref()
                .map(VecDeque::as_slices)
                .unwrap_or_default();
            let before = [&self.bytes, one, other];
            if before
                .iter()
                .try_for_each(|part| file.write_all(part))
                .is_ok()
            {
                let written = before.iter().map(|part| part.len() as u64).sum();
                self.whole = WholeOutput::Open {
                    file,
                    name,
                    written,
                };
            }
        }
        if let WholeOutput::Open { file, written, .. } = &mut self.whole {
            let room = usize::try_from(WHOLE_LIMIT.saturating_sub(*written)).unwrap_or(usize::MAX);
            let more = &more[..more.len().min(room)];
            *written += more.len() as u64;
            if file.write_all(more).is_err() {
                self.whole = WholeOutput::Nowhere;
            }
        }
    }

    /// What is kept of a beginning and an end, with a line between them that says how much was left
    /// out.
    pub fn take_ends(&mut self) -> Vec<u8> {
        let mut bytes = std::mem::take(&mut self.bytes);
        let last = self.last.as_mut().map(std::mem::take).unwrap_or_default();
        if self.cut > 0 {
            let is_line_end = bytes.last().is_none_or(|byte| *byte == b'\n');
            let before = if is_line_end { "" } else { "\n" };
            let rest = match &self.whole {
                WholeOutput::Open { name, written, .. } if *written < WHOLE_LIMIT => {
                    format!("{BEFORE_NAME}{name}{BEHIND_NAME} all of it")
                }
                WholeOutput::Open { name, .. } => {
                    let limit = WHOLE_LIMIT >> 20;
                    format!("{BEFORE_NAME}{name}{BEHIND_NAME} the first {limit} MiB of it")
                }
                WholeOutput::Nowhere | WholeOutput::Ready(_) => {
                    "were printed here and not kept".to_owned()
                }
            };
            bytes.extend_from_slice(format!("{before}[{} bytes {rest}]\n", self.cut).as_bytes());
        }
        self.cut = 0;
        bytes.extend(last);
        bytes
    }

    /// What is said to people, and the answer. Only where errors are kept apart there is an answer,
    /// which is all of the output, and nothing for people.
    pub fn take_words_and_answer(&mut self) -> (Vec<u8>, Option<Vec<u8>>) {
        let answer = self
            .errors
            .is_some()
            .then(|| std::mem::take(&mut self.bytes));
        let errors = self.errors.take().unwrap_or_default();
        ([errors, self.take_ends()].concat(), answer)
    }

    /// Adds something that was printed otherwise.
    pub fn add_printed(&mut self, bytes: &[u8]) {
        self.add(bytes, Source::Output);
    }

    /// Keeps what goes to standard error apart, as many bytes of it.
    pub fn with_errors_apart(limit: usize) -> Capture {
        Capture {
            errors: Some(Vec::new()),
            ..Capture::new(limit)
        }
    }

    pub(crate) fn add(&mut self, bytes: &[u8], from: Source) {
        if let Some(last) = self.last.as_ref().filter(|_| from == Source::Output)
            && self.bytes.len() + last.len() + bytes.len() > self.limit * 4
        {
            self.write_whole(bytes);
        }
        let to = match (&mut self.errors, from) {
            (Some(errors), Source::Errors) => errors,
            _ => &mut self.bytes,
        };
        let kept = bytes.len().min(self.limit.saturating_sub(to.len()));
        to.extend_from_slice(&bytes[..kept]);
        if from == Source::Output {
            let mut lost = bytes.len() - kept;
            if let Some(last) = &mut self.last {
                last.extend(&bytes[kept..]);
                lost = last.len().saturating_sub(self.limit * 3);
                drop(last.drain(..lost));
            }
            self.cut += lost as u64;
        }
    }
}

/// Where something that was printed comes from.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) enum Source {
    Output,
    Errors,
}

/// The ends from which what processes print is read.
#[derive(Default)]
pub(crate) struct OutputStreams {
    /// Standard output, and standard error where that is not apart.
    pub output: Option<OwnedFd>,
    pub errors: Option<OwnedFd>,
}

impl OutputStreams {
    /// Those that there are.
    fn streams(&self) -> impl Iterator<Item = (&OwnedFd, Source)> {
        let output = self.output.iter().map(|fd| (fd, Source::Output));
        output.chain(self.errors.iter().map(|fd| (fd, Source::Errors)))
    }
}

/// How a pipeline ended.
#[derive(Debug)]
pub enum Ended {
    /// All its processes ended well.
    Well,
    /// A process ended with this code.
    Code(i32),
    /// A process was ended by this signal.
    Signal(i32),
    /// The switch was thrown, and everything was ended.
    Cancelled,
    /// It took too long, and everything was ended.
    TimedOut,
    /// A program could not be started, and why.
    NotStarted(PathBuf, io::Error),
}

pub(crate) const PIPE_CLOSED_IN_SHELL: i32 = 128 + libc::SIGPIPE;

pub(crate) struct Process {
    pub id: i32,
    /// Its number where it is.
    pub local: i32,
    pub handle: OwnedFd,
    pub exit: Option<ProcessEnd>,
}

/// Runs a pipeline to its end, whichever it is; afterwards none of its processes runs.
pub fn run(spec: &PipelineSpec<'_>, capture: &mut Capture, cancel: &CancelSwitch) -> Ended {
    if cancel.is_thrown() {
        return Ended::Cancelled;
    }
    let Some(recorder) = spec.recorder else {
        return run_stages(spec, None, capture, cancel);
    };
    // One supervisor for each process that is started; all stop when the other end of a pipe is
    // closed.
    let prepared = || -> rustix::io::Result<_> {
        let pairs = spec
            .stages
            .iter()
            .map(|_| record::sockets())
            .collect::<rustix::io::Result<Vec<_>>>()?;
        Ok((pairs, pipe_with(PipeFlags::CLOEXEC)?))
    };
    let (pairs, (stop, running)) = match prepared() {
        Ok(prepared) => prepared,
        Err(e) => return Ended::NotStarted(PathBuf::new(), e.into()),
    };
    let (ours, theirs): (Vec<OwnedFd>, Vec<OwnedFd>) = pairs.into_iter().unzip();
    let Some(filter) = spec
        .confinement
        .surroundings()
        .map(|surroundings| recorder.filter(surroundings))
    else {
        return run_stages(spec, None, capture, cancel);
    };
    let supervision = Supervision {
        filter,
        sockets: theirs,
    };
    std::thread::scope(|scope| {
        for socket in &ours {
            scope.spawn(|| recorder.attend(socket, &stop));
        }
        let ended = run_stages(spec, Some(supervision), capture, cancel);
        drop(running);
        ended
    })
}

/// What processes need to be started under a supervisor.
pub(crate) struct Supervision {
    filter: Vec<libc::sock_filter>,
    /// By number of stage; once all processes have started they are dropped, so that a supervisor
    /// of one that never did stops waiting.
    sockets: Vec<OwnedFd>,
}

fn run_stages(
    spec: &PipelineSpec<'_>,
    supervision: Option<Supervision>,
    capture: &mut Capture,
    cancel: &CancelSwitch,
) -> Ended {
    let mut processes: Vec<Process> = Vec::new();
    let started = start_all(
        spec,
        supervision.as_ref(),
        capture.errors.is_some(),
        &mut processes,
    );
    drop(supervision);
    let outputs = match started {
        Ok(outputs) => outputs,
        Err((program, problem)) => {
            end_all(&mut processes, spec.attached);
            return Ended::NotStarted(program, problem);
        }
    };
    let deadline = spec.timeout.map(|limit| Instant::now() + limit);
    let stopped = attend(&mut processes, &outputs, capture, cancel, deadline);
    if spec.attached {
        if stopped.is_some() {
            end_gently(&mut processes);
        }
        for process in &mut processes {
            process.exit.get_or_insert_with(|| sys::wait(process.id));
        }
        return stopped.unwrap_or_else(|| how_ended(&processes));
    }
    let group = processes.first().map_or(0, |p| p.id);
    // The leader was not waited for yet, so the group's number is still ours.
    sys::kill_group(group);
    if !matches!(spec.confinement, Confinement::Sandbox { .. }) {
        // What was started by the commands and dies now is not mistaken for what they left behind.
        sys::wait_for_group(group, &mut |id, exit| {
            if let Some(process) = processes.iter_mut().find(|process| process.id == id) {
                process.exit.get_or_insert(exit);
            }
        });
    }
    for process in &mut processes {
        process.exit.get_or_insert_with(|| sys::wait(process.id));
    }
    stopped.unwrap_or_else(|| how_ended(&processes))
}

/// How long processes are given to end by themselves.
pub(crate) const PATIENCE: Duration = Duration::from_secs(5);

/// Asks processes in the terminal to end, and ends those that do not.
fn end_gently(processes: &mut [Process]) {
    for process in processes.iter() {
        sys::ask_to_end(process.id);
    }
    if !all_ended(processes, PATIENCE) {
        processes.iter().for_each(|process| sys::end(process.id));
    }
}

/// Waits until all processes have ended, but only so long; gives whether they have. None of them is
/// taken note of, so that their numbers stay theirs.
pub(crate) fn all_ended(processes: &[Process], patience: Duration) -> bool {
    let deadline = Instant::now() + patience;
    processes.iter().all(|process| {
        loop {
            let left = deadline.saturating_duration_since(Instant::now());
            let mut fds = [PollFd::new(&process.handle, PollFlags::IN)];
            match poll(&mut fds, Timespec::try_from(left).ok().as_ref()) {
                Err(rustix::io::Errno::INTR) => {}
                _ => return !fds[0].revents().is_empty(),
            }
        }
    })
}

/// How a pipeline ended whose processes all have.
pub(crate) fn how_ended(processes: &[Process]) -> Ended {
    let last = processes.len() - 1;
    for (i, process) in processes.iter().enumerate() {
        match process.exit {
            // A reader that has seen enough ends its writer: that is no failure.
            // A shell reports its own command's end by a signal as 128 and the signal's number.
            Some(ProcessEnd::Signal(libc::SIGPIPE) | ProcessEnd::Code(PIPE_CLOSED_IN_SHELL))
                if i < last => {}
            Some(ProcessEnd::Code(0)) | None => {}
            Some(ProcessEnd::Code(code)) => return Ended::Code(code),
            Some(ProcessEnd::Signal(signal)) => return Ended::Signal(signal),
        }
    }
    Ended::Well
}

pub(crate) fn end_all(processes: &mut [Process], attached: bool) {
    match processes.first() {
        Some(first) if !attached => sys::kill_group(first.id),
        _ => processes.iter().for_each(|process| sys::end(process.id)),
    }
    for process in processes {
        sys::wait(process.id);
    }
}

/// Reads output until all processes have ended; gives why it stopped earlier. Processes that the
/// pipeline left behind may hold its output open: what they print later is not waited for.
fn attend(
    processes: &mut [Process],
    outputs: &OutputStreams,
    capture: &mut Capture,
    cancel: &CancelSwitch,
    deadline: Option<Instant>,
) -> Option<Ended> {
    let mut buffer = [0u8; 8 << 10];
    let mut open: Vec<(&OwnedFd, Source)> = outputs.streams().collect();
    // Processes that have ended but were not waited for: the group's number stays ours.
    let mut ended = vec![false; processes.len()];
    loop {
        let running: Vec<usize> = (0..processes.len()).filter(|i| !ended[*i]).collect();
        let mut fds = vec![PollFd::new(cancel.signal(), PollFlags::IN)];
        fds.extend(open.iter().map(|(fd, _)| PollFd::new(*fd, PollFlags::IN)));
        fds.extend(
            running
                .iter()
                .map(|i| PollFd::new(&processes[*i].handle, PollFlags::IN)),
        );
        // When all have ended, what is still in the pipe is read without waiting.
        let left = deadline.map(|deadline| deadline.saturating_duration_since(Instant::now()));
        let wait = if running.is_empty() {
            Some(Duration::ZERO)
        } else {
            left
        };
        let wait = wait.and_then(|w| Timespec::try_from(w).ok());
        let ready = poll(&mut fds, wait.as_ref());
        if !matches!(ready, Ok(_) | Err(rustix::io::Errno::INTR)) {
            return None;
        }
        let is_ready: Vec<bool> = fds.iter().map(|fd| !fd.revents().is_empty()).collect();
        drop(fds);
        if is_ready[0] {
            return Some(Ended::Cancelled);
        }
        if !running.is_empty() && left == Some(Duration::ZERO) {
            return Some(Ended::TimedOut);
        }
        for (n, i) in running.iter().enumerate() {
            ended[*i] |= is_ready[1 + open.len() + n];
        }
        let readable: Vec<(&OwnedFd, Source)> = open
            .iter()
            .zip(&is_ready[1..])
            .filter(|(_, ready)| **ready)
            .map(|(source, _)| *source)
            .collect();
        if readable.is_empty() && running.is_empty() {
            return None;
        }
        for (fd, source) in readable {
            if take_output(fd, source, &mut buffer, capture) {
                open.retain(|(_, other)| *other != source);
            }
        }
        if open.is_empty() && ended.iter().all(|e| *e) {
            return None;
        }
    }
}

/// Takes some of what a stream has; says whether that was its end.
fn take_output(fd: &OwnedFd, source: Source, buffer: &mut [u8], capture: &mut Capture) -> bool {
    let read = rustix::io::read(fd, &mut *buffer);
    if let Ok(count) = read
        && count > 0
    {
        capture.add(&buffer[..count], source);
    }
    read == Ok(0)
}
