//! What tests and builds report in open formats: single [`cases`] of tests and how machines share
//! them ([`parts`]), lines that ran ([`coverage`]), places in sources where a build found something
//! ([`findings`]), the third-party packages in a target ([`packages`]), and numbers about a program
//! that runs ([`metrics`]). No other crate reads or writes these formats.

pub mod cases;
pub mod coverage;
pub mod findings;
pub mod metrics;
pub mod packages;
pub mod parts;

use std::fmt;

/// Why a report cannot be read, in words for people.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Malformed(pub(crate) String);

impl fmt::Display for Malformed {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl std::error::Error for Malformed {}

/// Why a report is malformed.
pub(crate) fn malformed(why: impl Into<String>) -> Malformed {
    Malformed(why.into())
}
