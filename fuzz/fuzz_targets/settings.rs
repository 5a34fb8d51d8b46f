//! Any `nubrik.toml` is read, or is an error that points into it.
#![no_main]

use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    if let Err(problem) = nubrik_session::Settings::parse(text)
        && let Some(range) = problem.range
    {
        assert!(text.get(range).is_some());
    }
});
