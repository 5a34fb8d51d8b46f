//! A service that is not there for who needs it, in words.

use std::fmt;

use nubrik_wording::duration;

use crate::failures::LabelledLine;
use crate::outside::{ServiceFailure, ServiceProblem};

impl fmt::Display for ServiceFailure {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let name = &self.service;
        f.write_str(&match &self.problem {
            ServiceProblem::NotReady(limit, _) => {
                format!(
                    "the service {name} was not ready within {}",
                    duration(limit * 1000)
                )
            }
            ServiceProblem::NoAnswer(limit, _) => {
                format!(
                    "the service {name} did not answer within {}",
                    duration(limit * 1000)
                )
            }
            ServiceProblem::Ended(how) => format!("the service {name} {how} before it was ready"),
            ServiceProblem::Command(field, how) => {
                format!("in `{field}` of the service {name}, {how}")
            }
            ServiceProblem::NotStarted(program, why) => {
                format!("the service {name} cannot start {program}: {why}")
            }
            ServiceProblem::NoTool(problem) => {
                format!("the service {name} cannot be started: {problem}")
            }
            ServiceProblem::NoSecret(secret) => {
                format!(
                    "the service {name} needs the secret `{secret}`, and that variable is not set"
                )
            }
            ServiceProblem::NotStopped(Some(how)) => {
                format!("`stop` of the service {name} {how}; signals ended the service")
            }
            ServiceProblem::NotStopped(None) => {
                format!("the service {name} went on after its `stop` had ended; signals ended it")
            }
            ServiceProblem::BadPort => {
                format!("the port of the service {name} is not a number from 1 to 65535")
            }
            ServiceProblem::SaidBefore => format!("the service {name} did not come up"),
            ServiceProblem::Machine(problem) => format!("the service {name} cannot run: {problem}"),
        })
    }
}

impl ServiceFailure {
    /// That it did not stop as it should, in one line with the last one that its `stop` printed.
    pub fn not_stopped(&self) -> String {
        let printed = String::from_utf8_lossy(&self.printed);
        match printed.lines().next_back() {
            Some(last) => format!("{self}. It printed: {last}"),
            None => self.to_string(),
        }
    }

    /// What else there is to know, and what to do.
    pub fn readings(&self) -> Vec<LabelledLine> {
        let mut lines = vec![("service", format!("{}, {}", self.service, self.place))];
        match &self.problem {
            ServiceProblem::NotReady(_, tries) => {
                lines.push(("asked", format!("{tries} times")));
                lines.push((
                    "try",
                    "let it listen at self.address and self.port, or give it more time in `timeout`"
                        .to_owned(),
                ));
            }
            ServiceProblem::NoAnswer(_, tries) => {
                lines.push(("asked", format!("{tries} times")));
                lines.push((
                    "try",
                    "start it, or correct what its `address` and `port` say".to_owned(),
                ));
            }
            ServiceProblem::NoTool(problem) => {
                lines.extend(problem.readings());
            }
            ServiceProblem::NoSecret(secret) => {
                lines.push(("try", format!("{secret}=… before the command")))
            }
            ServiceProblem::SaidBefore => lines.push((
                "reading",
                "the reason is shown above, where it was tried first".to_owned(),
            )),
            // What is said of them in the first line is all there is to know.
            ServiceProblem::Ended(_)
            | ServiceProblem::Command(..)
            | ServiceProblem::NotStarted(..)
            | ServiceProblem::NotStopped(_)
            | ServiceProblem::BadPort
            | ServiceProblem::Machine(_) => {}
        }
        lines
    }
}
