//! What the documents show is true: every definition in them can be read and is in the usual form.

#![allow(clippy::unwrap_used)] // A test that panics has failed, which is right.

use std::sync::Arc;

use nubrik_source::Sources;

/// Blocks of a page between lines of three backticks with this word.
fn blocks(page: &str, language: &str) -> Vec<String> {
    let mut blocks = Vec::new();
    let mut open: Option<String> = None;
    for line in page.lines() {
        match (&mut open, line.strip_prefix("```")) {
            (None, Some(word)) => open = (word == language).then(String::new).or(Some("\0".into())),
            (Some(_), Some(_)) => blocks.extend(open.take().filter(|b| !b.starts_with('\0'))),
            (Some(block), None) => {
                block.push_str(line);
                block.push('\n');
            }
            (None, None) => {}
        }
    }
    blocks
}

#[test]
fn definitions_in_documents_can_be_read_and_are_tidy() {
    let root = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    for page in ["README.md", "docs/language.md", "docs/handbook.md"] {
        let text = std::fs::read_to_string(root.join(page)).unwrap();
        let blocks = blocks(&text, "nub");
        assert!(!blocks.is_empty(), "{page}");
        for block in blocks {
            let text: Arc<str> = block.as_str().into();
            let file = Sources::default().add(page, text.clone());
            match nubrik_syntax::format(file, &text) {
                Ok(tidy) => assert_eq!(tidy, block, "{page}"),
                Err(problems) => panic!("{page}: {}\n{block}", problems[0].message),
            }
        }
    }
}

#[test]
fn examples_of_forms_can_be_read() {
    for topic in nubrik_lang::topics::topics() {
        if !["form", "function", "declaration", "type"].contains(&topic.category) {
            continue;
        }
        let text: Arc<str> = format!("{}\n", topic.example).into();
        let file = Sources::default().add(&topic.name, text.clone());
        let parsed = nubrik_syntax::parse(file, &text);
        assert!(parsed.diagnostics.is_empty(), "{}: {:?}", topic.name, parsed.diagnostics);
    }
}
