//! Who has work.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::mpsc::{Receiver, Sender, channel};
use std::time::{Duration, Instant};

use async_nats::Subscriber;
use futures_util::StreamExt;
use parking_lot::{Condvar, Mutex};

use super::line::JobLine;
use super::{
    Alive, BossNews, ExchangePlace, ExchangeTrouble, GONE, PATIENCE, UNPACKS, WANTED, are_among,
    job_name, kind_of,
};

/// The open slots are counted again after so long.
const COUNTED: Duration = Duration::from_millis(100);

/// Who is there, by name, and when they last said so.
#[derive(Default)]
struct RollCall {
    list: Mutex<HashMap<String, (Alive, Instant)>>,
    /// Notified whenever somebody says that they are there.
    changed: Condvar,
}

/// One who has work for a pool, in one build.
pub struct Boss {
    line: JobLine,
    /// The name of this one, and the number of its build.
    name: String,
    round: AtomicUsize,
    present: Arc<RollCall>,
    /// How many slots were open on machines of each kind when it was last counted, and when that
    /// was.
    slots: Mutex<(Instant, Arc<[MachineKind]>)>,
    heard: Mutex<Receiver<BossNews>>,
}

/// Machines with the same labels, as far as they take jobs.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct MachineKind {
    /// Their labels, sorted.
    pub labels: Vec<String>,
    /// How many of them there are.
    pub machines: usize,
    /// How many jobs they take at once now, all together.
    pub slots: usize,
}

impl MachineKind {
    /// Whether all of some labels are true of them.
    pub fn has_labels(&self, labels: &[impl AsRef<str>]) -> bool {
        are_among(labels, &self.labels)
    }

    /// Under what jobs wait for them.
    pub fn name(&self) -> String {
        kind_of(&self.labels)
    }
}

/// What a message says, read by the subject that it came by.
fn read(kind: &str, subject: &str, payload: &[u8]) -> Option<BossNews> {
    match kind {
        "answer" => Some(BossNews::Answer(payload.to_vec())),
        "begun" => {
            let number = subject.rsplit('.').next()?.parse().ok()?;
            let text = std::str::from_utf8(payload).ok()?;
            let (name, unpacks) = match text.strip_suffix(UNPACKS) {
                Some(name) => (name, true),
                None => (text, false),
            };
            Some(BossNews::Begun {
                number,
                name: name.to_owned(),
                unpacks,
            })
        }
        _ => {
            // The server's own advice: a JSON object.
            let text = std::str::from_utf8(payload).ok()?;
            let after = text.split("\"stream_seq\":").nth(1)?.trim_start();
            let digits = after
                .find(|c: char| !c.is_ascii_digit())
                .unwrap_or(after.len());
            after[..digits].parse().ok().map(BossNews::Undone)
        }
    }
}

async fn pass_on(mut from: Subscriber, kind: &'static str, to: Sender<BossNews>) {
    while let Some(message) = from.next().await {
        let Some(heard) = read(kind, &message.subject, &message.payload) else {
            continue;
        };
        if to.send(heard).is_err() {
            return;
        }
    }
}

impl Boss {
    /// Begins to hear who is there, and what they answer. `name` is one of letters and digits that
    /// nobody else has.
    ///
    /// # Errors
    /// When the server cannot be reached, or refuses it.
    pub fn open(place: &ExchangePlace, name: &str) -> Result<Boss, ExchangeTrouble> {
        let line = JobLine::open(place)?;
        let present: Arc<RollCall> = Arc::default();
        let (sender, heard) = channel();
        let refused = |e: async_nats::SubscribeError| ExchangeTrouble::Refused(e.to_string());
        let undone = format!(
            "$JS.EVENT.ADVISORY.CONSUMER.MAX_DELIVERIES.NUBRIK_{}.>",
            place.pool
        );
        let kinds = [
            ("answer", format!("nubrik.answer.{name}.*")),
            ("begun", format!("nubrik.begun.{name}.*.*")),
            ("undone", undone),
        ];
        let (mut alive, told) = line.runtime.block_on(async {
            let alive = line
                .client
                .subscribe(format!("nubrik.alive.{}", place.pool))
                .await
                .map_err(refused)?;
            let mut told = Vec::new();
            for (kind, subject) in kinds {
                told.push((kind, line.client.subscribe(subject).await.map_err(refused)?));
            }
            let _ = line.client.flush().await;
            // Those that are there say so at once.
            let _ = line
                .client
                .publish(format!("nubrik.roll.{}", place.pool), "".into())
                .await;
            Ok((alive, told))
        })?;
        let list = present.clone();
        line.runtime.spawn(async move {
            while let Some(message) = alive.next().await {
                if let Some(alive) = Alive::read(&message.payload) {
                    list.list
                        .lock()
                        .insert(alive.name.clone(), (alive, Instant::now()));
                    list.changed.notify_all();
                }
            }
        });
        for (kind, from) in told {
            line.runtime.spawn(pass_on(from, kind, sender.clone()));
        }
        let (client, wanted) = (line.client.clone(), name.to_owned());
        line.runtime.spawn(say_wanted(client, wanted));
        let (name, round) = (name.to_owned(), AtomicUsize::new(0));
        let slots = Mutex::new((Instant::now(), Arc::default()));
        Ok(Boss {
            line,
            name,
            round,
            present,
            slots,
            heard: Mutex::new(heard),
        })
    }

    /// What kinds of machines are there, those that take jobs now, sorted. It is counted a few
    /// times a second, and not each time it is asked.
    pub fn kinds(&self) -> Arc<[MachineKind]> {
        let mut slots = self.slots.lock();
        if slots.1.is_empty() || slots.0.elapsed() > COUNTED {
            let list = self.present.list.lock();
            let there = list
                .values()
                .filter(|(_, last)| last.elapsed() < GONE)
                .map(|(alive, _)| alive);
            let mut kinds: BTreeMap<&[String], MachineKind> = BTreeMap::new();
            for alive in there.filter(|alive| alive.open_slots() > 0) {
                let none = || MachineKind {
                    labels: alive.labels.clone(),
                    machines: 0,
                    slots: 0,
                };
                let kind = kinds.entry(&alive.labels).or_insert_with(none);
                (kind.machines, kind.slots) = (kind.machines + 1, kind.slots + alive.open_slots());
            }
            *slots = (Instant::now(), kinds.into_values().collect());
        }
        slots.1.clone()
    }

    /// What jobs are of that are sent now.
    pub fn build(&self) -> String {
        format!("{}.{}", self.name, self.round.load(Ordering::Relaxed))
    }

    /// Who is there.
    pub fn present(&self) -> Vec<Alive> {
        let mut list = self.present.list.lock();
        list.retain(|_, (_, last)| last.elapsed() < GONE);
        let mut all: Vec<Alive> = list.values().map(|(alive, _)| alive.clone()).collect();
        all.sort_by(|a, b| a.name.cmp(&b.name));
        all
    }

    /// Waits until somebody is there of whom something is true, at most so long.
    pub fn wait_for(&self, is_meant: impl Fn(&Alive) -> bool, within: Duration) {
        let until = Instant::now() + within;
        let mut list = self.present.list.lock();
        let is_there = |(alive, last): &(Alive, Instant)| last.elapsed() < GONE && is_meant(alive);
        while !list.values().any(is_there) {
            if self
                .present
                .changed
                .wait_until(&mut list, until)
                .timed_out()
            {
                return;
            }
        }
    }

    /// Whether someone of a name is there.
    pub fn is_present(&self, name: &str) -> bool {
        let list = self.present.list.lock();
        list.get(name)
            .is_some_and(|(_, last)| last.elapsed() < GONE)
    }

    /// Puts a job into the pool, for machines of one kind. Gives the number under which the server
    /// has it.
    ///
    /// # Errors
    /// When it is full, or cannot be reached.
    pub fn send(&self, kind: &str, job: Vec<u8>) -> Result<u64, ExchangeTrouble> {
        let subject = format!("nubrik.job.{}.{kind}.{}", self.line.pool, self.build());
        self.line.runtime.block_on(async {
            let put = self.line.jetstream.publish(subject, job.into()).await;
            let put = put.map_err(|e| ExchangeTrouble::Unreachable(e.to_string()))?;
            let kept = tokio::time::timeout(PATIENCE, async { put.await }).await;
            match kept {
                Ok(Ok(kept)) => Ok(kept.sequence),
                Ok(Err(e)) => Err(ExchangeTrouble::Refused(format!("a job ({e})"))),
                Err(_) => Err(ExchangeTrouble::Unreachable(
                    "it does not say that it has a job".to_owned(),
                )),
            }
        })
    }

    /// Takes a job back, with its number and those under which the server has it: who does it
    /// stops. Nothing is waited for.
    pub fn withdraw(&self, number: u32, sent: &[u64]) {
        let (client, stream) = (self.line.client.clone(), self.line.stream.clone());
        let (job, sent) = (job_name(&self.build(), number), sent.to_vec());
        self.line.runtime.spawn(async move {
            let _ = client.publish("nubrik.stop", job.into()).await;
            for number in sent {
                // What somebody ended meanwhile is not there any more.
                let _ = stream.delete_message(number).await;
            }
        });
    }

    /// Lets a job be given to nobody any more, with the numbers under which the server has it. Who
    /// does it goes on. Nothing is waited for.
    pub fn forget(&self, sent: &[u64]) {
        let (stream, sent) = (self.line.stream.clone(), sent.to_vec());
        self.line.runtime.spawn(async move {
            for number in sent {
                let _ = stream.delete_message(number).await;
            }
        });
    }

    /// What jobs are of from now on is another build.
    pub fn next_build(&self) {
        self.round.fetch_add(1, Ordering::Relaxed);
    }

    /// What is heard next, if anything is in a time.
    pub fn receive(&self, within: Duration) -> Option<BossNews> {
        self.heard.lock().recv_timeout(within).ok()
    }

    /// Asks all who are there something, or only one, and gives what they answer in a time; one
    /// alone is not waited for after it answered.
    ///
    /// # Errors
    /// When they cannot be asked.
    pub fn ask(
        &self,
        one: Option<&str>,
        question: Vec<u8>,
        within: Duration,
    ) -> Result<Vec<Vec<u8>>, ExchangeTrouble> {
        let unreachable = |e: &dyn std::fmt::Display| ExchangeTrouble::Unreachable(e.to_string());
        let client = &self.line.client;
        self.line.runtime.block_on(async {
            let back = client.new_inbox();
            let mut answers = client
                .subscribe(back.clone())
                .await
                .map_err(|e| unreachable(&e))?;
            let subject = match one {
                None => format!("nubrik.ask.{}", self.line.pool),
                Some(name) => format!("nubrik.ask.{}.{name}", self.line.pool),
            };
            client
                .publish_with_reply(subject, back, question.into())
                .await
                .map_err(|e| unreachable(&e))?;
            let mut heard = Vec::new();
            let end = tokio::time::Instant::now() + within;
            while let Ok(Some(message)) = tokio::time::timeout_at(end, answers.next()).await {
                heard.push(message.payload.to_vec());
                if one.is_some() {
                    break;
                }
            }
            Ok(heard)
        })
    }

    /// Takes back what nobody began, and stops who works on the rest.
    pub fn abandon(&self) {
        let build = self.build();
        self.next_build();
        let subject = format!("nubrik.job.{}.*.{build}", self.line.pool);
        // A server that is gone is not waited for.
        self.line.say(async {
            let _ = self.line.client.publish("nubrik.stop", build.into()).await;
            let _ = self.line.client.flush().await;
            let _ = self.line.stream.purge().filter(subject).await;
        });
    }
}

/// Says again and again which client still wants answers.
async fn say_wanted(client: async_nats::Client, name: String) {
    loop {
        let _ = client.publish("nubrik.wanted", name.clone().into()).await;
        tokio::time::sleep(WANTED).await;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_heard_is_read_by_its_subject() {
        let read = |kind, subject, text: &str| read(kind, subject, text.as_bytes());
        let advice = "{\"type\":\"x\",\"stream_seq\":47,\"deliveries\":3}";
        assert_eq!(
            read("undone", "$JS.EVENT.x", advice),
            Some(BossNews::Undone(47))
        );
        assert_eq!(read("undone", "$JS.EVENT.x", "{}"), None);
        assert_eq!(
            read("begun", "nubrik.begun.b7.0.12", "hand"),
            Some(BossNews::Begun {
                number: 12,
                name: "hand".to_owned(),
                unpacks: false
            })
        );
        assert_eq!(
            read("begun", "nubrik.begun.b7.0.12", "hand unpacks"),
            Some(BossNews::Begun {
                number: 12,
                name: "hand".to_owned(),
                unpacks: true
            })
        );
        assert_eq!(read("begun", "nubrik.begun.b7.0.x", "hand"), None);
    }
}
