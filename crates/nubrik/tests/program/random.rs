//! Random small workspaces and random histories of edits, through the whole program: after each
//! edit a build gives the bytes that a simple model of the steps gives, runs nothing that was made
//! before, and a second one runs nothing; at the end all is as it is from nothing, in another
//! place, with another store.
//!
//! `NUBRIK_TEST_CASES` sets how many histories are tried.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::process::Stdio;
use std::time::Duration;

use crate::sandbox::{Run, Sandbox};
use proptest::prelude::*;

const SOURCES: usize = 4;
const STEPS: usize = 6;

/// What kind of step it is, with what tells it from others of its kind.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
enum Kind {
    /// Keeps the first letters of all that it reads.
    First(usize),
    /// Reads one source and the one that this names, and lists what it read.
    Listing(usize),
    /// Two outputs: the first letters, and the rest.
    Halves(usize),
    /// A folder with a file for each file of a glob.
    Folder,
    /// Puts the value of an option in front.
    Option,
    /// Puts what a tool says in front.
    Tool,
    /// Fails where what it reads begins with a `c`.
    Picky,
}

/// A step: its kind, and the sources and earlier steps that it reads.
#[derive(Clone, Debug)]
struct Shape {
    kind: Kind,
    sources: BTreeSet<usize>,
    steps: BTreeSet<usize>,
}

#[derive(Clone, Debug)]
enum Edit {
    Write {
        source: usize,
        text: String,
    },
    Touch {
        source: usize,
    },
    Globbed {
        name: char,
        text: String,
    },
    Unglobbed {
        name: char,
    },
    Rename {
        from: char,
        to: char,
    },
    Reshape {
        step: usize,
        shape: Shape,
    },
    SetOption {
        high: bool,
    },
    ChangeTool {
        letter: char,
    },
    DeleteResult {
        step: usize,
    },
    SpoilResult {
        step: usize,
    },
    DeleteMade {
        step: usize,
    },
    SpoilMade {
        step: usize,
    },
    StrayFile {
        step: usize,
    },
    ForgetState,
    LoseStore,
    Interrupt {
        after: u64,
    },
    /// A source is edited while a build runs.
    WriteMeanwhile {
        source: usize,
        text: String,
        after: u64,
    },
}

fn shape() -> impl Strategy<Value = Shape> {
    let kind = prop_oneof![
        3 => (1usize..12).prop_map(Kind::First),
        2 => (0..SOURCES).prop_map(Kind::Listing),
        1 => (1usize..4).prop_map(Kind::Halves),
        1 => Just(Kind::Folder),
        1 => Just(Kind::Option),
        1 => Just(Kind::Tool),
        1 => Just(Kind::Picky),
    ];
    let sources = prop::collection::btree_set(0..SOURCES, 1..3);
    let steps = prop::collection::btree_set(0..STEPS, 0..3);
    (kind, sources, steps).prop_map(|(kind, sources, steps)| Shape {
        kind,
        sources,
        steps,
    })
}

fn edit() -> impl Strategy<Value = Edit> {
    let name = || prop::char::range('w', 'z');
    prop_oneof![
        6 => (0..SOURCES, "[a-c]{1,6}").prop_map(|(source, text)| Edit::Write { source, text }),
        1 => (0..SOURCES).prop_map(|source| Edit::Touch { source }),
        2 => (name(), "[a-c]{1,3}").prop_map(|(name, text)| Edit::Globbed { name, text }),
        1 => name().prop_map(|name| Edit::Unglobbed { name }),
        1 => (name(), name()).prop_map(|(from, to)| Edit::Rename { from, to }),
        3 => (0..STEPS, shape()).prop_map(|(step, shape)| Edit::Reshape { step, shape }),
        2 => any::<bool>().prop_map(|high| Edit::SetOption { high }),
        1 => prop::char::range('p', 'r').prop_map(|letter| Edit::ChangeTool { letter }),
        1 => (0..STEPS).prop_map(|step| Edit::DeleteResult { step }),
        1 => (0..STEPS).prop_map(|step| Edit::SpoilResult { step }),
        1 => (0..STEPS).prop_map(|step| Edit::DeleteMade { step }),
        1 => (0..STEPS).prop_map(|step| Edit::SpoilMade { step }),
        1 => (0..STEPS).prop_map(|step| Edit::StrayFile { step }),
        1 => Just(Edit::ForgetState),
        1 => Just(Edit::LoseStore),
        2 => (0u64..60).prop_map(|after| Edit::Interrupt { after }),
        2 => (0..SOURCES, "[a-c]{1,6}", 0u64..60)
            .prop_map(|(source, text, after)| Edit::WriteMeanwhile { source, text, after }),
    ]
}

/// What an edit history has resulted in.
struct World {
    sandbox: Sandbox,
    shapes: Vec<Shape>,
    sources: Vec<String>,
    globbed: BTreeMap<char, String>,
    high: bool,
    letter: char,
    /// What steps were made from and finished with, as long as that is kept.
    made: BTreeSet<String>,
}

/// What a step makes: its files, or that it fails, or that something it needs does.
#[derive(Clone, PartialEq, Eq, Debug)]
enum Made {
    Files(BTreeMap<String, String>),
    Fails,
    Blocked,
}

impl World {
    fn new(shapes: Vec<Shape>) -> World {
        let world = World {
            sandbox: Sandbox::new(&[]),
            shapes,
            sources: (0..SOURCES)
                .map(|s| format!("{}b", ["a", "c", "b", "a"][s]))
                .collect(),
            globbed: BTreeMap::from([('w', "abc".to_owned())]),
            high: false,
            letter: 'p',
            made: BTreeSet::new(),
        };
        for (s, text) in world.sources.iter().enumerate() {
            world.sandbox.write(&format!("s{s}"), text);
        }
        world.sandbox.write("g/w", "abc");
        world.write_tool();
        world.define();
        world
    }

    fn write_tool(&self) {
        // Outside of the workspace, as tools are.
        let path = self.sandbox.folder.join("../tools/saying");
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(&path, format!("#!/bin/sh\nprintf {}\n", self.letter)).unwrap();
        fs::set_permissions(&path, fs::Permissions::from_mode(0o755)).unwrap();
    }

    /// Writes the definitions down.
    fn define(&self) {
        let mut text = "option high: bool = false\n".to_owned();
        for (i, shape) in self.shapes.iter().enumerate() {
            let inputs: Vec<String> = shape.sources.iter().map(|s| format!("\"s{s}\"")).collect();
            let of_folder = |s: usize| {
                if self.shapes[s].kind == Kind::Folder {
                    "/all"
                } else {
                    ""
                }
            };
            let needs = shape.steps.iter().filter(|s| **s < i);
            let needs: String = needs
                .map(|s| format!(" {{t{s}}}{}", of_folder(*s)))
                .collect();
            let files = format!("{{in [{}]}}{needs}", inputs.join(", "));
            let out = format!("{{out \"r{i}\"}}");
            let run = match shape.kind {
                Kind::First(n) => format!("sh`cat {files} | head -c {n} > {out}`"),
                Kind::Option => {
                    format!(
                        "sh`echo {{if high then \"high\" else \"low\"}} | cat - {files} > {out}`"
                    )
                }
                Kind::Tool => format!("sh`{{saying}} | cat - {files} > {out}`"),
                Kind::Halves(n) => format!(
                    "sh`cat {files} | head -c {n} > {{out first \"r{i}\"}}; cat {files} | tail -c +{} > {{out rest \"rest{i}\"}}`",
                    n + 1
                ),
                Kind::Picky => {
                    format!("sh`case $(cat {files}) in c*) exit 1;; esac; cat {files} > {out}`")
                }
                Kind::Folder => format!(
                    "sh`for f in {{glob(\"g/*\", or_none = true)}}; do cp \"$f\" {{outfolder \"r{i}\"}}; done; cat {files} > {{outfolder \"r{i}\"}}/all`"
                ),
                // A source that begins with an `a` leads to the next source, others to the last.
                Kind::Listing(s) => format!(
                    "sh`case $(cat s{s}) in a*) n=s{next};; *) n=s{last};; esac; cat s{s} $n > {out}; echo {out}: s{s} $n > {{depfile \"d{i}\"}}`, reads = glob(\"s*\")",
                    next = (s + 1) % SOURCES,
                    last = SOURCES - 1,
                ),
            };
            text.push_str(&format!("target t{i} = step {{ run = {run} }}\n"));
        }
        text.push_str("let saying = tool { names = \"saying\" }\n");
        self.sandbox.write("targets.nub", &text);
    }

    /// What each step makes, by a simple model of them, and what it certainly makes it from.
    fn expected(&self) -> Vec<(Made, Option<String>)> {
        let mut all: Vec<(Made, Option<String>)> = Vec::new();
        for (i, shape) in self.shapes.iter().enumerate() {
            let made = self.made_by(i, shape, &all);
            // What decides for a listing step is a longer story than this model tells.
            let from = match shape.kind {
                Kind::Listing(_) => None,
                kind => {
                    // Each choice of an option that it reaches is a step of its own, with its own
                    // place.
                    let variant = self.reaches_option(i).then_some(self.high);
                    let read = self.read_by(i, shape, kind, &all);
                    Some(format!("{i} {kind:?} {shape:?} {variant:?} {read:?}"))
                }
            };
            all.push((made, from));
        }
        all
    }

    fn reaches_option(&self, i: usize) -> bool {
        let shape = &self.shapes[i];
        let reads = |kind| matches!(kind, Kind::Listing(_));
        // A listing step names no other step in its command.
        shape.kind == Kind::Option
            || !reads(shape.kind)
                && shape
                    .steps
                    .iter()
                    .any(|s| *s < i && self.reaches_option(*s))
    }

    /// Everything that a step reads, apart.
    fn read_by(
        &self,
        i: usize,
        shape: &Shape,
        kind: Kind,
        before: &[(Made, Option<String>)],
    ) -> Vec<String> {
        let mut parts: Vec<String> = shape
            .sources
            .iter()
            .map(|s| self.sources[*s].clone())
            .collect();
        for step in shape.steps.iter().filter(|s| **s < i) {
            parts.push(format!("{:?}", before[*step].0));
        }
        match kind {
            Kind::Option => parts.push(self.high.to_string()),
            Kind::Tool => parts.push(self.letter.to_string()),
            Kind::Folder => parts.push(format!("{:?}", self.globbed)),
            _ => {}
        }
        parts
    }

    fn made_by(&self, i: usize, shape: &Shape, before: &[(Made, Option<String>)]) -> Made {
        let name = format!("r{i}");
        let one = |text: String| Made::Files(BTreeMap::from([(name.clone(), text)]));
        if let Kind::Listing(s) = shape.kind {
            let next = if self.sources[s].starts_with('a') {
                (s + 1) % SOURCES
            } else {
                SOURCES - 1
            };
            return one(format!("{}{}", self.sources[s], self.sources[next]));
        }
        let mut text: String = shape
            .sources
            .iter()
            .map(|s| self.sources[*s].as_str())
            .collect();
        for step in shape.steps.iter().filter(|s| **s < i) {
            match &before[*step].0 {
                Made::Files(files) if self.shapes[*step].kind == Kind::Folder => {
                    text.push_str(&files[&format!("r{step}/all")]);
                }
                Made::Files(files) => text.extend(files.values().map(String::as_str)),
                _ => return Made::Blocked,
            }
        }
        match shape.kind {
            Kind::First(n) => one(text.chars().take(n).collect()),
            Kind::Option => one(format!(
                "{}\n{text}",
                if self.high { "high" } else { "low" }
            )),
            Kind::Tool => one(format!("{}{text}", self.letter)),
            Kind::Picky if text.starts_with('c') => Made::Fails,
            Kind::Picky => one(text),
            Kind::Halves(n) => Made::Files(BTreeMap::from([
                (name, text.chars().take(n).collect()),
                (format!("rest{i}"), text.chars().skip(n).collect()),
            ])),
            Kind::Folder => {
                let files = self
                    .globbed
                    .iter()
                    .map(|(n, text)| (format!("{name}/{n}"), text.clone()));
                Made::Files(files.chain([(format!("{name}/all"), text)]).collect())
            }
            Kind::Listing(_) => Made::Blocked,
        }
    }

    fn apply(&mut self, edit: &Edit) {
        let results = |step: usize| format!("out/default/t{step}");
        let made = |step: usize| format!(".nubrik/made/t{step}/@r{step}/r{step}");
        match edit {
            Edit::Write { source, text } => {
                self.sources[*source] = text.clone();
                self.sandbox.write(&format!("s{source}"), text);
            }
            Edit::Touch { source } => self
                .sandbox
                .write(&format!("s{source}"), &self.sources[*source]),
            Edit::Globbed { name, text } => {
                self.globbed.insert(*name, text.clone());
                self.sandbox.write(&format!("g/{name}"), text);
            }
            Edit::Unglobbed { name } => {
                self.globbed.remove(name);
                let _ = fs::remove_file(self.sandbox.folder.join(format!("g/{name}")));
            }
            Edit::Rename { from, to } => {
                if let Some(text) = self.globbed.remove(from) {
                    self.globbed.insert(*to, text);
                    let path = |name| self.sandbox.folder.join(format!("g/{name}"));
                    fs::rename(path(from), path(to)).unwrap();
                }
            }
            Edit::Reshape { step, shape } => {
                self.shapes[*step] = shape.clone();
                self.define();
            }
            Edit::SetOption { high } => self.high = *high,
            Edit::ChangeTool { letter } => {
                self.letter = *letter;
                self.write_tool();
            }
            Edit::DeleteResult { step } => self.discard(&results(*step)),
            Edit::SpoilResult { step } => self.spoil(&results(*step)),
            Edit::DeleteMade { step } => self.discard(&made(*step)),
            Edit::SpoilMade { step } => self.spoil(&made(*step)),
            Edit::StrayFile { step } => {
                let folder = self.sandbox.folder.join(made(*step));
                if folder.is_dir() {
                    fs::write(folder.join("stray"), "stray").unwrap();
                }
            }
            Edit::ForgetState => self.discard(".nubrik"),
            Edit::LoseStore => {
                let _ = fs::remove_dir_all(self.sandbox.folder.join("../cache"));
                self.made.clear();
            }
            Edit::WriteMeanwhile {
                source,
                text,
                after,
            } => {
                let mut command = self.command(&["build", "--keep-going"]);
                let mut child = command
                    .stdout(Stdio::null())
                    .stderr(Stdio::null())
                    .spawn()
                    .unwrap();
                std::thread::sleep(Duration::from_millis(*after));
                self.sources[*source] = text.clone();
                self.sandbox.write(&format!("s{source}"), text);
                child.wait().unwrap();
            }
            Edit::Interrupt { after } => {
                let mut command = self.command(&["build", "--keep-going"]);
                let mut child = command
                    .stdout(Stdio::null())
                    .stderr(Stdio::null())
                    .spawn()
                    .unwrap();
                std::thread::sleep(Duration::from_millis(*after));
                let id = rustix::process::Pid::from_child(&child);
                let _ = rustix::process::kill_process(id, rustix::process::Signal::INT);
                child.wait().unwrap();
            }
        }
    }

    fn discard(&self, path: &str) {
        let path = self.sandbox.folder.join(path);
        let _ = if path.is_dir() {
            fs::remove_dir_all(&path)
        } else {
            fs::remove_file(&path)
        };
    }

    /// Writes other bytes into each file at or below a path, as its owner may.
    fn spoil(&self, path: &str) {
        let files = self.sandbox.files_below(path);
        let single = self.sandbox.folder.join(path);
        let paths = files
            .keys()
            .map(|f| self.sandbox.folder.join(f))
            .chain(single.is_file().then_some(single));
        for path in paths {
            // Not in place: outputs share their bytes with the store, which nobody may write to.
            fs::remove_file(&path).unwrap();
            fs::write(&path, "spoilt").unwrap();
        }
    }

    fn command(&self, args: &[&str]) -> std::process::Command {
        let option = format!("high={}", self.high);
        let args = [args, &["--set", &option]].concat();
        let mut command = self.sandbox.command(&args);
        let tools = self.sandbox.folder.join("../tools").canonicalize().unwrap();
        let path = std::env::var("PATH").unwrap();
        command.env("PATH", format!("{}:{path}", tools.display()));
        command
    }

    fn build(&self) -> Run {
        crate::sandbox::finish(self.command(&["build", "--keep-going", "--json"]))
    }

    /// Builds, and compares with the model.
    fn check(&mut self, after: &str) {
        let expected = self.expected();
        let run = self.build();
        let is_fine = expected
            .iter()
            .all(|(made, _)| matches!(made, Made::Files(_)));
        assert_eq!(
            run.code,
            i32::from(!is_fine),
            "{after}\n{}{}",
            run.stdout,
            run.stderr
        );
        let ran: BTreeSet<String> = run
            .events()
            .iter()
            .filter(|e| e["event"] == "step" && e["state"] == "ran")
            .map(|e| e["target"].as_str().unwrap().to_owned())
            .collect();
        for (i, (made, from)) in expected.iter().enumerate() {
            let Made::Files(files) = made else { continue };
            let name = format!("t{i}");
            for (path, text) in files {
                let found = self.sandbox.read(&format!("out/default/t{i}/{path}"));
                assert_eq!(&found, text, "{after}: {path} of t{i}\n{}", run.stdout);
            }
            // What is in place is not in the store for that: the store may have been lost.
            let of_target = |t: &String| t.split(' ').next() == Some(&name);
            if let Some(from) = from.as_ref().filter(|_| ran.iter().any(of_target)) {
                assert!(
                    self.made.insert(from.clone()),
                    "{after}: {name} ran needlessly\n{}",
                    run.stdout
                );
            }
        }
        let again = self.build();
        let summary = again.summary();
        assert_eq!(
            (&summary["ran"], &summary["reused"]),
            (&0.into(), &0.into()),
            "{after}\n{}",
            again.stdout
        );
    }

    /// Compares all results with those of a build from nothing somewhere else.
    fn compare_with_nothing(&self) {
        let expected = self.expected();
        if !expected
            .iter()
            .all(|(made, _)| matches!(made, Made::Files(_)))
        {
            return;
        }
        let World {
            shapes,
            sources,
            globbed,
            high,
            letter,
            ..
        } = self;
        let other = World {
            sandbox: self.sandbox.copy_from_nothing(),
            shapes: shapes.clone(),
            sources: sources.clone(),
            globbed: globbed.clone(),
            high: *high,
            letter: *letter,
            made: BTreeSet::new(),
        };
        other.write_tool();
        assert_eq!(other.build().code, 0);
        assert_eq!(
            self.sandbox.files_below("out"),
            other.sandbox.files_below("out")
        );
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: nubrik_testing::cases(12), failure_persistence: None, max_shrink_iters: 60, ..Default::default() })]

    #[test]
    fn every_edit_gives_what_a_build_from_nothing_gives(
        shapes in prop::collection::vec(shape(), STEPS),
        edits in prop::collection::vec(edit(), 3..9),
    ) {
        let mut world = World::new(shapes);
        world.check("first");
        for edit in &edits {
            world.apply(edit);
            world.check(&format!("{edit:?}"));
        }
        world.compare_with_nothing();
    }
}
