//! Programs that count which lines of their sources run: whatever step names one reads its counts,
//! too.

use std::rc::Rc;
use std::sync::Arc;

use nubrik_source::WsPath;

use super::Evaluator;
use super::forms::FormValues;
use super::strands::{leaves_of, scratch_path};
use crate::value::*;

/// The variable in which programs find the folder for their counts: its path from the workspace's
/// root.
pub(super) const COUNTS_VARIABLE: &str = "NUBRIK_COUNTS";

/// Where programs that a step runs write their counts: what `{scratchfolder "counts"}` in its
/// commands means.
pub(super) fn counts_folder(folder: &WsPath) -> WsPath {
    scratch_path(folder, "counts")
}

/// The commands of a step: its own, and behind them those that read what programs counted which it
/// names.
pub(super) struct StepCommands {
    all: Vec<Rc<CommandValue>>,
    /// How many are its own.
    own: usize,
}

impl StepCommands {
    /// The commands of something whose programs are not asked which lines ran.
    pub fn of(all: Vec<Rc<CommandValue>>) -> StepCommands {
        StepCommands {
            own: all.len(),
            all,
        }
    }

    /// All, in the order in which they run.
    pub fn all(&self) -> &[Rc<CommandValue>] {
        &self.all
    }

    /// Those that its definition names.
    pub fn own(&self) -> &[Rc<CommandValue>] {
        &self.all[..self.own]
    }

    /// Whether there are others.
    pub fn counts(&self) -> bool {
        self.own < self.all.len()
    }

    /// The others.
    pub fn counting(&self) -> &[Rc<CommandValue>] {
        &self.all[self.own..]
    }

    /// Where the others write which lines ran.
    pub fn accounts(&self) -> Vec<Arc<str>> {
        let written = |strand: &WordStrand| match strand {
            WordStrand::Out { path, .. } => Some(path.clone()),
            _ => None,
        };
        let mut accounts: Vec<Arc<str>> = leaves_of(self.counting())
            .into_iter()
            .filter_map(written)
            .collect();
        accounts.sort_unstable();
        accounts.dedup();
        accounts
    }
}

/// A command that writes its account into a folder of its own: those of several programs may have
/// the same name.
fn with_own_account(command: &CommandValue, number: usize) -> CommandValue {
    fn change(strand: &mut WordStrand, number: usize) {
        match strand {
            WordStrand::Out { name, path, .. } => {
                *name = None;
                *path = format!("lines/{number}/{path}").into();
            }
            WordStrand::Quoted(inner) => inner.iter_mut().for_each(|strand| change(strand, number)),
            _ => {}
        }
    }
    let mut command = command.clone();
    for stage in &mut command.stages {
        let redirected = stage
            .stdin
            .iter_mut()
            .chain(&mut stage.stdout)
            .chain(&mut stage.stderr);
        let words = stage.words.iter_mut().chain(redirected);
        words
            .flat_map(|(_, word)| word)
            .for_each(|strand| change(strand, number));
    }
    command
}

impl Evaluator<'_> {
    /// The commands of a step or check. A program that stays answers several steps: what it counted
    /// is none of theirs.
    pub(super) fn step_commands(&self, values: &FormValues) -> StepCommands {
        let mut commands = StepCommands::of(values.commands());
        let counting = &self.drafting.counting;
        if counting.is_empty() || !values.commands_of("answered_by").is_empty() {
            return commands;
        }
        let mut programs: Vec<u32> = Vec::new();
        for strand in leaves_of(&commands.all) {
            let WordStrand::File(FileRef {
                maker: Some(maker), ..
            }) = strand
            else {
                continue;
            };
            if counting.contains_key(maker) && !programs.contains(maker) {
                programs.push(*maker);
            }
        }
        for (number, program) in programs.iter().enumerate() {
            let apart = |command: &Rc<CommandValue>| Rc::new(with_own_account(command, number));
            commands.all.extend(counting[program].iter().map(apart));
        }
        commands
    }

    /// Takes note of the commands by which other steps read what the program of a step counted.
    pub(super) fn note_counting(&mut self, made: &Value, values: &FormValues) {
        let read_by = values.commands_of("counted_by");
        if let (Value::Step(number), false) = (made, read_by.is_empty()) {
            self.drafting.counting.insert(*number, read_by);
        }
    }
}
