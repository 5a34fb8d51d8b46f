//! Where something is wrong in some definitions: which part of a request has no error, so that it
//! can be built by itself.

use nubrik_diagnostic::Severity;
use nubrik_lang::{AddressPattern, Evaluation, Evaluator};
use nubrik_source::WsPath;

use super::Session;
use crate::world::DiskWorld;

/// The parts of a request.
#[derive(Clone, Debug, Default)]
pub struct Narrowed {
    /// What evaluates without an error, all together.
    pub good: Vec<AddressPattern>,
    /// The addresses of what does not: packages with a `/` behind them, and targets.
    pub left_out: Vec<String>,
}

fn has_errors(evaluation: &Evaluation) -> bool {
    evaluation
        .diagnostics
        .iter()
        .any(|d| d.severity == Severity::Error)
}

impl Session {
    /// Splits a request that cannot be evaluated as a whole. Halves are tried again and again, so
    /// that the cost grows with how many parts are wrong, and not with how many there are. No error
    /// of a part is overlooked: what is good was evaluated without one.
    pub fn narrowed(&self, patterns: &[AddressPattern]) -> Narrowed {
        let mut units = Vec::new();
        for pattern in patterns {
            let packages = self.packages_meant(pattern);
            match packages.is_empty() {
                true => units.push(pattern.clone()),
                false => {
                    let all = packages.iter().map(AddressPattern::of_package);
                    units.extend(all.map(|unit| unit.wanting(pattern.wanted)));
                }
            }
        }
        let mut narrowed = Narrowed::default();
        self.narrow(&units, &mut narrowed);
        narrowed
    }

    fn narrow(&self, units: &[AddressPattern], into: &mut Narrowed) {
        if units.is_empty() || self.is_stopped() {
            return;
        }
        let evaluation = self.evaluate_watching(units, false);
        if !has_errors(&evaluation) {
            return into.good.extend_from_slice(units);
        }
        match units {
            [unit] => {
                // Of a package or a glob some targets may be well.
                let targets = evaluation
                    .targets
                    .iter()
                    .map(|target| &*evaluation.graph.target(*target).address);
                let targets: Vec<AddressPattern> = targets
                    .map(|address| AddressPattern::of_target(address).wanting(unit.wanted))
                    .collect();
                match unit.is_glob() && !targets.is_empty() {
                    true => self.narrow(&targets, into),
                    false => into.left_out.push(unit.written.clone()),
                }
            }
            _ => {
                let (one, other) = units.split_at(units.len() / 2);
                self.narrow(one, into);
                self.narrow(other, into);
            }
        }
    }

    /// The packages that a pattern means; none where it means single targets.
    fn packages_meant(&self, pattern: &AddressPattern) -> Vec<WsPath> {
        let world = DiskWorld::new(&self.workspace, &self.machine, &self.answers)
            .with_unsaved(&self.unsaved);
        if pattern.is_glob() {
            Vec::new()
        } else {
            Evaluator::new(&world).packages_meant(pattern)
        }
    }
}
