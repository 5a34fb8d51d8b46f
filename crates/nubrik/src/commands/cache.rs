//! `nubrik cache`

use std::time::Duration;

use nubrik_store::{Amount, LocalStore};
use nubrik_wording::{counted, size};
use serde::Serialize;

use super::{CommandResult, labelled, say_wrong};
use crate::arguments::CacheWork;
use crate::exit::Exit;
use crate::ui::console::Console;
use crate::ui::console::{OutputStream, outln};
use crate::ui::paint::{Ink, Paint};

#[derive(Serialize)]
struct CacheEvent {
    event: &'static str,
    work: &'static str,
    results: usize,
    contents: usize,
    bytes: u64,
    damaged: Vec<String>,
}

pub fn cache(console: Console, work: Option<CacheWork>) -> CommandResult<Exit> {
    let Some(folder) = nubrik_session::store_folder() else {
        let message = "neither XDG_CACHE_HOME nor HOME is set, so nothing can be kept";
        return Err(say_wrong(console, Exit::Own, message, &["export HOME=…"]));
    };
    let paint = console.paint(OutputStream::Output);
    if !folder.is_dir() {
        return Ok(say(console, paint, "size", Amount::default(), &[], &folder.display().to_string()));
    }
    let unusable = |problem: nubrik_store::StoreError| {
        say_wrong(console, Exit::Own, &problem.to_string(), &["check the rights and the space there"])
    };
    let store = LocalStore::open(&folder).map_err(unusable)?;
    let place = folder.display().to_string();
    Ok(match work {
        None => say(console, paint, "size", store.amount(), &[], &place),
        Some(CacheWork::Verify) => {
            let threads = std::thread::available_parallelism().map_or(1, usize::from);
            let verified = store.verify(threads);
            let damaged: Vec<String> = verified.damaged.iter().map(|p| p.display().to_string()).collect();
            say(console, paint, "verify", verified.amount, &damaged, &place)
        }
        Some(CacheWork::Prune { size, unused_for }) => {
            let size = size.or_else(|| unused_for.is_none().then_some(nubrik_session::CACHE_LIMIT));
            let unused = unused_for.map(|days| Duration::from_secs(u64::from(days) * 24 * 3600));
            let gone = store.prune(size, unused).map_err(unusable)?;
            say(console, paint, "prune", gone, &[], &place)
        }
    })
}

/// Says what there is, or what went.
fn say(
    console: Console,
    paint: Paint,
    work: &'static str,
    amount: Amount,
    damaged: &[String],
    place: &str,
) -> Exit {
    if console.is_json() {
        console.event(&CacheEvent {
            event: "cache",
            work,
            results: amount.records,
            contents: amount.contents,
            bytes: amount.bytes,
            damaged: damaged.to_vec(),
        });
        return Exit::Done;
    }
    let what = format!(
        "{}, {}, {}",
        counted(amount.records, "result"),
        counted(amount.contents, "content"),
        size(amount.bytes)
    );
    let line = |ink, word: &str, text: &str| outln!(console, "{}", labelled(paint, ink, word, text));
    match work {
        "prune" if amount == Amount::default() => line(Ink::Calm, "removed", "nothing; it is within bounds"),
        "prune" => line(Ink::Busy, "removed", &what),
        "verify" => {
            line(Ink::Calm, "read", &what);
            match damaged {
                [] => line(Ink::Found, "intact", "every byte is what it was"),
                damaged => {
                    damaged.iter().for_each(|path| line(Ink::Wrong, "damaged", path));
                    line(Ink::Calm, "removed", "what was damaged; it is rebuilt when it is needed");
                }
            }
        }
        _ if amount == Amount::default() => line(Ink::Calm, "kept", "nothing yet"),
        _ => line(Ink::Calm, "kept", &what),
    }
    line(Ink::Faint, "in", place);
    Exit::Done
}
