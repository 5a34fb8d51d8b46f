//! Where the words of a step's commands come from.

use std::sync::Arc;

use maud::{Markup, html};
use nubrik_graph::{Program, Stage, Step, shown_word};
use nubrik_lang::ToldCall;

use crate::links::{About, page};
use crate::pages::naming::place_link;
use crate::site::Site;

/// Of commands with more words nothing is shown: lists of files are no news.
const WORDS: usize = 400;

/// Where a word comes from.
#[derive(Clone, PartialEq, Eq, Debug)]
enum WordOrigin {
    /// It is what is started.
    Program,
    /// It names a file that the step reads or makes: its path.
    File(Arc<str>),
    /// It is a value of a field of the target's kind, which its definition gives, or not.
    Field(Arc<str>, bool),
    /// The line that has the command.
    Line,
}

/// The origin of a word.
fn origin(word: &Arc<str>, step: &Step, files: &[Arc<str>], call: Option<&ToldCall>) -> WordOrigin {
    // The longest path that it ends with: after an option, or alone.
    let ends = |path: &&Arc<str>| {
        let before = word.len().checked_sub(path.len());
        word.ends_with(&***path) && before.is_some_and(|at| at == 0 || !word[..at].ends_with('/'))
    };
    if let Some(path) = files.iter().filter(ends).max_by_key(|path| path.len()) {
        return WordOrigin::File(path.clone());
    }
    // What is in the kit's own line has a place there; what was given to it comes from a field.
    let is_here = step.place.file.ends_with(nubrik_lang::TARGETS_FILE);
    let fields = call
        .filter(|_| !is_here)
        .map_or(&[][..], |call| &call.fields);
    match fields.iter().find(|field| field.words.contains(word)) {
        Some(field) => WordOrigin::Field(field.name.clone(), field.is_given),
        None => WordOrigin::Line,
    }
}

/// Words one after the other that come from the same place.
fn grouped(words: Vec<(String, WordOrigin)>) -> Vec<(String, WordOrigin)> {
    let mut groups: Vec<(String, WordOrigin)> = Vec::new();
    for (word, origin) in words {
        match groups.last_mut() {
            Some((text, last)) if *last == origin => *text = format!("{text} {word}"),
            _ => groups.push((word, origin)),
        }
    }
    groups
}

fn of_stage(
    stage: &Stage,
    step: &Step,
    files: &[Arc<str>],
    call: Option<&ToldCall>,
) -> Vec<(String, WordOrigin)> {
    let word = |(number, word): (usize, &Arc<str>)| match (number, &stage.program) {
        (0, Program::Tool(_)) => (shown_word(word), WordOrigin::Program),
        _ => (shown_word(word), origin(word, step, files, call)),
    };
    grouped(stage.words.iter().enumerate().map(word).collect())
}

/// Where the words of a step's commands come from, put away until somebody wants to know.
pub(crate) fn origins(site: &Site, step: &Step, address: &str) -> Markup {
    let stages: Vec<&Stage> = step
        .commands
        .iter()
        .flat_map(|command| &command.stages)
        .collect();
    let count: usize = stages.iter().map(|stage| stage.words.len()).sum();
    if count == 0 {
        return html! {};
    }
    if count > WORDS {
        let text = format!(
            "The origin of its arguments is not shown: there are {count}, and more than {WORDS} would fill the page."
        );
        return html! { p.lead { (text) } };
    }
    let graph = site.graph();
    let declared = step
        .inputs
        .iter()
        .copied()
        .chain(step.outputs.iter().map(|output| output.file));
    let uncertain = graph.uncertain(step);
    let declared = declared.chain(uncertain.iter().copied());
    let mut files: Vec<Arc<str>> = declared
        .map(|file| graph.file(file).path.shared().clone())
        .collect();
    files.extend(step.found.iter().map(|path| path.shared().clone()));
    files.extend(step.lists.iter().map(|list| list.path.shared().clone()));
    let call = site.told(address);
    html! {
        details {
            summary { "Origin of each argument" }
            div.scroll { table {
                thead { tr { th scope="col" { "Words" } th scope="col" { "From" } } }
                tbody { @for (words, origin) in stages.iter().flat_map(|stage| of_stage(stage, step, &files, call)) {
                    tr {
                        td { code { (words) } }
                        td { @match &origin {
                            WordOrigin::Program => "a tool of the machine",
                            WordOrigin::File(path) if site.paths().contains(&**path) => { "the file " a.name href=(page(About::File, path)) { (path.rsplit('/').next().unwrap_or(path)) } },
                            WordOrigin::File(_) => "a file of the step's own",
                            WordOrigin::Field(name, true) => { "the field " code { (name) } " of the definition" },
                            WordOrigin::Field(name, false) => { "the field " code { (name) } ", at its default" },
                            WordOrigin::Line => (place_link(site, &step.place)),
                        } }
                    }
                } }
            } }
        }
    }
}

#[cfg(test)]
mod tests {
    use nubrik_graph::Place;
    use nubrik_lang::ToldField;
    use nubrik_source::WsPath;

    use super::*;

    #[test]
    fn words_come_from_files_fields_and_the_line_of_the_kit() {
        let field = |name: &str, words: &[&str], is_given: bool| ToldField {
            name: name.into(),
            documentation: "".into(),
            value: String::new(),
            words: words.iter().map(|word| Arc::from(*word)).collect(),
            default: None,
            is_given,
        };
        let fields = vec![
            field("flags", &["-g", "-O1"], true),
            field("link_flags", &["-lm"], false),
        ];
        let call = ToldCall {
            target: "fit".into(),
            kind: "library".into(),
            fields,
        };
        let place = Place {
            file: "nub:c".into(),
            line: 7,
        };
        let step = Step {
            place,
            ..Step::empty(WsPath::root())
        };
        let words = [
            "cc",
            "-c",
            "-g",
            "-O1",
            "fit.c",
            "-o",
            "made/fit.o",
            "-lm",
            "-MFmade/fit.d",
            "other/fit.c",
        ];
        let stage = Stage {
            program: Program::Tool(nubrik_graph::ToolId(0)),
            words: words.iter().map(|word| Arc::from(*word)).collect(),
            stdin: None,
            stdout: None,
            stderr: None,
            answers: false,
        };
        let files: Vec<Arc<str>> = ["fit.c", "made/fit.o", "made/fit.d"]
            .map(Arc::from)
            .to_vec();
        let groups = of_stage(&stage, &step, &files, Some(&call));
        let file = |path: &str| WordOrigin::File(path.into());
        let expected = [
            ("cc", WordOrigin::Program),
            ("-c", WordOrigin::Line),
            ("-g -O1", WordOrigin::Field("flags".into(), true)),
            ("fit.c", file("fit.c")),
            ("-o", WordOrigin::Line),
            ("made/fit.o", file("made/fit.o")),
            ("-lm", WordOrigin::Field("link_flags".into(), false)),
            ("-MFmade/fit.d", file("made/fit.d")),
            ("other/fit.c", WordOrigin::Line),
        ];
        let expected: Vec<(String, WordOrigin)> = expected
            .into_iter()
            .map(|(words, origin)| (words.to_owned(), origin))
            .collect();
        assert_eq!(groups, expected);
    }
}
