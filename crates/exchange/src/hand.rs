//! Who works.

use std::collections::HashSet;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use async_nats::jetstream::AckKind;
use async_nats::jetstream::consumer::{AckPolicy, PullConsumer, pull};
use futures_util::StreamExt;
use tokio::task::JoinHandle;

use crate::line::JobLine;
use crate::{Alive, BEAT, DELIVERIES, ExchangePlace, ExchangeTrouble, LEASE};

/// One who works for a pool.
pub struct Hand {
    line: Arc<JobLine>,
    jobs: PullConsumer,
    busy: Arc<AtomicUsize>,
    stopped: Arc<Mutex<HashSet<String>>>,
}

/// A job under a lease. The lease is kept as long as this value lives; a job that is dropped without a word is given to another
/// one.
pub struct TakenJob {
    line: Arc<JobLine>,
    message: async_nats::jetstream::Message,
    busy: Arc<AtomicUsize>,
    beat: JoinHandle<()>,
    /// The build that it is of.
    pub build: String,
    /// What is to be done.
    pub bytes: Vec<u8>,
}

impl Hand {
    /// Says that someone works here: by what name, and how many jobs at once.
    ///
    /// # Errors
    /// When the server cannot be reached, or refuses it.
    pub fn open(place: &ExchangePlace, name: &str, slots: usize) -> Result<Hand, ExchangeTrouble> {
        let line = JobLine::open(place)?;
        let refused = |e: &dyn std::fmt::Display| ExchangeTrouble::Refused(format!("to hand out jobs ({e})"));
        let (jobs, mut rolls, mut stops) = line.runtime.block_on(async {
            let config = pull::Config {
                durable_name: Some("workers".to_owned()),
                ack_policy: AckPolicy::Explicit,
                ack_wait: LEASE,
                max_deliver: DELIVERIES,
                ..pull::Config::default()
            };
            let jobs =
                line.stream.get_or_create_consumer("workers", config).await.map_err(|e| refused(&e))?;
            let rolls = line.client.subscribe(format!("nubrik.roll.{}", place.pool)).await;
            let stops = line.client.subscribe("nubrik.stop").await;
            Ok((jobs, rolls.map_err(|e| refused(&e))?, stops.map_err(|e| refused(&e))?))
        })?;
        let busy = Arc::new(AtomicUsize::new(0));
        let stopped: Arc<Mutex<HashSet<String>>> = Arc::default();
        let (client, pool, name, count) =
            (line.client.clone(), place.pool.clone(), name.to_owned(), busy.clone());
        line.runtime.spawn(async move {
            loop {
                let alive = Alive { name: name.clone(), slots, busy: count.load(Ordering::Relaxed) };
                let _ = client.publish(format!("nubrik.alive.{pool}"), alive.line().into()).await;
                // Sooner, where somebody asks who is there.
                let _ = tokio::time::timeout(BEAT, rolls.next()).await;
            }
        });
        let list = stopped.clone();
        line.runtime.spawn(async move {
            while let Some(message) = stops.next().await {
                if let Ok(build) = std::str::from_utf8(&message.payload) {
                    list.lock().unwrap_or_else(PoisonError::into_inner).insert(build.to_owned());
                }
            }
        });
        Ok(Hand { line: Arc::new(line), jobs, busy, stopped })
    }

    /// The next job, if one comes in a time.
    ///
    /// # Errors
    /// When the server cannot be asked.
    pub fn take(&self, within: Duration) -> Result<Option<TakenJob>, ExchangeTrouble> {
        let unreachable = |e: &dyn std::fmt::Display| ExchangeTrouble::Unreachable(e.to_string());
        let message = self.line.runtime.block_on(async {
            let mut batch = self
                .jobs
                .batch()
                .max_messages(1)
                .expires(within)
                .messages()
                .await
                .map_err(|e| unreachable(&e))?;
            batch.next().await.transpose().map_err(|e| unreachable(&e))
        })?;
        let Some(message) = message else { return Ok(None) };
        let before = format!("nubrik.job.{}.", self.line.pool);
        let build = message.subject.strip_prefix(&before).unwrap_or_default().to_owned();
        let bytes = message.payload.to_vec();
        self.busy.fetch_add(1, Ordering::Relaxed);
        let kept = message.clone();
        let beat = self.line.runtime.spawn(async move {
            loop {
                tokio::time::sleep(LEASE / 3).await;
                let _ = kept.ack_with(AckKind::Progress).await;
            }
        });
        let (line, busy) = (self.line.clone(), self.busy.clone());
        Ok(Some(TakenJob { line, message, busy, beat, build, bytes }))
    }

    /// Whether nobody wants what comes of a build any more.
    pub fn is_stopped(&self, build: &str) -> bool {
        self.stopped.lock().unwrap_or_else(PoisonError::into_inner).contains(build)
    }
}

impl TakenJob {
    /// Says what came of it, and that it is done.
    ///
    /// # Errors
    /// When that cannot be said; the job is given to another one then.
    pub fn answer(self, answer: Vec<u8>) -> Result<(), ExchangeTrouble> {
        let unreachable = |e: &dyn std::fmt::Display| ExchangeTrouble::Unreachable(e.to_string());
        self.line.runtime.block_on(async {
            let subject = format!("nubrik.answer.{}", self.build);
            self.line.client.publish(subject, answer.into()).await.map_err(|e| unreachable(&e))?;
            self.line.client.flush().await.map_err(|e| unreachable(&e))?;
            self.message.double_ack().await.map_err(|e| unreachable(&e))
        })
    }
}

impl Drop for TakenJob {
    fn drop(&mut self) {
        self.beat.abort();
        self.busy.fetch_sub(1, Ordering::Relaxed);
    }
}
