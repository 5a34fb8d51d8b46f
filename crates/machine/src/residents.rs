//! Programs that stay while a build goes on, and answer requests of several steps: compilers that take long to start. Each is in a
//! room, and for each request that room is made the one of the step that asks.

use std::io;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use nubrik_bytes::Digest;
use nubrik_confine::{Answered, Capture, Ended, PipelineSpec, Room, StageSpec, Talk};
use nubrik_disk::read_file;
use nubrik_engine::{Job, JobEnd};
use nubrik_source::WsPath;
use serde::Deserialize;

use crate::boxes::{PRINTED_LIMIT, add_printed, environment};
use crate::ground::{Enclosure, Ground, Net, Whom};
use crate::machine::Machine;

/// How long a request may be, in bytes.
const LONGEST_REQUEST: u64 = 64 << 20;

/// Programs that stay and have nothing to do.
#[derive(Default)]
pub(crate) struct Residents {
    /// The one that was used last is the last.
    idle: Mutex<Vec<Resident>>,
}

/// A program that stays.
struct Resident {
    title: ResidentTitle,
    // Dropped before its room, which ends only when all that runs in it was waited for.
    talk: Talk,
    room: Box<Room>,
}

/// What a program that stays was started with: who wants just the same may ask it. What its files hold does not change in a
/// build, after which none is left.
#[derive(PartialEq, Eq)]
struct ResidentTitle {
    program: PathBuf,
    words: Vec<String>,
    env: Vec<(Arc<str>, Arc<str>)>,
    tools: Vec<Digest>,
    memory: Option<u64>,
}

/// A program that stays, or why it did not start, in the room of a step.
struct Seat {
    title: ResidentTitle,
    enclosure: Enclosure,
    talk: Result<Talk, (PathBuf, io::Error)>,
    /// Whether it answered others before.
    is_known: bool,
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
}

impl Residents {
    fn take(&self, title: &ResidentTitle) -> Option<Resident> {
        let mut idle = self.idle.lock().unwrap_or_else(PoisonError::into_inner);
        let at = idle.iter().rposition(|resident| resident.title == *title)?;
        Some(idle.remove(at))
    }

    fn put_back(&self, resident: Resident) {
        // More than can be asked at once would only hold memory.
        let most = std::thread::available_parallelism().map_or(1, usize::from);
        let mut idle = self.idle.lock().unwrap_or_else(PoisonError::into_inner);
        idle.push(resident);
        let over = idle.len().saturating_sub(most);
        let oldest: Vec<Resident> = idle.drain(..over).collect();
        drop(idle);
        drop(oldest);
    }

    /// Ends all that have nothing to do.
    pub fn end_all(&self) {
        let all = std::mem::take(&mut *self.idle.lock().unwrap_or_else(PoisonError::into_inner));
        drop(all);
    }
}

impl Machine {
    /// The request of a job, if it asks a program that may stay.
    pub(crate) fn request(&self, job: &Job<'_>) -> Option<io::Result<Vec<u8>>> {
        let [(_, stage)] = job.stages.as_slice() else { return None };
        let path = stage.stdin.as_ref().filter(|_| stage.answers)?;
        Some(read_file(&self.root().join(path.as_str()), LONGEST_REQUEST))
    }

    /// Asks a program that stays, one that is there or a new one; `None` where none can stay.
    pub(crate) fn ask_resident(
        &self,
        job: &Job<'_>,
        request: &[u8],
        printed: &mut Vec<u8>,
    ) -> Option<io::Result<JobEnd>> {
        let stays = self.has_rooms() && job.lent.is_none() && !job.limits.network && job.work.is_root();
        stays.then(|| self.ask(job, request, printed))
    }

    fn ask(&self, job: &Job<'_>, request: &[u8], printed: &mut Vec<u8>) -> io::Result<JobEnd> {
        self.note_start();
        let timeout = job.limits.timeout.map(Duration::from_millis);
        loop {
            let Some(seat) = self.seat(job)? else { continue };
            let Seat { title, enclosure, talk, is_known } = seat;
            let mut talk = match talk {
                Ok(talk) => talk,
                Err((program, problem)) => return Ok(JobEnd::NotStarted(program, problem)),
            };
            let mut capture = Capture::new(PRINTED_LIMIT);
            let ended = match talk.ask(request, &mut capture, self.cancel(), timeout) {
                Answered::Line(line) => {
                    let (room, disturbed) = enclosure.leave(self);
                    if let Some(room) = room {
                        self.residents().put_back(Resident { title, talk, room });
                    }
                    add_printed(printed, &capture.bytes, capture.cut);
                    return Ok(match disturbed {
                        Some(folder) => JobEnd::Disturbed(folder),
                        None => self.answer(job, &line, printed),
                    });
                }
                Answered::Ended(ended) => ended,
            };
            drop(talk);
            enclosure.close(self);
            // What it did for others before may be the reason: a new one gets the request.
            if is_known && !matches!(ended, Ended::Cancelled | Ended::TimedOut) {
                continue;
            }
            add_printed(printed, &capture.bytes, capture.cut);
            return Ok(match ended {
                Ended::Cancelled => JobEnd::Cancelled,
                Ended::TimedOut => JobEnd::TimedOut,
                Ended::Signal(signal) => JobEnd::Signal(signal),
                Ended::Code(code) => JobEnd::Code(code),
                Ended::NotStarted(program, problem) => JobEnd::NotStarted(program, problem),
                Ended::Well => JobEnd::NoAnswer(String::new()),
            });
        }
    }

    /// A program that stays, in the room of the step that asks: one that had nothing to do, or a new one. `None` where the room
    /// of the one that was there cannot be changed: it is gone.
    fn seat(&self, job: &Job<'_>) -> io::Result<Option<Seat>> {
        let wanted = Machine::wanted(job, None, Whom::Step);
        let (words, tools) = (crate::boxes::words_of(job), job.tools.iter().map(|t| t.identity).collect());
        let program = job.stages[0].0.clone();
        let env = job.env.to_vec();
        let title = ResidentTitle { program, words, env, tools, memory: job.limits.memory };
        let known = self.residents().take(&title);
        let (enclosure, known) = match known {
            Some(Resident { title: _, talk, room }) => match self.enclose_again(room, &wanted) {
                Ok(enclosure) => (enclosure, Some(talk)),
                Err(room) => {
                    // A room ends when all that runs in it was waited for.
                    drop(talk);
                    drop(room);
                    return Ok(None);
                }
            },
            None => (self.enclose(&wanted)?, None),
        };
        let is_known = known.is_some();
        let environment = environment(job, &enclosure, None);
        let stage = StageSpec {
            program: enclosure.seen(&title.program, self.root()),
            words: title.words.clone(),
            stdin: None,
            stdout: None,
            stderr: None,
        };
        let ground = Ground::in_enclosure(&enclosure, enclosure.root(), &environment, Net::Nowhere);
        let spec = PipelineSpec { memory: job.limits.memory, ..ground.spec(vec![stage]) };
        let talk = match known {
            Some(talk) => match nubrik_confine::furnish(&spec) {
                Ok(()) => Ok(talk),
                // What cannot be changed ends, after what stays in it.
                Err(_) => {
                    drop(talk);
                    return Ok(None);
                }
            },
            None => Talk::start(&spec),
        };
        drop(spec);
        Ok(Some(Seat { title, enclosure, talk, is_known }))
    }

    /// What an answer means for a job: what was printed goes where the job wants it.
    pub(crate) fn answer(&self, job: &Job<'_>, line: &[u8], printed: &mut Vec<u8>) -> JobEnd {
        let Ok(answer) = serde_json::from_slice::<AnswerLine>(line) else {
            let start: String = String::from_utf8_lossy(line).chars().take(200).collect();
            return JobEnd::NoAnswer(start);
        };
        let to: Option<&WsPath> = job.stages.first().and_then(|(_, stage)| stage.stdout.as_ref());
        match to {
            Some(to) => {
                if let Err(problem) = self.below().write_whole(to.as_str(), answer.printed.as_bytes()) {
                    return JobEnd::NotStarted(self.root().join(to.as_str()), problem);
                }
            }
            None => add_printed(printed, answer.printed.as_bytes(), 0),
        }
        if answer.code == 0 { JobEnd::Well } else { JobEnd::Code(answer.code) }
    }
}
