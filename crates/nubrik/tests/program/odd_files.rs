//! Definitions and folders as they are found in the wild: encodings, line ends, links, other
//! workspaces.

use std::fs;
use std::os::unix::fs::{PermissionsExt, symlink};

use crate::sandbox::{Sandbox, has_sandboxes};

const COPY: &str = "target copy = step { run = `cat {glob(\"**/*.txt\")} > {out \"copy\"}` }\n";

#[test]
fn line_ends_and_marks_of_other_systems_are_white_space() {
    let sandbox = Sandbox::new(&[("a.txt", "tide")]);
    sandbox.write(
        "targets.nub",
        &format!(
            "\u{feff}## Windows.\r\nlet text = \"\"\"\r\n  x\r\n  \"\"\"\r\n{}",
            COPY.replace('\n', "\r\n")
        ),
    );
    sandbox.build();
    assert_eq!(sandbox.read("out/default/copy"), "tide");
}

#[test]
fn definitions_that_are_no_text_are_refused_with_the_line() {
    let sandbox = Sandbox::new(&[]);
    fs::write(
        sandbox.folder.join("targets.nub"),
        b"let a = 1\nlet b = \"\xff\"\n",
    )
    .unwrap();
    let run = sandbox.run(&["list", "--plain"]).expect(3);
    assert!(
        run.stderr
            .contains("cannot read `targets.nub`: line 2 is not UTF-8 text"),
        "{}",
        run.stderr
    );
    fs::remove_file(sandbox.folder.join("targets.nub")).unwrap();
    fs::create_dir(sandbox.folder.join("targets.nub")).unwrap();
    let run = sandbox.run(&["list", "--plain"]).expect(3);
    assert!(
        run.stderr
            .contains("there is no `targets.nub` in this workspace"),
        "{}",
        run.stderr
    );
}

#[test]
fn ignored_hidden_and_foreign_files_are_not_matched() {
    let sandbox = Sandbox::new(&[
        ("targets.nub", COPY),
        ("a.txt", "a"),
        (".hidden.txt", "h"),
        (".hidden/x.txt", "h"),
        (
            ".gitignore",
            "ignored.txt\n/drafts/\n*.bak.txt\n!kept.bak.txt\n",
        ),
        ("ignored.txt", "i"),
        ("drafts/x.txt", "d"),
        ("b/old.bak.txt", "o"),
        ("b/kept.bak.txt", "k"),
        ("b/.gitignore", "local.txt\n"),
        ("b/local.txt", "l"),
        ("package/targets.nub", ""),
        ("package/x.txt", "p"),
        ("foreign/nubrik.toml", ""),
        ("foreign/x.txt", "f"),
    ]);
    sandbox.build();
    assert_eq!(sandbox.read("out/default/copy"), "ak");
    // A file that is named in full is there, ignored or not.
    sandbox.write(
        "targets.nub",
        "target copy = step { run = `cat {in \"ignored.txt\"} {in \".hidden.txt\"} > {out \"copy\"}` }\n",
    );
    sandbox.build();
    assert_eq!(sandbox.read("out/default/copy"), "ih");
}

#[test]
fn what_is_ignored_may_change() {
    let sandbox = Sandbox::new(&[("targets.nub", COPY), ("a.txt", "a"), ("b.txt", "b")]);
    sandbox.build();
    sandbox.build();
    sandbox.write(".gitignore", "b.txt\n");
    sandbox.build();
    assert_eq!(sandbox.read("out/default/copy"), "a");
    sandbox.write(".gitignore", "a.txt\n");
    sandbox.build();
    assert_eq!(sandbox.read("out/default/copy"), "b");
    sandbox.write("c.txt", "c");
    sandbox.build();
    assert_eq!(sandbox.read("out/default/copy"), "bc");
}

#[test]
fn links_to_files_are_files_and_rings_of_folders_end() {
    let sandbox = Sandbox::new(&[("targets.nub", COPY), ("a.txt", "a"), ("deep/b.txt", "b")]);
    symlink("../a.txt", sandbox.folder.join("deep/link.txt")).unwrap();
    symlink("..", sandbox.folder.join("deep/ring")).unwrap();
    symlink("nowhere", sandbox.folder.join("dangling.txt")).unwrap();
    sandbox.build();
    assert_eq!(sandbox.read("out/default/copy"), "aba");
    sandbox.write("a.txt", "x");
    sandbox.build();
    assert_eq!(sandbox.read("out/default/copy"), "xbx");
}

#[test]
fn what_a_link_leads_to_is_an_input_that_changes() {
    let sandbox = Sandbox::new(&[
        (
            "targets.nub",
            "target all = stage { \"src/\": glob(\"src/*\"), \"inc/\": glob(\"inc/*\") }\n",
        ),
        ("other/one", "1"),
        ("far/inc/a", "a"),
        ("src/own", "own"),
    ]);
    symlink("../other/one", sandbox.folder.join("src/link")).unwrap();
    symlink("link", sandbox.folder.join("src/second")).unwrap();
    symlink("far/inc", sandbox.folder.join("inc")).unwrap();
    let read = |name: &str| sandbox.read(&format!("out/default/all/{name}"));
    let settled = || {
        // So that all is sealed, and the next request is answered from that.
        std::thread::sleep(std::time::Duration::from_millis(60));
        sandbox.build();
        sandbox.run(&["build"]).expect(0);
    };
    settled();
    assert_eq!(
        (read("src/link"), read("src/second"), read("inc/a")),
        ("1".into(), "1".into(), "a".into())
    );
    // Where the links lead, nothing else looks.
    sandbox.write("other/one", "2");
    settled();
    assert_eq!(
        (read("src/link"), read("src/second")),
        ("2".into(), "2".into())
    );
    sandbox.write("far/inc/a", "b");
    settled();
    assert_eq!(
        (read("src/link"), read("src/second"), read("inc/a")),
        ("2".into(), "2".into(), "b".into())
    );
    sandbox.write("far/inc/new", "new");
    settled();
    assert_eq!(read("inc/new"), "new");
    // A link in the middle leads to something else.
    std::fs::remove_file(sandbox.folder.join("src/link")).unwrap();
    symlink("own", sandbox.folder.join("src/link")).unwrap();
    settled();
    assert_eq!(
        (read("src/link"), read("src/second")),
        ("own".into(), "own".into())
    );
}

#[test]
fn an_output_that_is_a_link_is_kept_as_what_it_leads_to() {
    let sandbox = Sandbox::new(&[
        (
            "targets.nub",
            "target made = step { run = `sh -c 'cp \"$1\" \"$2.real\"; ln -s made.real \"$2\"' sh {in \"in\"} {out \"made\"}` }\n",
        ),
        ("in", "tide"),
    ]);
    sandbox.build();
    assert_eq!(sandbox.read("out/default/made"), "tide");
    fs::remove_dir_all(sandbox.folder.join(".nubrik")).unwrap();
    fs::remove_dir_all(sandbox.folder.join("out")).unwrap();
    let run = sandbox.build();
    assert_eq!(run.said("reused"), ["make made"]);
    assert_eq!(sandbox.read("out/default/made"), "tide");
}

#[test]
fn executable_inputs_and_outputs_stay_so() {
    let sandbox = Sandbox::new(&[
        (
            "targets.nub",
            "target plot = step { run = `cp {in \"tool.sh\"} {out \"plot\"}` }\ntarget used = step { run = `{plot} {out \"used\"}` }\n",
        ),
        ("tool.sh", "#!/bin/sh\necho made by a script > \"$1\"\n"),
    ]);
    let tool = sandbox.folder.join("tool.sh");
    sandbox.run(&["build", "--json"]).expect(1);
    // Nothing but the mode changes, and that counts.
    fs::set_permissions(&tool, fs::Permissions::from_mode(0o755)).unwrap();
    sandbox.build();
    assert_eq!(sandbox.read("out/default/used"), "made by a script\n");
    assert!(
        fs::metadata(sandbox.folder.join("out/default/plot"))
            .unwrap()
            .permissions()
            .mode()
            & 0o100
            != 0
    );
    sandbox.run(&["clean"]).expect(0);
    sandbox.build();
    assert!(
        fs::metadata(sandbox.folder.join("out/default/plot"))
            .unwrap()
            .permissions()
            .mode()
            & 0o100
            != 0
    );
}

#[test]
fn many_files_and_long_names_are_no_matter() {
    let sandbox = Sandbox::new(&[("targets.nub", COPY)]);
    let long = "n".repeat(200);
    for i in 0..600 {
        sandbox.write(&format!("many/{long}{i:03}.txt"), "x");
    }
    sandbox.build();
    assert_eq!(sandbox.read("out/default/copy").len(), 600);
}

#[test]
fn a_step_that_prints_without_end_is_cut() {
    let sandbox = Sandbox::new(&[(
        "targets.nub",
        "target loud = step { run = sh`echo begun; head -c 3000000 /dev/zero | tr \"\\0\" x; echo; echo over; echo > {out \"loud\"}` }\n\
         target lines = step { run = sh`seq 300000; exit 1 > {out \"lines\"}` }\n\
         target twice = step { run = [sh`head -c 2000000 /dev/zero | tr \"\\0\" x`, sh`head -c 3000000 /dev/zero | tr \"\\0\" y; echo > {out \"twice\"}`] }\n\
         target two = step { run = [sh`head -c 3000000 /dev/zero | tr \"\\0\" x`, sh`echo why; exit 1 > {out \"two\"}`] }\n",
    )]);
    let run = sandbox.run(&["build", "loud"]).expect(0);
    assert!(run.stdout.len() < 1_200_000, "{}", run.stdout.len());
    // The beginning and the end are there, and between them what is not.
    assert!(
        run.stdout.contains("begun") && run.stdout.contains("over\n"),
        "both ends are kept"
    );
    let said = run
        .stdout
        .lines()
        .find(|line| line.contains("bytes more were printed here"))
        .unwrap();
    assert!(
        said.trim_start().starts_with("[1951436 bytes more"),
        "{said}"
    );
    let file = said
        .split(' ')
        .find(|word| word.starts_with(".nubrik/printed/"))
        .unwrap();
    assert_eq!(
        sandbox.read(file).len(),
        "begun\n".len() + 3_000_001 + "over\n".len()
    );
    // Of many lines the middle is not shown, and the file is named.
    let run = sandbox.run(&["build", "lines"]).expect(1);
    let said = run
        .stdout
        .lines()
        .find(|line| line.contains("lines left out; all of it: "))
        .unwrap();
    let file = said.split(' ').next_back().unwrap();
    assert_eq!(sandbox.read(file).lines().count(), 300_000);
    // Each command of a step that prints much has a file of its own.
    let run = sandbox.run(&["build", "twice"]).expect(0);
    let named: Vec<&str> = run
        .stdout
        .split(' ')
        .filter(|word| word.starts_with(".nubrik/printed/"))
        .collect();
    assert_eq!(named.len(), 2, "{named:?}");
    let sizes: Vec<usize> = named.iter().map(|file| sandbox.read(file).len()).collect();
    assert_eq!(sizes, [2_000_000, 3_000_000]);
    // However much one command printed, the next one is heard.
    let run = sandbox.run(&["build", "two"]).expect(1);
    assert!(run.stdout.contains("why\n"), "the last command is heard");
}

#[test]
fn a_step_that_reads_the_terminal_gets_none_and_temporary_files_go() {
    let sandbox = Sandbox::new(&[(
        "targets.nub",
        "target t = step { run = `sh -c 'read x; echo \"[$x]\" > \"$1\"; echo y > \"$TMPDIR/y\"; test -w \"$HOME\"; pwd >> \"$1\"; env | cut -d= -f1 | sort | tr \"\\n\" \" \" >> \"$1\"' sh {out \"t\"}` }\n",
    )]);
    let run = sandbox.build();
    assert!(run.ran() == ["make t"]);
    let text = sandbox.read("out/default/t");
    assert!(text.starts_with("[]\n"), "{text}");
    for name in [
        "HOME",
        "LANG",
        "LC_ALL",
        "PATH",
        "PWD",
        "SOURCE_DATE_EPOCH",
        "TMPDIR",
        "TZ",
    ] {
        assert!(text.contains(name), "{name} in {text}");
    }
    assert!(
        !text.contains("CARGO"),
        "nothing of this program's own environment: {text}"
    );
    // Where they are in the machine's memory, not even a folder is left.
    let left = fs::read_dir(sandbox.folder.join(".nubrik/tmp")).map_or(0, Iterator::count);
    assert_eq!(left, 0);
}

/// Builds while something is changed, changes it back, and builds again.
fn changed_and_back(
    definitions: &str,
    change: impl Fn(&Sandbox),
    back: impl Fn(&Sandbox),
) -> Sandbox {
    let sandbox = Sandbox::new(&[
        ("targets.nub", definitions),
        ("a", "ebb\n"),
        ("b", "flow\n"),
    ]);
    std::os::unix::fs::symlink("a", sandbox.folder.join("link")).unwrap();
    let building = sandbox
        .command(&["build", "--keep-going", "-j", "4"])
        .spawn()
        .unwrap();
    std::thread::sleep(std::time::Duration::from_millis(400));
    change(&sandbox);
    building.wait_with_output().unwrap();
    back(&sandbox);
    sandbox.run(&["build"]).expect(0);
    sandbox
}

#[test]
fn a_source_that_changes_while_two_steps_run_decides_no_result_of_either() {
    // The first one to end notices the change, and has the file looked at again.
    let definitions = "target first = step { run = sh`sleep 0.8; cat {in \"a\"} > {out \"o\"}` }\n\
         target second = step { run = sh`sleep 1.2; cat {in \"a\"} > {out \"o\"}` }\n";
    let write = |text: &'static str| move |sandbox: &Sandbox| sandbox.write("a", text);
    let sandbox = changed_and_back(definitions, write("other\n"), write("ebb\n"));
    for name in ["first", "second"] {
        assert_eq!(
            sandbox.read(&format!("out/default/{name}/o")),
            "ebb\n",
            "{name}"
        );
    }
}

#[test]
fn a_source_that_is_as_before_when_a_step_ends_may_have_been_another_one() {
    let definitions = "target first = step { run = sh`sleep 0.8; cat {in \"a\"} > {out \"o\"}` }\n\
         target second = step { run = sh`sleep 0.6; cat {in \"a\"} > {out \"o\"}; sleep 1` }\n";
    let write = |sandbox: &Sandbox| {
        sandbox.write("a", "other\n");
        // The first step has ended, and had it looked at.
        std::thread::sleep(std::time::Duration::from_millis(700));
        sandbox.write("a", "ebb\n");
    };
    let sandbox = changed_and_back(definitions, write, |_| {});
    assert_eq!(sandbox.read("out/default/second/o"), "ebb\n");
}

/// What a step made and another one reads may be as before when that one ends, and was another
/// thing meanwhile.
#[test]
fn a_made_input_that_is_as_before_when_a_step_ends_may_have_been_another_one() {
    let definitions = "target first = step { run = `cp {in \"a\"} {out \"made\"}` }\n\
         target second = step { run = sh`sleep 0.8; cat {first} > {out \"o\"}; sleep 1` }\n";
    // Written in place, as an editor of another program may do it: a sandbox would show the file of
    // before instead of a new one.
    let write = |sandbox: &Sandbox, text: &str| {
        let made = sandbox
            .files_below(".nubrik/made/first")
            .into_keys()
            .next()
            .unwrap();
        let made = sandbox.folder.join(made);
        fs::set_permissions(&made, fs::Permissions::from_mode(0o644)).unwrap();
        fs::write(&made, text).unwrap();
        fs::set_permissions(&made, fs::Permissions::from_mode(0o444)).unwrap();
    };
    let change = |sandbox: &Sandbox| {
        write(sandbox, "other\n");
        std::thread::sleep(std::time::Duration::from_millis(700));
        write(sandbox, "ebb\n");
    };
    let sandbox = changed_and_back(definitions, change, |_| {});
    assert_eq!(sandbox.read("out/default/second/o"), "ebb\n");
}

#[test]
fn a_link_that_changes_while_a_step_runs_decides_no_result() {
    let definitions = "target one = step { run = sh`sleep 0.8; cat {in \"link\"} > {out \"o\"}` }\n\
         target two = step { run = sh`sleep 0.8; cat {in \"b\"} > {out \"o\"}` }\n";
    let leads = |to: &'static str| {
        move |sandbox: &Sandbox| {
            let link = sandbox.folder.join("link");
            fs::remove_file(&link).unwrap();
            std::os::unix::fs::symlink(to, link).unwrap();
        }
    };
    let sandbox = changed_and_back(definitions, leads("b"), leads("a"));
    assert_eq!(sandbox.read("out/default/one/o"), "ebb\n");
}

/// A copy of a workspace holds what its steps made, by other files with other times: nothing is to
/// run there, and nobody edited anything.
#[test]
fn in_a_copy_of_a_workspace_nothing_is_to_run() {
    let definitions = "\
        target copy = step { run = `cp {in \"a\"} {out \"copy\"}` }\n\
        target tree = step {\n\
          run = sh`cd {outfolder \"tree\"}; mkdir empty; echo one > one; ln -s one two`\n\
        }\n\
        target last = step { run = sh`cat {copy} {tree}/one > {out \"last\"}` }\n";
    let sandbox = Sandbox::new(&[
        ("here/nubrik.toml", ""),
        ("here/targets.nub", definitions),
        ("here/a", "tide\n"),
    ]);
    sandbox.run_in("here", &["build"]).expect(0);
    for (name, option) in [("there", "-r"), ("with times", "-a")] {
        let mut copy = std::process::Command::new("cp");
        copy.args([option, "here", name])
            .current_dir(&sandbox.folder);
        assert!(copy.status().unwrap().success());
        // A file that may change again without a trace is not believed yet.
        std::thread::sleep(std::time::Duration::from_millis(60));
        let run = sandbox.run_in(name, &["build", "--json"]).expect(0);
        let notices: Vec<_> = run
            .events()
            .into_iter()
            .filter(|event| event["event"] == "notice")
            .collect();
        if has_sandboxes() {
            assert!(notices.is_empty(), "{notices:?}");
        }
        let summary = run.summary();
        // Without sandboxes commands see where the workspace is, which counts.
        let current = if has_sandboxes() { 3 } else { 0 };
        assert_eq!(
            (&summary["current"], &summary["steps"]),
            (&current.into(), &3.into()),
            "{name}: {summary}"
        );
    }
    // A result that was edited is named and put back, also where its time was put back.
    let result = sandbox.folder.join("there/out/default/last");
    let before = fs::metadata(&result).unwrap().modified().unwrap();
    fs::remove_file(&result).unwrap();
    fs::write(&result, "neap\n").unwrap();
    fs::File::options()
        .append(true)
        .open(&result)
        .unwrap()
        .set_modified(before)
        .unwrap();
    let run = sandbox.run_in("there", &["build"]).expect(0);
    assert!(
        run.stdout
            .contains("out/default/last was edited; it is put back"),
        "{}",
        run.stdout
    );
    assert_eq!(sandbox.read("there/out/default/last"), "tide\none\n");
    // An output that was edited is named and put back.
    let made = sandbox
        .files_below("there/.nubrik/made/copy")
        .into_keys()
        .next()
        .unwrap();
    let made = sandbox.folder.join(made);
    fs::remove_file(&made).unwrap();
    fs::write(&made, "edit\n").unwrap();
    let run = sandbox.run_in("there", &["build"]).expect(0);
    assert!(
        run.stdout.contains("its output copy was edited"),
        "{}",
        run.stdout
    );
    assert_eq!(sandbox.read("there/out/default/copy"), "tide\n");
}
