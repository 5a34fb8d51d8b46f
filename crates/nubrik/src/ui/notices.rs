//! What is said of a build besides its steps.

use nubrik_engine::Notice;
use nubrik_wording::counted;

/// A notice in a sentence.
pub fn text(notice: &Notice) -> String {
    match notice {
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
        Notice::NotStopped(failure) => super::services::not_stopped(failure),
        Notice::RoomMade(bytes) => {
            let size = nubrik_wording::size(*bytes);
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
            super::failure::together(labels)
        ),
        Notice::Lost(count) => {
            let results = counted(*count, "result");
            format!("{results} of the shared cache cannot be downloaded now, and are made here")
        }
    }
}
