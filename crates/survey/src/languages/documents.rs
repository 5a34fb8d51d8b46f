//! Documents in LaTeX. Manuals for the system's reader are installed as they are, so that nothing
//! is made of them.

use std::collections::BTreeSet;

use crate::Survey;
use crate::proposal::{Body, Definition, DefinitionAddress, FieldValue, Keyword, KindCall, Kit};
use crate::tree::{ext_of, folder_of, is_below, stem_of};

/// What a document may read besides its text.
const PARTS: [&str; 11] = [
    "tex", "sty", "cls", "cfg", "def", "png", "jpg", "jpeg", "pdf", "eps", "ltx",
];

pub(super) fn look(survey: &mut Survey<'_>) {
    let tree = survey.tree;
    let begins = |file: &&String| {
        matches!(ext_of(file), "tex" | "ltx")
            && tree.text(file).is_some_and(|text| {
                text.lines()
                    .any(|line| line.trim_start().starts_with("\\documentclass"))
            })
    };
    let documents: Vec<&String> = tree.files().iter().filter(begins).collect();
    survey.count(Kit::Documents, documents.len());
    for main in &documents {
        let folder = folder_of(main);
        let mains: BTreeSet<&str> = documents.iter().map(|file| file.as_str()).collect();
        let beside = tree.below(folder).filter(|file| !mains.contains(file));
        let texts = tree
            .below(folder)
            .filter(|file| matches!(ext_of(file), "tex" | "ltx" | "sty" | "cls"));
        let text: String = texts
            .filter_map(|file| tree.text(file))
            .map(|text| text.to_string())
            .collect();
        let is_named = |file: &str| text.contains(stem_of(file));
        let sources: BTreeSet<String> = beside
            .filter(|file| PARTS.contains(&ext_of(file)) && made_of(main, file) && is_named(file))
            .map(str::to_owned)
            .collect();
        let books = tree
            .below(folder)
            .filter(|file| matches!(ext_of(file), "bib" | "bst"))
            .map(str::to_owned);
        let call = KindCall::new(Kit::Documents, "document")
            .with("main", FieldValue::Files(BTreeSet::from([(*main).clone()])))
            .with("sources", FieldValue::Files(sources))
            .with("bibliography", FieldValue::Files(books.collect()));
        let address = survey.names.give(folder, stem_of(main), "document");
        define(
            survey,
            address,
            format!("The document {}.", stem_of(main)),
            call,
        );
    }
}

/// Whether a file may be a part of a document, and not the document itself as it was made once.
fn made_of(main: &str, file: &str) -> bool {
    is_below(file, folder_of(main)) && !(ext_of(file) == "pdf" && stem_of(file) == stem_of(main))
}

fn define(
    survey: &mut Survey<'_>,
    address: DefinitionAddress,
    documentation: String,
    call: KindCall,
) {
    survey.define(Definition::new(
        Keyword::Target,
        &address,
        documentation,
        Body::Kind(call),
    ));
}
