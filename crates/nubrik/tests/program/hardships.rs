//! Full disks, stores that cannot be written, and clocks that go wrong: nothing wrong, nothing
//! lost, a clear word.

use std::process::Command;

use crate::sandbox::Sandbox;
use nubrik_testing::{Need, skip};

/// Eight outputs of 600 kB, by a script that does not look whether it could write.
const DEFINITIONS: &str = "target big = {each n in [\"0\", \"1\", \"2\", \"3\", \"4\", \"5\", \"6\", \"7\"] give\n    \
    n: step { run = `sh -c 'head -c 600000 /dev/zero > \"$1\"; cat \"$2\" >> \"$1\"; true' sh {out \"{n}.bin\"} {in \"a.txt\"}` }}\n";

/// Runs a script in a mount namespace of its own; `None` where this machine does not allow that.
fn with_mounts(sandbox: &Sandbox, script: &str) -> Option<String> {
    let program = crate::sandbox::program();
    let output = Command::new("unshare")
        .args(["--mount", "sh", "-c", &format!("set -u; {script}")])
        .current_dir(&sandbox.folder)
        .env("NUBRIK", program)
        .env(
            "XDG_CACHE_HOME",
            sandbox.folder.parent().unwrap().join("cache"),
        )
        .output();
    let output = output.ok()?;
    let text = String::from_utf8_lossy(&output.stdout).into_owned()
        + &String::from_utf8_lossy(&output.stderr);
    if text.contains("unshare:") || text.contains("mount:") {
        skip(Need::Superuser, "this test needs the right to mount");
        return None;
    }
    Some(text)
}

fn sizes(text: &str) -> Vec<&str> {
    text.lines().filter(|l| l.starts_with("size ")).collect()
}

#[test]
fn a_full_workspace_gives_no_half_results() {
    let sandbox = Sandbox::new(&[("targets.nub", DEFINITIONS), ("a.txt", "aaaa")]);
    let script = "mount -t tmpfs -o size=3m tmpfs . && cd \"$PWD\" && \
        printf '%s' \"$DEFINITIONS\" > targets.nub; : > nubrik.toml; printf aaaa > a.txt; \
        \"$NUBRIK\" build --plain -k; echo \"exit $?\"; \
        mount -o remount,size=30m . && \"$NUBRIK\" build --plain | tail -n 3; echo \"exit $?\"; \
        for f in out/default/big/*; do echo \"size $(wc -c < $f)\"; done";
    let Some(text) = with_mounts(
        &sandbox,
        &format!(
            "DEFINITIONS='{}'; {script}",
            DEFINITIONS.replace('\'', "'\\''")
        ),
    ) else {
        return;
    };
    assert!(text.contains("exit 5") || text.contains("exit 1"), "{text}");
    assert!(
        text.contains("No space left") || text.contains("the disk is full"),
        "{text}"
    );
    assert_eq!(sizes(&text), vec!["size 600004"; 8], "{text}");
}

#[test]
fn a_full_store_and_one_that_cannot_be_written_stop_nothing() {
    let sandbox = Sandbox::new(&[("targets.nub", DEFINITIONS), ("a.txt", "aaaa")]);
    let show = "for f in out/default/big/*; do echo \"size $(wc -c < $f)\"; done";
    let script = format!(
        "mkdir -p \"$XDG_CACHE_HOME\" && mount -t tmpfs -o size=400k tmpfs \"$XDG_CACHE_HOME\" && \
         \"$NUBRIK\" build --plain && {show}; rm -rf out .nubrik; \"$NUBRIK\" build --plain && {show}; \
         umount \"$XDG_CACHE_HOME\"; mount -t tmpfs -o ro tmpfs \"$XDG_CACHE_HOME\" && rm -rf out .nubrik; \
         \"$NUBRIK\" build --plain; echo \"exit $?\"; {show}"
    );
    let Some(text) = with_mounts(&sandbox, &script) else {
        return;
    };
    assert_eq!(
        text.matches("results are not being kept").count(),
        3,
        "{text}"
    );
    assert!(text.contains("exit 0"), "{text}");
    assert_eq!(sizes(&text), vec!["size 600004"; 24], "{text}");
}

#[test]
fn clocks_that_go_wrong_hide_no_edit() {
    let sandbox = Sandbox::new(&[
        (
            "targets.nub",
            "target a = step { run = `cp {in \"a.txt\"} {out \"out.txt\"}` }\n",
        ),
        ("a.txt", "one"),
    ]);
    let set_time = |seconds: i64| {
        let time = std::time::SystemTime::UNIX_EPOCH
            .checked_add(std::time::Duration::from_secs(seconds as u64))
            .unwrap();
        let file = std::fs::File::options()
            .write(true)
            .open(sandbox.folder.join("a.txt"))
            .unwrap();
        file.set_modified(time).unwrap();
    };
    // In the far past, in the far future, and the same time as before for another content.
    for (text, seconds) in [
        ("one", 0),
        ("two", 0),
        ("six", 4_000_000_000),
        ("ten", 4_000_000_000),
        ("one", 1),
    ] {
        sandbox.write("a.txt", text);
        set_time(seconds);
        sandbox.run(&["build"]).expect(0);
        assert_eq!(sandbox.read("out/default/a/out.txt"), text, "at {seconds}");
        let again = sandbox.run(&["build", "--json"]).expect(0);
        assert_eq!(again.summary()["current"], 1, "at {seconds}");
    }
}

#[test]
fn results_that_are_removed_while_they_are_put_there_come_back() {
    let sandbox = Sandbox::new(&[(
        "targets.nub",
        "target a = {each n in [\"1\", \"2\", \"3\", \"4\", \"5\", \"6\", \"7\", \"8\"] give n:\n\
         \x20   step { run = sh`sleep 0.01; echo {n} > {out \"o\"}` }}\n\
         target b = {each n, made in a give n: step { run = `cp {made} {out \"p\"}` }}\n",
    )]);
    for _ in 0..8 {
        let mut building = sandbox
            .command(&["build", "--no-cache", "--rerun"])
            .spawn()
            .unwrap();
        let results = sandbox.folder.join("out");
        while building.try_wait().unwrap().is_none() {
            let _ = std::fs::remove_dir_all(&results);
        }
        sandbox.run(&["build"]).expect(0);
        for n in 1..=8 {
            assert_eq!(
                sandbox.read(&format!("out/default/b/{n}/p")),
                format!("{n}\n")
            );
            assert_eq!(
                sandbox.read(&format!("out/default/a/{n}/o")),
                format!("{n}\n")
            );
        }
    }
}
