//! Evaluation of any definitions ends, without a panic.
#![no_main]

use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    nubrik_fuzz::evaluate(&[
        ("targets.nub", text),
        ("table.csv", "a,b\n1,2\n"),
        ("data.json", "{\"a\": [1]}"),
    ]);
});
