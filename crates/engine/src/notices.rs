//! What is said of a build besides its steps, in sentences.

use std::fmt;

use nubrik_wording::{counted, size};

use crate::event::Notice;
use crate::failures::together;

impl fmt::Display for Notice {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&match self {
            Notice::DamagedBlob => "a cached result was damaged; it was removed, and is made again".to_owned(),
            Notice::StoreUnusable(why) => format!("results are not being kept: {why}"),
            Notice::Unconfined(missing) => {
                format!(
                    "steps are not fully confined: this kernel lacks {missing}; `nubrik doctor` says what that means"
                )
            }
            Notice::OrphansEnded(count, targets) => {
                let processes = counted(*count, "process");
                let text = format!("{processes} left running by steps; stopped");
                if targets.is_empty() { text } else { format!("{text}: {}", targets.join(", ")) }
            }
            Notice::NotStopped(failure) => failure.not_stopped(),
            Notice::RoomMade(bytes) => {
                let size = size(*bytes);
                format!("the cache had grown too large; {size} used least recently were removed")
            }
            Notice::PutBack(path, true) => format!("{path} was edited; it is put back"),
            Notice::PutBack(path, false) => format!("{path} was gone; it is put back"),
            Notice::NotPublished(problem) => problem.clone(),
            Notice::FailedOnlyThere { target, say, machine } => format!(
                "{target}: {say} failed on {machine} and ended well here, with the same inputs: it depends on \
                 the machine, or on chance"
            ),
            Notice::NoWorkers(why) => format!("no worker is available: {why}"),
            Notice::NotAsked { labels, why } => format!(
                "no worker that is {} could be asked about its tools and system files; they count as unchanged: {why}",
                together(labels)
            ),
            Notice::Lost(count) => {
                let results = counted(*count, "result");
                format!("{results} of the shared cache cannot be downloaded now, and are made here")
            }
        })
    }
}
