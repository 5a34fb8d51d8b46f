//! The life of a terminal: what moves is wiped before something else is shown.

use std::fs;
use std::io::Read;
use std::process::Command;
use std::sync::Arc;
use std::time::{Duration, Instant};

use crate::sandbox::Sandbox;
use parking_lot::Mutex;
use rustix::pty::{OpenptFlags, openpt, ptsname, unlockpt};
use rustix::termios::{Winsize, tcsetwinsize};

/// Waits for something.
fn until<T>(what: &str, found: impl Fn() -> Option<T>) -> T {
    let began = Instant::now();
    loop {
        if let Some(found) = found() {
            return found;
        }
        assert!(
            began.elapsed() < Duration::from_secs(30),
            "it does not come: {what}"
        );
        std::thread::sleep(Duration::from_millis(10));
    }
}

/// A terminal of some columns: the end of who reads it, and that of programs.
fn terminal(columns: u16) -> (fs::File, fs::File) {
    let controller =
        openpt(OpenptFlags::RDWR | OpenptFlags::NOCTTY | OpenptFlags::CLOEXEC).unwrap();
    unlockpt(&controller).unwrap();
    let name = ptsname(&controller, Vec::new()).unwrap();
    let terminal = fs::File::options()
        .read(true)
        .write(true)
        .open(name.to_str().unwrap())
        .unwrap();
    tcsetwinsize(
        &terminal,
        Winsize {
            ws_row: 24,
            ws_col: columns,
            ws_xpixel: 0,
            ws_ypixel: 0,
        },
    )
    .unwrap();
    (fs::File::from(controller), terminal)
}

/// The lines that a command shows in a terminal of some columns, without the codes that move the
/// cursor.
fn lines_at(sandbox: &Sandbox, columns: u16, args: &[&str]) -> Vec<String> {
    let (mut from, terminal) = terminal(columns);
    let mut command = sandbox.command(&[args, &["--color", "never"]].concat());
    let other = terminal.try_clone().unwrap();
    let mut child = command
        .env("TERM", "xterm")
        .stdout(terminal)
        .stderr(other)
        .spawn()
        .unwrap();
    drop(command);
    let (mut shown, mut some) = (Vec::new(), [0; 4096]);
    while let Ok(count @ 1..) = from.read(&mut some) {
        shown.extend(&some[..count]);
    }
    child.wait().unwrap();
    let mut text = String::new();
    let all = String::from_utf8_lossy(&shown).into_owned();
    for (n, part) in all.split("\x1b[").enumerate() {
        text.push_str(if n == 0 {
            part
        } else {
            part.split_once(|c: char| c.is_ascii_alphabetic())
                .unwrap()
                .1
        });
    }
    text.lines()
        .map(|line| line.rsplit('\r').next().unwrap().to_owned())
        .collect()
}

/// At each width no word is broken, times stay, and whatever is wrong says why.
#[test]
fn reasons_are_whole_at_each_width() {
    let sandbox = Sandbox::new(&[(
        "sources/calendar/targets.nub",
        "## The days of a calendar, one after the other, with the moon and the feasts of all seven isles.\n\
         target calendar_of_the_year = step { say = \"put the days of the year together\", run = `cattt {out \"x\"}` }\n\
         target follows = step { run = `cp {calendar_of_the_year} {out \"x\"}` }\n\
         test days_of_the_calendar = check { run = sh`exit 3` }\n\
         target fine = step { run = sh`sleep 0.02; echo fine > {out \"x\"}` }\n",
    )]);
    let cause = "there is no tool cattt on this machine";
    let blocked = "needs sources/calendar/calendar_of_the_year";
    for columns in [60, 80, 120] {
        for (args, reasons) in [
            (
                &["plan"][..],
                &["1 would fail, 1 would be blocked", cause, blocked][..],
            ),
            (&["build", "-k"], &[cause, blocked]),
            (&["test"], &["exited with code 3"]),
            (&["history", "1"], &[cause, blocked]),
            (&["why", "sources/calendar/follows"], &[cause]),
            (&["list"], &["calendar_of_the_year"]),
            (&["help"], &["nubrik"]),
            (&["doctor"], &["cattt"]),
        ] {
            let lines = lines_at(&sandbox, columns, args);
            let words = lines
                .join(" ")
                .split_whitespace()
                .collect::<Vec<&str>>()
                .join(" ")
                .replace('`', "");
            for reason in reasons {
                assert!(
                    words.contains(reason),
                    "{args:?} at {columns} lacks {reason}:\n{}",
                    lines.join("\n")
                );
            }
            for line in &lines {
                // What is to be pasted is one line, however long.
                let is_pasted = [
                    "  command",
                    "  try",
                    "  folder",
                    "  searched",
                    "  defined",
                    "  look",
                ]
                .iter()
                .any(|l| line.starts_with(l));
                let is_one_word = line.split_whitespace().count() < 2;
                let width = line.chars().count();
                assert!(
                    width <= usize::from(columns) || is_pasted || is_one_word,
                    "{args:?} at {columns}: {line}"
                );
            }
        }
    }
}

#[test]
fn who_is_stopped_for_a_while_leaves_no_view_behind() {
    let file = [(
        "targets.nub",
        "target slow = step { run = sh`sleep 3; echo > {out \"x\"}` }\n",
    )];
    let sandbox = Sandbox::new(&file);
    let (mut from, terminal) = terminal(80);
    let mut command = sandbox.command(&["build"]);
    let mut child = command
        .env("TERM", "xterm")
        .stdout(terminal)
        .spawn()
        .unwrap();
    // Its end of the terminal is the only one left.
    drop(command);
    let shown = Arc::new(Mutex::new(Vec::new()));
    let to = shown.clone();
    let reading = std::thread::spawn(move || {
        let mut some = [0; 4096];
        while let Ok(count @ 1..) = from.read(&mut some) {
            to.lock().extend(&some[..count]);
        }
    });
    let text = || String::from_utf8_lossy(&shown.lock()).into_owned();
    until("the view", || text().contains("at work").then_some(()));
    let program = child.id().to_string();
    let signal = |name: &str| {
        Command::new("kill")
            .args([name, &program])
            .status()
            .unwrap()
    };
    signal("-TSTP");
    until("it stops", || {
        let status = fs::read_to_string(format!("/proc/{program}/status")).unwrap();
        status.contains("State:\tT").then_some(())
    });
    let wiped = until("it is wiped", || {
        Some(text()).filter(|text| text.ends_with("\x1b[2K"))
    });
    signal("-CONT");
    until("the view is back", || {
        text()[wiped.len()..].contains("at work").then_some(())
    });
    assert!(child.wait().unwrap().success());
    reading.join().unwrap();
    assert!(text().contains("1 of 1 step ran"), "{}", text());
}

#[test]
fn the_colours_of_the_terminal_are_used_where_a_person_wants_them() {
    let sandbox = Sandbox::new(&[(
        "targets.nub",
        "target a = write { path = \"a\", text = \"tide\" }\n",
    )]);
    let usual = sandbox.run(&["list", "--color", "always"]).expect(0).stdout;
    assert!(usual.contains("\x1b[38;5;"), "{usual:?}");
    let own = sandbox
        .run_with(
            &["list", "--color", "always"],
            &[("NUBRIK_COLORS", "terminal")],
        )
        .expect(0)
        .stdout;
    assert!(own.contains("\x1b[") && !own.contains("38;5;"), "{own:?}");
}
