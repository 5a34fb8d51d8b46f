//! What became of the last builds: one file each, in the workspace's own folder.

use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

use nubrik_bytes::Digest;
use nubrik_disk::{Below, read_open};
use nubrik_engine::{Event, Failure, Listener, SharedUse, StepCounts, Summary, Verdict};
use nubrik_graph::{Graph, StepId};
use parking_lot::Mutex;
use rustix::fs::{Mode, OFlags};
use serde::{Deserialize, Serialize};

/// How many builds are kept.
const KEPT: usize = 100;

/// A build, as it is remembered.
#[derive(Clone, PartialEq, Debug, Serialize, Deserialize)]
pub struct BuildRecord {
    /// Version of this form.
    pub version: u32,
    /// Its number in the workspace.
    pub build: u64,
    /// When it began, in seconds since 1970.
    pub began: u64,
    /// How long it took, in microseconds.
    pub micros: u64,
    /// What was asked for, as it was written; empty for everything.
    pub asked: Vec<String>,
    /// The profile, where one was chosen.
    pub profile: Option<String>,
    /// Whether it was stopped.
    pub cancelled: bool,
    /// The steps that the request needs, by their verdicts. Records of earlier versions count
    /// blocked steps as unstarted.
    #[serde(flatten)]
    pub counts: StepCounts,
    /// What a shared cache was good for, where one is used.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub shared: Option<SharedRecord>,
    /// Steps that were not current, in the order in which they were done with.
    pub done: Vec<StepRecord>,
}

impl StepRecord {
    /// How it failed, where it did, and why it ran or did not.
    pub fn why(&self) -> String {
        match &self.failure {
            Some(failure) => format!("{failure}; it ran since: {}", self.reason),
            None => self.reason.clone(),
        }
    }
}

/// A step of a build that was not current.
#[derive(Clone, PartialEq, Debug, Serialize, Deserialize)]
pub struct StepRecord {
    /// Its target, with its variant where it has one.
    pub target: String,
    /// What it does.
    pub say: String,
    /// What became of it.
    pub state: String,
    /// Why.
    pub reason: String,
    /// When its commands began, in microseconds since the build did.
    pub from: u64,
    /// How long they took, in microseconds; 0 where none ran.
    pub micros: u64,
    /// The other machine that ran it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub machine: Option<String>,
    /// What it was run with: the start of the first part of its key, in hexadecimal digits. Where
    /// it is the same, all that was declared is the same.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key: Option<String>,
    /// The address of the test that it gives a verdict for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub test: Option<String>,
    /// How it failed, in a few words, where it did.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub failure: Option<String>,
    /// The exit code of its program, where it failed by ending with one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub code: Option<i32>,
    /// What it printed, where it failed; of much the beginning and the end.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub printed: Option<String>,
}

/// What a shared cache was good for in a build.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default, Serialize, Deserialize)]
pub struct SharedRecord {
    /// Results that were taken.
    #[serde(rename = "downloaded", alias = "taken")]
    pub taken: usize,
    /// How long their steps took where they ran, in microseconds.
    pub saved_micros: u64,
    /// How many bytes came.
    pub moved: u64,
    /// Results that are known and were not fetched.
    #[serde(rename = "not_downloaded", alias = "away")]
    pub away: usize,
    /// Steps that ran and of which nobody gave anything.
    pub unknown: usize,
    /// Steps that ran since what others found was something else.
    pub other_files: usize,
    /// Steps that ran since files of the system were others.
    pub other_system: usize,
    /// Steps that ran since what others made could not be had.
    pub not_had: usize,
}

impl SharedRecord {
    /// What is kept of a store's use, with how many bytes came.
    pub fn of(shared: &SharedUse, moved: u64) -> SharedRecord {
        let SharedUse {
            taken,
            saved_micros,
            away,
            unknown,
            other_files,
            other_system,
            not_had,
        } = *shared;
        SharedRecord {
            taken,
            saved_micros,
            moved,
            away,
            unknown,
            other_files,
            other_system,
            not_had,
        }
    }

    /// Why steps ran though a store is used, each with how many that were, as people say it.
    pub fn not_taken(&self) -> Vec<(usize, &'static str)> {
        let all = [
            (self.unknown, "that nobody uploaded"),
            (self.other_files, "made with other files"),
            (self.other_system, "made with other files of the system"),
            (self.not_had, "that could not be had"),
        ];
        all.into_iter().filter(|(count, _)| *count > 0).collect()
    }
}

/// So many addresses that were asked for are named.
const NAMED: usize = 6;

impl BuildRecord {
    /// How long ago it began.
    pub fn age(&self) -> Duration {
        let began = UNIX_EPOCH + Duration::from_secs(self.began);
        SystemTime::now().duration_since(began).unwrap_or_default()
    }

    /// What it was asked for, for people.
    pub fn request(&self) -> String {
        let what = match &self.asked[..] {
            [] => "everything".to_owned(),
            few if few.len() <= NAMED => few.join(" "),
            many => format!(
                "{} and {} more",
                many[..NAMED].join(" "),
                many.len() - NAMED
            ),
        };
        match &self.profile {
            Some(profile) => format!("{what}, profile {profile}"),
            None => what,
        }
    }
}

/// Hears a build, and passes it on.
pub struct Chronicle<'a> {
    listener: &'a dyn Listener,
    graph: &'a Graph,
    began: Instant,
    started: SystemTime,
    done: Mutex<Vec<(StepId, StepRecord)>>,
}

/// So much is kept of what a failing step printed, in bytes: half of it from the beginning, half
/// from the end.
const PRINTED: usize = 32 << 10;

/// A text, or its ends with what is left out between them.
fn ends_of(printed: &[u8]) -> String {
    let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
    if printed.len() <= PRINTED {
        return text(printed);
    }
    let (first, last) = (
        &printed[..PRINTED / 2],
        &printed[printed.len() - PRINTED / 2..],
    );
    // Whole lines, where there are some.
    let first = first
        .iter()
        .rposition(|b| *b == b'\n')
        .map_or(first, |at| &first[..=at]);
    let last = last
        .iter()
        .position(|b| *b == b'\n')
        .map_or(last, |at| &last[at + 1..]);
    let left = printed.len() - first.len() - last.len();
    format!("{}[{left} bytes left out]\n{}", text(first), text(last))
}

impl<'a> Chronicle<'a> {
    /// One that passes on what it hears.
    pub fn new(listener: &'a dyn Listener, graph: &'a Graph) -> Chronicle<'a> {
        let (began, started) = (Instant::now(), SystemTime::now());
        Chronicle {
            listener,
            graph,
            began,
            started,
            done: Mutex::default(),
        }
    }

    /// What was heard, with the result of the build; its time is set when it is over. `key_of`
    /// gives the first part of the key of the step with some folder.
    pub fn record(
        self,
        key_of: &dyn Fn(&str) -> Option<Digest>,
        build: u64,
        asked: Vec<String>,
        profile: Option<String>,
        summary: &Summary,
        cancelled: bool,
    ) -> BuildRecord {
        let done = self.done.into_inner();
        let with_key = |(id, step): (StepId, StepRecord)| {
            let key = key_of(self.graph.step(id).folder.as_str());
            StepRecord {
                key: key.map(|key| key.hex()[..16].to_owned()),
                ..step
            }
        };
        BuildRecord {
            version: 1,
            build,
            began: self
                .started
                .duration_since(UNIX_EPOCH)
                .unwrap_or_default()
                .as_secs(),
            micros: 0,
            asked,
            profile,
            cancelled,
            counts: summary.counts,
            shared: None,
            done: done.into_iter().map(with_key).collect(),
        }
    }
}

impl Listener for Chronicle<'_> {
    fn hear(&self, event: &Event) {
        if let Event::Done {
            step,
            verdict,
            reason,
            micros,
            machine,
            printed,
            failure,
            ..
        } = event
            && *verdict != Verdict::Current
        {
            let took = if matches!(verdict, Verdict::Ran | Verdict::Failed) {
                *micros
            } else {
                0
            };
            let now = self.began.elapsed().as_micros() as u64;
            let node = self.graph.step(*step);
            let record = StepRecord {
                target: self.graph.title(*step).to_string(),
                say: node.say.to_string(),
                state: verdict.word().to_owned(),
                reason: reason.to_string(),
                from: now.saturating_sub(took),
                micros: took,
                machine: machine.as_deref().map(str::to_owned),
                key: None,
                test: node.check.as_ref().map(|check| check.address.to_string()),
                failure: failure.as_ref().map(ToString::to_string),
                code: failure.as_ref().and_then(Failure::code),
                printed: (*verdict == Verdict::Failed).then(|| ends_of(printed)),
            };
            self.done.lock().push((*step, record));
        }
        self.listener.hear(event);
    }
}

/// The folder of all records, in the tool's own.
const FOLDER: &str = "history";

/// A record that is larger is none of ours, in bytes.
const LARGEST: u64 = 256 << 20;

/// The records that are there, by number of their build: their names.
fn files(own: &Below) -> Vec<(u64, String)> {
    let Ok(folder) = own.folder(FOLDER) else {
        return Vec::new();
    };
    let listed = rustix::fs::openat(
        &folder,
        ".",
        OFlags::RDONLY | OFlags::CLOEXEC,
        Mode::empty(),
    )
    .and_then(rustix::fs::Dir::new);
    let mut files: Vec<(u64, String)> = listed
        .into_iter()
        .flatten()
        .filter_map(|entry| {
            let name = entry.ok()?.file_name().to_str().ok()?.to_owned();
            // Nothing else in the folder is ours, whatever it is called.
            let number: u64 = name.strip_suffix(".json")?.parse().ok()?;
            (name == format!("{number}.json")).then_some((number, name))
        })
        .collect();
    files.sort();
    files
}

/// Keeps what became of a build, and forgets the oldest ones. What cannot be written is only not
/// known later.
pub fn keep_build(own: &Below, record: &BuildRecord) {
    let Ok(text) = serde_json::to_vec(record) else {
        return;
    };
    let _ = own.write_whole(&format!("{FOLDER}/{}.json", record.build), &text);
    let files = files(own);
    for (_, name) in &files[..files.len().saturating_sub(KEPT)] {
        let _ = own.remove(&format!("{FOLDER}/{name}"));
    }
}

/// The number of the newest build that is kept.
pub fn newest_build(own: &Below) -> u64 {
    files(own).last().map_or(0, |(number, _)| *number)
}

/// The builds that are kept, the oldest first. What is damaged is passed over.
pub fn kept_builds(own: &Below) -> Vec<BuildRecord> {
    let read = |name: &str| {
        let file = own.open_to_read(&format!("{FOLDER}/{name}")).ok()?;
        serde_json::from_slice(&read_open(file, LARGEST).ok()?).ok()
    };
    files(own)
        .iter()
        .filter_map(|(_, name)| read(name))
        .collect()
}

#[cfg(test)]
mod tests {
    use std::fs;

    use super::*;

    fn record(build: u64) -> BuildRecord {
        BuildRecord {
            version: 1,
            build,
            began: 1_900_000_000 + build,
            micros: 5,
            asked: vec!["tide".to_owned()],
            profile: None,
            cancelled: false,
            counts: StepCounts {
                steps: 3,
                ran: 1,
                ..StepCounts::default()
            },
            shared: None,
            done: vec![],
        }
    }

    #[test]
    fn many_addresses_are_told_by_the_first_of_them() {
        let asked = |count: usize, profile: Option<&str>| BuildRecord {
            asked: (0..count).map(|number| format!("t{number}")).collect(),
            profile: profile.map(str::to_owned),
            ..record(1)
        };
        assert_eq!(asked(0, Some("fast")).request(), "everything, profile fast");
        assert_eq!(asked(6, None).request(), "t0 t1 t2 t3 t4 t5");
        assert_eq!(asked(9, None).request(), "t0 t1 t2 t3 t4 t5 and 3 more");
    }

    #[test]
    fn of_much_that_was_printed_the_ends_are_kept() {
        let printed: String = (0..10_000).map(|line| format!("line {line}\n")).collect();
        let kept = ends_of(printed.as_bytes());
        assert!(
            kept.len() < PRINTED + 100
                && kept.starts_with("line 0\n")
                && kept.ends_with("line 9999\n")
        );
        assert!(
            kept.lines()
                .all(|line| line.starts_with("line ") || line.starts_with('['))
        );
        assert_eq!(ends_of(b"short"), "short");
    }

    #[test]
    fn builds_are_kept_and_the_oldest_forgotten() {
        let folder = tempfile::tempdir().unwrap();
        let own = Below::new(folder.path()).unwrap();
        for build in 1..=KEPT as u64 + 5 {
            keep_build(&own, &record(build));
        }
        fs::write(folder.path().join("history/50.json"), "{").unwrap();
        for not_ours in ["notes.txt", "1.jpg", "01.json"] {
            fs::write(folder.path().join("history").join(not_ours), "not ours").unwrap();
        }
        let read = kept_builds(&own);
        assert_eq!(
            (newest_build(&own), files(&own).len()),
            (KEPT as u64 + 5, KEPT)
        );
        assert_eq!(read.len(), KEPT - 1);
        assert_eq!((read[0].build, read[KEPT - 2].build), (6, KEPT as u64 + 5));
        assert_eq!(read[0], record(6));
    }
}
