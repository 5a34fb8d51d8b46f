//! Objects that several people or builds write anew at once, where the store has no lock for that:
//! who wrote one waits a moment, looks whether it stays, and does it again where somebody has
//! written over it.

use std::time::Duration;

/// How often an object is written anew that somebody else wrote over.
pub const TRIES: u32 = 8;

/// How long it takes at most until somebody who read an object before has written over it: then
/// what is there now stays.
const SETTLED: Duration = Duration::from_millis(200);

/// Waits until what was written the `tried`th time stays, or somebody has written over it: each
/// process another time, since those who wait the same time would meet again.
pub fn let_settle(tried: u32) {
    let own = Duration::from_millis(u64::from(std::process::id() % 97) * u64::from(tried));
    std::thread::sleep(SETTLED + own);
}
