//! A running service: where its commands run, what it prints, and how it ends.

use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use nubrik_confine::{CancelSwitch, Capture, Ended, PipelineSpec, Running, StageSpec};
use nubrik_disk::Below;
use nubrik_engine::{ServiceFailure, ServiceProblem};
use nubrik_graph::Service;
use parking_lot::Mutex;

use super::claim::Claim;
use super::secrets::without;
use crate::ground::{Enclosure, Environment, Ground, Net, ServiceNet, StoppingRules};

/// How long a command that stops a service may take, and how long the service then has.
const STOPPING: Duration = Duration::from_secs(10);

/// How long a service has after a command failed to stop it.
const AFTER_FAILURE: Duration = Duration::from_secs(1);

/// How much of what a service's commands print is kept, in bytes.
const PRINTED_LIMIT: usize = 64 << 10;

/// One running service, or the place of one that runs somewhere else. Dropping it stops it.
pub(super) struct Instance {
    pub service: Arc<Service>,
    pub address: String,
    pub port: String,
    pub as_always: bool,
    pub secrets: Vec<(String, String)>,
    pub here: Option<Here>,
    /// Instances that it uses itself; they outlive it.
    #[allow(dead_code)] // Held, not read.
    pub needs: Vec<Arc<Instance>>,
}

/// What there is of an instance on this machine.
pub(super) struct Here {
    pub running: Mutex<Option<Running>>,
    pub quarters: Quarters,
    /// The command that stops it, and where there is no sandbox, what that may reach: it sends
    /// signals to others.
    pub stop: Option<(Vec<StageSpec>, Option<StoppingRules>)>,
    #[allow(dead_code)] // Held, not read.
    pub claim: Claim,
    /// The folder of all instances, and what the service printed last there.
    pub home: Arc<Below>,
    pub log: String,
    /// Where it is reported when it does not stop as it should.
    pub unstopped: Unstopped,
}

/// Services that did not stop as they should, until someone asks.
pub(super) type Unstopped = Arc<Mutex<Vec<ServiceFailure>>>;

/// Where a service's commands run.
pub(super) struct Quarters {
    pub enclosure: Enclosure,
    /// As they see it.
    pub work: PathBuf,
    pub environment: Environment,
    pub net: ServiceNet,
}

impl Quarters {
    pub fn spec<'a>(&'a self, stages: &[StageSpec], timeout: Option<Duration>) -> PipelineSpec<'a> {
        PipelineSpec {
            timeout,
            ..self.ground().spec(stages.to_vec())
        }
    }

    fn ground(&self) -> Ground<'_> {
        Ground::in_enclosure(
            &self.enclosure,
            &self.work,
            &self.environment,
            Net::Services(&self.net),
        )
    }

    pub fn run(
        &self,
        stages: &[StageSpec],
        timeout: Option<Duration>,
        cancel: &CancelSwitch,
    ) -> (Ended, Vec<u8>) {
        let mut capture = Capture::new(PRINTED_LIMIT);
        let ended = nubrik_confine::run(&self.spec(stages, timeout), &mut capture, cancel);
        (ended, capture.bytes)
    }
}

impl Instance {
    pub fn printed(&self) -> Vec<u8> {
        let running = self.here.as_ref().map(|here| here.running.lock());
        let text = running.and_then(|running| running.as_ref().map(Running::printed));
        last_lines(&without(&self.secrets, text.unwrap_or_default()))
    }

    /// Stops it, and gives the last of what it printed, to its end.
    pub fn stopped(&self) -> Vec<u8> {
        self.stop()
            .map(|printed| last_lines(&printed))
            .unwrap_or_default()
    }

    /// Stops it if it runs here, and gives the last of what it printed, without secrets.
    fn stop(&self) -> Option<Vec<u8>> {
        let here = self.here.as_ref()?;
        let mut running = here.running.lock().take()?;
        let group = running.group();
        if let (Some((stop, rules)), Ok(never)) = (&here.stop, CancelSwitch::new()) {
            let was_running = running.ended().is_none();
            let ground = here
                .quarters
                .ground()
                .to_stop(rules.as_ref(), Net::Services(&here.quarters.net));
            let spec = PipelineSpec {
                timeout: Some(STOPPING),
                ..ground.spec(stop.clone())
            };
            let mut capture = Capture::new(PRINTED_LIMIT);
            let how = nubrik_confine::run(&spec, &mut capture, &never);
            let how = Some(how).filter(|how| !matches!(how, Ended::Well));
            let stopped = running.wait(if how.is_none() {
                STOPPING
            } else {
                AFTER_FAILURE
            });
            // A command that finds nothing to stop fails rightly.
            if was_running && (!stopped || how.is_some()) {
                here.unstopped.lock().push(ServiceFailure {
                    service: self.service.address.clone(),
                    place: self.service.place.to_string().into(),
                    problem: ServiceProblem::NotStopped(how.as_ref().map(said)),
                    printed: last_lines(&without(&self.secrets, capture.bytes)),
                });
            }
        }
        let printed = without(&self.secrets, running.stop());
        nubrik_confine::spare(group.unsigned_abs(), false);
        let _ = here.home.write_whole(&here.log, &printed);
        Some(printed)
    }
}

/// The last lines of a text, as many as are read.
pub(super) fn last_lines(text: &[u8]) -> Vec<u8> {
    const LINES: usize = 20;
    let text = text.strip_suffix(b"\n").unwrap_or(text);
    let start = memchr::memrchr_iter(b'\n', text)
        .nth(LINES - 1)
        .map_or(0, |at| at + 1);
    text[start..].to_vec()
}

impl Drop for Instance {
    fn drop(&mut self) {
        self.stop();
    }
}

/// How a command ended, for people.
pub(super) fn said(ended: &Ended) -> String {
    match ended {
        Ended::Well => "ended".to_owned(),
        Ended::Code(code) => format!("exited with code {code}"),
        Ended::Signal(signal) => format!("was ended by signal {signal}"),
        Ended::TimedOut => "took too long".to_owned(),
        Ended::Cancelled => "was stopped".to_owned(),
        Ended::NotStarted(program, e) => format!("cannot be started: {}: {e}", program.display()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_the_last_lines_are_told() {
        let text: String = (0..30).map(|n| format!("{n}\n")).collect();
        let last = last_lines(text.as_bytes());
        assert!(
            last.starts_with(b"10\n") && last.ends_with(b"29"),
            "{}",
            String::from_utf8_lossy(&last)
        );
        assert_eq!(last_lines(b"one"), b"one");
        assert_eq!(last_lines(b""), b"");
    }
}
