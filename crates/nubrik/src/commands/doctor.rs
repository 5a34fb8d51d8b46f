//! `nubrik doctor`

use nubrik_answers::{Finding, examine, is_of_machine};
use nubrik_diagnostic::{Diagnostic, Severity};
use nubrik_lang::AddressPattern;
use nubrik_session::Session;
use nubrik_source::WsPath;

use super::{CommandResult, open, report};
use crate::arguments::Choice;
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, out, outln};
use crate::ui::paint::{Ink, Paint};
use crate::ui::step_line::{STATE, below_state};
use crate::ui::text::{padded, width};

pub fn doctor(console: Console, choice: &Choice) -> CommandResult<Exit> {
    let mut session = open(console, choice)?;
    let all = AddressPattern::below(&WsPath::root());
    let once = |session: &Session| session.evaluate(std::slice::from_ref(&all));
    let evaluation = super::as_far_as_known(console, &mut session, once);
    let findings = examine(&mut session, &evaluation);
    show(console, &findings);
    let errors: Vec<Diagnostic> = evaluation
        .diagnostics
        .iter()
        .filter(|d| d.severity == Severity::Error)
        .cloned()
        .collect();
    if !errors.is_empty() {
        if !console.is_json() {
            outln!(console);
        }
        report(console, &errors, &evaluation.sources);
        return Ok(if errors.iter().all(is_of_machine) {
            Exit::Machine
        } else {
            Exit::Definitions
        });
    }
    Ok(
        if findings
            .iter()
            .any(|f| !f.ok && !f.optional && f.what == "tool")
        {
            Exit::Machine
        } else {
            Exit::Done
        },
    )
}

/// Where something is, and what belongs to it.
fn found(finding: &Finding) -> String {
    match finding.counts.len().saturating_sub(1) {
        0 => finding.found.clone(),
        1 => format!("{}, and 1 file that counts with it", finding.found),
        more => format!("{}, and {more} files that count with it", finding.found),
    }
}

fn show(console: Console, findings: &[Finding]) {
    if console.is_json() {
        return findings.iter().for_each(|finding| console.event(finding));
    }
    let paint: Paint = console.paint(OutputStream::Output);
    let widest = |f: &dyn Fn(&Finding) -> usize| findings.iter().map(f).max().unwrap_or(0);
    let (names, kinds) = (widest(&|f| width(&f.name)), widest(&|f| f.what.len()));
    let versions = widest(&|f| f.version.as_deref().map_or(0, width));
    let mut searched: Option<&Vec<String>> = None;
    for finding in findings {
        let (word, ink) = match (finding.ok, finding.what) {
            (true, _) => ("there", Ink::Calm),
            _ if finding.optional => ("optional", Ink::Faint),
            (false, "worker") => ("differs", Ink::Doubt),
            (false, "jobs") => ("unknown", Ink::Doubt),
            (false, _) => ("missing", Ink::Wrong),
        };
        let found = found(finding);
        let used = STATE + kinds + 2 + names + 2 + versions + 2;
        let is_beside = paint.width.is_none_or(|w| used + width(&found) < w);
        let line = format!(
            "{}{}  {}  {}  {}",
            paint.ink(ink, &format!("{word:<STATE$}")),
            paint.ink(Ink::Faint, &padded(finding.what, kinds)),
            padded(&finding.name, names),
            padded(finding.version.as_deref().unwrap_or(""), versions),
            paint.ink(Ink::Faint, if is_beside { &found } else { "" }),
        );
        outln!(console, "{}", line.trim_end());
        if !is_beside {
            out!(console, "{}", below_state(paint, &found));
        }
        if !finding.ok {
            // The same folders are named once.
            let is_news = searched.replace(&finding.searched) != Some(&finding.searched);
            show_lacking(console, paint, finding, is_news);
        }
    }
    if findings.iter().any(|f| !f.counts.is_empty()) {
        let text = "not counted: what else tools load or start, such as plugins and modules; `nubrik build --observe TARGET` names it";
        outln!(
            console,
            "\n{}",
            paint.in_lines(0, text, |line| paint.ink(Ink::Faint, line))
        );
    }
}

/// Says what was looked for where something is missing, and what to do. `is_news` says whether the
/// folders are other ones than before.
fn show_lacking(console: Console, paint: Paint, finding: &Finding, is_news: bool) {
    let line = |label: &str, text: &str, ink: Option<Ink>| {
        let text = paint.in_lines(12, text, |line| {
            ink.map_or(line.to_owned(), |ink| paint.ink(ink, line))
        });
        let label = paint.ink(Ink::Calm, &format!("{label:<8}"));
        outln!(console, "  {label}  {text}");
    };
    if !finding.searched.is_empty() && is_news {
        let word = match finding.what {
            "worker" => "differs",
            "jobs" | "watcher" => "because",
            _ => "searched",
        };
        line(word, &finding.searched.join(", "), None);
    }
    if let Some(mend) = &finding.mend {
        line("try", mend, Some(Ink::Mend));
    }
}
