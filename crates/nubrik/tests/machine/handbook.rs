//! The handbook is true: its files are written, and its commands are run, from the first page to
//! the last, in one workspace; what is printed must be what it shows. `NUBRIK_WRITE_HANDBOOK=1`
//! writes what is printed into it.
//!
//! A file is a block below a line with its name: `` `src/main.c` ``. A block that begins with `$`
//! is a command with what it printed. `<!-- hidden` begins shell commands that readers need not
//! see; `<!-- of one machine -->` is before a command whose answer is another one on other
//! machines. Times, ports, and what follows from them are not compared.

use std::fmt::Write;
use std::fs;
use std::process::Command;

use crate::sandbox::Sandbox;
use nubrik_testing::{Need, skip};

/// Where the workspace of the handbook is, as far as readers see, and its home.
const SHOWN_FOLDER: &str = "/home/me/highwater";
const SHOWN_HOME: &str = "/home/me";

/// A service is stopped after so many seconds, as Ctrl-C stops it: on a busy machine it takes some to
/// begin.
const SERVING: &str = "10";

#[test]
fn what_the_handbook_shows_is_what_is_printed() {
    if Command::new("python3").arg("--version").output().is_err() {
        skip(Need::Python, "the handbook's server is one of python3");
        return;
    }
    let path = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/handbook.md");
    let page = fs::read_to_string(&path).unwrap();
    let reading = Reading {
        sandbox: Sandbox::new(&[]),
        now: String::new(),
        others: String::new(),
    };
    let (now, others) = reading.whole(&page);
    if std::env::var_os("NUBRIK_WRITE_HANDBOOK").is_some() {
        fs::write(&path, now).unwrap();
    } else {
        assert!(others.is_empty(), "{others}");
    }
}

struct Reading {
    sandbox: Sandbox,
    /// The page as it should be.
    now: String,
    /// What is printed otherwise than it is shown.
    others: String,
}

impl Reading {
    fn whole(mut self, page: &str) -> (String, String) {
        let mut lines = page.lines();
        let mut last = "";
        while let Some(line) = lines.next() {
            writeln!(self.now, "{line}").unwrap();
            if line == "<!-- hidden" {
                let script: Vec<&str> = lines.by_ref().take_while(|line| *line != "-->").collect();
                writeln!(self.now, "{}\n-->", script.join("\n")).unwrap();
                let said = self.shell(&script.join("\n"));
                assert_eq!(said, "", "{}", script.join("\n"));
            } else if line.starts_with("```") {
                let block: Vec<&str> = lines.by_ref().take_while(|line| *line != "```").collect();
                self.block(last, &block);
                writeln!(self.now, "```").unwrap();
            }
            if !line.is_empty() {
                last = line;
            }
        }
        (self.now, self.others)
    }

    /// A block below a line.
    fn block(&mut self, above: &str, block: &[&str]) {
        let text: String = block.iter().map(|line| format!("{line}\n")).collect();
        let Some(command) = block.first().and_then(|line| line.strip_prefix("$ ")) else {
            if let Some(path) = above
                .strip_prefix('`')
                .and_then(|path| path.strip_suffix('`'))
            {
                self.sandbox.write(path, &text);
            }
            self.now.push_str(&text);
            return;
        };
        let printed = self.shell(command);
        let shown: String = block[1..].iter().map(|line| format!("{line}\n")).collect();
        if above != "<!-- of one machine -->" && comparable(&printed) != comparable(&shown) {
            writeln!(
                self.others,
                "$ {command}\n--- shown\n{shown}--- printed\n{printed}"
            )
            .unwrap();
        }
        writeln!(self.now, "$ {command}\n{}", printed.trim_end()).unwrap();
    }

    /// What a command prints in the workspace, as readers see it.
    fn shell(&self, command: &str) -> String {
        let like = self.sandbox.command(&[]);
        let program = std::path::Path::new(like.get_program())
            .parent()
            .unwrap()
            .to_owned();
        let limit = if command.starts_with("nubrik run office") {
            SERVING
        } else {
            "120"
        };
        let home = self.sandbox.folder.parent().unwrap();
        let output = Command::new("timeout")
            .args([
                "--foreground",
                "-s",
                "INT",
                limit,
                "bash",
                "-c",
                &format!("exec 2>&1; {command}"),
            ])
            .current_dir(&self.sandbox.folder)
            .env_clear()
            .envs(
                like.get_envs()
                    .filter_map(|(name, value)| Some((name, value?))),
            )
            .env(
                "PATH",
                format!("{}:{}", program.display(), std::env::var("PATH").unwrap()),
            )
            .output()
            .unwrap();
        let printed = String::from_utf8(output.stdout).unwrap();
        let printed = printed.replace(self.sandbox.folder.to_str().unwrap(), SHOWN_FOLDER);
        let printed = printed.replace(home.join("cache").to_str().unwrap(), "/home/me/.cache");
        printed.replace(home.to_str().unwrap(), SHOWN_HOME)
    }
}

/// What is compared of a text: not how long anything took, in which order steps ended, or how many
/// processors there are.
fn comparable(text: &str) -> String {
    let mut lines: Vec<String> = Vec::new();
    for line in text.lines() {
        let line = line.split(", critical path ").next().unwrap();
        let depends = [
            "slowest ",
            "at most ",
            "critical path ",
            "server.py: ",
            "    server.py",
            "    usage",
        ];
        // A link of the critical path begins with its time; which links are shown depends on the
        // times.
        let is_link =
            line.starts_with("    ") && line.split_whitespace().next().is_some_and(is_time);
        if is_link || depends.iter().any(|start| line.starts_with(start)) {
            continue;
        }
        let words = line.split_whitespace().map(|word| {
            if is_time(word) || word.starts_with("127.") {
                "…"
            } else {
                word
            }
        });
        lines.push(
            words
                .filter(|word| *word != "…")
                .collect::<Vec<_>>()
                .join(" "),
        );
    }
    lines.sort();
    lines.join("\n")
}

/// Whether a word is a duration: `10ms`, `0.04s`.
fn is_time(word: &str) -> bool {
    let unit = word.trim_start_matches(|c: char| c.is_ascii_digit() || c == '.');
    unit.len() < word.len()
        && ["ms", "s", "min"].contains(&unit.trim_end_matches(['.', ',', ';', ':']))
}

/// Links of a chain are left out however their times are written; other times are not compared,
/// what is beside them is.
#[test]
fn times_are_not_compared() {
    assert_eq!(
        comparable("    10ms  codes/header, 1 step\n      0.13s  codes/show, 2 steps"),
        ""
    );
    assert_eq!(
        comparable("run  a  4ms  its text changed"),
        comparable("run  a  0.01s  its text changed")
    );
    assert_ne!(
        comparable("run  a  4ms  its text changed"),
        comparable("run  b  4ms  its text changed")
    );
}
