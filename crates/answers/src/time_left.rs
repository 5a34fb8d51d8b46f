//! How long a build still takes, by what its steps took before.

use std::collections::HashSet;
use std::time::Duration;

use nubrik_graph::{Graph, Needs, StepId, longest_chains};

/// What a build's steps took before.
#[derive(Default)]
pub struct PastTimes {
    /// By number of step, in microseconds; 0 where it is not known.
    pub micros: Vec<u64>,
    /// How many steps run at once.
    pub jobs: usize,
}

/// Looks ahead from the steps that run.
pub struct TimeForecast {
    past: PastTimes,
    /// The steps that need each one.
    users: Vec<Vec<StepId>>,
    /// What each one takes with the longest chain of those that need it, in microseconds.
    chains: Vec<f64>,
}

impl TimeForecast {
    /// Nothing where no step ran before.
    pub fn of(graph: &Graph, past: PastTimes) -> Option<TimeForecast> {
        if past.micros.iter().all(|micros| *micros == 0) {
            return None;
        }
        let count = graph.steps.len();
        let mut users: Vec<Vec<StepId>> = vec![Vec::new(); count];
        let needs = Needs::of(graph);
        for step in (0..count as u32).map(StepId) {
            for need in needs.of_step(step) {
                users[need.index()].push(step);
            }
        }
        let files = graph
            .steps
            .iter()
            .flat_map(|step| step.outputs.iter().map(|output| output.file));
        let order = nubrik_graph::Closure::of(graph, files).steps;
        let chains = longest_chains(graph, &order, |step| past.micros[step.index()] as f64);
        Some(TimeForecast {
            past,
            users,
            chains,
        })
    }

    /// What is left, if each step that needs one that runs now runs as well: steps with how long
    /// they run already, and which are done with. Nothing where one of them never ran before.
    pub fn left(
        &self,
        running: &[(StepId, Duration)],
        is_done: &dyn Fn(StepId) -> bool,
    ) -> Option<Duration> {
        let mut seen: HashSet<StepId> = HashSet::new();
        let mut open: Vec<StepId> = running.iter().map(|(step, _)| *step).collect();
        let mut work = 0.0;
        while let Some(step) = open.pop() {
            if !seen.insert(step) || is_done(step) {
                continue;
            }
            match self.past.micros.get(step.index()) {
                Some(micros) if *micros > 0 => work += *micros as f64,
                _ => return None,
            }
            open.extend(&self.users[step.index()]);
        }
        let ran: f64 = running
            .iter()
            .map(|(step, since)| self.ran(*step, *since))
            .sum();
        let longest = running.iter().map(|(step, since)| {
            self.chains.get(step.index()).copied().unwrap_or(0.0) - self.ran(*step, *since)
        });
        let by_work = (work - ran) / self.past.jobs.max(1) as f64;
        let micros = longest.fold(by_work, f64::max);
        Some(Duration::from_micros(micros.max(0.0) as u64))
    }

    /// How much of what a step takes is behind it: what is late is nearly over.
    fn ran(&self, step: StepId, since: Duration) -> f64 {
        (since.as_micros() as f64).min(self.past.micros[step.index()] as f64)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use nubrik_graph::{FileId, FileNode, OutputNode, Step, Tables, Target};
    use nubrik_source::WsPath;

    /// Steps that each need the ones with these numbers.
    fn graph(needs: &[&[u32]]) -> Graph {
        let mut tables = Tables::default();
        tables.targets.push(Target::plain("all"));
        for (number, needs) in needs.iter().enumerate() {
            let folder = WsPath::from_normal(&format!("made/{number}"));
            let file = FileId(number as u32);
            tables.files.push(FileNode {
                path: folder.child("x"),
                maker: Some(StepId(number as u32)),
                folder: false,
            });
            let outputs = vec![OutputNode::new(file, "x")];
            let inputs = needs
                .iter()
                .map(|need| FileId(*need))
                .collect::<Vec<_>>()
                .into();
            tables.steps.push(Box::new(Step {
                inputs,
                outputs,
                ..Step::empty(folder)
            }));
        }
        tables.finish().unwrap()
    }

    #[test]
    fn the_longest_chain_or_all_work_is_what_is_left() {
        // 0 and 1, then 2, then 3.
        let graph = graph(&[&[], &[], &[0, 1], &[2]]);
        let past = |micros: &[u64], jobs| PastTimes {
            micros: micros.to_vec(),
            jobs,
        };
        let seconds = |forecast: &TimeForecast, running: &[(StepId, Duration)], done: &[u32]| {
            forecast
                .left(running, &|step| done.contains(&step.0))
                .map(|left| left.as_secs_f64())
        };
        let second = 1_000_000;
        let forecast = TimeForecast::of(
            &graph,
            past(&[4 * second, 2 * second, 3 * second, second], 2),
        )
        .unwrap();
        let running = [
            (StepId(0), Duration::from_secs(1)),
            (StepId(1), Duration::from_secs(1)),
        ];
        assert_eq!(seconds(&forecast, &running, &[]), Some(7.0));
        // Alone it takes all of the work.
        let forecast = TimeForecast::of(
            &graph,
            past(&[4 * second, 2 * second, 3 * second, second], 1),
        )
        .unwrap();
        assert_eq!(seconds(&forecast, &running[..1], &[1]), Some(7.0));
        // What is late is nearly over, and what never ran is not guessed.
        assert_eq!(
            seconds(
                &forecast,
                &[(StepId(3), Duration::from_secs(9))],
                &[0, 1, 2]
            ),
            Some(0.0)
        );
        let forecast = TimeForecast::of(&graph, past(&[second, 0, second, second], 1)).unwrap();
        assert_eq!(seconds(&forecast, &running, &[]), None);
        assert!(TimeForecast::of(&graph, past(&[0; 4], 1)).is_none());
    }
}
