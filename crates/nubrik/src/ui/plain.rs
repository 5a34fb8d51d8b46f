//! Messages with `--plain`: one line each in the form `file:line:column: error: text`, which
//! editors and continuous integration read (GNU Coding Standards, "Formatting Error Messages");
//! details are indented below.

use std::path::Path;
use std::sync::OnceLock;

use nubrik_diagnostic::{Diagnostic, Severity};
use nubrik_source::{Sources, Span};

/// What leads from the folder in which the program was started to the workspace's root: editors
/// open files from there.
static TO_ROOT: OnceLock<String> = OnceLock::new();

/// Has places named from a folder, and no more from the workspace's root.
pub fn name_places_from(here: &Path, root: &Path) {
    let _ = TO_ROOT.set(way_to(here, root));
}

/// The beginning of paths that lead from a folder to what is below the root: empty at the root,
/// `../` in a folder of it, and the root's own path elsewhere.
fn way_to(here: &Path, root: &Path) -> String {
    match here.strip_prefix(root) {
        Ok(below) => "../".repeat(below.components().count()),
        Err(_) => format!("{}/", root.display()),
    }
}

/// A file's name as an editor finds it. Shipped kits are no files.
fn named(file: &str) -> String {
    let is_own = !file.starts_with('/') && !file.starts_with("nub:") && !file.starts_with('<');
    let way = TO_ROOT.get().filter(|_| is_own).map_or("", String::as_str);
    format!("{way}{file}")
}

/// The line about an error whose place, `file:line`, is known.
pub fn error_at(place: &str, text: &str) -> String {
    format!("{}: error: {}", named(place), in_one_line(text))
}

/// A diagnostic about a line that is known without its text.
pub fn diagnostic_at(place: &str, diagnostic: &Diagnostic) -> String {
    format!(
        "{}\n{}",
        error_at(place, &diagnostic.message),
        details(diagnostic)
    )
}

/// A diagnostic: its line, and below it what else there is to see, facts, and what to try.
pub fn diagnostic(diagnostic: &Diagnostic, sources: &Sources) -> String {
    let place = diagnostic.span.map_or("nubrik".to_owned(), |span| {
        let at = sources.line_column(span.file, span.start);
        format!(
            "{}:{}:{}",
            named(sources.name(span.file)),
            at.line,
            at.column
        )
    });
    let word = match diagnostic.severity {
        Severity::Error => "error",
        Severity::Warning => "warning",
    };
    let code = diagnostic
        .span
        .map_or(String::new(), |_| format!(" ({})", diagnostic.code));
    let mut out = format!(
        "{place}: {word}: {}{code}\n",
        in_one_line(&diagnostic.message)
    );
    let line = |span: Span| format!("{}:{}", named(sources.name(span.file)), sources.line(span));
    for related in &diagnostic.related {
        out.push_str(&format!(
            "  {}: {}\n",
            line(related.span),
            in_one_line(&related.message)
        ));
    }
    out + &details(diagnostic)
}

/// Facts and what to try.
fn details(diagnostic: &Diagnostic) -> String {
    let notes = diagnostic
        .notes
        .iter()
        .map(|note| format!("  note: {}\n", in_one_line(note)));
    let mends = diagnostic
        .mends
        .iter()
        .map(|mend| format!("  try: {}\n", in_one_line(mend)));
    notes.chain(mends).collect()
}

fn in_one_line(text: &str) -> String {
    text.lines().map(str::trim).collect::<Vec<_>>().join(" ")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_are_named_from_where_the_program_was_started() {
        let root = Path::new("/home/skerrin/isles");
        assert_eq!(way_to(root, root), "");
        assert_eq!(way_to(&root.join("tide/pages"), root), "../../");
        assert_eq!(
            way_to(Path::new("/home/skerrin"), root),
            "/home/skerrin/isles/"
        );
    }

    #[test]
    fn each_message_is_a_line_with_its_place() {
        let mut sources = Sources::default();
        let file = sources.add(
            "tide/targets.nub",
            "let strict = 1\nlet a = harmonic\n".into(),
        );
        let error = Diagnostic::error("unknown-name", "`harmonic` is not\n  defined here")
            .at(Span::new(file, 23, 31))
            .related(Span::new(file, 4, 10), "declared here")
            .note("a fact")
            .mend("strict");
        assert_eq!(
            diagnostic(&error, &sources),
            "tide/targets.nub:2:9: error: `harmonic` is not defined here (unknown-name)\n  \
             tide/targets.nub:1: declared here\n  note: a fact\n  try: strict\n"
        );
        let usage = Diagnostic::warning("usage", "x");
        assert_eq!(diagnostic(&usage, &sources), "nubrik: warning: x\n");
        assert_eq!(error_at("nub:c:3", "a: b"), "nub:c:3: error: a: b");
    }
}
