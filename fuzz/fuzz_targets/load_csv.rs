//! Any csv file is loaded, or is an error, with a type and without.
#![no_main]

use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    nubrik_fuzz::evaluate(&[("data.csv", text), ("targets.nub", DEFINITIONS)]);
});

const DEFINITIONS: &str = r#"
type row = { a: text, b: int?, c: "x" | "y" }
target plain = step { run = `x {[each r in load_csv("data.csv") give r.values]} > {out "x"}` }
target typed = step { run = `x {[each r in load_csv("data.csv", row = row) give "{r.a}{r.c}"]} > {out "x"}` }
"#;
