//! The watcher that commands leave behind: what is built with it, when it is stopped, killed, or
//! cannot be believed.

use std::fs;
use std::io::Write;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use crate::sandbox::Sandbox;
use nubrik_testing::{Need, skip};

const DEFINITIONS: &str = "target all = {each n in glob(\"src/*.txt\") give n.stem:\n\
    step { run = `sort {n} > {out \"{n.stem}.out\"}` }}\n";

/// A workspace that keeps a watcher; `None` where the kernel does not say all changes of its files.
fn workspace() -> Option<Sandbox> {
    let sandbox = Sandbox::new(&[
        ("nubrik.toml", "[watching]\nkeep = true\n"),
        ("targets.nub", DEFINITIONS),
        ("src/a.txt", "b\na\n"),
        ("src/b.txt", "d\nc\n"),
    ]);
    let said = watcher(&sandbox);
    if said.contains("of which the kernel does not say all changes") {
        skip(Need::Watching, &said);
        return None;
    }
    Some(sandbox)
}

/// What `nubrik doctor` says of the watcher.
fn watcher(sandbox: &Sandbox) -> String {
    let run = sandbox.run(&["doctor", "--json"]);
    let found = run
        .events()
        .into_iter()
        .find(|event| event["what"] == "watcher")
        .unwrap();
    format!(
        "{} {}",
        found["found"].as_str().unwrap_or_default(),
        found["searched"]
    )
}

/// Waits until the watcher says something.
fn until(sandbox: &Sandbox, wanted: impl Fn(&str) -> bool) -> String {
    let deadline = Instant::now() + Duration::from_secs(30);
    loop {
        let said = watcher(sandbox);
        if wanted(&said) {
            return said;
        }
        assert!(Instant::now() < deadline, "{said}");
        std::thread::sleep(Duration::from_millis(50));
    }
}

/// Builds, and waits until the watcher knows all of the workspace that can be known.
fn learnt(sandbox: &Sandbox) -> String {
    sandbox.run(&["build", "--json"]).expect(0);
    std::thread::sleep(Duration::from_millis(60));
    // What was just made may be too young to be sealed.
    sandbox.run(&["build", "--json"]).expect(0);
    until(sandbox, is_settled)
}

/// Whether most is known of the workspace: the settings and what the last command read of it are
/// looked at once more.
fn is_settled(said: &str) -> bool {
    let number = |before: &str| {
        let at = said.find(before)?;
        said[..at].rsplit(' ').next()?.parse::<usize>().ok()
    };
    let apart = number(" of them since").unwrap_or(0);
    let looked_at = number(" are looked at each time").unwrap_or(0);
    number(" of ").is_some_and(|same| same >= 8) && looked_at - apart <= 3
}

/// The watcher's process.
fn process(sandbox: &Sandbox) -> Option<u32> {
    let own = sandbox.folder.join(".nubrik/watcher.lock");
    for entry in fs::read_dir("/proc").unwrap().flatten() {
        let Ok(number) = entry.file_name().to_str().unwrap().parse::<u32>() else {
            continue;
        };
        let files = fs::read_dir(entry.path().join("fd"))
            .into_iter()
            .flatten()
            .flatten();
        if files
            .filter_map(|file| fs::read_link(file.path()).ok())
            .any(|path| path == own)
        {
            return Some(number);
        }
    }
    None
}

fn signal(name: &str, process: u32) {
    Command::new("kill")
        .args([name, &process.to_string()])
        .status()
        .unwrap();
}

/// Waits until a process is gone.
fn gone(process: u32) {
    let deadline = Instant::now() + Duration::from_secs(30);
    let state = |number: u32| fs::read_to_string(format!("/proc/{number}/stat"));
    // Who started it may not have taken note of its end.
    while state(process).is_ok_and(|text| !text.contains(") Z ")) {
        assert!(Instant::now() < deadline, "the watcher does not end");
        std::thread::sleep(Duration::from_millis(20));
    }
}

#[test]
fn what_changes_is_built_however_it_changes() {
    let Some(sandbox) = workspace() else { return };
    learnt(&sandbox);
    let watched = process(&sandbox).expect("a watcher");
    let build = |wanted: &[&str]| {
        let run = sandbox.run(&["build", "--json"]).expect(0);
        assert_eq!(run.ran(), wanted, "{}", run.stdout);
        std::thread::sleep(Duration::from_millis(60));
    };
    build(&[]);
    sandbox.write("src/a.txt", "z\nb\na\n");
    build(&["make a.out"]);
    assert_eq!(sandbox.read("out/default/all/a.out"), "a\nb\nz\n");
    learnt(&sandbox);
    // By another name, in a place that nobody watches.
    let elsewhere = sandbox.folder.join("../elsewhere");
    fs::hard_link(sandbox.folder.join("src/b.txt"), &elsewhere).unwrap();
    learnt(&sandbox);
    fs::File::options()
        .append(true)
        .open(&elsewhere)
        .unwrap()
        .write_all(b"a\n")
        .unwrap();
    build(&["make b.out"]);
    assert_eq!(sandbox.read("out/default/all/b.out"), "a\nc\nd\n");
    learnt(&sandbox);
    // A new one, one that goes, and a folder that is another one.
    sandbox.write("src/c.txt", "q\n");
    build(&["make c.out"]);
    fs::remove_file(sandbox.folder.join("src/a.txt")).unwrap();
    build(&[]);
    assert!(!sandbox.exists("out/default/all/a.out"));
    learnt(&sandbox);
    fs::rename(sandbox.folder.join("src"), sandbox.folder.join("old")).unwrap();
    sandbox.write("src/c.txt", "r\n");
    build(&["make c.out"]);
    assert!(!sandbox.exists("out/default/all/b.out"));
    learnt(&sandbox);
    // A result that somebody spoiled.
    fs::remove_file(sandbox.folder.join("out/default/all/c.out")).unwrap();
    build(&[]);
    assert_eq!(sandbox.read("out/default/all/c.out"), "r\n");
    assert_eq!(
        process(&sandbox),
        Some(watched),
        "it is the same one all the time"
    );
}

#[test]
fn a_watcher_that_is_stopped_or_killed_costs_nothing_but_time() {
    let Some(sandbox) = workspace() else { return };
    learnt(&sandbox);
    let first = process(&sandbox).expect("a watcher");
    signal("-STOP", first);
    sandbox.write("src/a.txt", "y\n");
    assert_eq!(
        sandbox.run(&["build", "--json"]).expect(0).ran(),
        ["make a.out"]
    );
    assert_eq!(process(&sandbox), Some(first), "no second one is there");
    sandbox.write("src/a.txt", "x\n");
    assert_eq!(
        sandbox.run(&["build", "--json"]).expect(0).ran(),
        ["make a.out"]
    );
    signal("-CONT", first);
    learnt(&sandbox);
    sandbox.write("src/b.txt", "w\n");
    signal("-KILL", first);
    gone(first);
    assert_eq!(
        sandbox.run(&["build", "--json"]).expect(0).ran(),
        ["make b.out"]
    );
    learnt(&sandbox);
    let second = process(&sandbox).expect("another watcher");
    assert_ne!(first, second);
    // It ends as any program does.
    signal("-TERM", second);
    gone(second);
    sandbox.write("src/b.txt", "v\n");
    assert_eq!(
        sandbox.run(&["build", "--json"]).expect(0).ran(),
        ["make b.out"]
    );
}

#[test]
fn all_is_looked_at_after_more_than_the_kernel_keeps_notes_of() {
    let Some(sandbox) = workspace() else { return };
    learnt(&sandbox);
    let watched = process(&sandbox).expect("a watcher");
    signal("-STOP", watched);
    let notes = fs::read_to_string("/proc/sys/fs/inotify/max_queued_events").unwrap();
    let file = sandbox.folder.join("src/a.txt");
    // Two kinds in turn: the kernel joins those that are the same.
    for _ in 0..notes.trim().parse::<usize>().unwrap() {
        drop(fs::File::open(&file).unwrap());
        fs::set_permissions(&file, fs::metadata(&file).unwrap().permissions()).unwrap();
    }
    // Of this there is no note.
    sandbox.write("src/b.txt", "w\n");
    signal("-CONT", watched);
    assert_eq!(
        sandbox.run(&["build", "--json"]).expect(0).ran(),
        ["make b.out"]
    );
    assert!(learnt(&sandbox).contains("more changed at once than the kernel keeps notes of"));
    assert_eq!(process(&sandbox), Some(watched));
}

#[test]
fn a_watcher_ends_with_its_workspace() {
    let Some(sandbox) = workspace() else { return };
    learnt(&sandbox);
    let first = process(&sandbox).expect("a watcher");
    fs::remove_dir_all(sandbox.folder.join(".nubrik")).unwrap();
    gone(first);
    assert_eq!(
        sandbox.run(&["build", "--json"]).expect(0).summary()["ok"],
        true
    );
    learnt(&sandbox);
    let second = process(&sandbox).expect("another watcher");
    fs::remove_dir_all(&sandbox.folder).unwrap();
    gone(second);
}

#[test]
fn a_file_in_the_way_of_the_watcher_is_no_failure() {
    let Some(sandbox) = workspace() else { return };
    learnt(&sandbox);
    let first = process(&sandbox).expect("a watcher");
    signal("-KILL", first);
    gone(first);
    // Whoever listens there is not this user's watcher: nobody does.
    fs::remove_file(sandbox.folder.join(".nubrik/watcher.socket")).unwrap();
    sandbox.write(".nubrik/watcher.socket", "not a socket");
    sandbox.write("src/a.txt", "y\n");
    assert_eq!(
        sandbox.run(&["build", "--json"]).expect(0).ran(),
        ["make a.out"]
    );
    learnt(&sandbox);
    assert!(process(&sandbox).is_some());
}

#[test]
fn without_the_setting_there_is_one_while_something_is_open() {
    let Some(sandbox) = workspace() else { return };
    sandbox.write("nubrik.toml", "");
    sandbox.run(&["build"]).expect(0);
    assert_eq!(process(&sandbox), None);
    assert!(
        watcher(&sandbox).starts_with("off: "),
        "{}",
        watcher(&sandbox)
    );
    let mut open = sandbox
        .command(&["watch", "--plain"])
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    until(&sandbox, |said| said.contains("are known"));
    let watched = process(&sandbox).expect("a watcher");
    sandbox.write("src/a.txt", "y\n");
    let deadline = Instant::now() + Duration::from_secs(30);
    while sandbox.read("out/default/all/a.out") != "y\n" {
        assert!(Instant::now() < deadline, "the change was not built");
        std::thread::sleep(Duration::from_millis(20));
    }
    signal("-INT", open.id());
    open.wait().unwrap();
    gone(watched);
}

#[test]
fn its_settings_are_read_strictly() {
    let sandbox = Sandbox::new(&[("nubrik.toml", "[watching]\nkeeps = true\n")]);
    sandbox
        .run(&["build"])
        .expect(3)
        .says("`watching` has no `keeps`; there is: keep");
    sandbox.write("nubrik.toml", "[watching]\nkeep = \"yes\"\n");
    sandbox
        .run(&["build"])
        .expect(3)
        .says("`keep` is true or false");
    sandbox.write("nubrik.toml", "watching = true\n");
    sandbox
        .run(&["build"])
        .expect(3)
        .says("`watching` is a table");
}
