//! Any listing of what a command read is understood, or passed over.
#![no_main]

use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    let around = nubrik_engine::ListingContext {
        roots: &["/work/tide", nubrik_engine::CONSTANT_ROOT],
        work: "sub",
        follow: &|path| path.ends_with("link").then(|| "elsewhere/real".to_owned()),
        exists: &|path| path.len() % 2 == 0,
    };
    for listed in nubrik_engine::parse_listing(text, &around) {
        if let nubrik_engine::Listed::Inside(path) = listed {
            assert!(!path.starts_with('/') && !path.split('/').any(|p| p == ".."));
        }
    }
});
