//! What a job for another machine says, and its answer: bytes that are signed, and read only if somebody signed them who may.

use std::sync::Arc;

use nubrik_bytes::{Decoder, Digest, Encoder, Truncated};
use nubrik_graph::{Graph, StepId};
use nubrik_shared::{KeyList, KeyedResult, PublicKey, SecretKey};
use nubrik_source::WsPath;

mod message;

pub(crate) use message::Freight;
use message::{SignedThing, opened, received, sent, signed};

/// Members that may write this line may give jobs.
pub(crate) const JOBS: &str = "jobs";

/// Members that may write this line may do them.
pub(crate) const WORKERS: &str = "workers";

const VERSION: u8 = 4;

/// Why a job or an answer is not read.
pub(crate) type Refused = String;

/// A source as a job names it.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(crate) struct JobSource {
    pub path: String,
    pub content: Digest,
    pub executable: bool,
}

fn encode_sources(out: &mut Encoder, sources: &[JobSource]) {
    out.list(sources, |out, JobSource { path, content, executable }| {
        out.text(path);
        out.digest(content);
        out.bool(*executable);
    });
}

fn decode_sources(from: &mut Decoder<'_>) -> Result<Vec<JobSource>, Truncated> {
    from.list(|from| {
        let (path, content) = (from.text()?.to_owned(), from.digest()?);
        if !is_place_of_source(&path) {
            return Err(Truncated);
        }
        Ok(JobSource { path, content, executable: from.bool()? })
    })
}

/// Whether a source may be put at a path: below the workspace's root, and not where the tool keeps what is its own.
fn is_place_of_source(path: &str) -> bool {
    let top = path.split('/').next().unwrap_or_default();
    !path.is_empty()
        && WsPath::checked(path).is_some()
        && ![crate::workspace::OWN_FOLDER, "out"].contains(&top)
}

fn encode_tools(out: &mut Encoder, tools: &[(Arc<str>, Digest)]) {
    out.list(tools, |out, (name, identity)| {
        out.text(name);
        out.digest(identity);
    });
}

fn decode_tools(from: &mut Decoder<'_>) -> Result<Vec<(Arc<str>, Digest)>, Truncated> {
    from.list(|from| Ok((Arc::from(from.text()?), from.digest()?)))
}

/// What is asked of those who work, and answered: tools by their names, files of the system by their paths, and what else
/// [`nubrik_engine::identity_of`] knows, with what identifies them. `salt` is of the one question, so that an answer to another one is none.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(crate) struct ToolSheet {
    pub salt: Digest,
    /// Who answers; empty in a question.
    pub by: String,
    pub tools: Vec<(Arc<str>, Digest)>,
}

impl ToolSheet {
    /// Signed by who asks or who answers.
    pub fn sign(&self, key: &SecretKey) -> Vec<u8> {
        let ToolSheet { salt, by, tools } = self;
        let mut out = Encoder::new();
        out.text("tools");
        out.u8(VERSION);
        out.digest(salt);
        out.text(by);
        encode_tools(&mut out, tools);
        signed(key, SignedThing::Tools, &out.bytes)
    }

    /// What someone signed who may write a line.
    pub fn open(bytes: &[u8], members: &KeyList, line: &str) -> Result<ToolSheet, Refused> {
        let (_, body) = opened(bytes, members, line, SignedThing::Tools)?;
        let mut from = Decoder::new(body);
        let mut read = || {
            if from.text()? != "tools" || from.u8()? != VERSION {
                return Err(Truncated);
            }
            Ok(ToolSheet {
                salt: from.digest()?,
                by: from.text()?.to_owned(),
                tools: decode_tools(&mut from)?,
            })
        };
        read().map_err(|_| "it is damaged, or of another version".to_owned())
    }
}

/// Whether a text can be the name of a machine that works.
pub fn is_worker_name(name: &str) -> bool {
    let is_fine = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.');
    (1..=64).contains(&name.len()) && name.chars().all(is_fine)
}

/// Files that a step may read, which many jobs name as a content of its own.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub(crate) struct JobSet {
    /// The sources among them.
    pub sources: Vec<JobSource>,
    /// What steps make, each by its path, and whether it is a folder.
    pub made: Vec<(String, bool)>,
    /// Where the contents of the sources are.
    pub rows: Vec<u8>,
}

impl JobSet {
    pub fn encode(&self) -> Vec<u8> {
        let JobSet { sources, made, rows } = self;
        let mut out = Encoder::new();
        out.u8(VERSION);
        encode_sources(&mut out, sources);
        out.list(made, |out, (path, folder)| {
            out.text(path);
            out.bool(*folder);
        });
        out.bytes(rows);
        out.bytes
    }

    pub fn decode(bytes: &[u8]) -> Result<JobSet, Truncated> {
        let mut from = Decoder::new(bytes);
        if from.u8()? != VERSION {
            return Err(Truncated);
        }
        let sources = decode_sources(&mut from)?;
        let made = from.list(|from| Ok((from.text()?.to_owned(), from.bool()?)))?;
        Ok(JobSet { sources, made, rows: from.bytes()?.to_vec() })
    }

    /// Its files, each by its path, and whether it is a folder.
    ///
    /// # Errors
    /// When a path leads to something that is not below the workspace's root.
    pub fn files(&self) -> Result<Vec<(WsPath, bool)>, Refused> {
        let sources = self.sources.iter().map(|source| (&source.path, false));
        let all = sources.chain(self.made.iter().map(|(path, folder)| (path, *folder)));
        let checked = |path: &str| WsPath::checked(path).ok_or_else(|| format!("`{path}` is no path"));
        all.map(|(path, folder)| Ok((checked(path)?, folder))).collect()
    }
}

/// A step that another machine is to run.
pub(crate) struct JobSheet {
    pub build: String,
    /// The number by which it is answered.
    pub number: u32,
    pub first_key: Digest,
    /// Whether who gives it cannot run it: then its key says what counts of the machine that does, and is another one there.
    pub is_bound: bool,
    /// The tools that run it, with their identities: others make something else of it.
    pub tools: Vec<(Arc<str>, Digest)>,
    pub graph: Graph,
    pub step: StepId,
    pub makers: Vec<StepId>,
    /// What is known of these, by their folders.
    pub made: Vec<(Arc<str>, Vec<u8>)>,
    /// Sources that it certainly reads.
    pub sources: Vec<JobSource>,
    /// Contents that list what it may read besides, which many jobs share ([`JobSet`]). They are not in the graph.
    pub sets: Vec<Digest>,
    /// Where all contents are.
    pub rows: Vec<u8>,
}

/// What is said of a job whose commands failed begins with this.
pub(crate) const FAILED: &str = "it failed there: ";

/// Why a job has no result.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(crate) struct NotMade {
    /// For people.
    pub why: String,
    /// How its commands failed, if they did.
    pub failed: Option<FailedJob>,
}

/// How the commands of a job failed.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(crate) struct FailedJob {
    /// The code that a command ended with, or else a signal.
    pub code: Option<i32>,
    pub signal: Option<i32>,
    /// The ends of what they printed.
    pub printed: Vec<u8>,
    pub micros: u64,
}

impl NotMade {
    fn encode(&self, out: &mut Encoder) {
        let NotMade { why, failed } = self;
        out.text(why);
        out.bool(failed.is_some());
        let Some(FailedJob { code, signal, printed, micros }) = failed else { return };
        for number in [code, signal] {
            out.bool(number.is_some());
            out.u32(number.unwrap_or_default() as u32);
        }
        out.bytes(printed);
        out.u64(*micros);
    }

    fn decode(from: &mut Decoder<'_>) -> Result<NotMade, Truncated> {
        let why = from.text()?.to_owned();
        if !from.bool()? {
            return Ok(NotMade { why, failed: None });
        }
        let mut number = || {
            let is_there = from.bool()?;
            Ok(Some(from.u32()? as i32).filter(|_| is_there))
        };
        let (code, signal) = (number()?, number()?);
        let (printed, micros) = (from.bytes()?.to_vec(), from.u64()?);
        Ok(NotMade { why, failed: Some(FailedJob { code, signal, printed, micros }) })
    }
}

/// What came of a job.
pub(crate) struct AnswerSheet {
    pub build: String,
    pub number: u32,
    /// What the machine is called.
    pub by: String,
    /// The result, or why there is none.
    pub end: Result<KeyedResult, NotMade>,
    pub rows: Vec<u8>,
}

impl JobSheet {
    /// The job as a message, signed.
    ///
    /// # Errors
    /// Why it cannot be sent, for people.
    pub fn sign(&self, key: &SecretKey, freight: &dyn Freight) -> Result<Vec<u8>, String> {
        let JobSheet {
            build,
            number,
            first_key,
            is_bound,
            tools,
            graph,
            step,
            makers,
            made,
            sources,
            sets,
            rows,
        } = self;
        let mut out = Encoder::new();
        out.u8(VERSION);
        out.text(build);
        out.u32(*number);
        out.digest(first_key);
        out.bool(*is_bound);
        encode_tools(&mut out, tools);
        out.u32(step.0);
        out.list(makers, |out, maker| out.u32(maker.0));
        out.list(made, |out, (folder, memory)| {
            out.text(folder);
            out.bytes(memory);
        });
        encode_sources(&mut out, sources);
        out.list(sets, |out, set| out.digest(set));
        out.bytes(rows);
        graph.encode(&mut out);
        sent(key, SignedThing::Job, &out.bytes, freight)
    }

    /// A job that someone signed who may give some.
    pub fn open(message: &[u8], members: &KeyList, freight: &dyn Freight) -> Result<JobSheet, Refused> {
        let (_, bytes) = received(message, members, JOBS, (SignedThing::Job, freight))?;
        let mut from = Decoder::new(&bytes);
        let mut read = || {
            if from.u8()? != VERSION {
                return Err(Truncated);
            }
            let (build, number, first_key) = (from.text()?.to_owned(), from.u32()?, from.digest()?);
            let is_bound = from.bool()?;
            let tools = decode_tools(&mut from)?;
            let step = StepId(from.u32()?);
            let makers = from.list(|from| Ok(StepId(from.u32()?)))?;
            let made = from.list(|from| Ok((Arc::from(from.text()?), from.bytes()?.to_vec())))?;
            let sources = decode_sources(&mut from)?;
            let sets = from.list(Decoder::digest)?;
            let rows = from.bytes()?.to_vec();
            let graph = Graph::decode(&mut from, 1)?;
            let is_there = |id: &StepId| id.index() < graph.steps.len();
            if !from.is_at_end() || !is_there(&step) || !makers.iter().all(is_there) {
                return Err(Truncated);
            }
            Ok(JobSheet {
                build,
                number,
                first_key,
                is_bound,
                tools,
                graph,
                step,
                makers,
                made,
                sources,
                sets,
                rows,
            })
        };
        let sheet = read().map_err(|_| "it is damaged, or of another version".to_owned())?;
        match sheet.graph.step(sheet.step).is_tied() {
            true => Err("such steps run only where they are asked for".to_owned()),
            false => Ok(sheet),
        }
    }
}

impl AnswerSheet {
    /// The answer as a message, signed.
    ///
    /// # Errors
    /// Why it cannot be sent, for people.
    pub fn sign(&self, key: &SecretKey, freight: &dyn Freight) -> Result<Vec<u8>, String> {
        let AnswerSheet { build, number, by, end, rows } = self;
        let mut out = Encoder::new();
        out.u8(VERSION);
        out.text(build);
        out.u32(*number);
        out.text(by);
        out.bool(end.is_ok());
        match end {
            Ok(result) => result.encode(&mut out),
            Err(not_made) => not_made.encode(&mut out),
        }
        out.bytes(rows);
        sent(key, SignedThing::Answer, &out.bytes, freight)
    }

    /// An answer that someone signed who may do jobs, and who that was.
    pub fn open(
        message: &[u8],
        members: &KeyList,
        freight: &dyn Freight,
    ) -> Result<(PublicKey, AnswerSheet), Refused> {
        let (key, bytes) = received(message, members, WORKERS, (SignedThing::Answer, freight))?;
        let mut from = Decoder::new(&bytes);
        let mut read = || {
            if from.u8()? != VERSION {
                return Err(Truncated);
            }
            let (build, number, by) = (from.text()?.to_owned(), from.u32()?, from.text()?.to_owned());
            let end = match from.bool()? {
                true => Ok(KeyedResult::decode(&mut from)?),
                false => Err(NotMade::decode(&mut from)?),
            };
            Ok(AnswerSheet { build, number, by, end, rows: from.bytes()?.to_vec() })
        };
        read().map(|answer| (key, answer)).map_err(|_| "it is damaged, or of another version".to_owned())
    }
}

#[cfg(test)]
mod tests;
