//! Running a pipeline: its processes side by side, output captured in order and bounded, the whole
//! tree ended when the first reason to do so comes up.

use std::ffi::CString;
use std::io;
use std::os::fd::{AsRawFd, BorrowedFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::fs::{Mode, OFlags};
use rustix::pipe::{PipeFlags, pipe_with};

use crate::record::{self, Recorder};
use crate::sys::{self, Exit, Point, Start};
use crate::{Apart, CancelSwitch, RuleSet};

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
    /// The folder from which relative paths of redirects start.
    pub folder: &'a Path,
    /// The folder they run in.
    pub work: &'a Path,
    /// All variables of the environment.
    pub environment: &'a [(String, String)],
    /// What they may reach; everything where there are no rules.
    pub rules: Option<&'a RuleSet>,
    /// Whether new sockets are refused; in a network of their own only those that lead out of it.
    pub filter_network: bool,
    /// As whom they run, and in which network, where that is not this program's.
    pub apart: Option<&'a Apart>,
    /// How long they may take.
    pub timeout: Option<Duration>,
    /// How much memory each process may have for its data, in bytes.
    pub memory: Option<u64>,
    /// Who notes what they do with files, which makes them slower.
    pub recorder: Option<&'a Recorder<'a>>,
    /// Whether they get this program's own standard streams, and stay in its process group: the terminal
    /// then treats them as it treats this program, and nothing is captured.
    pub attached: bool,
}

/// What commands printed, up to a limit.
pub struct Capture {
    /// The first bytes of it.
    pub bytes: Vec<u8>,
    /// How many bytes were printed and not kept.
    pub cut: u64,
    limit: usize,
}

impl Capture {
    /// Keeps at most `limit` bytes.
    pub fn new(limit: usize) -> Capture {
        Capture { bytes: Vec::new(), cut: 0, limit }
    }

    fn add(&mut self, bytes: &[u8]) {
        let kept = bytes.len().min(self.limit.saturating_sub(self.bytes.len()));
        self.bytes.extend_from_slice(&bytes[..kept]);
        self.cut += (bytes.len() - kept) as u64;
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
    pub handle: OwnedFd,
    pub exit: Option<Exit>,
}

/// Runs a pipeline to its end, whichever it is; afterwards none of its processes runs.
pub fn run(spec: &PipelineSpec<'_>, capture: &mut Capture, cancel: &CancelSwitch) -> Ended {
    if cancel.is_thrown() {
        return Ended::Cancelled;
    }
    let Some(recorder) = spec.recorder else { return run_stages(spec, None, capture, cancel) };
    // One supervisor for each process that is started; all stop when the other end of a pipe is closed.
    let prepared = || -> rustix::io::Result<_> {
        let pairs = spec.stages.iter().map(|_| record::sockets()).collect::<rustix::io::Result<Vec<_>>>()?;
        Ok((pairs, pipe_with(PipeFlags::CLOEXEC)?))
    };
    let (pairs, (stop, running)) = match prepared() {
        Ok(prepared) => prepared,
        Err(e) => return Ended::NotStarted(PathBuf::new(), e.into()),
    };
    let (ours, theirs): (Vec<OwnedFd>, Vec<OwnedFd>) = pairs.into_iter().unzip();
    let supervision =
        Supervision { filter: recorder.filter(spec.filter_network && spec.apart.is_none()), sockets: theirs };
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
    /// By number of stage; once all processes have started they are dropped, so that a supervisor of one
    /// that never did stops waiting.
    sockets: Vec<OwnedFd>,
}

fn run_stages(
    spec: &PipelineSpec<'_>,
    supervision: Option<Supervision>,
    capture: &mut Capture,
    cancel: &CancelSwitch,
) -> Ended {
    let mut processes: Vec<Process> = Vec::new();
    let started = start_all(spec, supervision.as_ref(), &mut processes);
    drop(supervision);
    let output = match started {
        Ok(output) => output,
        Err((program, problem)) => {
            end_all(&mut processes, spec.attached);
            return Ended::NotStarted(program, problem);
        }
    };
    let deadline = spec.timeout.map(|limit| Instant::now() + limit);
    let stopped = attend(&mut processes, output.as_ref(), capture, cancel, deadline);
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

/// Waits until all processes have ended, but only so long; gives whether they have. None of them is taken note
/// of, so that their numbers stay theirs.
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
            Some(Exit::Signal(libc::SIGPIPE) | Exit::Code(PIPE_CLOSED_IN_SHELL)) if i < last => {}
            Some(Exit::Code(0)) | None => {}
            Some(Exit::Code(code)) => return Ended::Code(code),
            Some(Exit::Signal(signal)) => return Ended::Signal(signal),
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

pub(crate) type StartProblem = (PathBuf, io::Error);

/// Starts all stages; gives the end from which their output is read, unless it goes where this program's does.
pub(crate) fn start_all(
    spec: &PipelineSpec<'_>,
    supervision: Option<&Supervision>,
    processes: &mut Vec<Process>,
) -> Result<Option<OwnedFd>, StartProblem> {
    let own = |e: rustix::io::Errno| (PathBuf::new(), io::Error::from(e));
    let ours = |fd: BorrowedFd<'_>| rustix::io::fcntl_dupfd_cloexec(fd, 3).map_err(own);
    let (output, output_end, error_end) = if spec.attached {
        (None, ours(rustix::stdio::stdout())?, Some(ours(rustix::stdio::stderr())?))
    } else {
        let (output, end) = pipe_with(PipeFlags::CLOEXEC).map_err(own)?;
        (Some(output), above_standard(end).map_err(own)?, None)
    };
    let error_end = error_end.as_ref().unwrap_or(&output_end);
    let folder = c_string(spec.work.as_os_str().as_bytes()).map_err(|e| (spec.work.to_owned(), e))?;
    let environment: Vec<CString> =
        spec.environment.iter().filter_map(|(n, v)| CString::new(format!("{n}={v}")).ok()).collect();
    let mut upstream: Option<OwnedFd> = None;
    let count = spec.stages.len();
    for (i, stage) in spec.stages.iter().enumerate() {
        let at = |e: io::Error| (stage.program.clone(), e);
        let open = |path: &Path, flags: OFlags| {
            let path = spec.folder.join(path);
            let fd = rustix::fs::open(&path, flags | OFlags::CLOEXEC, Mode::from_raw_mode(0o644));
            fd.and_then(above_standard).map_err(|e| (path, io::Error::from(e)))
        };
        let to_write = OFlags::WRONLY | OFlags::CREATE | OFlags::TRUNC;
        let stdin = match (&stage.stdin, upstream.take()) {
            (Some(path), _) => open(path, OFlags::RDONLY)?,
            (None, Some(pipe)) => pipe,
            (None, None) if spec.attached => ours(rustix::stdio::stdin())?,
            (None, None) => open(Path::new("/dev/null"), OFlags::RDONLY)?,
        };
        let mut stdout = stage.stdout.as_ref().map(|path| open(path, to_write)).transpose()?;
        if stdout.is_none() && i + 1 < count {
            let (read, write) = pipe_with(PipeFlags::CLOEXEC).map_err(own)?;
            upstream = Some(above_standard(read).map_err(own)?);
            stdout = Some(above_standard(write).map_err(own)?);
        }
        let stderr = stage.stderr.as_ref().map(|path| open(path, to_write)).transpose()?;
        let words: Result<Vec<CString>, io::Error> =
            stage.words.iter().map(|w| c_string(w.as_bytes())).collect();
        let program = c_string(stage.program.as_os_str().as_bytes()).map_err(at)?;
        let start = Start {
            program: &program,
            words: &words.map_err(at)?,
            environment: &environment,
            folder: &folder,
            stdin: stdin.as_raw_fd(),
            stdout: stdout.as_ref().unwrap_or(&output_end).as_raw_fd(),
            stderr: stderr.as_ref().unwrap_or(error_end).as_raw_fd(),
            group: (!spec.attached).then(|| processes.first().map_or(0, |p| p.id)),
            rules: spec.rules.and_then(RuleSet::descriptor),
            // A supervisor's filter refuses the network itself.
            filter_network: spec.filter_network && supervision.is_none(),
            apart: spec.apart.map(Apart::descriptors),
            supervised: supervision.map(|s| (s.filter.as_slice(), s.sockets[i].as_raw_fd())),
        };
        let (id, handle) = start_patiently(&start).map_err(at)?;
        if let (Some(bytes), Some(pid)) = (spec.memory, rustix::process::Pid::from_raw(id)) {
            // What it starts inherits the limit. A process that has ended already needs none.
            let limit = rustix::process::Rlimit { current: Some(bytes), maximum: Some(bytes) };
            let _ = rustix::process::prlimit(Some(pid), rustix::process::Resource::Data, limit);
        }
        processes.push(Process { id, handle, exit: None });
    }
    Ok(output)
}

/// Moves a descriptor out of the way of 0 to 2, which the child fills one by one.
fn above_standard(fd: OwnedFd) -> rustix::io::Result<OwnedFd> {
    if fd.as_raw_fd() > 2 { Ok(fd) } else { rustix::io::fcntl_dupfd_cloexec(&fd, 3) }
}

fn c_string(bytes: &[u8]) -> io::Result<CString> {
    CString::new(bytes).map_err(|_| io::Error::new(io::ErrorKind::InvalidInput, "a word holds a NUL byte"))
}

/// Starts a process. A program that was just written may still be open for writing in a process
/// that another thread is about to start: that passes in a moment.
fn start_patiently(start: &Start<'_>) -> io::Result<(i32, OwnedFd)> {
    let mut pause = Duration::from_micros(200);
    loop {
        match sys::start(start) {
            Ok(started) => return Ok(started),
            Err((Point::Program, e))
                if e.raw_os_error() == Some(libc::ETXTBSY) && pause.as_millis() < 400 =>
            {
                std::thread::sleep(pause);
                pause *= 2;
            }
            Err((Point::Confine, e)) => {
                return Err(io::Error::new(e.kind(), format!("the kernel cannot confine it: {e}")));
            }
            Err((Point::Folder, e)) => {
                return Err(io::Error::new(e.kind(), format!("cannot enter its folder: {e}")));
            }
            Err((_, e)) => return Err(e),
        }
    }
}

/// Reads output until all processes have ended; gives why it stopped earlier. Processes that the
/// pipeline left behind may hold its output open: what they print later is not waited for.
fn attend(
    processes: &mut [Process],
    output: Option<&OwnedFd>,
    capture: &mut Capture,
    cancel: &CancelSwitch,
    deadline: Option<Instant>,
) -> Option<Ended> {
    let mut buffer = [0u8; 8 << 10];
    let mut output_open = output;
    // Processes that have ended but were not waited for: the group's number stays ours.
    let mut ended = vec![false; processes.len()];
    loop {
        let running: Vec<usize> = (0..processes.len()).filter(|i| !ended[*i]).collect();
        let mut fds = vec![PollFd::new(cancel.signal(), PollFlags::IN)];
        if let Some(output) = output_open {
            fds.push(PollFd::new(output, PollFlags::IN));
        }
        fds.extend(running.iter().map(|i| PollFd::new(&processes[*i].handle, PollFlags::IN)));
        // When all have ended, what is still in the pipe is read without waiting.
        let left = deadline.map(|deadline| deadline.saturating_duration_since(Instant::now()));
        let wait = if running.is_empty() { Some(Duration::ZERO) } else { left };
        let wait = wait.and_then(|w| Timespec::try_from(w).ok());
        let ready = poll(&mut fds, wait.as_ref());
        if !matches!(ready, Ok(_) | Err(rustix::io::Errno::INTR)) {
            return None;
        }
        if !fds[0].revents().is_empty() {
            return Some(Ended::Cancelled);
        }
        if !running.is_empty() && left == Some(Duration::ZERO) {
            return Some(Ended::TimedOut);
        }
        let output_ready = output_open.filter(|_| !fds[1].revents().is_empty());
        let offset = 1 + usize::from(output_open.is_some());
        let now_ended: Vec<usize> = running
            .iter()
            .enumerate()
            .filter(|(n, _)| !fds[offset + n].revents().is_empty())
            .map(|(_, i)| *i)
            .collect();
        drop(fds);
        for i in now_ended {
            ended[i] = true;
        }
        if let Some(output) = output_ready {
            match rustix::io::read(output, &mut buffer) {
                Ok(0) => output_open = None,
                Ok(count) => capture.add(&buffer[..count]),
                Err(_) => {}
            }
        } else if running.is_empty() {
            return None;
        }
        if output_open.is_none() && ended.iter().all(|e| *e) {
            return None;
        }
    }
}
