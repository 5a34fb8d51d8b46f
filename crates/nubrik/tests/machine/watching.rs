//! `nubrik watch`: rounds after changes, and what changes nothing.

use std::fs;
use std::io::{BufRead, BufReader};
use std::process::{Child, Command, Stdio};
use std::sync::mpsc::{Receiver, channel};
use std::time::{Duration, Instant};

use crate::sandbox::Sandbox;

/// A watching program, and the lines that it prints on both streams.
struct Watching {
    child: Child,
    lines: Receiver<String>,
    seen: String,
}

impl Watching {
    fn new(sandbox: &Sandbox, args: &[&str]) -> Watching {
        let mut command = sandbox.command(&[&["watch"], args, &["--plain"]].concat());
        let mut child = command
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        let (sender, lines) = channel();
        let other = sender.clone();
        let (stdout, stderr) = (child.stdout.take().unwrap(), child.stderr.take().unwrap());
        std::thread::spawn(move || {
            BufReader::new(stdout)
                .lines()
                .map_while(Result::ok)
                .for_each(|line| drop(sender.send(line)));
        });
        std::thread::spawn(move || {
            BufReader::new(stderr)
                .lines()
                .map_while(Result::ok)
                .for_each(|line| drop(other.send(line)));
        });
        Watching {
            child,
            lines,
            seen: String::new(),
        }
    }

    /// Waits until a line holds a text; panics after long in vain.
    fn until(&mut self, wanted: &str) {
        let deadline = Instant::now() + Duration::from_secs(30);
        while let Some(left) = deadline.checked_duration_since(Instant::now()) {
            let Ok(line) = self.lines.recv_timeout(left) else {
                break;
            };
            self.seen.push_str(&line);
            self.seen.push('\n');
            if line.contains(wanted) {
                return;
            }
        }
        panic!("no line with `{wanted}`:\n{}", self.seen);
    }

    /// Whether something is printed within a moment.
    fn says_anything(&self) -> bool {
        self.lines.recv_timeout(Duration::from_millis(700)).is_ok()
    }

    fn interrupt(mut self) -> (Option<i32>, String) {
        Command::new("kill")
            .args(["-INT", &self.child.id().to_string()])
            .status()
            .unwrap();
        let code = self.child.wait().unwrap().code();
        (code, self.seen)
    }
}

const DEFINITIONS: &str = "target table = step { run = `sort {in \"a.txt\"} > {out \"table.txt\"}` }\n\
    test sorted = check { run = `sort -c {table}` }\n\
    job serve_it = effect { run = sh`trap 'echo stopped; exit 0' TERM; printf 'up with '; head -n 1 {table}; while :; do sleep 0.05; done`, lasting = true }\n";

fn workspace() -> Sandbox {
    Sandbox::new(&[
        ("targets.nub", DEFINITIONS),
        ("a.txt", "b\na\n"),
        ("other.txt", ""),
        (".gitignore", "ignored\n"),
    ])
}

#[test]
fn builds_again_after_changes_however_they_come() {
    let sandbox = workspace();
    let mut watching = Watching::new(&sandbox, &[]);
    watching.until("waiting   for changes");
    assert_eq!(sandbox.read("out/default/table.txt"), "a\nb\n");
    sandbox.write("a.txt", "d\nc\n");
    watching.until("changed   a.txt");
    watching.until("ran       table");
    watching.until("waiting   for changes");
    assert_eq!(sandbox.read("out/default/table.txt"), "c\nd\n");
    // What the tool itself writes, what is ignored, and what editors keep for themselves is no
    // change.
    for path in ["ignored", ".a.txt.swp", "a.txt~", "out/mine", ".nubrik/x"] {
        sandbox.write(path, "x");
    }
    assert!(!watching.says_anything());
    // An editor that writes beside the file and renames.
    sandbox.write("4913.new", "f\ne\n");
    fs::rename(
        sandbox.folder.join("4913.new"),
        sandbox.folder.join("a.txt"),
    )
    .unwrap();
    watching.until("ran       table");
    watching.until("waiting");
    assert_eq!(sandbox.read("out/default/table.txt"), "e\nf\n");
    // An error in the definitions is said, and the next change goes on.
    sandbox.write("targets.nub", "target table = stp { }\n");
    watching.until("`stp` is not defined");
    watching.until("waiting");
    sandbox.write("targets.nub", DEFINITIONS);
    watching.until("waiting");
    // A folder that comes and goes.
    sandbox.write(
        "sub/deep/targets.nub",
        "target new = write { path = \"new\", text = \"x\" }\n",
    );
    watching.until("ran       sub/deep/new");
    watching.until("waiting");
    fs::remove_dir_all(sandbox.folder.join("sub")).unwrap();
    watching.until("changed   sub");
    watching.until("waiting");
    let (code, _) = watching.interrupt();
    assert_eq!(code, Some(0));
}

#[test]
fn tests_again_what_a_change_reaches() {
    let sandbox = workspace();
    let mut watching = Watching::new(&sandbox, &["test"]);
    watching.until("1 test passed");
    watching.until("waiting");
    sandbox.write("other.txt", "nobody reads it\n");
    watching.until("1 test passed, up to date");
    watching.until("waiting");
    sandbox.write(
        "targets.nub",
        &DEFINITIONS.replace("sort -c {table}", "sort -r -c {table}"),
    );
    watching.until("error: sorted: ");
    watching.until("waiting");
    assert_eq!(watching.interrupt().0, Some(0));
}

#[test]
fn a_lasting_job_is_started_anew_only_when_what_it_uses_changed() {
    let sandbox = workspace();
    let mut watching = Watching::new(&sandbox, &["run", "serve_it"]);
    watching.until("up with a");
    sandbox.write("other.txt", "nobody reads it\n");
    watching.until("changed   other.txt");
    assert!(!watching.says_anything(), "it goes on undisturbed");
    sandbox.write("a.txt", "d\nc\n");
    watching.until("stopped");
    watching.until("up with c");
    // With an error in the definitions the old one goes on.
    sandbox.write("targets.nub", "nonsense\n");
    watching.until("error");
    sandbox.write("targets.nub", &DEFINITIONS.replace("up with", "here with"));
    watching.until("stopped");
    watching.until("here with c");
    let (code, seen) = watching.interrupt();
    assert_eq!(code, Some(0));
    assert_eq!(seen.matches("stopped").count(), 2, "{seen}");
    let left = Command::new("sh")
        .args(["-c", "ps ax -o args | grep -c '[h]ere with'"])
        .output()
        .unwrap();
    assert_eq!(
        String::from_utf8_lossy(&left.stdout).trim(),
        "0",
        "nothing goes on behind it"
    );
}
