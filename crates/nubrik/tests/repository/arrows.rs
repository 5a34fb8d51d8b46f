//! The rule of the house: crates use only those below them, and only the program knows a terminal.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;

use crate::sources::{crates, sources};
use nubrik_testing::{Need, skip};

/// Packages of the program's face, and words of it, that no other crate may hold.
const FACE: [&str; 6] = [
    "clap",
    "terminal_size",
    "unicode-width",
    "println!",
    "process::exit",
    "ExitCode",
];

/// Crates from the ground floor up, each with those that it uses: the table of `ARCHITECTURE.md`.
fn floors() -> Vec<(String, BTreeSet<String>)> {
    let text = fs::read_to_string(crates().join("../ARCHITECTURE.md")).unwrap();
    let rows = text
        .lines()
        .skip_while(|line| !line.starts_with("| crate |"))
        .skip(2);
    let rows = rows.take_while(|line| line.starts_with('|')).map(|line| {
        let cells: Vec<&str> = line.trim_matches('|').split('|').map(str::trim).collect();
        let uses = cells[2]
            .split(", ")
            .filter(|name| *name != "nothing")
            .map(str::to_owned);
        (cells[0].trim_matches('`').to_owned(), uses.collect())
    });
    let floors: Vec<_> = rows.collect();
    let all = fs::read_dir(crates())
        .unwrap()
        .flatten()
        .filter(|e| e.path().is_dir());
    let all = all.map(|e| e.file_name().into_string().unwrap());
    assert_eq!(
        floors
            .iter()
            .map(|(name, _)| name.clone())
            .collect::<BTreeSet<_>>(),
        all.collect()
    );
    floors
}

#[test]
fn arrows_point_down_and_are_those_of_the_table() {
    let floors = floors();
    for (floor, (name, uses)) in floors.iter().enumerate() {
        let manifest = fs::read_to_string(crates().join(name).join("Cargo.toml")).unwrap();
        let dependencies = manifest.split("[dev-dependencies]").next().unwrap();
        let named = dependencies
            .lines()
            .filter_map(|l| Some(l.strip_prefix("nubrik-")?.split_once('.')?.0));
        let named: BTreeSet<String> = named.map(str::to_owned).collect();
        assert_eq!(
            &named, uses,
            "what {name} uses, by its manifest and by ARCHITECTURE.md"
        );
        let below: BTreeSet<String> = floors[..floor]
            .iter()
            .map(|(name, _)| name.clone())
            .collect();
        assert!(uses.is_subset(&below), "{name} uses what stands above it");
        let mut files = Vec::new();
        sources(&crates().join(name).join("src"), &mut files);
        for other in uses {
            let word = format!("nubrik_{other}");
            assert!(
                files.iter().any(|(_, text)| text.contains(&word)),
                "{name} does not use {other}"
            );
        }
    }
}

#[test]
fn only_the_program_has_a_face() {
    for (name, _) in floors()
        .iter()
        .filter(|(name, _)| !["nubrik", "testing"].contains(&name.as_str()))
    {
        let manifest = fs::read_to_string(crates().join(name).join("Cargo.toml")).unwrap();
        let mut files = vec![("Cargo.toml".to_owned(), manifest)];
        sources(&crates().join(name).join("src"), &mut files);
        for (path, text) in files {
            for word in FACE {
                assert!(!text.contains(word), "{path} holds `{word}`");
            }
        }
    }
}

#[test]
fn everything_that_is_printed_goes_through_the_console() {
    let mut files = Vec::new();
    sources(&crates().join("nubrik/src"), &mut files);
    let words = [
        "println!",
        "print!(",
        "io::stdout().lock",
        "io::stderr().lock",
    ];
    let console = files
        .iter()
        .find(|(path, _)| path.ends_with("ui/console.rs"))
        .unwrap();
    assert!(console.1.contains("stdout().lock()"), "the console prints");
    for (path, text) in files
        .iter()
        .filter(|(path, _)| !path.ends_with("ui/console.rs"))
    {
        for word in words {
            assert!(!text.contains(word), "{path} holds `{word}`");
        }
    }
}

#[test]
fn unsafe_code_lives_in_one_place() {
    let mut files = Vec::new();
    for (name, _) in floors() {
        sources(&crates().join(name).join("src"), &mut files);
    }
    for (path, text) in files {
        let allowed = path.contains("confine/src/sys/");
        assert!(
            allowed || !(text.contains("unsafe {") || text.contains("allow(unsafe_code)")),
            "{path} holds unsafe code"
        );
    }
}

#[test]
fn what_commands_may_reach_is_put_together_in_one_place() {
    let words = ["RuleSet::", "Confinement::", "vars_os", "recorder: None"];
    let mut files = Vec::new();
    for (name, _) in floors().iter().filter(|(name, _)| name != "confine") {
        sources(&crates().join(name).join("src"), &mut files);
    }
    let in_ground = |path: &str| path.contains("machine/src/ground/");
    for word in words {
        assert!(
            files
                .iter()
                .any(|(path, text)| in_ground(path) && text.contains(word)),
            "nobody writes {word}"
        );
        for (path, text) in files.iter().filter(|(path, _)| !in_ground(path)) {
            assert!(
                !text.contains(word),
                "{path} writes `{word}`, which belongs to machine/src/ground/"
            );
        }
    }
}

#[test]
fn what_architecture_leads_to_is_there() {
    let text = fs::read_to_string(crates().join("../ARCHITECTURE.md")).unwrap();
    let mut looked_at = 0;
    for word in text.split('`').skip(1).step_by(2) {
        let place = crates().join(word);
        // Words that name a crate's file or folder; others are beside one in the same row.
        if word.contains('/')
            && floors()
                .iter()
                .any(|(name, _)| word.starts_with(&format!("{name}/")))
        {
            looked_at += 1;
            assert!(
                place.exists(),
                "ARCHITECTURE.md names {word}, which is not there"
            );
        }
    }
    assert!(looked_at > 30, "{looked_at}");
}

/// All that may lie at the root of the checkout.
const AT_THE_ROOT: [&str; 23] = [
    ".ci",
    ".gitignore",
    "ARCHITECTURE.md",
    "CHANGELOG.md",
    "Cargo.lock",
    "Cargo.toml",
    "LICENSE",
    "README.md",
    "benches",
    "clippy.toml",
    "crates",
    "demo",
    "docs",
    "editors",
    "fuzz",
    "kits",
    "nubrik.toml",
    "pins.toml",
    "release",
    "rustfmt.toml",
    "scripts",
    "site",
    "trials",
];

#[test]
fn tests_are_left_out_by_one_function() {
    let mut files = Vec::new();
    sources(&crates(), &mut files);
    let door = "testing/src/lib.rs";
    assert!(
        files
            .iter()
            .any(|(path, text)| path.ends_with(door) && text.contains("\"skipped: {why}\""))
    );
    for (path, text) in files.iter().filter(|(path, _)| !path.ends_with(door)) {
        assert!(
            !text.contains(concat!("println!(\"", "skipped")),
            "{path} leaves a test out by itself"
        );
    }
}

#[test]
fn a_release_leaves_its_symbols_out() {
    // The table of a package takes back what is said of all releases.
    let manifest = fs::read_to_string(crates().join("../Cargo.toml")).unwrap();
    for table in ["[profile.release]", "[profile.release.package.nubrik]"] {
        let (_, text) = manifest.split_once(table).unwrap();
        let text = text.split("\n[").next().unwrap();
        assert!(text.contains("\nstrip = \"symbols\"\n"), "{table}");
    }
}

#[test]
fn nothing_strays_at_the_root() {
    let mut git = std::process::Command::new("git");
    let Some(output) = git
        .args(["ls-files"])
        .current_dir(crates().join(".."))
        .output()
        .ok()
    else {
        return skip(Need::Git, "there is no git");
    };
    let text = String::from_utf8(output.stdout).unwrap();
    let tops: BTreeSet<&str> = text
        .lines()
        .filter_map(|path| path.split('/').next())
        .collect();
    let known: BTreeSet<&str> = AT_THE_ROOT.into_iter().collect();
    let stray: Vec<_> = tops.difference(&known).collect();
    assert!(stray.is_empty(), "{stray:?}");
}

#[test]
fn a_name_of_a_type_means_one_thing() {
    let mut files = Vec::new();
    for (name, _) in floors() {
        sources(&crates().join(name).join("src"), &mut files);
    }
    let mut declared: BTreeMap<String, String> = BTreeMap::new();
    for (path, text) in &files {
        for line in text.lines() {
            // Types of a trait's implementation are indented, and have the trait's names.
            let words = line
                .trim_start_matches("pub(crate) ")
                .trim_start_matches("pub(super) ");
            let mut words = words
                .trim_start_matches("pub ")
                .split([' ', '<', '(', ';', '=']);
            if !matches!(words.next(), Some("struct" | "enum" | "trait" | "type")) {
                continue;
            }
            let name = words.next().unwrap_or_default().to_owned();
            if let Some(other) = declared.insert(name.clone(), path.clone()) {
                panic!(
                    "{name} is declared in {other} and in {path}: give one of them a name of its own"
                );
            }
        }
    }
    assert!(declared.len() > 300, "{}", declared.len());
}
