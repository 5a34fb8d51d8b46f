//! A connection, and the threads that serve it.

use async_nats::jetstream::{self, stream};
use tokio::runtime::Runtime;

use super::{ExchangePlace, ExchangeTrouble, KEPT, PATIENCE, WAITING};

/// The first version with which jobs are safe.
const FIRST: (u32, u32) = (2, 10);

/// The largest message that is sent, in bytes: what is longer goes by the shared cache.
const MESSAGE: usize = 320 << 10;

/// A connection to a server.
pub(crate) struct JobLine {
    pub runtime: Runtime,
    pub client: async_nats::Client,
    pub jetstream: jetstream::Context,
    pub stream: stream::Stream,
    pub pool: String,
}

/// The version of a server, as far as it counts.
fn version_of(text: &str) -> Option<(u32, u32)> {
    let mut parts = text.split('.');
    Some((parts.next()?.parse().ok()?, parts.next()?.parse().ok()?))
}

impl JobLine {
    pub fn open(place: &ExchangePlace) -> Result<JobLine, ExchangeTrouble> {
        let unreachable = |e: &dyn std::fmt::Display| ExchangeTrouble::Unreachable(e.to_string());
        let runtime = tokio::runtime::Builder::new_multi_thread()
            .worker_threads(2)
            .enable_all()
            .build()
            .map_err(|e| unreachable(&e))?;
        let (client, jetstream, stream) = runtime.block_on(async {
            let options = async_nats::ConnectOptions::new()
                .name("nubrik")
                .connection_timeout(PATIENCE);
            let options = match &place.user {
                Some((user, password)) => options.user_and_password(user.clone(), password.clone()),
                None => options,
            };
            let options = match &place.client {
                Some(file) => options.add_client_certificate(file.clone(), file.clone()),
                None => options,
            };
            let client = options
                .connect(&place.at)
                .await
                .map_err(|e| unreachable(&e))?;
            let found = client.server_info().version;
            if version_of(&found).is_none_or(|found| found < FIRST) {
                return Err(ExchangeTrouble::Version(found));
            }
            let takes = client.server_info().max_payload;
            if takes < MESSAGE {
                let (takes, needed) = (takes >> 10, MESSAGE >> 10);
                return Err(ExchangeTrouble::Refused(format!(
                    "messages of {needed} KiB (its `max_payload` is {takes} KiB)"
                )));
            }
            let mut jetstream = jetstream::new(client.clone());
            jetstream.set_timeout(PATIENCE);
            let stream = jetstream
                .get_or_create_stream(stream::Config {
                    name: format!("NUBRIK_{}", place.pool),
                    subjects: vec![format!("nubrik.job.{}.>", place.pool)],
                    retention: stream::RetentionPolicy::WorkQueue,
                    discard: stream::DiscardPolicy::New,
                    max_messages: WAITING,
                    max_age: KEPT,
                    ..stream::Config::default()
                })
                .await
                .map_err(|e| ExchangeTrouble::Refused(format!("a stream of jobs ({e})")))?;
            Ok((client, jetstream, stream))
        })?;
        Ok(JobLine {
            runtime,
            client,
            jetstream,
            stream,
            pool: place.pool.clone(),
        })
    }

    /// Waits for something that is said, as long as the server is waited for at all.
    pub fn say(&self, what: impl Future<Output = ()>) {
        self.runtime.block_on(async {
            let _ = tokio::time::timeout(PATIENCE, what).await;
        });
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn versions_are_compared_by_their_numbers() {
        assert!(version_of("2.9.10").is_some_and(|found| found < FIRST));
        assert!(version_of("2.10.0-beta").is_some_and(|found| found >= FIRST));
        assert!(version_of("2.15.1").is_some_and(|found| found >= FIRST));
        assert_eq!(version_of("new"), None);
    }
}
