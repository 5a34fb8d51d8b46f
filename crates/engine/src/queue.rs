//! Which step is begun next: of those whose needs are done the one with the longest remaining
//! chain, where there is room for it.

use std::cmp::Reverse;
use std::collections::{BinaryHeap, HashMap, HashSet};

use nubrik_graph::{Graph, Needs, StepId, longest_chains};

/// What steps may take of the machine together.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Capacity {
    /// Processors.
    pub processors: usize,
    /// Memory in bytes, for those that say how much they may take.
    pub memory: u64,
}

/// A step waiting to be begun: longest remaining chain first, then the order of the definitions.
#[derive(PartialEq, Eq, PartialOrd, Ord)]
struct Ready {
    chain: u64,
    order: Reverse<u32>,
}

/// Steps that wait, and what those that were begun take.
pub(crate) struct Queue {
    /// By number of step: the time from its beginning to the end of all that waits for it.
    chains: Vec<f64>,
    /// By number of step: who needs it.
    users: Vec<Vec<StepId>>,
    /// Who of these needs only what the step gives before it ends, until that is there.
    early_users: HashMap<StepId, Vec<StepId>>,
    /// Who of these does not wait for the step's end any more.
    given: HashMap<StepId, HashSet<StepId>>,
    /// By number of step: what it takes.
    weights: Vec<Capacity>,
    /// By number of step: how many that it needs are not done.
    missing: Vec<u32>,
    /// Steps that can be begun, here or elsewhere.
    ready: BinaryHeap<Ready>,
    /// Steps that can be begun here alone.
    ready_here: BinaryHeap<Ready>,
    /// By number of step: whether it is begun here alone.
    only_here: Vec<bool>,
    room: Capacity,
    taken: Capacity,
    /// Steps that were begun and take nothing of the room.
    aside: HashSet<StepId>,
}

impl Queue {
    /// A queue of the steps in `order` (each after those it needs), of which none needs to wait for
    /// the `settled` ones. `cost` is what each will take, in microseconds.
    pub fn new(
        graph: &Graph,
        order: &[StepId],
        settled: &HashSet<StepId>,
        cost: impl Fn(StepId) -> f64,
        room: Capacity,
    ) -> Queue {
        let count = graph.steps.len();
        let mut queue = Queue {
            chains: longest_chains(graph, order, cost),
            users: vec![Vec::new(); count],
            early_users: HashMap::new(),
            given: HashMap::new(),
            weights: graph
                .steps
                .iter()
                .map(|step| weight(step.limits, room))
                .collect(),
            missing: vec![0; count],
            ready: BinaryHeap::new(),
            ready_here: BinaryHeap::new(),
            only_here: vec![false; count],
            room,
            taken: Capacity {
                processors: 0,
                memory: 0,
            },
            aside: HashSet::new(),
        };
        let needs_of = Needs::of(graph);
        for &step in order {
            let mut needs = needs_of.of_step(step);
            needs.retain(|need| !settled.contains(need));
            queue.missing[step.index()] = needs.len() as u32;
            needs
                .iter()
                .for_each(|need| queue.users[need.index()].push(step));
            if let Some(ends) = needs_of.ends_for_step(step) {
                for need in needs
                    .iter()
                    .filter(|need| ends.binary_search(need).is_err())
                {
                    queue.early_users.entry(*need).or_default().push(step);
                }
            }
            if needs.is_empty() {
                queue.make_ready(step);
            }
        }
        queue
    }

    fn make_ready(&mut self, step: StepId) {
        let ready = Ready {
            chain: self.chains[step.index()] as u64,
            order: Reverse(step.0),
        };
        match self.only_here[step.index()] {
            true => self.ready_here.push(ready),
            false => self.ready.push(ready),
        }
    }

    /// How many processors nobody uses and nothing waits for.
    pub fn idle_processors(&self) -> usize {
        match self.ready.is_empty() && self.ready_here.is_empty() {
            true => self.room.processors.saturating_sub(self.taken.processors),
            false => 0,
        }
    }

    /// Takes note that a step is begun here alone.
    pub fn keep_here(&mut self, step: StepId) {
        self.only_here[step.index()] = true;
    }

    /// Begins the next step that others may run, if they would begin it now. It takes nothing of
    /// the room here.
    pub fn begin_elsewhere(&mut self, would: impl Fn(StepId) -> bool) -> Option<StepId> {
        loop {
            let next = StepId(self.ready.peek()?.order.0);
            if self.only_here[next.index()] {
                // It was kept here after it was ready.
                self.ready.pop();
                self.make_ready(next);
                continue;
            }
            if !would(next) {
                return None;
            }
            self.ready.pop();
            self.aside.insert(next);
            return Some(next);
        }
    }

    /// Begins the next step. `None` while nothing waits, or the next one has no room: nothing
    /// lighter overtakes it, so that it gets its turn.
    pub fn begin(&mut self) -> Option<StepId> {
        let is_here = self.ready_here.peek() > self.ready.peek();
        let from = if is_here {
            &mut self.ready_here
        } else {
            &mut self.ready
        };
        let next = StepId(from.peek()?.order.0);
        let weight = self.weights[next.index()];
        let fits = self.taken.processors == 0
            || (self.taken.processors + weight.processors <= self.room.processors
                && self.taken.memory.saturating_add(weight.memory) <= self.room.memory);
        if !fits {
            return None;
        }
        from.pop();
        self.taken.processors += weight.processors;
        self.taken.memory = self.taken.memory.saturating_add(weight.memory);
        Some(next)
    }

    /// Who needs a step.
    pub fn users(&self, step: StepId) -> &[StepId] {
        &self.users[step.index()]
    }

    /// Takes note that a step that was begun is done, whatever became of it.
    pub fn end(&mut self, step: StepId) {
        if !self.aside.remove(&step) {
            self.give_back(step);
        }
        let given = self.given.remove(&step).unwrap_or_default();
        for user in std::mem::take(&mut self.users[step.index()]) {
            if !given.contains(&user) {
                self.no_longer_missing(user);
            }
        }
    }

    fn give_back(&mut self, step: StepId) {
        let weight = self.weights[step.index()];
        self.taken.processors -= weight.processors;
        self.taken.memory -= weight.memory;
    }

    /// Gives back what a step takes that was begun and goes on elsewhere.
    pub fn set_aside(&mut self, step: StepId) {
        if self.aside.insert(step) {
            self.give_back(step);
        }
    }

    /// Lets a step that was set aside take room again: it goes on here.
    pub fn come_back(&mut self, step: StepId) {
        if self.aside.remove(&step) {
            let weight = self.weights[step.index()];
            self.taken.processors += weight.processors;
            self.taken.memory = self.taken.memory.saturating_add(weight.memory);
        }
    }

    /// Lets a step that was begun be begun once more.
    pub fn put_back(&mut self, step: StepId) {
        if !self.aside.remove(&step) {
            self.give_back(step);
        }
        self.make_ready(step);
    }

    /// Takes note that all is there that a step gives before it ends.
    pub fn gave_early(&mut self, step: StepId) {
        let Some(users) = self.early_users.remove(&step) else {
            return;
        };
        users.iter().for_each(|user| self.no_longer_missing(*user));
        self.given.insert(step, users.into_iter().collect());
    }

    fn no_longer_missing(&mut self, user: StepId) {
        let missing = &mut self.missing[user.index()];
        *missing -= 1;
        if *missing == 0 {
            self.make_ready(user);
        }
    }
}

/// What a step takes of the room that there is.
fn weight(limits: nubrik_graph::Limits, room: Capacity) -> Capacity {
    Capacity {
        processors: (limits.processors as usize).clamp(1, room.processors.max(1)),
        memory: limits.memory.unwrap_or(0).min(room.memory),
    }
}

/// How long work will take.
#[derive(Clone, PartialEq, Debug, Default)]
pub struct Forecast {
    /// From the first step's beginning to the last one's end, in microseconds.
    pub micros: f64,
    /// All steps' times together.
    pub work: f64,
    /// Time of the longest chain.
    pub chain_micros: f64,
    /// The longest chain, in the order in which it runs.
    pub chain: Vec<StepId>,
}

/// Plays through how the steps in `order` (each after those it needs) will run, each taking its
/// `cost` in microseconds.
pub fn forecast(
    graph: &Graph,
    order: &[StepId],
    cost: impl Fn(StepId) -> f64,
    room: Capacity,
) -> Forecast {
    let of_order: HashSet<StepId> = order.iter().copied().collect();
    // What is not in the order is done already.
    let done: HashSet<StepId> = (0..graph.steps.len() as u32)
        .map(StepId)
        .filter(|s| !of_order.contains(s))
        .collect();
    let mut queue = Queue::new(graph, order, &done, &cost, room);
    let chains = queue.chains.clone();
    let chain = chain_of(&queue, &chains, order);
    // Ends of running steps: as whole nanoseconds, so that they have an order.
    let mut running: BinaryHeap<Reverse<(u64, u32)>> = BinaryHeap::new();
    let mut now = 0u64;
    loop {
        while let Some(step) = queue.begin() {
            running.push(Reverse((now + (cost(step) * 1e3) as u64, step.0)));
        }
        let Some(Reverse((end, step))) = running.pop() else {
            break;
        };
        now = end;
        queue.end(StepId(step));
    }
    Forecast {
        micros: now as f64 / 1e3,
        work: order.iter().map(|s| cost(*s)).sum(),
        chain_micros: chain.first().map_or(0.0, |s| chains[s.index()]),
        chain,
    }
}

fn chain_of(queue: &Queue, chains: &[f64], order: &[StepId]) -> Vec<StepId> {
    let longest = |steps: &[StepId]| {
        steps
            .iter()
            .copied()
            .max_by(|a, b| chains[a.index()].total_cmp(&chains[b.index()]))
    };
    let mut chain = Vec::new();
    let mut next = longest(order);
    while let Some(step) = next {
        chain.push(step);
        next = longest(queue.users(step));
    }
    chain
}

#[cfg(test)]
mod tests {
    use super::*;
    use nubrik_graph::{FileId, FileNode, OutputNode, Step, Tables, Target};
    use nubrik_source::WsPath;

    /// A graph in which each step needs some earlier ones.
    fn graph(needs: &[Vec<usize>]) -> Graph {
        let mut graph = Tables::default();
        graph.targets.push(Target::plain("all"));
        for (i, needs) in needs.iter().enumerate() {
            let path = WsPath::from_normal(&format!("f{i}"));
            graph.files.push(FileNode {
                path,
                maker: Some(StepId(i as u32)),
                folder: false,
            });
            graph.steps.push(Box::new(Step {
                inputs: needs.iter().map(|n| FileId(*n as u32)).collect(),
                outputs: vec![OutputNode::new(FileId(i as u32), "f")],
                ..Step::empty(WsPath::from_normal(&format!("d{i}")))
            }));
        }
        graph.finish().unwrap()
    }

    fn order(graph: &Graph) -> Vec<StepId> {
        (0..graph.steps.len() as u32).map(StepId).collect()
    }

    fn room(processors: usize) -> Capacity {
        Capacity {
            processors,
            memory: 100,
        }
    }

    #[test]
    fn plays_through_what_will_run() {
        let graph = graph(&[vec![], vec![], vec![1], vec![0, 2]]);
        let costs = [1.0, 2.0, 3.0, 4.0];
        let seen = forecast(&graph, &order(&graph), |s| costs[s.index()], room(2));
        assert_eq!(
            (seen.micros, seen.work, seen.chain_micros),
            (9.0, 10.0, 9.0)
        );
        assert_eq!(seen.chain, [StepId(1), StepId(2), StepId(3)]);
        let one = forecast(&graph, &order(&graph), |s| costs[s.index()], room(1));
        assert_eq!(one.micros, 10.0);
        // What is not asked for is there already.
        let rest = forecast(&graph, &[StepId(3)], |_| 5.0, room(2));
        assert_eq!((rest.micros, rest.chain), (5.0, vec![StepId(3)]));
        assert_eq!(forecast(&graph, &[], |_| 5.0, room(2)), Forecast::default());
    }

    #[test]
    fn heavy_steps_wait_for_room_and_get_their_turn() {
        let mut tables = graph(&[vec![], vec![], vec![], vec![]]).into_tables();
        tables.steps[0].limits.processors = 8;
        tables.steps[1].limits.memory = Some(60);
        tables.steps[2].limits.memory = Some(60);
        let graph = tables.finish().unwrap();
        let order = order(&graph);
        let mut queue = Queue::new(&graph, &order, &HashSet::new(), |_| 1.0, room(4));
        // Eight of four processors: all of them, alone.
        assert_eq!((queue.begin(), queue.begin()), (Some(StepId(0)), None));
        queue.end(StepId(0));
        assert_eq!(
            (queue.begin(), queue.begin()),
            (Some(StepId(1)), None),
            "no memory for both"
        );
        queue.end(StepId(1));
        assert_eq!(
            (queue.begin(), queue.begin(), queue.begin()),
            (Some(StepId(2)), Some(StepId(3)), None)
        );
    }

    #[test]
    fn who_needs_only_what_comes_early_does_not_wait_for_the_end() {
        let mut tables = graph(&[vec![], vec![0], vec![0, 1]]).into_tables();
        // The first step makes a second file, which the last one needs, too.
        let path = WsPath::from_normal("late");
        tables.files.push(FileNode {
            path,
            maker: Some(StepId(0)),
            folder: false,
        });
        tables.steps[0].outputs[0].early = true;
        tables.steps[0]
            .outputs
            .push(OutputNode::new(FileId(3), "late"));
        tables.steps[2].inputs = [0, 1, 3].map(FileId).into_iter().collect();
        let graph = tables.finish().unwrap();
        let new_queue = || Queue::new(&graph, &order(&graph), &HashSet::new(), |_| 1.0, room(4));
        let mut queue = new_queue();
        assert_eq!((queue.begin(), queue.begin()), (Some(StepId(0)), None));
        queue.gave_early(StepId(0));
        queue.gave_early(StepId(0));
        assert_eq!((queue.begin(), queue.begin()), (Some(StepId(1)), None));
        queue.end(StepId(1));
        assert_eq!(queue.begin(), None, "the other file is not there");
        queue.end(StepId(0));
        assert_eq!((queue.begin(), queue.begin()), (Some(StepId(2)), None));
        // Where nothing was given early, the end gives all.
        let mut queue = new_queue();
        queue.begin();
        queue.end(StepId(0));
        assert_eq!((queue.begin(), queue.begin()), (Some(StepId(1)), None));
    }

    /// Numbers that look random and are the same in each run.
    struct Random(u64);

    impl Random {
        fn below(&mut self, end: usize) -> usize {
            self.0 = self
                .0
                .wrapping_mul(6_364_136_223_846_793_005)
                .wrapping_add(1_442_695_040_888_963_407);
            (self.0 >> 33) as usize % end
        }
    }

    /// Random projects: sources that are compiled, some generated before, archived, linked and used
    /// to make more.
    fn project(seed: u64) -> (Graph, Vec<f64>) {
        let mut numbers = Random(seed);
        let (mut needs, mut costs): (Vec<Vec<usize>>, Vec<f64>) = (Vec::new(), Vec::new());
        let mut libraries: Vec<usize> = Vec::new();
        for _ in 0..3 + numbers.below(12) {
            let generator = (numbers.below(3) == 0 && !libraries.is_empty()).then(|| {
                let library = libraries[numbers.below(libraries.len())];
                needs.push(vec![library]);
                costs.push(20_000.0 + numbers.below(100_000) as f64);
                needs.len() - 1
            });
            let mut objects = Vec::new();
            for _ in 0..4 + numbers.below(40) {
                needs.push(generator.into_iter().collect());
                // Most sources are small, some are large.
                let large = if numbers.below(12) == 0 { 12.0 } else { 1.0 };
                costs.push(large * (30_000.0 + numbers.below(200_000) as f64));
                objects.push(needs.len() - 1);
            }
            for _ in 0..numbers.below(3) {
                if !libraries.is_empty() {
                    objects.push(libraries[numbers.below(libraries.len())]);
                }
            }
            needs.push(objects);
            costs.push(10_000.0 + numbers.below(90_000) as f64);
            libraries.push(needs.len() - 1);
        }
        (graph(&needs), costs)
    }

    #[test]
    fn work_ends_hardly_later_than_it_could() {
        let mut ratios = Vec::new();
        for seed in 0..400 {
            let (graph, costs) = project(seed);
            for processors in [2, 4, 8, 16] {
                let seen = forecast(
                    &graph,
                    &order(&graph),
                    |s| costs[s.index()],
                    room(processors),
                );
                let bound = seen.chain_micros.max(seen.work / processors as f64);
                let ratio = seen.micros / bound;
                // No order that never idles can be worse than this.
                assert!(
                    ratio <= 2.0 - 1.0 / processors as f64,
                    "seed {seed}, {processors}: {ratio}"
                );
                ratios.push(ratio);
            }
        }
        ratios.sort_by(f64::total_cmp);
        let at = |part: usize| ratios[ratios.len() * part / 100];
        assert!(
            at(50) < 1.01 && at(90) <= 1.02 && at(98) <= 1.1,
            "{:?}",
            [50, 90, 98].map(at)
        );
    }
}
