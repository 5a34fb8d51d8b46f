//! Random histories of two machines that share a store: kept folders, programs that stay, observed
//! steps, edits that keep a file's size and time, builds at once, and builds that are killed at any
//! moment. After each event a build of the machine gives the bytes that a simple model gives, and a
//! second one runs nothing.
//!
//! `NUBRIK_TEST_CASES` sets how many histories are tried.

use std::collections::BTreeSet;
use std::fs;
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use crate::sandbox::{Sandbox, finish};
use proptest::prelude::*;
use rustix::process::{Pid, Signal};

const SOURCES: usize = 4;
const STEPS: usize = 5;

/// Puts the sources that a request names into its last word, in capitals; it counts its requests,
/// as it must.
const SERVER: &str = r#"
number=-1
while IFS= read -r line; do
    number=$((number + 1))
    set -- $(printf %s "$line" | tr -d '[]"' | tr , ' ')
    if [ $# -gt 1 ]; then
        shift
        for to; do :; done
        : > "$to"
        while [ $# -gt 1 ]; do tr a-z A-Z < "$1" >> "$to"; shift; done
    fi
    echo "{\"request\": $number}"
done
"#;

#[derive(Clone, Copy, PartialEq, Eq, Debug)]
enum Kind {
    /// All that it reads, one after the other.
    Joined,
    /// The same by way of a folder that is kept, in which it writes bit by bit.
    Kept,
    /// The same in capitals, by a program that stays.
    Answered,
    /// Of all sources the one that is named by its first one, which only observing it finds out.
    Observed,
    /// A folder with a file for each thing that it reads.
    Folder,
}

/// A step: its kind, and the sources and earlier steps that it reads.
#[derive(Clone, Debug)]
struct Shape {
    kind: Kind,
    sources: BTreeSet<usize>,
    steps: BTreeSet<usize>,
}

#[derive(Clone, Debug)]
enum Event {
    Write {
        text: String,
        source: usize,
    },
    /// Another text of the same size, with the time of the one before.
    WriteUnnoticed {
        letter: char,
        source: usize,
    },
    Reshape {
        step: usize,
        shape: Shape,
    },
    /// The machine gets all sources and definitions of the other one.
    Pull,
    ForgetState,
    LoseStore,
    /// Something of the shared store is gone.
    LoseShared {
        which: usize,
    },
    /// What a step made is another thing now.
    SpoilMade {
        step: usize,
    },
    /// Both machines build at once.
    BothBuild,
    Kill {
        after: u64,
        signal: Signal,
    },
    /// Two builds of one workspace at once, of which one is killed.
    KillOneOfTwo {
        after: u64,
    },
    /// A source is edited while a build runs.
    WriteMeanwhile {
        text: String,
        source: usize,
        after: u64,
    },
}

fn shape() -> impl Strategy<Value = Shape> {
    let kind = prop_oneof![
        Just(Kind::Joined),
        Just(Kind::Kept),
        Just(Kind::Kept),
        Just(Kind::Answered),
        Just(Kind::Observed),
        Just(Kind::Folder),
    ];
    let sources = prop::collection::btree_set(0..SOURCES, 1..3);
    let steps = prop::collection::btree_set(0..STEPS, 0..3);
    (kind, sources, steps).prop_map(|(kind, sources, steps)| Shape {
        kind,
        sources,
        steps,
    })
}

fn event() -> impl Strategy<Value = Event> {
    let after = || 0u64..120;
    let text = || "[a-d]{1,6}";
    let signal = prop_oneof![
        Just(Signal::KILL),
        Just(Signal::KILL),
        Just(Signal::INT),
        Just(Signal::TERM)
    ];
    prop_oneof![
        4 => (text(), 0..SOURCES).prop_map(|(text, source)| Event::Write { text, source }),
        1 => (prop::char::range('a', 'd'), 0..SOURCES)
            .prop_map(|(letter, source)| Event::WriteUnnoticed { letter, source }),
        2 => (0..STEPS, shape()).prop_map(|(step, shape)| Event::Reshape { step, shape }),
        3 => Just(Event::Pull),
        1 => Just(Event::ForgetState),
        2 => Just(Event::LoseStore),
        1 => any::<usize>().prop_map(|which| Event::LoseShared { which }),
        1 => (0..STEPS).prop_map(|step| Event::SpoilMade { step }),
        2 => Just(Event::BothBuild),
        4 => (after(), signal).prop_map(|(after, signal)| Event::Kill { after, signal }),
        2 => after().prop_map(|after| Event::KillOneOfTwo { after }),
        2 => (text(), 0..SOURCES, after())
            .prop_map(|(text, source, after)| Event::WriteMeanwhile { text, source, after }),
    ]
}

/// A machine: its workspace, and what it ought to hold.
struct Machine {
    sandbox: Sandbox,
    sources: Vec<String>,
    shapes: Vec<Shape>,
}

/// Two machines and what they share.
struct Team {
    shared: tempfile::TempDir,
    root: String,
    machines: [Machine; 2],
}

impl Team {
    fn new(shapes: &[Shape]) -> Team {
        let shared = tempfile::tempdir().unwrap();
        let path = |name: &str| shared.path().join(name).display().to_string();
        let machines = [(); 2].map(|()| Machine::new(shapes));
        let one = &machines[0].sandbox;
        let key_in = |text: &str| {
            let start = text.find("ed25519:").unwrap();
            text[start..]
                .split(|c: char| c.is_whitespace() || c == '"')
                .next()
                .unwrap()
                .to_owned()
        };
        let made = one
            .run(&[
                "shared",
                "create",
                &path("store"),
                "--root-key",
                &path("root"),
            ])
            .expect(0);
        let root = key_in(&made.stdout);
        for (name, machine) in ["0", "1"].iter().zip(&machines) {
            let settings = format!(
                "[shared]\nat = \"{}\"\nroot_key = \"{root}\"\n",
                path("store")
            );
            machine.sandbox.write("nubrik.toml", &settings);
            let key = key_in(
                &machine
                    .sandbox
                    .run(&["shared", "new-key", &path(name)])
                    .expect(0)
                    .stdout,
            );
            let agreed = [("NUBRIK_SHARED_ROOT_KEY", root.as_str())];
            machine
                .sandbox
                .run_with(
                    &["shared", "add", name, &key, "--root-key", &path("root")],
                    &agreed,
                )
                .expect(0);
        }
        Team {
            shared,
            root,
            machines,
        }
    }

    fn command(&self, machine: usize, args: &[&str]) -> Command {
        let mut command = self.machines[machine].sandbox.command(args);
        let key = self.shared.path().join(machine.to_string());
        command
            .env("NUBRIK_SHARED_ROOT_KEY", &self.root)
            .env("NUBRIK_SHARED_KEY", key);
        command
    }

    fn start(&self, machine: usize) -> Child {
        let mut command = self.command(machine, &["build", "--keep-going"]);
        command
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap()
    }

    fn apply(&mut self, at: usize, event: &Event) {
        let wait = |after: u64| std::thread::sleep(Duration::from_millis(after));
        let end = |child: &Child, signal| {
            // One that has ended already needs none.
            let _ = rustix::process::kill_process(Pid::from_child(child), signal);
        };
        match event {
            Event::Write { text, source } => self.machines[at].write(*source, text),
            Event::WriteUnnoticed { letter, source } => {
                let machine = &mut self.machines[at];
                let path = machine.sandbox.folder.join(format!("s{source}"));
                let before = fs::metadata(&path).unwrap();
                let text: String = machine.sources[*source].chars().map(|_| *letter).collect();
                machine.write(*source, &text);
                let file = fs::File::options().write(true).open(&path).unwrap();
                file.set_modified(before.modified().unwrap()).unwrap();
            }
            Event::Reshape { step, shape } => {
                self.machines[at].shapes[*step] = shape.clone();
                self.machines[at].define();
            }
            Event::Pull => {
                let other = &self.machines[1 - at];
                let (sources, shapes) = (other.sources.clone(), other.shapes.clone());
                let machine = &mut self.machines[at];
                for (source, text) in sources.iter().enumerate() {
                    machine.write(source, text);
                }
                machine.shapes = shapes;
                machine.define();
            }
            Event::ForgetState => drop(fs::remove_dir_all(
                self.machines[at].sandbox.folder.join(".nubrik"),
            )),
            Event::LoseStore => drop(fs::remove_dir_all(
                self.machines[at].sandbox.folder.join("../cache"),
            )),
            Event::LoseShared { which } => {
                let mut files = Vec::new();
                for kind in ["packs", "contents", "segments", "manifests"] {
                    files_in(
                        &self.shared.path().join("store/nubrik1").join(kind),
                        &mut files,
                    );
                }
                files.sort();
                if !files.is_empty() {
                    fs::remove_file(&files[which % files.len()]).unwrap();
                }
            }
            Event::SpoilMade { step } => {
                let path = format!(".nubrik/made/t{step}");
                let sandbox = &self.machines[at].sandbox;
                for file in sandbox.files_below(&path).into_keys() {
                    // Not in place: outputs may share their bytes with the store, which nobody may
                    // write to.
                    let file = sandbox.folder.join(file);
                    fs::remove_file(&file).unwrap();
                    fs::write(&file, "spoilt").unwrap();
                }
            }
            Event::BothBuild => {
                let mut both = [self.start(0), self.start(1)];
                for child in &mut both {
                    child.wait().unwrap();
                }
            }
            Event::Kill { after, signal } => {
                let mut child = self.start(at);
                wait(*after);
                end(&child, *signal);
                child.wait().unwrap();
            }
            Event::KillOneOfTwo { after } => {
                let (mut one, mut two) = (self.start(at), self.start(at));
                wait(*after);
                end(&one, Signal::KILL);
                one.wait().unwrap();
                two.wait().unwrap();
            }
            Event::WriteMeanwhile {
                text,
                source,
                after,
            } => {
                let mut child = self.start(at);
                wait(*after);
                self.machines[at].write(*source, text);
                child.wait().unwrap();
            }
        }
    }

    /// Builds on a machine, and compares with the model.
    fn check(&self, at: usize, after: &str) {
        let machine = &self.machines[at];
        let run = finish(self.command(at, &["build", "--keep-going", "--json"]));
        assert_eq!(run.code, 0, "{after}\n{}{}", run.stdout, run.stderr);
        for (i, expected) in machine.expected().iter().enumerate() {
            let path = if machine.shapes[i].kind == Kind::Folder {
                format!("r{i}/all")
            } else {
                format!("r{i}")
            };
            let found = machine.sandbox.read(&format!("out/default/t{i}/{path}"));
            assert_eq!(
                &found, expected,
                "{after}: t{i} of machine {at}\n{}",
                run.stdout
            );
        }
        let again = finish(self.command(at, &["build", "--keep-going", "--json"]));
        let summary = again.summary();
        let counts = (&summary["ran"], &summary["reused"]);
        assert_eq!(counts, (&0.into(), &0.into()), "{after}\n{}", again.stdout);
    }
}

impl Machine {
    fn new(shapes: &[Shape]) -> Machine {
        let sandbox = Sandbox::new(&[("serve.sh", SERVER)]);
        let mut machine = Machine {
            sandbox,
            sources: vec![String::new(); SOURCES],
            shapes: shapes.to_vec(),
        };
        for source in 0..SOURCES {
            machine.write(source, ["ab", "cb", "bb", "ad"][source]);
        }
        machine.define();
        machine
    }

    fn write(&mut self, source: usize, text: &str) {
        self.sources[source] = text.to_owned();
        self.sandbox.write(&format!("s{source}"), text);
    }

    /// The earlier steps that a step reads.
    fn before(&self, i: usize) -> impl Iterator<Item = usize> {
        self.shapes[i].steps.iter().copied().filter(move |s| *s < i)
    }

    /// Writes the definitions down.
    fn define(&self) {
        let mut text = String::new();
        for (i, shape) in self.shapes.iter().enumerate() {
            let of_folder = |s: usize| {
                if self.shapes[s].kind == Kind::Folder {
                    "/all"
                } else {
                    ""
                }
            };
            let sources = shape.sources.iter().map(|s| format!("{{in \"s{s}\"}}"));
            let needs = self.before(i).map(|s| format!("{{t{s}}}{}", of_folder(s)));
            let files = sources.chain(needs).collect::<Vec<String>>().join(" ");
            let out = format!("{{out \"r{i}\"}}");
            let rest = match shape.kind {
                Kind::Joined => format!("sh`cat {files} > {out}`"),
                Kind::Kept => format!(
                    "sh`k={{keptfolder \"k{i}\"}}/$(cat {files} | cksum | tr ' ' _); [ -e $k ] || \
                     for f in {files}; do cat $f >> $k; sleep 0.01; done; cat $k > {out}`"
                ),
                Kind::Answered => {
                    format!("`upper {files} {out}`, answered_by = `sh {{in \"serve.sh\"}}`")
                }
                Kind::Observed => {
                    let first = shape.sources.first().unwrap();
                    format!(
                        "sh`case $(cat s{first}) in a*) n=s0;; b*) n=s1;; c*) n=s2;; *) n=s3;; esac; cat s{first} $n > {out}`, \
                         reads = glob(\"s*\"), observed = true"
                    )
                }
                Kind::Folder => format!(
                    "sh`n=0; for f in {files}; do n=$((n + 1)); cp $f {{outfolder \"r{i}\"}}/$n; done; cat {files} > {{outfolder \"r{i}\"}}/all`"
                ),
            };
            text.push_str(&format!("target t{i} = step {{ run = {rest} }}\n"));
        }
        self.sandbox.write("targets.nub", &text);
    }

    /// What each step makes, by a simple model of them.
    fn expected(&self) -> Vec<String> {
        let mut all: Vec<String> = Vec::new();
        for (i, shape) in self.shapes.iter().enumerate() {
            let sources = shape.sources.iter().map(|s| self.sources[*s].as_str());
            let joined: String = sources
                .chain(self.before(i).map(|s| all[s].as_str()))
                .collect();
            all.push(match shape.kind {
                Kind::Joined | Kind::Kept | Kind::Folder => joined,
                Kind::Answered => joined.to_uppercase(),
                Kind::Observed => {
                    let first = &self.sources[*shape.sources.first().unwrap()];
                    let named = "abc".find(&first[..1]).unwrap_or(3);
                    format!("{first}{}", self.sources[named])
                }
            });
        }
        all
    }
}

fn files_in(folder: &std::path::Path, found: &mut Vec<std::path::PathBuf>) {
    for entry in fs::read_dir(folder).into_iter().flatten().flatten() {
        match entry.file_type().unwrap().is_dir() {
            true => files_in(&entry.path(), found),
            false => found.push(entry.path()),
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: nubrik_testing::cases(6), failure_persistence: None, max_shrink_iters: 40, ..Default::default() })]

    #[test]
    fn what_two_machines_share_gives_what_a_build_from_nothing_gives(
        shapes in prop::collection::vec(shape(), STEPS),
        events in prop::collection::vec((0..2usize, event()), 4..10),
    ) {
        let mut team = Team::new(&shapes);
        team.check(0, "first");
        for (at, event) in &events {
            team.apply(*at, event);
            team.check(*at, &format!("{event:?}"));
        }
        team.check(0, "last");
        team.check(1, "last");
    }
}
