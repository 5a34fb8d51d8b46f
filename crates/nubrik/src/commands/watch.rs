//! `nubrik watch`: the same again whenever something changed.

use std::collections::BTreeSet;
use std::ffi::OsString;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::sync::mpsc::{Receiver, RecvTimeoutError, channel};
use std::time::{Duration, Instant, SystemTime};

use ignore::gitignore::Gitignore;
use notify::{RecursiveMode, Watcher};
use nubrik_answers::ChangedEvent;
use nubrik_confine::CancelSwitch;
use nubrik_engine::OutsideFiles;
use nubrik_lang::TARGETS_FILE;

use super::build::{build_files, exit_of, lock};
use super::{CommandResult, evaluate_address, labelled, open_to_build, say_wrong};
use crate::arguments::{Choice, How, WatchCommand};
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, outln};
use crate::ui::paint::Ink;

/// Changes that follow one another so closely are one: editors write a file in several moves.
const QUIET: Duration = Duration::from_millis(80);

/// Changes that never cease are waited for no longer than this.
const PATIENCE: Duration = Duration::from_millis(1_500);

/// How often the switch for the end is looked at.
const TICK: Duration = Duration::from_millis(100);

/// How many changed files are named.
const NAMED: usize = 3;

pub fn watch(console: Console, choice: &Choice, watched: Option<&WatchCommand>) -> CommandResult<Exit> {
    if let Some(WatchCommand::Files { until, seal }) = watched {
        return super::watcher::serve(console, *until, seal.as_deref());
    }
    let session = open_to_build(console, choice, How::default())?;
    let root = session.workspace.root.clone();
    drop(session);
    let _watcher = super::watcher::Open::begin(&root);
    let cancel = crate::interrupt::cancel_switch()
        .map_err(|e| say_wrong(console, Exit::Own, &format!("cannot listen for signals: {e}"), &[]))?;
    let (sender, changes) = channel();
    let heard = move |event: notify::Result<notify::Event>| {
        let _ = sender.send(event);
    };
    let mut watcher: Box<dyn Watcher> = match notify::recommended_watcher(heard.clone()) {
        Ok(watcher) => Box::new(watcher),
        Err(_) => Box::new(polling(console, heard.clone())?),
    };
    if watcher.watch(&root, RecursiveMode::Recursive).is_err() {
        // The kernel watches so many folders and no more: then they are looked at again and again.
        watcher = Box::new(polling(console, heard)?);
        watcher.watch(&root, RecursiveMode::Recursive).map_err(|e| {
            let message = format!("cannot watch {}: {e}", root.display());
            say_wrong(
                console,
                Exit::Machine,
                &message,
                &["sysctl fs.inotify.max_user_watches allows more folders"],
            )
        })?;
    }
    let rounds = Rounds { console, changes, cancel, root, ignored: None };
    match watched {
        None | Some(WatchCommand::Build { .. } | WatchCommand::Test(_) | WatchCommand::Files { .. }) => {
            rounds.again_and_again()
        }
        Some(WatchCommand::Run(running)) => {
            let target = super::run::meant(console, choice, running.target.as_deref())?;
            rounds.keep_running(choice, &target)
        }
    }
}

fn polling(
    console: Console,
    heard: impl FnMut(notify::Result<notify::Event>) + Send + 'static,
) -> CommandResult<notify::PollWatcher> {
    let config = notify::Config::default().with_poll_interval(Duration::from_secs(1));
    notify::PollWatcher::new(heard, config)
        .map_err(|e| say_wrong(console, Exit::Machine, &format!("cannot watch files: {e}"), &[]))
}

/// What happens from change to change.
struct Rounds {
    console: Console,
    changes: Receiver<notify::Result<notify::Event>>,
    cancel: Arc<CancelSwitch>,
    root: PathBuf,
    /// What git ignores, and for which version of `.gitignore`.
    ignored: Option<(Option<SystemTime>, Gitignore)>,
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
            let Some(changed) = self.changed(None) else { return Ok(Exit::Done) };
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
                    let Some(changed) = self.changed(None) else { return Ok(Exit::Done) };
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
            say_wrong(self.console, Exit::Own, &format!("cannot start nubrik again: {e}"), &[])
        })?;
        // What is built in the meantime, to see whether anything changed, must not take it for a step's.
        nubrik_confine::spare(child.id(), true);
        Ok(child)
    }

    /// Waits for files to change, and until they rest. `None` when it is to end, or when `child` has.
    fn changed(&mut self, mut child: Option<&mut Child>) -> Option<Vec<String>> {
        let mut files: BTreeSet<String> = BTreeSet::new();
        let mut first: Option<Instant> = None;
        loop {
            if self.cancel.is_thrown() {
                return None;
            }
            let ended = child.as_mut().is_some_and(|c| matches!(c.try_wait(), Ok(Some(_)) | Err(_)));
            if ended && files.is_empty() {
                return None;
            }
            let wait = if files.is_empty() { TICK } else { QUIET };
            match self.changes.recv_timeout(wait) {
                Ok(Ok(event)) if !event.kind.is_access() => {
                    let paths: Vec<String> =
                        event.paths.iter().filter_map(|path| self.relevant(path)).collect();
                    if !paths.is_empty() {
                        first.get_or_insert_with(Instant::now);
                        files.extend(paths);
                    }
                }
                Ok(_) => {}
                Err(RecvTimeoutError::Timeout) if !files.is_empty() => break,
                Err(RecvTimeoutError::Timeout) => {}
                Err(RecvTimeoutError::Disconnected) => return None,
            }
            if first.is_some_and(|since| since.elapsed() > PATIENCE) {
                break;
            }
        }
        // What came and went in the meantime, as editors do it, is no news beside what stayed.
        let there: BTreeSet<String> = files.iter().filter(|f| self.root.join(f).exists()).cloned().collect();
        Some(if there.is_empty() { files } else { there }.into_iter().collect())
    }

    /// The path from the root of what may matter: nothing of the tool's own, of git's, or ignored, and no
    /// file that editors keep beside another one.
    fn relevant(&mut self, path: &Path) -> Option<String> {
        let inside = path.strip_prefix(&self.root).ok()?;
        let text = inside.to_str()?.to_owned();
        let mut parts = inside.components().map(|c| c.as_os_str().to_string_lossy());
        let first = parts.next()?;
        let name = inside.file_name()?.to_string_lossy();
        let of_editors = name.ends_with('~') || (name.starts_with('.') && name != ".gitignore");
        let own = matches!(&*first, "out" | ".nubrik" | ".git");
        if own || of_editors || self.is_ignored(inside, path.is_dir()) {
            return None;
        }
        Some(text)
    }

    fn is_ignored(&mut self, inside: &Path, folder: bool) -> bool {
        let file = self.root.join(nubrik_disk::IGNORE_FILE);
        let version = file.metadata().and_then(|m| m.modified()).ok();
        if self.ignored.as_ref().is_none_or(|(known, _)| *known != version) {
            let ignored = nubrik_disk::ignored_in(&self.root).unwrap_or_else(|_| Gitignore::empty());
            self.ignored = Some((version, ignored));
        }
        // Definitions count even where someone ignores them.
        inside.file_name().is_some_and(|n| n != TARGETS_FILE)
            && self
                .ignored
                .as_ref()
                .is_some_and(|(_, i)| i.matched_path_or_any_parents(inside, folder).is_ignore())
    }

    fn say_changed(&self, files: &[String]) {
        if self.console.is_json() {
            return self.console.event(&ChangedEvent::of(files));
        }
        let more = files.len().saturating_sub(NAMED);
        let named = files[..files.len().min(NAMED)].join(", ");
        let more = if more > 0 { format!(" and {more} more") } else { String::new() };
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

/// The words of the command line without `watch`: those of a command. It cannot be the value of an option that is before it.
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
    let report = build_files(console, &mut workshop, &patterns, needed, how, OutputStream::Error)?;
    if exit_of(&report) != Exit::Done {
        return Err(exit_of(&report));
    }
    let mut files: Vec<_> = evaluation.requested.clone();
    files.extend(evaluation.effects.iter().flat_map(|e| e.step.inputs.iter().copied()));
    let mut text = format!("{:?}{:?}", evaluation.effects, evaluation.services);
    for path in evaluation.services.iter().flat_map(|s| &s.inputs) {
        let digest = workshop.machine().digest(&path.into()).map(|d| d.hex()).unwrap_or_default();
        text.push_str(&format!("{} {digest}\n", path.as_str()));
    }
    for file in files {
        let path = &graph.file(file).path;
        let digest = workshop.machine().digest(&path.into()).map(|d| d.hex()).unwrap_or_default();
        text.push_str(&format!("{path} {digest}\n"));
    }
    Ok(text.into_bytes())
}
