//! What is wrong with a request for pins, for people.

use std::fmt;

/// What is wrong, what is known about it, and what to do.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct PinProblem {
    /// What is wrong, in one line.
    pub message: String,
    /// Facts.
    pub notes: Vec<String>,
    /// What to do, each one way.
    pub mends: Vec<String>,
}

impl PinProblem {
    /// With nothing known about it.
    pub fn new(message: impl Into<String>) -> PinProblem {
        PinProblem {
            message: message.into(),
            ..PinProblem::default()
        }
    }

    /// With one more fact.
    #[must_use]
    pub fn note(mut self, note: impl Into<String>) -> PinProblem {
        self.notes.push(note.into());
        self
    }

    /// With one more way out.
    #[must_use]
    pub fn mend(mut self, mend: impl Into<String>) -> PinProblem {
        self.mends.push(mend.into());
        self
    }
}

impl fmt::Display for PinProblem {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.message)
    }
}

impl std::error::Error for PinProblem {}
