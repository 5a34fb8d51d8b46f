//! Starting the processes of a pipeline: their streams, their words, and what confines them.

use crate::sys::{self, Point, SandboxSetup, Start, Started, Stream};
use rustix::pipe::{PipeFlags, pipe_with};
use std::cell::Cell;
use std::ffi::CString;
use std::io;
use std::os::fd::{AsRawFd, BorrowedFd, OwnedFd, RawFd};
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::time::Duration;

use super::{Confinement, OutputStreams, PipelineSpec, Process, StageSpec, Supervision};

/// Why a process was not started, with the file that is at fault.
pub(crate) type StartProblem = (PathBuf, io::Error);

/// Starts all stages; gives the ends from which their output is read, unless it goes where this
/// program's does.
pub(crate) fn start_all(
    spec: &PipelineSpec<'_>,
    supervision: Option<&Supervision>,
    errors_apart: bool,
    processes: &mut Vec<Process>,
) -> Result<OutputStreams, StartProblem> {
    let (outputs, output_end, error_end) = output_ends(spec, errors_apart)?;
    let error_end = error_end.as_ref().unwrap_or(&output_end);
    let common = Common::of(spec)?;
    let mut upstream: Option<OwnedFd> = None;
    for (i, stage) in spec.stages.iter().enumerate() {
        let redirects = redirects_of(spec, stage)?;
        let before = upstream.take();
        let terminal = if spec.attached && before.is_none() && redirects[0].is_none() {
            Some(ours(rustix::stdio::stdin())?)
        } else {
            None
        };
        let stdin = match (&redirects[0], before.as_ref().or(terminal.as_ref())) {
            (Some(path), _) => Stream::From(path),
            (None, Some(open)) => Stream::Given(open.as_raw_fd()),
            (None, None) => Stream::From(c"/dev/null"),
        };
        let mut next = None;
        if redirects[1].is_none() && i + 1 < spec.stages.len() {
            let (read, write) = pipe_with(PipeFlags::CLOEXEC).map_err(own)?;
            upstream = Some(above_standard(read).map_err(own)?);
            next = Some(above_standard(write).map_err(own)?);
        }
        let stdout = written_to(&redirects[1], next.as_ref().unwrap_or(&output_end));
        let stderr = written_to(&redirects[2], error_end);
        let group = (!spec.attached).then(|| processes.first().map_or(0, |p| p.local));
        let supervised = supervision.map(|s| (s.filter.as_slice(), s.sockets[i].as_raw_fd()));
        processes.push(common.start(stage, [stdin, stdout, stderr], group, supervised)?);
    }
    Ok(outputs)
}

/// Starts one program with pipes to its standard streams: the process, and the ends to write
/// requests to, and to read answers and errors from.
pub(crate) fn start_talking(
    spec: &PipelineSpec<'_>,
) -> Result<(Process, OwnedFd, OwnedFd, OwnedFd), StartProblem> {
    let Some(stage) = spec.stages.first() else {
        return Err((PathBuf::new(), io::ErrorKind::InvalidInput.into()));
    };
    let (read, requests) = pipe_with(PipeFlags::CLOEXEC).map_err(own)?;
    let (answers, write) = pipe_with(PipeFlags::CLOEXEC).map_err(own)?;
    let (errors, complain) = pipe_with(PipeFlags::CLOEXEC).map_err(own)?;
    let [read, write, complain] = [read, write, complain].map(above_standard);
    let (read, write, complain) = (
        read.map_err(own)?,
        write.map_err(own)?,
        complain.map_err(own)?,
    );
    // Who asks must be able to do something else while the program does not read.
    let flags = rustix::fs::fcntl_getfl(&requests).map_err(own)?;
    rustix::fs::fcntl_setfl(&requests, flags | rustix::fs::OFlags::NONBLOCK).map_err(own)?;
    let streams = [&read, &write, &complain].map(|fd| Stream::Given(fd.as_raw_fd()));
    let process = Common::of(spec)?.start(stage, streams, Some(0), None)?;
    Ok((process, requests, answers, errors))
}

/// Puts into the sandbox of `spec` what is to be there, without starting anything in it.
///
/// # Errors
/// When the kernel refuses something of it.
pub fn furnish(spec: &PipelineSpec<'_>) -> io::Result<()> {
    let Confinement::Sandbox { sandbox, .. } = &spec.confinement else {
        return Ok(());
    };
    // What would start a program does the rest, too; there is none of that name.
    let stage = StageSpec {
        program: PathBuf::from("/.none/program"),
        words: Vec::new(),
        stdin: None,
        stdout: None,
        stderr: None,
    };
    let nowhere = [
        Stream::From(c"/dev/null"),
        Stream::To(c"/dev/null"),
        Stream::To(c"/dev/null"),
    ];
    let started = Common::of(spec).and_then(|common| common.start(&stage, nowhere, Some(0), None));
    match started {
        Ok(process) => {
            super::end_all(&mut [process], false);
            Err(io::Error::other("a program is where there is none"))
        }
        Err((_, e)) if e.raw_os_error() == Some(libc::ENOENT) && sandbox.pending().is_none() => {
            Ok(())
        }
        Err((_, e)) => Err(e),
    }
}

/// Where a stream is written to: a file, or what is open.
fn written_to<'a>(redirect: &'a Option<CString>, open: &OwnedFd) -> Stream<'a> {
    match redirect {
        Some(path) => Stream::To(path),
        None => Stream::Given(open.as_raw_fd()),
    }
}

/// A path below the pipeline's folder.
fn whole(spec: &PipelineSpec<'_>, path: &Path) -> Result<CString, StartProblem> {
    c_string(spec.folder.join(path).as_os_str().as_bytes()).map_err(|e| (path.to_owned(), e))
}

/// The files for a process's standard streams.
fn redirects_of(
    spec: &PipelineSpec<'_>,
    stage: &StageSpec,
) -> Result<[Option<CString>; 3], StartProblem> {
    let file = |path: &Option<PathBuf>| path.as_ref().map(|path| whole(spec, path)).transpose();
    Ok([
        file(&stage.stdin)?,
        file(&stage.stdout)?,
        file(&stage.stderr)?,
    ])
}

/// What all processes of a pipeline are started with.
struct Common<'s> {
    spec: &'s PipelineSpec<'s>,
    root: CString,
    folder: CString,
    environment: Vec<CString>,
}

impl<'s> Common<'s> {
    fn of(spec: &'s PipelineSpec<'_>) -> Result<Common<'s>, StartProblem> {
        let variables = spec.environment.iter();
        Ok(Common {
            spec,
            root: whole(spec, Path::new(""))?,
            folder: whole(spec, spec.work)?,
            environment: variables
                .filter_map(|(n, v)| CString::new(format!("{n}={v}")).ok())
                .collect(),
        })
    }

    fn start(
        &self,
        stage: &StageSpec,
        streams: [Stream<'_>; 3],
        group: Option<i32>,
        supervised: Option<(&[libc::sock_filter], RawFd)>,
    ) -> Result<Process, StartProblem> {
        let at = |e: io::Error| (stage.program.clone(), e);
        let words: io::Result<Vec<CString>> =
            stage.words.iter().map(|w| c_string(w.as_bytes())).collect();
        let confinement = &self.spec.confinement;
        // The first command that starts in a sandbox finds it as it is to be.
        let mut pending = match confinement {
            Confinement::Sandbox { sandbox, .. } => Some(sandbox.pending()),
            Confinement::Free | Confinement::Rules { .. } | Confinement::Looks(_) => None,
        };
        let plan = pending.as_ref().and_then(|pending| pending.as_ref());
        let furnishing = plan.map(|plan| SandboxSetup {
            orders: plan.orders(),
            done: Cell::new(false),
        });
        let started = start_patiently(&Start {
            program: &c_string(stage.program.as_os_str().as_bytes()).map_err(at)?,
            words: &words.map_err(at)?,
            environment: &self.environment,
            root: &self.root,
            folder: &self.folder,
            streams,
            group,
            rules: confinement.rules(),
            surroundings: confinement.surroundings(),
            space: confinement.space(furnishing.as_ref()),
            supervised,
        });
        let is_furnished = furnishing
            .as_ref()
            .is_some_and(|furnishing| furnishing.done.get());
        if let Some(pending) = pending.as_mut().filter(|_| is_furnished) {
            **pending = None;
        }
        drop(pending);
        let Started { id, local, handle } =
            started.map_err(|problem| problem_of(stage, problem))?;
        if let Some(bytes) = self.spec.memory {
            limit_memory(id, bytes);
        }
        Ok(Process {
            id,
            local,
            handle,
            exit: None,
        })
    }
}

/// A failure that is this program's own, and no program's that is started.
fn own(e: rustix::io::Errno) -> StartProblem {
    (PathBuf::new(), io::Error::from(e))
}

/// One of this program's own streams, to be handed on.
fn ours(stream: BorrowedFd<'_>) -> Result<OwnedFd, StartProblem> {
    rustix::io::fcntl_dupfd_cloexec(stream, 3).map_err(own)
}

/// Where output can be read, and the ends to which it is written: of errors only where they are
/// apart.
fn output_ends(
    spec: &PipelineSpec<'_>,
    errors_apart: bool,
) -> Result<(OutputStreams, OwnedFd, Option<OwnedFd>), StartProblem> {
    let mut outputs = OutputStreams::default();
    if spec.attached {
        return Ok((
            outputs,
            ours(rustix::stdio::stdout())?,
            Some(ours(rustix::stdio::stderr())?),
        ));
    }
    let new_pipe = || -> rustix::io::Result<_> {
        let (read, write) = pipe_with(PipeFlags::CLOEXEC)?;
        Ok((read, above_standard(write)?))
    };
    let (read, write) = new_pipe().map_err(own)?;
    outputs.output = Some(read);
    let errors = if errors_apart {
        Some(new_pipe().map_err(own)?)
    } else {
        None
    };
    let (errors, error_end) = errors.unzip();
    outputs.errors = errors;
    Ok((outputs, write, error_end))
}

/// Why a process of a pipeline cannot be started, with the file that is at fault.
fn problem_of(stage: &StageSpec, (point, e): (Point, io::Error)) -> StartProblem {
    let Point::Redirect(n) = point else {
        return (stage.program.clone(), e);
    };
    let path = [&stage.stdin, &stage.stdout, &stage.stderr][n]
        .clone()
        .unwrap_or_default();
    match e.raw_os_error() {
        Some(libc::EINVAL) => (
            path,
            io::Error::other("there is something that is not a file"),
        ),
        _ => (path, e),
    }
}

/// Limits the memory for data of a process, in bytes, and with it that of what it starts. One that
/// has ended already needs no limit.
fn limit_memory(id: i32, bytes: u64) {
    if let Some(pid) = rustix::process::Pid::from_raw(id) {
        let limit = rustix::process::Rlimit {
            current: Some(bytes),
            maximum: Some(bytes),
        };
        let _ = rustix::process::prlimit(Some(pid), rustix::process::Resource::Data, limit);
    }
}

/// Moves a descriptor out of the way of 0 to 2, which the child fills one by one.
fn above_standard(fd: OwnedFd) -> rustix::io::Result<OwnedFd> {
    if fd.as_raw_fd() > 2 {
        Ok(fd)
    } else {
        rustix::io::fcntl_dupfd_cloexec(&fd, 3)
    }
}

fn c_string(bytes: &[u8]) -> io::Result<CString> {
    CString::new(bytes)
        .map_err(|_| io::Error::new(io::ErrorKind::InvalidInput, "a word holds a NUL byte"))
}

/// Starts a process. A program that was just written may still be open for writing in a process
/// that another thread is about to start: that passes in a moment.
fn start_patiently(start: &Start<'_>) -> Result<Started, (Point, io::Error)> {
    let mut pause = Duration::from_micros(200);
    loop {
        match sys::start(start) {
            Err((Point::Program, e))
                if e.raw_os_error() == Some(libc::ETXTBSY) && pause.as_millis() < 400 =>
            {
                std::thread::sleep(pause);
                pause *= 2;
            }
            Err((Point::Confine, e)) => {
                let why = io::Error::new(e.kind(), format!("the kernel cannot confine it: {e}"));
                return Err((Point::Confine, why));
            }
            Err((Point::Furnish, e)) => {
                let why = io::Error::new(
                    e.kind(),
                    format!("the kernel cannot set up its sandbox: {e}"),
                );
                return Err((Point::Furnish, why));
            }
            Err((Point::Folder, e)) => {
                let why = io::Error::new(e.kind(), format!("cannot enter its folder: {e}"));
                return Err((Point::Folder, why));
            }
            started => return started,
        }
    }
}
