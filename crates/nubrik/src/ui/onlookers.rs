//! Tells an explorer that looks at the workspace what happens in a build. Whether one looks costs a
//! look at one file.

use std::collections::HashMap;
use std::io::Write;
use std::path::Path;
use std::sync::mpsc::{Sender, channel};
use std::thread::JoinHandle;
use std::time::Duration;

use nubrik_engine::{Event, Verdict};
use nubrik_explorer::{LiveTold, LiveWaiting};
use nubrik_graph::{Graph, Needs, StepId};

use super::json_text;

/// An explorer that reads nothing for so long gets nothing more.
const PATIENCE: Duration = Duration::from_millis(500);

/// So much is sent of what a failing step printed, in bytes.
const PRINTED: usize = 32 << 10;

/// Of builds with more steps it is not sent which ones wait.
const TOLD: usize = 5_000;

/// Who looks at a build from elsewhere.
pub struct Onlookers<'g> {
    graph: &'g Graph,
    /// Taken when the build is over: then the thread that tells comes to its end.
    sender: Option<Sender<LiveTold>>,
    telling: Option<JoinHandle<()>>,
}

impl<'g> Onlookers<'g> {
    /// Those who look at a workspace, if somebody does.
    pub fn of(root: &Path, graph: &'g Graph) -> Option<Onlookers<'g>> {
        let mut stream = nubrik_explorer::connect(&root.join(".nubrik"))?;
        stream.set_write_timeout(Some(PATIENCE)).ok()?;
        let (sender, told) = channel::<LiveTold>();
        // Steps do not wait until it is sent.
        let telling = std::thread::spawn(move || {
            for told in told {
                let Some(line) = json_text::line(&told) else {
                    continue;
                };
                if stream.write_all(line.as_bytes()).is_err() {
                    return;
                }
            }
        });
        Some(Onlookers {
            graph,
            sender: Some(sender),
            telling: Some(telling),
        })
    }

    /// That a build begins: with its steps, and what each waits for, if there are not too many for
    /// a page.
    fn began(&self, order: &[StepId]) -> LiveTold {
        if order.len() > TOLD {
            return LiveTold::Began {
                steps: order.len(),
                waits: Vec::new(),
            };
        }
        let needs = Needs::of(self.graph);
        let places: HashMap<StepId, u32> = order.iter().copied().zip(0..).collect();
        let waits = order.iter().map(|id| {
            let step = self.graph.step(*id);
            LiveWaiting {
                folder: step.folder.to_string(),
                target: self.graph.title(*id).to_string(),
                say: step.say.to_string(),
                needs: needs
                    .of_step(*id)
                    .iter()
                    .filter_map(|need| places.get(need).copied())
                    .collect(),
            }
        });
        LiveTold::Began {
            steps: order.len(),
            waits: waits.collect(),
        }
    }

    /// Tells an event.
    pub fn hear(&self, event: &Event) {
        let folder = |step: StepId| self.graph.step(step).folder.to_string();
        let (target, say) = (
            |step: StepId| self.graph.title(step).to_string(),
            |step: StepId| self.graph.step(step).say.to_string(),
        );
        let told = match event {
            Event::Began { order } => self.began(order),
            Event::WillRun { step, reason } => LiveTold::Runs {
                folder: folder(*step),
                target: target(*step),
                say: say(*step),
                reason: reason.to_string(),
            },
            Event::Elsewhere { step, machine } => LiveTold::Elsewhere {
                folder: folder(*step),
                machine: machine.to_string(),
            },
            Event::Unpacks { step, is_over } => LiveTold::Unpacks {
                folder: folder(*step),
                is_over: *is_over,
            },
            Event::Done {
                step,
                verdict,
                reason,
                micros,
                printed,
                machine: _,
                failure: _,
            } => LiveTold::Done {
                folder: folder(*step),
                target: target(*step),
                say: say(*step),
                state: verdict.word().to_owned(),
                reason: reason.to_string(),
                micros: *micros,
                printed: (*verdict == Verdict::Failed).then(|| {
                    String::from_utf8_lossy(&printed[..printed.len().min(PRINTED)]).into_owned()
                }),
            },
            Event::Survived { .. } | Event::Notice(_) => return,
        };
        if let Some(sender) = &self.sender {
            let _ = sender.send(told);
        }
    }
}

impl Drop for Onlookers<'_> {
    fn drop(&mut self) {
        drop(self.sender.take());
        if let Some(telling) = self.telling.take() {
            let _ = telling.join();
        }
    }
}
