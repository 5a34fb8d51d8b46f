//! What is remembered of a workspace between runs. Losing it costs time, never truth.

use std::collections::HashMap;
use std::sync::Arc;

use nubrik_store::{Decoder, Digest, Encoder, OutputRecord, Truncated};

use crate::outside::Signature;
use crate::reason::Reason;

const MAGIC: &[u8; 4] = b"nbst";
const VERSION: u8 = 1;

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
    /// Its tools and their identities.
    pub tools: Vec<(Arc<str>, Digest)>,
    /// Its certain inputs and their contents.
    pub inputs: Vec<(Arc<str>, Digest)>,
    /// The inputs that its commands listed, and their contents.
    pub found: Vec<(Arc<str>, Digest)>,
    /// Digest of its candidates' names.
    pub candidate_names: Digest,
    /// Candidates whose being there mattered though they were not read.
    pub passed_over: Vec<Arc<str>>,
    /// Its outputs; empty when it did not finish.
    pub outputs: Vec<OutputRecord>,
    /// Metadata of all files in its outputs, in their order.
    pub signatures: Vec<Signature>,
    /// How long its commands took, in microseconds.
    pub micros: u64,
    /// The number of the build in which it last ran or was reused.
    pub build: u64,
    /// Why, as a code, a text, and the input that is behind it, if one is.
    pub because: (String, String, Option<Arc<str>>),
}

impl StepMemory {
    /// Notes why the step ran.
    pub(crate) fn because_of(reason: &Reason) -> (String, String, Option<Arc<str>>) {
        (reason.code().to_owned(), reason.to_string(), reason.input().cloned())
    }
}

/// What was published somewhere: its digest, and the metadata of its files.
pub type Published = (Digest, Vec<Signature>);

/// What is remembered of a workspace.
#[derive(Default, Debug, PartialEq)]
pub struct State {
    /// How many builds there were.
    pub builds: u64,
    /// Digests of sources and system files, by path.
    pub files: HashMap<Arc<str>, FileEntry>,
    /// Steps, by their folders.
    pub steps: HashMap<Arc<str>, StepMemory>,
    /// Metadata of published results, by path, with the digest of what was put there.
    pub published: HashMap<Arc<str>, Published>,
}

fn encode_signature(out: &mut Encoder, signature: &Signature) {
    out.u64(signature.size);
    out.u64(signature.changed as u64);
    out.u64(signature.touched as u64);
    out.u64(signature.inode);
    out.u32(signature.mode);
}

fn decode_signature(from: &mut Decoder<'_>) -> Result<Signature, Truncated> {
    Ok(Signature {
        size: from.u64()?,
        changed: from.u64()? as i64,
        touched: from.u64()? as i64,
        inode: from.u64()?,
        mode: from.u32()?,
    })
}

type Pairs = Vec<(Arc<str>, Digest)>;

fn encode_pairs(out: &mut Encoder, pairs: &Pairs) {
    out.list(pairs, |out, (name, digest)| {
        out.text(name);
        out.digest(digest);
    });
}

fn decode_pairs(from: &mut Decoder<'_>) -> Result<Pairs, Truncated> {
    from.list(|from| Ok((from.text()?.into(), from.digest()?)))
}

/// Entries of a map by key, so that the same state is the same bytes.
fn sorted<V>(map: &HashMap<Arc<str>, V>) -> Vec<(&Arc<str>, &V)> {
    let mut entries: Vec<_> = map.iter().collect();
    entries.sort_by_key(|(key, _)| *key);
    entries
}

impl State {
    /// The state as bytes: magic, version, tables, and a digest of all that.
    pub fn encode(&self) -> Vec<u8> {
        let mut out = Encoder::new();
        out.bytes.extend_from_slice(MAGIC);
        out.u8(VERSION);
        out.u64(self.builds);
        out.list(&sorted(&self.files), |out, (path, entry)| {
            out.text(path);
            encode_signature(out, &entry.signature);
            out.digest(&entry.digest);
            out.bool(entry.young);
        });
        out.list(&sorted(&self.steps), |out, (folder, memory)| {
            out.text(folder);
            encode_memory(out, memory);
        });
        out.list(&sorted(&self.published), |out, (path, (digest, signatures))| {
            out.text(path);
            out.digest(digest);
            out.list(signatures, encode_signature);
        });
        let check = Digest::of(&out.bytes);
        out.digest(&check);
        out.bytes
    }

    /// The state that bytes hold.
    ///
    /// # Errors
    /// When they are damaged or of another version.
    pub fn decode(bytes: &[u8]) -> Result<State, Truncated> {
        let (body, check) = bytes.split_at_checked(bytes.len().saturating_sub(32)).ok_or(Truncated)?;
        if check != Digest::of(body).0 || body.get(..4) != Some(MAGIC) || body.get(4) != Some(&VERSION) {
            return Err(Truncated);
        }
        let mut from = Decoder::new(&body[5..]);
        let builds = from.u64()?;
        let files = from.list(|from| {
            let path = from.text()?.into();
            let signature = decode_signature(from)?;
            Ok((path, FileEntry { signature, digest: from.digest()?, young: from.bool()? }))
        })?;
        let steps = from.list(|from| Ok((from.text()?.into(), decode_memory(from)?)))?;
        let published =
            from.list(|from| Ok((from.text()?.into(), (from.digest()?, from.list(decode_signature)?))))?;
        if !from.is_at_end() {
            return Err(Truncated);
        }
        Ok(State {
            builds,
            files: files.into_iter().collect(),
            steps: steps.into_iter().collect(),
            published: published.into_iter().collect(),
        })
    }
}

fn encode_memory(out: &mut Encoder, memory: &StepMemory) {
    out.digest(&memory.first_key);
    out.digest(&memory.command);
    encode_pairs(out, &memory.tools);
    encode_pairs(out, &memory.inputs);
    encode_pairs(out, &memory.found);
    out.digest(&memory.candidate_names);
    out.list(&memory.passed_over, |out, path| out.text(path));
    out.list(&memory.outputs, |out, output| output.encode(out));
    out.list(&memory.signatures, encode_signature);
    out.u64(memory.micros);
    out.u64(memory.build);
    out.text(&memory.because.0);
    out.text(&memory.because.1);
    out.text(memory.because.2.as_deref().unwrap_or(""));
}

fn decode_memory(from: &mut Decoder<'_>) -> Result<StepMemory, Truncated> {
    Ok(StepMemory {
        first_key: from.digest()?,
        command: from.digest()?,
        tools: decode_pairs(from)?,
        inputs: decode_pairs(from)?,
        found: decode_pairs(from)?,
        candidate_names: from.digest()?,
        passed_over: from.list(|from| Ok(from.text()?.into()))?,
        outputs: from.list(OutputRecord::decode)?,
        signatures: from.list(decode_signature)?,
        micros: from.u64()?,
        build: from.u64()?,
        because: {
            let (code, text, input) = (from.text()?.to_owned(), from.text()?.to_owned(), from.text()?);
            (code, text, (!input.is_empty()).then(|| input.into()))
        },
    })
}
