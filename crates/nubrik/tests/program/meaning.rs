//! Definitions mean the same wherever and after whatever they are built, or are refused.

use crate::sandbox::Sandbox;

fn refused(files: &[(&str, &str)], words: &[&str]) {
    let run = Sandbox::new(files).run(&["build"]).expect(3);
    for word in words {
        assert!(run.stderr.contains(word), "{word}: {}", run.stderr);
    }
}

#[test]
fn no_result_lies_in_another_one() {
    refused(
        &[
            (
                "targets.nub",
                "target a = write { path = \"a\", text = \"A\" }\n",
            ),
            (
                "a/targets.nub",
                "target x = write { path = \"x\", text = \"X\" }\n",
            ),
        ],
        &[
            "`a` makes `a`, and `a/x` makes `a/x`, which lies in it",
            "give one of them another name",
        ],
    );
    refused(
        &[
            (
                "targets.nub",
                "target d = step { run = `touch {outfolder \"d\"}/y` }\n",
            ),
            (
                "d/e/targets.nub",
                "target x = write { path = \"x\", text = \"X\" }\n",
            ),
        ],
        &["`d` makes `d`, and `d/e/x` makes `d/e/x`, which lies in it"],
    );
    refused(
        &[
            (
                "targets.nub",
                "target tide = { \"key\": { \"in\": write { path = \"x\", text = \"A\" } } }\n",
            ),
            (
                "tide/targets.nub",
                "target key = write { path = \"key\", text = \"X\" }\n",
            ),
        ],
        &["`tide/key` makes `tide/key`", "which lies in it"],
    );
}

#[test]
fn what_excludes_one_another_takes_nothing_away_where_only_a_part_is_built() {
    let sandbox = Sandbox::new(&[
        (
            "a/targets.nub",
            "target x = write { path = \"x\", text = \"X\" }\n",
        ),
        (
            "targets.nub",
            "target a = write { path = \"a\", text = \"A\" }\ntarget b = write { path = \"b\", text = \"A\" }\n",
        ),
    ]);
    sandbox.run(&["build", "a/x"]).expect(3); // Two meanings.
    sandbox.run_in("a", &["build", "x"]).expect(3);
    sandbox.write(
        "targets.nub",
        "target b = write { path = \"b\", text = \"A\" }\n",
    );
    sandbox.run(&["build"]).expect(0);
    sandbox.write(
        "targets.nub",
        "target pair = { \"a\": write { path = \"a\", text = \"A\" } }\n",
    );
    sandbox.run(&["build", "pair"]).expect(0);
    assert!(sandbox.exists("out/default/a/x"));
    // One place after the other for the same target is no conflict.
    let sandbox = Sandbox::new(&[(
        "targets.nub",
        "target a = write { path = \"a\", text = \"1\" }\n",
    )]);
    sandbox.run(&["build", "a"]).expect(0);
    sandbox.write(
        "targets.nub",
        "target a = { \"k\": write { path = \"m\", text = \"1\" } }\n",
    );
    sandbox.run(&["build", "a"]).expect(0);
    assert_eq!(sandbox.read("out/default/a/k/m"), "1");
    sandbox.write(
        "targets.nub",
        "target a = write { path = \"a\", text = \"2\" }\n",
    );
    sandbox.run(&["build", "a"]).expect(0);
    assert_eq!(sandbox.read("out/default/a"), "2");
}

#[test]
fn an_output_cannot_lie_where_what_is_made_is_thrown_away() {
    refused(
        &[(
            "targets.nub",
            "target t = step { run = `touch {out \".scratch/x\"}` }\n",
        )],
        &["\".scratch/x\" cannot be the name of an output"],
    );
}

#[test]
fn the_path_of_what_is_made_is_refused_where_a_step_does_not_declare_it() {
    let made = "target made = step { run = `touch {out \"a.h\"}` }\nlet header = made\n";
    for word in ["-I{header.folder}", "{header.path}"] {
        let step = format!(
            "{made}target user = step {{ run = `cp {{in \"s\"}} {{out \"x\"}} {word}` }}\n"
        );
        refused(
            &[("targets.nub", &step), ("s", "")],
            &[
                "this names what `made` makes and does not declare it",
                "undeclared-made",
            ],
        );
        let declared = step.replace(
            &format!("{word}` }}"),
            &format!("`, reads = made, env = {{ \"WORD\": \"{word}\" }} }}"),
        );
        Sandbox::new(&[("targets.nub", &declared), ("s", "")])
            .run(&["build"])
            .expect(0);
        let env = declared.replace("reads = made, ", "");
        refused(&[("targets.nub", &env), ("s", "")], &["undeclared-made"]);
    }
}

#[test]
fn only_a_probe_that_decides_keys_is_one_in_a_key() {
    let kit = "kind good(sources: files, needs: list[text] = []) {\n\
        \x20   let paths = [each s in sources give s.path]\n\
        \x20   give {each p in paths give p: write { path = \"n.txt\", text = \"{needs.len}\" }}\n}\n\
        kind behind_a_let(names: list[text]) {\n\
        \x20   let all = [each n in names give n]\n\
        \x20   give {each n in all give n: write { path = \"n\", text = \"x\" }}\n}\n\
        kind direct(names: list[text]) {\n\
        \x20   give {each n in names give n: write { path = \"n\", text = \"x\" }}\n}\n";
    let start = "use { good, behind_a_let, direct } from \"/k.nub\"\nprivate let s = probe { run = `cat {in \"a.x\"}` }\n";
    let workspace = |end: &str| {
        Sandbox::new(&[
            ("k.nub", kit),
            ("a.x", "one\n"),
            ("targets.nub", &format!("{start}{end}\n")),
        ])
    };
    let run = workspace("target ok = good { sources = \"*.x\", needs = s.lines }").build();
    assert_eq!(run.ran(), ["probe for s", "write n.txt"]);
    // What only orders items decides no keys.
    let run = workspace("let same(l: text) = l\ntarget ok = write { path = \"n\", text = s.lines.sorted_by(same).join(\"\") }").build();
    assert_eq!(run.ran(), ["probe for s", "write n"]);
    // A map in memory may have any keys.
    let run = workspace("let keys_of(l: text): int = {each k in [l] give k: 1}.len\ntarget ok = write { path = \"n\", text = s.lines.sorted_by(keys_of).join(\"\") }").build();
    assert_eq!(run.ran(), ["probe for s", "write n"]);
    for end in [
        "target b = behind_a_let { names = s.lines }",
        "target b = direct { names = s.lines }",
        "target b = {each l in [\"a\", \"b\"] where l == s.text give l: write { path = \"l\", text = \"\" }}",
        "let m = { \"a\": s.text }\ntarget b = {each k, v in m give v: write { path = \"l\", text = k }}",
    ] {
        let run = workspace(end).run(&["build"]).expect(3);
        assert!(run.stderr.contains("probe-in-key"), "{end}: {}", run.stderr);
    }
}

#[test]
fn another_workspace_below_this_one_is_not_reached_by_addresses() {
    let sandbox = Sandbox::new(&[
        ("base/nubrik.toml", ""),
        (
            "base/clock/targets.nub",
            "target clock = write { path = \"c\", text = \"c\" }\n",
        ),
        (
            "targets.nub",
            "target z = write { path = \"z\", text = \"z\" }\n",
        ),
    ]);
    for (words, code) in [
        (&["build", "base/clock"][..], 2),
        (&["build", "base/clock/."], 2),
        (&["list", "base/**"], 2),
    ] {
        let run = sandbox.run(words).expect(code);
        assert!(
            run.stderr.contains("base") && !sandbox.exists("out/default/base"),
            "{}",
            run.stderr
        );
    }
    assert!(
        sandbox
            .run(&["build", "base/clock"])
            .stderr
            .contains("`base` is a workspace of its own: base/nubrik.toml")
    );
    sandbox.write(
        "targets.nub",
        "target z = step { run = `cp {&base/clock} {out \"z\"}` }\n",
    );
    assert!(
        sandbox
            .run(&["build"])
            .expect(3)
            .stderr
            .contains("is a workspace of its own")
    );
    sandbox.run_in("base/clock", &["build"]).expect(0);
}

/// A chain in which each target needs the one before it.
fn chain(length: usize) -> String {
    let mut text = "target t0 = write { path = \"x\", text = \"0\" }\n".to_owned();
    for number in 1..length {
        let before = number - 1;
        text.push_str(&format!(
            "target t{number} = step {{ run = `cp {{t{before}}} {{out \"x\"}}` }}\n"
        ));
    }
    text
}

#[test]
fn a_long_chain_of_targets_evaluates_plans_and_builds() {
    let sandbox = Sandbox::new(&[("targets.nub", &chain(10_000))]);
    for words in [
        &["list"][..],
        &["plan", "t9999"],
        &["why", "t9999", "t0"],
        &["graph", "--format", "dot", "t9999"],
    ] {
        sandbox.run(words).expect(0);
    }
    // Building takes a process a step; a thousand of them are enough to see that nothing grows with
    // the depth.
    let sandbox = Sandbox::new(&[("targets.nub", &chain(1_500))]);
    assert_eq!(sandbox.build().summary()["ran"], 1_500);
    sandbox.write(
        "targets.nub",
        &chain(1_500).replace("text = \"0\"", "text = \"1\""),
    );
    assert_eq!(sandbox.build().summary()["ran"], 1_500);
    assert_eq!(sandbox.read("out/default/t1499/x"), "1");
    // A ring of as many is reported, and an error in what is not needed after all is not.
    let ring = chain(3_000).replace(
        "write { path = \"x\", text = \"0\" }",
        "step { run = `cp {t2999} {out \"x\"}` }",
    );
    assert!(
        Sandbox::new(&[("targets.nub", &ring)])
            .run(&["plan", "t5"])
            .expect(3)
            .stderr
            .contains("2980 of them in the middle are not shown")
    );
    let unneeded = format!(
        "{}let wrong = oops\nlet maybe = if true then t299 else wrong\ntarget last = step {{ run = `cp {{maybe}} {{out \"x\"}}` }}\n",
        chain(300)
    );
    let run = Sandbox::new(&[("targets.nub", &unneeded)]).run(&["plan", "last"]);
    assert!(
        run.stderr.contains("`oops` is not defined") || run.code == 0,
        "{}",
        run.stderr
    );
}

#[test]
fn options_in_all_combinations_are_stopped_before_they_take_the_machine() {
    let mut text = String::new();
    (0..24).for_each(|n| text.push_str(&format!("option o{n}: \"x\" | \"y\" = \"x\"\n")));
    let all: String = (0..24).map(|n| format!("{{o{n}}}")).collect();
    text.push_str(&format!("let a0 = \"{all}\"\n"));
    for n in 0..24 {
        let next = n + 1;
        text.push_str(&format!(
            "let a{next} = [a{n} under {{ o{n} = \"x\" }}, a{n} under {{ o{n} = \"y\" }}]\n"
        ));
    }
    let count = |depth: usize| {
        format!("{text}target t = write {{ path = \"x\", text = \"{{a{depth}.len}}\" }}\n")
    };
    let run = Sandbox::new(&[("targets.nub", &count(24))])
        .run(&["plan"])
        .expect(3);
    assert!(run.stderr.contains("too-much-work"), "{}", run.stderr);
    // As many as anybody needs are evaluated.
    Sandbox::new(&[("targets.nub", &count(10))])
        .run(&["plan"])
        .expect(0);
}
