//! What a person or a program sees of a proposal, and of what became of it.

use std::collections::BTreeMap;

use nubrik_adopt::{
    AdoptedFolder, ComparedEvent, ComparedTarget, DifferenceEvent, OmissionEvent, ProposedEvent,
    Tried, TryKind, TryResult, WantedPinEvent, WatchedEvent, WatchedFolder, WrittenTexts,
};
use nubrik_survey::{Definition, FileChange, Omission, Proposal};
use nubrik_wording::counted;
use similar::{ChangeTag, TextDiff};

use super::super::labelled;
use crate::ui::console::{Console, OutputStream, errln, outln};
use crate::ui::paint::Ink;
use crate::ui::text::{cut, padded, wrapped};

/// Where the output is no terminal, lines are broken here, in columns.
const PLAIN_WIDTH: usize = 160;

/// How many things that are left out are named without being asked.
const LEFT_OUT_SHOWN: usize = 12;

/// Says what languages there are.
pub fn found(console: Console, ground: &AdoptedFolder, proposal: &Proposal) {
    if console.is_json() {
        return;
    }
    let paint = console.paint(OutputStream::Output);
    let counts: Vec<String> = proposal
        .sources
        .iter()
        .map(|(kit, count)| format!("{} of {}", counted(*count, "source"), kit.language()))
        .collect();
    let files = counted(ground.tree.files().len(), "file");
    let text = match counts.is_empty() {
        true if ground.tree.ignored() > 0 => format!(
            "{files}, and no sources of a language that a kit is for; .gitignore hides {} of this folder from nubrik, too",
            counted(ground.tree.ignored(), "entry")
        ),
        true => format!("{files}, and no sources of a language that a kit is for"),
        false => format!("{files}: {}", counts.join(", ")),
    };
    outln!(
        console,
        "{}",
        labelled(paint, Ink::Busy, "looked at", &text)
    );
}

/// Says that a command builds a copy of the folder.
pub fn watching(console: Console, command: &str) {
    if !console.is_json() {
        let paint = console.paint(OutputStream::Error);
        errln!(
            console,
            "{}",
            labelled(
                paint,
                Ink::Busy,
                "watches",
                &format!("{command}, in a copy of this folder")
            )
        );
    }
}

/// Says what a command showed that was watched.
pub fn watched(console: Console, watched: &WatchedFolder, results: usize) {
    if console.is_json() {
        console.event(&WatchedEvent::of(watched, results));
    } else if results == 0 {
        let paint = console.paint(OutputStream::Error);
        let text = format!(
            "{} ran {}; none of them is a compiler of C, C++, Fortran or Java: what follows is of the sources alone",
            watched.build().command,
            counted(watched.build().programs.len(), "program")
        );
        errln!(console, "{}", labelled(paint, Ink::Doubt, "watched", &text));
    }
}

/// Says how what definitions make differs from what the command made that was watched.
pub fn compared(console: Console, command: &str, all: &[ComparedTarget]) {
    if console.is_json() {
        return all
            .iter()
            .for_each(|one| console.event(&ComparedEvent::of(one)));
    }
    let paint = console.paint(OutputStream::Output);
    let columns = paint.width.unwrap_or(PLAIN_WIDTH).saturating_sub(11);
    for one in all.iter().filter(|one| !one.differences.is_empty()) {
        let text = format!("{} {}", one.address, one.differences.join("; it "));
        for (at, line) in wrapped(&text, columns).iter().enumerate() {
            let word = if at == 0 { "differs" } else { "" };
            outln!(console, "{}", labelled(paint, Ink::Doubt, word, line));
        }
    }
    let same = all.iter().filter(|one| one.differences.is_empty()).count();
    if !all.is_empty() {
        let text = format!(
            "{same} of {} results define the same names or have the same bytes as those of {command}",
            all.len()
        );
        outln!(console, "{}", labelled(paint, Ink::Calm, "compared", &text));
    }
}

/// Lists what is proposed.
pub fn proposal(console: Console, ground: &AdoptedFolder, proposal: &Proposal) {
    if console.is_json() {
        ProposedEvent::all(ground, proposal).for_each(|event| console.event(&event));
        proposal
            .pins
            .iter()
            .for_each(|pin| console.event(&WantedPinEvent::of(pin)));
        return left_out(console, &proposal.left_out);
    }
    let paint = console.paint(OutputStream::Output);
    let columns = paint.width.unwrap_or(PLAIN_WIDTH);
    let mut word = "proposes";
    let names: Vec<String> = proposal
        .definitions
        .iter()
        .map(|one| one.address.below(&ground.top))
        .collect();
    let width = names
        .iter()
        .map(|name| name.chars().count())
        .max()
        .unwrap_or(0)
        .min(36);
    for (definition, name) in proposal.definitions.iter().zip(&names) {
        let what = format!("{} {}", padded(name, width), what_it_is(definition));
        outln!(
            console,
            "{}",
            labelled(
                paint,
                Ink::Busy,
                word,
                &cut(&what, columns.saturating_sub(11), "…")
            )
        );
        word = "";
    }
    let mut word = "pins";
    for registry in proposal.registries() {
        let names: Vec<&str> = proposal
            .pins
            .iter()
            .filter(|pin| pin.registry == registry)
            .map(|pin| pin.name.as_str())
            .collect();
        for line in wrapped(
            &format!("{registry}: {}", names.join(", ")),
            columns.saturating_sub(11),
        ) {
            outln!(console, "{}", labelled(paint, Ink::Found, word, &line));
            word = "";
        }
    }
    left_out(console, &proposal.left_out);
}

/// What a definition is, in a few words: its kind, and how many sources it takes.
fn what_it_is(definition: &Definition) -> String {
    let calls = definition.body.calls();
    let count = calls
        .iter()
        .map(|call| call.files("sources").len())
        .sum::<usize>();
    let kind = definition.in_words();
    let sources = if count == 0 {
        String::new()
    } else {
        format!(", {}", counted(count, "source"))
    };
    let needs: Vec<String> = definition
        .needs()
        .into_iter()
        .map(|need| need.name)
        .collect();
    let needs = if needs.is_empty() {
        String::new()
    } else {
        format!(", needs {}", needs.join(", "))
    };
    format!("{kind}{sources}{needs}")
}

/// Says for what nothing is proposed.
pub fn left_out(console: Console, all: &[Omission]) {
    if console.is_json() {
        return all
            .iter()
            .for_each(|one| console.event(&OmissionEvent::of(one)));
    }
    let paint = console.paint(OutputStream::Output);
    let columns = paint.width.unwrap_or(PLAIN_WIDTH).saturating_sub(11);
    let mut word = "leaves";
    // The same reason for many is said once.
    let mut by_reason: BTreeMap<&str, Vec<&str>> = BTreeMap::new();
    for Omission { what, why, .. } in all {
        by_reason.entry(why).or_default().push(what);
    }
    let more = by_reason.len().saturating_sub(LEFT_OUT_SHOWN);
    for (why, what) in by_reason.into_iter().take(LEFT_OUT_SHOWN) {
        let names = match what.as_slice() {
            [first, second, third, rest @ ..] if !rest.is_empty() => {
                format!("{first}, {second}, {third} and {} more", rest.len())
            }
            few => few.join(", "),
        };
        for line in wrapped(&format!("{names}: {why}"), columns) {
            outln!(console, "{}", labelled(paint, Ink::Doubt, word, &line));
            word = "";
        }
    }
    if more > 0 {
        outln!(
            console,
            "{}",
            labelled(
                paint,
                Ink::Faint,
                "",
                &format!("and for {}; --json names all", counted(more, "more reason"))
            )
        );
    }
}

/// Shows the settings that would be written.
pub fn new_settings(console: Console, ground: &AdoptedFolder, settings: &str) {
    if ground.is_workspace {
        return;
    }
    let paint = console.paint(OutputStream::Output);
    let lines = counted(settings.lines().count(), "line");
    outln!(
        console,
        "\n{} {}",
        paint.ink(Ink::Strong, "nubrik.toml"),
        paint.ink(Ink::Faint, &format!("new, {lines} of settings"))
    );
}

/// Shows how a definition file would change.
pub fn difference(console: Console, ground: &AdoptedFolder, change: &FileChange) {
    if console.is_json() {
        return console.event(&DifferenceEvent::of(ground, change));
    }
    let path = ground.path(&change.package, nubrik_lang::TARGETS_FILE);
    let paint = console.paint(OutputStream::Output);
    let before = change.before.clone().unwrap_or_default();
    let what = match change.before {
        None => format!("new, {}", counted(change.after.lines().count(), "line")),
        Some(_) => "changed".to_owned(),
    };
    outln!(
        console,
        "\n{} {}",
        paint.ink(Ink::Strong, &path),
        paint.ink(Ink::Faint, &what)
    );
    let diff = TextDiff::from_lines(&before, &change.after);
    for (n, group) in diff.grouped_ops(2).iter().enumerate() {
        if n > 0 {
            outln!(console, "{}", paint.ink(Ink::Faint, "     ⋮"));
        }
        for line in group.iter().flat_map(|op| diff.iter_changes(op)) {
            let (mark, ink, number) = match line.tag() {
                ChangeTag::Insert => ("+", Ink::Mend, line.new_index()),
                ChangeTag::Delete => ("-", Ink::Wrong, line.old_index()),
                ChangeTag::Equal => (" ", Ink::Faint, line.new_index()),
            };
            let number = number.map_or(String::new(), |number| (number + 1).to_string());
            let number = paint.ink(Ink::Faint, &format!("{number:>4}"));
            let text = line.value().trim_end_matches('\n');
            // Where all is new, colours would say nothing.
            let line = match change.before {
                None => format!("{} {text}", paint.ink(ink, mark)),
                Some(_) => paint.ink(ink, &format!("{mark} {text}")),
            };
            outln!(console, "{number} {}", line.trim_end());
        }
    }
}

/// Says that there is nothing to add, and in how many places definitions and sources differ.
pub fn nothing_new(console: Console, differing: usize) {
    if console.is_json() {
        return;
    }
    if differing == 0 {
        outln!(
            console,
            "\nthe definitions that are here take all of it; nothing to add"
        );
    } else {
        let places = counted(differing, "place");
        outln!(
            console,
            "\nnothing to add; definitions and sources differ in {places}"
        );
        outln!(
            console,
            "nubrik adopt --check says where, and nubrik adopt --update changes what it can"
        );
    }
}

/// Says that nothing was written.
pub fn not_written(console: Console, how: &str) {
    if !console.is_json() {
        outln!(console, "\nnothing was written; {how} writes it");
    }
}

/// Says what was written.
pub fn written(console: Console, ground: &AdoptedFolder, texts: &WrittenTexts) {
    if console.is_json() {
        return;
    }
    let paint = console.paint(OutputStream::Output);
    outln!(console);
    if !ground.is_workspace {
        outln!(
            console,
            "{}",
            labelled(paint, Ink::Busy, "wrote", "nubrik.toml")
        );
    }
    for (package, text) in texts.iter() {
        let path = ground.path(package, nubrik_lang::TARGETS_FILE);
        let lines = counted(text.lines().count(), "line");
        outln!(
            console,
            "{}",
            labelled(paint, Ink::Busy, "wrote", &format!("{path}, {lines}"))
        );
    }
    let pins = nubrik_session::read_pins(&ground.root);
    if pins.is_some() && pins != ground.pins {
        outln!(
            console,
            "{}",
            labelled(paint, Ink::Busy, "wrote", "pins.toml")
        );
    }
}

/// Says how to go on after all is written.
pub fn what_comes_next(console: Console) {
    if !console.is_json() {
        let paint = console.paint(OutputStream::Output);
        let words = "\nnow: nubrik list, then nubrik build and nubrik test; after changes of the sources nubrik adopt --update";
        outln!(console, "{}", paint.ink(Ink::Faint, words));
    }
}

/// Says what became of each definition when it was tried.
pub fn tried(console: Console, tried: &Tried) {
    if console.is_json() {
        return tried.events().for_each(|event| console.event(&event));
    }
    let is_explained = |(address, result): &(&String, &TryResult)| {
        !matches!(result, TryResult::Works) || tried.changes.contains_key(*address)
    };
    let explained = tried
        .results
        .iter()
        .filter(is_explained)
        .map(|(address, _)| address.chars().count());
    let width = explained.max().unwrap_or(0).min(30);
    let mut rows: BTreeMap<TryKind, Vec<(&str, String)>> = BTreeMap::new();
    for (address, result) in &tried.results {
        let (kind, detail) = detail_of(tried, address, result);
        rows.entry(kind).or_default().push((address, detail));
    }
    let paint = console.paint(OutputStream::Output);
    let columns = paint.width.unwrap_or(PLAIN_WIDTH).saturating_sub(11);
    outln!(console);
    for (kind, rows) in rows {
        let (mut word, ink) = look_of(kind);
        let lines: Vec<String> = match kind {
            TryKind::Works => {
                let names: Vec<&str> = rows.iter().map(|(name, _)| *name).collect();
                wrapped(&names.join(", "), columns)
            }
            // A cause is never cut: it goes on below itself.
            _ => rows
                .iter()
                .flat_map(|(name, why)| beside(name, width, why, paint.width))
                .collect(),
        };
        for line in lines.iter().filter(|line| !line.is_empty()) {
            outln!(console, "{}", labelled(paint, ink, word, line));
            word = "";
        }
    }
    let (works, counted_results) = tried.works_and_all();
    let not_tried = tried
        .results
        .values()
        .filter(|result| matches!(result, TryResult::NotTried(_)))
        .count();
    let rest = if not_tried == 0 {
        String::new()
    } else {
        format!("; {not_tried} not tried")
    };
    outln!(
        console,
        "\n{}",
        paint.ink(
            Ink::Strong,
            &format!("{works} of {counted_results} work{rest}")
        )
    );
}

/// What became of a definition, and the cause or the changes, in one line.
fn detail_of(tried: &Tried, address: &str, result: &TryResult) -> (TryKind, String) {
    let (kind, why) = tried.kind_of(address, result);
    let of_many = match tried.counts.get(address) {
        Some((passed, all)) if kind == TryKind::Fails => format!("{passed} of {all} pass; "),
        _ => String::new(),
    };
    let detail = match (kind, why) {
        (TryKind::Mended, _) => tried.changes_of(address).join("; "),
        (_, Some(why)) => format!("{of_many}{}", why.lines().next().unwrap_or_default()),
        _ => String::new(),
    };
    (kind, detail)
}

/// A name with a text beside it, which goes on below where the terminal is too narrow for it.
fn beside(name: &str, width: usize, text: &str, terminal: Option<usize>) -> Vec<String> {
    let room = terminal.map_or(usize::MAX, |columns| {
        columns.saturating_sub(11 + width + 2).max(24)
    });
    let lines = wrapped(text, room);
    let first = |at: usize| {
        if at == 0 {
            padded(name, width)
        } else {
            " ".repeat(width)
        }
    };
    lines
        .iter()
        .enumerate()
        .map(|(at, line)| format!("{}  {line}", first(at)))
        .collect()
}

/// The word for people, and its colour.
fn look_of(kind: TryKind) -> (&'static str, Ink) {
    match kind {
        TryKind::Works => ("works", Ink::Calm),
        TryKind::Mended => ("fixed", Ink::Found),
        TryKind::Fails => ("fails", Ink::Wrong),
        TryKind::Omitted => ("left out", Ink::Doubt),
        TryKind::NotTried => ("not tried", Ink::Faint),
    }
}
