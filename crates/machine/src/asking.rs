//! Programs of the machine that are asked what they are.

use std::ffi::OsString;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use nubrik_confine::{Ended, Recorder, StageSpec};
use nubrik_engine::is_own_end;
use parking_lot::Mutex;
use rustix::io::Errno;

use crate::ground::{Environment, LookingScope, Question};
use crate::machine::Machine;
use crate::search_path::called_by;

/// Asks programs of the machine for what they are, for a moment and a few words only.
pub(crate) struct Asking<'a> {
    machine: &'a Machine,
    /// Where programs are looked for, also as a variable.
    pub folders: &'a [PathBuf],
    search_path: &'a OsString,
    /// The first question that was cut off, and by what: nobody knows what the answer would have
    /// been.
    unanswered: Mutex<Option<Arc<str>>>,
}

/// How long an answer may take. It is long, since a tool without one is not used, and the machine
/// may be busy.
const ANSWER_TIME: Duration = Duration::from_secs(60);

/// How much of an answer is heard, in bytes.
const ANSWER_LIMIT: usize = 256 << 10;

/// How long an answer may take that only people want.
const SHORT_TIME: Duration = Duration::from_secs(10);

impl<'a> Asking<'a> {
    /// Programs of some folders are asked, which are also a variable for them.
    pub fn new(
        machine: &'a Machine,
        folders: &'a [PathBuf],
        search_path: &'a OsString,
    ) -> Asking<'a> {
        Asking {
            machine,
            folders,
            search_path,
            unanswered: Mutex::default(),
        }
    }

    /// The first question that was cut off, and by what.
    pub fn unanswered(&self) -> Option<Arc<str>> {
        self.unanswered.lock().clone()
    }

    /// What a program says to some words, on both streams, when it ends well. It reads the system's
    /// folders and its own only, writes nothing and has no network.
    pub fn ask(&self, program: &Path, words: &[&str]) -> Option<String> {
        self.ask_within(ANSWER_TIME, program, &program.to_string_lossy(), words)
    }

    /// The same of a program that is called by another name, for people: it is not waited for long.
    pub fn ask_shortly(&self, program: &Path, name: &str, words: &[&str]) -> Option<String> {
        self.ask_within(SHORT_TIME, program, name, words)
    }

    fn ask_within(
        &self,
        patience: Duration,
        program: &Path,
        name: &str,
        words: &[&str],
    ) -> Option<String> {
        let named = words
            .iter()
            .filter(|word| word.starts_with('/'))
            .map(PathBuf::from);
        let files = named
            .chain([program.to_owned(), program.canonicalize().ok()?])
            .collect();
        let mut environment = Environment::confined();
        environment.set("PATH", self.search_path.to_string_lossy());
        environment.set("LC_ALL", "C");
        self.answer(Question {
            stages: vec![stage(program, name, words)],
            environment: &environment,
            reads: LookingScope::Tools(files),
            patience,
            limit: ANSWER_LIMIT,
            as_one: true,
            noted_by: None,
        })
    }

    /// The same of a program that needs its own folders, wherever they are, and the person's
    /// variables: it may read all that the person may.
    pub fn ask_widely(
        &self,
        program: &Path,
        words: &[&str],
        recorder: Option<&Recorder<'_>>,
    ) -> Option<String> {
        self.answer(Question {
            stages: vec![stage(program, &program.to_string_lossy(), words)],
            environment: &Environment::of_person(),
            reads: LookingScope::Everything,
            patience: ANSWER_TIME,
            limit: ANSWER_LIMIT,
            as_one: false,
            noted_by: recorder,
        })
    }

    /// What was printed, where the command ended well.
    fn answer(&self, question: Question<'_>) -> Option<String> {
        let words: Vec<&str> = question
            .stages
            .iter()
            .flat_map(|s| &s.words)
            .map(|word| &**word)
            .collect();
        let words = words.join(" ");
        // Workers start nothing but steps.
        let looked = self.machine.with_network(|| self.machine.look(question));
        let cut_off = match &looked {
            Ok(looked) => cut_off(&looked.ended),
            Err(e) => passes(e).then(|| format!("cannot be started: {e}")),
        };
        if let Some(why) = cut_off {
            let mut unanswered = self.unanswered.lock();
            unanswered.get_or_insert_with(|| format!("`{words}` {why}").into());
        }
        let looked = looked.ok()?;
        matches!(looked.ended, Ended::Well)
            .then(|| String::from_utf8_lossy(&looked.output).into_owned())
    }
}

/// Why a program that was asked gave no answer, where it might give one another time.
fn cut_off(ended: &Ended) -> Option<String> {
    match ended {
        Ended::Well | Ended::Code(_) => None,
        // A program that breaks does so each time.
        Ended::Signal(signal) => {
            (!is_own_end(*signal)).then(|| format!("was ended by signal {signal}"))
        }
        Ended::Cancelled => Some("was stopped".to_owned()),
        Ended::TimedOut => Some(format!(
            "said nothing for {} seconds",
            ANSWER_TIME.as_secs()
        )),
        // What is no program stays none.
        Ended::NotStarted(_, e) => passes(e).then(|| format!("cannot be started: {e}")),
    }
}

/// Whether the machine only lacks something at the moment.
pub(crate) fn passes(e: &io::Error) -> bool {
    let passing = [
        Errno::AGAIN,
        Errno::INTR,
        Errno::MFILE,
        Errno::NFILE,
        Errno::NOMEM,
        Errno::NOSPC,
        // The program is being replaced.
        Errno::TXTBSY,
    ];
    Errno::from_io_error(e).is_some_and(|e| passing.contains(&e))
}

/// A program with its words, called by a name.
fn stage(program: &Path, name: &str, words: &[&str]) -> StageSpec {
    let words: Vec<Arc<str>> = [name]
        .iter()
        .chain(words)
        .map(|word| (*word).into())
        .collect();
    let words = called_by(program, &words);
    StageSpec {
        program: program.to_owned(),
        words,
        stdin: None,
        stdout: None,
        stderr: None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_what_was_cut_off_may_be_answered_otherwise_another_time() {
        let not_started = |e: Errno| Ended::NotStarted("cc".into(), io::Error::from(e));
        let lasting = [
            Ended::Well,
            Ended::Code(1),
            Ended::Signal(11),
            not_started(Errno::NOENT),
        ];
        assert!(lasting.iter().all(|ended| cut_off(ended).is_none()));
        let passing = [
            Ended::Cancelled,
            Ended::TimedOut,
            Ended::Signal(9),
            not_started(Errno::TXTBSY),
        ];
        assert!(passing.iter().all(|ended| cut_off(ended).is_some()));
    }
}
