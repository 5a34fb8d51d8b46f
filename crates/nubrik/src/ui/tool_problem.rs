//! Tools that cannot be used.

use nubrik_engine::ToolProblem;

/// What else there is to know of a tool that cannot be used, and what to do.
pub fn tool_readings(problem: &ToolProblem) -> Vec<(&'static str, String)> {
    let mut lines = Vec::new();
    match problem.unanswered {
        Some(_) => lines.push(("try", "run these words by hand, and build again when they end".to_owned())),
        None => lines.push(("searched", problem.searched.join(", "))),
    }
    lines.extend(problem.mend.iter().map(|mend| ("try", mend.clone())));
    lines
}
