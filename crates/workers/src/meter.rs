//! What monitoring systems read of a worker: numbers of its jobs, of its pool and of the shared
//! cache that it uses. Nothing secret is among them, and nothing of what jobs are of.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use nubrik_reports::metrics::{MEDIA, MetricFamily, MetricKind, MetricUnit, Sample, open_metrics};
use nubrik_shared::{SharedStore, Traffic};
use nubrik_web::{Caller, HttpAnswer, HttpRequest};
use parking_lot::Mutex;

use crate::Hand;

/// How a job ended on this machine.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum WorkEnd {
    /// Its step made its result.
    Ran,
    /// The commands of its step failed: its client runs them once more.
    Failed,
    /// This machine is another one than the job is for.
    Unfit,
    /// Something was missing here, or went wrong.
    Undone,
    /// It was signed by nobody who may give jobs, or cannot be read.
    Refused,
    /// It was given back, since this worker ends.
    HandedBack,
    /// Nobody waited for it any more.
    Unwanted,
    /// Its answer could not be sent: another worker does it.
    Unsent,
}

impl WorkEnd {
    /// All ways in which jobs end.
    pub const ALL: [WorkEnd; 8] = [
        WorkEnd::Ran,
        WorkEnd::Failed,
        WorkEnd::Unfit,
        WorkEnd::Undone,
        WorkEnd::Refused,
        WorkEnd::HandedBack,
        WorkEnd::Unwanted,
        WorkEnd::Unsent,
    ];

    /// As monitoring systems see it.
    pub fn word(self) -> &'static str {
        match self {
            WorkEnd::Ran => "ran",
            WorkEnd::Failed => "failed",
            WorkEnd::Unfit => "unfit",
            WorkEnd::Undone => "undone",
            WorkEnd::Refused => "refused",
            WorkEnd::HandedBack => "handed_back",
            WorkEnd::Unwanted => "unwanted",
            WorkEnd::Unsent => "unsent",
        }
    }
}

/// Shared caches of this worker: each is opened anew from time to time.
#[derive(Default)]
struct OpenedCaches {
    open: Vec<Arc<SharedStore>>,
    /// What was moved with those that nobody uses any more.
    past: Traffic,
}

/// Counts what a worker does.
#[derive(Default)]
pub(crate) struct WorkMeter {
    ends: [AtomicU64; WorkEnd::ALL.len()],
    micros: AtomicU64,
    /// When the last job ended, in seconds since 1970; 0 for none.
    last: AtomicU64,
    caches: Mutex<OpenedCaches>,
}

fn sum(a: Traffic, b: Traffic) -> Traffic {
    let Traffic {
        requests,
        moved,
        mut mirror,
        sent,
        raw,
        differences,
    } = a;
    mirror.requests += b.mirror.requests;
    mirror.moved += b.mirror.moved;
    mirror.copied += b.mirror.copied;
    Traffic {
        requests: requests + b.requests,
        moved: moved + b.moved,
        mirror,
        sent: sent + b.sent,
        raw: raw + b.raw,
        differences: differences + b.differences,
    }
}

impl WorkMeter {
    /// Takes note of a job that ended, and how long it ran.
    pub fn ended(&self, end: WorkEnd, took: Duration) {
        let now = SystemTime::now()
            .duration_since(UNIX_EPOCH)
            .unwrap_or_default();
        self.ends[end as usize].fetch_add(1, Ordering::Relaxed);
        self.micros
            .fetch_add(took.as_micros() as u64, Ordering::Relaxed);
        self.last.store(now.as_secs(), Ordering::Relaxed);
    }

    /// Counts what is moved with a shared cache from now on.
    pub fn follow(&self, shared: &Arc<SharedStore>) {
        let mut caches = self.caches.lock();
        caches.forget_closed();
        if !caches.open.iter().any(|known| Arc::ptr_eq(known, shared)) {
            caches.open.push(shared.clone());
        }
    }

    fn traffic(&self) -> Traffic {
        let mut caches = self.caches.lock();
        caches.forget_closed();
        caches
            .open
            .iter()
            .fold(caches.past, |all, shared| sum(all, shared.traffic()))
    }

    /// What is known now, as families of numbers.
    fn families(&self, hand: &Hand, version: &str) -> Vec<MetricFamily> {
        use MetricKind::{Counter, Gauge, Info};
        let (alive, traffic) = (hand.alive(), self.traffic());
        let label = |name: &'static str, value: &str| (name, value.to_owned());
        let labelled =
            |named: (&'static str, MetricKind), help: &'static str, samples: Vec<Sample>| {
                MetricFamily {
                    name: named.0,
                    kind: named.1,
                    unit: MetricUnit::None,
                    help,
                    samples,
                }
            };
        let count = |name: &'static str, kind: MetricKind, help: &'static str, value: u64| {
            MetricFamily::one((name, kind, MetricUnit::None), help, value as f64)
        };
        let bytes = |name: &'static str, help: &'static str, value: u64| {
            MetricFamily::one((name, Counter, MetricUnit::Bytes), help, value as f64)
        };
        let own = vec![
            label("name", &alive.name),
            label("version", version),
            label("machine", &alive.machine),
        ];
        let ends = WorkEnd::ALL.iter().map(|end| Sample {
            labels: vec![label("end", end.word())],
            value: self.ends[*end as usize].load(Ordering::Relaxed) as f64,
        });
        let took = self.micros.load(Ordering::Relaxed) as f64 / 1e6;
        let last = self.last.load(Ordering::Relaxed);
        let mut all = vec![
            labelled(
                ("nubrik_worker", Info),
                "The worker.",
                vec![Sample {
                    labels: own,
                    value: 1.0,
                }],
            ),
            count(
                "nubrik_worker_slots",
                Gauge,
                "How many steps run at once.",
                alive.slots as u64,
            ),
            count(
                "nubrik_worker_busy",
                Gauge,
                "How many of them run a step now.",
                alive.busy as u64,
            ),
            count(
                "nubrik_worker_away",
                Gauge,
                "1 while the worker takes no jobs: /health says why.",
                u64::from(alive.away.is_some()),
            ),
            labelled(
                ("nubrik_worker_jobs", Counter),
                "Jobs that ended, by how.",
                ends.collect(),
            ),
            MetricFamily::one(
                ("nubrik_worker_job_seconds", Counter, MetricUnit::Seconds),
                "Time that jobs ran, all together.",
                took,
            ),
            MetricFamily::one(
                (
                    "nubrik_worker_last_job_timestamp_seconds",
                    Gauge,
                    MetricUnit::Seconds,
                ),
                "When the last job ended, since 1970; 0 for none.",
                last as f64,
            ),
            count(
                "nubrik_shared_requests",
                Counter,
                "Requests to the shared cache and its mirror.",
                traffic.requests,
            ),
            bytes(
                "nubrik_shared_received_bytes",
                "What came from them.",
                traffic.moved,
            ),
            bytes(
                "nubrik_shared_mirror_bytes",
                "What of that the mirror gave.",
                traffic.mirror.moved,
            ),
            bytes(
                "nubrik_shared_sent_bytes",
                "What went to the shared cache.",
                traffic.sent,
            ),
        ];
        if let Some(queue) = hand.queue() {
            let of_kind = |value: u64| {
                let labels = vec![label("pool", &queue.pool), label("kind", &queue.kind)];
                vec![Sample {
                    labels,
                    value: value as f64,
                }]
            };
            let waiting = "Jobs for this kind of machine that nobody took yet.";
            all.push(labelled(
                ("nubrik_pool_waiting", Gauge),
                waiting,
                of_kind(queue.waiting),
            ));
            let begun = "Jobs for this kind of machine that some worker has taken.";
            all.push(labelled(
                ("nubrik_pool_taken", Gauge),
                begun,
                of_kind(queue.taken),
            ));
        }
        all
    }

    /// Answers whoever asks: `/metrics` for numbers, `/health` for whether the worker takes jobs
    /// now (200, or 503 and why not).
    pub fn answer(&self, hand: &Hand, version: &str, request: &HttpRequest, caller: &mut Caller) {
        const TEXT: &str = "text/plain; charset=utf-8";
        let text = |code: u16, said: String| HttpAnswer {
            code,
            media: TEXT,
            body: said.into_bytes(),
        };
        let path = request.url.split('?').next().unwrap_or_default();
        let answer = match (&*request.method, path) {
            ("GET" | "HEAD", "/metrics") => {
                let body = open_metrics(&self.families(hand, version)).into_bytes();
                HttpAnswer {
                    code: 200,
                    media: MEDIA,
                    body,
                }
            }
            ("GET" | "HEAD", "/health") => match hand.alive().away {
                None if hand.queue().is_none() => {
                    text(503, "the server for jobs does not answer\n".to_owned())
                }
                None => text(200, "takes jobs\n".to_owned()),
                Some(why) => text(503, format!("takes no jobs for a while: {why}\n")),
            },
            ("GET" | "HEAD", _) => text(404, "there are /metrics and /health\n".to_owned()),
            _ => text(405, "only GET and HEAD are answered\n".to_owned()),
        };
        let more = [
            ("Cache-Control", "no-store"),
            ("X-Content-Type-Options", "nosniff"),
        ];
        caller.respond(request.method != "HEAD", &answer, &more);
    }
}

impl OpenedCaches {
    /// Adds up what was moved with shared caches that nobody else has any more.
    fn forget_closed(&mut self) {
        let past = &mut self.past;
        self.open.retain(|shared| {
            let is_used = Arc::strong_count(shared) > 1;
            if !is_used {
                *past = sum(*past, shared.traffic());
            }
            is_used
        });
    }
}
