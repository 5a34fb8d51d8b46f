//! The life of a terminal: what moves is wiped before something else is shown.

#![allow(clippy::unwrap_used)] // A test that panics has failed, which is right.

mod sandbox;

use std::fs;
use std::io::Read;
use std::process::Command;
use std::sync::Arc;
use std::time::{Duration, Instant};

use parking_lot::Mutex;
use rustix::pty::{OpenptFlags, openpt, ptsname, unlockpt};
use rustix::termios::{Winsize, tcsetwinsize};
use sandbox::Sandbox;

/// Waits for something.
fn until<T>(what: &str, found: impl Fn() -> Option<T>) -> T {
    let began = Instant::now();
    loop {
        if let Some(found) = found() {
            return found;
        }
        assert!(began.elapsed() < Duration::from_secs(30), "it does not come: {what}");
        std::thread::sleep(Duration::from_millis(10));
    }
}

#[test]
fn who_is_stopped_for_a_while_leaves_no_view_behind() {
    let file = [("targets.nub", "target slow = step { run = sh`sleep 3; echo > {out \"x\"}` }\n")];
    let sandbox = Sandbox::new(&file);
    let controller = openpt(OpenptFlags::RDWR | OpenptFlags::NOCTTY | OpenptFlags::CLOEXEC).unwrap();
    unlockpt(&controller).unwrap();
    let name = ptsname(&controller, Vec::new()).unwrap();
    let terminal = fs::File::options().read(true).write(true).open(name.to_str().unwrap()).unwrap();
    tcsetwinsize(&terminal, Winsize { ws_row: 24, ws_col: 80, ws_xpixel: 0, ws_ypixel: 0 }).unwrap();
    let mut command = sandbox.command(&["build"]);
    let mut child = command.env("TERM", "xterm").stdout(terminal).spawn().unwrap();
    // Its end of the terminal is the only one left.
    drop(command);
    let shown = Arc::new(Mutex::new(Vec::new()));
    let (mut from, to) = (fs::File::from(controller), shown.clone());
    let reading = std::thread::spawn(move || {
        let mut some = [0; 4096];
        while let Ok(count @ 1..) = from.read(&mut some) {
            to.lock().extend(&some[..count]);
        }
    });
    let text = || String::from_utf8_lossy(&shown.lock()).into_owned();
    until("the view", || text().contains("at work").then_some(()));
    let program = child.id().to_string();
    let signal = |name: &str| Command::new("kill").args([name, &program]).status().unwrap();
    signal("-TSTP");
    until("it stops", || {
        let status = fs::read_to_string(format!("/proc/{program}/status")).unwrap();
        status.contains("State:\tT").then_some(())
    });
    let wiped = until("it is wiped", || Some(text()).filter(|text| text.ends_with("\x1b[2K")));
    signal("-CONT");
    until("the view is back", || text()[wiped.len()..].contains("at work").then_some(()));
    assert!(child.wait().unwrap().success());
    reading.join().unwrap();
    assert!(text().contains("1 of 1 step ran"), "{}", text());
}
