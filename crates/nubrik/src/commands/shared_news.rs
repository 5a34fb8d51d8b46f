//! What a build says of the shared cache and of other machines.

use std::time::{Duration, Instant};

use nubrik_answers::{RanElsewhere, SharedNews};
use nubrik_graph::{FileId, Graph};
use nubrik_session::{GivenAway, Session, SharedCache};
use nubrik_wording::{counted, duration, size};

use super::{CommandResult, labelled, say_notice, say_wrong};
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream};
use crate::ui::paint::Ink;
use crate::ui::visible::visible;

/// So long the end of a build waits until what it downloaded is copied to the mirror.
const COPYING: Duration = Duration::from_secs(2);

/// Gives what was made to the shared cache, where this machine writes there, and says what was
/// taken and given.
pub fn conclude(
    console: Console,
    session: &Session,
    made: Option<(&Graph, &[FileId])>,
    stream: OutputStream,
) {
    let SharedCache::Used(store) = session.shared() else {
        return;
    };
    let given = made
        .map(|(graph, files)| session.give(graph, files))
        .transpose();
    let (given, failed) = match given {
        Ok(given) => (given.flatten(), None),
        Err(trouble) => (None, Some(trouble)),
    };
    store.finish_copies(Instant::now() + COPYING);
    let used = session.shared_use().unwrap_or_default();
    let news = SharedNews::of(&store, &used, given.as_ref(), failed);
    if !console.is_json() {
        let paint = console.paint(stream);
        let lines = lines_of(&news);
        lines
            .iter()
            .for_each(|(ink, text)| console.line(stream, &labelled(paint, *ink, "shared", text)));
    } else if news.traffic.requests > 0 {
        console.event(&news.event());
    }
    say_workers(console, session, stream);
}

/// Lines for people about the use of a shared cache.
fn lines_of(news: &SharedNews<'_>) -> Vec<(Ink, String)> {
    let mut lines = taken(news);
    lines.extend(news.given.into_iter().flat_map(given_away));
    if news.traffic.requests > 0 {
        lines.extend(is_getting_old(news));
    }
    if let Some(trouble) = &news.trouble {
        let off = if news.is_given_up() {
            "; it is not asked any more in this build"
        } else {
            ""
        };
        lines.push((
            Ink::Doubt,
            format!("the shared cache at {}: {trouble}{off}", news.store.place()),
        ));
    }
    if news.traffic.mirror.copied > 0 {
        lines.push((
            Ink::Faint,
            format!("{} copied to the mirror", size(news.traffic.mirror.copied)),
        ));
    }
    if let Some((place, Some(trouble))) = &news.mirror {
        let text = format!(
            "the mirror at {place}: {trouble}; what it did not give came from the shared cache"
        );
        lines.push((Ink::Doubt, text));
    }
    lines
}

/// What was taken, and why nothing was taken for other steps.
fn taken(news: &SharedNews<'_>) -> Vec<(Ink, String)> {
    let SharedNews {
        used,
        traffic,
        given,
        ..
    } = news;
    let mut lines = Vec::new();
    if used.taken > 0 {
        let mut text = format!("{} taken from the shared cache", results(used.taken));
        if used.away > 0 {
            text.push_str(&format!(", {} of them not downloaded", used.away));
        }
        text.push_str(&format!(": {} downloaded", size(traffic.moved)));
        if traffic.mirror.moved > 0 {
            text.push_str(&format!(
                ", {} of that from the mirror",
                size(traffic.mirror.moved)
            ));
        }
        match traffic.differences {
            0 => {}
            1 => text.push_str(", 1 file as its difference"),
            count => text.push_str(&format!(", {count} files as their differences")),
        }
        text.push_str(&format!(", {} of work saved", duration(used.saved_micros)));
        lines.push((Ink::Found, text));
    }
    // That nobody gave what one writes is no news, and who gives results makes what nobody gave.
    let is_news = used.taken > 0 || used.other_files + used.other_system + used.not_had > 0;
    let not_taken = if given.is_none() && is_news {
        used.not_taken()
    } else {
        Vec::new()
    };
    if !not_taken.is_empty() {
        let causes: Vec<String> = not_taken
            .iter()
            .map(|(count, why)| format!("{count} {why}"))
            .collect();
        let text = format!(
            "not found there: {}; `nubrik why TARGET --shared` explains",
            causes.join(", ")
        );
        lines.push((Ink::Faint, text));
    }
    lines
}

/// What was signed long ago, or counts only for some days more.
fn is_getting_old(news: &SharedNews<'_>) -> Vec<(Ink, String)> {
    let old = news.old_heads().into_iter().map(|(name, head, days)| {
        format!(
            "the last head of {head} by {name} is {days} days old: nothing was uploaded since, or newer heads are withheld"
        )
    });
    let mut lines: Vec<(Ink, String)> = old.map(|text| (Ink::Doubt, text)).collect();
    if let Some(days) = news.few_days_left() {
        let text = format!(
            "the list of members is valid for {} more: `nubrik shared add` or `revoke` with --root-key FILE signs it again",
            counted(days, "day")
        );
        lines.push((Ink::Doubt, text));
    }
    lines
}

/// A number of results, for people.
fn results(count: usize) -> String {
    counted(count, "result")
}

/// Lines about what was given, and what was not.
fn given_away(given: &GivenAway) -> Vec<(Ink, String)> {
    let GivenAway {
        published,
        kept_back,
    } = given;
    let mut lines = Vec::new();
    if published.results > 0 {
        let text = format!(
            "{} uploaded to the shared cache: {} for {} of {} contents",
            results(published.results),
            size(published.moved),
            size(published.raw),
            published.contents
        );
        lines.push((Ink::Found, text));
    }
    if published.late > 0 {
        let late = results(published.late);
        let text = format!(
            "{late} not uploaded in time (`wait` in nubrik.toml): the next build uploads them"
        );
        lines.push((Ink::Doubt, text));
    }
    for (why, count) in kept_back {
        let stay = if *count == 1 { "stays" } else { "stay" };
        lines.push((
            Ink::Faint,
            format!("{} {stay} on this machine: {why}", results(*count)),
        ));
    }
    lines
}

/// Says what other machines did, and why some did not.
fn say_workers(console: Console, session: &Session, stream: OutputStream) {
    let Some(elsewhere) = RanElsewhere::of(session) else {
        return;
    };
    if console.is_json() {
        return console.event(&elsewhere);
    }
    let RanElsewhere {
        ran,
        machines,
        refused,
        ..
    } = elsewhere;
    let paint = console.paint(stream);
    let line = |ink: Ink, text: &str| console.line(stream, &labelled(paint, ink, "workers", text));
    let steps = counted(ran, "step");
    let others = match machines {
        // They left meanwhile.
        0 => "workers".to_owned(),
        count => counted(count, "worker"),
    };
    if ran > 0 {
        line(Ink::Found, &format!("{steps} ran on {others}"));
    } else if machines == 0 {
        line(Ink::Faint, "no worker is in this pool now");
    }
    if let Some(why) = refused {
        line(
            Ink::Doubt,
            &format!("some steps were handed back: {}", visible(&why)),
        );
    }
}

/// How a command ends that did what it should: with a failure where the shared cache had to be of
/// use, and was not.
pub fn required(
    console: Console,
    session: &Session,
    is_required: bool,
    exit: Exit,
) -> CommandResult<Exit> {
    let trouble = if is_required && exit == Exit::Done {
        session.shared_trouble()
    } else {
        None
    };
    let Some(trouble) = trouble else {
        return Ok(exit);
    };
    let message =
        format!("the shared cache was of no use, and --require-shared-cache demands it: {trouble}");
    Err(say_wrong(
        console,
        Exit::Own,
        &message,
        &["nubrik shared   shows its state"],
    ))
}

/// Lets a command that builds use the shared cache, or says why it is not used.
pub fn begin(console: Console, session: &mut Session, is_offline: bool) {
    if is_offline && !session.shares_a_folder() {
        return;
    }
    let problem = session
        .use_shared()
        .err()
        .map(|problem| format!("the shared cache is not used: {problem}"));
    let asks = match session.shared() {
        SharedCache::Proposed(settings) => Some(format!(
            "nubrik.toml names a shared cache at {}, which you do not trust yet: nubrik shared",
            settings.place.at
        )),
        SharedCache::None | SharedCache::Used(_) => None,
    };
    if let Some(text) = problem.or(asks) {
        say_notice(console, OutputStream::Error, (Ink::Doubt, "notice"), &text);
    }
    if is_offline {
        return;
    }
    if let Err(why) = session.use_workers() {
        say_notice(
            console,
            OutputStream::Error,
            (Ink::Doubt, "notice"),
            &format!("no worker is available: {why}"),
        );
    }
}
