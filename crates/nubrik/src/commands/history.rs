//! `nubrik history`

use std::collections::BTreeMap;

use nubrik_session::{BuildRecord, Session, SharedRecord};
use nubrik_wording::{ago, counted, duration, size};
use serde::Serialize;

use super::{CommandResult, open, say_wrong, say_wrong_noted};
use crate::arguments::Choice;
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, out};
use crate::ui::json;
use crate::ui::paint::{Ink, Paint};
use crate::ui::step_line::{Columns, StepRow};
use crate::ui::text::{cut, padded, width};

/// How many steps that took the most time are named.
const DEAREST: usize = 3;

#[derive(Serialize)]
struct BuildEvent {
    event: &'static str,
    #[serde(flatten)]
    record: serde_json::Value,
}

impl BuildEvent {
    /// The event about a build. Its times are seconds, as in all events; the record on disk has microseconds.
    fn of(record: &BuildRecord) -> BuildEvent {
        let mut record = serde_json::to_value(record).unwrap_or_default();
        in_seconds(&mut record);
        BuildEvent { event: "build", record }
    }
}

/// Fields of records in microseconds, and what they are called in seconds.
const TIMES: [(&str, &str); 3] =
    [("micros", "seconds"), ("from", "from_seconds"), ("saved_micros", "saved_seconds")];

/// Turns the times of a record, and of all that is in it, to seconds.
fn in_seconds(value: &mut serde_json::Value) {
    match value {
        serde_json::Value::Array(items) => items.iter_mut().for_each(in_seconds),
        serde_json::Value::Object(fields) => {
            for (micros, seconds) in TIMES {
                let found = fields.remove(micros).and_then(|found| found.as_f64());
                if let Some(found) = found {
                    fields.insert(seconds.to_owned(), json::rounded(found / 1e6).into());
                }
            }
            fields.values_mut().for_each(in_seconds);
        }
        _ => {}
    }
}

pub fn history(console: Console, choice: &Choice, number: Option<u64>) -> CommandResult<Exit> {
    let session = open(console, choice)?;
    let paint = console.paint(OutputStream::Output);
    if let Some(number) = number {
        let record = find(console, &session, Some(number))?;
        if console.is_json() {
            console.event(&BuildEvent::of(&record));
        } else {
            out!(console, "{}", one(&record, paint));
        }
        return Ok(Exit::Done);
    }
    let records = session.history();
    if console.is_json() {
        for record in &records {
            let record = BuildRecord { done: Vec::new(), ..record.clone() };
            console.event(&BuildEvent::of(&record));
        }
    } else {
        out!(console, "{}", all(&records, paint));
    }
    Ok(Exit::Done)
}

/// The build with a number, or the last one.
pub fn find(console: Console, session: &Session, number: Option<u64>) -> CommandResult<BuildRecord> {
    let mut records = session.history();
    let found = match number {
        None => records.pop(),
        Some(number) => records.iter().find(|r| r.build == number).cloned(),
    };
    found.ok_or_else(|| match (number, records.last()) {
        (Some(number), Some(last)) => {
            let (message, note) = match number < last.build {
                true => (format!("build {number} had nothing to do, or is too long ago"), kept(&records)),
                false => (format!("there is no build {number} yet"), kept(&records)),
            };
            let mend = format!("nubrik history {}", last.build);
            say_wrong_noted(console, Exit::Usage, &message, &[&note], Some(&mend))
        }
        _ => say_wrong(console, Exit::Usage, "nothing was built here yet", &["nubrik build"]),
    })
}

/// So many runs of numbers are named.
const RUNS: usize = 6;

/// Which builds are kept: `builds 1, 2, 6 to 9 are kept`.
fn kept(records: &[BuildRecord]) -> String {
    let mut runs: Vec<(u64, u64)> = Vec::new();
    for build in records.iter().map(|record| record.build) {
        match runs.last_mut() {
            Some((_, last)) if *last + 1 == build => *last = build,
            _ => runs.push((build, build)),
        }
    }
    let shown = &runs[runs.len().saturating_sub(RUNS)..];
    let named = shown.iter().map(|(first, last)| match last - first {
        0 => first.to_string(),
        1 => format!("{first}, {last}"),
        _ => format!("{first} to {last}"),
    });
    let before = if shown.len() < runs.len() { "earlier ones, " } else { "" };
    let verb = if records.len() == 1 { "build" } else { "builds" };
    let are = if records.len() == 1 { "is" } else { "are" };
    format!("{verb} {before}{} {are} kept", named.collect::<Vec<String>>().join(", "))
}

fn all(records: &[BuildRecord], paint: Paint) -> String {
    if records.is_empty() {
        return "nothing was built here yet\n".to_owned();
    }
    let mut out = String::new();
    let head = format!(
        "{:>5}  {:<12}{:>8}{:>8}{:>8}{:>8}  asked for",
        "build", "when", "took", "ran", "reused", "failed"
    );
    out.push_str(&paint.ink(Ink::Calm, &head));
    out.push('\n');
    for record in records {
        let failed = format!("{:>8}", record.counts.failed);
        let failed = if record.counts.failed > 0 { paint.ink(Ink::Wrong, &failed) } else { failed };
        let mut what = record.request();
        if record.cancelled {
            what.push_str(", stopped");
        }
        let used = 5 + 2 + 12 + 4 * 8 + 2;
        let what = paint
            .width
            .map_or(what.clone(), |w| cut(&what, w.saturating_sub(used + 1), paint.glyph("…", "...")));
        out.push_str(&format!(
            "{:>5}  {:<12}{:>8}{:>8}{:>8}{failed}  {what}\n",
            record.build,
            ago(record.age().as_secs()),
            duration(record.micros),
            record.counts.ran,
            record.counts.reused,
        ));
    }
    let has_gap = records.windows(2).any(|pair| pair[0].build.abs_diff(pair[1].build) > 1);
    if has_gap {
        out.push_str(&paint.ink(Ink::Faint, "builds with nothing to do are left out"));
        out.push('\n');
    }
    out.push_str(&dearest(records, paint));
    out
}

/// The steps on which most time went in all builds together.
fn dearest(records: &[BuildRecord], paint: Paint) -> String {
    let mut sums: BTreeMap<(&str, &str), (u64, usize)> = BTreeMap::new();
    for step in records.iter().flat_map(|r| &r.done).filter(|s| s.micros > 0) {
        let sum = sums.entry((&step.target, &step.say)).or_default();
        *sum = (sum.0 + step.micros, sum.1 + 1);
    }
    let mut sums: Vec<_> = sums.into_iter().collect();
    sums.sort_by_key(|(_, (micros, _))| std::cmp::Reverse(*micros));
    sums.truncate(DEAREST);
    let targets = sums.iter().map(|((target, _), _)| width(target)).max().unwrap_or(0);
    let mut out = String::new();
    for (number, ((target, say), (micros, runs))) in sums.into_iter().enumerate() {
        let label = if number == 0 { "\nmost time" } else { "" };
        let runs = counted(runs, "run");
        let text = format!("{:>8} in {runs:<8}  {}   {say}", duration(micros), padded(target, targets));
        let text =
            paint.width.map_or(text.clone(), |w| cut(&text, w.saturating_sub(12), paint.glyph("…", "...")));
        let gap = if number == 0 { 11 } else { 10 };
        out.push_str(&format!("{}{text}\n", paint.ink(Ink::Calm, &format!("{label:<gap$}"))));
    }
    out
}

fn one(record: &BuildRecord, paint: Paint) -> String {
    let mut out = format!(
        "{}\n",
        paint.ink(
            Ink::Strong,
            &format!("build {}, {}, {}", record.build, ago(record.age().as_secs()), record.request())
        )
    );
    let columns = Columns::of_rows(record.done.iter().map(|step| (&*step.target, &*step.say)));
    for step in &record.done {
        let ink = match step.state.as_str() {
            "failed" => Ink::Wrong,
            "ran" => Ink::Busy,
            "reused" => Ink::Found,
            "blocked" => Ink::Doubt,
            _ => Ink::Faint,
        };
        let took = if step.micros > 0 { duration(step.micros) } else { String::new() };
        let why = step.failure.as_ref().unwrap_or(&step.reason);
        let why = match &step.machine {
            Some(machine) => format!("on {machine}: {why}"),
            None => why.clone(),
        };
        let word = (&*step.state, ink);
        let row = StepRow {
            word,
            target: &step.target,
            say: &step.say,
            took: &took,
            why: &why,
            needs_reason: matches!(&*step.state, "failed" | "blocked"),
        };
        out.push_str(&columns.lines(paint, row));
    }
    out.push_str(&format!("\n{}. {}\n", record.counts.sentence(), duration(record.micros)));
    if let Some(shared) = record.shared.filter(|shared| *shared != SharedRecord::default()) {
        let mut text = format!(
            "{} results taken from the shared cache: {} downloaded, {} of work saved",
            shared.taken,
            size(shared.moved),
            duration(shared.saved_micros)
        );
        for (count, why) in shared.not_taken() {
            text.push_str(&format!("; not taken: {count} {why}"));
        }
        out.push_str(&format!("{text}\n"));
    }
    out
}
