//! Results in a file: another machine takes those that are true there, and whatever the file holds,
//! nothing wrong is taken.

use std::fs;

use crate::sandbox::{Run, Sandbox, has_sandboxes};
use nubrik_testing::{Need, skip};

/// Builds with notes, and writes the results to `results` in the workspace.
fn saved(sandbox: &Sandbox, words: &[&str]) -> Run {
    sandbox
        .run(&[&["build", "--portable"][..], words].concat())
        .expect(0);
    sandbox.run(&["cache", "save", "kept/results"]).expect(0)
}

/// The same sources on another machine, which read the results.
fn other_machine(sandbox: &Sandbox) -> Sandbox {
    let other = sandbox.copy_from_nothing();
    other.run(&["cache", "load", "kept/results"]).expect(0);
    other
}

const TARGETS: &str = "\
target ebb = step { run = sh`cat {in \"tide.txt\"} > {out \"x\"}; chmod +x {out \"x\"}` }\n\
target pages = step { run = sh`cd {outfolder \"pages\"} && mkdir -p deep && echo high > deep/a && ln -s deep/a b` }\n\
target flow = step { run = sh`cat {pages}/b > {out \"y\"}` }\n";

#[test]
fn another_machine_takes_results_of_a_file() {
    if !has_sandboxes() {
        return skip(Need::Confinement, "without sandboxes nothing is handed on");
    }
    let here = Sandbox::new(&[("targets.nub", TARGETS), ("tide.txt", "high\n")]);
    let run = saved(&here, &[]);
    assert!(
        run.stdout.starts_with("saved     3 results"),
        "{}",
        run.stdout
    );
    // The same results are the same file.
    let bytes = fs::read(here.folder.join("kept/results")).unwrap();
    here.run(&["cache", "save", "kept/results"]).expect(0);
    assert_eq!(fs::read(here.folder.join("kept/results")).unwrap(), bytes);
    let there = other_machine(&here);
    let run = there.run(&["build", "--json"]).expect(0);
    assert_eq!(
        (run.ran(), &run.summary()["reused"]),
        (Vec::new(), &3.into()),
        "{}",
        run.stdout
    );
    assert_eq!(there.read("out/default/flow/y"), "high\n");
    assert_eq!(
        fs::read_link(there.folder.join("out/default/pages/b"))
            .unwrap()
            .to_str(),
        Some("deep/a")
    );
    let mode = fs::metadata(there.folder.join("out/default/ebb/x"))
        .unwrap()
        .permissions();
    assert_eq!(
        std::os::unix::fs::PermissionsExt::mode(&mode) & 0o111,
        0o111
    );
    // What was loaded goes on to a third machine.
    there.run(&["cache", "save", "kept/results"]).expect(0);
    assert_eq!(
        other_machine(&there)
            .run(&["build", "--json"])
            .expect(0)
            .ran(),
        Vec::<String>::new()
    );
    // An edit runs what it reaches.
    there.write("tide.txt", "low\n");
    assert_eq!(there.run(&["build", "--json"]).expect(0).ran(), ["make x"]);
}

#[test]
fn results_without_notes_stay() {
    let sandbox = Sandbox::new(&[("targets.nub", TARGETS), ("tide.txt", "high\n")]);
    sandbox.run(&["build"]).expect(0);
    let run = sandbox.run(&["cache", "save", "results"]).expect(0);
    assert!(
        run.stdout
            .contains("not saved 3 results: made without notes on the machine"),
        "{}",
        run.stdout
    );
    assert!(
        run.stdout.contains("nubrik build --portable --rerun"),
        "{}",
        run.stdout
    );
    if has_sandboxes() {
        let run = saved(&sandbox, &["--rerun"]);
        assert!(
            run.stdout.starts_with("saved     3 results"),
            "{}",
            run.stdout
        );
    }
}

#[test]
fn loaded_results_count_where_the_machine_is_the_same() {
    if !has_sandboxes() {
        return skip(Need::Confinement, "without sandboxes nothing is handed on");
    }
    let place = format!("/usr/local/share/nubrik-file-test-{}", std::process::id());
    if fs::write(&place, "high\n").is_err() {
        return skip(Need::Superuser, "no file of the system can be made here");
    }
    let targets = format!(
        "let start = \"/usr/local/share\"\n\
         target tide = step {{ run = sh`cat \"{{start}}\"/nubrik-file-test-{} > {{out \"tide\"}}` }}\n\
         target own = step {{ run = sh`echo own > {{out \"own\"}}` }}\n\
         target count = step {{ run = sh`grep -c processor /proc/cpuinfo > {{out \"count\"}}` }}\n",
        std::process::id()
    );
    let here = Sandbox::new(&[("targets.nub", &targets)]);
    let run = saved(&here, &[]);
    assert!(
        run.stdout
            .contains("not saved 1 result: it reads /proc/cpuinfo"),
        "{}",
        run.stdout
    );
    assert_eq!(
        other_machine(&here)
            .run(&["build", "--json"])
            .expect(0)
            .ran(),
        ["make count"]
    );
    fs::write(&place, "low\n").unwrap();
    let other = other_machine(&here);
    let mut ran = other.run(&["build", "--json"]).expect(0).ran();
    ran.sort();
    fs::remove_file(&place).unwrap();
    assert_eq!(ran, ["make count", "make tide"]);
    assert_eq!(other.read("out/default/tide"), "low\n");
}

#[test]
fn a_name_that_is_no_text_cannot_be_looked_for_elsewhere() {
    if !has_sandboxes() {
        return skip(Need::Confinement, "without sandboxes nothing is handed on");
    }
    let targets = "target tide = step { run = sh`test ! -e \"/usr/share/$(printf '\\377')\"; echo low > {out \"o\"}` }\n";
    let run = saved(&Sandbox::new(&[("targets.nub", targets)]), &[]);
    let expected = "not saved 1 result: not all that its commands read could be seen";
    assert!(run.stdout.contains(expected), "{}", run.stdout);
}

#[test]
fn damaged_files_and_others_are_refused() {
    if !has_sandboxes() {
        return skip(Need::Confinement, "without sandboxes nothing is handed on");
    }
    let here = Sandbox::new(&[("targets.nub", TARGETS), ("tide.txt", "high\n")]);
    saved(&here, &[]);
    let bytes = fs::read(here.folder.join("kept/results")).unwrap();
    let there = here.copy_from_nothing();
    for (kept, why) in [
        (&bytes[..bytes.len() / 2], "it is damaged or not whole"),
        (
            &b"no results\n"[..],
            "no file that `nubrik cache save` wrote",
        ),
    ] {
        fs::write(there.folder.join("kept/results"), kept).unwrap();
        let run = there.run(&["cache", "load", "kept/results"]).expect(5);
        assert!(run.stderr.contains(why), "{}", run.stderr);
    }
    let run = there.run(&["cache", "load", "gone"]).expect(5);
    assert!(run.stderr.contains("cannot load gone"), "{}", run.stderr);
    there.run(&["build"]).expect(0);
    assert_eq!(there.read("out/default/flow/y"), "high\n");
}
