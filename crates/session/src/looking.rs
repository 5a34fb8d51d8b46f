//! Commands that only look: they may read whatever their starter may, change nothing, use no network, and get a limited time
//! for a limited answer. Probes and git are asked so.

use std::io;
use std::path::Path;
use std::time::Duration;

use nubrik_confine::{Access, Capture, Confinement, Ended, PipelineSpec, RuleSet, StageSpec};

use crate::machine::Machine;

/// Something to be found out by a command.
pub(crate) struct Question<'a> {
    pub stages: Vec<StageSpec>,
    pub environment: &'a [(String, String)],
    pub patience: Duration,
    /// How much of each stream is read, in bytes.
    pub limit: usize,
}

/// What came of asking.
pub(crate) struct Looked {
    pub ended: Ended,
    pub output: Vec<u8>,
    pub errors: Vec<u8>,
    /// Whether there was more output.
    pub is_cut: bool,
}

impl Machine {
    /// Asks in the workspace's root.
    ///
    /// # Errors
    /// When the command cannot be confined.
    pub(crate) fn look(&self, question: Question<'_>) -> io::Result<Looked> {
        let rules = RuleSet::new(self.system())?;
        rules.allow(Path::new("/"), Access::Read)?;
        let spec = PipelineSpec {
            stages: question.stages,
            folder: self.root(),
            work: self.root(),
            environment: question.environment,
            confinement: Confinement::Looks(&rules),
            timeout: Some(question.patience),
            memory: None,
            recorder: None,
            attached: false,
        };
        let mut capture = Capture::with_errors_apart(question.limit);
        let ended = nubrik_confine::run(&spec, &mut capture, self.cancel());
        let errors = capture.errors.unwrap_or_default();
        Ok(Looked { ended, output: capture.bytes, errors, is_cut: capture.cut > 0 })
    }
}

/// Variables of the one who asks that are handed on, with a language that all understand.
pub(crate) fn variables(handed_on: &[&str]) -> Vec<(String, String)> {
    let fixed = [("LANG", "C.UTF-8"), ("LC_ALL", "C.UTF-8"), ("TZ", "UTC")];
    let mut variables: Vec<(String, String)> =
        fixed.iter().map(|(name, value)| ((*name).to_owned(), (*value).to_owned())).collect();
    for name in handed_on {
        variables.extend(std::env::var(name).ok().map(|value| ((*name).to_owned(), value)));
    }
    variables
}
