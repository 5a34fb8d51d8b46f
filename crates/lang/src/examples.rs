//! Examples in the documentation of kits: evaluated as a package's definitions, so that they cannot
//! grow old unnoticed.
//!
//! Nothing is run for them, and nothing of the machine decides: files that they name count as
//! there, tools and libraries as installed, in any version.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Arc, LazyLock};

use nubrik_diagnostic::{Diagnostic, Severity};
use nubrik_source::{Sources, WsPath};
use nubrik_syntax::{parse, views};
use regex::Regex;

use crate::address::AddressPattern;
use crate::world::*;
use crate::{Evaluator, TARGETS_FILE};

/// Folder below which examples are packages. Hidden ones are never listed.
const FOLDER: &str = ".examples";

/// Newer than any version that is asked for.
const ANY_VERSION: &str = "9999";

/// Begins examples that are not tried, since nothing is pinned for them.
const NEEDS_PIN: &str = "# needs `nubrik pins add";

/// What came of trying examples.
pub struct ExampleReport {
    /// How many there are.
    pub count: usize,
    /// What is wrong with them, sorted by place.
    pub errors: Vec<Diagnostic>,
    /// The texts that the errors point into.
    pub sources: Sources,
}

/// Tries the examples in the kits of a workspace that were read; options have their defaults.
pub fn try_examples(world: &dyn World, read: &[WsPath]) -> ExampleReport {
    let mut packages = BTreeMap::new();
    let kits = read.iter().filter(|path| path.name() != TARGETS_FILE);
    for path in kits.filter(|path| path.name().ends_with(".nub")) {
        if let Answer::Ready(DefinitionText::Text(text)) = world.definition(path) {
            packages.extend(examples_of(path, &text));
        }
    }
    let mut tried = ExampleReport {
        count: packages.len(),
        errors: Vec::new(),
        sources: Sources::default(),
    };
    if packages.is_empty() {
        return tried;
    }
    let patterns: Vec<AddressPattern> = packages.keys().map(AddressPattern::below).collect();
    let world = ExampleWorld { world, packages };
    let evaluation = Evaluator::new(&world).request(&patterns);
    let is_error = |found: &Diagnostic| found.severity == Severity::Error;
    tried.errors = evaluation
        .diagnostics
        .into_iter()
        .filter(is_error)
        .collect();
    tried.sources = evaluation.sources;
    for (folder, package) in &world.packages {
        if let Some(text) = tried.sources.named(folder.child(TARGETS_FILE).as_str()) {
            tried.sources.rename(text, &package.kit);
        }
    }
    tried
}

/// An example as a package.
struct ExamplePackage {
    /// The kit that it is in.
    kit: Arc<str>,
    /// Its definitions, each line where it is in the kit.
    text: Arc<str>,
    /// Folders and files that it names by patterns.
    listings: BTreeMap<WsPath, Listing>,
}

/// The examples of a kit, by the folders of their packages.
fn examples_of(path: &WsPath, text: &Arc<str>) -> Vec<(WsPath, ExamplePackage)> {
    let file = Sources::default().add(path.as_str(), text.clone());
    let tree = parse(file, text).tree;
    let mut examples = Vec::new();
    for node in tree
        .root()
        .children()
        .filter(|node| node.kind().is_declaration())
    {
        let (lines, name) = (views::example(node), views::declared_name(node));
        let (Some(last), Some(name)) = (lines.last(), name) else {
            continue;
        };
        if lines
            .first()
            .is_some_and(|first| node.token_text(*first).contains(NEEDS_PIN))
        {
            continue;
        }
        let mut blank: Vec<u8> = text
            .bytes()
            .map(|byte| if byte == b'\n' { b'\n' } else { b' ' })
            .collect();
        for line in &lines {
            let (start, end) = (line.start as usize, line.end as usize);
            blank[start..end].copy_from_slice(&text.as_bytes()[start..end]);
            blank[start..start + 2].fill(b' ');
        }
        // Only whole tokens were taken, and blanks put in place of the rest.
        let blank = String::from_utf8(blank).unwrap_or_default();
        // The kit is used in the line behind the example: no other line moves.
        let next = blank[last.end as usize..]
            .find('\n')
            .map_or(blank.len(), |at| last.end as usize + at + 1);
        let alias: String = path
            .name()
            .trim_end_matches(".nub")
            .replace(|c: char| !c.is_ascii_alphanumeric(), "_");
        // Kits of one name may be in several folders.
        let of_kit = path.as_str().replace('/', "+");
        let below = &blank[next..];
        let rest = below.find('\n').map_or("", |at| &below[at..]);
        let whole = format!("{}use \"/{path}\" as {alias}{rest}", &blank[..next]);
        let folder = WsPath::from_normal(&format!("{FOLDER}/{of_kit}/{}", node.token_text(name)));
        let listings = listings_of(&folder, &whole);
        examples.push((
            folder,
            ExamplePackage {
                kit: path.shared().clone(),
                text: whole.into(),
                listings,
            },
        ));
    }
    examples
}

/// Folders with a file for each pattern in the texts of an example.
fn listings_of(folder: &WsPath, text: &str) -> BTreeMap<WsPath, Listing> {
    static PATTERN: LazyLock<Option<Regex>> =
        LazyLock::new(|| Regex::new(r#""([^"{}\n/][^"{}\n]*)""#).ok());
    static CLASS: LazyLock<Option<Regex>> = LazyLock::new(|| Regex::new(r"\[.([^\]]*)\]").ok());
    let (Some(texts), Some(class)) = (&*PATTERN, &*CLASS) else {
        return BTreeMap::new();
    };
    let mut files: BTreeMap<WsPath, BTreeSet<Arc<str>>> = BTreeMap::new();
    let mut folders: BTreeMap<WsPath, BTreeSet<Arc<str>>> = BTreeMap::new();
    for found in texts
        .captures_iter(text)
        .filter(|found| crate::globs::is_pattern(&found[1]))
    {
        let name = class
            .replace_all(&found[1], "x")
            .replace("**/", "")
            .replace("**", "x");
        let Ok(path) = folder.resolve(&name.replace(['*', '?'], "x")) else {
            continue;
        };
        let mut at = path.clone();
        while let Some(above) = at.parent().filter(|above| above.is_in(folder)) {
            let to = if at == path { &mut files } else { &mut folders };
            to.entry(above.clone())
                .or_default()
                .insert(at.name().into());
            at = above;
        }
    }
    let all: BTreeSet<&WsPath> = files.keys().chain(folders.keys()).collect();
    let names = |of: &BTreeMap<WsPath, BTreeSet<Arc<str>>>, at: &WsPath| -> Vec<Arc<str>> {
        of.get(at).into_iter().flatten().cloned().collect()
    };
    let listing = |at: &WsPath| Listing {
        files: names(&files, at),
        folders: names(&folders, at),
        problem: None,
    };
    all.into_iter()
        .map(|at| (at.clone(), listing(at)))
        .collect()
}

/// The workspace with examples as packages of it.
struct ExampleWorld<'w> {
    world: &'w dyn World,
    packages: BTreeMap<WsPath, ExamplePackage>,
}

impl ExampleWorld<'_> {
    fn is_of_example(path: &WsPath) -> bool {
        path.as_str().starts_with(FOLDER)
    }

    /// The package that a path is in.
    fn package(&self, path: &WsPath) -> Option<(&WsPath, &ExamplePackage)> {
        let before = self.packages.range(..=path).next_back();
        before.filter(|(folder, _)| path == *folder || path.is_in(folder))
    }
}

impl World for ExampleWorld<'_> {
    fn roots(&self) -> &StepRoots {
        StepRoots::none()
    }

    fn test_patience(&self) -> u64 {
        self.world.test_patience()
    }

    fn definition(&self, path: &WsPath) -> Answer<DefinitionText> {
        if !Self::is_of_example(path) {
            return self.world.definition(path);
        }
        let package = self
            .package(path)
            .filter(|(folder, _)| folder.child(TARGETS_FILE) == *path);
        Answer::Ready(package.map_or(DefinitionText::Missing, |(_, package)| {
            DefinitionText::Text(package.text.clone())
        }))
    }

    fn shipped_kit(&self, name: &str) -> Option<&'static str> {
        self.world.shipped_kit(name)
    }

    fn shipped_kits(&self) -> Vec<&'static str> {
        self.world.shipped_kits()
    }

    fn kit_archive(&self, name: &str) -> KitPlace {
        self.world.kit_archive(name)
    }

    fn list(&self, folder: &WsPath) -> Answer<Arc<Listing>> {
        if !Self::is_of_example(folder) {
            return self.world.list(folder);
        }
        let mut listing = Listing::default();
        match self.package(folder) {
            Some((of, package)) => {
                listing = package.listings.get(folder).cloned().unwrap_or(listing);
                if of == folder {
                    listing.files.push(TARGETS_FILE.into());
                    listing.files.sort_unstable();
                } else if listing == Listing::default() {
                    // A folder that is named holds something.
                    listing.files.push("x".into());
                }
            }
            None => {
                let inside = self
                    .packages
                    .keys()
                    .filter_map(|of| of.below(folder)?.split('/').next());
                listing.folders = inside
                    .map(Arc::from)
                    .collect::<BTreeSet<_>>()
                    .into_iter()
                    .collect();
            }
        }
        Answer::Ready(Arc::new(listing))
    }

    fn kind(&self, path: &WsPath) -> Answer<Option<EntryKind>> {
        if !Self::is_of_example(path) {
            return self.world.kind(path);
        }
        if path.name() == crate::WORKSPACE_FILE {
            return Answer::Ready(None);
        }
        let Some((folder, package)) = self.package(path) else {
            return Answer::Ready(Some(EntryKind::Folder));
        };
        // What a name is, only the name can say: `src` and `src.c`, `LICENSE`.
        let name = path.name();
        let is_file = name.contains('.') || name.starts_with(|c: char| c.is_ascii_uppercase());
        let is_folder = path == folder || package.listings.contains_key(path) || !is_file;
        Answer::Ready(Some(if is_folder {
            EntryKind::Folder
        } else {
            EntryKind::File
        }))
    }

    fn env(&self, _: &str) -> Result<Option<String>, NotText> {
        Ok(Some(String::new()))
    }

    fn dangling(&self, _: &WsPath) -> Vec<String> {
        Vec::new()
    }

    fn tool_names(&self) -> Vec<String> {
        Vec::new()
    }

    fn tool(&self, request: &ToolRequest) -> Answer<ToolSearch> {
        let version = request.version.as_ref().map(|_| ANY_VERSION.into());
        let found = request.names.first().map(|name| ToolAnswer {
            name: name.clone(),
            path: format!("/usr/bin/{name}").into(),
            version,
        });
        Answer::Ready(ToolSearch {
            found: found.into_iter().collect(),
            ..ToolSearch::default()
        })
    }

    fn library(&self, request: &LibraryRequest) -> Answer<LibrarySearch> {
        let found = request.names.first().map(|name| LibraryAnswer {
            name: name.to_string(),
            version: ANY_VERSION.to_owned(),
            compile: Vec::new(),
            link: vec![format!("-l{name}")],
        });
        Answer::Ready(LibrarySearch {
            found: found.into_iter().collect(),
            ..LibrarySearch::default()
        })
    }

    fn sample(&self, _: &SampleRequest) -> Answer<Result<AnswerText, NoAnswer>> {
        Answer::Pending
    }

    fn probe(&self, _: &WsPath) -> Answer<AnswerText> {
        Answer::Pending
    }
}
