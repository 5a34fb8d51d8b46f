//! Any text becomes a tree whose tokens are the text.
#![no_main]

use std::sync::Arc;

use libfuzzer_sys::fuzz_target;
use nubrik_source::Sources;

fuzz_target!(|text: &str| {
    let text: Arc<str> = text.into();
    let file = Sources::default().add("targets.nub", text.clone());
    let parsed = nubrik_syntax::parse(file, &text);
    assert_eq!(parsed.tree.print(), &*text);
});
