//! The threads of a build, most of which give up the network: what they start has none either, and
//! need not be hear so each time. What does use the network is done by other threads for them.

use std::cell::Cell;
use std::sync::OnceLock;

use nubrik_confine::Surroundings;
use rayon_core::{ThreadPool, ThreadPoolBuilder};

/// A worker gives up the network at this step: for fewer it does not pay to have threads that keep
/// it.
const WORTH_IT: u32 = 4;

/// What a thread may do.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Privileges {
    /// Everything, now and later.
    Free,
    /// Everything so far; it has performed so many steps without the network.
    Worker(u32),
    /// It has given up the network.
    GivenUp,
}

thread_local! {
    static STANDING: Cell<Privileges> = const { Cell::new(Privileges::Free) };
}

/// Threads that keep the network while workers give it up.
#[derive(Default)]
pub(crate) struct Workers {
    count: OnceLock<usize>,
    /// One thread, begun while that may still use the network; it begins the others once they are
    /// wanted.
    first: OnceLock<Option<ThreadPool>>,
    all: OnceLock<Option<ThreadPool>>,
}

impl Workers {
    /// This thread is one of so many workers, and will be nothing else.
    pub fn begin(&self, count: usize) {
        let _ = self.count.set(count);
        STANDING.set(Privileges::Worker(0));
    }

    /// This thread is about to start something that may not use the network, in these surroundings
    /// like all that it starts.
    pub fn without_network(&self, surroundings: Surroundings) {
        let Privileges::Worker(steps) = STANDING.get() else {
            return;
        };
        if steps + 1 < WORTH_IT {
            return STANDING.set(Privileges::Worker(steps + 1));
        }
        let others = self.first.get_or_init(|| pool(1));
        // A process that cannot give it up goes on as before.
        let has = others.is_some() && nubrik_confine::give_up_network(surroundings);
        STANDING.set(if has {
            Privileges::GivenUp
        } else {
            Privileges::Free
        });
    }

    /// Does something for which the network may be needed, on a thread that has it.
    pub fn with_network<T: Send>(&self, work: impl FnOnce() -> T + Send) -> T {
        if STANDING.get() != Privileges::GivenUp {
            return work();
        }
        self.elsewhere(work)
    }

    /// Does something on a thread that lives as long as this value does: processes end with the
    /// thread that started them.
    pub fn lasting<T: Send>(&self, work: impl FnOnce() -> T + Send) -> T {
        if STANDING.get() != Privileges::GivenUp {
            self.first.get_or_init(|| pool(1));
        }
        self.elsewhere(work)
    }

    fn elsewhere<T: Send>(&self, work: impl FnOnce() -> T + Send) -> T {
        let Some(first) = self.first.get().and_then(Option::as_ref) else {
            return work();
        };
        // As many as workers: none of these waits for another one's.
        let count = self.count.get().copied().unwrap_or(1);
        let all = first.install(|| self.all.get_or_init(|| pool(count)));
        all.as_ref().unwrap_or(first).install(work)
    }
}

fn pool(threads: usize) -> Option<ThreadPool> {
    ThreadPoolBuilder::new().num_threads(threads).build().ok()
}

#[cfg(test)]
mod tests {
    use std::net::UdpSocket;

    use nubrik_confine::Network;

    use super::*;

    #[test]
    fn the_network_is_kept_for_those_who_need_it() {
        // Without a filter nothing is given up, and everything goes on all the same.
        let filters = nubrik_confine::support().network_filter;
        let none = Surroundings {
            network: Network::None,
            own_processes: false,
            own_memory: false,
            only_looks: false,
        };
        let workers = Workers::default();
        let has_network = || UdpSocket::bind("127.0.0.1:0").is_ok();
        std::thread::scope(|scope| {
            scope.spawn(|| {
                workers.begin(1);
                for _ in 1..WORTH_IT {
                    workers.without_network(none);
                    assert!(has_network());
                }
                workers.without_network(none);
                assert_eq!(has_network(), !filters);
                // Borrowed things may go along, and an answer comes back.
                let text = String::from("low water");
                let (has, length) = workers.with_network(|| (has_network(), text.len()));
                assert!(has && length == 9);
            });
        });
        // Who is no worker keeps it.
        workers.without_network(none);
        assert!(has_network() && workers.with_network(has_network));
    }
}
