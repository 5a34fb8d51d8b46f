//! What a request means, wherever it is made and whatever it resulted in before.

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::process::{Command, Stdio};
use std::time::Duration;

use crate::sandbox::Sandbox;

fn waits() {
    // A file that was written just now may change again without a trace: then nothing is sealed.
    std::thread::sleep(std::time::Duration::from_millis(60));
}

#[test]
fn a_request_that_came_to_nothing_is_looked_at_again() {
    let sandbox = Sandbox::new(&[("py/targets.nub", "test t = check { run = `true` }\n")]);
    waits();
    assert_eq!(
        sandbox.run(&["build", "py", "--json"]).expect(0).summary()["steps"],
        0
    );
    assert_eq!(
        sandbox.run(&["build", "py", "--json"]).expect(0).summary()["steps"],
        0
    );
    sandbox.write(
        "py/targets.nub",
        "target a = step { run = `echo x > {out \"w\"}` }\n",
    );
    assert_eq!(
        sandbox.run(&["build", "py", "--json"]).expect(0).ran(),
        ["make w"]
    );
    waits();
    sandbox.write("py/targets.nub", "test t = check { run = `true` }\n");
    waits();
    assert_eq!(
        sandbox.run(&["build", "py", "--json"]).expect(0).summary()["steps"],
        0
    );
    assert!(
        !sandbox.exists("out/default/py/a/w"),
        "what is no longer declared is gone"
    );
    sandbox.write("py/targets.nub", "target a = oops\n");
    let run = sandbox.run(&["build", "py"]).expect(3);
    assert!(
        run.stderr.contains("`oops` is not defined"),
        "{}",
        run.stderr
    );
}

#[test]
fn results_of_what_is_gone_go_whatever_was_sealed_before() {
    let each = "target a = {each p in glob(\"*.x\", or_none = true) give p.stem: step { run = `cp {p} {out \"w\"}` }}\n";
    let sandbox = Sandbox::new(&[("targets.nub", each)]);
    waits();
    // The seal is of the empty request; builds of files that are just written leave it as it is.
    sandbox.run(&["build"]).expect(0);
    let results = || {
        sandbox
            .files_below("out/default")
            .into_keys()
            .collect::<Vec<_>>()
    };
    for (present, wanted) in [
        (&["c"][..], &["out/default/a/c/w"][..]),
        (&["c", "d"], &["out/default/a/c/w", "out/default/a/d/w"]),
        (&["c"], &["out/default/a/c/w"]),
        (&[], &[]),
        (&["d"], &["out/default/a/d/w"]),
    ] {
        for name in ["c", "d"] {
            let path = format!("{name}.x");
            match present.contains(&name) {
                true if !sandbox.exists(&path) => sandbox.write(&path, name),
                true => {}
                false => drop(std::fs::remove_file(sandbox.folder.join(path))),
            }
        }
        sandbox.run(&["build"]).expect(0);
        assert_eq!(results(), wanted, "{present:?}");
    }
}

#[test]
fn an_entry_or_a_glob_takes_nothing_of_its_neighbours_away() {
    let sandbox = Sandbox::new(&[
        (
            "targets.nub",
            "target a = {each p in [\"k\", \"l\"] give p: step { run = `echo {p} > {out \"w\"}` }}\n",
        ),
        (
            "tide/targets.nub",
            "target tide = write { path = \"t\", text = \"1\" }\ntarget c = write { path = \"c\", text = \"1\" }\n",
        ),
        (
            "tidelands/targets.nub",
            "target b = write { path = \"b\", text = \"1\" }\n",
        ),
    ]);
    sandbox.build();
    let before = sandbox.files_below("out/default");
    for words in [
        &["a/k"][..],
        &["a/k*"],
        &["tide"],
        &["tide", "a/l"],
        &["tide/tide"],
    ] {
        sandbox
            .run(&[&["build", "--reasons"], words].concat())
            .expect(0);
        assert_eq!(sandbox.files_below("out/default"), before, "{words:?}");
    }
    // A name that begins with another one is another folder.
    sandbox.write(
        "tidelands/targets.nub",
        "target x = write { path = \"b\", text = \"1\" }\n",
    );
    sandbox.run(&["build", "tide", "tidelands"]).expect(0);
    assert!(
        !sandbox.exists("out/default/tidelands/b") && sandbox.exists("out/default/tidelands/x")
    );
}

#[test]
fn a_target_that_is_gone_is_an_error_and_a_name_means_no_more_than_it_did() {
    let sandbox = Sandbox::new(&[
        (
            "p/targets.nub",
            "target p = write { path = \"c\", text = \"1\" }\ntarget o = write { path = \"o\", text = \"1\" }\n",
        ),
        (
            "targets.nub",
            "target m = { \"k\": write { path = \"k\", text = \"1\" }, \"l\": write { path = \"l\", text = \"1\" } }\n",
        ),
    ]);
    waits();
    let steps =
        |word: &str| sandbox.run(&["build", word, "--json"]).expect(0).summary()["steps"].clone();
    for word in ["p", "p/p", "m/k"] {
        assert_eq!((steps(word), steps(word)), (1.into(), 1.into()), "{word}");
    }
    for path in ["p/targets.nub", "targets.nub"] {
        sandbox.write(
            path,
            &sandbox.read(path).replace("text = \"1\"", "text = \"2\""),
        );
    }
    for word in ["p", "p/p", "m/k"] {
        assert_eq!(steps(word), 1, "{word}, edited");
    }
    waits();
    for word in ["p", "p/p", "m/k"] {
        assert_eq!(steps(word), 1, "{word}, sealed");
    }
    std::fs::remove_file(sandbox.folder.join("p/targets.nub")).unwrap();
    sandbox.write(
        "targets.nub",
        "target other = write { path = \"x\", text = \"1\" }\n",
    );
    for word in ["p", "p/p", "m/k"] {
        let run = sandbox.run(&["build", word]).expect(2);
        assert!(
            run.stderr.contains("there is no target"),
            "{word}: {}",
            run.stderr
        );
    }
}

#[test]
fn no_word_means_everything_here_even_beside_a_target_of_the_folders_name() {
    let sandbox = Sandbox::new(&[
        (
            "clock/targets.nub",
            "target clock = write { path = \"c\", text = \"1\" }\ntarget other = write { path = \"o\", text = \"1\" }\n",
        ),
        (
            "clock/sub/targets.nub",
            "target x = write { path = \"x\", text = \"1\" }\n",
        ),
        ("clock/src/deep/note.txt", "a folder without a package\n"),
    ]);
    let steps = |folder: &str, words: &[&str]| {
        sandbox
            .run_in(folder, &[&["build", "--json"], words].concat())
            .expect(0)
            .summary()["steps"]
            .clone()
    };
    assert_eq!(steps("clock", &[]), 3);
    assert_eq!(steps("clock", &["."]), 3);
    assert_eq!(steps("", &["clock/."]), 3);
    assert_eq!(steps("", &["clock"]), 1, "the target of that name");
    let listed = sandbox
        .run_in("clock", &["list", "--plain"])
        .expect(0)
        .stdout;
    assert!(
        listed.contains("other") && listed.contains("clock/sub"),
        "{listed}"
    );
    // Below a package, and in no package: the package around it.
    assert_eq!(steps("clock/src/deep", &[]), 2);
    waits();
    assert_eq!(steps("clock/src/deep", &[]), 2);
    sandbox.write(
        "clock/targets.nub",
        "target clock = write { path = \"c\", text = \"1\" }\ntarget other = write { path = \"o\", text = \"1\" }\ntarget third = write { path = \"t\", text = \"1\" }\n",
    );
    assert_eq!(steps("clock/src/deep", &[]), 3);
}

#[test]
fn a_folder_outside_of_all_packages_is_said_to_be_one() {
    let sandbox = Sandbox::new(&[
        (
            "a/targets.nub",
            "target x = write { path = \"x\", text = \"1\" }\n",
        ),
        ("docs/note", ""),
    ]);
    let run = sandbox.run_in("docs", &["build"]).expect(2);
    assert!(
        run.stderr.contains("`docs` belongs to no package"),
        "{}",
        run.stderr
    );
    assert!(run.stderr.contains("nubrik list /"), "{}", run.stderr);
    sandbox.run_in("docs", &["list", "/"]).expect(0);
}

#[test]
fn a_first_definition_is_written_wherever_there_is_none() {
    let sandbox = Sandbox::new(&[("c/src/main.c", "int main(void) { return 0; }\n")]);
    let run = sandbox.run(&["build"]).expect(3);
    assert!(run.stderr.contains("nubrik init"), "{}", run.stderr);
    let run = sandbox.run_in("c", &["init", "--plain"]).expect(0);
    assert!(
        run.stdout.contains("wrote     targets.nub")
            && !run.stdout.contains("wrote     nubrik.toml")
    );
    assert!(
        sandbox
            .read("c/targets.nub")
            .contains("target c_program = c.program"),
        "a name that the kit does not have"
    );
    sandbox.run(&["list"]).expect(0);
    sandbox.run_in("c", &["init"]).expect(2);
}

#[test]
fn a_tool_that_was_asked_when_the_build_was_stopped_is_asked_again() {
    let sandbox = Sandbox::new(&[(
        "targets.nub",
        "target a = step { run = `cc > {out \"x\"}` }\n",
    )]);
    let tools = sandbox.folder.parent().unwrap().join("tools");
    fs::create_dir_all(&tools).unwrap();
    let write = |name: &str, text: &str| {
        let at = tools.join(name);
        fs::write(&at, text).unwrap();
        fs::set_permissions(&at, fs::Permissions::from_mode(0o755)).unwrap();
    };
    // A compiler that starts another program, and takes its time to say so.
    write("cc1", "#!/bin/sh\necho one\n");
    let part = "\"${0%/*}\"/cc1";
    let cc = format!(
        "#!/bin/sh\ncase \"$1\" in\n-print-prog-name=cc1) sleep 1; echo {part};;\n-*) ;;\n*) {part};;\nesac\n"
    );
    write("cc", &cc);
    let path = format!("{}:{}", tools.display(), std::env::var("PATH").unwrap());
    let command = || {
        let mut command = sandbox.command(&["build"]);
        command.env("PATH", &path).stdout(Stdio::null());
        command
    };
    let mut stopped = command().spawn().unwrap();
    std::thread::sleep(Duration::from_millis(500));
    Command::new("kill")
        .args(["-INT", &stopped.id().to_string()])
        .status()
        .unwrap();
    assert_eq!(stopped.wait().unwrap().code(), Some(130));
    assert!(command().status().unwrap().success());
    assert_eq!(sandbox.read("out/default/a/x"), "one\n");
    // What it starts is a part of it.
    write("cc1", "#!/bin/sh\necho two\n");
    assert!(command().status().unwrap().success());
    assert_eq!(sandbox.read("out/default/a/x"), "two\n");
}
