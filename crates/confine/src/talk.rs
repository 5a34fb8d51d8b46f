//! A program that stays, and answers one request after another: a line to its standard input, a
//! line from its standard output.

use std::io;
use std::os::fd::OwnedFd;
use std::path::PathBuf;
use std::time::{Duration, Instant};

use rustix::event::{PollFd, PollFlags, Timespec, poll};

use crate::cancel::CancelSwitch;
use crate::pipeline::{
    Capture, Ended, PATIENCE, PipelineSpec, Process, Source, all_ended, end_all, how_ended,
    start_talking,
};
use crate::sys;

/// How long an answer may be, in bytes.
const LONGEST_ANSWER: usize = 64 << 20;

/// A program that stays. Dropping it ends it.
pub struct Talk {
    process: Process,
    requests: OwnedFd,
    answers: OwnedFd,
    errors: OwnedFd,
    /// What was read behind the last answer.
    ahead: Vec<u8>,
}

/// What can be done with the streams of a program.
struct ReadyStreams {
    answered: bool,
    takes_more: bool,
    complained: bool,
}

/// What came of a request.
#[derive(Debug)]
pub enum Answered {
    /// The line of the answer, without its end.
    Line(Vec<u8>),
    /// It ended instead, or was ended, so.
    Ended(Ended),
    /// It said more than one line, or something that was not asked for, and was ended: how that
    /// begins. Which request a line answers cannot be known then.
    TooMuch(Vec<u8>),
}

impl Talk {
    /// Starts the one program of `spec`, of which no redirect, time limit or recorder is heeded.
    ///
    /// # Errors
    /// The program that could not be started, and why.
    pub fn start(spec: &PipelineSpec<'_>) -> Result<Talk, (PathBuf, io::Error)> {
        let (process, requests, answers, errors) = start_talking(spec)?;
        Ok(Talk {
            process,
            requests,
            answers,
            errors,
            ahead: Vec::new(),
        })
    }

    /// Sends a request, which ends with a line end, and waits for the answer. What is printed to
    /// standard error meanwhile is added to `printed`. After anything but an answer the program
    /// does not run any more.
    pub fn ask(
        &mut self,
        request: &[u8],
        printed: &mut Capture,
        cancel: &CancelSwitch,
        timeout: Option<Duration>,
    ) -> Answered {
        let deadline = timeout.map(|limit| Instant::now() + limit);
        if let Some(said) = self.said_unasked() {
            return Answered::TooMuch(said);
        }
        let (mut unsent, mut buffer) = (request, [0u8; 8 << 10]);
        let (mut is_closed, mut complains) = (false, true);
        loop {
            if let Some(end) = memchr(b'\n', &self.ahead) {
                let mut line: Vec<u8> = self.ahead.drain(..=end).collect();
                line.pop();
                self.read_errors(printed);
                return match self.said_unasked() {
                    Some(said) => Answered::TooMuch(said),
                    None => Answered::Line(line),
                };
            }
            if is_closed || self.ahead.len() > LONGEST_ANSWER {
                self.read_errors(printed);
                return self.ended();
            }
            let left = deadline.map(|deadline| deadline.saturating_duration_since(Instant::now()));
            let Some(ready) = self.wait(cancel, !unsent.is_empty(), complains, left) else {
                self.end();
                return Answered::Ended(Ended::Cancelled);
            };
            if left == Some(Duration::ZERO) {
                self.end();
                return Answered::Ended(Ended::TimedOut);
            }
            if ready.complained
                && let Ok(count) = rustix::io::read(&self.errors, &mut buffer)
            {
                printed.add(&buffer[..count], Source::Output);
                complains = count > 0;
            }
            if ready.answered
                && let Ok(count) = rustix::io::read(&self.answers, &mut buffer)
            {
                self.ahead.extend_from_slice(&buffer[..count]);
                is_closed = count == 0;
            }
            if ready.takes_more {
                match rustix::io::write(&self.requests, unsent) {
                    Ok(count) => unsent = &unsent[count..],
                    Err(rustix::io::Errno::AGAIN | rustix::io::Errno::INTR) => {}
                    // It does not read any more: what it says for an end comes next.
                    Err(_) => unsent = &[],
                }
            }
        }
    }

    /// What it said that nobody asked for, as far as that came; then it is ended.
    fn said_unasked(&mut self) -> Option<Vec<u8>> {
        let mut buffer = [0u8; 200];
        while self.ahead.is_empty() {
            let mut fds = [PollFd::new(&self.answers, PollFlags::IN)];
            let now = Timespec {
                tv_sec: 0,
                tv_nsec: 0,
            };
            if !matches!(poll(&mut fds, Some(&now)), Ok(1))
                || !fds[0].revents().contains(PollFlags::IN)
            {
                return None;
            }
            match rustix::io::read(&self.answers, &mut buffer) {
                Ok(count) if count > 0 => self.ahead.extend_from_slice(&buffer[..count]),
                Err(rustix::io::Errno::INTR) => {}
                _ => return None,
            }
        }
        self.end();
        Some(std::mem::take(&mut self.ahead))
    }

    /// Waits until something can be done, but only so long. `None` when everything is to stop.
    fn wait(
        &self,
        cancel: &CancelSwitch,
        sends: bool,
        complains: bool,
        left: Option<Duration>,
    ) -> Option<ReadyStreams> {
        let mut fds = vec![
            PollFd::new(cancel.signal(), PollFlags::IN),
            PollFd::new(&self.answers, PollFlags::IN),
        ];
        // What is done with is not looked at any more: it would be ready for ever.
        let sends = sends.then(|| {
            fds.push(PollFd::new(&self.requests, PollFlags::OUT));
            fds.len() - 1
        });
        let complains = complains.then(|| {
            fds.push(PollFd::new(&self.errors, PollFlags::IN));
            fds.len() - 1
        });
        let ended = poll(
            &mut fds,
            left.and_then(|left| Timespec::try_from(left).ok()).as_ref(),
        );
        let is_ready = |at: usize| !fds[at].revents().is_empty();
        if !matches!(ended, Ok(_) | Err(rustix::io::Errno::INTR)) || is_ready(0) {
            return None;
        }
        Some(ReadyStreams {
            answered: is_ready(1),
            takes_more: sends.is_some_and(is_ready),
            complained: complains.is_some_and(is_ready),
        })
    }

    /// Reads what is there of the errors, without waiting for more.
    fn read_errors(&self, printed: &mut Capture) {
        let mut buffer = [0u8; 8 << 10];
        loop {
            let mut fds = [PollFd::new(&self.errors, PollFlags::IN)];
            let now = Timespec {
                tv_sec: 0,
                tv_nsec: 0,
            };
            if !matches!(poll(&mut fds, Some(&now)), Ok(1)) {
                return;
            }
            match rustix::io::read(&self.errors, &mut buffer) {
                Ok(count) if count > 0 => printed.add(&buffer[..count], Source::Output),
                _ => return,
            }
        }
    }

    /// How it ended; a program that closed its output has a moment to end.
    fn ended(&mut self) -> Answered {
        all_ended(std::slice::from_ref(&self.process), PATIENCE);
        self.end();
        Answered::Ended(how_ended(std::slice::from_ref(&self.process)))
    }

    fn end(&mut self) {
        if self.process.exit.is_none() {
            // It was not waited for yet, so the group's number is still ours.
            sys::kill_group(self.process.id);
            self.process.exit = Some(sys::wait(self.process.id));
        }
    }
}

impl Drop for Talk {
    fn drop(&mut self) {
        if self.process.exit.is_none() {
            end_all(std::slice::from_mut(&mut self.process), false);
        }
    }
}

fn memchr(byte: u8, bytes: &[u8]) -> Option<usize> {
    bytes.iter().position(|b| *b == byte)
}
