//! What shells propose while somebody types, asked in the shells themselves; one that is not here
//! is visibly left out.

use std::process::Command;

use crate::sandbox::Sandbox;
use nubrik_testing::{Need, skip};

const TIDES: &str = "use \"nub:c\" as c\n\
    ## Heights of all stations.\n\
    target heights = write { path = \"heights\", text = \"1\" }\n\
    private target hidden_heights = write { path = \"h\", text = mode }\n\
    option mode: \"ebb\" | \"flow\" = \"ebb\"\n\
    test holds tagged slow = check { run = `true` }\n";

fn workspace() -> Sandbox {
    Sandbox::new(&[
        (
            "nubrik.toml",
            "[profiles.ship]\nmode = \"flow\"\n[profiles.shore]\nmode = \"ebb\"\n",
        ),
        ("tide/targets.nub", TIDES),
        (
            "tide/charts/deep/targets.nub",
            "target chart = write { path = \"c\", text = \"2\" }\n",
        ),
        ("notes/plain.txt", ""),
        ("targets.nub", "target all = &tide/heights\n"),
    ])
}

/// What a program proposes for the last of some words.
fn proposed(sandbox: &Sandbox, words: &[&str]) -> Vec<String> {
    let mut command = sandbox.command(&[]);
    command
        .env("NUBRIK_COMPLETE", "fish")
        .arg("--")
        .arg("nubrik")
        .args(words);
    let output = crate::sandbox::finish(command).expect(0).stdout;
    output
        .lines()
        .map(|line| line.split('\t').next().unwrap().to_owned())
        .collect()
}

#[test]
fn what_is_declared_now_is_proposed() {
    let sandbox = workspace();
    assert_eq!(proposed(&sandbox, &["build", "a"]), ["all"]);
    assert_eq!(proposed(&sandbox, &["build", "t"]), ["tide/"]);
    assert_eq!(
        proposed(&sandbox, &["test", "tide/h"]),
        ["tide/heights", "tide/hidden_heights", "tide/holds"]
    );
    // A folder leads on if something is declared below it.
    assert_eq!(proposed(&sandbox, &["why", "tide/c"]), ["tide/charts/"]);
    assert_eq!(
        proposed(&sandbox, &["build", "notes/"]),
        ["notes/plain.txt"]
    );
    assert_eq!(proposed(&sandbox, &["build", "--set", "mo"]), ["mode="]);
    assert_eq!(
        proposed(&sandbox, &["build", "--set", "mode=f"]),
        ["mode=flow"]
    );
    assert_eq!(
        proposed(&sandbox, &["build", "--profile", "s"]),
        ["ship", "shore"]
    );
    assert_eq!(proposed(&sandbox, &["list", "--tag", ""]), ["slow"]);
    assert_eq!(
        proposed(&sandbox, &["explain", "keptf"]),
        Vec::<String>::new()
    );
    assert_eq!(proposed(&sandbox, &["explain", "made-"]), ["made-twice"]);
    // What was just written needs no build, and what is wrong elsewhere does not matter.
    sandbox.write(
        "targets.nub",
        "target almanac = &tide/heights\ntarget = wrong\n",
    );
    assert_eq!(proposed(&sandbox, &["build", "al"]), ["almanac"]);
    // Nothing but proposals comes of it, wherever it is asked.
    assert!(!sandbox.exists("out"));
    std::fs::remove_file(sandbox.folder.join("nubrik.toml")).unwrap();
    assert_eq!(
        proposed(&sandbox, &["build", "--profile", "s"]),
        Vec::<String>::new()
    );
}

#[test]
fn manual_pages_say_what_the_help_says() {
    let sandbox = workspace();
    sandbox
        .run(&["setup", "manual", "pages"])
        .expect(0)
        .says("pages in pages");
    let help = sandbox.run(&["--help"]).expect(0).stdout;
    let commands = help
        .lines()
        .filter_map(|line| line.strip_prefix("  ")?.split_whitespace().next());
    let pages = sandbox.files_below("pages");
    let commands: Vec<&str> = commands
        .filter(|word| word.chars().all(|c| c.is_ascii_lowercase()))
        .collect();
    assert!(commands.len() > 20, "{commands:?}");
    for command in commands {
        assert!(
            pages.contains_key(&format!("pages/nubrik-{command}.1")),
            "{command}"
        );
    }
    let page = String::from_utf8(pages["pages/nubrik-cache-prune.1"].clone()).unwrap();
    assert!(
        page.contains("nubrik cache prune") && page.contains("SIZE") && !page.contains("profile"),
        "{page}"
    );
    sandbox
        .run(&["setup", "manual", "notes/plain.txt"])
        .expect(5)
        .says("cannot write notes/plain.txt");
}

/// Runs a script in a shell, with the script of `nubrik setup completions` before it; `None` where
/// the shell is not here.
fn in_shell(sandbox: &Sandbox, shell: &str, args: &[&str], script: &str) -> Option<String> {
    if Command::new(shell).arg("-c").arg("true").output().is_err() {
        skip(Need::Shells, format_args!("{shell} is not here"));
        return None;
    }
    let read = sandbox
        .run(&["setup", "completions", shell])
        .expect(0)
        .stdout;
    std::fs::write(sandbox.folder.parent().unwrap().join("script"), read).unwrap();
    let mut command = Command::new(shell);
    command
        .args(args)
        .arg("-c")
        .arg(script)
        .current_dir(&sandbox.folder);
    let output = command.output().unwrap();
    let errors = String::from_utf8_lossy(&output.stderr);
    assert!(output.status.success(), "{errors}");
    Some(String::from_utf8(output.stdout).unwrap())
}

#[test]
fn bash_proposes_them() {
    let sandbox = workspace();
    let script = r#"
        source ../script
        ask() { COMP_WORDS=("$@") COMP_CWORD=$(($# - 1)) COMP_TYPE=9 COMPREPLY=(); _nubrik_proposals; echo "${COMPREPLY[*]}"; }
        ask nubrik build tide/he
        ask nubrik build --set mode = f
        ask nubrik build --set mo
        complete -p nubrik
    "#;
    if let Some(told) = in_shell(&sandbox, "bash", &["--norc"], script) {
        let expected =
            "tide/heights\nflow\nmode=\ncomplete -o bashdefault -F _nubrik_proposals nubrik\n";
        assert_eq!(told, expected);
    }
}

#[test]
fn zsh_proposes_them() {
    let sandbox = workspace();
    let script = r#"
        autoload -U compinit && compinit -u -D
        source ../script
        _describe() { local list=$3; print -r -- "${(P@)list}"; }
        words=(nubrik build tide/he) CURRENT=3
        _clap_dynamic_completer_nubrik
        print -r -- $_comps[nubrik]
    "#;
    if let Some(told) = in_shell(&sandbox, "zsh", &["-f"], script) {
        assert_eq!(
            told,
            "tide/heights:target: Heights of all stations\n_clap_dynamic_completer_nubrik\n"
        );
    }
}

#[test]
fn fish_proposes_them() {
    let sandbox = workspace();
    let script = "source ../script; complete -C 'nubrik build tide/he'; complete -C 'nubrik build --set mode=f'";
    if let Some(told) = in_shell(&sandbox, "fish", &["--no-config"], script) {
        assert_eq!(
            told,
            "tide/heights\ttarget: Heights of all stations\nmode=flow\n"
        );
    }
}
