//! `nubrik lint`

use nubrik_answers::NoticeEvent;
use nubrik_diagnostic::Severity;
use nubrik_wording::counted;

use super::{CommandResult, open, report};
use crate::arguments::Choice;
use crate::exit::Exit;
use crate::ui::console::{Console, outln};

pub fn lint(console: Console, choice: &Choice, strict: bool) -> CommandResult<Exit> {
    let mut session = open(console, choice)?;
    let evaluation = super::evaluate_with_all(console, &mut session)?;
    let errors = evaluation
        .diagnostics
        .iter()
        .filter(|d| d.severity == Severity::Error)
        .count();
    let warnings = evaluation.diagnostics.len() - errors;
    report(console, &evaluation.diagnostics, &evaluation.sources);
    // Where a kit itself is wrong, its examples say the same again.
    let tried = if errors == 0 {
        Some(session.try_examples(&evaluation.read))
    } else {
        None
    };
    let (mut errors, mut examples) = (errors, 0);
    if let Some(tried) = tried {
        if !evaluation.diagnostics.is_empty() && !tried.errors.is_empty() && !console.is_json() {
            outln!(console);
        }
        report(console, &tried.errors, &tried.sources);
        errors += tried.errors.len();
        examples = tried.count;
    }
    let targets = evaluation.targets.len();
    let text = match (errors, warnings) {
        (0, 0) => {
            let examples = if examples == 0 {
                String::new()
            } else {
                format!(" and {}", counted(examples, "example"))
            };
            format!(
                "nothing wrong in {} files with {targets} targets{examples}",
                evaluation.read.len()
            )
        }
        (errors, warnings) => {
            format!(
                "{}, {}",
                counted(errors, "error"),
                counted(warnings, "warning")
            )
        }
    };
    if console.is_json() {
        console.event(&NoticeEvent::linted(text));
    } else {
        let gap = if errors + warnings == 0 { "" } else { "\n" };
        outln!(console, "{gap}{text}");
    }
    Ok(if errors > 0 || (strict && warnings > 0) {
        Exit::Definitions
    } else {
        Exit::Done
    })
}
