//! What a build says of the shared cache and of other machines.

use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

use nubrik_graph::{FileId, Graph};
use nubrik_session::{GivenAway, Session, SharedCache, SharedRecord};
use nubrik_shared::{SharedStore, SharedTrouble, Traffic};
use nubrik_wording::{counted, duration, size};
use serde::Serialize;

use super::{CommandResult, labelled, say_wrong};
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream};
use crate::ui::json;
use crate::ui::paint::Ink;
use crate::ui::visible::visible;

/// So long the end of a build waits until what it downloaded is copied to the mirror.
const COPYING: Duration = Duration::from_secs(2);

/// A head of this age may be withheld by whoever has the shared cache.
const OLD: Duration = Duration::from_secs(7 * 86_400);

/// Steps that ran, by why nothing was taken for them.
#[derive(Serialize, Default)]
struct NotTakenCounts {
    unknown: usize,
    other_files: usize,
    other_system: usize,
    not_had: usize,
}

/// What other machines did for a build.
#[derive(Serialize)]
struct WorkersEvent<'a> {
    event: &'static str,
    ran: usize,
    machines: usize,
    #[serde(skip_serializing_if = "Option::is_none")]
    refused: Option<&'a str>,
}

/// What a build took from a shared cache, or gave.
#[derive(Serialize, Default)]
struct SharedEvent<'a> {
    event: &'static str,
    downloaded: usize,
    /// Results that are known, and whose contents nothing needed.
    not_downloaded: usize,
    /// Why steps ran.
    not_used: NotTakenCounts,
    uploaded: usize,
    /// Results that were not uploaded in time.
    not_uploaded: usize,
    /// Files that came as what differs from others.
    differences: u64,
    /// Results that stay on this machine.
    local_only: usize,
    requests: u64,
    moved_bytes: u64,
    /// What of that came from the mirror.
    mirror_bytes: u64,
    /// What was copied to the mirror.
    copied_bytes: u64,
    content_bytes: u64,
    saved_seconds: f64,
    #[serde(skip_serializing_if = "Option::is_none")]
    trouble: Option<&'a str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    mirror_trouble: Option<&'a str>,
}

/// A number of days, for people.
pub fn days_left(days: usize) -> String {
    counted(days, "day")
}

/// Before so many days are left, nothing is said of the end of a list of members.
pub const SOON: usize = 30;

/// Seconds since 1970.
pub fn now() -> u64 {
    SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |now| now.as_secs())
}

/// How many whole days a list of members counts from now.
pub fn until_expiry(expires: u64) -> usize {
    usize::try_from(expires.saturating_sub(now()) / (24 * 3600)).unwrap_or(usize::MAX)
}

/// How long ago something was, in seconds since 1970.
pub fn age(when: u64) -> Duration {
    Duration::from_secs(now().saturating_sub(when))
}

/// Whether a head is so old that newer ones may be withheld.
pub fn is_old(when: u64) -> bool {
    age(when) > OLD
}

/// Gives what was made to the shared cache, where this machine writes there, and says what was taken and given.
pub fn conclude(
    console: Console,
    session: &Session,
    made: Option<(&Graph, &[FileId])>,
    stream: OutputStream,
) {
    let SharedCache::Used(store) = session.shared() else { return };
    let given = made.map(|(graph, files)| session.give(graph, files)).transpose();
    let (given, failed) = match given {
        Ok(given) => (given.flatten(), None),
        Err(trouble) => (None, Some(trouble)),
    };
    store.finish_copies(Instant::now() + COPYING);
    let (used, traffic) = (session.shared_use().unwrap_or_default(), store.traffic());
    let trouble: Option<SharedTrouble> = failed.or_else(|| store.trouble());
    let trouble = trouble.map(|trouble| trouble.to_string());
    let mirror = store.mirror_place();
    let news = SharedNews { store: &store, used: &used, traffic, given: given.as_ref(), trouble, mirror };
    if !console.is_json() {
        let paint = console.paint(stream);
        let lines = news.lines();
        lines.iter().for_each(|(ink, text)| console.line(stream, &labelled(paint, *ink, "shared", text)));
    } else if traffic.requests > 0 {
        console.event(&news.event());
    }
    say_workers(console, session, stream);
}

/// What a build had of a shared cache.
struct SharedNews<'a> {
    store: &'a SharedStore,
    used: &'a SharedRecord,
    traffic: Traffic,
    /// What it gave, if it gives.
    given: Option<&'a GivenAway>,
    trouble: Option<String>,
    /// Where its mirror is, and what went wrong with that.
    mirror: Option<(String, Option<String>)>,
}

impl SharedNews<'_> {
    /// The same for programs.
    fn event(&self) -> SharedEvent<'_> {
        let SharedNews { store: _, used, traffic, given, trouble, mirror } = self;
        let published = given.map(|given| &given.published);
        SharedEvent {
            event: "shared",
            downloaded: used.taken,
            not_downloaded: used.away,
            not_used: NotTakenCounts {
                unknown: used.unknown,
                other_files: used.other_files,
                other_system: used.other_system,
                not_had: used.not_had,
            },
            uploaded: published.map_or(0, |published| published.results),
            not_uploaded: published.map_or(0, |published| published.late),
            differences: traffic.differences,
            local_only: given.map_or(0, |given| given.kept_back.iter().map(|(_, count)| count).sum()),
            requests: traffic.requests,
            moved_bytes: traffic.moved + published.map_or(0, |published| published.moved),
            mirror_bytes: traffic.mirror.moved,
            copied_bytes: traffic.mirror.copied,
            content_bytes: traffic.raw + published.map_or(0, |published| published.raw),
            saved_seconds: json::rounded(used.saved_micros as f64 / 1e6),
            trouble: trouble.as_deref(),
            mirror_trouble: mirror.as_ref().and_then(|(_, trouble)| trouble.as_deref()),
        }
    }

    /// Lines for people.
    fn lines(&self) -> Vec<(Ink, String)> {
        let mut lines = self.taken();
        lines.extend(self.given.into_iter().flat_map(given_away));
        if self.traffic.requests > 0 {
            lines.extend(self.is_getting_old());
        }
        if let Some(trouble) = &self.trouble {
            let rests = matches!(self.store.trouble(), Some(SharedTrouble::Resting(_)));
            let is_off = self.store.is_off() && !rests;
            let off = if is_off { "; it is not asked any more in this build" } else { "" };
            let text = format!("the shared cache at {}: {trouble}{off}", self.store.place());
            lines.push((Ink::Doubt, text));
        }
        if self.traffic.mirror.copied > 0 {
            lines.push((Ink::Faint, format!("{} copied to the mirror", size(self.traffic.mirror.copied))));
        }
        if let Some((place, Some(trouble))) = &self.mirror {
            let text =
                format!("the mirror at {place}: {trouble}; what it did not give came from the shared cache");
            lines.push((Ink::Doubt, text));
        }
        lines
    }

    /// What was taken, and why nothing was taken for other steps.
    fn taken(&self) -> Vec<(Ink, String)> {
        let SharedNews { used, traffic, given, .. } = self;
        let mut lines = Vec::new();
        if used.taken > 0 {
            let mut text = format!("{} taken from the shared cache", results(used.taken));
            if used.away > 0 {
                text.push_str(&format!(", {} of them not downloaded", used.away));
            }
            text.push_str(&format!(": {} downloaded", size(traffic.moved)));
            if traffic.mirror.moved > 0 {
                text.push_str(&format!(", {} of that from the mirror", size(traffic.mirror.moved)));
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
        let not_taken = if given.is_none() && is_news { used.not_taken() } else { Vec::new() };
        if !not_taken.is_empty() {
            let causes: Vec<String> = not_taken.iter().map(|(count, why)| format!("{count} {why}")).collect();
            let text =
                format!("not found there: {}; `nubrik why TARGET --shared` explains", causes.join(", "));
            lines.push((Ink::Faint, text));
        }
        lines
    }

    /// What was signed long ago, or counts only for some days more.
    fn is_getting_old(&self) -> Vec<(Ink, String)> {
        let (_, heads) = self.store.known();
        let old = heads.iter().filter(|(_, _, when)| is_old(*when)).map(|(name, head, when)| {
            let days = age(*when).as_secs() / 86_400;
            format!(
                "the last head of {head} by {name} is {days} days old: nothing was uploaded since, or newer heads are withheld"
            )
        });
        let mut lines: Vec<(Ink, String)> = old.map(|text| (Ink::Doubt, text)).collect();
        let expires = self.store.members().expires;
        if expires > 0 && until_expiry(expires) <= SOON {
            let days = days_left(until_expiry(expires));
            let text = format!(
                "the list of members is valid for {days} more: `nubrik shared add` or `revoke` with --root-key FILE signs it again"
            );
            lines.push((Ink::Doubt, text));
        }
        lines
    }
}

/// A number of results, for people.
fn results(count: usize) -> String {
    counted(count, "result")
}

/// Lines about what was given, and what was not.
fn given_away(given: &GivenAway) -> Vec<(Ink, String)> {
    let GivenAway { published, kept_back } = given;
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
        let text =
            format!("{late} not uploaded in time (`wait` in nubrik.toml): the next build uploads them");
        lines.push((Ink::Doubt, text));
    }
    for (why, count) in kept_back {
        let stay = if *count == 1 { "stays" } else { "stay" };
        lines.push((Ink::Faint, format!("{} {stay} on this machine: {why}", results(*count))));
    }
    lines
}

/// Says what other machines did, and why some did not.
fn say_workers(console: Console, session: &Session, stream: OutputStream) {
    let Some(crew) = session.crew() else { return };
    let (ran, machines, refused) = (session.ran_elsewhere(), crew.present().len(), crew.refused());
    if console.is_json() {
        return console.event(&WorkersEvent { event: "workers", ran, machines, refused: refused.as_deref() });
    }
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
        line(Ink::Doubt, &format!("some steps were handed back: {}", visible(&why)));
    }
}

/// How a command ends that did what it should: with a failure where the shared cache had to be of use, and was not.
pub fn required(console: Console, session: &Session, is_required: bool, exit: Exit) -> CommandResult<Exit> {
    let trouble = if is_required && exit == Exit::Done { session.shared_trouble() } else { None };
    let Some(trouble) = trouble else { return Ok(exit) };
    let message = format!("the shared cache was of no use, and --require-shared-cache demands it: {trouble}");
    Err(say_wrong(console, Exit::Own, &message, &["nubrik shared   shows its state"]))
}

/// Lets a command that builds use the shared cache, or says why it is not used.
pub fn begin(console: Console, session: &mut Session, is_offline: bool) {
    if is_offline && !session.shares_a_folder() {
        return;
    }
    let problem =
        session.use_shared().err().map(|problem| format!("the shared cache is not used: {problem}"));
    let asks = match session.shared() {
        SharedCache::Proposed(settings) => Some(format!(
            "nubrik.toml names a shared cache at {}, which you do not trust yet: nubrik shared",
            settings.place.at
        )),
        SharedCache::None | SharedCache::Used(_) => None,
    };
    if let Some(text) = problem.or(asks) {
        notice(console, &text);
    }
    if is_offline {
        return;
    }
    if let Err(why) = session.use_workers() {
        notice(console, &format!("no worker is available: {why}"));
    }
}

fn notice(console: Console, text: &str) {
    if console.is_json() {
        return console.event(&json::NoticeEvent { event: "notice", text: text.to_owned() });
    }
    let paint = console.paint(OutputStream::Error);
    crate::ui::console::errln!(console, "{}", labelled(paint, Ink::Doubt, "notice", text));
}
