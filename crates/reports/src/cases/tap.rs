//! The Test Anything Protocol: a line a case, `ok 1 - name` or `not ok 2 - name`.

use nubrik_wording::counted;

use super::{Case, CaseOutcome};
use crate::{Malformed, malformed};

/// Reads a report. Lines that say nothing of cases are passed over, as the protocol demands.
pub(crate) fn read(text: &str) -> Result<Vec<Case>, Malformed> {
    let mut cases: Vec<Case> = Vec::new();
    let mut planned: Option<usize> = None;
    let mut stopped: Option<&str> = None;
    for line in text.lines() {
        if let Some(case) = case(line, cases.len() + 1) {
            cases.push(case);
        } else if let Some(count) = plan(line) {
            planned = Some(count);
        } else if let Some(why) = line.strip_prefix("Bail out!") {
            stopped = Some(why.trim());
            break;
        } else if let Some(case) = cases
            .last_mut()
            .filter(|c| c.outcome == CaseOutcome::Failed)
        {
            // What is below a failure describes it: `# …` or an indented block.
            let said = line
                .strip_prefix('#')
                .or_else(|| line.starts_with("  ").then_some(line));
            let said = said.map(|s| s.strip_prefix("  ").or(s.strip_prefix(' ')).unwrap_or(s));
            if let Some(said) = said.filter(|s| !matches!(s.trim(), "---" | "...")) {
                case.text.push_str(said.trim_end());
                case.text.push('\n');
            }
        }
    }
    if cases.is_empty() && planned.is_none() && stopped.is_none() {
        return Err(malformed(
            "it tells of no case, neither as JUnit XML nor as TAP",
        ));
    }
    let failed = |name: String, text: &str| Case {
        group: String::new(),
        name,
        outcome: CaseOutcome::Failed,
        seconds: None,
        text: text.to_owned(),
    };
    if let Some(why) = stopped {
        cases.push(failed(
            "everything after the last case".to_owned(),
            &format!("stopped: {why}"),
        ));
    } else if let Some(missing) = planned
        .and_then(|n| n.checked_sub(cases.len()))
        .filter(|n| *n > 0)
    {
        let count = counted(missing, "planned case");
        cases.push(failed(count, "the test ended before it came to them"));
    }
    Ok(cases)
}

/// `1..5`, perhaps with a reason after it.
fn plan(line: &str) -> Option<usize> {
    let count = line.strip_prefix("1..")?;
    count.split_whitespace().next()?.parse().ok()
}

fn case(line: &str, number: usize) -> Option<Case> {
    let (ok, rest) = match line.strip_prefix("not ok") {
        Some(rest) => (false, rest),
        None => (true, line.strip_prefix("ok")?),
    };
    if !rest.is_empty() && !rest.starts_with(' ') {
        return None;
    }
    let rest = rest.trim_start();
    let digits = rest
        .find(|c: char| !c.is_ascii_digit())
        .unwrap_or(rest.len());
    let rest = rest[digits..].trim_start();
    let rest = rest.strip_prefix("- ").unwrap_or(rest);
    let (name, directive) = match rest
        .split_once(" # ")
        .or_else(|| rest.strip_prefix("# ").map(|d| ("", d)))
    {
        Some((name, directive)) => (name.trim(), directive.trim()),
        None => (rest.trim(), ""),
    };
    let word = directive
        .split_whitespace()
        .next()
        .unwrap_or("")
        .to_ascii_lowercase();
    // A case that is known to fail, or that is not for this machine, counts as skipped.
    let skipped = word.starts_with("skip") || word.starts_with("todo");
    let outcome = match (skipped, ok) {
        (true, _) => CaseOutcome::Skipped,
        (false, true) => CaseOutcome::Passed,
        (false, false) => CaseOutcome::Failed,
    };
    let name = if name.is_empty() {
        format!("case {number}")
    } else {
        name.replace("\\#", "#")
    };
    let text = if skipped {
        directive.to_owned()
    } else {
        String::new()
    };
    Some(Case {
        group: String::new(),
        name,
        outcome,
        seconds: None,
        text,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn shown(text: &str) -> Vec<String> {
        let cases = read(text).unwrap();
        cases
            .iter()
            .map(|c| format!("{} {}: {}", c.outcome.word(), c.name, c.text.trim_end()))
            .collect()
    }

    #[test]
    fn reads_cases_with_what_is_said_of_failures() {
        let text = "TAP version 13\n1..5\nok 1 - ebb\nnot ok 2 - flow\n  ---\n  wanted: 4.2\n  ...\n# found 4.3\n\
                    ok 3 # SKIP no gauge here\nnot ok 4 - neap # TODO not written\nok\n    ok 1 - inner\n";
        assert_eq!(
            shown(text),
            [
                "passed ebb: ",
                "failed flow: wanted: 4.2\nfound 4.3",
                "skipped case 3: SKIP no gauge here",
                "skipped neap: TODO not written",
                "passed case 5: ",
            ]
        );
    }

    #[test]
    fn what_is_missing_has_failed() {
        assert_eq!(
            shown("1..3\nok 1\n")[1],
            "failed 2 planned cases: the test ended before it came to them"
        );
        assert_eq!(
            shown("1..3\nok 1\nBail out! no water\n")[1],
            "failed everything after the last case: stopped: no water"
        );
        assert_eq!(shown("1..0 # SKIP nothing to do\n"), [""; 0]);
        assert!(read("okay\nnotes\n").is_err());
    }
}
