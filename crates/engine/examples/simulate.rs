//! Plays builds of 100,000 steps with many workers, by the order in which steps are really begun,
//! and prints how much longer they take than they could: than the longest chain, or all work shared
//! by all workers that live, whichever is longer.
//!
//!     cargo run --release -p nubrik-engine --example simulate [STEPS]
//!     cargo run --release -p nubrik-engine --example simulate STEPS MILLISECONDS WORKERS
//!     MILLISECONDS_AWAY

use nubrik_engine::{PlayedCrew, play};
use nubrik_graph::{
    FileId, FileNode, Graph, OutputNode, Step, StepId, Tables, Target, longest_chains,
};
use nubrik_source::WsPath;

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

/// A graph in which each step needs some earlier ones.
fn graph(needs: &[Vec<u32>]) -> Graph {
    let mut graph = Tables::default();
    graph.targets.push(Target::plain("all"));
    for (number, needs) in (0..).zip(needs) {
        let path = WsPath::from_normal(&format!("f{number}"));
        graph.files.push(FileNode {
            path,
            maker: Some(StepId(number)),
            folder: false,
        });
        graph.steps.push(Box::new(Step {
            inputs: needs.iter().map(|need| FileId(*need)).collect(),
            outputs: vec![OutputNode::new(FileId(number), "f")],
            ..Step::empty(WsPath::from_normal(&format!("d{number}")))
        }));
    }
    match graph.finish() {
        Ok(graph) => graph,
        Err(_) => unreachable!("each step needs earlier ones only"),
    }
}

/// A project of so many steps: sources that are compiled, archived, and linked; in a mixed one
/// libraries need others, and some sources are made by programs of the project.
fn project(steps: usize, is_mixed: bool) -> (Graph, Vec<u64>) {
    let mut random = Random(7);
    let (mut needs, mut costs): (Vec<Vec<u32>>, Vec<u64>) = (Vec::new(), Vec::new());
    let mut libraries: Vec<u32> = Vec::new();
    while needs.len() < steps {
        let maker = (is_mixed && random.below(3) == 0 && !libraries.is_empty()).then(|| {
            let first = libraries.len().saturating_sub(40);
            needs.push(vec![
                libraries[first + random.below(libraries.len() - first)],
            ]);
            costs.push(1_000_000 * (20 + random.below(100) as u64));
            needs.len() as u32 - 1
        });
        let mut inside = Vec::new();
        for _ in 0..4 + random.below(60) {
            needs.push(maker.into_iter().collect());
            // Most sources are small, some are large.
            let large = if random.below(12) == 0 { 12 } else { 1 };
            costs.push(large * 1_000_000 * (30 + random.below(400) as u64));
            inside.push(needs.len() as u32 - 1);
        }
        needs.push(inside);
        costs.push(1_000_000 * (10 + random.below(90) as u64));
        libraries.push(needs.len() as u32 - 1);
    }
    (graph(&needs), costs)
}

/// Prints what is played of a real build: so many steps of so many milliseconds, with so many
/// workers so many milliseconds away, and one slot here.
fn like_a_real_one(numbers: &[u64]) {
    let [steps, cost, slots, round_trip] = numbers[..] else {
        return;
    };
    let graph = graph(&vec![Vec::new(); steps as usize]);
    let order: Vec<StepId> = (0..graph.steps.len() as u32).map(StepId).collect();
    let (message, late, lease) = (100_000, 3, 15_000_000_000);
    let (slots, round_trip) = (slots as usize + 1, round_trip * 1_000_000);
    let crew = PlayedCrew {
        slots,
        message,
        processors: 1,
        round_trip,
        transfer: 0,
        deaths: 0,
        lease,
        late,
    };
    let took = play(&graph, &order, &|_| cost * 1_000_000, crew).took;
    println!("{:.1}", took as f64 / 1e9);
}

fn main() {
    let numbers: Vec<u64> = std::env::args()
        .skip(1)
        .filter_map(|text| text.parse().ok())
        .collect();
    if numbers.len() == 4 {
        return like_a_real_one(&numbers);
    }
    let steps = std::env::args()
        .nth(1)
        .and_then(|count| count.parse().ok())
        .unwrap_or(100_000);
    let usual = PlayedCrew {
        slots: 2,
        message: 100_000,
        processors: 1,
        round_trip: 1_000_000,
        transfer: 0,
        deaths: 0,
        lease: 15_000_000_000,
        late: 3,
    };
    // 200 KiB a step at 10 Gbit/s.
    let transfer = 160_000;
    let cases = [
        ("usual", usual),
        (
            "on 8 processors",
            PlayedCrew {
                processors: 8,
                ..usual
            },
        ),
        (
            "0.02 ms a message",
            PlayedCrew {
                message: 20_000,
                ..usual
            },
        ),
        (
            "20 ms away",
            PlayedCrew {
                round_trip: 20_000_000,
                ..usual
            },
        ),
        (
            "1 of 1,000 dies",
            PlayedCrew {
                deaths: 1_000,
                ..usual
            },
        ),
        (
            "the same, no copies",
            PlayedCrew {
                deaths: 1_000,
                late: 0,
                ..usual
            },
        ),
        ("a store of 10 Gbit/s", PlayedCrew { transfer, ..usual }),
    ];
    for (name, is_mixed) in [("mixed", true), ("wide", false)] {
        let (graph, costs) = project(steps, is_mixed);
        let order: Vec<StepId> = (0..graph.steps.len() as u32).map(StepId).collect();
        let chains = longest_chains(&graph, &order, |step| costs[step.index()] as f64);
        let chain = chains.iter().copied().fold(0.0, f64::max);
        let work: u64 = costs.iter().sum();
        println!(
            "{name}: {} steps, {:.0} s of work, longest chain {:.1} s",
            order.len(),
            work as f64 / 1e9,
            chain / 1e9
        );
        for (case, crew) in cases {
            let ratios = [2, 200, 5_000].map(|slots| {
                let took = play(
                    &graph,
                    &order,
                    &|step| costs[step.index()],
                    PlayedCrew { slots, ..crew },
                );
                // While workers are dead, the work is shared by the others.
                took.took as f64 / chain.max((work + took.dead) as f64 / slots as f64)
            });
            let [few, many, most] = ratios;
            println!("  {case:<22} 2 workers {few:.3}   200 {many:.3}   5,000 {most:.3}");
        }
    }
}
