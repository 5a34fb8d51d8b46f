//! What is remembered of a workspace between runs. Losing it costs time, never truth.

use std::sync::Arc;

use nubrik_bytes::{Decoder, Digest, Encoder, Frame, Layout, Magic, Truncated, layout};
use nubrik_disk::Signature;
use nubrik_source::FilePath;
use nubrik_store::OutputRecord;

use crate::reason::Reason;
use crate::table::{Base, FileBytes, Table};

/// Length of what is before the index in the head: number of builds, and count of each table.
const COUNTS: usize = 8 + 3 * 8;

/// A file's digest, and the metadata that it had then.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct FileEntry {
    /// Its metadata.
    pub signature: Signature,
    /// Its content, and whether it may be executed.
    pub digest: Digest,
    /// Whether it was so young that it could change again without a trace.
    pub young: bool,
}

layout!(FileEntry {
    signature,
    digest,
    young
});

/// Why a step ran, as it is remembered.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct StoredReason {
    /// The kind of reason.
    pub code: String,
    /// For people.
    pub text: String,
    /// The input that is behind it, if one is.
    pub input: Option<Arc<str>>,
}

/// Three texts, of which the last one may be empty.
impl Layout for StoredReason {
    fn write(&self, out: &mut Encoder) {
        let StoredReason { code, text, input } = self;
        [code, text, input.as_deref().unwrap_or_default()]
            .iter()
            .for_each(|text| out.text(text));
    }

    fn read(from: &mut Decoder<'_>) -> Result<StoredReason, Truncated> {
        let (code, text, input): (_, _, Arc<str>) = Layout::read(from)?;
        Ok(StoredReason {
            code,
            text,
            input: Some(input).filter(|input| !input.is_empty()),
        })
    }
}

/// What is remembered of a step.
#[derive(Clone, PartialEq, Debug)]
pub struct StepMemory {
    /// First part of its key.
    pub first_key: Digest,
    /// Digest of its words, variables and names.
    pub command: Digest,
    /// The same in words (`differences.rs`), to say what changed; empty where that is too much.
    pub described: Arc<str>,
    /// Its tools and their identities.
    pub tools: Vec<(Arc<str>, Digest)>,
    /// Its certain inputs and their contents.
    pub inputs: Vec<(FilePath, Digest)>,
    /// The inputs that its commands listed, and their contents.
    pub found: Vec<(FilePath, Digest)>,
    /// Digest of its candidates' names.
    pub candidate_names: Digest,
    /// Candidates whose being there mattered though they were not read.
    pub passed_over: Vec<Arc<str>>,
    /// Its outputs; empty when it did not finish.
    pub outputs: Vec<OutputRecord>,
    /// Metadata of all files in its outputs, in their order; empty while they are away.
    pub signatures: Vec<Signature>,
    /// Whether its outputs are known and not here: a shared store has them.
    pub is_away: bool,
    /// How long its commands took, in microseconds.
    pub micros: u64,
    /// The number of the build in which it last ran or was reused.
    pub build: u64,
    /// Why.
    pub because: StoredReason,
}

// How long it took is first, so that it can be had without the rest.
layout!(StepMemory {
    micros,
    first_key,
    command,
    tools,
    inputs,
    found,
    candidate_names,
    passed_over,
    outputs,
    signatures,
    is_away,
    build,
    because,
    described,
});

impl StepMemory {
    /// Why the step runs again, of which no outputs are remembered.
    pub(crate) fn why_unfinished(&self) -> Reason {
        match self.because.code.as_str() {
            Reason::FAILED_BEFORE => Reason::FailedBefore,
            Reason::LOST => Reason::Lost,
            _ => Reason::Unfinished,
        }
    }

    /// Notes why the step ran.
    pub(crate) fn because_of(reason: &Reason) -> StoredReason {
        let (code, text) = (reason.code().to_owned(), reason.to_string());
        StoredReason {
            code,
            text,
            input: reason.input().cloned(),
        }
    }
}

/// What was published somewhere: its digest, and the metadata of its files.
pub type Published = (Digest, Vec<Signature>);

/// What is remembered of a workspace.
#[derive(Default, PartialEq, Debug)]
pub struct State {
    /// How many builds there were.
    pub builds: u64,
    /// Digests of sources and system files, by path.
    pub files: Table<FileEntry>,
    /// Steps, by their folders.
    pub steps: Table<Arc<StepMemory>>,
    /// Metadata of published results, by path, with the digest of what was put there.
    pub published: Table<Published>,
}

/// What a build adds to what is remembered, or takes from it (`None`).
#[derive(Default, Debug)]
pub struct Changes {
    /// How many builds there were with it.
    pub builds: u64,
    /// Files that it looked at.
    pub files: ChangeList<FileEntry>,
    /// Steps that it looked at.
    pub steps: ChangeList<Arc<StepMemory>>,
    /// Results that it published.
    pub published: ChangeList<Published>,
}

impl Changes {
    /// Whether anything is other than before, but for the count of builds.
    pub fn has_news(&self) -> bool {
        let Changes {
            builds: _,
            files,
            steps,
            published,
        } = self;
        !(files.is_empty() && steps.is_empty() && published.is_empty())
    }
}

/// What a step was made of, as bytes for other machines: without what is only of this one.
pub fn memory_for_others(memory: &StepMemory) -> Vec<u8> {
    let told = StepMemory {
        signatures: Vec::new(),
        is_away: false,
        build: 0,
        because: StoredReason::default(),
        ..memory.clone()
    };
    told.to_bytes()
}

/// What another machine said of what a step was made of; nothing where it cannot be read.
pub fn memory_of_others(bytes: &[u8]) -> Option<StepMemory> {
    StepMemory::of_bytes(bytes).ok()
}

impl State {
    /// What its file begins with.
    pub const MAGIC: Magic = *b"nbstate5";

    /// What is left where everything was forgotten but how many builds there were.
    pub fn after(builds: u64) -> State {
        State {
            builds,
            ..State::default()
        }
    }

    /// Adds the result of a build.
    pub fn take(&mut self, changes: Changes) {
        self.builds = self.builds.max(changes.builds);
        changes
            .files
            .into_iter()
            .for_each(|(name, value)| self.files.set(name, value));
        changes
            .steps
            .into_iter()
            .for_each(|(name, value)| self.steps.set(name, value));
        changes
            .published
            .into_iter()
            .for_each(|(name, value)| self.published.set(name, value));
    }

    /// How long a step took, in microseconds, if it is known.
    pub fn cost_of(&self, folder: &str) -> Option<u64> {
        self.steps
            .peek(folder, |memory| memory.micros, |from| from.u64().ok())
    }

    /// The whole state as the bytes of a file: a head with numbers and an index, and records.
    pub fn encode(&self) -> Vec<u8> {
        let mut records = Encoder::new();
        let tables = [
            self.files.write(&mut records),
            self.steps.write(&mut records),
            self.published.write(&mut records),
        ];
        let mut head = Encoder::new();
        head.u64(self.builds);
        tables
            .iter()
            .for_each(|places| head.u64(places.len() as u64));
        let start = Frame::START + COUNTS + 8 * tables.iter().map(Vec::len).sum::<usize>();
        tables
            .iter()
            .flatten()
            .for_each(|place| head.u64(start as u64 + place));
        Frame::file(State::MAGIC, &head.bytes, &records.bytes)
    }

    /// The state that a file's bytes hold. Records are looked at when they are wanted; a damaged
    /// one is forgotten.
    ///
    /// # Errors
    /// When the file's head is damaged, or of another version.
    pub fn decode(file: FileBytes) -> Result<State, Truncated> {
        let bytes = (*file).as_ref();
        let head = Frame::of(State::MAGIC, bytes)?.head;
        let mut from = Decoder::new(&bytes[head.clone()]);
        let builds = from.u64()?;
        let counts = [from.u64()?, from.u64()?, from.u64()?];
        let entries = counts
            .iter()
            .try_fold(0u64, |sum, n| sum.checked_add(*n))
            .ok_or(Truncated)?;
        let length = entries
            .checked_mul(8)
            .and_then(|n| n.checked_add(COUNTS as u64));
        if length != Some(head.len() as u64) {
            return Err(Truncated);
        }
        let base = |before: u64, count: u64| {
            Base::new(
                file.clone(),
                head.start + COUNTS + before as usize * 8,
                count as usize,
            )
        };
        Ok(State {
            builds,
            files: Table::over(base(0, counts[0])),
            steps: Table::over(base(counts[0], counts[1])),
            published: Table::over(base(counts[0] + counts[1], counts[2])),
        })
    }
}

layout!(Changes {
    builds,
    files,
    steps,
    published
});

/// Values that are new (`None`: gone), by name.
pub type ChangeList<V> = Vec<(Arc<str>, Option<V>)>;
