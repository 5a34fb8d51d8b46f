//! Playing through a build with many workers, by the order in which steps are really begun: what a
//! real build with so many would take. Nothing runs; the time is counted.

use std::cmp::Reverse;
use std::collections::{BinaryHeap, HashSet, VecDeque};

use nubrik_graph::{Graph, StepId};

use crate::queue::{Capacity, Queue};

/// Workers as they are played; times in nanoseconds.
#[derive(Clone, Copy, Debug)]
pub struct PlayedCrew {
    /// How many steps they run at once, together.
    pub slots: usize,
    /// How long the one who has work takes to write a job, and to read an answer, on one processor.
    pub message: u64,
    /// How many processors it has for that; at least one.
    pub processors: usize,
    /// From them to a worker and back.
    pub round_trip: u64,
    /// How long the store takes to give what a step reads and to take what it makes, for all steps
    /// one after the other.
    pub transfer: u64,
    /// Of a million jobs at so many the worker dies, and is back after a minute.
    pub deaths: u64,
    /// After this time a job of a worker that died is another one's.
    pub lease: u64,
    /// A step that takes so many times as long as it should is sent once more when there is nothing
    /// else to do; 0 for never.
    pub late: u64,
}

/// For so many free slots so many steps are under way.
const UNDER_WAY: (usize, usize) = (5, 4);

/// A worker that died is back after so long.
const BACK: u64 = 60_000_000_000;

/// Nothing is late before this.
const NOT_LATE: u64 = 2_000_000_000;

/// What happens at some time.
#[derive(PartialEq, Eq, PartialOrd, Ord, Clone, Copy)]
enum Happening {
    /// A job has come to the server.
    Waits(u32),
    /// A slot is free.
    Free,
    /// The answer of a step has come.
    Answered(u32),
    /// A job is given to another one.
    Again(u32),
    /// It is looked whether something is late.
    Look,
}

/// A build that is played.
struct Play<'p> {
    crew: PlayedCrew,
    cost: &'p dyn Fn(StepId) -> u64,
    queue: Queue,
    happenings: BinaryHeap<Reverse<(u64, Happening)>>,
    waiting: VecDeque<u32>,
    free: usize,
    under_way: usize,
    sent_at: Vec<u64>,
    ended: HashSet<u32>,
    copied: HashSet<u32>,
    running: Vec<u32>,
    /// When each processor of the one who has work is free.
    client_free: BinaryHeap<Reverse<u64>>,
    /// Until when the answers that came are read.
    read_until: u64,
    /// When workers died.
    deaths: Vec<u64>,
    store_free: u64,
    random: u64,
}

/// What came of a played build, in nanoseconds.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Played {
    /// How long it took.
    pub took: u64,
    /// How long workers were dead in it, all together.
    pub dead: u64,
}

/// Plays a build with some workers. `cost` is what each step takes, in nanoseconds.
pub fn play(
    graph: &Graph,
    order: &[StepId],
    cost: &dyn Fn(StepId) -> u64,
    crew: PlayedCrew,
) -> Played {
    let room = Capacity {
        processors: usize::MAX / 2,
        memory: u64::MAX,
    };
    let queue = Queue::new(
        graph,
        order,
        &HashSet::new(),
        |step| cost(step) as f64 / 1e3,
        room,
    );
    let mut play = Play {
        crew,
        cost,
        queue,
        happenings: BinaryHeap::new(),
        waiting: VecDeque::new(),
        free: crew.slots,
        under_way: 0,
        sent_at: vec![0; graph.steps.len()],
        ended: HashSet::new(),
        copied: HashSet::new(),
        running: Vec::new(),
        client_free: (0..crew.processors.max(1)).map(|_| Reverse(0)).collect(),
        read_until: 0,
        deaths: Vec::new(),
        store_free: 0,
        random: 7,
    };
    play.send(0);
    if crew.late > 0 {
        play.happenings.push(Reverse((NOT_LATE, Happening::Look)));
    }
    let mut now = 0;
    while play.ended.len() < order.len() {
        let Some(Reverse((at, happening))) = play.happenings.pop() else {
            break;
        };
        play.happen(at, happening);
        if !matches!(happening, Happening::Free | Happening::Look) {
            now = now.max(play.read_until);
        }
    }
    let dead = play
        .deaths
        .iter()
        .map(|died| now.saturating_sub(*died).min(BACK))
        .sum();
    Played { took: now, dead }
}

impl Play<'_> {
    fn happen(&mut self, now: u64, happening: Happening) {
        match happening {
            Happening::Waits(step) => self.waiting.push_back(step),
            Happening::Again(step) => self.waiting.push_front(step),
            Happening::Free => self.free += 1,
            Happening::Answered(step) => {
                let read = self.message(now);
                self.read_until = self.read_until.max(read);
                if self.ended.insert(step) {
                    self.under_way -= 1;
                    self.running.retain(|other| *other != step);
                    self.queue.end(StepId(step));
                    self.send(read);
                }
            }
            Happening::Look => {
                self.send_late(now);
                self.happenings
                    .push(Reverse((now + NOT_LATE / 4, Happening::Look)));
            }
        }
        while self.free > 0
            && let Some(step) = self.waiting.pop_front()
        {
            if !self.ended.contains(&step) {
                self.begin(step, now);
            }
        }
    }

    /// When a message is written or read that could be at some time: by the processor that is free
    /// first.
    fn message(&mut self, now: u64) -> u64 {
        let Reverse(free) = self.client_free.pop().unwrap_or(Reverse(0));
        let done = free.max(now) + self.crew.message;
        self.client_free.push(Reverse(done));
        done
    }

    /// Sends what there is room for.
    fn send(&mut self, now: u64) {
        let most = self.crew.slots * UNDER_WAY.0 / UNDER_WAY.1;
        while self.under_way < most.max(1)
            && let Some(step) = self.queue.begin()
        {
            let sent = self.message(now);
            self.under_way += 1;
            self.sent_at[step.index()] = sent;
            self.running.push(step.0);
            let at = sent + self.crew.round_trip / 2;
            self.happenings
                .push(Reverse((at, Happening::Waits(step.0))));
        }
    }

    /// A worker takes a step.
    fn begin(&mut self, step: u32, now: u64) {
        self.free -= 1;
        let cost = (self.cost)(StepId(step));
        self.store_free = self.store_free.max(now) + self.crew.transfer;
        let begins = self.store_free + self.crew.round_trip / 2;
        self.random = self
            .random
            .wrapping_mul(6_364_136_223_846_793_005)
            .wrapping_add(1_442_695_040_888_963_407);
        let draw = self.random >> 33;
        if draw % 1_000_000 < self.crew.deaths {
            let dies = begins + cost / 2;
            self.happenings
                .push(Reverse((dies + self.crew.lease, Happening::Again(step))));
            self.deaths.push(dies);
            self.happenings
                .push(Reverse((dies + BACK, Happening::Free)));
            return;
        }
        let ends = begins + cost;
        self.happenings.push(Reverse((ends, Happening::Free)));
        self.happenings.push(Reverse((
            ends + self.crew.round_trip / 2,
            Happening::Answered(step),
        )));
    }

    /// Sends what is late once more, where slots are free.
    fn send_late(&mut self, now: u64) {
        let mut room = self.free.saturating_sub(self.waiting.len());
        let late: Vec<u32> = self
            .running
            .iter()
            .copied()
            .filter(|step| {
                let should = (self.cost)(StepId(*step)) * self.crew.late;
                now.saturating_sub(self.sent_at[*step as usize]) > should.max(NOT_LATE)
                    && !self.copied.contains(step)
            })
            .collect();
        for step in late {
            if room == 0 {
                return;
            }
            room -= 1;
            self.copied.insert(step);
            let at = self.message(now) + self.crew.round_trip / 2;
            self.happenings.push(Reverse((at, Happening::Waits(step))));
        }
    }
}

#[cfg(test)]
mod tests {
    use nubrik_graph::{FileId, FileNode, OutputNode, Step, Tables, Target};
    use nubrik_source::WsPath;

    use super::*;

    const CREW: PlayedCrew = PlayedCrew {
        slots: 2,
        message: 0,
        processors: 1,
        round_trip: 0,
        transfer: 0,
        deaths: 0,
        lease: 15_000_000_000,
        late: 3,
    };

    /// Steps, each needing the one before it.
    fn row(count: u32) -> (Graph, Vec<StepId>) {
        let mut graph = Tables::default();
        graph.targets.push(Target::plain("all"));
        for number in 0..count {
            let path = WsPath::from_normal(&format!("f{number}"));
            graph.files.push(FileNode {
                path,
                maker: Some(StepId(number)),
                folder: false,
            });
            graph.steps.push(Box::new(Step {
                inputs: number.checked_sub(1).map(FileId).into_iter().collect(),
                outputs: vec![OutputNode::new(FileId(number), "f")],
                ..Step::empty(WsPath::from_normal(&format!("d{number}")))
            }));
        }
        (graph.finish().unwrap(), (0..count).map(StepId).collect())
    }

    #[test]
    fn a_row_takes_its_length_and_the_ways() {
        let (graph, order) = row(10);
        let second = |_: StepId| 1_000_000_000;
        assert_eq!(
            play(&graph, &order, &second, CREW),
            Played {
                took: 10_000_000_000,
                dead: 0
            }
        );
        let far = PlayedCrew {
            round_trip: 40_000_000,
            message: 100_000,
            ..CREW
        };
        // Two messages, there and back for the job, and the way to what it reads.
        assert_eq!(
            play(&graph, &order, &second, far).took,
            10 * (1_000_000_000 + 200_000 + 60_000_000)
        );
        // Whoever dies is waited for no longer than until the step is late.
        let deadly = PlayedCrew {
            deaths: 200_000,
            slots: 32,
            ..CREW
        };
        let (long, order) = row(40);
        let Played { took, dead } = play(&long, &order, &second, deadly);
        assert!(dead > 0);
        let patient = play(&long, &order, &second, PlayedCrew { late: 0, ..deadly }).took;
        assert!(took > 40_000_000_000 && took < patient, "{took} {patient}");
    }
}
