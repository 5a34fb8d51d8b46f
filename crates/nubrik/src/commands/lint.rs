//! `nubrik lint`

use nubrik_diagnostic::Severity;

use super::{Outcome, open, report};
use crate::arguments::{Choice, Face};
use crate::exit::Exit;
use crate::ui::json;
use crate::ui::out::outln;

pub fn lint(face: Face, choice: &Choice) -> Outcome<Exit> {
    let mut session = open(face, choice)?;
    let evaluation = super::evaluate_with_all(face, &mut session)?;
    let errors = evaluation.diagnostics.iter().filter(|d| d.severity == Severity::Error).count();
    let warnings = evaluation.diagnostics.len() - errors;
    report(face, &evaluation.diagnostics, &evaluation.sources);
    let targets = evaluation.targets.len();
    let text = match (errors, warnings) {
        (0, 0) => format!("nothing wrong in {} files with {targets} targets", evaluation.read.len()),
        (errors, warnings) => {
            let plural = |n: usize, word: &str| format!("{n} {word}{}", if n == 1 { "" } else { "s" });
            format!("{}, {}", plural(errors, "error"), plural(warnings, "warning"))
        }
    };
    if face.json {
        json::print(&json::NoticeEvent { event: "linted", text });
    } else {
        let gap = if evaluation.diagnostics.is_empty() { "" } else { "\n" };
        outln!("{gap}{text}");
    }
    Ok(if errors > 0 { Exit::Definitions } else { Exit::Done })
}
