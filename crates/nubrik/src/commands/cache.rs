//! `nubrik cache`

use std::time::Duration;

use nubrik_store::{Amount, LocalStore};
use serde::Serialize;

use super::{Outcome, labelled, say_wrong};
use crate::arguments::{CacheWork, Face};
use crate::exit::Exit;
use crate::ui::json;
use crate::ui::out::outln;
use crate::ui::paint::{Ink, Paint};
use crate::ui::text::size;

#[derive(Serialize)]
struct CacheEvent {
    event: &'static str,
    work: &'static str,
    results: usize,
    contents: usize,
    bytes: u64,
    damaged: Vec<String>,
}

pub fn cache(face: Face, work: Option<CacheWork>) -> Outcome<Exit> {
    let Some(folder) = nubrik_session::store_folder() else {
        let message = "neither XDG_CACHE_HOME nor HOME names a folder, so nothing is kept";
        return Err(say_wrong(face, Exit::Own, message, &["export HOME=…"]));
    };
    let paint = super::paint(face);
    if !folder.is_dir() {
        return Ok(say(face, paint, "size", Amount::default(), &[], &folder.display().to_string()));
    }
    let unusable = |problem: nubrik_store::StoreError| {
        say_wrong(face, Exit::Own, &problem.to_string(), &["check the rights and the space there"])
    };
    let store = LocalStore::open(&folder).map_err(unusable)?;
    let place = folder.display().to_string();
    Ok(match work.unwrap_or(CacheWork::Size) {
        CacheWork::Size => say(face, paint, "size", store.amount(), &[], &place),
        CacheWork::Verify => {
            let threads = std::thread::available_parallelism().map_or(1, usize::from);
            let verified = store.verify(threads);
            let damaged: Vec<String> = verified.damaged.iter().map(|p| p.display().to_string()).collect();
            say(face, paint, "verify", verified.amount, &damaged, &place)
        }
        CacheWork::Prune { to, unused } => {
            let unused = unused.map(|days| Duration::from_secs(u64::from(days) * 24 * 3600));
            let gone = store.prune(to, unused).map_err(unusable)?;
            say(face, paint, "prune", gone, &[], &place)
        }
    })
}

/// Says what there is, or what went.
fn say(
    face: Face,
    paint: Paint,
    work: &'static str,
    amount: Amount,
    damaged: &[String],
    place: &str,
) -> Exit {
    if face.json {
        json::print(&CacheEvent {
            event: "cache",
            work,
            results: amount.records,
            contents: amount.contents,
            bytes: amount.bytes,
            damaged: damaged.to_vec(),
        });
        return Exit::Done;
    }
    let count = |n: usize, one: &str| format!("{n} {one}{}", if n == 1 { "" } else { "s" });
    let what = format!(
        "{}, {}, {}",
        count(amount.records, "result"),
        count(amount.contents, "content"),
        size(amount.bytes)
    );
    let line = |ink, word: &str, text: &str| outln!("{}", labelled(paint, ink, word, text));
    match work {
        "prune" if amount == Amount::default() => line(Ink::Calm, "removed", "nothing; it is within bounds"),
        "prune" => line(Ink::Busy, "removed", &what),
        "verify" => {
            line(Ink::Calm, "read", &what);
            match damaged {
                [] => line(Ink::Found, "true", "every byte is what it was"),
                damaged => {
                    damaged.iter().for_each(|path| line(Ink::Wrong, "damaged", path));
                    line(Ink::Calm, "removed", "what was damaged; it is made anew when it is needed");
                }
            }
        }
        _ if amount == Amount::default() => line(Ink::Calm, "kept", "nothing yet"),
        _ => line(Ink::Calm, "kept", &what),
    }
    line(Ink::Faint, "in", place);
    Exit::Done
}
