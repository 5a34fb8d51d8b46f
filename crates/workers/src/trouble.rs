//! Why workers cannot be asked, or a machine cannot be one.

use std::fmt;
use std::path::PathBuf;

use nubrik_shared::NoRandomNumbers;

use crate::ExchangeTrouble;

/// Why workers cannot be asked, or a machine cannot be one. Its text is for people.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum WorkersTrouble {
    /// The server for jobs cannot be asked.
    Jobs(ExchangeTrouble),
    /// No place for jobs can be made: the folder, and why.
    NoPlace(PathBuf, String),
    /// This machine gives no random numbers.
    NoRandomNumbers,
}

impl fmt::Display for WorkersTrouble {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            WorkersTrouble::Jobs(trouble) => write!(f, "{trouble}"),
            WorkersTrouble::NoPlace(folder, why) => {
                write!(f, "cannot work in {}: {why}", folder.display())
            }
            WorkersTrouble::NoRandomNumbers => write!(f, "{NoRandomNumbers}"),
        }
    }
}

impl std::error::Error for WorkersTrouble {}

impl From<ExchangeTrouble> for WorkersTrouble {
    fn from(trouble: ExchangeTrouble) -> WorkersTrouble {
        WorkersTrouble::Jobs(trouble)
    }
}

impl From<NoRandomNumbers> for WorkersTrouble {
    fn from(_: NoRandomNumbers) -> WorkersTrouble {
        WorkersTrouble::NoRandomNumbers
    }
}
