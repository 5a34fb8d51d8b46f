//! Any json file is loaded, or is an error, with a type and without.
#![no_main]

use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    nubrik_fuzz::evaluate(&[("data.json", text), ("targets.nub", DEFINITIONS)]);
});

const DEFINITIONS: &str = r#"
type inner = { a: int, b: list[text], c: map[bool]?, d: duration? }
let plain = load_json("data.json")
let typed = load_json("data.json", type = inner)
target all = step { run = `x {plain.keys} {typed.a} {typed.b} > {out "x"}` }
"#;
