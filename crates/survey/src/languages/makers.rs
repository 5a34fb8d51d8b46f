//! A header that is not in the tree, but is named by a script that prints or writes it.

use std::collections::BTreeSet;

use crate::Survey;
use crate::proposal::{Body, Definition, DefinitionAddress, Keyword};
use crate::tree::{below, ext_of, folder_of, is_below, name_of, stem_of};

/// Interpreters by the endings of their scripts.
const INTERPRETERS: [(&str, &str); 5] = [
    ("py", "python3"),
    ("pl", "perl"),
    ("sh", "sh"),
    ("awk", "awk -f"),
    ("js", "node"),
];

/// How scripts name the path that they are given.
const PATH_WORDS: [&str; 5] = [
    "sys.argv[1]",
    "$1",
    "$ARGV[0]",
    "process.argv[2]",
    "argv[1]",
];

/// Words in the names of scripts that make something.
const MAKERS: [&str; 6] = ["gen", "make", "mk", "build", "create", "conf"];

/// How scripts write a file of a name.
fn ways_to_write(name: &str) -> [String; 4] {
    [
        format!("open(\"{name}\""),
        format!("open('{name}'"),
        format!("> {name}"),
        format!(">{name}"),
    ]
}

/// A definition of a step that makes a header by a script, if one names it.
pub(super) fn propose(
    survey: &mut Survey<'_>,
    component: &str,
    header: &str,
) -> Option<DefinitionAddress> {
    let name = name_of(header);
    let tree = survey.tree;
    let scripts = tree.files().iter().filter(|file| is_below(file, component));
    let (script, interpreter) = scripts
        .into_iter()
        .find_map(|script| Some((script, interpreter_of_maker(tree, script, name)?)))?;
    let text = tree.text(script)?;
    let takes_path = PATH_WORDS.iter().any(|word| text.contains(word));
    let input = below(script, component);
    // Data beside the script, of which it may be made.
    let beside: BTreeSet<String> = tree
        .inside(folder_of(script))
        .filter(|file| text.contains(name_of(file)) && file != script)
        .map(str::to_owned)
        .collect();
    let reads: Vec<String> = beside
        .iter()
        .map(|file| format!("\"{}\"", below(file, component)))
        .collect();
    let script_word = format!("{{in \"{input}\"}}");
    let run = if writes(&text, name) {
        format!("`{interpreter} {script_word}`\n    makes = {{ \"header\": \"{name}\" }}")
    } else if takes_path {
        format!("`{interpreter} {script_word} {{out \"{name}\"}}`")
    } else {
        format!("`{interpreter} {script_word} > {{out \"{name}\"}}`")
    };
    let reads_field = if reads.is_empty() {
        String::new()
    } else {
        format!("    reads = [{}]\n", reads.join(", "))
    };
    let code = format!("step {{\n    say = \"make {name}\"\n    run = {run}\n{reads_field}}}");
    let address = survey
        .names
        .give(component, &name.replace('.', "_"), "header");
    let takes = beside.into_iter().chain([script.clone()]).collect();
    let documentation = format!("{name}, which sources include.");
    let reason = format!("{script} names it; how it is called was guessed from what it says.");
    let body = Body::Code(code, takes);
    let definition = Definition::new(Keyword::Target, &address, documentation, body);
    survey.define(definition.private().because(vec![reason]));
    Some(address)
}

/// The interpreter of a script, if that makes a header of some name. Others that name it look at
/// it, or pass it by.
fn interpreter_of_maker(
    tree: &crate::tree::SourceTree,
    script: &str,
    name: &str,
) -> Option<&'static str> {
    let (_, interpreter) = INTERPRETERS
        .iter()
        .find(|(ext, _)| *ext == ext_of(script))?;
    let text = tree.text(script)?;
    let stem = stem_of(script);
    let is_maker = MAKERS.iter().any(|word| stem.contains(word));
    let makes_it = match text.contains(name) {
        true => is_maker || writes(&text, name),
        false => is_maker && stem.contains(stem_of(name)),
    };
    makes_it.then_some(*interpreter)
}

/// Whether a script names the file as one that it writes.
fn writes(script: &str, name: &str) -> bool {
    let ways = ways_to_write(name);
    ways.iter().any(|way| script.contains(way.as_str()))
}

/// The prefix of a scanner's or parser's names, if sources use it with one other than `yy`.
fn prefix_of(survey: &Survey<'_>, file: &str, sources: &BTreeSet<String>) -> Option<String> {
    let pattern = regex::Regex::new(r"\b(\w+?)(?:lex|parse)\s*\(").ok()?;
    let texts = sources
        .iter()
        .map(String::as_str)
        .chain([file])
        .filter_map(|path| survey.tree.text(path));
    let mut found = BTreeSet::new();
    for text in texts {
        found.extend(
            pattern
                .captures_iter(&text)
                .map(|one| one[1].to_owned())
                .filter(|name| name.ends_with("yy")),
        );
    }
    // Where there are several, only somebody who knows them can say whose is whose.
    let mut others = found.into_iter().filter(|name| name != "yy");
    others.next().filter(|_| others.next().is_none())
}

/// Generators of sources by the endings of what they read.
const GENERATORS: [(&str, &str, &str); 4] = [
    ("l", "flex", "c"),
    ("ll", "flex", "cc"),
    ("y", "bison", "c"),
    ("yy", "bison", "cc"),
];

/// Steps that make scanners and parsers of the descriptions beside some sources, if what they make
/// is not there already. The header of a parser is known by its name.
pub(super) fn generated(
    survey: &mut Survey<'_>,
    component: &str,
    sources: &BTreeSet<String>,
) -> Vec<(DefinitionAddress, Option<String>)> {
    let tree = survey.tree;
    let folders: BTreeSet<&str> = sources.iter().map(|source| folder_of(source)).collect();
    let mut made = Vec::new();
    for file in folders.iter().flat_map(|folder| tree.inside(folder)) {
        let generator = GENERATORS.iter().find(|(ext, _, _)| *ext == ext_of(file));
        let Some((_, tool, ext)) = generator else {
            continue;
        };
        let stem = stem_of(file);
        let is_there = ["", ".tab", ".yy"].iter().any(|mark| {
            tree.inside(folder_of(file))
                .any(|other| name_of(other) == format!("{stem}{mark}.{ext}"))
        });
        if is_there {
            continue;
        }
        let input = below(file, component);
        let prefix = prefix_of(survey, file, sources);
        let mark = prefix.map_or(String::new(), |prefix| match *tool {
            "bison" => format!("-p {prefix} "),
            _ => format!("-P {prefix} "),
        });
        let source = format!("{{out source \"{stem}.{ext}\"}} {{in \"{input}\"}}");
        let (run, header) = match *tool {
            "bison" => {
                let header = format!("{stem}.h");
                (
                    format!("bison {mark}--defines={{out header \"{header}\"}} -o {source}"),
                    Some(header),
                )
            }
            _ => (format!("flex {mark}-o {source}"), None),
        };
        let code = format!("step {{\n    say = \"make {stem}.{ext}\"\n    run = `{run}`\n}}");
        let address = survey.names.give(
            component,
            &format!(
                "{stem}_{}",
                if *tool == "flex" { "scanner" } else { "parser" }
            ),
            "source",
        );
        survey.define(
            Definition::new(
                Keyword::Target,
                &address,
                format!("What {tool} makes of {input}."),
                Body::Code(code, BTreeSet::from([file.to_owned()])),
            )
            .private(),
        );
        made.push((address, header));
    }
    made
}
