//! Random workspaces of several packages and random edits of their definitions, data and folders:
//! after each edit a build, which evaluates only what the edit reaches, results in what one results
//! in that evaluates everything.

use std::collections::BTreeMap;
use std::fs;

use crate::sandbox::Sandbox;
use proptest::prelude::*;

const PACKAGES: usize = 3;

/// A package, from which its definitions follow.
#[derive(Clone, Debug, Default)]
struct Package {
    /// Sources that a glob finds, with their texts.
    sources: BTreeMap<u8, String>,
    /// Lines of a data file: each makes a target's entry.
    lines: Vec<u8>,
    /// A package before this one whose sum this one takes.
    needs: Option<usize>,
    /// Which names its targets have.
    name: u8,
    /// Whether there is a comment more.
    comment: bool,
}

#[derive(Clone, Debug)]
struct Model {
    /// What the kit writes.
    mark: u8,
    /// The default of the kit's option.
    mode: bool,
    packages: Vec<Package>,
    /// A package whose definitions are broken.
    broken: Option<usize>,
}

#[derive(Clone, Debug)]
enum Edit {
    Mark(u8),
    Mode(bool),
    Source(usize, u8, Option<String>),
    Lines(usize, Vec<u8>),
    Needs(usize, Option<usize>),
    Name(usize, u8),
    Comment(usize, bool),
    Break(usize),
    /// Replaces a source as editors do: a new file takes its name.
    Replace(usize, u8, String),
    Stray(usize),
    ForgetState,
}

fn edit() -> impl Strategy<Value = Edit> {
    let package = 0..PACKAGES;
    prop_oneof![
        1 => (0u8..3).prop_map(Edit::Mark),
        1 => any::<bool>().prop_map(Edit::Mode),
        3 => (package.clone(), 0u8..4, prop::option::of("[a-c]{1,4}")).prop_map(|(p, s, t)| Edit::Source(p, s, t)),
        2 => (package.clone(), prop::collection::vec(0u8..5, 0..4)).prop_map(|(p, l)| Edit::Lines(p, l)),
        2 => (package.clone(), prop::option::of(package.clone())).prop_map(|(p, n)| Edit::Needs(p, n)),
        2 => (package.clone(), 0u8..3).prop_map(|(p, n)| Edit::Name(p, n)),
        1 => (package.clone(), any::<bool>()).prop_map(|(p, c)| Edit::Comment(p, c)),
        1 => package.clone().prop_map(Edit::Break),
        2 => (package.clone(), 0u8..4, "[a-c]{1,4}").prop_map(|(p, s, t)| Edit::Replace(p, s, t)),
        1 => package.prop_map(Edit::Stray),
        1 => Just(Edit::ForgetState),
    ]
}

fn package() -> impl Strategy<Value = Package> {
    (
        prop::collection::btree_map(0u8..4, "[a-c]{1,4}", 1..4),
        prop::collection::vec(0u8..5, 0..4),
        prop::option::of(0..PACKAGES),
        0u8..3,
    )
        .prop_map(|(sources, lines, needs, name)| Package {
            sources,
            lines,
            needs,
            name,
            comment: false,
        })
}

impl Model {
    fn edit(&mut self, edit: &Edit, sandbox: &Sandbox) {
        self.broken = None;
        match edit {
            Edit::Mark(mark) => self.mark = *mark,
            Edit::Mode(mode) => self.mode = *mode,
            Edit::Source(p, s, Some(text)) => {
                drop(self.packages[*p].sources.insert(*s, text.clone()))
            }
            Edit::Source(p, s, None) => drop(self.packages[*p].sources.remove(s)),
            Edit::Lines(p, lines) => self.packages[*p].lines.clone_from(lines),
            Edit::Needs(p, needs) => self.packages[*p].needs = *needs,
            Edit::Name(p, name) => self.packages[*p].name = *name,
            Edit::Comment(p, comment) => self.packages[*p].comment = *comment,
            Edit::Break(p) => self.broken = Some(*p),
            Edit::Replace(p, s, text) => {
                self.packages[*p].sources.insert(*s, text.clone());
                let path = sandbox.folder.join(format!("p{p}/src/.new"));
                fs::create_dir_all(path.parent().unwrap()).unwrap();
                fs::write(&path, text).unwrap();
                fs::rename(&path, sandbox.folder.join(format!("p{p}/src/s{s}.txt"))).unwrap();
            }
            Edit::Stray(p) => sandbox.write(&format!("p{p}/src/stray.bak"), "not matched"),
            Edit::ForgetState => drop(fs::remove_file(sandbox.folder.join(".nubrik/state"))),
        }
    }

    /// Every file of the workspace with its text.
    fn files(&self) -> BTreeMap<String, String> {
        let mut files = BTreeMap::new();
        files.insert(
            "kit/marks.nub".to_owned(),
            format!(
                "option loud: bool = {}\n\
                 let mark = if loud then \"MARK{1}\" else \"mark{1}\"\n\
                 kind marked(from: files): {{ files: files }} {{\n\
                     give {{ files = step {{ run = `sh -c 'echo {{mark}}; cat \"$@\"' sh {{from}} > {{out \"{{self.name}}.txt\"}}` }} }}\n\
                 }}\n",
                self.mode, self.mark
            ),
        );
        for (p, package) in self.packages.iter().enumerate() {
            for (s, text) in &package.sources {
                files.insert(format!("p{p}/src/s{s}.txt"), text.clone());
            }
            let mut lines: Vec<u8> = package.lines.clone();
            lines.sort_unstable();
            lines.dedup();
            files.insert(
                format!("p{p}/lines"),
                lines.iter().map(|l| format!("line{l}\n")).collect(),
            );
            let name = package.name;
            let need = package.needs.filter(|n| *n < p);
            let need = need.map_or("\"none\"".to_owned(), |n| {
                format!("&p{n}/sum{}", self.packages[n].name)
            });
            let comment = if package.comment {
                "# More to say.\n"
            } else {
                ""
            };
            let broken = if self.broken == Some(p) {
                "target oops = nowhere\n"
            } else {
                ""
            };
            files.insert(
                format!("p{p}/targets.nub"),
                format!(
                    "use {{ marked }} from \"/kit/marks.nub\"\n{comment}{broken}\
                     let texts = glob(\"src/*.txt\", or_none = true)\n\
                     target each_text = {{each text in texts give text.stem: step {{ run = `rev {{text}} > {{out \"r\"}}` }}}}\n\
                     target each_line = {{each line in load_lines(\"lines\") give line: write {{ path = \"l\", text = line }}}}\n\
                     target sum{name} = step {{ run = `sh -c 'cat /dev/null \"$@\"' sh {{each_text.values}} {{each_line.values}} {{in {need}}} > {{out \"sum\"}}` }}\n\
                     target whole = marked {{ from = [sum{name}] }}\n\
                     target told = write {{ path = \"told\", text = commands_of(whole).join(\"\\n\") }}\n"
                ),
            );
            files.insert(format!("p{p}/none"), String::new());
        }
        files
    }

    /// Brings the workspace into line; what is the same is not touched.
    fn write(&self, sandbox: &Sandbox) {
        let files = self.files();
        for (path, text) in &files {
            if fs::read_to_string(sandbox.folder.join(path)).ok().as_ref() != Some(text) {
                sandbox.write(path, text);
            }
        }
        for p in 0..PACKAGES {
            for s in 0..4 {
                let path = format!("p{p}/src/s{s}.txt");
                if !files.contains_key(&path) {
                    let _ = fs::remove_file(sandbox.folder.join(path));
                }
            }
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig {
        cases: nubrik_testing::cases(10),
        failure_persistence: None,
        ..Default::default()
    })]

    #[test]
    fn a_part_evaluated_again_is_the_same_as_the_whole(
        packages in prop::collection::vec(package(), PACKAGES),
        edits in prop::collection::vec(edit(), 1..8),
        settled in any::<bool>(),
    ) {
        let sandbox = Sandbox::new(&[]);
        let mut model = Model { mark: 0, mode: false, packages, broken: None };
        model.write(&sandbox);
        sandbox.build();
        for edit in &edits {
            if settled && model.broken.is_none() {
                // A second build seals the first one's work, so that the edit meets a seal.
                std::thread::sleep(std::time::Duration::from_millis(25));
                sandbox.build();
            }
            model.edit(edit, &sandbox);
            model.write(&sandbox);
            let built = sandbox.run(&["build", "--json"]);
            if model.broken.is_some() {
                prop_assert_eq!(built.code, 3, "{}", built.stdout);
                continue;
            }
            prop_assert_eq!(built.code, 0, "after {:?}: {}{}", edit, built.stdout, built.stderr);
            let results = sandbox.files_below("out/default");
            let again = sandbox.build();
            prop_assert_eq!(again.summary()["current"].clone(), again.summary()["steps"].clone());
            // Without seals everything is evaluated: to the same steps, all of them in place.
            let _ = fs::remove_dir_all(sandbox.folder.join(".nubrik/seals"));
            let whole = sandbox.run(&["build", "--json"]);
            prop_assert_eq!(&whole.summary()["steps"], &built.summary()["steps"], "after {:?}", edit);
            prop_assert_eq!(&whole.summary()["ran"], 0, "after {:?}: {}", edit, whole.stdout);
            prop_assert_eq!(sandbox.files_below("out/default"), results.clone());
            let fresh = sandbox.copy_from_nothing();
            fresh.build();
            prop_assert_eq!(fresh.files_below("out/default"), results, "after {:?}", edit);
        }
    }
}
