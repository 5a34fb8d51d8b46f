//! Looking after a shared cache: `nubrik shared prune`, `nubrik shared verify`.

use std::time::Duration;

use nubrik_answers::{PrunedEvent, SharedVerifiedEvent};
use nubrik_session::{Session, SharedCache};
use nubrik_shared::{Pruned, SharedStore};
use nubrik_wording::{counted, size};

use super::{CommandResult, labelled, open, say_wrong};
use crate::arguments::Choice;
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, outln};
use crate::ui::paint::Ink;

/// How long objects stay to which nothing leads any more: builds that began before read them.
const GRACE: Duration = Duration::from_secs(48 * 3600);

/// The shared cache that the workspace uses, without its mirror.
fn used(console: Console, session: &mut Session) -> CommandResult<std::sync::Arc<SharedStore>> {
    let anew = session.ask_shared_itself();
    anew.map_err(|problem| say_wrong(console, Exit::Usage, &problem.to_string(), &[]))?;
    match session.shared() {
        SharedCache::Used(store) => Ok(store),
        SharedCache::Proposed(_) => {
            let mend = "nubrik shared trust   if this is the root key of your team";
            Err(say_wrong(
                console,
                Exit::Usage,
                "you do not trust the shared cache yet",
                &[mend],
            ))
        }
        SharedCache::None => {
            let mend = "[shared] in nubrik.toml says where one is: nubrik shared create";
            Err(say_wrong(
                console,
                Exit::Usage,
                "this workspace names no shared cache",
                &[mend],
            ))
        }
    }
}

/// Leaves out what no build used for so many days.
pub fn prune(console: Console, choice: &Choice, days: u32, now: bool) -> CommandResult<Exit> {
    let mut session = open(console, choice)?;
    let store = used(console, &mut session)?;
    // Whoever reads the heads notices one that is older than what was seen here.
    store.known();
    let grace = if now { Duration::ZERO } else { GRACE };
    let pruned = match session.prune_shared(u64::from(days), grace) {
        Ok(Some(pruned)) => pruned,
        Ok(None) => {
            let mend = "NUBRIK_SHARED_KEY names the file with the writer's key, and NUBRIK_SHARED_CHANNEL the channel";
            let message = "only a writer of the channel can prune it";
            return Err(say_wrong(console, Exit::Usage, message, &[mend]));
        }
        Err(trouble) => {
            let message = format!("nothing is pruned: {trouble}");
            return Err(say_wrong(console, Exit::Failed, &message, &[]));
        }
    };
    // Such as that it was put back from a copy: what is there then was pruned all the same.
    let trouble = store.trouble().map(|trouble| trouble.to_string());
    if console.is_json() {
        console.event(&PrunedEvent::of(&pruned, trouble.as_deref()));
        return Ok(Exit::Done);
    }
    let Pruned {
        kept,
        dropped,
        waiting,
        removed,
    } = pruned;
    let paint = console.paint(OutputStream::Output);
    let line =
        |ink, word: &str, text: String| outln!(console, "{}", labelled(paint, ink, word, &text));
    let (results, days) = (counted(kept, "result"), counted(days as usize, "day"));
    line(
        Ink::Calm,
        "kept",
        format!("{results} that builds used in {days}"),
    );
    line(Ink::Busy, "dropped", counted(dropped, "result"));
    if waiting > 0 {
        let objects = counted(waiting, "object");
        let text = format!("{objects}, removed when no build can read them any more");
        line(Ink::Faint, "waiting", text);
    }
    line(Ink::Busy, "removed", counted(removed, "object"));
    trouble
        .into_iter()
        .for_each(|trouble| line(Ink::Doubt, "trouble", trouble));
    Ok(Exit::Done)
}

/// Reads all of the shared cache, and says what is wrong with it.
pub fn verify(console: Console, choice: &Choice) -> CommandResult<Exit> {
    let mut session = open(console, choice)?;
    let store = used(console, &mut session)?;
    let seen = store.verify(&|| session.is_stopped());
    let trouble = seen.trouble.as_ref().map(ToString::to_string);
    let is_right = seen.wrong.is_empty() && trouble.is_none();
    let exit = if session.is_stopped() {
        Exit::Interrupted
    } else if is_right {
        Exit::Done
    } else {
        Exit::Failed
    };
    if console.is_json() {
        console.event(&SharedVerifiedEvent::of(&seen));
        return Ok(exit);
    }
    let paint = console.paint(OutputStream::Output);
    let line =
        |ink, word: &str, text: &str| outln!(console, "{}", labelled(paint, ink, word, text));
    let read = format!(
        "{} keys, {} objects, {} of contents",
        seen.keys,
        seen.objects,
        size(seen.bytes)
    );
    line(Ink::Calm, "read", &read);
    seen.wrong
        .iter()
        .for_each(|name| line(Ink::Wrong, "damaged", name));
    if let Some(trouble) = &trouble {
        line(Ink::Wrong, "trouble", trouble);
    }
    match exit {
        Exit::Done => line(
            Ink::Found,
            "intact",
            "every byte has the digest in its name",
        ),
        Exit::Interrupted => line(Ink::Doubt, "stopped", "the rest was not read"),
        _ => line(
            Ink::Calm,
            "try",
            "nubrik build   on a machine that writes: it uploads these again, if its cache has them",
        ),
    }
    line(Ink::Faint, "in", &store.place());
    Ok(exit)
}
