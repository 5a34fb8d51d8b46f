//! What people read: which command of a job failed, where a step ran, all of a long output, one
//! reason everywhere.

use crate::sandbox::Sandbox;
use nubrik_testing::{Need, skip};

#[test]
fn a_failing_job_says_which_command_failed_with_what_and_where() {
    let sandbox = Sandbox::new(&[(
        "targets.nub",
        "job j = effect { say = \"do it\", run = [`echo one`, sh`echo two; exit 7`, `echo never`] }\n",
    )]);
    let run = sandbox.run(&["run", "j"]).expect(7);
    assert_eq!(run.stdout, "one\ntwo\n");
    for wanted in [
        "failed    j   exited with code 7",
        "command   sh -eu -c 'echo two; exit 7'",
        "not run   echo never",
        "defined   targets.nub:1",
    ] {
        assert!(run.stderr.contains(wanted), "{wanted}: {}", run.stderr);
    }
    let event = sandbox
        .run(&["run", "j", "--json"])
        .expect(7)
        .events()
        .pop()
        .unwrap();
    assert_eq!(
        (&event["event"], &event["state"]),
        (&"job".into(), &"failed".into())
    );
    assert_eq!(
        (&event["code"], &event["printed"]),
        (&7.into(), &"one\ntwo\n".into())
    );
    assert_eq!(
        (&event["command"], &event["defined"]),
        (
            &"sh -eu -c 'echo two; exit 7'".into(),
            &"targets.nub:1".into()
        )
    );
    sandbox.write("targets.nub", "job j = effect { run = `echo well` }\n");
    assert_eq!(sandbox.run(&["run", "j"]).expect(0).stdout, "well\n");
    assert_eq!(
        sandbox
            .run(&["run", "j", "--json"])
            .expect(0)
            .events()
            .pop()
            .unwrap()["state"],
        "ran"
    );
}

#[test]
fn a_failing_step_names_the_folder_in_which_it_ran() {
    let sandbox = Sandbox::new(&[
        ("src/a", "hi"),
        (
            "targets.nub",
            "target here = step { run = `cat b {in \"src/a\"} {out \"o\"}`, folder = \"src\" }\n\
             target copy = step { run = [`cat b`, `cp a o`], folder = stage { \"a\": \"src/a\" }, makes = { \"o\": \"o\" } }\n",
        ),
    ]);
    let text = sandbox.run(&["build", "-k", "--plain"]).expect(1).stdout;
    let folder = sandbox.folder.join("src").display().to_string();
    assert!(text.contains(&format!("folder    {folder}\n")), "{text}");
    assert!(
        text.contains("folder    one of its own, which is gone now\n"),
        "{text}"
    );
    assert!(text.contains("look      nubrik inside copy\n"), "{text}");
}

#[test]
fn long_output_is_cut_in_the_middle_and_kept_whole() {
    let sandbox = Sandbox::new(&[(
        "targets.nub",
        "target z = step { run = [`seq 1 90000`, `false`, `touch {out \"z\"}`] }\ntarget y = step { run = [`seq 1 5000`, `touch {out \"y\"}`] }\n",
    )]);
    let text = sandbox.run(&["build", "-k", "--plain"]).expect(1).stdout;
    assert!(
        text.lines().count() < 4_200
            && text.contains("\n    1\n")
            && text.contains("\n    90000\n"),
        "{text}"
    );
    let file = text
        .lines()
        .find_map(|l| l.split_once("88000 lines left out; all of it: "))
        .unwrap()
        .1
        .trim();
    assert_eq!(sandbox.read(file).lines().count(), 90_000);
    assert!(
        text.contains("3000 lines left out; all of it: nubrik show y --printed"),
        "{text}"
    );
    assert_eq!(sandbox.run(&["clean"]).expect(0).code, 0);
    assert!(!sandbox.exists(".nubrik/printed"));
}

#[test]
fn a_plan_and_a_build_give_the_same_reasons() {
    let sandbox = Sandbox::new(&[
        ("a.md", "1"),
        ("b.md", "2"),
        (
            "targets.nub",
            "target t = {each m in glob(\"*.md\") give m.stem: step { run = `cp {m} {out \"{m.stem}.txt\"}` }}\n\
             target p = pack { path = \"p.tar\", files = { \"d/\": t } }\n\
             target q = step { run = `cat {t} > {out \"q\"}` }\n",
        ),
    ]);
    sandbox.build();
    std::fs::rename(sandbox.folder.join("b.md"), sandbox.folder.join("c.md")).unwrap();
    let plan = sandbox.run(&["plan", "--json"]).expect(0).events();
    let planned = |say: &str| plan.iter().find(|e| e["say"] == say).unwrap()["reason"].clone();
    let built = sandbox.build();
    for say in ["pack p.tar", "make q", "make c.txt"] {
        assert_eq!(planned(say), built.reason(say).as_str(), "{say}");
    }
    assert_eq!(built.reason("make q"), "c.txt of t is a new input");
}

#[test]
fn why_shows_the_lines_of_a_text_that_changed() {
    let sandbox = Sandbox::new(&[(
        "targets.nub",
        "target w = write { path = \"w\", text = \"first\\nchannel {env(\"CHAN\", default = \"none\")}\\n\" }\n",
    )]);
    sandbox.run_with(&["build"], &[("CHAN", "one")]).expect(0);
    let text = sandbox
        .run_with(&["why", "w", "--plain"], &[("CHAN", "two")])
        .expect(0)
        .stdout;
    assert!(
        text.contains("text      channel two instead of channel one"),
        "{text}"
    );
}

#[test]
fn an_audit_knows_copies_and_listings_and_names_what_does_not_count() {
    if !nubrik_confine::can_record() || !crate::sandbox::has_sandboxes() {
        return skip(
            Need::Confinement,
            "this kernel cannot record, or has no sandboxes",
        );
    }
    let sandbox = Sandbox::new(&[
        ("a", "hi"),
        (
            "targets.nub",
            "target copy = step { run = [`grep -q hi a`, `cp a b`], folder = stage { \"a\": \"a\" }, makes = { \"b\": \"b\" } }\n\
             target names = step { run = `ls {in \"a\"} > {out \"n\"}` }\n",
        ),
    ]);
    let observed_steps = sandbox
        .run(&["build", "--observe", "--json"])
        .expect(0)
        .events();
    let audit = |target: &str| {
        observed_steps
            .iter()
            .find(|e| e["event"] == "observed" && e["target"] == target)
            .unwrap()
    };
    assert_eq!(audit("copy")["unused"], serde_json::json!([]));
    let uncounted = audit("names")["uncounted"].as_array().unwrap();
    assert!(
        !uncounted.is_empty()
            && uncounted
                .iter()
                .all(|path| path.as_str().unwrap().starts_with('/')),
        "{uncounted:?}"
    );
    assert!(
        !uncounted
            .iter()
            .any(|path| path.as_str().unwrap().ends_with("/ls")),
        "a tool counts: {uncounted:?}"
    );
    let doctor = sandbox.run(&["doctor", "--json"]).expect(0).events();
    let cat = doctor.iter().find(|e| e["name"] == "ls").unwrap();
    assert!(
        cat["counts"]
            .as_array()
            .unwrap()
            .iter()
            .any(|path| path.as_str().unwrap().ends_with("/ls"))
    );
    assert!(
        doctor
            .iter()
            .any(|e| e["name"] == "sandboxes for steps" && e["ok"] == true)
    );
}

#[test]
fn a_reason_names_what_was_edited_and_not_the_line_of_a_kit() {
    let sandbox = Sandbox::new(&[
        (
            "kit/flags.nub",
            "## How sources are compiled.\nlet ours = [\"-g\"]\n",
        ),
        ("heights.csv", "code,height\nardle,210\nfethal,185\n"),
        ("a.c", "int main(void) { return 0; }\n"),
        (
            "targets.nub",
            "use \"nub:c\" as c\nuse { ours } from \"/kit/flags.nub\"\n\
            target a = c.program { sources = \"a.c\", flags = ours }\n\
            target pages = {each h in load_csv(\"heights.csv\") give h.code: write { path = h.code, text = \"{h.height} cm\" }}\n\
            target season = write { path = \"season\", text = env(\"SEASON\", default = \"spring\") }\n",
        ),
    ]);
    sandbox.build();
    let reasons = |args: &[&str], season: &str| {
        let run = sandbox.run_with(args, &[("SEASON", season)]).expect(0);
        let events = run
            .events()
            .into_iter()
            .filter(|e| e["event"] == "step" || e["event"] == "plan");
        let mut reasons: Vec<String> = events
            .filter(|e| e["reason_code"] == "command-changed")
            .map(|e| e["reason"].as_str().unwrap().to_owned())
            .collect();
        reasons.sort();
        reasons
    };
    sandbox.write(
        "kit/flags.nub",
        "## How sources are compiled.\nlet ours = [\"-g\", \"-Wall\"]\n",
    );
    sandbox.write("heights.csv", "code,height\nardle,210\nfethal,190\n");
    let edited = [
        "its command changed, kit/flags.nub:2",
        "its text changed, heights.csv:3",
    ];
    assert_eq!(reasons(&["plan", "--json"], "spring"), edited);
    assert_eq!(
        reasons(&["plan", "--json"], "spring"),
        edited,
        "a kept answer knows it, too"
    );
    assert_eq!(
        reasons(&["build", "--json"], "spring"),
        edited,
        "a build says what the plan said"
    );
    // What nobody edited is described by what it was and is.
    let season = ["its text changed, targets.nub:5: autumn instead of spring"];
    assert_eq!(reasons(&["build", "--json"], "autumn"), season);
    // A value that is gone is written nowhere: where it is used is the nearest that there is.
    sandbox.write(
        "kit/flags.nub",
        "## How sources are compiled.\nlet ours: list[text] = []\n",
    );
    let gone = ["its command changed, targets.nub:3: -g is gone"];
    assert_eq!(reasons(&["build", "--json"], "autumn"), gone);
}

#[test]
fn a_failure_and_a_stop_are_told_apart_afterwards_and_so_is_a_missing_tool() {
    let sandbox = Sandbox::new(&[(
        "targets.nub",
        "target a = step { run = `false {out \"a\"}` }\n",
    )]);
    let run = sandbox.run(&["build"]).expect(1).stdout;
    assert!(run.contains("\n1 of 1 step failed. "), "{run}");
    assert!(
        sandbox
            .run(&["plan"])
            .expect(0)
            .stdout
            .contains("failed last time")
    );
    sandbox.write(
        "targets.nub",
        "target a = step { run = `no_such_tool {out \"a\"}` }\n",
    );
    let planned = sandbox.run(&["plan"]).expect(0).stdout;
    assert!(
        planned.contains("fail      a") && planned.contains("there is no tool no_such_tool"),
        "{planned}"
    );
}

/// A chain of targets over two packages, with a test, a job and a service.
fn relations() -> Sandbox {
    Sandbox::new(&[
        (
            "tide/targets.nub",
            "target low = write { path = \"low.txt\", text = \"low\" }\n\
             target high = step { run = `cp {low} {out \"high.txt\"}` }\n\
             target alone = write { path = \"alone.txt\", text = \"alone\" }\n\
             service sea = serve { run = sh`cat {high}; sleep 100`, ready = `true` }\n",
        ),
        (
            "board/targets.nub",
            "target chart = step { run = `cp {&tide/high} {out \"chart.txt\"}`, reads = &tide/low }\n\
             test drawn = check { run = `test -s {chart}` }\n\
             job send = effect { run = `cat {chart}` }\n",
        ),
    ])
}

#[test]
fn each_of_several_shown_targets_has_its_own_needs_users_and_steps() {
    let sandbox = relations();
    let events = sandbox
        .run(&["show", "--all", ".", "--json"])
        .expect(0)
        .events();
    let of = |target: &str| {
        let event = events
            .iter()
            .find(|event| event["target"] == target)
            .unwrap_or_else(|| panic!("{target}"));
        let texts = |key: &str| -> Vec<String> {
            let list = event[key].as_array().cloned().unwrap_or_default();
            list.iter()
                .map(|text| text.as_str().unwrap_or_default().to_owned())
                .collect()
        };
        let steps = event["steps"].as_array().map_or(0, Vec::len);
        (texts("needs").join(" "), texts("used_by").join(" "), steps)
    };
    for (target, needs, users, steps) in [
        ("tide/low", "", "board/chart tide/high", 1),
        ("tide/high", "tide/low", "board/chart", 1),
        ("tide/alone", "", "", 1),
        ("board/chart", "tide/high tide/low", "board/drawn", 1),
        ("board/drawn", "board/chart", "", 1),
    ] {
        assert_eq!(
            of(target),
            (needs.to_owned(), users.to_owned(), steps),
            "{target}"
        );
    }
    // What is on call is listed, and shown where it is asked for.
    assert_eq!(of("board/send").2, 0);
    let job = sandbox
        .run(&["show", "board/send", "--json"])
        .expect(0)
        .events()
        .remove(0);
    assert_eq!(
        (&job["needs"][0], job["does"].as_array().map(Vec::len)),
        (&"board/chart".into(), Some(1))
    );
    let service = sandbox
        .run(&["show", "tide/sea", "--json"])
        .expect(0)
        .events()
        .remove(0);
    assert_eq!(service["serves"][0]["target"], "tide/sea");
    // One that is shown alone says the same as among others.
    let alone = sandbox
        .run(&["show", "tide/high", "--plain"])
        .expect(0)
        .stdout;
    let among = sandbox
        .run(&["show", "--all", "tide", "--plain"])
        .expect(0)
        .stdout;
    assert!(
        among.contains(alone.trim_end()),
        "{alone}\nis not in\n{among}"
    );
}

#[test]
fn a_tree_of_users_begins_at_each_target_that_was_asked_for() {
    let sandbox = relations();
    let tree = |words: &[&str]| {
        sandbox
            .run(&[&["tree", "--plain"], words].concat())
            .expect(0)
            .stdout
    };
    let users = tree(&["tide", "--users"]);
    let roots: Vec<&str> = users
        .lines()
        .filter(|line| line.starts_with(char::is_alphanumeric))
        .filter_map(|l| l.split_whitespace().next())
        .collect();
    assert_eq!(
        roots,
        ["tide/low", "tide/high", "tide/alone", "tide/sea"],
        "{users}"
    );
    assert!(users.contains("board/drawn"), "{users}");
    assert!(
        !tree(&["tide/high"]).contains("board"),
        "what uses it was not asked for"
    );
}

#[test]
fn a_dependency_path_that_leads_the_other_way_is_said() {
    let sandbox = relations();
    sandbox
        .run(&["why", "board/drawn", "tide/low"])
        .expect(0)
        .says("board/chart");
    let back = sandbox.run(&["why", "tide/high", "board/chart"]).expect(1);
    assert!(
        back.stderr
            .contains("`tide/high` does not depend on `board/chart`"),
        "{}",
        back.stderr
    );
    let none = sandbox.run(&["why", "tide/alone", "board/chart"]).expect(1);
    assert!(
        none.stderr.contains("nubrik tree tide/alone"),
        "{}",
        none.stderr
    );
}

#[test]
fn who_uses_a_target_is_known_where_that_takes_the_answer_of_a_probe() {
    let sandbox = Sandbox::new(&[
        (
            "targets.nub",
            "let place = probe { run = `echo ardle` }\n\
             target base = write { path = \"b\", text = \"x\" }\n\
             target user = step { run = `cat {base} {place.lines.first}.txt > {out \"u\"}` }\n",
        ),
        ("ardle.txt", "a"),
    ]);
    sandbox
        .run(&["show", "base"])
        .expect(0)
        .says("used by   user");
}

#[test]
fn a_tree_says_where_it_goes_on_below_what_anybody_reads() {
    let next = |n: usize| {
        format!(
            "target p{n} = step {{ run = `cat {{in p{}}} > {{out \"p\"}}` }}\n",
            n - 1
        )
    };
    let first = "target p0 = write { path = \"p\", text = \"x\" }\n".to_owned();
    let text = (1..400).map(next).fold(first, |text, next| text + &next);
    let sandbox = Sandbox::new(&[("targets.nub", &text)]);
    let lines = |args: &[&str]| sandbox.run(args).expect(0).stdout.lines().count();
    let tree = sandbox
        .run(&["tree", "p399"])
        .expect(0)
        .says("it goes deeper than 100 levels: --depth N shows more");
    assert_eq!(tree.stdout.lines().count(), 101 + 2);
    assert_eq!(lines(&["tree", "p100"]), 101, "nothing is left out");
    assert_eq!(lines(&["tree", "p399", "--depth", "398"]), 399);
    assert_eq!(lines(&["tree", "p399", "--json"]), 400);
}
