//! What can be read is formatted to something that can be read, is in the usual form at once, and
//! means the same.
#![no_main]

use std::sync::Arc;

use libfuzzer_sys::fuzz_target;
use nubrik_source::Sources;

fuzz_target!(|text: &str| {
    let text: Arc<str> = text.into();
    let file = Sources::default().add("targets.nub", text.clone());
    if let Ok(once) = nubrik_syntax::format(file, &text) {
        let once: Arc<str> = once.into();
        let twice = nubrik_syntax::format(file, &once).expect("what was formatted can be read");
        assert_eq!(twice, &*once);
    }
});
