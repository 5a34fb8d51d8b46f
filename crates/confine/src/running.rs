//! Processes that go on while something else is done.

use std::collections::VecDeque;
use std::os::fd::OwnedFd;
use std::sync::Arc;
use std::thread::JoinHandle;
use std::time::Duration;

use parking_lot::Mutex;
use rustix::event::{PollFd, PollFlags, poll};
use rustix::pipe::{PipeFlags, pipe_with};

use crate::pipeline::{
    Ended, PATIENCE, PipelineSpec, Process, StartProblem, all_ended, end_all, how_ended, start_all,
};
use crate::sys;

/// Hears what processes print, as they print it.
pub type Echo = Box<dyn Fn(&[u8]) + Send>;

/// How much of what they print last is kept, in bytes.
const KEPT: usize = 64 << 10;

/// Processes that go on until they are stopped. Dropping it stops them.
pub struct Running {
    processes: Vec<Process>,
    printed: Arc<Mutex<VecDeque<u8>>>,
    reader: Option<JoinHandle<()>>,
    /// Dropped to let the reader end.
    hold: Option<OwnedFd>,
}

impl Running {
    /// Starts a pipeline in a process group of its own. Of `spec`, no time limit and no recorder
    /// are heeded.
    ///
    /// # Errors
    /// The program that could not be started, and why.
    pub fn start(spec: &PipelineSpec<'_>, echo: Option<Echo>) -> Result<Running, StartProblem> {
        let mut processes = Vec::new();
        let output = match start_all(spec, None, false, &mut processes) {
            Ok(outputs) => outputs.output,
            Err(problem) => {
                end_all(&mut processes, false);
                return Err(problem);
            }
        };
        let mut running = Running {
            processes,
            printed: Arc::default(),
            reader: None,
            hold: None,
        };
        if let (Some(output), Ok((told, hold))) = (output, pipe_with(PipeFlags::CLOEXEC)) {
            let printed = running.printed.clone();
            running.hold = Some(hold);
            running.reader = Some(std::thread::spawn(move || {
                read_all(&output, &told, &printed, echo)
            }));
        }
        Ok(running)
    }

    /// The number of the process group, which is that of the first process.
    pub fn group(&self) -> i32 {
        self.processes.first().map_or(0, |p| p.id)
    }

    /// How it ended, if a process of it has.
    pub fn ended(&mut self) -> Option<Ended> {
        let some = self
            .processes
            .iter()
            .any(|p| all_ended(std::slice::from_ref(p), Duration::ZERO));
        some.then(|| {
            self.end();
            how_ended(&self.processes)
        })
    }

    /// The last of what was printed.
    pub fn printed(&self) -> Vec<u8> {
        self.printed.lock().iter().copied().collect()
    }

    /// Asks the processes to end, and ends those that do not in time; gives the last of what was
    /// printed.
    pub fn stop(mut self) -> Vec<u8> {
        self.ask_to_end();
        self.end();
        self.printed()
    }

    fn ask_to_end(&self) {
        if self.processes.iter().any(|p| p.exit.is_none()) {
            sys::ask_group_to_end(self.group());
            all_ended(&self.processes, PATIENCE);
        }
    }

    /// Waits for the processes to end by themselves, but only so long.
    pub fn wait(&self, patience: Duration) -> bool {
        all_ended(&self.processes, patience)
    }

    /// Ends what still runs, and reads the rest of the output.
    fn end(&mut self) {
        if self.processes.iter().any(|p| p.exit.is_none()) {
            // The leader was not waited for yet, so the group's number is still ours.
            sys::kill_group(self.group());
            for process in &mut self.processes {
                process.exit.get_or_insert_with(|| sys::wait(process.id));
            }
        }
        self.hold = None;
        if let Some(reader) = self.reader.take() {
            let _ = reader.join();
        }
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        self.ask_to_end();
        self.end();
    }
}

/// Reads output until it ends, or until `told` is and nothing more is there.
fn read_all(output: &OwnedFd, told: &OwnedFd, printed: &Mutex<VecDeque<u8>>, echo: Option<Echo>) {
    let mut buffer = [0u8; 8 << 10];
    loop {
        let mut fds = [
            PollFd::new(output, PollFlags::IN),
            PollFd::new(told, PollFlags::IN),
        ];
        match poll(&mut fds, None) {
            Ok(_) => {}
            Err(rustix::io::Errno::INTR) => continue,
            Err(_) => return,
        }
        if fds[0].revents().is_empty() {
            return;
        }
        match rustix::io::read(output, &mut buffer) {
            Ok(0) => return,
            Ok(count) => {
                if let Some(echo) = &echo {
                    echo(&buffer[..count]);
                }
                let mut printed = printed.lock();
                printed.extend(&buffer[..count]);
                let over = printed.len().saturating_sub(KEPT);
                printed.drain(..over);
            }
            Err(rustix::io::Errno::INTR) => {}
            Err(_) => return,
        }
    }
}
