//! Calls of the Java compiler: which flags the sources of a library had, and where its classes
//! went.

use std::collections::BTreeSet;

use super::{LearnedTarget, SeenBuild};
use crate::proposal::{Body, FieldValue, Kit, Proposal};
use crate::tree::{SourceTree, ext_of, name_of};

/// A call of the compiler.
#[derive(Clone, PartialEq, Eq, Debug)]
struct JavaCall {
    /// Where the classes go, as it is written.
    class_folder: String,
    /// For which Java, where that is said.
    release: Option<String>,
    /// The other flags that say how something is compiled.
    flags: Vec<String>,
}

/// Options whose value is the next word, and that say where something is.
const PLACES: [&str; 14] = [
    "-cp",
    "-classpath",
    "--class-path",
    "-sourcepath",
    "--source-path",
    "-processorpath",
    "--processor-path",
    "-p",
    "--module-path",
    "--module-source-path",
    "-s",
    "-h",
    "--system",
    "-bootclasspath",
];

/// Options whose value is the next word, and that say how something is compiled.
const WITH_VALUE: [&str; 10] = [
    "-encoding",
    "-source",
    "--source",
    "-target",
    "--target",
    "--add-modules",
    "--add-exports",
    "--add-reads",
    "-processor",
    "-Xmaxerrs",
];

fn java_call(words: &[String]) -> Option<JavaCall> {
    let (program, words) = words.split_first()?;
    if name_of(program) != "javac" {
        return None;
    }
    let (mut class_folder, mut release, mut flags) = (None, None, Vec::new());
    let mut words = words.iter();
    while let Some(word) = words.next() {
        match word.as_str() {
            "-d" => class_folder = words.next().cloned(),
            "--release" => release = words.next().cloned(),
            place if PLACES.contains(&place) => drop(words.next()),
            option if WITH_VALUE.contains(&option) => {
                flags.push(option.to_owned());
                flags.extend(words.next().cloned());
            }
            "-verbose" => {}
            // What its own virtual machine is given, and which sources are compiled that are only
            // searched for, is said by places.
            option if option.starts_with("-J") || option.starts_with("-implicit") => {}
            option if option.starts_with('-') && !flags.contains(word) => {
                flags.push(option.to_owned())
            }
            _ => {}
        }
    }
    Some(JavaCall {
        class_folder: class_folder?,
        release,
        flags,
    })
}

/// Gives the proposed libraries and tests the flags that a build compiled their sources with.
/// Returns the libraries, with the folders to which their classes went.
pub(super) fn with_java(
    proposal: &mut Proposal,
    tree: &SourceTree,
    build: &SeenBuild,
) -> Vec<LearnedTarget> {
    let seen = build.programs.iter().filter_map(|program| {
        let call = java_call(&program.words)?;
        let folder = build.path(program.folder.as_deref()?, &call.class_folder)?;
        let is_source = |path: &&String| ext_of(path) == "java" && tree.has(path);
        let sources: BTreeSet<String> = program.reads.iter().filter(is_source).cloned().collect();
        Some((call, folder, sources))
    });
    let seen: Vec<(JavaCall, String, BTreeSet<String>)> = seen.collect();
    let mut targets = Vec::new();
    for definition in &mut proposal.definitions {
        let Body::Kind(call) = &mut definition.body else {
            continue;
        };
        if call.kit != Kit::Java || !["library", "tests"].contains(&call.kind) {
            continue;
        }
        let sources = call.files("sources");
        let common = |(_, _, other): &&(JavaCall, String, BTreeSet<String>)| {
            sources.intersection(other).count()
        };
        let best = seen
            .iter()
            .max_by_key(common)
            .filter(|one| common(one) * 2 > sources.len());
        let Some((found, folder, _)) = best else {
            continue;
        };
        if let Some(release) = &found.release {
            call.set("release", FieldValue::text(release));
        }
        call.set("flags", FieldValue::texts(&found.flags));
        let is_there = build
            .made
            .range(format!("{folder}/")..)
            .next()
            .is_some_and(|path| {
                path.strip_prefix(folder.as_str())
                    .is_some_and(|rest| rest.starts_with('/'))
            });
        if call.kind == "library" && is_there {
            let address = definition.address.clone();
            targets.push(LearnedTarget {
                address,
                parts: Vec::new(),
                path: folder.clone(),
            });
        }
    }
    targets
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use super::*;

    #[test]
    fn flags_are_told_from_places() {
        let words = |line: &str| line.split(' ').map(str::to_owned).collect::<Vec<_>>();
        let call = java_call(&words(
            "/usr/bin/javac -encoding UTF-8 -cp lib/a.jar -Xlint:all -d out/classes --release 11 src/A.java @more",
        ));
        let flags = ["-encoding", "UTF-8", "-Xlint:all"]
            .map(str::to_owned)
            .to_vec();
        let class_folder = "out/classes".to_owned();
        assert_eq!(
            call,
            Some(JavaCall {
                class_folder,
                release: Some("11".to_owned()),
                flags
            })
        );
        assert_eq!(java_call(&words("java -d out Tides")), None);
        assert_eq!(java_call(&words("javac --version")), None);
    }
}
