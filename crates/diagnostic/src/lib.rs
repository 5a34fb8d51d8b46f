//! One diagnostic type for everything that can be wrong, from a stray character to a cycle.
//!
//! A diagnostic says what is wrong, where, and how to mend it. How it looks is for front ends.
//!
//! Wording: lower case, no full stop, `cannot …`, `expected …, found …`; a mend is something to
//! paste.
//!
//! ```
//! use nubrik_diagnostic::{Diagnostic, nearest};
//!
//! let error = Diagnostic::error("unknown-name", "`tdie` is not defined here");
//! let error = error.maybe_mend(nearest("tdie", ["tide", "board"]).map(str::to_owned));
//! assert_eq!(error.mends, ["tide"]);
//! ```

mod suggest;

use nubrik_source::Span;

pub use suggest::nearest;

/// How grave a diagnostic is.
#[derive(Clone, Copy, PartialEq, Eq, Debug, PartialOrd, Ord)]
pub enum Severity {
    /// The definitions mean something, but probably not what was meant.
    Warning,
    /// The definitions have no meaning.
    Error,
}

/// Another place that explains the first one.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Related {
    /// Where.
    pub span: Span,
    /// What is there, such as ``declared here``.
    pub message: String,
}

/// Something wrong with definitions, and how to mend it.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Diagnostic {
    /// How grave it is.
    pub severity: Severity,
    /// A stable name of the kind of mistake (`unknown-name`), for tests and explanations.
    pub code: &'static str,
    /// What is wrong, in one line.
    pub message: String,
    /// The words in question.
    pub span: Option<Span>,
    /// Other places, in the order in which a reader should see them.
    pub related: Vec<Related>,
    /// Facts that help to understand.
    pub notes: Vec<String>,
    /// Mends, each something to paste or to do.
    pub mends: Vec<String>,
}

impl Diagnostic {
    /// An error without a place yet: the place is attached where it is known, with
    /// [`Diagnostic::at`].
    pub fn error(code: &'static str, message: impl Into<String>) -> Self {
        Diagnostic {
            severity: Severity::Error,
            code,
            message: message.into(),
            span: None,
            related: Vec::new(),
            notes: Vec::new(),
            mends: Vec::new(),
        }
    }

    /// A warning without a place yet.
    pub fn warning(code: &'static str, message: impl Into<String>) -> Self {
        Diagnostic {
            severity: Severity::Warning,
            ..Diagnostic::error(code, message)
        }
    }

    /// Attaches the place, unless one is known already: the innermost place is the best one.
    pub fn at(mut self, span: Span) -> Self {
        self.span.get_or_insert(span);
        self
    }

    /// Adds a place that explains the first one.
    pub fn related(mut self, span: Span, message: impl Into<String>) -> Self {
        self.related.push(Related {
            span,
            message: message.into(),
        });
        self
    }

    /// Adds a fact that helps to understand.
    pub fn note(mut self, note: impl Into<String>) -> Self {
        self.notes.push(note.into());
        self
    }

    /// Adds something to paste or to do.
    pub fn mend(mut self, mend: impl Into<String>) -> Self {
        self.mends.push(mend.into());
        self
    }

    /// Adds a mend where there is one.
    pub fn maybe_mend(mut self, mend: Option<impl Into<String>>) -> Self {
        self.mends.extend(mend.map(Into::into));
        self
    }
}
