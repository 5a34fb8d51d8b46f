//! Commands that only look: they change nothing, use no network, and get a limited time for a
//! limited answer. Samples, git and tools are asked so.

use std::io;
use std::path::{Path, PathBuf};
use std::time::Duration;

use nubrik_confine::{Access, Capture, Confinement, Ended, Recorder, RuleSet, StageSpec};
use parking_lot::Mutex;

use super::{Environment, Ground, needed_folder};
use crate::machine::Machine;

/// What a command that only looks may read, besides the folders of the system.
#[derive(Clone, Debug)]
pub enum LookingScope {
    /// Whatever its starter may.
    Everything,
    /// The folders that some files of tools need.
    Tools(Vec<PathBuf>),
}

/// Something to be found out by a command.
pub struct Question<'a> {
    /// The processes that find it out.
    pub stages: Vec<StageSpec>,
    /// Their variables.
    pub environment: &'a Environment,
    /// What they may read.
    pub reads: LookingScope,
    /// How long they may take.
    pub patience: Duration,
    /// How much is read, in bytes.
    pub limit: usize,
    /// Whether both streams are read as one, in the order in which they were written.
    pub as_one: bool,
    /// What notes the files that they use.
    pub noted_by: Option<&'a Recorder<'a>>,
}

/// What came of asking.
pub struct Looked {
    /// How it ended.
    pub ended: Ended,
    /// What was printed on the standard output.
    pub output: Vec<u8>,
    /// What was printed on the other stream, where it was read for itself.
    pub errors: Vec<u8>,
    /// Whether there was more output.
    pub is_cut: bool,
}

/// How many commands that look run now: what one leaves running cannot be distinguished from what
/// another one still needs.
static LOOKS: Mutex<usize> = Mutex::new(0);

impl Machine {
    /// Ends what commands left running that only looked, after the last of them.
    fn end_left_by_looks(&self) {
        let mut looks = LOOKS.lock();
        *looks -= 1;
        if *looks > 0 {
            return;
        }
        // Steps in sandboxes leave nothing to this program. By rules they do, and are known by
        // their folders.
        let in_sandboxes = self.has_sandboxes();
        let of_steps = self.temporary().home().to_string_lossy().into_owned();
        let is_left = |folder: Option<&str>| {
            in_sandboxes || folder.is_none_or(|folder| !folder.starts_with(&of_steps))
        };
        nubrik_confine::end_adopted(&is_left);
    }

    /// Asks in the workspace's root.
    ///
    /// # Errors
    /// When the command cannot be confined.
    pub fn look(&self, question: Question<'_>) -> io::Result<Looked> {
        let rules = RuleSet::new(self.system())?;
        match &question.reads {
            LookingScope::Everything => rules.allow(Path::new("/"), Access::Read)?,
            LookingScope::Tools(files) => {
                for folder in files
                    .iter()
                    .filter_map(|file| needed_folder(file, self.root()))
                {
                    rules.allow(&folder, Access::Read)?;
                }
            }
        }
        let ground = Ground {
            folder: self.root(),
            work: self.root(),
            environment: question.environment,
            confinement: Confinement::Looks(&rules),
        };
        let mut spec = ground.spec(question.stages);
        spec.timeout = Some(question.patience);
        spec.recorder = question.noted_by;
        let mut capture = if question.as_one {
            Capture::new(question.limit)
        } else {
            Capture::with_errors_apart(question.limit)
        };
        // What it leaves running becomes a child of this program.
        nubrik_confine::become_reaper();
        *LOOKS.lock() += 1;
        let ended = nubrik_confine::run(&spec, &mut capture, self.cancel());
        self.end_left_by_looks();
        let errors = capture.errors.unwrap_or_default();
        Ok(Looked {
            ended,
            output: capture.bytes,
            errors,
            is_cut: capture.cut > 0,
        })
    }
}
