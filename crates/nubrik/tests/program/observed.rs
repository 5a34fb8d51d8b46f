//! Steps that are seen to use some of what they may read: that counts, and the rest does not.

use crate::sandbox::{Sandbox, has_sandboxes};
use nubrik_testing::{Need, skip};

const TARGETS: &str = "target seen = step {\n\
    \x20   run = sh`{{ cat data/a; if [ -e data/sub/flag ]; then echo flag; fi; }} > {out \"o\"}`\n\
    \x20   reads = glob(\"data/**/*\")\n\
    \x20   observed = true\n}\n\
    target listed = step {\n\
    \x20   run = sh`ls data > {out \"o\"}`\n\
    \x20   reads = glob(\"data/**/*\")\n\
    \x20   observed = true\n}\n";

fn sandbox() -> Option<Sandbox> {
    if !has_sandboxes() || !nubrik_confine::can_record() {
        skip(Need::Confinement, "steps cannot be seen here");
        return None;
    }
    Some(Sandbox::new(&[
        ("data/a", "1\n"),
        ("data/b", "2\n"),
        ("data/far/c", "3\n"),
        ("targets.nub", TARGETS),
    ]))
}

fn ran(sandbox: &Sandbox) -> Vec<String> {
    let events = sandbox.run(&["build", "--json"]).expect(0).events();
    let ran = events
        .iter()
        .filter(|e| e["event"] == "step" && e["state"] == "ran");
    let mut ran: Vec<String> = ran
        .map(|e| e["target"].as_str().unwrap().to_owned())
        .collect();
    ran.sort();
    ran
}

#[test]
fn only_what_is_used_counts() {
    let Some(sandbox) = sandbox() else { return };
    assert_eq!(ran(&sandbox), ["listed", "seen"]);
    // Not read by either.
    sandbox.write("data/b", "22\n");
    assert_eq!(ran(&sandbox), [""; 0]);
    sandbox.write("data/a", "11\n");
    assert_eq!(ran(&sandbox), ["seen"]);
    // What was looked for appears, in a folder that was not there: its name is new in the listed
    // folder, too.
    sandbox.write("data/sub/flag", "");
    assert_eq!(ran(&sandbox), ["listed", "seen"]);
    assert_eq!(sandbox.read("out/default/seen/o"), "11\nflag\n");
    // A name in a folder that nobody listed.
    sandbox.write("data/far/d", "4\n");
    assert_eq!(ran(&sandbox), [""; 0]);
    std::fs::remove_file(sandbox.folder.join("data/sub/flag")).unwrap();
    std::fs::remove_dir(sandbox.folder.join("data/sub")).unwrap();
    sandbox.run(&["build"]).expect(0);
    assert_eq!(sandbox.read("out/default/seen/o"), "11\n");
    assert_eq!(sandbox.read("out/default/listed/o"), "a\nb\nfar\n");
}

#[test]
fn a_name_that_is_no_text_elsewhere_says_nothing_of_the_workspace() {
    let Some(sandbox) = sandbox() else { return };
    let asks = "target seen = step {\n\
        \x20   run = sh`cat data/a > {out \"o\"}; test ! -e \"$TMPDIR/$(printf '\\377')\"`\n\
        \x20   reads = glob(\"data/**/*\")\n\
        \x20   observed = true\n}\n";
    sandbox.write("targets.nub", asks);
    // A step that is new is looked at more closely than others.
    assert_eq!(ran(&sandbox), ["seen"]);
    sandbox.write("data/b", "22\n");
    assert_eq!(ran(&sandbox), [""; 0]);
    sandbox.write("data/a", "11\n");
    assert_eq!(ran(&sandbox), ["seen"]);
    assert_eq!(sandbox.read("out/default/seen/o"), "11\n");
}

#[test]
fn what_was_kept_is_taken_back_for_what_was_used() {
    let Some(sandbox) = sandbox() else { return };
    sandbox.run(&["build"]).expect(0);
    sandbox.write("data/a", "11\n");
    sandbox.run(&["build"]).expect(0);
    // Another file is another one than at the first time, and what was used is the same.
    sandbox.write("data/a", "1\n");
    sandbox.write("data/b", "new\n");
    assert_eq!(ran(&sandbox), [""; 0]);
    assert_eq!(sandbox.read("out/default/seen/o"), "1\n");
    sandbox.run(&["why", "seen"]).expect(0);
}

#[test]
fn links_lead_to_what_counts() {
    let Some(sandbox) = sandbox() else { return };
    let targets = "target tree = step { run = sh`mkdir -p {outfolder \"t\"}/deep; cp {in \"data/a\"} {outfolder \"t\"}/deep/real; cp {in \"data/b\"} {outfolder \"t\"}/other; ln -s deep/real {outfolder \"t\"}/link` }\n\
        target seen = step { run = sh`cat {tree}/link > {out \"o\"}`, observed = true }\n";
    sandbox.write("targets.nub", targets);
    sandbox.run(&["build"]).expect(0);
    sandbox.write("data/b", "22\n");
    assert_eq!(ran(&sandbox), ["tree"]);
    sandbox.write("data/a", "11\n");
    assert_eq!(ran(&sandbox), ["seen", "tree"]);
    assert_eq!(sandbox.read("out/default/seen/o"), "11\n");
    // A link that commands make themselves leads there, too.
    let targets = "target seen = step { run = sh`ln -s \"$PWD/data\" \"$TMPDIR/way\"; cat \"$TMPDIR/way/b\" > {out \"o\"}`, reads = \"data/*\", observed = true }\n";
    sandbox.write("targets.nub", targets);
    sandbox.run(&["build"]).expect(0);
    sandbox.write("data/a", "111\n");
    assert_eq!(ran(&sandbox), [""; 0]);
    sandbox.write("data/b", "222\n");
    assert_eq!(ran(&sandbox), ["seen"]);
}

#[test]
fn what_runs_a_script_counts_with_it() {
    let Some(sandbox) = sandbox() else { return };
    let targets = "target seen = step { run = sh`sh -c data/script > {out \"o\"}`, reads = \"data/*\", observed = true }\n";
    sandbox.write("targets.nub", targets);
    let interpreter = sandbox.folder.join("data/interpreter");
    for first_line in ["#!data/interpreter", "#!/nubrik/data/interpreter"] {
        sandbox.write("data/script", first_line);
        std::fs::copy("/bin/echo", &interpreter).unwrap();
        for name in ["data/script", "data/interpreter"] {
            let mode = std::os::unix::fs::PermissionsExt::from_mode(0o755);
            std::fs::set_permissions(sandbox.folder.join(name), mode).unwrap();
        }
        assert_eq!(ran(&sandbox), ["seen"]);
        assert_eq!(sandbox.read("out/default/seen/o"), "data/script\n");
        sandbox.write("data/b", first_line);
        assert_eq!(ran(&sandbox), [""; 0]);
        // Another program under the same name.
        std::fs::copy("/bin/cat", &interpreter).unwrap();
        assert_eq!(ran(&sandbox), ["seen"]);
        assert_eq!(sandbox.read("out/default/seen/o"), first_line);
    }
}

#[test]
fn where_steps_cannot_be_seen_all_of_it_counts() {
    let mut sandbox = Sandbox::new(&[
        ("data/a", "1\n"),
        ("data/b", "2\n"),
        ("data/far/c", "3\n"),
        ("targets.nub", TARGETS),
    ]);
    sandbox.without_sandboxes = true;
    // Path rules let nobody list a folder.
    let targets = TARGETS.split("target listed").next().unwrap();
    sandbox.write("targets.nub", targets);
    sandbox.run(&["build"]).expect(0);
    sandbox.write("data/b", "22\n");
    assert_eq!(ran(&sandbox), ["seen"]);
}

#[test]
fn what_commands_list_of_the_machine_counts_besides() {
    let Some(sandbox) = sandbox() else { return };
    let machine = tempfile::tempdir_in(env!("CARGO_TARGET_TMPDIR")).unwrap();
    let library = machine.path().join("library");
    std::fs::write(&library, "1").unwrap();
    sandbox.write(
        "targets.nub",
        &format!(
            "target both = step {{\n\
            \x20   run = sh`(cat data/a; cat data/new || true) > {{out \"o\"}} 2>/dev/null; echo 'o: data/a {}' > {{depfile \"o.d\"}}`\n\
            \x20   reads = glob(\"data/**/*\")\n\
            \x20   observed = true\n}}\n",
            library.display(),
        ),
    );
    assert_eq!(ran(&sandbox), ["both"]);
    sandbox.write("data/b", "22\n");
    assert_eq!(ran(&sandbox), [""; 0]);
    // No text speaks of what was looked for, and it is in no list.
    sandbox.write("data/new", "new\n");
    assert_eq!(ran(&sandbox), ["both"]);
    if library.starts_with("/tmp") {
        // In sandboxes this is another folder, so that nothing of the machine's is listed.
        skip(Need::Place, "this checkout is among temporary files");
        return;
    }
    std::fs::write(&library, "2").unwrap();
    assert_eq!(ran(&sandbox), ["both"]);
    assert_eq!(ran(&sandbox), [""; 0]);
}

#[test]
fn who_is_watched_builds_without_watching() {
    if !has_sandboxes() {
        return skip(Need::Confinement, "steps are watched in sandboxes");
    }
    // The kernel allows one supervisor of those that are around one another, and the step has it.
    let outer = "target outer = step {
    run = sh`mkdir $TMPDIR/w; cp {in \"s.txt\"} $TMPDIR/w; cp {in \"inner\"} $TMPDIR/w/targets.nub; touch $TMPDIR/w/nubrik.toml
        ./{in \"tool\"} -C $TMPDIR/w build --plain -k > {out \"log\"} 2>&1 || true`
    reads = \"s.txt\"
    observed = true
}\n";
    let inner =
        "target a = step { run = sh`cat s.txt > {out \"a\"}`, reads = \"s.txt\", observed = true }
target b = step { run = sh`cat {in \"s.txt\"} > {out \"b\"}; cat nothing` }\n";
    let sandbox = Sandbox::new(&[("targets.nub", outer), ("inner", inner), ("s.txt", "ebb\n")]);
    std::fs::copy(crate::sandbox::program(), sandbox.folder.join("tool")).unwrap();
    sandbox.run(&["build"]).expect(0);
    let log = sandbox.read("out/default/outer/log");
    assert!(log.contains("ran       a   make a"), "{log}");
    assert!(
        log.contains("cat: nothing: No such file") && !log.contains("cannot confine"),
        "{log}"
    );
}
