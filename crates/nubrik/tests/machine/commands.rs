//! What the commands print, on the demo and on what a new user may do wrong.

use std::io::{BufRead, BufReader};
use std::process::Stdio;

use crate::sandbox::{Sandbox, without_times};

/// How many steps it has: fewer where no program can be linked statically.
fn steps_of_demo(sandbox: &Sandbox) -> usize {
    if sandbox.exists("isles/out/default/board/board_image/board-image.tar") {
        40
    } else {
        38
    }
}

/// The demo, unpacked and built in a folder of a sandbox.
fn demo() -> (Sandbox, String) {
    let sandbox = Sandbox::new(&[]);
    std::fs::remove_file(sandbox.folder.join("nubrik.toml")).unwrap();
    let run = sandbox.run(&["demo", "isles", "--plain"]).expect(0);
    (sandbox, run.stdout)
}

#[test]
fn the_demo_builds_runs_and_says_what_to_try() {
    let (sandbox, printed) = demo();
    let steps = steps_of_demo(&sandbox);
    assert!(
        printed.contains(&format!("{steps} of {steps} steps ran.")),
        "{printed}"
    );
    assert!(
        printed.contains("Ardle, heights in metres\n      00:00   1.48  ~~~"),
        "{printed}"
    );
    for line in printed
        .lines()
        .skip_while(|l| !l.starts_with("what to try next"))
        .skip(2)
    {
        let (commands, said) = line.trim().split_once("  ").unwrap();
        for command in commands.split("; ") {
            let args: Vec<&str> = command.split(' ').collect();
            match args[0] {
                "nubrik" => {
                    let run = sandbox
                        .run_in("isles", &[&args[1..], &["--plain"]].concat())
                        .expect(0);
                    let nothing = said.trim().starts_with("nothing runs");
                    assert!(
                        !nothing || !run.stdout.contains("\nran "),
                        "{command}: {}",
                        run.stdout
                    );
                }
                "touch" => {
                    let text = sandbox.read(&format!("isles/{}", args[1]));
                    sandbox.write(&format!("isles/{}", args[1]), &text);
                }
                _ => {
                    let path = format!("isles/{}", args[2]);
                    sandbox.write(&path, &(sandbox.read(&path) + "\n"));
                }
            }
        }
    }
    let again = sandbox.run(&["demo", "isles", "--plain"]).expect(2);
    assert!(
        again
            .stderr
            .contains("isles is there already, and is not empty"),
        "{}",
        again.stderr
    );
}

#[test]
fn list_and_tree_show_what_there_is() {
    let (sandbox, _) = demo();
    assert_eq!(
        sandbox.run_in("isles", &["list", "--plain"]).expect(0).stdout,
        "almanac
  files     printed        The almanac on paper, with references that hold.
  step      almanac        The whole almanac in one file.
  step      contents       What is in the pages; needs Python, and says so if there is none.
  step      cover          The cover with its table of contents.
  step      depths         Depths of harbours, from the table.
  step      depths_table   The table of harbours for LaTeX.
  step      moon           Phases of the moon, computed in Fortran.
  step      package        All that the printer gets: the almanac, and the program built for release.  #print
  step      sun            Sunrise and sunset, computed in JavaScript.
  test      pages          Every station has its page; reported case by case.
  job       install        Puts the program and the almanac where people use them: --set prefix=/opt/skerrin
  job       publish        Sends the almanac to the harbour board: only curl gets its token.

base/clock
  library   clock          Days and hours of the almanac's calendar.
  test      days

board
  program   ask            Asks a board: ask ADDRESS PORT WORDS…
  program   boardd         Keeps a height for each station, and answers queries.
  program   boardd_alone   The board for machines without a C library: linked statically.
  step      board_image    The board as an image that runs on any machine, with nothing else in it.
  test      answers        The board returns what was put on it, and says so if there is nothing.
  job       height         Asks for the height at one station: nubrik run board/height -- ardle
  job       publish        Pushes the image of the board to a registry, with a token or USER:PASSWORD in BOARD_TOKEN.
  service   board          A board with the first reading of each station on it.

tide
  library   harmonics      Fits harmonic constituents to gauge readings.
  map of 6  pages          The printed almanac, one page per station.
  program   list_codes     Writes the table of station codes as a C header.
  program   tidecast       Prints the tides of one day at one station.
  step      codes          Codes and names of all stations, for programs.
  3 tests   fit            The fit, one program per file; the one of the gauge reads the stations.
"
    );
    let tree = sandbox
        .run_in("isles/tide", &["tree", "tidecast", "--plain"])
        .expect(0)
        .stdout;
    assert_eq!(
        without_times(&tree, &sandbox),
        "tide/tidecast  program TIME
|-tide/codes  step TIME
| `-tide/list_codes  program TIME
|-tide/harmonics  library TIME
`-base/clock/clock  library TIME"
    );
    let users = sandbox
        .run_in(
            "isles",
            &["tree", "tide/codes", "--users", "--depth", "1", "--plain"],
        )
        .expect(0);
    assert_eq!(
        without_times(&users.stdout, &sandbox),
        "tide/codes  step TIME\n`-tide/tidecast  program TIME"
    );
}

#[test]
fn plan_and_why_lead_to_the_first_cause() {
    let (sandbox, _) = demo();
    let run =
        |args: &[&str]| without_times(&sandbox.run_in("isles", args).expect(0).stdout, &sandbox);
    assert_eq!(
        run(&["plan", "--plain"]),
        format!(
            "nothing would run: all {} steps are current",
            steps_of_demo(&sandbox)
        )
    );
    let clock = sandbox.read("isles/base/clock/src/clock.c");
    sandbox.write(
        "isles/base/clock/src/clock.c",
        &clock.replace("24.0 *", "24.5 *"),
    );
    let plan = run(&["plan", "almanac/cover", "--plain"]);
    assert!(
        plan.starts_with(
            "run       base/clock/clock   compile src/clock.c TIME  base/clock/src/clock.c changed"
        ),
        "{plan}"
    );
    assert!(
        plan.contains("1 of 11 steps would run, 3 may follow\nabout TIME with "),
        "{plan}"
    );
    let chain = "critical path TIME: base/clock/clock > tide/tidecast > almanac/cover\n";
    assert!(plan.contains(chain), "{plan}");
    assert_eq!(
        run(&["why", "tide/tidecast", "--plain"]),
        "tide/tidecast might run now
because   tide/tidecast      link tidecast         if libclock.a of base/clock/clock changes
since     base/clock/clock   archive clock         if clock.c.o of base/clock/clock changes
since     base/clock/clock   compile src/clock.c   base/clock/src/clock.c changed"
    );
    run(&["build", "--plain"]);
    assert_eq!(
        run(&["why", "tide/tidecast", "--plain"]),
        "tide/tidecast is current; it last ran in build 4, the newest
because   tide/tidecast      link tidecast         libclock.a of base/clock/clock changed
since     base/clock/clock   archive clock         clock.c.o of base/clock/clock changed
since     base/clock/clock   compile src/clock.c   base/clock/src/clock.c changed"
    );
}

#[test]
fn addresses_globs_and_files_select() {
    let (sandbox, _) = demo();
    let steps = |folder: &str, args: &[&str]| {
        let args = [&["build", "--json"], args].concat();
        sandbox.run_in(folder, &args).expect(0).summary()["steps"]
            .as_u64()
            .unwrap()
    };
    assert_eq!(steps("isles", &[]), steps_of_demo(&sandbox) as u64);
    assert_eq!(steps("isles/tide", &["pages/ardle"]), 11);
    assert_eq!(steps("isles/tide", &["pages/{ardle,tarn}"]), 12);
    assert_eq!(steps("isles", &["tide/pages/*"]), 16);
    assert_eq!(steps("isles", &["base/**"]), 2);
    assert_eq!(
        steps("isles", &["base/clock"]),
        2,
        "a folder whose target bears its name"
    );
    assert_eq!(steps("isles/almanac", &["../base"]), 2);
    assert_eq!(steps("isles/almanac", &["/tide/codes"]), 3);
    assert_eq!(
        steps("isles", &["out/default/tide/codes/station_codes.h"]),
        3,
        "a result means what makes it"
    );
    assert_eq!(
        steps("isles", &["base/clock/src/clock.c"]),
        31,
        "a source means what uses it"
    );
}

#[test]
fn the_summary_line_is_as_documented() {
    let sandbox = Sandbox::new(&[(
        "targets.nub",
        "target a = step { run = `date > {out \"a\"}` }\n",
    )]);
    let run = sandbox.build();
    let line = run.stdout.lines().last().unwrap();
    let (start, seconds) = line.split_once("\"seconds\":").unwrap();
    assert_eq!(
        start,
        "{\"event\":\"summary\",\"version\":1,\"ok\":true,\"steps\":1,\"ran\":1,\"current\":0,\"reused\":0,\"failed\":0,\"blocked\":0,\"unstarted\":0,"
    );
    assert!(seconds.trim_end_matches('}').parse::<f64>().is_ok());
}

#[test]
fn mistakes_on_the_command_line_are_explained() {
    let (sandbox, _) = demo();
    let wrong = |args: &[&str], code: i32| {
        let run = sandbox.run_in("isles", args).expect(code);
        assert_eq!(run.stdout, "");
        run.stderr
    };
    assert_eq!(
        wrong(&["build", "tide/tidecats"], 2),
        "error   there is no target `tide/tidecats`
  note  `tide` has: harmonics, list_codes, codes, tidecast, pages, fit
  try   tide/tidecast
"
    );
    assert_eq!(
        wrong(&["build", "tied/tidecast"], 2),
        "error   there is no target `tied/tidecast`\n  try   tide/tidecast\n"
    );
    assert!(wrong(&["build", "x/**/y"], 2).contains("no target matches `x/**/y`"));
    assert!(wrong(&["build", "tide/pages/ardel"], 3).contains("try   ardle"));
    assert!(wrong(&["build", "../.."], 2).contains("the path leaves the workspace"));
    assert!(wrong(&["run", "tide/codes"], 2).contains("`tide/codes` is no program"));
    assert_eq!(
        wrong(&["bulid"], 2),
        "error   no command is called `bulid`\n  try   build\n"
    );
    assert_eq!(
        wrong(&["build", "--keep"], 2),
        "error   unknown option `--keep`\n  try   --keep-going\n"
    );
    assert!(wrong(&["why"], 2).starts_with("error   missing argument: TARGET\n"));
    assert!(wrong(&["list", "--json", "--plain"], 2).contains("cannot be used with"));
    assert!(
        wrong(&["build", "--jobs", "0"], 2).starts_with("error   invalid value `0` for `--jobs`\n")
    );
}

#[test]
fn an_empty_folder_offers_a_way_in() {
    let sandbox = Sandbox::new(&[]);
    std::fs::remove_file(sandbox.folder.join("nubrik.toml")).unwrap();
    let run = sandbox.run(&["build"]).expect(2);
    assert!(run.stderr.contains("no workspace here"), "{}", run.stderr);
    assert!(run.stderr.contains("try   nubrik init"), "{}", run.stderr);
    let run = sandbox.run(&["init"]).expect(0);
    assert_eq!(
        run.stdout,
        "wrote     nubrik.toml\nwrote     targets.nub\n\nnow: nubrik list, then nubrik build\n"
    );
    sandbox.run(&["build"]).expect(0);
    assert_eq!(
        sandbox.read("out/default/greeting.txt"),
        "greetings from the Skerrin Isles\n"
    );
    sandbox.run(&["init"]).expect(2);
    sandbox.run(&["lint"]).expect(0);
}

#[test]
fn init_proposes_a_target_for_sources_that_are_there() {
    let sandbox = Sandbox::new(&[
        (
            "src/main.c",
            "#include \"x.h\"\nint main(void) { return X; }\n",
        ),
        ("src/x.h", "#define X 4\n"),
    ]);
    std::fs::remove_file(sandbox.folder.join("nubrik.toml")).unwrap();
    sandbox.run(&["init", "--plain"]).expect(0);
    sandbox.run(&["build", "--plain"]).expect(0);
    sandbox.run(&["run", "work", "--plain"]).expect(4);
}

#[test]
fn settings_are_strict() {
    let sandbox = Sandbox::new(&[("nubrik.toml", "# ours\njbos = 2\n")]);
    let run = sandbox.run(&["list"]).expect(3);
    assert!(
        run.stderr
            .contains("no setting is called `jbos`; there is: at_least, jobs"),
        "{}",
        run.stderr
    );
    assert!(
        run.stderr
            .contains("nubrik.toml:2:1  (settings)\n        jbos = 2\n        ▔▔▔▔\n  try   jobs"),
        "{}",
        run.stderr
    );
}

#[test]
fn several_errors_and_a_cycle_are_shown_together() {
    let sandbox = Sandbox::new(&[(
        "targets.nub",
        "target ebb = step { run = `cp {flood} {out \"ebb\"}` }\ntarget flood = step { run = `cp {ebb} {out \"flood\"}` }\ntarget neap = spring\n",
    )]);
    let run = sandbox.run(&["build"]).expect(3);
    assert_eq!(
        run.stderr,
        "error   target `ebb` depends on itself through 1 other
  ╭     targets.nub:1  target `ebb` uses target `flood`
  │       target ebb = step { run = `cp {flood} {out \"ebb\"}` }
  ╰     targets.nub:2  target `flood` uses target `ebb`
          target flood = step { run = `cp {ebb} {out \"flood\"}` }
  try   remove one of these references, or move what both need into a value of its own

error   `spring` is not defined here
  at    targets.nub:3:15  (unknown-name)
        target neap = spring
                      ▔▔▔▔▔▔
  try   let spring = …
  try   &package/spring for a target of another package

more    nubrik explain cycle

2 errors
"
    );
    // What does not need it is not held up by it.
    sandbox.write(
        "other/targets.nub",
        "target fine = step { run = `date > {out \"fine\"}` }\n",
    );
    sandbox.run(&["build", "other"]).expect(0);
    sandbox.run(&["lint"]).expect(3);
}

#[test]
fn clean_removes_and_the_store_brings_back() {
    let (sandbox, _) = demo();
    let steps = steps_of_demo(&sandbox);
    let run = sandbox
        .run_in("isles", &["clean", "tide/pages", "--plain"])
        .expect(0);
    assert!(run.stdout.starts_with("removed 12 files"), "{}", run.stdout);
    let run = sandbox.run_in("isles", &["build", "--json"]).expect(0);
    assert_eq!((run.ran().len(), run.said("reused").len()), (0, 6));
    assert!(
        !run.stdout.contains("put back"),
        "a reused step says enough: {}",
        run.stdout
    );
    sandbox.run_in("isles", &["clean", "--plain"]).expect(0);
    assert!(!sandbox.exists("isles/out/default"));
    assert_eq!(
        sandbox
            .run_in("isles", &["build", "--json"])
            .expect(0)
            .said("reused")
            .len(),
        steps
    );
    sandbox
        .run_in("isles", &["clean", "--cache", "--plain"])
        .expect(0);
    assert_eq!(
        sandbox
            .run_in("isles", &["build", "--json"])
            .expect(0)
            .ran()
            .len(),
        steps
    );
}

#[test]
fn a_reader_that_has_seen_enough_ends_it_quietly() {
    let (sandbox, _) = demo();
    let mut child = sandbox
        .command_in("isles", &["list", "--json"])
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let mut line = String::new();
    BufReader::with_capacity(16, child.stdout.take().unwrap())
        .read_line(&mut line)
        .unwrap();
    assert!(line.starts_with("{\"event\":\"target\""));
    let output = child.wait_with_output().unwrap();
    assert_eq!(String::from_utf8(output.stderr).unwrap(), "");
}

#[test]
fn reading_commands_change_nothing() {
    let fresh = Sandbox::new(&[(
        "targets.nub",
        "target a = step { run = `date > {out \"a\"}` }\n",
    )]);
    for args in [
        &["list"][..],
        &["plan"],
        &["why", "a"],
        &["tree", "a"],
        &["lint"],
    ] {
        fresh.run(args).expect(0);
    }
    assert!(!fresh.exists(".nubrik") && !fresh.exists("out") && !fresh.exists("../cache"));
    let (sandbox, _) = demo();
    // An evaluation that took long is kept; on a busy machine it does.
    let files = || {
        let mut files = sandbox.files_below("isles");
        files.retain(|path, _| !path.starts_with("isles/.nubrik/reads/"));
        files
    };
    let before = files();
    for args in [
        &["list"][..],
        &["plan"],
        &["why", "almanac"],
        &["tree", "almanac"],
        &["lint"],
    ] {
        sandbox.run_in("isles", args).expect(0);
    }
    assert_eq!(files(), before);
}

#[test]
fn kept_results_are_counted_checked_and_thinned_out() {
    let sandbox = Sandbox::new(&[(
        "targets.nub",
        "target a = step { run = `echo tide > {out \"a\"}` }\n",
    )]);
    let plain = |args: &[&str]| {
        let run = sandbox.run(args);
        assert_eq!(run.code, 0, "{}{}", run.stdout, run.stderr);
        run.stdout
    };
    assert!(plain(&["cache"]).starts_with("kept      nothing yet\n"));
    sandbox.build();
    assert!(plain(&["cache"]).starts_with("kept      1 result, 1 content, "));
    assert!(plain(&["cache", "verify"]).contains("every byte is what it was"));
    let event = sandbox
        .run(&["cache", "prune", "--size", "0KiB", "--json"])
        .events()
        .remove(0);
    assert_eq!(
        (&event["work"], &event["results"]),
        (&"prune".into(), &1.into())
    );
    assert!(plain(&["cache"]).starts_with("kept      nothing yet\n"));
    assert_eq!(sandbox.run(&["cache", "prune", "--size", "much"]).code, 2);
    assert!(plain(&["cache", "prune"]).starts_with("removed   nothing"));
    // What the workspace has is its own: nothing runs again.
    assert_eq!(sandbox.build().summary()["current"], 1);
}

#[test]
fn builds_are_remembered_with_their_steps() {
    let text = "target a = step { run = `cat {in \"s\"} > {out \"a\"}` }\ntarget b = step { run = `cat {a} > {out \"b\"}` }\n";
    let sandbox = Sandbox::new(&[("targets.nub", text), ("s", "one")]);
    assert_eq!(
        sandbox.run(&["history"]).stdout,
        "nothing was built here yet\n"
    );
    assert_eq!(sandbox.run(&["report", "--trace", "t.json"]).code, 2);
    sandbox.build();
    sandbox.build();
    sandbox.write("s", "two");
    sandbox.run(&["build", "b"]);
    let builds = sandbox.run(&["history", "--json"]).events();
    let of = |n: usize, field: &str| builds[n][field].clone();
    assert_eq!(builds.len(), 2, "a build with nothing to do is none");
    assert_eq!(
        (of(0, "build"), of(0, "ran"), of(0, "asked")),
        (1.into(), 2.into(), serde_json::json!([]))
    );
    assert_eq!(
        (of(1, "ran"), of(1, "asked")),
        (2.into(), serde_json::json!(["b"]))
    );
    let number = of(1, "build").to_string();
    let steps = sandbox
        .run(&["history", &number, "--json"])
        .events()
        .remove(0)["done"]
        .clone();
    assert_eq!(
        (&steps[0]["target"], &steps[0]["reason"]),
        (&"a".into(), &"s changed".into())
    );
    let shown = sandbox.run(&["history", &number]).stdout;
    assert!(
        shown.contains("\nran       a   make a") && shown.ends_with("s\n"),
        "{shown}"
    );
    sandbox
        .run(&["report", "--trace", "t.json"])
        .expect(0)
        .says("t.json");
    let trace: serde_json::Value = serde_json::from_str(&sandbox.read("t.json")).unwrap();
    let spans = trace["traceEvents"].as_array().unwrap();
    assert_eq!(spans.len(), 2);
    assert_eq!(
        (&spans[0]["ph"], &spans[0]["args"]["target"]),
        (&"X".into(), &"a".into())
    );
    // The second one waited for the first.
    let end = spans[0]["ts"].as_u64().unwrap() + spans[0]["dur"].as_u64().unwrap();
    assert!(spans[1]["ts"].as_u64().unwrap() + 1_000 >= end);
    sandbox
        .run(&["report", "tests", "--trace", "u.json"])
        .expect(2);
    let run = sandbox.run(&["history", "99"]);
    assert_eq!(run.code, 2);
    assert!(
        run.stderr.contains("there is no build 99 yet"),
        "{}",
        run.stderr
    );
    // What a job needs is built, too.
    sandbox.write(
        "targets.nub",
        &(text.to_owned() + "job tell = effect { run = `cat {b}` }\n"),
    );
    sandbox.write("s", "three");
    assert_eq!(sandbox.run(&["run", "tell"]).expect(0).stdout, "three");
    let last = sandbox.run(&["history", "--json"]).events().pop().unwrap();
    assert_eq!(
        (&last["ran"], &last["asked"]),
        (&2.into(), &serde_json::json!(["tell"]))
    );
}

#[test]
fn a_plan_can_suppose_that_sources_changed() {
    let text = "target a = step { run = `cat {in \"s\"} > {out \"a\"}` }\ntarget b = step { run = `cat {in \"t\"} > {out \"b\"}` }\n";
    let sandbox = Sandbox::new(&[
        ("targets.nub", text),
        ("s", "one"),
        ("t", "two"),
        ("sub/x", ""),
    ]);
    sandbox.build();
    let plan = sandbox
        .run(&["plan", "--if-changed", "s", "--json"])
        .events();
    let of = |n: usize, field: &str| plan[n][field].as_str().unwrap().to_owned();
    let verdicts: Vec<String> = (0..2)
        .map(|n| format!("{} {}", of(n, "target"), of(n, "state")))
        .collect();
    assert_eq!(verdicts, ["a run", "b current"]);
    assert_eq!(of(0, "reason"), "s changed");
    // From another folder, by the path as it is seen there.
    let below = sandbox.run_in("sub", &["plan", "a", "--if-changed", "../s"]);
    assert_eq!(
        below.code, 2,
        "`a` is no target below `sub`: {}",
        below.stdout
    );
    for (file, says) in [
        ("S", "is a source of nothing"),
        ("../y", "the path leaves the workspace"),
    ] {
        let run = sandbox.run(&["plan", "--if-changed", file]);
        assert_eq!(run.code, 2);
        assert!(run.stderr.contains(says), "{}", run.stderr);
    }
    assert_eq!(
        sandbox.build().summary()["current"],
        2,
        "nothing was changed by planning"
    );
}

#[test]
fn every_step_is_explained_on_request() {
    let text = "target a = step { run = `echo a > {out \"a\"}` }\n";
    let sandbox = Sandbox::new(&[("targets.nub", text)]);
    sandbox.build();
    let run = sandbox.run(&["build", "--reasons", "--json"]);
    assert_eq!(run.said("current"), ["make a"]);
    assert_eq!(run.reason("make a"), "nothing changed");
    let plain = sandbox.run(&["build", "--reasons"]).stdout;
    assert!(
        plain.starts_with("current   a   make a            nothing changed\n"),
        "{plain}"
    );
}

#[test]
fn what_steps_printed_can_be_shown_again() {
    let text = "target a = step { run = `sh -c 'echo careful; cp s \"$1\"' sh {out \"a\"}`, reads = \"s\" }\n";
    let sandbox = Sandbox::new(&[("targets.nub", text), ("s", "one")]);
    sandbox.build();
    assert_eq!(
        sandbox.run(&["show", "a", "--printed"]).stdout,
        "a   make a\n    careful\n"
    );
    sandbox.write("s", "two");
    sandbox.build();
    sandbox.write("s", "one");
    let run = sandbox.run(&["build"]);
    assert!(
        run.stdout.contains("reused    a   make a"),
        "{}",
        run.stdout
    );
    let notice = "a reused step had printed something: nubrik show a --printed\n";
    assert!(run.stdout.contains(notice), "{}", run.stdout);
    assert_eq!(
        sandbox.run(&["show", "a", "--printed"]).stdout,
        "a   make a\n    careful\n"
    );
}

#[test]
fn a_changed_text_is_called_a_text() {
    let text = |what: &str| format!("target a = write {{ path = \"a\", text = \"{what}\" }}\n");
    let sandbox = Sandbox::new(&[("targets.nub", &text("ebb"))]);
    sandbox.build();
    sandbox.write("targets.nub", &text("flow"));
    assert_eq!(
        sandbox.run(&["build", "--json"]).reason("write a"),
        "its text changed, targets.nub:1"
    );
}

/// A target whose command depends on an option and a file.
fn with_options() -> Sandbox {
    Sandbox::new(&[
        (
            "targets.nub",
            "option mode: \"debug\" | \"release\" = \"debug\"\n\
             let flags = match mode { \"debug\": [\"-O0\", \"-g\"], \"release\": [\"-O2\"] }\n\
             target first = step { run = `sh -c 'cat \"$1\" > \"$2\"; : \"$@\"' sh {in \"a.txt\"} {out \"first.txt\"} {flags}`, env = { \"DEPTH\": \"7\" } }\n\
             target last = step { run = `cp {first} {out \"last.txt\"}` }\n",
        ),
        ("a.txt", "a\n"),
    ])
}

#[test]
fn why_shows_which_words_differ() {
    let sandbox = with_options();
    sandbox.run(&["build"]).expect(0);
    let text = sandbox
        .read("targets.nub")
        .replace("\"-O0\"", "\"-O1\"")
        .replace("\"7\"", "\"8\"");
    sandbox.write("targets.nub", &text);
    let run = sandbox.run(&["why", "last", "--plain"]).expect(0);
    let wanted = "last might run now\n\
        because   last    make last.txt    if first.txt of first changes\n\
        since     first   make first.txt   its command changed, targets.nub:2\n          \
        since build 1:\n          word      -O1 instead of -O0\n          variable  DEPTH=8 instead of DEPTH=7\n";
    assert_eq!(run.stdout, wanted);
    let run = sandbox.run(&["why", "last", "--json"]).expect(0);
    assert_eq!(
        run.events()[1]["differences"],
        serde_json::json!([
            { "part": "word", "before": "-O0", "now": "-O1" },
            { "part": "variable", "before": "DEPTH=7", "now": "DEPTH=8" }
        ])
    );
    // One file that changed is said once.
    sandbox.run(&["build"]).expect(0);
    sandbox.write("a.txt", "b\n");
    let run = sandbox.run(&["why", "first", "--plain"]).expect(0);
    assert_eq!(
        run.stdout,
        "first would run now\nbecause   first   make first.txt   a.txt changed\n"
    );
}

#[test]
fn why_names_the_nearest_variant_of_what_never_ran() {
    let sandbox = with_options();
    sandbox.run(&["build"]).expect(0);
    let run = sandbox
        .run(&["why", "first", "--set", "mode=release", "--plain"])
        .expect(0);
    let wanted = "first would run now\n\
        because   first   make first.txt   never built here\n          \
        nearest to it is build 1 with the options' defaults; what differs:\n          \
        word      -O2 instead of -O0\n          word      -g is gone\n";
    assert_eq!(run.stdout, wanted);
    sandbox.run(&["build", "--set", "mode=release"]).expect(0);
    sandbox.write(
        "targets.nub",
        &sandbox
            .read("targets.nub")
            .replace(
                "\"debug\" | \"release\"",
                "\"debug\" | \"release\" | \"small\"",
            )
            .replace("\"release\": [", "\"small\": [\"-Os\"], \"release\": ["),
    );
    let run = sandbox
        .run(&["why", "first", "--set", "mode=small", "--plain"])
        .expect(0);
    assert!(run.stdout.contains("nearest to it is build 2 with mode=release; what differs:\n          word      -Os instead of -O2\n"), "{}", run.stdout);
}

#[test]
fn a_shell_opens_where_a_step_runs() {
    let sandbox = with_options();
    let inside = |args: &[&str], script: &str| {
        use std::io::Write;
        let mut command = sandbox.command(&[&["inside"], args].concat());
        let stdio = std::process::Stdio::piped;
        let mut child = command
            .stdin(stdio())
            .stdout(stdio())
            .stderr(stdio())
            .spawn()
            .unwrap();
        child
            .stdin
            .take()
            .unwrap()
            .write_all(script.as_bytes())
            .unwrap();
        let output = child.wait_with_output().unwrap();
        let text = |bytes: Vec<u8>| String::from_utf8(bytes).unwrap();
        (
            output.status.code().unwrap(),
            text(output.stdout),
            text(output.stderr),
        )
    };
    let (code, stdout, stderr) = inside(
        &["last"],
        "cat .nubrik/made/first/@first.txt/first.txt; echo x > .nubrik/made/last/@last.txt/last.txt; echo $TZ $DEPTH; exit 7",
    );
    assert_eq!((code, stdout.as_str()), (7, "a\nUTC\n"), "{stderr}");
    assert!(
        stderr.contains("ran       first"),
        "what it needs is built first: {stderr}"
    );
    assert!(
        stderr.contains("command   cp .nubrik/made/first/@first.txt/first.txt"),
        "{stderr}"
    );
    // What was made there is gone, and nothing was published.
    assert!(!sandbox.exists("out/default/last.txt") && !sandbox.exists("out/default/first.txt"));
    let run = sandbox.run(&["build", "--json"]).expect(0);
    assert_eq!(run.ran(), ["make last.txt"]);
    let (code, stdout, _) = inside(
        &["first", "first.txt"],
        "echo $DEPTH; touch .nubrik/made/first/@first.txt/new",
    );
    assert_eq!((code, stdout.as_str()), (0, "7\n"));
    assert_eq!(
        sandbox.run(&["build", "--json"]).expect(0).summary()["current"],
        2
    );
    let (code, _, stderr) = inside(&["first", "other"], "");
    assert_eq!(code, 2);
    assert!(
        stderr.contains("no step of `first` says `other`"),
        "{stderr}"
    );
    if nubrik_confine::support().path_rules.is_some() {
        let (_, _, stderr) = inside(&["last"], "cat a.txt");
        // In a sandbox it is not even there.
        let words = ["Permission denied", "No such file"];
        assert!(words.iter().any(|word| stderr.contains(word)), "{stderr}");
    }
}

#[test]
fn why_names_the_versions_of_a_tool() {
    let sandbox = Sandbox::new(&[(
        "targets.nub",
        "target t = step { run = `tidy > {out \"t\"}` }\n",
    )]);
    let tool = |version: &str| {
        use std::os::unix::fs::PermissionsExt;
        let path = sandbox.folder.join("../bin/tidy");
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(
            &path,
            format!("#!/bin/sh\n[ \"$1\" != --version ] || echo tidy {version}\n"),
        )
        .unwrap();
        std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o755)).unwrap();
    };
    let run = |args: &[&str]| {
        let mut command = sandbox.command(args);
        let folder = sandbox.folder.join("../bin").canonicalize().unwrap();
        command.env(
            "PATH",
            format!("{}:{}", folder.display(), std::env::var("PATH").unwrap()),
        );
        crate::sandbox::finish(command)
    };
    tool("1.4.2");
    run(&["build", "t"]).expect(0);
    tool("1.5.0");
    let text = run(&["why", "t", "--plain"]).expect(0).stdout;
    assert!(text.contains("the tool tidy changed"), "{text}");
    assert!(
        text.contains("tidy 1.5.0 instead of") && text.contains("tidy 1.4.2"),
        "{text}"
    );
}

#[test]
fn another_folder_and_colours_are_chosen_on_the_command_line() {
    let sandbox = Sandbox::new(&[
        (
            "tide/targets.nub",
            "target a = step { run = `echo ebb > {out \"a\"}` }\n",
        ),
        (
            "board/targets.nub",
            "target b = step { run = `echo board > {out \"b\"}` }\n",
        ),
    ]);
    let here = sandbox
        .run(&["-C", "tide", "list", "--plain"])
        .expect(0)
        .stdout;
    assert_eq!(here, "tide\n  step  a\n");
    assert_eq!(
        sandbox
            .run_in("board", &["list", "--plain", "-C", "../tide"])
            .expect(0)
            .stdout,
        here
    );
    let wrong = sandbox.run(&["-C", "nowhere", "list"]).expect(2).stderr;
    assert!(
        wrong.starts_with("error   cannot work in nowhere: "),
        "{wrong}"
    );
    // A file that is named is understood from there, too.
    sandbox
        .run(&["-C", "tide", "build", "a", "--plain"])
        .expect(0);
    assert!(sandbox.exists("out/default/tide/a") && !sandbox.exists("out/default/board/b"));

    let coloured = sandbox.run(&["list", "--color", "always"]).expect(0).stdout;
    assert!(coloured.contains("\x1b["), "{coloured}");
    for plain in [
        &["list", "--color", "never"][..],
        &["list"],
        &["list", "--plain", "--color", "always"],
    ] {
        let printed = sandbox.run(plain).expect(0).stdout;
        assert!(!printed.contains('\x1b'), "{printed}");
    }
    let wrong = sandbox.run(&["list", "--color", "green"]).expect(2).stderr;
    assert!(
        wrong.contains("the values are: auto, always, never"),
        "{wrong}"
    );
}

#[test]
fn a_dry_run_of_a_build_is_its_plan() {
    let definition = "target a = step { run = `echo ebb > {out \"a\"}` }\n";
    let sandbox = Sandbox::new(&[("targets.nub", definition)]);
    let planned = sandbox.run(&["plan", "--plain"]).expect(0).stdout;
    assert_eq!(
        sandbox.run(&["build", "-n", "--plain"]).expect(0).stdout,
        planned
    );
    assert!(!sandbox.exists("out/default/a"), "nothing was built");
    let wrong = sandbox.run(&["build", "-n", "--observe"]).expect(2).stderr;
    assert!(wrong.contains("cannot be used with"), "{wrong}");
}

#[test]
fn the_only_thing_that_can_be_run_needs_no_name() {
    let sandbox = Sandbox::new(&[(
        "a/targets.nub",
        "job hello = effect { run = `echo hello` }\n",
    )]);
    assert_eq!(sandbox.run(&["run"]).expect(0).stdout, "hello\n");
    assert_eq!(
        sandbox.run(&["run", "--", "there"]).expect(0).stdout,
        "hello there\n"
    );
    sandbox.write(
        "b/targets.nub",
        "job other = effect { run = `echo other` }\n",
    );
    let several = sandbox.run(&["run"]).expect(2).stderr;
    assert!(
        several.contains("  try   nubrik run a/hello\n  try   nubrik run b/other\n"),
        "{several}"
    );
    assert_eq!(sandbox.run_in("b", &["run"]).expect(0).stdout, "other\n");
    sandbox.write("c/targets.nub", "");
    assert!(
        sandbox
            .run_in("c", &["run"])
            .expect(2)
            .stderr
            .contains("there is no program, job or service")
    );
}

#[test]
fn names_of_before_are_answered_with_those_of_today() {
    let sandbox = Sandbox::new(&[("a.c", "int main(void) { return 0; }\n")]);
    let said = |definitions: &str| {
        sandbox.write(
            "targets.nub",
            &format!("use \"nub:c\" as c\n{definitions}\n"),
        );
        sandbox.run(&["list"]).expect(3).stderr
    };
    for (definitions, now) in [
        (
            "let a = scan { run = `true` }\ntarget t = write { path = \"t\", text = a.text }",
            "probe",
        ),
        (
            "target t = step { run = `x {found \"d\"} {out \"t\"}` }",
            "depfile",
        ),
        (
            "target t = step { run = `x {list \"a.c\"} {out \"t\"}` }",
            "argfile",
        ),
        ("target t = step { run = `x {outdir \"t\"}` }", "outfolder"),
        (
            "target t = step { run = `x {out \"t\"}`, dir = \".\" }",
            "folder",
        ),
        (
            "let f: file = \"a.c\"\ntarget t = write { path = \"t\", text = f.dir }",
            "folder",
        ),
        (
            "target t = step { run = `{tool { names = \"x\", may_fail = true }} {out \"t\"}` }",
            "or_none",
        ),
        (
            "test t = c.check_program { sources = \"a.c\" }",
            "test_program",
        ),
        (
            "target t = c.program { sources = \"a.c\", links = [\"-lm\"] }",
            "link_flags",
        ),
        (
            "target t = c.library { sources = \"a.c\", offers = [\"-g\"] }",
            "exported_flags",
        ),
        (
            "let a: list[c.linkable] = []\ntarget t = write { path = \"t\", text = \"{a.len}\" }",
            "linked",
        ),
    ] {
        let said = said(definitions);
        assert!(
            said.contains(&format!("  try   {now}\n")),
            "{definitions}\n{said}"
        );
        assert_eq!(said.matches("error   ").count(), 1, "{said}");
    }
    for (words, now) in [
        (
            &["pins", "add", "js", "tides", "--features", "deep"][..],
            "--with",
        ),
        (
            &["pins", "add", "rust", "tides", "--bare"],
            "--without-defaults",
        ),
        (
            &["explore", "--write", "pages"],
            "nubrik report --pages FOLDER",
        ),
        (&["bill", "t"], "nubrik sbom TARGET"),
        (&["how", "a", "b"], "nubrik why TARGET NEED"),
        (&["trace"], "nubrik report --trace FILE"),
        (&["worker"], "nubrik workers serve"),
        (&["serve-editor"], "nubrik lsp"),
    ] {
        let said = sandbox.run(words).expect(2).stderr;
        assert!(said.ends_with(&format!("\n  try   {now}\n")), "{said}");
    }
}

#[test]
fn plain_errors_and_failures_are_lines_that_editors_read() {
    let sandbox = Sandbox::new(&[
        (
            "tide/targets.nub",
            "target a = step { run = `false {out \"a\"}` }\n",
        ),
        (
            "board/targets.nub",
            "target b = write { path = \"b\", text = hight }\njob j = effect { run = `false` }\n",
        ),
    ]);
    let run = sandbox
        .run_in("tide", &["build", "--plain"])
        .expect(1)
        .stdout;
    let first =
        "../tide/targets.nub:1: error: tide/a: make a: exited with code 1\n  command   false ";
    assert!(run.starts_with(first), "{run}");
    let run = sandbox
        .run_in("board", &["build", "--plain"])
        .expect(3)
        .stderr;
    let first = "../board/targets.nub:1:39: error: `hight` is not defined here (unknown-name)\n  try: let hight = …\n";
    assert!(run.starts_with(first) && !run.contains("more "), "{run}");
    let run = sandbox
        .run(&["build", "--plain", "-C", "tide", "b"])
        .expect(2)
        .stderr;
    assert!(
        run.starts_with("nubrik: error: there is no target `tide/b`\n  note: `tide` has: a\n"),
        "{run}"
    );
    sandbox.write("board/targets.nub", "job j = effect { run = `false` }\n");
    let run = sandbox.run(&["run", "board/j", "--plain"]).expect(1).stderr;
    assert!(
        run.starts_with("board/targets.nub:1: error: board/j: exited with code 1\n"),
        "{run}"
    );
}
