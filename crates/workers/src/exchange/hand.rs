//! Who works.

use std::collections::HashMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::mpsc::{Receiver, channel};
use std::time::{Duration, Instant};

use async_nats::jetstream::AckKind;
use async_nats::jetstream::consumer::{AckPolicy, PullConsumer, pull};
use async_nats::{Client, Subject, Subscriber};
use futures_util::StreamExt;
use parking_lot::Mutex;
use tokio::task::JoinHandle;

use super::line::JobLine;
use super::{
    Alive, BEAT, DELIVERIES, ExchangePlace, ExchangeTrouble, FORSAKEN, KEPT, LEASE, PATIENCE,
    UNPACKS, job_name, kind_of,
};

/// What is known of who has work is kept so long: a job that waits for longer is thrown away.
const REMEMBERED: Duration = KEPT;

/// What is known of who has work.
#[derive(Default)]
struct Bosses {
    /// Builds and single jobs that nobody waits for any more.
    stopped: HashMap<String, Instant>,
    /// When each one last said that it waits.
    heard: HashMap<String, Instant>,
}

impl Bosses {
    /// Takes note that a job of someone is begun, and forgets who had work long ago.
    fn works_for(&mut self, name: &str) {
        let is_recent = |_: &String, at: &mut Instant| at.elapsed() < REMEMBERED;
        self.stopped.retain(is_recent);
        self.heard.retain(is_recent);
        self.heard
            .entry(name.to_owned())
            .or_insert_with(Instant::now);
    }
}

/// The state of this one.
struct OwnCondition {
    name: String,
    slots: usize,
    machine: String,
    labels: Vec<String>,
    busy: AtomicUsize,
    bosses: Mutex<Bosses>,
    /// Until when no job is taken, and why.
    away: Mutex<Option<(Instant, String)>>,
}

impl OwnCondition {
    fn alive(&self) -> Alive {
        let OwnCondition {
            name,
            slots,
            machine,
            labels,
            ..
        } = self;
        let (name, machine, labels) = (name.clone(), machine.clone(), labels.clone());
        // What is only got ready is not done yet.
        let busy = self.busy.load(Ordering::Relaxed).min(*slots);
        Alive {
            name,
            slots: *slots,
            busy,
            machine,
            labels,
            away: self.away(),
        }
    }

    fn away(&self) -> Option<String> {
        let mut away = self.away.lock();
        away.take_if(|(until, _)| *until <= Instant::now());
        away.as_ref().map(|(_, why)| why.clone())
    }
}

/// One who works for a pool.
pub struct Hand {
    line: Arc<JobLine>,
    jobs: PullConsumer,
    standing: Arc<OwnCondition>,
    questions: Mutex<Receiver<(Vec<u8>, Subject)>>,
}

/// Jobs of a pool for one kind of machine.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct JobQueue {
    /// The pool.
    pub pool: String,
    /// The kind of machine.
    pub kind: String,
    /// How many jobs nobody took yet.
    pub waiting: u64,
    /// How many jobs some worker took and did not end yet.
    pub taken: u64,
}

/// A job under a lease. The lease is kept as long as this value lives; a job that is dropped
/// without a word is given to another one.
pub struct TakenJob {
    line: Arc<JobLine>,
    message: async_nats::jetstream::Message,
    standing: Arc<OwnCondition>,
    beat: JoinHandle<()>,
    /// The build that it is of.
    pub build: String,
    /// What is to be done.
    pub bytes: Vec<u8>,
}

/// Something that is asked of all who work.
pub struct AskedQuestion {
    client: Client,
    line: Arc<JobLine>,
    back: Subject,
    /// What is asked.
    pub bytes: Vec<u8>,
}

/// Who a build is of.
fn owner(build: &str) -> &str {
    build.split_once('.').map_or(build, |(name, _)| name)
}

async fn hear_of_bosses(
    mut stops: Subscriber,
    mut wanted: Subscriber,
    standing: Arc<OwnCondition>,
) {
    loop {
        let (is_stop, message) = tokio::select! {
            message = stops.next() => (true, message),
            message = wanted.next() => (false, message),
        };
        let Some(message) = message else { return };
        let Ok(build) = std::str::from_utf8(&message.payload) else {
            continue;
        };
        let mut bosses = standing.bosses.lock();
        match is_stop {
            true => {
                bosses.stopped.insert(build.to_owned(), Instant::now());
            }
            // Of others than those for whom something is done nothing is kept.
            false => {
                if let Some(heard) = bosses.heard.get_mut(build) {
                    *heard = Instant::now();
                }
            }
        }
    }
}

impl Hand {
    /// Says that someone works here: by what name, how many jobs at once, and on what `machine`
    /// (without tabs), of which some labels are true (sorted).
    ///
    /// # Errors
    /// When the server cannot be reached, or refuses it.
    pub fn open(
        place: &ExchangePlace,
        name: &str,
        slots: usize,
        (machine, labels): (&str, Vec<String>),
    ) -> Result<Hand, ExchangeTrouble> {
        let line = JobLine::open(place)?;
        let kind = kind_of(&labels);
        let refused =
            |e: &dyn std::fmt::Display| ExchangeTrouble::Refused(format!("to hand out jobs ({e})"));
        let listen = async |subject: String| {
            line.client
                .subscribe(subject)
                .await
                .map_err(|e| refused(&e))
        };
        let (jobs, rolls, bosses, mut asked) = line.runtime.block_on(async {
            let jobs = line
                .stream
                .get_or_create_consumer(&kind, consumer_of(&kind, &place.pool))
                .await
                .map_err(|e| refused(&e))?;
            let rolls = listen(format!("nubrik.roll.{}", place.pool)).await?;
            let bosses = (
                listen("nubrik.stop".to_owned()).await?,
                listen("nubrik.wanted".to_owned()).await?,
            );
            let asked = listen(format!("nubrik.ask.{}", place.pool)).await?;
            let asked_alone = listen(format!("nubrik.ask.{}.{name}", place.pool)).await?;
            Ok((
                jobs,
                rolls,
                bosses,
                futures_util::stream::select(asked, asked_alone),
            ))
        })?;
        let standing = Arc::new(OwnCondition {
            name: name.replace('\t', " "),
            slots,
            machine: machine.to_owned(),
            labels,
            busy: AtomicUsize::new(0),
            bosses: Mutex::default(),
            away: Mutex::default(),
        });
        let (client, pool) = (line.client.clone(), place.pool.clone());
        line.runtime
            .spawn(say_alive(client, pool, rolls, standing.clone()));
        line.runtime
            .spawn(hear_of_bosses(bosses.0, bosses.1, standing.clone()));
        let (sender, questions) = channel();
        line.runtime.spawn(async move {
            while let Some(message) = asked.next().await {
                let Some(back) = message.reply else { continue };
                if sender.send((message.payload.to_vec(), back)).is_err() {
                    return;
                }
            }
        });
        Ok(Hand {
            line: Arc::new(line),
            jobs,
            standing,
            questions: Mutex::new(questions),
        })
    }

    /// The next job, if one comes in a time.
    ///
    /// # Errors
    /// When the server cannot be asked.
    pub fn take(&self, within: Duration) -> Result<Option<TakenJob>, ExchangeTrouble> {
        if self.standing.away().is_some() {
            std::thread::sleep(within);
            return Ok(None);
        }
        let unreachable = |e: &dyn std::fmt::Display| ExchangeTrouble::Unreachable(e.to_string());
        let message = self.line.runtime.block_on(async {
            let batch = self
                .jobs
                .batch()
                .max_messages(1)
                .expires(within)
                .messages()
                .await;
            batch
                .map_err(|e| unreachable(&e))?
                .next()
                .await
                .transpose()
                .map_err(|e| unreachable(&e))
        })?;
        Ok(message.map(|message| self.taken(message)))
    }

    /// A job that waits now, since nobody is free who would take it.
    ///
    /// # Errors
    /// When the server cannot be asked.
    pub fn take_waiting(&self) -> Result<Option<TakenJob>, ExchangeTrouble> {
        if self.standing.away().is_some() {
            return Ok(None);
        }
        let unreachable = |e: &dyn std::fmt::Display| ExchangeTrouble::Unreachable(e.to_string());
        let message = self.line.runtime.block_on(async {
            let batch = self
                .jobs
                .fetch()
                .max_messages(1)
                .expires(PATIENCE)
                .messages()
                .await;
            batch
                .map_err(|e| unreachable(&e))?
                .next()
                .await
                .transpose()
                .map_err(|e| unreachable(&e))
        })?;
        Ok(message.map(|message| self.taken(message)))
    }

    /// Keeps the lease of a job that the server gave.
    fn taken(&self, message: async_nats::jetstream::Message) -> TakenJob {
        let before = format!(
            "nubrik.job.{}.{}.",
            self.line.pool,
            kind_of(&self.standing.labels)
        );
        let build = message
            .subject
            .strip_prefix(&before)
            .unwrap_or_default()
            .to_owned();
        let bytes = message.payload.to_vec();
        self.standing.busy.fetch_add(1, Ordering::Relaxed);
        // Who sent it waited a moment ago, or nobody does soon.
        self.standing.bosses.lock().works_for(owner(&build));
        let kept = message.clone();
        let beat = self.line.runtime.spawn(async move {
            loop {
                tokio::time::sleep(LEASE / 3).await;
                let _ = kept.ack_with(AckKind::Progress).await;
            }
        });
        let (line, standing) = (self.line.clone(), self.standing.clone());
        TakenJob {
            line,
            message,
            standing,
            beat,
            build,
            bytes,
        }
    }

    /// Whether nobody wants what comes of a build any more: they said so, or they said nothing for
    /// long.
    pub fn is_stopped(&self, build: &str) -> bool {
        let bosses = self.standing.bosses.lock();
        let is_forsaken = bosses
            .heard
            .get(owner(build))
            .is_some_and(|heard: &Instant| heard.elapsed() > FORSAKEN);
        is_forsaken || bosses.stopped.contains_key(build)
    }

    /// Whether nobody wants what comes of one job any more, by its number.
    pub fn is_withdrawn(&self, build: &str, number: u32) -> bool {
        self.is_stopped(build)
            || self
                .standing
                .bosses
                .lock()
                .stopped
                .contains_key(&job_name(build, number))
    }

    /// How this worker is, as others hear it.
    pub fn alive(&self) -> Alive {
        self.standing.alive()
    }

    /// The jobs for this kind of machine; nothing where the server does not answer.
    pub fn queue(&self) -> Option<JobQueue> {
        let jobs = self.jobs.clone();
        let asked = async { tokio::time::timeout(PATIENCE, jobs.get_info()).await };
        let info = self.line.runtime.block_on(asked).ok()?.ok()?;
        let (pool, kind) = (self.line.pool.clone(), kind_of(&self.standing.labels));
        Some(JobQueue {
            pool,
            kind,
            waiting: info.num_pending,
            taken: info.num_ack_pending as u64,
        })
    }

    /// How many jobs are under way here.
    pub fn busy(&self) -> usize {
        self.standing.busy.load(Ordering::Relaxed)
    }

    /// Takes no jobs for a while, and says why.
    pub fn leave(&self, why: &str, time: Duration) {
        let why = why.replace(['\t', '\n'], " ");
        self.standing
            .away
            .lock()
            .replace((Instant::now() + time, why));
        let (subject, alive) = (
            format!("nubrik.alive.{}", self.line.pool),
            self.standing.alive(),
        );
        self.line.say(async {
            let _ = self.line.client.publish(subject, alive.line().into()).await;
        });
    }

    /// What is asked next of all who work, if anything is in a time.
    pub fn question(&self, within: Duration) -> Option<AskedQuestion> {
        let (bytes, back) = self.questions.lock().recv_timeout(within).ok()?;
        Some(AskedQuestion {
            client: self.line.client.clone(),
            line: self.line.clone(),
            back,
            bytes,
        })
    }
}

/// Says again and again that this worker is there; sooner, where somebody asks who is there.
async fn say_alive(
    client: async_nats::Client,
    pool: String,
    mut rolls: async_nats::Subscriber,
    here: Arc<OwnCondition>,
) {
    loop {
        let line = here.alive().line();
        let subject = format!("nubrik.alive.{pool}");
        let _ = client.publish(subject, line.into()).await;
        let _ = tokio::time::timeout(BEAT, rolls.next()).await;
    }
}

/// Who takes the jobs for a kind of machine from the server: all its workers together.
fn consumer_of(kind: &str, pool: &str) -> pull::Config {
    pull::Config {
        durable_name: Some(kind.to_owned()),
        filter_subject: format!("nubrik.job.{pool}.{kind}.>"),
        ack_policy: AckPolicy::Explicit,
        ack_wait: LEASE,
        max_deliver: DELIVERIES,
        ..pull::Config::default()
    }
}

impl AskedQuestion {
    /// Answers it. Who asked and heard nothing takes it for nobody there.
    pub fn answer(self, answer: Vec<u8>) {
        self.line.say(async {
            let _ = self.client.publish(self.back, answer.into()).await;
            let _ = self.client.flush().await;
        });
    }
}

impl TakenJob {
    /// Says that it is begun: under what number who sent it knows it, who does it, and whether they
    /// put its image together just now.
    pub fn begins(&self, number: u32, name: &str, unpacks: bool) {
        let subject = format!("nubrik.begun.{}.{number}", self.build);
        let said = format!("{name}{}", if unpacks { UNPACKS } else { "" });
        self.line.say(async {
            let _ = self.line.client.publish(subject, said.into()).await;
        });
    }

    /// Gives it to somebody else.
    pub fn pass_on(self) {
        self.line.say(async {
            let _ = self.message.ack_with(AckKind::Nak(None)).await;
            let _ = self.line.client.flush().await;
        });
    }

    /// Says what came of it, and that it is done.
    ///
    /// # Errors
    /// When that cannot be said; the job is given to another one then.
    pub fn answer(self, answer: Vec<u8>) -> Result<(), ExchangeTrouble> {
        self.end(Some(answer))
    }

    /// Says that nothing is done of it any more, since nobody waits for it.
    pub fn close(self) {
        // Otherwise the next one who gets it closes it.
        let _ = self.end(None);
    }

    fn end(self, answer: Option<Vec<u8>>) -> Result<(), ExchangeTrouble> {
        let unreachable = |e: &dyn std::fmt::Display| ExchangeTrouble::Unreachable(e.to_string());
        let said = async {
            if let Some(answer) = answer {
                let subject = format!("nubrik.answer.{}", self.build);
                self.line
                    .client
                    .publish(subject, answer.into())
                    .await
                    .map_err(|e| unreachable(&e))?;
                self.line
                    .client
                    .flush()
                    .await
                    .map_err(|e| unreachable(&e))?;
            }
            self.message.double_ack().await.map_err(|e| unreachable(&e))
        };
        let said = self
            .line
            .runtime
            .block_on(async { tokio::time::timeout(PATIENCE, said).await });
        said.unwrap_or_else(|late| Err(unreachable(&late)))
    }
}

impl Drop for TakenJob {
    fn drop(&mut self) {
        self.beat.abort();
        self.standing.busy.fetch_sub(1, Ordering::Relaxed);
    }
}
