//! Programs that stay while a build goes on, and answer requests of several steps: compilers that
//! take long to start. Each is in a sandbox, and for each request that sandbox is made the one of
//! the step that asks.

use std::io;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use nubrik_bytes::Digest;
use nubrik_confine::{Answered, Capture, Ended, PipelineSpec, Sandbox, StageSpec, Talk};
use nubrik_disk::{Below, read_file};
use nubrik_engine::{Job, JobEnd, Readable, Readables};
use nubrik_source::WsPath;
use parking_lot::Mutex;
use serde::Deserialize;

use crate::boxes::{capture_after, environment, words_of};
use crate::ground::{CommandNeeds, Enclosure, Ground, Net, Whom};
use crate::machine::Machine;

/// How long a request may be, in bytes.
const LONGEST_REQUEST: u64 = 64 << 20;

/// What a program answers first, when it is ready: nothing is to be done.
const EMPTY_REQUEST: &[u8] = b"[]\n";

/// The number of that request; each further one of a program has the next number.
const FIRST: u64 = 0;

/// Programs that stay and have nothing to do.
#[derive(Default)]
pub(crate) struct Residents {
    /// The one that was used last is the last.
    idle: Mutex<Vec<Resident>>,
    /// Programs that do not say which request they answer: they are started for each one.
    unnumbered: Mutex<Vec<ResidentTitle>>,
}

/// A program that stays.
struct Resident {
    title: ResidentTitle,
    /// How many requests it has answered.
    answered: u64,
    // Dropped before its sandbox, which ends only when all that runs in it was waited for.
    talk: Talk,
    sandbox: Box<Sandbox>,
}

/// What a program that stays was started with: who wants just the same may ask it. What its files
/// hold does not change in a build, after which none is left.
#[derive(Clone, PartialEq, Eq)]
struct ResidentTitle {
    program: PathBuf,
    words: Vec<String>,
    env: Vec<(Arc<str>, Arc<str>)>,
    /// Files and folders of the workspace that its words name: what it could read when it started.
    own: Vec<WsPath>,
    tools: Vec<Digest>,
    memory: Option<u64>,
}

/// A program that stays, in the sandbox of the step that asks.
struct Seat {
    title: ResidentTitle,
    enclosure: Enclosure,
    talk: Talk,
    /// How many requests it has answered, and whether one of another step is among these.
    answered: u64,
    is_known: bool,
}

/// What came of looking for a program to ask.
enum Seating {
    /// It is there.
    Ready(Box<Seat>),
    /// One was there whose sandbox could not be changed: it is gone.
    Gone,
    /// A new one is to be started in the step's sandbox, for this request alone: its sandbox could
    /// not become that one, or it does not say which request it answers.
    Alone,
    /// A new one ended before it was ready.
    Ended(Ended),
}

/// What a program says to a request.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct AnswerLine {
    /// 0 where it did what was asked.
    #[serde(default)]
    code: i32,
    /// What a program of its own would have printed.
    #[serde(default)]
    printed: String,
    /// Which request it answers: so many were before it.
    #[serde(default)]
    request: Option<u64>,
}

impl AnswerLine {
    fn read(line: &[u8]) -> Result<AnswerLine, JobEnd> {
        serde_json::from_slice(line).map_err(|_| not_understood(line))
    }
}

/// How an answer begins that cannot be understood.
fn not_understood(line: &[u8]) -> JobEnd {
    JobEnd::NoAnswer(String::from_utf8_lossy(line).chars().take(200).collect())
}

impl Residents {
    fn take(&self, title: &ResidentTitle) -> Option<Resident> {
        let mut idle = self.idle.lock();
        let at = idle.iter().rposition(|resident| resident.title == *title)?;
        Some(idle.remove(at))
    }

    fn put_back(&self, resident: Resident) {
        // More than can be asked at once would only hold memory.
        let most = std::thread::available_parallelism().map_or(1, usize::from);
        let mut idle = self.idle.lock();
        idle.push(resident);
        let over = idle.len().saturating_sub(most);
        let oldest: Vec<Resident> = idle.drain(..over).collect();
        drop(idle);
        drop(oldest);
    }

    /// Ends all that have nothing to do.
    pub fn end_all(&self) {
        let all = std::mem::take(&mut *self.idle.lock());
        drop(all);
    }
}

impl Machine {
    /// The request of a job, if it asks a program that may stay.
    pub(crate) fn request(&self, job: &Job<'_>) -> Option<io::Result<Vec<u8>>> {
        let [(_, stage)] = job.stages.as_slice() else {
            return None;
        };
        let path = stage.stdin.as_ref().filter(|_| stage.answers)?;
        Some(read_file(&self.root().join(path.as_str()), LONGEST_REQUEST))
    }

    /// Asks a program that stays, one that is there or a new one; `None` where none can stay.
    pub(crate) fn ask_resident(
        &self,
        job: &Job<'_>,
        request: &[u8],
        printed: &mut Vec<u8>,
    ) -> io::Result<Option<JobEnd>> {
        if !self.can_stay(job) {
            return Ok(None);
        }
        self.note_start();
        let mut capture = capture_after(printed);
        let seat = loop {
            match self.seat(job, &mut capture)? {
                Seating::Ready(seat) => break *seat,
                Seating::Gone => {}
                Seating::Alone => return Ok(None),
                Seating::Ended(ended) => {
                    printed.extend(capture.take_ends());
                    return Ok(Some(end_of(ended)));
                }
            }
        };
        let Seat {
            title,
            enclosure,
            mut talk,
            answered,
            is_known,
        } = seat;
        let number = answered + 1;
        let end = match talk.ask(request, &mut capture, self.cancel(), timeout_of(job)) {
            Answered::Line(line) => match AnswerLine::read(&line) {
                Ok(answer) if answer.request == Some(number) => {
                    // It may write to what it still holds; what counts is a copy that nobody holds.
                    self.take_from_program(job, &enclosure)?;
                    let (sandbox, disturbed) = enclosure.leave(self);
                    let back = sandbox.map(|sandbox| Resident {
                        title,
                        answered: number,
                        talk,
                        sandbox,
                    });
                    if let Some(resident) = back {
                        self.residents().put_back(resident);
                    }
                    printed.extend(capture.take_ends());
                    let disturbed = disturbed.map(JobEnd::Disturbed);
                    return Ok(Some(
                        disturbed.unwrap_or_else(|| self.settle(job, answer, printed)),
                    ));
                }
                Ok(_) => not_understood(&line),
                Err(end) => end,
            },
            Answered::TooMuch(said) => not_understood(&said),
            Answered::Ended(ended) => end_of(ended),
        };
        drop(talk);
        enclosure.close(self);
        // What it did for others before may be the reason. A new one gets the request, in a folder
        // in which nothing is left of this one.
        if is_known && !matches!(end, JobEnd::Cancelled | JobEnd::TimedOut) {
            return Ok(Some(JobEnd::ToBeRepeated));
        }
        printed.extend(capture.take_ends());
        Ok(Some(end))
    }

    /// Whether a program that stays could do a job.
    fn can_stay(&self, job: &Job<'_>) -> bool {
        self.has_sandboxes()
            && job.lent.is_none()
            && job.root.is_none()
            && !job.limits.network
            && job.work.is_root()
    }

    /// Puts copies in the place of what a step has made, if a program of its sandbox still has
    /// something of its folder open or mapped.
    fn take_from_program(&self, job: &Job<'_>, enclosure: &Enclosure) -> io::Result<()> {
        let folder = job.folder.as_str();
        if !enclosure.holds(folder) {
            return Ok(());
        }
        let own = Below::of(self.below().folder(folder)?);
        for file in nubrik_disk::entries_below(&own.folder("")?)? {
            if file.kind == nubrik_disk::TreeFileKind::File {
                let mut from = own.open_to_read(&file.path)?;
                own.replace(&file.path, |to| nubrik_disk::copy_file(&mut from, to))?;
            }
        }
        Ok(())
    }

    /// A program that stays, in the sandbox of the step that asks: one that had nothing to do, or a
    /// new one.
    fn seat(&self, job: &Job<'_>, capture: &mut Capture) -> io::Result<Seating> {
        let (title, own) = title_of(job);
        let residents = self.residents();
        if residents.unnumbered.lock().contains(&title) {
            return Ok(Seating::Alone);
        }
        let (talk, sandbox, answered, is_known) = match residents.take(&title) {
            Some(Resident {
                title: _,
                answered,
                talk,
                sandbox,
            }) => (talk, sandbox, answered, true),
            None => match self.start_resident(job, &title, own, capture)? {
                NewProgram::Ready(talk, sandbox) => (*talk, sandbox, FIRST, false),
                NewProgram::Ended(ended) => return Ok(Seating::Ended(ended)),
                NewProgram::Unnumbered => {
                    residents.unnumbered.lock().push(title);
                    return Ok(Seating::Alone);
                }
            },
        };
        let failed = if is_known {
            Seating::Gone
        } else {
            Seating::Alone
        };
        let enclosure = match self.enclose_again(sandbox, &Machine::wanted(job, None, Whom::Step)) {
            Ok(enclosure) => enclosure,
            Err(sandbox) => {
                // A sandbox ends when all that runs in it was waited for.
                drop(talk);
                drop(sandbox);
                return Ok(failed);
            }
        };
        let is_furnished = {
            let environment = environment(job, &enclosure, None);
            let ground =
                Ground::in_enclosure(&enclosure, enclosure.root(), &environment, Net::Nowhere);
            nubrik_confine::furnish(&ground.spec(Vec::new())).is_ok()
        };
        if !is_furnished {
            drop(talk);
            return Ok(failed);
        }
        Ok(Seating::Ready(Box::new(Seat {
            title,
            enclosure,
            talk,
            answered,
            is_known,
        })))
    }

    /// Starts a program in a sandbox in which it sees its own files and nothing of the step that
    /// asks, so that what it takes in at its start is the same whoever asks first. It is ready when
    /// it has answered the empty request.
    fn start_resident(
        &self,
        job: &Job<'_>,
        title: &ResidentTitle,
        own: Vec<Readable>,
        capture: &mut Capture,
    ) -> io::Result<NewProgram> {
        let readable = Readables {
            own,
            shared: Vec::new(),
        };
        let wanted = CommandNeeds {
            readable: &readable,
            ..Machine::wanted(job, None, Whom::Step)
        };
        let enclosure = self.enclose(&wanted)?;
        let started = {
            let environment = environment(job, &enclosure, None);
            let stage = StageSpec {
                program: enclosure.seen(&title.program, self.root()),
                words: title.words.clone(),
                stdin: None,
                stdout: None,
                stderr: None,
            };
            let ground =
                Ground::in_enclosure(&enclosure, enclosure.root(), &environment, Net::Nowhere);
            Talk::start(&PipelineSpec {
                memory: job.limits.memory,
                ..ground.spec(vec![stage])
            })
        };
        let mut talk = match started {
            Ok(talk) => talk,
            Err((program, problem)) => {
                return Ok(NewProgram::Ended(Ended::NotStarted(program, problem)));
            }
        };
        let ready = match talk.ask(EMPTY_REQUEST, capture, self.cancel(), timeout_of(job)) {
            Answered::Line(line) => {
                AnswerLine::read(&line).is_ok_and(|answer| answer.request == Some(FIRST))
            }
            Answered::TooMuch(_) => false,
            Answered::Ended(ended) => {
                drop(talk);
                enclosure.close(self);
                return Ok(NewProgram::Ended(ended));
            }
        };
        if !ready {
            drop(talk);
            enclosure.close(self);
            return Ok(NewProgram::Unnumbered);
        }
        match enclosure.leave(self) {
            (Some(sandbox), _) => Ok(NewProgram::Ready(Box::new(talk), sandbox)),
            (None, _) => Err(io::Error::other("a program can stay in sandboxes only")),
        }
    }

    /// What the answer of a program means that was started for one request alone.
    pub(crate) fn answer(&self, job: &Job<'_>, line: &[u8], printed: &mut Vec<u8>) -> JobEnd {
        match AnswerLine::read(line) {
            Ok(answer) => self.settle(job, answer, printed),
            Err(end) => end,
        }
    }

    /// What an answer means for a job: what was printed goes where the job wants it.
    fn settle(&self, job: &Job<'_>, answer: AnswerLine, printed: &mut Vec<u8>) -> JobEnd {
        let to: Option<&WsPath> = job
            .stages
            .first()
            .and_then(|(_, stage)| stage.stdout.as_ref());
        match to {
            Some(to) => {
                if let Err(problem) = self
                    .below()
                    .write_whole(to.as_str(), answer.printed.as_bytes())
                {
                    return JobEnd::NotStarted(self.root().join(to.as_str()), problem);
                }
            }
            None => {
                let mut capture = capture_after(printed);
                capture.add_printed(answer.printed.as_bytes());
                printed.extend(capture.take_ends());
            }
        }
        if answer.code == 0 {
            JobEnd::Well
        } else {
            JobEnd::Code(answer.code)
        }
    }
}

/// What a program must be that stays for such jobs, and the files that its words name.
fn title_of(job: &Job<'_>) -> (ResidentTitle, Vec<Readable>) {
    let words = words_of(job);
    let readable = job.readable.iter();
    let own: Vec<Readable> = readable
        .filter(|file| is_named(&words, file))
        .cloned()
        .collect();
    let title = ResidentTitle {
        program: job.stages[0].0.clone(),
        words,
        env: job.env.to_vec(),
        own: own.iter().map(|file| file.path.clone()).collect(),
        tools: job.tools.iter().map(|tool| tool.identity).collect(),
        memory: job.limits.memory,
    };
    (title, own)
}

/// What came of starting a program.
enum NewProgram {
    /// It is ready.
    Ready(Box<Talk>, Box<Sandbox>),
    /// It ended before it was ready.
    Ended(Ended),
    /// Its answers do not say to what, and so it cannot stay: a line too much would be the answer
    /// to another request.
    Unnumbered,
}

/// How a job ended whose program ended without an answer.
fn end_of(ended: Ended) -> JobEnd {
    match ended {
        Ended::Cancelled => JobEnd::Cancelled,
        Ended::TimedOut => JobEnd::TimedOut,
        Ended::Signal(signal) => JobEnd::Signal(signal),
        Ended::Code(code) => JobEnd::Code(code),
        Ended::NotStarted(program, problem) => JobEnd::NotStarted(program, problem),
        Ended::Well => JobEnd::NoAnswer(String::new()),
    }
}

fn timeout_of(job: &Job<'_>) -> Option<Duration> {
    job.limits.timeout.map(Duration::from_millis)
}

/// Whether some words name a file or folder, or something in it: as a path of its own in a word,
/// between other things or not.
fn is_named(words: &[String], file: &Readable) -> bool {
    let path = file.path.as_str();
    let is_of_path =
        |c: char| c.is_alphanumeric() || matches!(c, '_' | '-' | '.' | '@' | '+' | '~');
    words.iter().any(|word| {
        word.match_indices(path).any(|(at, _)| {
            let (before, after) = (
                word[..at].chars().next_back(),
                word[at + path.len()..].chars().next(),
            );
            !before.is_some_and(|c| is_of_path(c) || c == '/') && !after.is_some_and(is_of_path)
        })
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_path_is_named_where_it_is_a_path_of_its_own() {
        let named = |word: &str| {
            let file = Readable {
                path: WsPath::from_normal("lib/a.jar"),
                folder: true,
                made: false,
            };
            is_named(&[word.to_owned()], &file)
        };
        for word in [
            "lib/a.jar",
            "-cp=lib/a.jar:b",
            "x:lib/a.jar",
            "lib/a.jar/inside",
            "'lib/a.jar'",
        ] {
            assert!(named(word), "{word}");
        }
        for word in [
            "lib/a.jars",
            "mylib/a.jar",
            "/lib/a.jar",
            "lib/a.jar-1",
            "lib/a",
        ] {
            assert!(!named(word), "{word}");
        }
    }
}
