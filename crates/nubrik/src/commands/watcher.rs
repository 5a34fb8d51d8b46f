//! The watcher: a process that is left behind, so that the next command looks at less.

use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use nubrik_confine::CancelSwitch;
use nubrik_disk::Below;
use nubrik_session::{
    Session, StartWatcher, WATCHER_LOG, WatcherEnding, WatcherHeld, serve_watcher,
};

use super::{CommandResult, labelled, say_wrong};
use crate::arguments::WatcherUntil;
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, errln};
use crate::ui::paint::Ink;

/// A watcher that nobody asks for so long ends.
const UNASKED: Duration = Duration::from_secs(30 * 60);

/// One that is there while something else is open waits so long for it.
const UNHELD: Duration = Duration::from_secs(5);

/// How often a watcher that was started is asked whether it has begun, and how long between.
const BEGINS: usize = 100;
const BEGINNING: Duration = Duration::from_millis(20);

/// Is the watcher of a workspace.
pub fn serve(console: Console, until: WatcherUntil, seal: Option<&str>) -> CommandResult<Exit> {
    let wrong = |message: String| say_wrong(console, Exit::Machine, &message, &["nubrik doctor"]);
    // Signals end it as they end any program: there is nothing to be put in order.
    let cancel = CancelSwitch::new().map_err(|e| wrong(format!("cannot watch: {e}")))?;
    let session = Session::open(&super::started_in(), Arc::new(cancel))
        .map_err(|problem| super::say_not_opened(console, &problem))?;
    let root = &session.workspace.root;
    session
        .can_watch()
        .map_err(|doubt| wrong(format!("cannot watch: {doubt}")))?;
    let life = match until {
        WatcherUntil::Unasked => nubrik_session::WatcherLife::Unasked(UNASKED),
        WatcherUntil::Alone => nubrik_session::WatcherLife::Held(UNHELD),
    };
    let program = nubrik_session::this_program();
    session
        .workspace
        .make_folders()
        .map_err(|problem| super::say_not_opened(console, &problem))?;
    let below = Below::new(root).and_then(|below| Ok((below, session.workspace.own()?)));
    let served = below.and_then(|(root, own)| serve_watcher(root, own, program, seal, life));
    let ending = served.map_err(|e| wrong(format!("cannot watch {}: {e}", root.display())))?;
    let why = match ending {
        WatcherEnding::Other => "another watcher is there",
        WatcherEnding::Over if until == WatcherUntil::Alone => "nothing is open that wants it",
        WatcherEnding::Over => "nobody asked for half an hour",
        WatcherEnding::Asked => "it was asked to end",
        WatcherEnding::OtherProgram => "another version of nubrik asked",
        WatcherEnding::Gone => "the workspace, or its folder .nubrik, is gone",
    };
    errln!(
        console,
        "{}",
        labelled(console.paint(OutputStream::Error), Ink::Calm, "ended", why)
    );
    Ok(Exit::Done)
}

/// What leaves a watcher behind in a workspace.
pub fn starter(session: &Session) -> StartWatcher {
    let root = session.workspace.root.clone();
    Box::new(move |own, seal| start(&root, own, WatcherUntil::Unasked, Some(seal)))
}

/// Starts a watcher. Without one everything takes as long as before: that it cannot be started is
/// no failure.
fn start(root: &Path, own: &Below, until: WatcherUntil, seal: Option<&str>) {
    let (Ok(program), Ok(log)) = (std::env::current_exe(), own.fresh_file(WATCHER_LOG, 0o600))
    else {
        return;
    };
    let mut command = Command::new(program);
    command.args(["watch", "files", "--plain", "--until", until.word()]);
    if let Some(seal) = seal {
        command.args(["--seal", seal]);
    }
    // Ctrl-C means who started it.
    command
        .process_group(0)
        .current_dir(root)
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(log);
    if let Ok(mut child) = command.spawn() {
        nubrik_confine::spare(child.id(), true);
        std::thread::spawn(move || drop(child.wait()));
    }
}

/// A watcher is there while this is.
pub struct Open {
    is_over: Arc<AtomicBool>,
    thread: Option<std::thread::JoinHandle<Option<WatcherHeld>>>,
}

impl Open {
    /// Has the watcher of a workspace stay, and starts one where there is none.
    pub fn begin(root: &Path) -> Open {
        let is_over = Arc::new(AtomicBool::new(false));
        let (over, root) = (is_over.clone(), root.to_owned());
        let thread = std::thread::spawn(move || stay(&root, &over));
        Open {
            is_over,
            thread: Some(thread),
        }
    }
}

/// Has the watcher of a workspace stay, and starts one where there is none; `None` where none can
/// be.
fn stay(root: &Path, is_over: &AtomicBool) -> Option<WatcherHeld> {
    let session = Session::open(root, Arc::new(CancelSwitch::new().ok()?)).ok()?;
    let own = session.workspace.own().ok()?;
    session.can_watch().ok()?;
    let mut held = session.keep_watcher();
    if held.is_none() {
        start(root, &own, WatcherUntil::Alone, None);
    }
    // It takes a moment to begin.
    for _ in 0..BEGINS {
        if held.is_some() || is_over.load(Ordering::Relaxed) {
            break;
        }
        std::thread::sleep(BEGINNING);
        held = session.keep_watcher();
    }
    held
}

impl Drop for Open {
    fn drop(&mut self) {
        self.is_over.store(true, Ordering::Relaxed);
        // What it gives ends here, and with it the watcher.
        let _ = self.thread.take().map(std::thread::JoinHandle::join);
    }
}
