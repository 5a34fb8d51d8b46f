//! Who has work.

use std::collections::HashMap;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::mpsc::{Receiver, channel};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use futures_util::StreamExt;

use crate::line::JobLine;
use crate::{Alive, ExchangePlace, ExchangeTrouble, GONE, PATIENCE};

/// Who is there, by name, and when they last said so.
type RollCall = Arc<Mutex<HashMap<String, (Alive, Instant)>>>;

/// One who has work for a pool, in one build.
pub struct Boss {
    line: JobLine,
    /// The name of this one, and how often what it sent was taken back.
    name: String,
    round: AtomicUsize,
    present: RollCall,
    answers: Mutex<Receiver<Vec<u8>>>,
}

impl Boss {
    /// Begins to hear who is there, and what they answer. `name` is one of letters and digits that nobody else has.
    ///
    /// # Errors
    /// When the server cannot be reached, or refuses it.
    pub fn open(place: &ExchangePlace, name: &str) -> Result<Boss, ExchangeTrouble> {
        let line = JobLine::open(place)?;
        let present: RollCall = Arc::default();
        let (sender, answers) = channel();
        let refused = |e: async_nats::SubscribeError| ExchangeTrouble::Refused(e.to_string());
        let (mut alive, mut told) = line.runtime.block_on(async {
            let alive =
                line.client.subscribe(format!("nubrik.alive.{}", place.pool)).await.map_err(refused)?;
            let told = line.client.subscribe(format!("nubrik.answer.{name}.*")).await.map_err(refused)?;
            let _ = line.client.flush().await;
            // Those that are there say so at once.
            let _ = line.client.publish(format!("nubrik.roll.{}", place.pool), "".into()).await;
            Ok((alive, told))
        })?;
        let list = present.clone();
        line.runtime.spawn(async move {
            while let Some(message) = alive.next().await {
                if let Some(alive) = Alive::read(&message.payload) {
                    let mut list = list.lock().unwrap_or_else(PoisonError::into_inner);
                    list.insert(alive.name.clone(), (alive, Instant::now()));
                }
            }
        });
        line.runtime.spawn(async move {
            while let Some(message) = told.next().await {
                if sender.send(message.payload.to_vec()).is_err() {
                    return;
                }
            }
        });
        let (name, round) = (name.to_owned(), AtomicUsize::new(0));
        Ok(Boss { line, name, round, present, answers: Mutex::new(answers) })
    }

    /// What jobs are of that are sent now: another one after all were taken back.
    pub fn build(&self) -> String {
        format!("{}.{}", self.name, self.round.load(Ordering::Relaxed))
    }

    /// Who is there.
    pub fn present(&self) -> Vec<Alive> {
        let mut list = self.present.lock().unwrap_or_else(PoisonError::into_inner);
        list.retain(|_, (_, last)| last.elapsed() < GONE);
        let mut all: Vec<Alive> = list.values().map(|(alive, _)| alive.clone()).collect();
        all.sort_by(|a, b| a.name.cmp(&b.name));
        all
    }

    /// Puts a job into the pool.
    ///
    /// # Errors
    /// When it is full, or cannot be reached.
    pub fn send(&self, job: Vec<u8>) -> Result<(), ExchangeTrouble> {
        let subject = format!("nubrik.job.{}.{}", self.line.pool, self.build());
        self.line.runtime.block_on(async {
            let put = self.line.jetstream.publish(subject, job.into()).await;
            let put = put.map_err(|e| ExchangeTrouble::Unreachable(e.to_string()))?;
            let kept = tokio::time::timeout(PATIENCE, async { put.await }).await;
            match kept {
                Ok(Ok(_)) => Ok(()),
                Ok(Err(e)) => Err(ExchangeTrouble::Refused(format!("a job ({e})"))),
                Err(_) => Err(ExchangeTrouble::Unreachable("it does not say that it has a job".to_owned())),
            }
        })
    }

    /// The next answer, if one comes in a time.
    pub fn receive(&self, within: Duration) -> Option<Vec<u8>> {
        self.answers.lock().unwrap_or_else(PoisonError::into_inner).recv_timeout(within).ok()
    }

    /// Takes back what nobody began, and stops who works on the rest.
    pub fn abandon(&self) {
        let build = self.build();
        self.round.fetch_add(1, Ordering::Relaxed);
        let subject = format!("nubrik.job.{}.{build}", self.line.pool);
        self.line.runtime.block_on(async {
            let _ = self.line.client.publish("nubrik.stop", build.into()).await;
            let _ = self.line.client.flush().await;
            let _ = tokio::time::timeout(PATIENCE, async {
                let _ = self.line.stream.purge().filter(subject).await;
            })
            .await;
        });
    }
}
