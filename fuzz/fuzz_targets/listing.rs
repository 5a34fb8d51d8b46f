//! Any listing of what a command read is understood, or passed over.
#![no_main]

use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    for listed in nubrik_engine::parse_listing(text, "/work/tide", "sub") {
        if let nubrik_engine::Listed::Inside(path) = listed {
            assert!(!path.starts_with('/') && !path.split('/').any(|p| p == ".."));
        }
    }
});
