//! A JSON compilation database: a list of how each source is compiled, as several tools write it.
//! Its form is described by <https://clang.llvm.org/docs/JSONCompilationDatabase.html>.

use std::collections::{BTreeMap, BTreeSet};

use serde_json::Value;

use super::compilers::{CompilerCall, about_places, compiler_call, without_root};
use crate::names::NameGiver;
use crate::proposal::{
    Body, Definition, DefinitionAddress, FieldValue, Keyword, KindCall, Kit, Omission, Proposal,
};
use crate::tree::{SourceTree, is_below, joined, stem_of};

/// How sources are compiled, by a list that another tool wrote.
#[derive(Clone, Debug)]
pub struct CompilationDatabase {
    entries: Vec<CompilationEntry>,
}

#[derive(Clone, Debug)]
struct CompilationEntry {
    /// Where the compiler runs: an absolute path, of whatever machine.
    folder: String,
    /// The source, as it is written.
    file: String,
    words: Vec<String>,
}

/// How a source of the tree is compiled.
struct CompiledSource {
    flags: Vec<String>,
    /// Folders of the tree that are searched, in order.
    include: Vec<String>,
}

impl CompilationDatabase {
    /// Reads a text.
    ///
    /// # Errors
    /// What is wrong with it, for people.
    pub fn read(text: &str) -> Result<CompilationDatabase, String> {
        let value: Value = serde_json::from_str(text).map_err(|error| error.to_string())?;
        let rows = value.as_array().ok_or("it is no list")?;
        let read = |(number, row): (usize, &Value)| {
            let wrong = |what: &str| format!("entry {} {what}", number + 1);
            let text = |field: &str| row.get(field).and_then(Value::as_str).map(str::to_owned);
            let folder = text("directory").ok_or_else(|| wrong("has no `directory`"))?;
            let file = text("file").ok_or_else(|| wrong("has no `file`"))?;
            let words = match (
                row.get("arguments").and_then(Value::as_array),
                text("command"),
            ) {
                (Some(words), _) => words
                    .iter()
                    .map(|word| word.as_str().map(str::to_owned))
                    .collect(),
                (None, Some(command)) => shlex::split(&command),
                (None, None) => return Err(wrong("has neither `arguments` nor `command`")),
            };
            let words = words.ok_or_else(|| wrong("has a command that cannot be taken apart"))?;
            Ok(CompilationEntry {
                folder,
                file,
                words,
            })
        };
        let entries: Result<Vec<_>, String> = rows.iter().enumerate().map(read).collect();
        Ok(CompilationDatabase { entries: entries? })
    }

    /// How the sources of a tree are compiled. The tree may have been somewhere else when the list
    /// was written.
    fn sources(&self, tree: &SourceTree) -> BTreeMap<String, CompiledSource> {
        let Some(root) = self.root(tree) else {
            return BTreeMap::new();
        };
        let mut sources = BTreeMap::new();
        for entry in &self.entries {
            let Some(call) = compiler_call(&entry.words) else {
                continue;
            };
            let Some(path) = below_root(&root, &entry.folder, &entry.file) else {
                continue;
            };
            if tree.has(&path) {
                // Of a source that is compiled twice, the first way counts.
                sources
                    .entry(path)
                    .or_insert_with(|| compiled(tree, &root, &entry.folder, &call));
            }
        }
        sources
    }

    /// Where the tree was: the path that most sources have before the one from the tree's top.
    fn root(&self, tree: &SourceTree) -> Option<String> {
        let mut found: BTreeMap<String, usize> = BTreeMap::new();
        for entry in &self.entries {
            let Some(absolute) = absolute(&entry.folder, &entry.file) else {
                continue;
            };
            // The longest path that is one of the tree.
            let starts = absolute.match_indices('/').map(|(at, _)| at);
            if let Some(at) = starts.into_iter().find(|at| tree.has(&absolute[at + 1..])) {
                *found.entry(absolute[..at].to_owned()).or_default() += 1;
            }
        }
        found
            .into_iter()
            .max_by_key(|(_, count)| *count)
            .map(|(root, _)| root)
    }

    /// Whether it says how any source of a tree is compiled.
    pub fn is_about(&self, tree: &SourceTree) -> bool {
        !self.sources(tree).is_empty()
    }

    /// A survey's proposal with the flags and folders that this says, and without sources that it
    /// does not name.
    pub fn applied(&self, tree: &SourceTree, mut proposal: Proposal) -> Proposal {
        let compiled = self.sources(tree);
        let mut names = NameGiver::default();
        for one in &proposal.definitions {
            names.take(&one.address.package, &one.address.name);
        }
        let mut parts = Vec::new();
        for definition in &mut proposal.definitions {
            let (address, keyword) = (definition.address.clone(), definition.keyword);
            match &mut definition.body {
                Body::Kind(call) if is_compiled(call) => {
                    let unnamed = take_out_unnamed(call, &compiled);
                    proposal
                        .left_out
                        .extend(unnamed.into_iter().map(|source| Omission {
                            what: source.clone(),
                            why: "the compilation database does not name it".to_owned(),
                            files: BTreeSet::from([source]),
                        }));
                    let own = with_flags(call, &compiled, &address, &mut names);
                    definition.reasons.extend(places_in(call));
                    parts.extend(own);
                }
                Body::Each(files, _, call) if is_compiled(call) && keyword == Keyword::Test => {
                    let known = files.iter().filter_map(|file| compiled.get(file));
                    let flags: BTreeSet<&Vec<String>> = known.map(|source| &source.flags).collect();
                    if let (Some(flags), 1) = (flags.first(), flags.len()) {
                        call.set("flags", FieldValue::texts(*flags));
                    }
                }
                _ => {}
            }
        }
        proposal.definitions.extend(parts);
        proposal
    }
}

fn places_in(call: &KindCall) -> Vec<String> {
    let Some(FieldValue::List(flags)) = call.field("flags") else {
        return Vec::new();
    };
    let texts = flags.iter().filter_map(|flag| match flag {
        FieldValue::Text(text) => Some(text.clone()),
        _ => None,
    });
    about_places(&texts.collect::<Vec<_>>(), "the compilation database")
}

fn is_compiled(call: &KindCall) -> bool {
    let is_kind = ["library", "shared_library", "program", "test_program"].contains(&call.kind);
    is_kind && matches!(call.kit, Kit::C | Kit::Fortran)
}

/// Takes the sources out of a call that are not compiled, where most of them are.
fn take_out_unnamed(
    call: &mut KindCall,
    compiled: &BTreeMap<String, CompiledSource>,
) -> BTreeSet<String> {
    let sources = call.files("sources");
    let (named, unnamed): (BTreeSet<String>, BTreeSet<String>) = sources
        .into_iter()
        .partition(|source| compiled.contains_key(source));
    if named.len() < unnamed.len() || named.is_empty() || unnamed.is_empty() {
        return BTreeSet::new();
    }
    call.set_files("sources", named);
    unnamed
}

/// Gives a call the flags of its sources. Those with other flags than most become libraries of
/// their own that are linked whole.
fn with_flags(
    call: &mut KindCall,
    compiled: &BTreeMap<String, CompiledSource>,
    address: &DefinitionAddress,
    names: &mut NameGiver,
) -> Vec<Definition> {
    let mut groups: BTreeMap<&Vec<String>, BTreeSet<String>> = BTreeMap::new();
    let mut include: Vec<String> = Vec::new();
    for source in call.files("sources") {
        let Some(found) = compiled.get(&source) else {
            continue;
        };
        include.extend(
            found
                .include
                .iter()
                .filter(|folder| !include.contains(folder))
                .cloned()
                .collect::<Vec<_>>(),
        );
        groups.entry(&found.flags).or_default().insert(source);
    }
    let mut groups: Vec<(&Vec<String>, BTreeSet<String>)> = groups.into_iter().collect();
    groups.sort_by_key(|(_, sources)| std::cmp::Reverse(sources.len()));
    let mut groups = groups.into_iter();
    let Some((flags, _)) = groups.next() else {
        return Vec::new();
    };
    call.set("flags", FieldValue::texts(flags));
    if call.kit == Kit::C {
        call.set(
            "include",
            FieldValue::List(include.into_iter().map(FieldValue::Folder).collect()),
        );
    }
    let mut parts = Vec::new();
    for (flags, sources) in groups {
        let stem = stem_of(sources.first().map_or("", String::as_str)).to_owned();
        let part = names.give(
            &address.package,
            &format!("{}_{stem}", address.name),
            "part",
        );
        let mut own = call.files("sources");
        own.retain(|source| !sources.contains(source));
        call.set_files("sources", own);
        let whole = whole_library(call, flags, sources);
        call.add_item("needs", FieldValue::Of(part.clone()));
        let documentation = format!("Sources of {} with flags of their own.", address.name);
        parts.push(
            Definition::new(Keyword::Target, &part, documentation, Body::Kind(whole)).private(),
        );
    }
    parts
}

/// The library of some sources of a call that have other flags, which is linked whole.
fn whole_library(call: &KindCall, flags: &[String], sources: BTreeSet<String>) -> KindCall {
    let mut whole = KindCall::new(call.kit, "library").with("sources", FieldValue::Files(sources));
    for field in ["internal", "include", "included", "needs"] {
        if let Some(value) = call.field(field) {
            whole.set(field, value.clone());
        }
    }
    if let (Kit::C, Some(headers)) = (call.kit, call.field("headers")) {
        whole.set("headers", headers.clone());
    }
    whole.set("flags", FieldValue::texts(flags));
    if call.kit == Kit::C {
        whole.set("whole", FieldValue::Bool(true));
    }
    whole
}

fn compiled(tree: &SourceTree, root: &str, folder: &str, call: &CompilerCall) -> CompiledSource {
    let mut include = Vec::new();
    let mut flags: Vec<String> = call
        .flags
        .iter()
        .map(|flag| without_root(root, flag))
        .collect();
    for word in &call.include {
        match below_root(root, folder, word) {
            Some(path) if path.is_empty() || tree.has_folder(&path) => include.push(path),
            // What a build made is made anew, elsewhere.
            Some(_) => {}
            None if absolute(folder, word).is_some_and(|path| is_below(&path, folder)) => {}
            None => flags.push(format!("-I{word}")),
        }
    }
    CompiledSource { flags, include }
}

/// The path of a word from a root, for who runs in a folder; nothing where it is outside.
fn below_root(root: &str, folder: &str, word: &str) -> Option<String> {
    let absolute = absolute(folder, word)?;
    let inside = absolute.strip_prefix(root)?;
    Some(if inside.is_empty() {
        String::new()
    } else {
        inside.strip_prefix('/')?.to_owned()
    })
}

/// The absolute path of a word for who runs in a folder, without `.` and `..`.
fn absolute(folder: &str, word: &str) -> Option<String> {
    let inside = match word.strip_prefix('/') {
        Some(inside) => joined("", inside)?,
        None => joined(folder.trim_matches('/'), word)?,
    };
    Some(format!("/{inside}"))
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use super::*;

    #[test]
    fn entries_are_read_in_both_forms() {
        let text = r#"[
            {"directory": "/home/isles/b", "file": "../src/a.c", "command": "cc -D'TIDE=\"high water\"' -c ../src/a.c"},
            {"directory": "/home/isles/b", "file": "/home/isles/src/b.c",
             "arguments": ["cc", "-I../include", "-Igen", "-I/usr/include/x", "-O2", "-c", "../src/b.c"]}
        ]"#;
        let database = CompilationDatabase::read(text).unwrap();
        let tree = SourceTree::of(&[("src/a.c", ""), ("src/b.c", ""), ("include/a.h", "")]);
        assert_eq!(database.root(&tree).as_deref(), Some("/home/isles"));
        let sources = database.sources(&tree);
        assert_eq!(sources["src/a.c"].flags, ["-DTIDE=\"high water\""]);
        assert_eq!(sources["src/b.c"].flags, ["-O2", "-I/usr/include/x"]);
        assert_eq!(sources["src/b.c"].include, ["include"]);
        assert!(!database.is_about(&SourceTree::of(&[("other.c", "")])));
    }

    #[test]
    fn faults_are_named() {
        for (text, says) in [
            ("{", "EOF"),
            ("{}", "no list"),
            (
                r#"[{"file": "a.c", "command": "cc a.c"}]"#,
                "entry 1 has no `directory`",
            ),
            (
                r#"[{"directory": "/", "command": "cc a.c"}]"#,
                "entry 1 has no `file`",
            ),
            (r#"[{"directory": "/", "file": "a.c"}]"#, "neither"),
            (
                r#"[{"directory": "/", "file": "a.c", "command": "cc 'a.c"}]"#,
                "taken apart",
            ),
            (
                r#"[{"directory": "/", "file": "a.c", "arguments": [1]}]"#,
                "taken apart",
            ),
        ] {
            let error = CompilationDatabase::read(text).unwrap_err();
            assert!(error.contains(says), "{text}: {error}");
        }
    }
}
