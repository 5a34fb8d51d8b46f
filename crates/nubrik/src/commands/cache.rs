//! `nubrik cache`

use std::time::Duration;

use nubrik_answers::CacheAmount;
use nubrik_session::{IMAGES_UNUSED, images_amount, prune_images, verify_images};
use nubrik_store::LocalStore;
use nubrik_wording::{counted, size};

use super::{CommandResult, labelled, say_wrong};
use crate::arguments::CacheUpkeep;
use crate::exit::Exit;
use crate::ui::console::Console;
use crate::ui::console::{OutputStream, outln};
use crate::ui::paint::{Ink, Paint};

pub fn cache(console: Console, work: Option<CacheUpkeep>) -> CommandResult<Exit> {
    let nowhere = |none| {
        say_wrong(
            console,
            Exit::Own,
            &format!("{none}, so nothing can be kept"),
            &["export HOME=…"],
        )
    };
    let folder = nubrik_session::store_folder().map_err(nowhere)?;
    let paint = console.paint(OutputStream::Output);
    if !folder.is_dir() {
        let (amount, place) = (CacheAmount::default(), folder.display().to_string());
        return Ok(say(console, paint, "size", amount, &[], &place));
    }
    let store = LocalStore::open(&folder).map_err(|why| refused(console, why))?;
    let place = folder.display().to_string();
    Ok(match work {
        None => {
            let results = store.amount();
            let images = images_amount().map_err(|why| refused(console, why))?;
            let amount = CacheAmount { results, images };
            say(console, paint, "size", amount, &[], &place)
        }
        Some(CacheUpkeep::Verify) => {
            let threads = std::thread::available_parallelism().map_or(1, usize::from);
            let verified = store.verify(threads);
            let roots = verify_images().map_err(|why| refused(console, why))?;
            let images = images_amount().map_err(|why| refused(console, why))?;
            let damaged = verified.damaged.iter().chain(&roots);
            let damaged: Vec<String> = damaged.map(|path| path.display().to_string()).collect();
            let results = verified.amount;
            let amount = CacheAmount { results, images };
            say(console, paint, "verify", amount, &damaged, &place)
        }
        Some(CacheUpkeep::Prune { size, unused_for }) => {
            let size = size.or_else(|| unused_for.is_none().then_some(nubrik_session::CACHE_LIMIT));
            let unused = unused_for.map(|days| Duration::from_secs(u64::from(days) * 24 * 3600));
            let results = store
                .prune(size, unused)
                .map_err(|why| refused(console, why))?;
            let images = prune_images(unused.unwrap_or(IMAGES_UNUSED))
                .map_err(|why| refused(console, why))?;
            let amount = CacheAmount { results, images };
            say(console, paint, "prune", amount, &[], &place)
        }
    })
}

/// Says that the cache cannot be used.
fn refused(console: Console, problem: impl std::fmt::Display) -> Exit {
    let mend = "check the rights and the space there";
    say_wrong(console, Exit::Own, &problem.to_string(), &[mend])
}

/// Says what there is, or what went.
fn say(
    console: Console,
    paint: Paint,
    work: &'static str,
    amount: CacheAmount,
    damaged: &[String],
    place: &str,
) -> Exit {
    if console.is_json() {
        console.event(&amount.event(work, damaged));
        return Exit::Done;
    }
    let CacheAmount { results, images } = amount;
    let what = format!(
        "{}, {}, {}",
        counted(results.records, "result"),
        counted(results.contents, "content"),
        size(results.bytes)
    );
    let of_images = format!(
        "{} of images, {}",
        counted(images.files as usize, "file"),
        size(images.bytes)
    );
    let line =
        |ink, word: &str, text: &str| outln!(console, "{}", labelled(paint, ink, word, text));
    match work {
        "prune" if amount == CacheAmount::default() => {
            line(Ink::Calm, "removed", "nothing; it is within bounds")
        }
        "prune" => line(Ink::Busy, "removed", &what),
        "verify" => {
            line(Ink::Calm, "read", &what);
            match damaged {
                [] => line(Ink::Found, "intact", "every byte is what it was"),
                damaged => {
                    damaged
                        .iter()
                        .for_each(|path| line(Ink::Wrong, "damaged", path));
                    line(
                        Ink::Calm,
                        "removed",
                        "what was damaged; it is rebuilt when it is needed",
                    );
                }
            }
        }
        _ if amount == CacheAmount::default() => line(Ink::Calm, "kept", "nothing yet"),
        _ => line(Ink::Calm, "kept", &what),
    }
    if images.files > 0 {
        line(Ink::Calm, "", &of_images);
    }
    line(Ink::Faint, "in", place);
    Exit::Done
}
