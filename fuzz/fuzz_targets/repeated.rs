//! One piece of text, many times over: time and memory grow with the text, and no nesting ends the
//! program. The pieces are those that once did worse: `?` behind a type, braces, comment lines,
//! errors, columns of a table, pieces of a text.
#![no_main]

use std::time::{Duration, Instant};

use libfuzzer_sys::fuzz_target;

/// Before, piece, behind: what the definitions are put together from.
const SHAPES: [(&str, &str, &str); 14] = [
    ("let f(a: int", "?", "): int = 1\n"),
    ("let a = glob(\"", "{a,", "\")\n"),
    ("let a = glob(\"", "?", "\")\n"),
    ("let a = ", "(", "\n"),
    ("let a = ", "[", "\n"),
    ("let a = ", "- ", "1\n"),
    ("let a = \"", "{\"", "\"\n"),
    ("", "# a comment\n", "let a = 1\n"),
    ("", "let = oops\n", ""),
    ("let a = 1", " + 1", "\n"),
    ("let a = [", "1, ", "]\n"),
    (
        "let a = \"",
        "x,",
        "\".split(\",\")\ntarget t = write { path = \"x\", text = \"{a.len}\" }\n",
    ),
    (
        "target t = step { run = `x",
        " {in \"table.csv\"}",
        " {out \"o\"}` }\n",
    ),
    ("", "target a = write { path = \"a\", text = \"\" }\n", ""),
];

/// What any text may take, and how much more for each byte of it. Sanitizers make all of it many
/// times slower.
const TIME: Duration = Duration::from_secs(2);
const TIME_PER_BYTE: Duration = Duration::from_micros(100);
const MEMORY: u64 = 256 << 20;
const MEMORY_PER_BYTE: u64 = 16 << 10;

/// How much memory this program has, in bytes.
fn resident() -> u64 {
    let status = std::fs::read_to_string("/proc/self/statm").unwrap_or_default();
    status
        .split(' ')
        .nth(1)
        .and_then(|pages| pages.parse::<u64>().ok())
        .unwrap_or(0)
        * 4096
}

fuzz_target!(|input: (u8, u16, u8, u16, bool)| {
    let (first, count, second, more, as_data) = input;
    let repeated = |shape: u8, count: u16| {
        let (before, piece, behind) = SHAPES[usize::from(shape) % SHAPES.len()];
        format!("{before}{}{behind}", piece.repeat(usize::from(count)))
    };
    let text = repeated(first, count) + &repeated(second, more);
    let table = match as_data {
        true => format!(
            "{}\n{}\n",
            "a,".repeat(usize::from(count)),
            "1,".repeat(usize::from(count))
        ),
        false => "a,b\n1,2\n".to_owned(),
    };
    let definitions = match as_data {
        true => {
            "let rows = load_csv(\"table.csv\")\ntarget t = write { path = \"x\", text = \"{rows.len}\" }\n"
        }
        false => &text,
    };
    let bytes = (definitions.len() + table.len()) as u64;
    let (began, before) = (Instant::now(), resident());
    nubrik_fuzz::evaluate(&[("targets.nub", definitions), ("table.csv", &table)]);
    let allowed = TIME + TIME_PER_BYTE * u32::try_from(bytes).unwrap_or(u32::MAX);
    assert!(
        began.elapsed() < allowed,
        "{:?} for {bytes} bytes",
        began.elapsed()
    );
    let taken = resident().saturating_sub(before);
    assert!(
        taken < MEMORY + MEMORY_PER_BYTE * bytes,
        "{taken} bytes of memory for {bytes} bytes"
    );
});
