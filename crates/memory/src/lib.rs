//! What a workspace remembers between runs, in files of the tool's own folder. Losing any of it
//! costs time, never truth: each file begins with a digest of what must be whole, and what is
//! damaged is as though it had never been written.
//!
//! ```
//! use nubrik_disk::Below;
//! use nubrik_engine::{Changes, State};
//! use nubrik_memory::{Journal, STATE_FILE};
//!
//! let folder = tempfile::tempdir()?;
//! let own = Below::new(folder.path())?;
//! let mut state = Journal::from(State::default());
//! state.add(&own, STATE_FILE, Changes { builds: 1, ..Changes::default() }).map_err(|(_, e)| e)?;
//! let loaded: Option<Journal<State>> = Journal::load(&own, STATE_FILE);
//! assert_eq!(loaded.map(|state| state.builds), Some(1));
//! # Ok::<(), std::io::Error>(())
//! ```

mod heap;
mod history;
mod journal;
mod numbers;
mod path_index;
mod reads;
mod results;
mod seal;
mod seals;
mod snapshot;
mod splice;
mod state;
mod trails;

pub use heap::{Heap, Pieces};
pub use history::{
    BuildRecord, Chronicle, SharedRecord, StepRecord, keep_build, kept_builds, newest_build,
};
pub use journal::{FileProblem, Journal, Kept, OpenJournal, Version};
pub use numbers::{KeptNumbers, Lists, NumberList};
pub use reads::{KeptRead, ReadTrails, keep_read, read_path};
pub use results::Results;
pub use seal::{
    Change, Entry, NO_NODE, Names, NewHead, NewSeal, Roles, Seal, SealNews, Sealed, ToLookAt,
    env_digest,
};
pub use seals::{forget_old_seals, read_snapshot, read_trails, save_graph, seal_path, write_seal};
pub use snapshot::{ReachedPart, Snapshot};
pub use splice::{Spliced, splice};
pub use state::STATE_FILE;
pub use trails::{TrailIndex, Trails};
