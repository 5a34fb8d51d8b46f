//! Which programs commands start, with which words, and what each of them does with paths.

use std::collections::HashMap;
use std::fs;
use std::path::{Path, PathBuf};

use crate::call_paths::{text_at, word_at};
use crate::calls::PathUse;
use crate::sys::WantedCall;

/// A program that commands started. What it did before it was replaced by another one is its own;
/// what its threads did, too.
#[derive(Clone, PartialEq, Eq, Default, Debug)]
pub struct StartedProgram {
    /// The one that started it, by its place in the list; nothing for the first one.
    pub started_by: Option<usize>,
    /// Its file, with links followed.
    pub file: PathBuf,
    /// All its words, the first one included; cut where they are more than a recorder reads.
    pub words: Vec<String>,
    /// The folder that it was started in.
    pub folder: PathBuf,
    /// What it did with paths, each once and in order, links in them followed.
    pub used: Vec<(PathBuf, PathUse)>,
    /// What its standard input, output and errors were when it was started.
    pub streams: [ProgramStream; 3],
    /// What it renamed, in order: from where, and to where.
    pub renamed: Vec<(PathBuf, PathBuf)>,
}

/// What a standard stream of a program is.
#[derive(Clone, PartialEq, Eq, Default, Debug)]
pub enum ProgramStream {
    /// A file; its path.
    File(PathBuf),
    /// A pipe: the kernel's name for it, by which both of its ends are known.
    Pipe(String),
    /// Something else: a terminal, a socket, a device, or nothing.
    #[default]
    Other,
}

impl ProgramStream {
    /// A stream of a process.
    fn of(process: u32, number: u32) -> ProgramStream {
        let Ok(leads) = fs::read_link(format!("/proc/{process}/fd/{number}")) else {
            return ProgramStream::Other;
        };
        match leads.to_str() {
            Some(name) if name.starts_with("pipe:") => ProgramStream::Pipe(name.to_owned()),
            _ if leads.is_absolute() && !leads.starts_with("/dev") => ProgramStream::File(leads),
            _ => ProgramStream::Other,
        }
    }
}

/// How many words of a program are read.
const WORDS: usize = 65_536;

/// How many bytes of words are read.
const WORD_BYTES: usize = 8 << 20;

/// A process, or a thread: a number is used again, but not with the same start.
type ProcessKey = (u32, u64);

/// Notes programs as they are started.
#[derive(Default)]
pub(crate) struct ProgramLog {
    programs: Vec<StartedProgram>,
    /// Which program each process runs; nothing for the one that starts the first of them.
    processes: HashMap<ProcessKey, Option<usize>>,
    /// The processes of threads.
    threads: HashMap<ProcessKey, ProcessKey>,
}

impl ProgramLog {
    /// The programs so far, in the order in which they were started.
    pub fn programs(&self) -> Vec<StartedProgram> {
        self.programs.clone()
    }

    /// Notes that a thread uses a path; links in it are followed.
    pub fn uses(&mut self, thread: u32, path: &Path, touch: PathUse) {
        let Some(program) = self.program_of(thread) else {
            return;
        };
        // The strongest use counts, at its first place.
        match program
            .used
            .iter_mut()
            .rev()
            .take(NEAR)
            .find(|(known, _)| known == path)
        {
            Some((_, known)) => *known = (*known).max(touch),
            None => program.used.push((path.to_owned(), touch)),
        }
    }

    /// Notes that a thread renames something.
    pub fn renames(&mut self, thread: u32, from: PathBuf, to: PathBuf) {
        if let Some(program) = self.program_of(thread) {
            program.renamed.push((from, to));
        }
    }

    /// The program that a thread is of.
    fn program_of(&mut self, thread: u32) -> Option<&mut StartedProgram> {
        let key = self.process_of(thread)?;
        let program = (*self.processes.get(&key)?)?;
        self.programs.get_mut(program)
    }

    /// Notes that a process becomes a program, whose words are at an address in its memory. `file`
    /// is there and can be started.
    pub fn starts(&mut self, call: &WantedCall, words: u64, file: PathBuf) {
        let thread = call.thread;
        let Some(key) = self.process_of(thread) else {
            return;
        };
        let started_by = self.processes.get(&key).copied().flatten();
        let folder = fs::read_link(format!("/proc/{thread}/cwd")).unwrap_or_default();
        let words = words_at(thread, words);
        let streams = [0, 1, 2].map(|number| ProgramStream::of(thread, number));
        self.programs.push(StartedProgram {
            started_by,
            file,
            words,
            folder,
            streams,
            ..StartedProgram::default()
        });
        self.processes.insert(key, Some(self.programs.len() - 1));
    }

    /// The process of a thread, known from now on: one that is new runs what the process runs that
    /// it comes from.
    fn process_of(&mut self, thread: u32) -> Option<ProcessKey> {
        let (start, parent) = started_at(thread)?;
        let own = (thread, start);
        if self.processes.contains_key(&own) {
            return Some(own);
        }
        if let Some(process) = self.threads.get(&own) {
            return Some(*process);
        }
        let group = group_of(thread)?;
        if group != thread {
            let process = self.process_of(group)?;
            self.threads.insert(own, process);
            return Some(process);
        }
        let parent = started_at(parent).map(|(start, _)| (parent, start));
        let program = parent
            .and_then(|parent| self.processes.get(&parent))
            .copied()
            .flatten();
        self.processes.insert(own, program);
        Some(own)
    }
}

/// So many of the last paths of a program are compared with a new one; a path that comes back later
/// is noted again.
const NEAR: usize = 64;

/// When a process or thread began, in ticks of the machine, and who its parent is.
fn started_at(thread: u32) -> Option<(u64, u32)> {
    let stat = fs::read_to_string(format!("/proc/{thread}/stat")).ok()?;
    // The name between brackets may hold anything.
    let mut fields = stat.rsplit_once(')')?.1.split_ascii_whitespace();
    let parent = fields.nth(1)?.parse().ok()?;
    Some((fields.nth(17)?.parse().ok()?, parent))
}

/// The number of the process that a thread is of.
fn group_of(thread: u32) -> Option<u32> {
    let status = fs::read_to_string(format!("/proc/{thread}/status")).ok()?;
    status
        .lines()
        .find_map(|line| line.strip_prefix("Tgid:")?.trim().parse().ok())
}

/// The words of a list of addresses that a zero ends.
fn words_at(thread: u32, list: u64) -> Vec<String> {
    let (mut words, mut bytes) = (Vec::new(), 0);
    while words.len() < WORDS && bytes < WORD_BYTES {
        let at = list.wrapping_add(8 * words.len() as u64);
        let Some(word) = word_at(thread, at).filter(|at| *at != 0) else {
            break;
        };
        let Some(text) = text_at(thread, word) else {
            break;
        };
        bytes += text.len();
        words.push(String::from_utf8_lossy(&text).into_owned());
    }
    words
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use super::*;

    #[test]
    fn this_process_has_a_start_a_parent_and_threads() {
        let own = std::process::id();
        let (start, parent) = started_at(own).unwrap();
        assert!(start > 0 && parent > 0);
        assert_eq!(group_of(own), Some(own));
        let mut log = ProgramLog::default();
        let key = log.process_of(own).unwrap();
        assert_eq!(key, (own, start));
        // Of a thread that is there the process is known.
        std::thread::scope(|scope| {
            let here = scope.spawn(move || {
                let mut log = ProgramLog::default();
                let tasks = fs::read_link("/proc/thread-self").unwrap();
                let thread: u32 = tasks
                    .file_name()
                    .unwrap()
                    .to_str()
                    .unwrap()
                    .parse()
                    .unwrap();
                assert_ne!(thread, own);
                log.process_of(thread).unwrap()
            });
            assert_eq!(here.join().unwrap(), key);
        });
    }
}
