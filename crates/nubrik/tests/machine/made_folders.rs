//! Folders that steps make: their parts, what is put together in them, and the files that commands
//! are given.

use crate::sandbox::Sandbox;

const TREE: &str = "target tree = step { run = sh`mkdir -p {outfolder \"t\"}/inc/port; echo '#define X 1' > {outfolder \"t\"}/inc/port/c.h; cat {in \"other.h\"} > {outfolder \"t\"}/inc/other.h` }\n";

fn with_tree(more: &str) -> Sandbox {
    Sandbox::new(&[
        ("other.h", "1\n"),
        ("targets.nub", &format!("{TREE}{more}")),
    ])
}

#[test]
fn a_part_of_a_made_folder_is_an_input_of_its_own() {
    let sandbox = with_tree(
        "target copied = step { run = `cp {tree / \"inc/port/c.h\"} {out \"c\"}` }\n\
         target all = step { run = sh`find {tree / \"inc/\"} -type f | wc -l > {out \"n\"}` }\n\
         target header = tree / \"inc/port/c.h\"\n",
    );
    let run = sandbox.run(&["build"]).expect(0);
    // Who makes all folders on the way to an output wants nothing.
    assert!(!run.stdout.contains("refused"), "{}", run.stdout);
    assert_eq!(sandbox.read("out/default/copied/c"), "#define X 1\n");
    assert_eq!(sandbox.read("out/default/all/n").trim(), "2");
    assert_eq!(sandbox.read("out/default/header/c.h"), "#define X 1\n");
    sandbox.run(&["build"]).expect(0).says("nothing to run");
    // Another file of the folder changes: who takes this one does not run again.
    sandbox.write("other.h", "2\n");
    let run = sandbox.run(&["build"]).expect(0);
    assert!(run.stdout.contains("all"), "{}", run.stdout);
    assert!(!run.stdout.contains("make c "), "{}", run.stdout);
}

#[test]
fn what_a_made_folder_does_not_hold_is_named() {
    let sandbox = with_tree(
        "target gone = tree / \"inc/porty/c.h\"\n\
         target wrong = tree / \"inc\"\n\
         target file = tree / \"inc/other.h/\"\n",
    );
    let run = sandbox.run(&["build", "gone"]).expect(1);
    assert!(
        run.stdout.contains("the folder holds no inc/porty/c.h"),
        "{}",
        run.stdout
    );
    assert!(
        run.stdout.contains("inc has: other.h, port"),
        "{}",
        run.stdout
    );
    let run = sandbox.run(&["build", "wrong"]).expect(1);
    assert!(
        run.stdout.contains("inc is a folder, and taken as a file"),
        "{}",
        run.stdout
    );
    let run = sandbox.run(&["build", "file"]).expect(1);
    assert!(
        run.stdout
            .contains("inc/other.h is a file, and taken as a folder"),
        "{}",
        run.stdout
    );
}

#[test]
fn folders_are_laid_over_one_another_unless_two_files_would_be_one() {
    let sandbox = with_tree(
        "target both = stage { path = \"x\", files = { \"\": tree, \"inc/@here/\": \"other.h\" } }\n\
         target over = stage { \"\": tree / \"inc/\", \"port\": \"other.h\" }\n\
         target same = pack { path = \"same.tar\", files = { \"\": tree, \"inc/other.h\": \"other.h\" } }\n",
    );
    sandbox.run(&["build", "both"]).expect(0);
    assert_eq!(sandbox.read("out/default/both/x/inc/@here/other.h"), "1\n");
    assert!(sandbox.exists("out/default/both/x/inc/port/c.h"));
    let run = sandbox.run(&["build", "over"]).expect(1);
    assert!(
        run.stdout.contains("other.h would be port, and"),
        "{}",
        run.stdout
    );
    let run = sandbox.run(&["build", "same"]).expect(1);
    assert!(
        run.stdout.contains("would both be inc/other.h"),
        "{}",
        run.stdout
    );
}

#[test]
fn keys_that_are_no_names_look_up_and_place_but_are_no_addresses() {
    let sandbox = with_tree(
        "let table = { \"@types/node\": \"other.h\", \"..\": \"targets.nub\" }\n\
         target placed = stage {each place, source in { \"@types/node\": \"other.h\" } give place: source}\n\
         target inside = stage { \"@types/node\": write { path = \"w\", text = table[\"..\"] } }\n\
         target named = { \"@types/node\": write { path = \"w\", text = \"1\" } }\n",
    );
    sandbox.run(&["build", "placed", "inside"]).expect(0);
    assert_eq!(sandbox.read("out/default/placed/@types/node"), "1\n");
    assert_eq!(
        sandbox.read("out/default/inside/@types/node"),
        "targets.nub"
    );
    sandbox
        .run(&["build", "named"])
        .expect(3)
        .says("\"@types/node\" cannot be part of a target's path");
}

#[test]
fn a_map_by_the_answer_of_a_probe_looks_up_and_names_no_target() {
    let files = "let told = probe { run = `cat {in \"other.h\"}` }\n\
         let units = [each line in told.lines give { name = line, text = \"unit {line}\" }].index_by(\"name\")\n\
         target used = write { path = \"u\", text = units[\"1\"].text }\n\
         target named = {each name, unit in units give name: write { path = \"u\", text = unit.text }}\n\
         let files = [each line in told.lines give { name = line, file = tree }].index_by(\"name\")\n\
         target whole = files\n";
    let sandbox = with_tree(files);
    sandbox.run(&["build", "used"]).expect(0);
    assert_eq!(sandbox.read("out/default/used/u"), "unit 1");
    sandbox.write("other.h", "1\n2\n");
    sandbox.run(&["build", "used"]).expect(0);
    sandbox
        .run(&["build", "named"])
        .expect(3)
        .says("cannot decide which keys there are");
    sandbox
        .run(&["build", "whole"])
        .expect(3)
        .says("cannot decide which keys there are");
}

#[test]
fn a_command_is_given_a_file_with_a_text() {
    let sandbox = with_tree(
        "target told = step { run = [\n\
             `cp {textfile \"conf/a.json\" { name = \"a\\\"b\" }.to_json} {out a \"a.json\"}`,\n\
             sh`cat < {textfile \"list\" \"{other}\\n\"} > {out b \"b\"}; touch {scratchfolder \"w\"}/x`,\n\
         ] }\n\
         let other: file = \"other.h\"\n\
         target two = step { run = `cat {textfile \"x\" \"a\"} {textfile \"x\" \"b\"} > {out \"o\"}` }\n\
         job shown = effect { run = [`cat {argfile other}`, `cat {textfile \"x\" \"hello\\n\"}`] }\n",
    );
    sandbox.run(&["build", "told"]).expect(0);
    assert_eq!(
        sandbox.read("out/default/told/a.json"),
        "{\"name\":\"a\\\"b\"}"
    );
    assert_eq!(sandbox.read("out/default/told/b"), "other.h\n");
    sandbox
        .run(&["build", "told"])
        .expect(0)
        .says("nothing to run");
    // What the text carries is an input, and so is the text.
    sandbox.write("other.h", "5\n");
    sandbox
        .run(&["build", "told"])
        .expect(0)
        .says("1 of 1 step ran");
    let run = sandbox.run(&["run", "shown"]).expect(0);
    assert!(
        run.stdout.contains("other.h\n") && run.stdout.contains("hello\n"),
        "{}",
        run.stdout
    );
    sandbox
        .run(&["build", "two"])
        .expect(3)
        .says("two files with different texts are called `x`");
}

#[test]
fn a_workspace_says_which_nubrik_it_needs() {
    let sandbox = with_tree("");
    sandbox.write("nubrik.toml", "at_least = \"0.0.1\"\n");
    sandbox.run(&["build"]).expect(0);
    sandbox.write("nubrik.toml", "at_least = \"999\"\nknown_later = true\n");
    sandbox
        .run(&["build"])
        .expect(3)
        .says("this workspace needs nubrik 999 or newer");
    sandbox.write("nubrik.toml", "at_least = 1\n");
    sandbox.run(&["build"]).expect(3).says("as a text");
}

#[test]
fn what_is_read_through_a_link_of_a_made_folder_counts() {
    let sandbox = Sandbox::new(&[
        ("depth", "int shallow;\n"),
        ("m.c", "#include \"link.h\"\n"),
        (
            "targets.nub",
            "target tree = step { run = sh`cp {in \"depth\"} {outfolder \"t\"}/real.h; ln -s real.h {outfolder \"t\"}/link.h` }\n\
             target object = step { run = `cc -I{tree} -MD -MF {depfile \"m.d\"} -c {in \"m.c\"} -o {out \"m.o\"}` }\n",
        ),
    ]);
    sandbox.run(&["build"]).expect(0);
    sandbox.write("depth", "int deep;\n");
    sandbox.run(&["build"]).expect(0);
    let object = std::fs::read(sandbox.folder.join("out/default/object/m.o")).unwrap();
    assert!(
        object.windows(4).any(|name| name == b"deep"),
        "the object is the one of before"
    );
    sandbox.run(&["build"]).expect(0).says("nothing to run");
}

#[test]
fn a_folder_that_commands_get_a_copy_of_counts_whatever_they_list() {
    let sandbox = Sandbox::new(&[
        ("m.c", "int shallow;\n"),
        (
            "targets.nub",
            "target object = step {\n\
             \x20   run = `cc -MD -MF {depfile \"m.d\"} -c src/m.c -o {out \"m.o\"}`\n\
             \x20   folder = stage { path = \"place\", files = { \"src/m.c\": \"m.c\" } }\n\
             }\n",
        ),
    ]);
    sandbox.run(&["build"]).expect(0);
    sandbox.write("m.c", "int deep;\n");
    sandbox.run(&["build"]).expect(0);
    let object = std::fs::read(sandbox.folder.join("out/default/object/m.o")).unwrap();
    assert!(
        object.windows(4).any(|name| name == b"deep"),
        "the object is the one of before"
    );
}

#[test]
fn keys_with_spaces_make_folders_that_texts_can_name() {
    let sandbox = Sandbox::new(&[(
        "targets.nub",
        "let made = {each name in [\"high water\", \"low=water, (neap)\"] give name: step { run = sh`echo {name} > {out \"t\"}` }}\n\
         target both = step { run = sh`cat {made[\"high water\"].folder}/t {made[\"low=water, (neap)\"].folder}/t > {out \"both\"}; true {made[\"high water\"]} {made[\"low=water, (neap)\"]}` }\n",
    )]);
    sandbox.run(&["build"]).expect(0);
    assert_eq!(
        sandbox.read("out/default/both"),
        "high water\nlow=water, (neap)\n"
    );
    // What names a made file and does not declare it is still found.
    let text = sandbox
        .read("targets.nub")
        .replace("; true {made[\"high water\"]}", "; true");
    sandbox.write("targets.nub", &text);
    sandbox
        .run(&["build"])
        .expect(3)
        .says("makes and does not declare it");
}
