//! Failures that were reported: code that fails must have said why.

use nubrik_diagnostic::{Diagnostic, Severity};
use nubrik_source::Span;

/// Says that something wrong was reported. Nothing but reporting makes one, so that no evaluation
/// fails without a word.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) struct Reported(());

/// Reports an error.
pub(crate) fn report(list: &mut Vec<Diagnostic>, error: Diagnostic) -> Reported {
    list.push(error);
    Reported(())
}

/// For a caller that meets something that cannot be unless an error was reported before: if there
/// was none, this is one.
#[cold]
pub(crate) fn reported_before(list: &mut Vec<Diagnostic>, span: Span) -> Reported {
    if !list.iter().any(|d| d.severity == Severity::Error) {
        let error = Diagnostic::error(
            "fault",
            "this cannot be evaluated, and nothing was found to be wrong",
        );
        let error =
            error.note("that is a fault of nubrik; please report it with these definitions");
        list.push(error.at(span));
    }
    Reported(())
}

#[cfg(test)]
mod tests {
    use nubrik_source::Sources;

    use super::*;

    #[test]
    fn a_failure_without_a_word_becomes_one() {
        let span = Span::new(Sources::default().add("targets.nub", "let".into()), 0, 1);
        let mut list = vec![Diagnostic::warning("unused", "nobody needs it")];
        reported_before(&mut list, span);
        assert_eq!((list.len(), list[1].code), (2, "fault"));
        reported_before(&mut list, span);
        assert_eq!(list.len(), 2, "once is enough");
    }
}
