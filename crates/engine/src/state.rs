//! What is remembered of a workspace between runs. Losing it costs time, never truth.

use std::sync::Arc;

use nubrik_bytes::{Decoder, Digest, Encoder, Frame, Magic, Truncated};
use nubrik_disk::Signature;
use nubrik_source::FilePath;
use nubrik_store::OutputRecord;

use crate::reason::Reason;
use crate::table::{Base, FileBytes, Stored, Table};

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
    /// Why, as a code, a text, and the input that is behind it, if one is.
    pub because: (String, String, Option<Arc<str>>),
}

impl StepMemory {
    /// Why the step runs again, of which no outputs are remembered.
    pub(crate) fn why_unfinished(&self) -> Reason {
        match self.because.0.as_str() {
            Reason::FAILED_BEFORE => Reason::FailedBefore,
            Reason::LOST => Reason::Lost,
            _ => Reason::Unfinished,
        }
    }

    /// Notes why the step ran.
    pub(crate) fn because_of(reason: &Reason) -> (String, String, Option<Arc<str>>) {
        (reason.code().to_owned(), reason.to_string(), reason.input().cloned())
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

impl Stored for FileEntry {
    fn encode(&self, out: &mut Encoder) {
        self.signature.encode(out);
        out.digest(&self.digest);
        out.bool(self.young);
    }

    fn decode(from: &mut Decoder<'_>) -> Result<Self, Truncated> {
        let signature = Signature::decode(from)?;
        Ok(FileEntry { signature, digest: from.digest()?, young: from.bool()? })
    }
}

impl Stored for Published {
    fn encode(&self, out: &mut Encoder) {
        out.digest(&self.0);
        out.list(&self.1, |out, s| s.encode(out));
    }

    fn decode(from: &mut Decoder<'_>) -> Result<Self, Truncated> {
        Ok((from.digest()?, from.list(Signature::decode)?))
    }
}

impl Stored for Arc<StepMemory> {
    fn encode(&self, out: &mut Encoder) {
        encode_memory(out, self);
    }

    fn decode(from: &mut Decoder<'_>) -> Result<Self, Truncated> {
        decode_memory(from).map(Arc::new)
    }
}

/// What a step was made of, as bytes for other machines: without what is only of this one.
pub fn memory_for_others(memory: &StepMemory) -> Vec<u8> {
    let mut out = Encoder::new();
    let told = StepMemory {
        signatures: Vec::new(),
        is_away: false,
        build: 0,
        because: Default::default(),
        ..memory.clone()
    };
    encode_memory(&mut out, &told);
    out.bytes
}

/// What another machine told of what a step was made of; nothing where it cannot be read.
pub fn memory_of_others(bytes: &[u8]) -> Option<StepMemory> {
    let mut from = Decoder::new(bytes);
    decode_memory(&mut from).ok().filter(|_| from.is_at_end())
}

impl State {
    /// What its file begins with.
    pub const MAGIC: Magic = *b"nbstate5";

    /// What is left where everything was forgotten but how many builds there were.
    pub fn after(builds: u64) -> State {
        State { builds, ..State::default() }
    }

    /// Adds the result of a build.
    pub fn take(&mut self, changes: Changes) {
        self.builds = self.builds.max(changes.builds);
        changes.files.into_iter().for_each(|(name, value)| self.files.set(name, value));
        changes.steps.into_iter().for_each(|(name, value)| self.steps.set(name, value));
        changes.published.into_iter().for_each(|(name, value)| self.published.set(name, value));
    }

    /// How long a step took, in microseconds, if it is known.
    pub fn cost_of(&self, folder: &str) -> Option<u64> {
        self.steps.peek(folder, |memory| memory.micros, |from| from.u64().ok())
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
        tables.iter().for_each(|places| head.u64(places.len() as u64));
        let start = Frame::START + COUNTS + 8 * tables.iter().map(Vec::len).sum::<usize>();
        tables.iter().flatten().for_each(|place| head.u64(start as u64 + place));
        Frame::file(State::MAGIC, &head.bytes, &records.bytes)
    }

    /// The state that a file's bytes hold. Records are looked at when they are wanted; a damaged one is forgotten.
    ///
    /// # Errors
    /// When the file's head is damaged, or of another version.
    pub fn decode(file: FileBytes) -> Result<State, Truncated> {
        let bytes = (*file).as_ref();
        let head = Frame::of(State::MAGIC, bytes)?.head;
        let mut from = Decoder::new(&bytes[head.clone()]);
        let builds = from.u64()?;
        let counts = [from.u64()?, from.u64()?, from.u64()?];
        let entries = counts.iter().try_fold(0u64, |sum, n| sum.checked_add(*n)).ok_or(Truncated)?;
        let length = entries.checked_mul(8).and_then(|n| n.checked_add(COUNTS as u64));
        if length != Some(head.len() as u64) {
            return Err(Truncated);
        }
        let base = |before: u64, count: u64| {
            Base::new(file.clone(), head.start + COUNTS + before as usize * 8, count as usize)
        };
        Ok(State {
            builds,
            files: Table::over(base(0, counts[0])),
            steps: Table::over(base(counts[0], counts[1])),
            published: Table::over(base(counts[0] + counts[1], counts[2])),
        })
    }
}

impl Changes {
    /// The changes as bytes.
    pub fn encode(&self) -> Vec<u8> {
        let Changes { builds, files, steps, published } = self;
        let mut out = Encoder::new();
        out.u64(*builds);
        encode_changes(&mut out, files);
        encode_changes(&mut out, steps);
        encode_changes(&mut out, published);
        out.bytes
    }

    /// The changes that bytes hold.
    ///
    /// # Errors
    /// When they are damaged.
    pub fn decode(bytes: &[u8]) -> Result<Changes, Truncated> {
        let mut from = Decoder::new(bytes);
        Ok(Changes {
            builds: from.u64()?,
            files: decode_change_list(&mut from)?,
            steps: decode_change_list(&mut from)?,
            published: decode_change_list(&mut from)?,
        })
    }
}

/// Values that are new (`None`: gone), by name.
pub type ChangeList<V> = Vec<(Arc<str>, Option<V>)>;

fn encode_changes<V: Stored>(out: &mut Encoder, changes: &ChangeList<V>) {
    out.list(changes, |out, (name, value)| {
        out.text(name);
        out.bool(value.is_some());
        if let Some(value) = value {
            value.encode(out);
        }
    });
}

fn decode_change_list<V: Stored>(from: &mut Decoder<'_>) -> Result<ChangeList<V>, Truncated> {
    from.list(|from| {
        let name = from.text()?.into();
        Ok((name, if from.bool()? { Some(V::decode(from)?) } else { None }))
    })
}

fn encode_pairs(out: &mut Encoder, pairs: &[(impl AsRef<str>, Digest)]) {
    out.list(pairs, |out, (name, digest)| {
        out.text(name.as_ref());
        out.digest(digest);
    });
}

fn decode_pairs<N>(
    from: &mut Decoder<'_>,
    name: impl Fn(Arc<str>) -> N,
) -> Result<Vec<(N, Digest)>, Truncated> {
    from.list(|from| Ok((name(from.text()?.into()), from.digest()?)))
}

fn encode_memory(out: &mut Encoder, memory: &StepMemory) {
    // First, so that it can be had without the rest.
    out.u64(memory.micros);
    out.digest(&memory.first_key);
    out.digest(&memory.command);
    encode_pairs(out, &memory.tools);
    encode_pairs(out, &memory.inputs);
    encode_pairs(out, &memory.found);
    out.digest(&memory.candidate_names);
    out.list(&memory.passed_over, |out, path| out.text(path));
    out.list(&memory.outputs, |out, output| output.encode(out));
    out.list(&memory.signatures, |out, s| s.encode(out));
    out.bool(memory.is_away);
    out.u64(memory.build);
    out.text(&memory.because.0);
    out.text(&memory.because.1);
    out.text(memory.because.2.as_deref().unwrap_or(""));
    out.text(&memory.described);
}

fn decode_memory(from: &mut Decoder<'_>) -> Result<StepMemory, Truncated> {
    Ok(StepMemory {
        micros: from.u64()?,
        first_key: from.digest()?,
        command: from.digest()?,
        tools: decode_pairs(from, |name| name)?,
        inputs: decode_pairs(from, FilePath::from_text)?,
        found: decode_pairs(from, FilePath::from_text)?,
        candidate_names: from.digest()?,
        passed_over: from.list(|from| Ok(from.text()?.into()))?,
        outputs: from.list(OutputRecord::decode)?,
        signatures: from.list(Signature::decode)?,
        is_away: from.bool()?,
        build: from.u64()?,
        because: {
            let (code, text, input) = (from.text()?.to_owned(), from.text()?.to_owned(), from.text()?);
            (code, text, (!input.is_empty()).then(|| input.into()))
        },
        described: from.text()?.into(),
    })
}
