//! `nubrik watch`: the same again whenever something changed.

use std::ffi::OsString;
use std::process::{Child, Command, Stdio};
use std::sync::Arc;

use nubrik_answers::ChangedEvent;
use nubrik_confine::CancelSwitch;
use nubrik_engine::OutsideFiles;
use nubrik_session::{EditTrouble, EditWatch};

use super::build::{build_files, exit_of, lock};
use super::{CommandResult, evaluate_address, labelled, open_to_build, say_wrong};
use crate::arguments::{Choice, How, WatchCommand};
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, outln};
use crate::ui::paint::Ink;

/// How many changed files are named.
const NAMED: usize = 3;

pub fn watch(
    console: Console,
    choice: &Choice,
    watched: Option<&WatchCommand>,
) -> CommandResult<Exit> {
    if let Some(WatchCommand::Files { until, seal }) = watched {
        return super::watcher::serve(console, *until, seal.as_deref());
    }
    let session = open_to_build(console, choice, How::default())?;
    let root = session.workspace.root.clone();
    drop(session);
    let _watcher = super::watcher::Open::begin(&root);
    let cancel = crate::interrupt::cancel_switch().map_err(|e| {
        say_wrong(
            console,
            Exit::Own,
            &format!("cannot listen for signals: {e}"),
            &[],
        )
    })?;
    let edits = EditWatch::begin(&root).map_err(|trouble| {
        let mends: &[&str] = match trouble {
            EditTrouble::NoWatcher(_) => &[],
            EditTrouble::NoRoot(..) => &["sysctl fs.inotify.max_user_watches allows more folders"],
        };
        say_wrong(console, Exit::Machine, &trouble.to_string(), mends)
    })?;
    let rounds = Rounds {
        console,
        edits,
        cancel,
    };
    match watched {
        None
        | Some(WatchCommand::Build { .. } | WatchCommand::Test(_) | WatchCommand::Files { .. }) => {
            rounds.again_and_again()
        }
        Some(WatchCommand::Run(running)) => {
            let target = super::run::meant(console, choice, running.target.as_deref())?;
            rounds.keep_running(choice, &target)
        }
    }
}

/// What happens from change to change.
struct Rounds {
    console: Console,
    edits: EditWatch,
    cancel: Arc<CancelSwitch>,
}

impl Rounds {
    /// Builds or tests after each change.
    fn again_and_again(mut self) -> CommandResult<Exit> {
        loop {
            let mut child = self.start()?;
            let _ = child.wait();
            if self.cancel.is_thrown() {
                return Ok(Exit::Done);
            }
            self.say_waiting();
            let Some(changed) = self.changed(None) else {
                return Ok(Exit::Done);
            };
            self.say_changed(&changed);
        }
    }

    /// Keeps a job or program running, and starts it again when what it uses changed.
    fn keep_running(mut self, choice: &Choice, address: &str) -> CommandResult<Exit> {
        let mut running: Option<(Child, Vec<u8>)> = None;
        loop {
            // Without an answer (an error in the definitions, a failing step) what runs goes on.
            if let Ok(uses) = fingerprint(self.console, choice, address)
                && running.as_ref().is_none_or(|(_, before)| *before != uses)
            {
                if let Some((mut child, _)) = running.take() {
                    end(&mut child);
                    self.say("restarts", "its inputs changed");
                }
                running = Some((self.start()?, uses));
            }
            let changed = self.changed(running.as_mut().map(|(child, _)| child));
            if self.cancel.is_thrown() {
                if let Some((mut child, _)) = running {
                    end(&mut child);
                }
                return Ok(Exit::Done);
            }
            match changed {
                Some(changed) => self.say_changed(&changed),
                None => {
                    // It ended by itself: the next change starts it again.
                    running = None;
                    self.say_waiting();
                    let Some(changed) = self.changed(None) else {
                        return Ok(Exit::Done);
                    };
                    self.say_changed(&changed);
                }
            }
        }
    }

    /// Starts this program with the words after `watch`.
    fn start(&self) -> CommandResult<Child> {
        let program = std::env::current_exe().unwrap_or_else(|_| "nubrik".into());
        let child = Command::new(program)
            .args(words_without_watch())
            .current_dir(super::started_in())
            .stdin(Stdio::null())
            .spawn();
        let child = child.map_err(|e| {
            say_wrong(
                self.console,
                Exit::Own,
                &format!("cannot start nubrik again: {e}"),
                &[],
            )
        })?;
        // What is built in the meantime, to see whether anything changed, must not take it for a
        // step's.
        nubrik_confine::spare(child.id(), true);
        Ok(child)
    }

    /// Waits for files to change, and until they rest. `None` when it is to end, or when `child`
    /// has.
    fn changed(&mut self, mut child: Option<&mut Child>) -> Option<Vec<String>> {
        let mut has_ended = || {
            child
                .as_mut()
                .is_some_and(|c| matches!(c.try_wait(), Ok(Some(_)) | Err(_)))
        };
        let cancel = &self.cancel;
        self.edits.next(&|| cancel.is_thrown(), &mut has_ended)
    }

    fn say_changed(&self, files: &[String]) {
        if self.console.is_json() {
            return self.console.event(&ChangedEvent::of(files));
        }
        let more = files.len().saturating_sub(NAMED);
        let named = files[..files.len().min(NAMED)].join(", ");
        let more = if more > 0 {
            format!(" and {more} more")
        } else {
            String::new()
        };
        outln!(self.console);
        self.say("changed", &format!("{named}{more}"));
    }

    fn say_waiting(&self) {
        if !self.console.is_json() {
            self.say("waiting", "for changes; Ctrl-C to stop");
        }
    }

    fn say(&self, word: &str, text: &str) {
        let paint = self.console.paint(OutputStream::Output);
        if !self.console.is_json() {
            outln!(self.console, "{}", labelled(paint, Ink::Busy, word, text));
        }
    }
}

/// Lets a child end by itself, with all that it runs.
fn end(child: &mut Child) {
    let id = rustix::process::Pid::from_child(child);
    let _ = rustix::process::kill_process(id, rustix::process::Signal::TERM);
    let _ = child.wait();
    nubrik_confine::spare(child.id(), false);
}

/// The words of the command line without `watch`: those of a command. It cannot be the value of an
/// option that is before it.
fn words_without_watch() -> Vec<OsString> {
    let mut words: Vec<OsString> = std::env::args_os().skip(1).collect();
    let mut at = 0;
    while at < words.len() {
        let takes_value = ["--set", "--profile", "-C", "--directory", "--color"];
        if takes_value.iter().any(|option| words[at] == **option) {
            at += 2;
        } else if words[at] == "watch" {
            words.remove(at);
            // Without a word for it everything is built.
            if at == words.len() || words[at].to_string_lossy().starts_with('-') {
                words.insert(at, "build".into());
            }
            break;
        } else {
            at += 1;
        }
    }
    words
}

/// Builds what a job or program uses, and gives a digest of all that decides what it does.
fn fingerprint(console: Console, choice: &Choice, address: &str) -> CommandResult<Vec<u8>> {
    let mut session = open_to_build(console, choice, How::default())?;
    let mut workshop = lock(console, &mut session)?;
    let (patterns, evaluation) = evaluate_address(console, &mut workshop, address)?;
    let how = How::default();
    let graph = &evaluation.graph;
    let needed = (&evaluation, &*evaluation.requested);
    let report = build_files(
        console,
        &mut workshop,
        &patterns,
        needed,
        how,
        OutputStream::Error,
    )?;
    if exit_of(&report) != Exit::Done {
        return Err(exit_of(&report));
    }
    let mut files: Vec<_> = evaluation.requested.clone();
    files.extend(
        evaluation
            .effects
            .iter()
            .flat_map(|e| e.step.inputs.iter().copied()),
    );
    let mut text = format!("{:?}{:?}", evaluation.effects, evaluation.services);
    for path in evaluation.services.iter().flat_map(|s| &s.inputs) {
        let digest = workshop
            .machine()
            .digest(&path.into())
            .map(|d| d.hex())
            .unwrap_or_default();
        text.push_str(&format!("{} {digest}\n", path.as_str()));
    }
    for file in files {
        let path = &graph.file(file).path;
        let digest = workshop
            .machine()
            .digest(&path.into())
            .map(|d| d.hex())
            .unwrap_or_default();
        text.push_str(&format!("{path} {digest}\n"));
    }
    Ok(text.into_bytes())
}
