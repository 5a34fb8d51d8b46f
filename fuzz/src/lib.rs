//! What the fuzz targets share: a workspace in memory, and evaluation with little patience.

use nubrik_lang::{AddressPattern, Evaluator};
use nubrik_source::WsPath;

use memory_world::MemoryWorld;

// The world of the language's own tests: a question that evaluation learns to ask is answered once
// for both.
#[path = "../../crates/lang/tests/memory_world/mod.rs"]
mod memory_world;

/// How much work one input may ask for.
const WORK: u64 = 20_000;

/// Stack of the thread that evaluates, as in the program.
const STACK: usize = 256 << 20;

/// Sources that each workspace has beside the files of its input.
const SOURCES: [(&str, &str); 2] = [("src/a.c", ""), ("src/b.c", "")];

/// Evaluates everything in a workspace of these files. Any input must come to an end with a graph
/// or with errors.
pub fn evaluate(files: &[(&'static str, &str)]) {
    let files: Vec<_> = SOURCES.iter().chain(files).copied().collect();
    let world = MemoryWorld::new(&files);
    std::thread::scope(|scope| {
        let thread = std::thread::Builder::new().stack_size(STACK);
        let work = || {
            let all = AddressPattern::below(&WsPath::root());
            Evaluator::new(&world).with_work_limit(WORK).request(&[all]);
        };
        let running = thread.spawn_scoped(scope, work).expect("a thread");
        if running.join().is_err() {
            std::process::abort();
        }
    });
}
