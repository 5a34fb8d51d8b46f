//! Random histories of edits and requests: packages, targets, single files and folders come and go,
//! and after each edit something is asked for. What comes of it is compared with a second model,
//! which knows the definitions and the files and nothing else: no seals, no snapshots, no trails,
//! no store.
//!
//! All steps are ones that the tool does itself, so that a history takes milliseconds.
//! `NUBRIK_TEST_CASES` sets how many are tried.

#![allow(clippy::unwrap_used)] // A test that panics has failed, which is right.

mod described;

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::os::unix::fs::{PermissionsExt, symlink};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::time::Duration;

use nubrik_confine::CancelSwitch;
use nubrik_diagnostic::Severity;
use nubrik_disk::Below;
use nubrik_engine::{
    Event, Listener, Options, PlannedStep, StepCounts, Summary, Supposed, Verdict,
};
use nubrik_graph::Graph;
use nubrik_lang::{AddressPattern, Wanted};
use nubrik_session::{Session, Standing};
use nubrik_source::WsPath;
use proptest::prelude::*;
use proptest::test_runner::TestRunner;

use described::described;

const PACKAGES: [&str; 4] = ["", "p", "p/q", "r"];
const TARGETS: [&str; 3] = ["a", "b", "c"];
const NAMES: [&str; 3] = ["one", "two", "three"];

const OPTIONS: Options = Options::plain();

struct Quiet;

impl Listener for Quiet {
    fn hear(&self, _: &Event) {}
}

/// What a target is. Each makes its files in a folder of its own below `out/default`.
#[derive(Clone, Debug, PartialEq)]
enum Kind {
    /// A text.
    Write(u8),
    /// A file or folder of the package, which must be there.
    One,
    /// An entry for each file of a glob.
    Each,
    /// An entry for each line of a file.
    Lines,
    /// All files of a glob in a folder.
    All,
    /// What the `w` of a package writes.
    Other(usize),
    /// A test, which makes nothing.
    Test,
    /// A step that is seen to read some of what it may.
    Observed,
    /// A step that is seen to list a folder.
    Listed,
}

#[derive(Clone, Debug)]
enum Edit {
    Target {
        package: usize,
        target: usize,
        kind: Option<Kind>,
    },
    Package {
        package: usize,
        is_there: bool,
    },
    Broken {
        package: usize,
    },
    File {
        package: usize,
        name: usize,
        text: u8,
    },
    Link {
        package: usize,
        name: usize,
        to: usize,
    },
    Folder {
        package: usize,
        name: usize,
    },
    Far {
        package: usize,
        name: usize,
    },
    FarText {
        package: usize,
        text: u8,
    },
    Gone {
        package: usize,
        name: usize,
    },
    Rename {
        package: usize,
        from: usize,
        to: usize,
    },
    Executable {
        package: usize,
        name: usize,
        is: bool,
    },
    MoveSources {
        package: usize,
    },
    Ignore {
        package: usize,
        name: Option<usize>,
    },
    Lines {
        package: usize,
        lines: Vec<u8>,
    },
    Own {
        package: usize,
        text: u8,
    },
    SpoilResult {
        nth: usize,
        delete: bool,
    },
    SpoilMade {
        nth: usize,
        delete: bool,
    },
    ForgetState,
    LoseStore,
    Nothing,
}

#[derive(Clone, Debug)]
enum Request {
    Everything,
    Package(usize),
    Target(usize, usize),
    /// A folder below a package.
    Sources(usize),
    /// Two at once.
    Both(usize, usize),
}

fn kind() -> impl Strategy<Value = Kind> {
    prop_oneof![
        3 => (0u8..3).prop_map(Kind::Write),
        1 => Just(Kind::One),
        3 => Just(Kind::Each),
        2 => Just(Kind::Lines),
        2 => Just(Kind::All),
        2 => (0..PACKAGES.len()).prop_map(Kind::Other),
        1 => Just(Kind::Test),
        3 => Just(Kind::Observed),
        2 => Just(Kind::Listed),
    ]
}

fn edit() -> impl Strategy<Value = Edit> {
    let package = || 0..PACKAGES.len();
    let name = || 0..NAMES.len();
    prop_oneof![
        4 => (package(), 0..TARGETS.len(), prop::option::weighted(0.7, kind()))
            .prop_map(|(package, target, kind)| Edit::Target { package, target, kind }),
        1 => (package(), any::<bool>()).prop_map(|(package, is_there)| Edit::Package { package, is_there }),
        1 => package().prop_map(|package| Edit::Broken { package }),
        5 => (package(), name(), 0u8..3).prop_map(|(package, name, text)| Edit::File { package, name, text }),
        2 => (package(), name(), name()).prop_map(|(package, name, to)| Edit::Link { package, name, to }),
        1 => (package(), name()).prop_map(|(package, name)| Edit::Folder { package, name }),
        1 => (package(), name()).prop_map(|(package, name)| Edit::Far { package, name }),
        1 => (package(), 0u8..3).prop_map(|(package, text)| Edit::FarText { package, text }),
        3 => (package(), name()).prop_map(|(package, name)| Edit::Gone { package, name }),
        1 => (package(), name(), name()).prop_map(|(package, from, to)| Edit::Rename { package, from, to }),
        1 => (package(), name(), any::<bool>())
            .prop_map(|(package, name, is)| Edit::Executable { package, name, is }),
        1 => package().prop_map(|package| Edit::MoveSources { package }),
        1 => (package(), prop::option::of(name())).prop_map(|(package, name)| Edit::Ignore { package, name }),
        2 => (package(), prop::collection::vec(0u8..4, 0..4))
            .prop_map(|(package, lines)| Edit::Lines { package, lines }),
        2 => (package(), 0u8..3).prop_map(|(package, text)| Edit::Own { package, text }),
        2 => (0usize..40, any::<bool>()).prop_map(|(nth, delete)| Edit::SpoilResult { nth, delete }),
        1 => (0usize..40, any::<bool>()).prop_map(|(nth, delete)| Edit::SpoilMade { nth, delete }),
        1 => Just(Edit::ForgetState),
        1 => Just(Edit::LoseStore),
        2 => Just(Edit::Nothing),
    ]
}

fn request() -> impl Strategy<Value = Request> {
    let package = || 0..PACKAGES.len();
    prop_oneof![
        3 => Just(Request::Everything),
        3 => package().prop_map(Request::Package),
        3 => (package(), 0..TARGETS.len()).prop_map(|(p, t)| Request::Target(p, t)),
        1 => package().prop_map(Request::Sources),
        1 => (package(), package()).prop_map(|(a, b)| Request::Both(a, b)),
    ]
}

/// What is at the place of a source.
#[derive(Clone, Debug, PartialEq)]
enum Source {
    File {
        text: u8,
        executable: bool,
    },
    Link(usize),
    Folder,
    /// A link to a file that no glob finds.
    Far,
}

#[derive(Clone, Debug, Default)]
struct Package {
    is_there: bool,
    is_broken: bool,
    targets: [Option<Kind>; TARGETS.len()],
    sources: BTreeMap<usize, Source>,
    /// Whether the sources were moved away, folder and all.
    is_moved: bool,
    ignored: Option<usize>,
    lines: Vec<u8>,
    /// What the file holds that links out of its sources lead to.
    far: u8,
    /// What its target `w` writes, which it always has.
    own: u8,
}

/// A file as people see it: its text, and whether it may be run.
type Seen = (String, bool);

/// The definitions and the files, and what they mean.
#[derive(Clone, Debug)]
struct Model {
    packages: Vec<Package>,
}

impl Package {
    fn file(&self, name: usize) -> Option<Seen> {
        match self.source(name)? {
            Source::File { text, executable } => Some((format!("text {text}"), *executable)),
            Source::Far => Some((format!("far {}", self.far), false)),
            Source::Link(_) | Source::Folder => None,
        }
    }

    /// What a name leads to, through links.
    fn source(&self, name: usize) -> Option<&Source> {
        if self.is_moved {
            return None;
        }
        let mut at = name;
        // A link that leads round leads nowhere.
        for _ in 0..=NAMES.len() {
            match self.sources.get(&at)? {
                Source::Link(to) => at = *to,
                source => return Some(source),
            }
        }
        None
    }

    fn globbed(&self) -> BTreeMap<usize, Seen> {
        let names = (0..NAMES.len()).filter(|name| self.ignored != Some(*name));
        names
            .filter_map(|name| Some((name, self.file(name)?)))
            .collect()
    }

    /// What a command sees that may read what the glob finds: that, and what links among it lead
    /// to, ignored or not. They would lead nowhere without it.
    fn shown(&self) -> BTreeMap<usize, Seen> {
        let mut shown = self.globbed();
        let mut open: Vec<usize> = shown.keys().copied().collect();
        while let Some(name) = open.pop() {
            if let Some(Source::Link(to)) = self.sources.get(&name)
                && let Some(seen) = self.file(*to)
                && shown.insert(*to, seen).is_none()
            {
                open.push(*to);
            }
        }
        shown
    }
}

fn address(package: usize, target: usize) -> String {
    format!("{}/{}", PACKAGES[package], TARGETS[target])
        .trim_start_matches('/')
        .to_owned()
}

/// The address of the target that each package has.
fn own(package: usize) -> String {
    format!("{}/w", PACKAGES[package])
        .trim_start_matches('/')
        .to_owned()
}

impl Model {
    fn new() -> Model {
        let start = |number: usize| Package {
            is_there: number != 3,
            targets: [Some(Kind::Write(0)), Some(Kind::Each), None],
            sources: BTreeMap::from([(
                0,
                Source::File {
                    text: 0,
                    executable: false,
                },
            )]),
            lines: vec![0, 1],
            ..Package::default()
        };
        Model {
            packages: (0..PACKAGES.len()).map(start).collect(),
        }
    }

    fn target(&self, package: usize, target: usize) -> Option<&Kind> {
        let package = &self.packages[package];
        package.targets[target]
            .as_ref()
            .filter(|_| package.is_there)
    }

    /// The files that a target makes, by their paths below the folder of results; `None` where its
    /// definition is wrong.
    fn made(&self, package: usize, target: usize) -> Option<BTreeMap<String, Seen>> {
        let here = &self.packages[package];
        if here.is_broken {
            return None;
        }
        let folder = address(package, target);
        let plain = |text: String| (text, false);
        Some(match self.target(package, target)? {
            Kind::Write(text) => {
                BTreeMap::from([(format!("{folder}/w.txt"), plain(format!("written {text}")))])
            }
            // A folder means the files in it.
            Kind::One if matches!(here.source(0), Some(Source::Folder)) => {
                BTreeMap::from([(format!("{folder}/x/inner"), plain("inner".to_owned()))])
            }
            Kind::One => BTreeMap::from([(format!("{folder}/x"), here.file(0)?)]),
            Kind::Each => {
                let all = here.globbed().into_iter();
                all.map(|(name, seen)| (format!("{folder}/{}/in", NAMES[name]), seen))
                    .collect()
            }
            Kind::Lines => {
                let lines = here.lines.iter();
                lines
                    .map(|l| (format!("{folder}/l{l}/t.txt"), plain(format!("line {l}"))))
                    .collect()
            }
            Kind::All => {
                let all = here.globbed().into_iter();
                all.map(|(name, seen)| (format!("{folder}/all/{}", NAMES[name]), seen))
                    .collect()
            }
            Kind::Other(other) => {
                let other = Some(&self.packages[*other])
                    .filter(|other| other.is_there && !other.is_broken)?;
                BTreeMap::from([(format!("{folder}/r"), plain(format!("own {}", other.own)))])
            }
            Kind::Test => BTreeMap::new(),
            Kind::Observed => {
                let all = here.shown();
                let first = all.values().next().map_or("none", |(text, _)| text);
                let last = if all.contains_key(&2) {
                    "there"
                } else {
                    "gone"
                };
                BTreeMap::from([(format!("{folder}/o.txt"), plain(format!("{first} {last}")))])
            }
            Kind::Listed => {
                let names: Vec<&str> = here.shown().into_keys().map(|name| NAMES[name]).collect();
                let mut names: Vec<&str> = names;
                names.sort_unstable();
                let text: String = names.iter().map(|name| format!("{name}\n")).collect();
                BTreeMap::from([(format!("{folder}/n.txt"), plain(text))])
            }
        })
    }

    fn define(&self, package: usize) -> String {
        let here = &self.packages[package];
        let mut text = String::new();
        for (target, kind) in here
            .targets
            .iter()
            .enumerate()
            .filter_map(|(t, kind)| Some((t, kind.as_ref()?)))
        {
            let glob = "glob(\"src/*\", or_none = true)";
            let body = match kind {
                Kind::Write(text) => format!("write {{ path = \"w.txt\", text = \"written {text}\" }}"),
                Kind::One => format!("stage {{ \"x\": \"src/{}\" }}", NAMES[0]),
                Kind::Each => format!("{{each f in {glob} give f.name: stage {{ \"in\": f }}}}"),
                Kind::Lines => "{each l in load_lines(\"lines\") give \"l{l}\": write { path = \"t.txt\", text = \"line {l}\" }}".to_owned(),
                Kind::All => format!("stage {{ \"all/\": {glob} }}"),
                Kind::Other(other) => format!("stage {{ \"r\": &{} }}", own(*other)),
                Kind::Test => "check { run = `true` }".to_owned(),
                // The first that is there, and whether the last one is.
                Kind::Observed => {
                    let at = |name: &str| format!("{}/src/{name}", PACKAGES[package]);
                    let [one, two, three] = NAMES.map(|name| at(name).trim_start_matches('/').to_owned());
                    format!(
                        "step {{ run = sh`{{{{ cat {one} 2> /dev/null || cat {two} 2> /dev/null || cat {three} 2> /dev/null || printf none; \
                         if [ -e {three} ]; then printf ' there'; else printf ' gone'; fi; }}}} > {{out \"o.txt\"}}`, \
                         reads = {glob}, observed = true }}"
                    )
                }
                Kind::Listed => {
                    let folder = format!("{}/src", PACKAGES[package]);
                    let folder = folder.trim_start_matches('/');
                    format!(
                        "step {{ run = sh`if [ -d {folder} ]; then ls {folder}; fi > {{out \"n.txt\"}}`, \
                         reads = {glob}, observed = true }}"
                    )
                }
            };
            let word = if *kind == Kind::Test {
                "test"
            } else {
                "target"
            };
            text.push_str(&format!("{word} {} = {body}\n", TARGETS[target]));
        }
        text.push_str(&format!(
            "target w = write {{ path = \"w.txt\", text = \"own {}\" }}\n",
            here.own
        ));
        if here.is_broken {
            text.push_str("target = oops\n");
        }
        text
    }

    /// The targets that a request means, each with whether it is asked for by itself; `None` where
    /// it means nothing.
    fn meant(&self, request: &Request) -> Option<Vec<(usize, usize)>> {
        let is_there = |p: &usize| self.packages[*p].is_there;
        let below = |folder: &str| {
            let lies = |p: usize, folder: &str| {
                folder.is_empty()
                    || PACKAGES[p] == folder
                    || PACKAGES[p].starts_with(&format!("{folder}/"))
            };
            let inside: Vec<usize> = (0..PACKAGES.len())
                .filter(|p| lies(*p, folder))
                .filter(is_there)
                .collect();
            if !inside.is_empty() {
                return inside;
            }
            // A folder without packages means the package around it.
            let mut above: Vec<usize> = (0..PACKAGES.len()).filter(is_there).collect();
            above.retain(|p| {
                PACKAGES[*p].is_empty()
                    || format!("{folder}/").starts_with(&format!("{}/", PACKAGES[*p]))
            });
            above
                .into_iter()
                .max_by_key(|p| PACKAGES[*p].len())
                .into_iter()
                .collect()
        };
        let all_of = |packages: Vec<usize>| {
            (!packages.is_empty()).then(|| {
                packages
                    .iter()
                    .flat_map(|p| (0..TARGETS.len()).map(|t| (*p, t)))
                    .collect::<Vec<_>>()
            })
        };
        match request {
            Request::Everything => all_of(below("")),
            Request::Package(p) => all_of(below(PACKAGES[*p])),
            Request::Target(p, t) => {
                let package = &self.packages[*p];
                let is_known =
                    package.is_there && (package.is_broken || package.targets[*t].is_some());
                is_known.then(|| vec![(*p, *t)])
            }
            Request::Sources(p) => all_of(below(
                format!("{}/src", PACKAGES[*p]).trim_start_matches('/'),
            )),
            Request::Both(a, b) => {
                let (a, b) = (all_of(below(PACKAGES[*a]))?, all_of(below(PACKAGES[*b]))?);
                Some(a.into_iter().chain(b).collect())
            }
        }
    }

    /// What a request results in: everything that its targets make; `None` where it is an error.
    fn expected(&self, request: &Request) -> Option<BTreeMap<String, Seen>> {
        let single = matches!(request, Request::Target(..));
        let mut all = BTreeMap::new();
        for (package, target) in self.meant(request)? {
            if self.packages[package].is_broken {
                return None;
            }
            if !single {
                let text = format!("own {}", self.packages[package].own);
                all.insert(format!("{}.txt", own(package)), (text, false));
            }
            match self.target(package, target) {
                None => {}
                Some(Kind::Test) if single => return None,
                Some(_) => all.extend(self.made(package, target)?),
            }
        }
        Some(all)
    }
}

/// A workspace on disk beside its model.
struct World {
    folder: tempfile::TempDir,
    model: Model,
}

impl World {
    fn new(model: Model) -> World {
        let world = World {
            folder: tempfile::tempdir().unwrap(),
            model,
        };
        fs::write(world.path("nubrik.toml"), "").unwrap();
        for package in 0..PACKAGES.len() {
            world.write_sources(package);
            world.write_definitions(package);
        }
        world
    }

    fn path(&self, path: &str) -> PathBuf {
        self.folder.path().join(path)
    }

    fn place(&self, package: usize, rest: &str) -> PathBuf {
        self.path(format!("{}/{rest}", PACKAGES[package]).trim_start_matches('/'))
    }

    fn source(&self, package: usize, name: usize) -> PathBuf {
        let folder = if self.model.packages[package].is_moved {
            "moved"
        } else {
            "src"
        };
        self.place(package, &format!("{folder}/{}", NAMES[name]))
    }

    fn write_definitions(&self, package: usize) {
        let path = self.place(package, "targets.nub");
        match self.model.packages[package].is_there {
            true => fs::write(path, self.model.define(package)).unwrap(),
            false => drop(fs::remove_file(path)),
        }
    }

    fn write_sources(&self, package: usize) {
        fs::create_dir_all(self.source(package, 0).parent().unwrap()).unwrap();
        for name in 0..NAMES.len() {
            self.write_source(package, name);
        }
        self.write_lines(package);
        self.write_far(package);
        self.write_ignored(package);
    }

    fn write_source(&self, package: usize, name: usize) {
        let path = self.source(package, name);
        remove(&path);
        match self.model.packages[package].sources.get(&name) {
            None => {}
            Some(Source::File { text, executable }) => {
                fs::write(&path, format!("text {text}")).unwrap();
                let mode = if *executable { 0o755 } else { 0o644 };
                fs::set_permissions(&path, fs::Permissions::from_mode(mode)).unwrap();
            }
            Some(Source::Link(to)) => symlink(NAMES[*to], &path).unwrap(),
            Some(Source::Far) => symlink("../far", &path).unwrap(),
            Some(Source::Folder) => {
                fs::create_dir(&path).unwrap();
                fs::write(path.join("inner"), "inner").unwrap();
            }
        }
    }

    fn write_lines(&self, package: usize) {
        let lines: String = self.model.packages[package]
            .lines
            .iter()
            .map(|l| format!("{l}\n"))
            .collect();
        fs::write(self.place(package, "lines"), lines).unwrap();
    }

    fn write_far(&self, package: usize) {
        fs::write(
            self.place(package, "far"),
            format!("far {}", self.model.packages[package].far),
        )
        .unwrap();
    }

    fn write_ignored(&self, package: usize) {
        let path = self.place(package, "src/.gitignore");
        let path = if self.model.packages[package].is_moved {
            self.place(package, "moved/.gitignore")
        } else {
            path
        };
        match self.model.packages[package].ignored {
            Some(name) => fs::write(path, format!("/{}\n", NAMES[name])).unwrap(),
            None => remove(&path),
        }
    }

    fn apply(&mut self, edit: &Edit) {
        match edit.clone() {
            Edit::Target {
                package,
                target,
                kind,
            } => {
                self.model.packages[package].targets[target] = kind;
                self.write_definitions(package);
            }
            Edit::Package { package, is_there } => {
                self.model.packages[package].is_there = is_there;
                self.write_definitions(package);
            }
            Edit::Broken { package } => {
                let broken = &mut self.model.packages[package].is_broken;
                *broken = !*broken;
                self.write_definitions(package);
            }
            Edit::File {
                package,
                name,
                text,
            } => {
                let sources = &mut self.model.packages[package].sources;
                match sources.get_mut(&name) {
                    // In place, as editors do that keep the mode.
                    Some(Source::File { text: known, .. }) => {
                        *known = text;
                        fs::write(self.source(package, name), format!("text {text}")).unwrap();
                    }
                    _ => {
                        sources.insert(
                            name,
                            Source::File {
                                text,
                                executable: false,
                            },
                        );
                        self.write_source(package, name);
                    }
                }
            }
            Edit::Link { package, name, to } => self.set(package, name, Source::Link(to)),
            Edit::Folder { package, name } => self.set(package, name, Source::Folder),
            Edit::Far { package, name } => self.set(package, name, Source::Far),
            Edit::FarText { package, text } => {
                self.model.packages[package].far = text;
                self.write_far(package);
            }
            Edit::Gone { package, name } => {
                self.model.packages[package].sources.remove(&name);
                self.write_source(package, name);
            }
            Edit::Rename { package, from, to } => {
                let sources = &mut self.model.packages[package].sources;
                if from != to
                    && let Some(source) = sources.remove(&from)
                {
                    sources.insert(to, source);
                    remove(&self.source(package, to));
                    fs::rename(self.source(package, from), self.source(package, to)).unwrap();
                }
            }
            Edit::Executable { package, name, is } => {
                if let Some(Source::File { executable, .. }) =
                    self.model.packages[package].sources.get_mut(&name)
                {
                    *executable = is;
                    let mode = if is { 0o755 } else { 0o644 };
                    fs::set_permissions(
                        self.source(package, name),
                        fs::Permissions::from_mode(mode),
                    )
                    .unwrap();
                }
            }
            Edit::MoveSources { package } => {
                let moved = &mut self.model.packages[package].is_moved;
                *moved = !*moved;
                let (from, to) = if *moved {
                    ("src", "moved")
                } else {
                    ("moved", "src")
                };
                fs::rename(self.place(package, from), self.place(package, to)).unwrap();
            }
            Edit::Ignore { package, name } => {
                self.model.packages[package].ignored = name;
                self.write_ignored(package);
            }
            Edit::Lines { package, mut lines } => {
                lines.sort_unstable();
                lines.dedup();
                self.model.packages[package].lines = lines;
                self.write_lines(package);
            }
            Edit::Own { package, text } => {
                self.model.packages[package].own = text;
                self.write_definitions(package);
            }
            Edit::SpoilResult { nth, delete } => self.spoil("out/default", nth, delete),
            Edit::SpoilMade { nth, delete } => self.spoil(".nubrik/made", nth, delete),
            Edit::ForgetState => drop(fs::remove_dir_all(self.path(".nubrik"))),
            Edit::LoseStore => drop(fs::remove_dir_all(self.path(".store"))),
            Edit::Nothing => {}
        }
    }

    fn set(&mut self, package: usize, name: usize, source: Source) {
        self.model.packages[package].sources.insert(name, source);
        self.write_source(package, name);
    }

    /// Deletes one of the files below a folder, or puts another one in its place.
    fn spoil(&self, folder: &str, nth: usize, delete: bool) {
        let files: Vec<String> = files_below(&self.path(folder)).into_keys().collect();
        if let Some(file) = files.get(nth % files.len().max(1)) {
            let path = self.path(folder).join(file);
            fs::remove_file(&path).unwrap();
            if !delete {
                fs::write(&path, "spoilt").unwrap();
            }
        }
    }

    fn patterns(&self, request: &Request) -> Vec<AddressPattern> {
        let new = |word: &str| AddressPattern::new(word, &WsPath::root()).unwrap();
        let folder = |folder: &str| AddressPattern::below(&WsPath::from_normal(folder));
        let patterns = match request {
            Request::Everything => vec![folder("")],
            Request::Package(p) => vec![folder(PACKAGES[*p])],
            Request::Target(p, t) => vec![new(&address(*p, *t))],
            Request::Sources(p) => {
                let moved = if self.model.packages[*p].is_moved {
                    "moved"
                } else {
                    "src"
                };
                vec![folder(
                    format!("{}/{moved}", PACKAGES[*p]).trim_start_matches('/'),
                )]
            }
            Request::Both(a, b) => vec![folder(PACKAGES[*a]), folder(PACKAGES[*b])],
        };
        patterns
            .into_iter()
            .map(|pattern| pattern.wanting(Wanted::Targets))
            .collect()
    }

    /// Builds a request in the way of the program: as little as can be. `None` where the
    /// definitions are wrong.
    fn build(&self, request: &Request) -> Option<Summary> {
        let asked = self.patterns(request);
        let mut session =
            Session::open(self.folder.path(), Arc::new(CancelSwitch::new().unwrap())).unwrap();
        session.keep_results_in(self.path(".store"));
        let mut session = session.lock(|| {}).unwrap().unwrap();
        if let Standing::Holds(sealed) = session.standing(&asked) {
            return Some(Summary {
                counts: StepCounts::all_current(sealed.steps),
                ..Summary::default()
            });
        }
        let report = match session.standing(&asked) {
            Standing::Reached(reached) if session.remembers(&reached) => session
                .build_reached(&asked, *reached, &Quiet, OPTIONS)
                .unwrap()
                .unwrap(),
            _ => {
                let evaluation = session.evaluate(&asked);
                if evaluation
                    .diagnostics
                    .iter()
                    .any(|d| d.severity == Severity::Error)
                {
                    return None;
                }
                session.build(&asked, &evaluation, &Quiet, OPTIONS).unwrap()
            }
        };
        Some(report.summary)
    }

    fn open(&self) -> Session {
        let mut session =
            Session::open(self.folder.path(), Arc::new(CancelSwitch::new().unwrap())).unwrap();
        session.keep_results_in(self.path(".store"));
        session.keep_evaluations_from(Duration::ZERO);
        session
    }

    /// What commands that only read answer is what they would answer if nothing had been kept, both
    /// times that they ask.
    fn check_reading(&self, request: &Request, after: &str) {
        let asked: Vec<AddressPattern> = self
            .patterns(request)
            .into_iter()
            .map(|pattern| pattern.wanting(Wanted::Everything))
            .collect();
        let evaluated = self.open().evaluate(&asked);
        for time in ["first", "second"] {
            let read = self.open().evaluate_to_read(&asked);
            assert_eq!(
                described(&read),
                described(&evaluated),
                "{after}: read the {time} time"
            );
        }
    }

    /// What a plan says by the last build is what it says when everything is looked at.
    fn check_plan(&self, request: &Request, after: &str) {
        let (asked, session) = (self.patterns(request), self.open());
        let steps_of = |graph: &Graph, planned: &[PlannedStep]| -> BTreeSet<(String, &str)> {
            let other = planned
                .iter()
                .filter(|step| step.verdict != Verdict::Current);
            other
                .map(|p| {
                    (
                        graph.step(p.step).folder.as_str().to_owned(),
                        p.verdict.word(),
                    )
                })
                .collect()
        };
        let by_last_build = match session.standing(&asked) {
            Standing::Holds(sealed) => (sealed.steps, BTreeSet::new()),
            Standing::Reached(reached) if session.remembers(&reached) => {
                let (steps, planned) = session.plan_reached(&reached, &Quiet);
                (steps, steps_of(reached.graph(), &planned))
            }
            Standing::Reached(_) | Standing::Unknown => return,
        };
        let evaluation = self.open().evaluate(&asked);
        let planned = session.plan(&evaluation, &Quiet, Supposed::default());
        assert_eq!(
            by_last_build,
            (planned.len(), steps_of(&evaluation.graph, &planned)),
            "{after}: the plan"
        );
    }

    fn check(&self, request: &Request, after: &str) {
        self.check_reading(request, after);
        self.check_plan(request, after);
        let expected = self.model.expected(request);
        let Some(summary) = self.build(request) else {
            // A test that is asked for by name is built; only that is another story.
            assert!(
                expected.is_none(),
                "{after}: an error, and {expected:?} expected"
            );
            return;
        };
        let test = matches!(request, Request::Target(p, t) if self.model.target(*p, *t) == Some(&Kind::Test));
        if test {
            return;
        }
        let expected = expected.unwrap_or_else(|| panic!("{after}: an error was expected"));
        assert_eq!(
            summary.counts.failed
                + summary.counts.blocked
                + summary.counts.unstarted
                + summary.unpublished,
            0,
            "{after}: {summary:?}"
        );
        let found = files_below(&self.path("out/default"));
        for (path, seen) in &expected {
            assert_eq!(found.get(path), Some(seen), "{after}: {path}");
        }
        // Nothing else lies where only this request's results belong.
        let homes: Vec<String> = match request {
            Request::Everything => vec![String::new()],
            Request::Package(p) => vec![PACKAGES[*p].to_owned()],
            Request::Both(a, b) => vec![PACKAGES[*a].to_owned(), PACKAGES[*b].to_owned()],
            Request::Target(p, t) => vec![address(*p, *t)],
            Request::Sources(_) => Vec::new(),
        };
        let is_at_home = |path: &&String| {
            homes
                .iter()
                .any(|h| h.is_empty() || path.starts_with(&format!("{h}/")))
        };
        for path in found.keys().filter(is_at_home) {
            assert!(
                expected.contains_key(path),
                "{after}: {path} should be gone"
            );
        }
        let again = self.build(request).unwrap();
        assert_eq!(
            (again.counts.ran, again.counts.reused),
            (0, 0),
            "{after}: once more"
        );
    }
}

fn remove(path: &Path) {
    let is_folder = path.symlink_metadata().is_ok_and(|found| found.is_dir());
    let _ = if is_folder {
        fs::remove_dir_all(path)
    } else {
        fs::remove_file(path)
    };
}

fn files_below(folder: &Path) -> BTreeMap<String, Seen> {
    fn collect(top: &Path, at: &Path, files: &mut BTreeMap<String, Seen>) {
        for entry in fs::read_dir(at).into_iter().flatten().flatten() {
            let path = entry.path();
            if path.is_dir() {
                collect(top, &path, files);
            } else {
                let mode = path
                    .metadata()
                    .map_or(0, |found| found.permissions().mode());
                let text = fs::read(&path).unwrap_or_default();
                let name = path.strip_prefix(top).unwrap().to_str().unwrap().to_owned();
                files.insert(
                    name,
                    (
                        String::from_utf8_lossy(&text).into_owned(),
                        mode & 0o100 != 0,
                    ),
                );
            }
        }
    }
    let mut files = BTreeMap::new();
    collect(folder, folder, &mut files);
    files
}

/// A watcher in a thread of its own, as one in a process would be.
struct WatcherThread {
    thread: std::thread::JoinHandle<()>,
}

impl WatcherThread {
    fn start(top: &Path) -> WatcherThread {
        let (root, own) = (
            Below::new(top).unwrap(),
            Below::new(&top.join(".nubrik")).unwrap(),
        );
        let life = nubrik_session::WatcherLife::Unasked(Duration::from_secs(60));
        let program = nubrik_session::this_program();
        let thread = std::thread::spawn(move || {
            nubrik_session::serve_watcher(root, own, program, None, life).unwrap();
        });
        WatcherThread { thread }
    }

    fn end(self, top: &Path) {
        let root = Below::new(top).unwrap();
        if let Ok(own) = Below::new(&top.join(".nubrik")) {
            let place =
                nubrik_watcher::WatcherPlace::new(&root, &own, nubrik_session::this_program());
            let until = std::time::Instant::now() + Duration::from_secs(30);
            while !self.thread.is_finished() {
                assert!(
                    std::time::Instant::now() < until,
                    "the watcher does not end"
                );
                place.end();
                std::thread::sleep(Duration::from_millis(2));
            }
        }
        self.thread.join().unwrap();
    }
}

/// One edit, one request, whether time goes by in between, and what becomes of a watcher before.
type Turn = (Edit, Request, bool, u8);

fn turns() -> impl Strategy<Value = Vec<Turn>> {
    prop::collection::vec((edit(), request(), any::<bool>(), any::<u8>()), 2..12)
}

/// Whether everything comes to what the model says in each turn, and at the end to the same as from
/// nothing.
fn history(turns: &[Turn], is_watched: bool) {
    let mut world = World::new(Model::new());
    world.check(&Request::Everything, "first");
    let mut watcher = None;
    for (number, (edit, request, settles, fate)) in turns.iter().enumerate() {
        watcher = match watcher {
            _ if !is_watched => None,
            None => Some(WatcherThread::start(world.folder.path())),
            // It ends in the middle, and another one begins.
            Some(watcher) if fate % 8 == 0 => {
                WatcherThread::end(watcher, world.folder.path());
                Some(WatcherThread::start(world.folder.path()))
            }
            Some(watcher) if fate % 8 == 1 => {
                WatcherThread::end(watcher, world.folder.path());
                None
            }
            goes_on => goes_on,
        };
        world.apply(edit);
        if *settles {
            // What is older than this is sealed, and learnt.
            std::thread::sleep(Duration::from_millis(25));
        }
        world.check(request, &format!("turn {number}: {edit:?}, {request:?}"));
    }
    if world.build(&Request::Everything).is_some() {
        let other = World::new(world.model.clone());
        assert!(other.build(&Request::Everything).is_some());
        assert_eq!(
            files_below(&world.path("out")),
            files_below(&other.path("out"))
        );
    }
    if let Some(watcher) = watcher {
        watcher.end(world.folder.path());
    }
}

/// So many processes share the histories of a test. A build ends all that its steps left behind in
/// its process: of two in one process each would end the other's steps.
const PROCESSES: u32 = 3;

/// The variable by which a process knows that it has a share of a test.
const SHARE: &str = "NUBRIK_TEST_SHARE";

/// Tries histories, in processes that run just the named test of this program.
fn in_processes(test: &str, is_watched: bool) {
    if std::env::var_os(SHARE).is_some() {
        let cases = nubrik_testing::cases(60).div_ceil(PROCESSES);
        let mut runner = TestRunner::new(ProptestConfig {
            cases,
            failure_persistence: None,
            max_shrink_iters: 400,
            ..ProptestConfig::default()
        });
        let tried = runner.run(&turns(), |turns| {
            history(&turns, is_watched);
            Ok(())
        });
        return tried.unwrap_or_else(|failure| panic!("{failure}"));
    }
    let own = std::env::current_exe().unwrap();
    let start = |_| {
        let mut command = Command::new(&own);
        command
            .args(["--exact", test, "--nocapture"])
            .env(SHARE, "1");
        command
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap()
    };
    let shares: Vec<Child> = (0..PROCESSES).map(start).collect();
    for share in shares {
        let end = share.wait_with_output().unwrap();
        let said = String::from_utf8_lossy(&end.stdout);
        // A name that no test has would be well, too.
        assert!(
            end.status.success() && said.contains("1 passed"),
            "{said}{}",
            String::from_utf8_lossy(&end.stderr)
        );
    }
}

#[test]
fn whatever_was_asked_for_before_is_as_it_is_from_nothing() {
    in_processes(
        "whatever_was_asked_for_before_is_as_it_is_from_nothing",
        false,
    );
}

#[test]
fn so_it_is_while_a_watcher_says_what_is_to_be_looked_at() {
    in_processes(
        "so_it_is_while_a_watcher_says_what_is_to_be_looked_at",
        true,
    );
}
