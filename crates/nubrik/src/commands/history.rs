//! `nubrik history`

use nubrik_answers::{BuildEvent, StepTime, dearest, kept_builds};
use nubrik_session::{BuildRecord, Session, SharedRecord};
use nubrik_wording::{ago, counted, duration, size};

use super::{CommandResult, open, say_wrong, say_wrong_noted};
use crate::arguments::Choice;
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, out};
use crate::ui::paint::{Ink, Paint};
use crate::ui::step_line::{Columns, StepRow};
use crate::ui::text::{cut, padded, width};

/// How many steps that took the most time are named.
const DEAREST: usize = 3;

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
            console.event(&BuildEvent::of_all_but_steps(record));
        }
    } else {
        out!(console, "{}", all(&records, paint));
    }
    Ok(Exit::Done)
}

/// The build with a number, or the last one.
pub fn find(
    console: Console,
    session: &Session,
    number: Option<u64>,
) -> CommandResult<BuildRecord> {
    let mut records = session.history();
    let found = match number {
        None => records.pop(),
        Some(number) => records.iter().find(|r| r.build == number).cloned(),
    };
    found.ok_or_else(|| match (number, records.last()) {
        (Some(number), Some(last)) => {
            let (message, note) = match number < last.build {
                true => (
                    format!("build {number} had nothing to do, or is too long ago"),
                    kept_builds(&records),
                ),
                false => (
                    format!("there is no build {number} yet"),
                    kept_builds(&records),
                ),
            };
            let mend = format!("nubrik history {}", last.build);
            say_wrong_noted(console, Exit::Usage, &message, &[&note], Some(&mend))
        }
        _ => say_wrong(
            console,
            Exit::Usage,
            "nothing was built here yet",
            &["nubrik build"],
        ),
    })
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
        let failed = if record.counts.failed > 0 {
            paint.ink(Ink::Wrong, &failed)
        } else {
            failed
        };
        let mut what = record.request();
        if record.cancelled {
            what.push_str(", stopped");
        }
        let used = 5 + 2 + 12 + 4 * 8 + 2;
        let what = paint.width.map_or(what.clone(), |w| {
            cut(&what, w.saturating_sub(used + 1), paint.glyph("…", "..."))
        });
        out.push_str(&format!(
            "{:>5}  {:<12}{:>8}{:>8}{:>8}{failed}  {what}\n",
            record.build,
            ago(record.age().as_secs()),
            duration(record.micros),
            record.counts.ran,
            record.counts.reused,
        ));
    }
    let has_gap = records
        .windows(2)
        .any(|pair| pair[0].build.abs_diff(pair[1].build) > 1);
    if has_gap {
        out.push_str(&paint.ink(Ink::Faint, "builds with nothing to do are left out"));
        out.push('\n');
    }
    out.push_str(&most_time(records, paint));
    out
}

/// The steps on which most time went in all builds together.
fn most_time(records: &[BuildRecord], paint: Paint) -> String {
    let steps = dearest(records, DEAREST);
    let targets = steps
        .iter()
        .map(|step| width(step.target))
        .max()
        .unwrap_or(0);
    let mut out = String::new();
    for (
        number,
        StepTime {
            target,
            say,
            micros,
            runs,
        },
    ) in steps.into_iter().enumerate()
    {
        let label = if number == 0 { "\nmost time" } else { "" };
        let runs = counted(runs, "run");
        let text = format!(
            "{:>8} in {runs:<8}  {}   {say}",
            duration(micros),
            padded(target, targets)
        );
        let text = paint.width.map_or(text.clone(), |w| {
            cut(&text, w.saturating_sub(12), paint.glyph("…", "..."))
        });
        let gap = if number == 0 { 11 } else { 10 };
        out.push_str(&format!(
            "{}{text}\n",
            paint.ink(Ink::Calm, &format!("{label:<gap$}"))
        ));
    }
    out
}

fn one(record: &BuildRecord, paint: Paint) -> String {
    let (age, request) = (ago(record.age().as_secs()), record.request());
    let title = format!("build {}, {age}, {request}", record.build);
    let mut out = format!("{}\n", paint.ink(Ink::Strong, &title));
    let columns = Columns::of_rows(record.done.iter().map(|step| (&*step.target, &*step.say)));
    for step in &record.done {
        let ink = match step.state.as_str() {
            "failed" => Ink::Wrong,
            "ran" => Ink::Busy,
            "reused" => Ink::Found,
            "blocked" => Ink::Doubt,
            _ => Ink::Faint,
        };
        let took = if step.micros > 0 {
            duration(step.micros)
        } else {
            String::new()
        };
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
    out.push_str(&format!(
        "\n{}. {}\n",
        record.counts.sentence(),
        duration(record.micros)
    ));
    let shared = record.shared;
    if let Some(shared) = shared.filter(|shared| *shared != SharedRecord::default()) {
        out.push_str(&of_shared(&shared));
    }
    out
}

/// What a build had of the shared cache, in a line.
fn of_shared(shared: &SharedRecord) -> String {
    let (moved, saved) = (size(shared.moved), duration(shared.saved_micros));
    let mut text = format!(
        "{} results taken from the shared cache: {moved} downloaded, {saved} of work saved",
        shared.taken
    );
    for (count, why) in shared.not_taken() {
        text.push_str(&format!("; not taken: {count} {why}"));
    }
    text + "\n"
}
