//! Any lines file is loaded, or is an error, with a type and without.
#![no_main]

use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    nubrik_fuzz::evaluate(&[("data.lines", text), ("targets.nub", DEFINITIONS)]);
});

const DEFINITIONS: &str = r#"
target all = step { run = `x {load_lines("data.lines")} > {out "x"}` }
"#;
