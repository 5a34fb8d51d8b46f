//! What a try shows of a definition, and what became of it.

use std::collections::BTreeSet;

use crate::proposal::{Body, KindCall};

/// How a step of a definition failed.
#[derive(Clone, Debug, Default)]
pub struct TryFailure {
    /// What its commands printed.
    pub printed: String,
    /// Files and folders of the tree that its commands were refused, from its top; folders end with
    /// `/`.
    pub refused: Vec<String>,
    /// Whether it was a test that ran and failed, and not something that it needs.
    pub is_test_run: bool,
    /// Whether they took longer than they may.
    pub is_too_long: bool,
    /// Whether they were refused the network.
    pub wants_network: bool,
    /// Whether they were refused to write somewhere.
    pub writes: bool,
    /// The files of the tree that it had.
    pub inputs: BTreeSet<String>,
    /// Which key of the definition it is of, where there are several.
    pub key: String,
}

/// What became of it.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Mended {
    /// The definition is another one now; how.
    Changed(String),
    /// It is left out, and why.
    Omission(String),
    /// Nothing is known that would help.
    Nothing,
}

/// The kinds of a definition that a key means; all of them where there is no key.
pub(crate) fn of_key<'b>(body: &'b mut Body, key: &str) -> Vec<&'b mut KindCall> {
    let meant: Vec<bool> = match body {
        Body::Several(calls) => calls
            .iter()
            .map(|(name, _)| key.is_empty() || name == key || key.starts_with(&format!("{name}/")))
            .collect(),
        _ => vec![true],
    };
    body.calls_mut()
        .into_iter()
        .zip(meant)
        .filter(|(_, is_meant)| *is_meant)
        .map(|(call, _)| call)
        .collect()
}
