//! Services and jobs: lending the ones, doing what the others are for.

use nubrik_engine::{Lent, OutsideWork, ServiceFailure};
use nubrik_graph::{Effect, Graph, Service};
use nubrik_machine::{EffectEnd, EffectProblem, OutputListener};

use super::Session;

impl Session {
    /// Makes services ready for someone who sees this machine's network: `user` tells this use from
    /// others.
    /// What they print is passed to `echo`, too. What they use must have been built.
    ///
    /// # Errors
    /// Why one of them is not there; `None` when everything is being stopped.
    pub fn lend(
        &self,
        user: &str,
        services: &[std::sync::Arc<Service>],
        echo: Option<OutputListener>,
    ) -> Result<Lent, Option<ServiceFailure>> {
        self.machine().lend_here(user, services, echo)
    }

    /// Whether someone asked for everything to stop.
    pub fn is_cancelled(&self) -> bool {
        self.machine().is_cancelled()
    }

    /// Where lent services are: each one's address and its host and port.
    pub fn places(&self, lent: &Lent) -> Vec<(std::sync::Arc<str>, String)> {
        self.machine().places(lent)
    }

    /// How a lent service ended that runs here, if one has: its address, how, and what it printed
    /// at the end.
    pub fn ended(&self, lent: &Lent) -> Option<(std::sync::Arc<str>, String, Vec<u8>)> {
        self.machine().service_ended(lent)
    }

    /// Takes services back, and stops them. Gives those that did not stop as they should.
    pub fn give_back(&self, lent: Lent) -> Vec<nubrik_engine::ServiceFailure> {
        self.machine().take_back(&lent)
    }

    /// Does what a job is for, in this terminal, with the services that it was lent. What it uses
    /// must have been built. With `printed` its commands have no terminal, and what they print is
    /// added there.
    ///
    /// # Errors
    /// When a secret, a tool or a program is not there.
    pub fn run_effect(
        &self,
        graph: &Graph,
        effect: &Effect,
        args: &[String],
        lent: Option<&Lent>,
        printed: Option<&mut Vec<u8>>,
    ) -> Result<EffectEnd, EffectProblem> {
        self.machine()
            .run_effect(graph, effect, args, lent, printed)
    }
}
