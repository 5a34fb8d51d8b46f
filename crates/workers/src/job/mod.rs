//! What a job for another machine says, and its answer: bytes that are signed, and read only if
//! somebody signed them who may.

use std::fmt;
use std::sync::Arc;

use nubrik_bytes::{Decoder, Digest, Encoder, Layout, Truncated, layout};
use nubrik_graph::{Graph, StepId};
use nubrik_shared::{KeyList, KeyedResult, PublicKey, SecretKey, SharedTrouble};
use nubrik_source::WsPath;

mod message;

pub(crate) use message::{ABOARD, Freight};
use message::{SignedThing, opened, received, sent, signed};

/// Members that may write this channel may give jobs.
pub const JOBS: &str = "jobs";

/// Members that may write this channel may do them.
pub const WORKERS: &str = "workers";

const VERSION: u8 = 8;

/// Why a message of another machine does not count.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum RefusedMessage {
    /// It is too short to say who signed it.
    TooShort,
    /// It is signed by a key that may not write the channel.
    NoMember(PublicKey, String),
    /// It is not signed by the key that it names.
    WrongSignature,
    /// It is damaged.
    Damaged,
    /// Another version of nubrik wrote it: the version of its format.
    OtherVersion(u8),
    /// The rest of it is not in the shared cache.
    NotThere,
    /// It names a path that leads out of the workspace.
    NoPath(String),
    /// It asks for a step that runs only where it is asked for.
    Tied,
}

impl fmt::Display for RefusedMessage {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            RefusedMessage::TooShort => f.write_str("it is too short"),
            RefusedMessage::NoMember(key, channel) => {
                write!(
                    f,
                    "{key} is no member that may write the channel `{channel}`"
                )
            }
            RefusedMessage::WrongSignature => f.write_str("its signature is wrong"),
            RefusedMessage::Damaged => f.write_str("it is damaged"),
            RefusedMessage::OtherVersion(theirs) => {
                let which = if *theirs < VERSION {
                    "an older"
                } else {
                    "a newer"
                };
                write!(
                    f,
                    "{which} version of nubrik wrote it: clients and workers need the same one"
                )
            }
            RefusedMessage::NotThere => f.write_str("what it says is not in the shared cache"),
            RefusedMessage::NoPath(path) => write!(f, "`{path}` is no path"),
            RefusedMessage::Tied => f.write_str("such steps run only where they are asked for"),
        }
    }
}

impl std::error::Error for RefusedMessage {}

/// What bytes hold that the same version of nubrik wrote.
fn of_this_version<T: Layout>(bytes: &[u8]) -> Result<T, RefusedMessage> {
    match bytes.first() {
        Some(version) if *version != VERSION => Err(RefusedMessage::OtherVersion(*version)),
        _ => Ok(T::of_version(bytes, VERSION)?),
    }
}

impl From<Truncated> for RefusedMessage {
    fn from(_: Truncated) -> RefusedMessage {
        RefusedMessage::Damaged
    }
}

/// A source as a job names it.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(crate) struct JobSource {
    pub path: String,
    pub content: Digest,
    pub executable: bool,
}

/// A source that may not lie where it is said to is damage.
impl Layout for JobSource {
    fn write(&self, out: &mut Encoder) {
        let JobSource {
            path,
            content,
            executable,
        } = self;
        path.write(out);
        content.write(out);
        executable.write(out);
    }

    fn read(from: &mut Decoder<'_>) -> Result<JobSource, Truncated> {
        let (path, content, executable): (String, _, _) = Layout::read(from)?;
        match is_place_of_source(&path) {
            true => Ok(JobSource {
                path,
                content,
                executable,
            }),
            false => Err(Truncated),
        }
    }
}

/// Whether a source may be put at a path: below the workspace's root, and not where the tool keeps
/// what is its own.
fn is_place_of_source(path: &str) -> bool {
    !path.is_empty() && WsPath::checked(path).is_some_and(|path| !path.is_below_made())
}

/// What is asked of those who work, and answered: tools by their names, files of the system by
/// their paths, and what else [`nubrik_engine::identity_of`] knows, with what identifies them.
/// `salt` is of the one question, so that an answer to another one is none.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(crate) struct ToolSheet {
    pub salt: Digest,
    /// Who answers; empty in a question.
    pub by: String,
    pub tools: Vec<(Arc<str>, Digest)>,
}

layout!(ToolSheet { salt, by, tools });

impl ToolSheet {
    /// Signed by who asks or who answers.
    pub fn sign(&self, key: &SecretKey) -> Vec<u8> {
        signed(key, SignedThing::Tools, &self.to_version(VERSION))
    }

    /// What someone signed who may write a channel.
    pub fn open(
        bytes: &[u8],
        members: &KeyList,
        channel: &str,
    ) -> Result<ToolSheet, RefusedMessage> {
        let (_, body) = opened(bytes, members, channel, SignedThing::Tools)?;
        of_this_version(body)
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

layout!(JobSet {
    sources,
    made,
    rows
});

impl JobSet {
    pub fn encode(&self) -> Vec<u8> {
        self.to_version(VERSION)
    }

    pub fn decode(bytes: &[u8]) -> Result<JobSet, Truncated> {
        JobSet::of_version(bytes, VERSION)
    }

    /// Its files, each by its path, and whether it is a folder.
    ///
    /// # Errors
    /// When a path leads to something that is not below the workspace's root.
    pub fn files(&self) -> Result<Vec<(WsPath, bool)>, RefusedMessage> {
        let sources = self.sources.iter().map(|source| (&source.path, false));
        let all = sources.chain(self.made.iter().map(|(path, folder)| (path, *folder)));
        let checked = |path: &str| {
            WsPath::checked(path).ok_or_else(|| RefusedMessage::NoPath(path.to_owned()))
        };
        all.map(|(path, folder)| Ok((checked(path)?, folder)))
            .collect()
    }
}

/// A step that another machine is to run.
pub(crate) struct JobSheet {
    pub build: String,
    /// The number by which it is answered.
    pub number: u32,
    pub first_key: Digest,
    /// Whether who gives it cannot run it: then its key says what counts of the machine that does,
    /// and is another one there.
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
    /// Contents that list what it may read besides, which many jobs share ([`JobSet`]). They are
    /// not in the graph.
    pub sets: Vec<Digest>,
    /// Where all contents are.
    pub rows: Vec<u8>,
}

layout!(JobSheet {
    build,
    number,
    first_key,
    is_bound,
    tools,
    step,
    makers,
    made,
    sources,
    sets,
    rows,
    graph,
});

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

layout!(NotMade { why, failed });
layout!(FailedJob {
    code,
    signal,
    printed,
    micros
});

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

layout!(AnswerSheet {
    build,
    number,
    by,
    end,
    rows
});

impl JobSheet {
    /// The job as a message, signed.
    ///
    /// # Errors
    /// Why it cannot be put into the shared cache.
    pub fn sign(&self, key: &SecretKey, freight: &dyn Freight) -> Result<Vec<u8>, SharedTrouble> {
        sent(key, SignedThing::Job, &self.to_version(VERSION), freight)
    }

    /// A job that someone signed who may give some.
    pub fn open(
        message: &[u8],
        members: &KeyList,
        freight: &dyn Freight,
    ) -> Result<JobSheet, RefusedMessage> {
        let (_, bytes) = received(message, members, JOBS, (SignedThing::Job, freight))?;
        let sheet: JobSheet = of_this_version(&bytes)?;
        let is_there = |id: &StepId| id.index() < sheet.graph.steps.len();
        if !is_there(&sheet.step) || !sheet.makers.iter().all(is_there) {
            return Err(RefusedMessage::Damaged);
        }
        match sheet.graph.step(sheet.step).is_tied() {
            true => Err(RefusedMessage::Tied),
            false => Ok(sheet),
        }
    }
}

impl AnswerSheet {
    /// The answer as a message, signed.
    ///
    /// # Errors
    /// Why it cannot be put into the shared cache.
    pub fn sign(&self, key: &SecretKey, freight: &dyn Freight) -> Result<Vec<u8>, SharedTrouble> {
        sent(key, SignedThing::Answer, &self.to_version(VERSION), freight)
    }

    /// An answer that someone signed who may do jobs, and who that was.
    pub fn open(
        message: &[u8],
        members: &KeyList,
        freight: &dyn Freight,
    ) -> Result<(PublicKey, AnswerSheet), RefusedMessage> {
        let (key, bytes) = received(message, members, WORKERS, (SignedThing::Answer, freight))?;
        Ok((key, of_this_version(&bytes)?))
    }
}

#[cfg(test)]
mod tests;
