//! Objects of a server that knows GET, PUT and DELETE: plain HTTP, or object storage with the S3
//! protocol, whose requests are signed.

use std::ops::Range;
use std::sync::OnceLock;
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

use ureq::Agent;
use ureq::http::{Request, request};

use super::{Asker, ObjectStore, ObjectTurn};
use crate::client::{TlsFiles, agent};
use crate::pace::Pace;
use crate::request::too_large;
use crate::signing::Unsigned;
use crate::transport::{self, Heard, ServerAnswer, Unanswered};
use crate::{Address, Trouble};

/// How long a server may say nothing.
const PATIENCE: Duration = Duration::from_secs(3);

/// Fewer bytes a second than this, over so long at least, are none.
const SLOWEST: u64 = 32 << 10;
const MEASURED: Duration = Duration::from_secs(10);

/// How long putting so many bytes may take.
fn patience(bytes: u64) -> Duration {
    MEASURED + Duration::from_secs(bytes / SLOWEST)
}

/// A server with objects below an address.
#[derive(Debug)]
pub(super) struct ServerObjects {
    base: Address,
    asker: Asker,
    tls: TlsFiles,
    agent: OnceLock<Result<Agent, Trouble>>,
}

impl ServerObjects {
    pub fn new(base: Address, asker: Asker, tls: TlsFiles) -> ServerObjects {
        ServerObjects {
            base,
            asker,
            tls,
            agent: OnceLock::new(),
        }
    }

    fn agent(&self) -> Result<&Agent, Trouble> {
        let agent = self.agent.get_or_init(|| agent(&self.tls));
        agent.as_ref().map_err(Trouble::clone)
    }

    fn request(
        &self,
        method: &str,
        name: &str,
        body: &[u8],
        part: Option<&Range<u64>>,
    ) -> Result<request::Builder, Trouble> {
        let address = super::below(&self.base, name)?;
        let mut request = Request::builder().method(method).uri(address.as_sent());
        let range = part.map(|part| {
            (
                "range",
                format!("bytes={}-{}", part.start, part.end.saturating_sub(1)),
            )
        });
        let headers: Vec<(&str, String)> = range.into_iter().collect();
        match &self.asker {
            Asker::Signing(key) => {
                let (host, path) = address.host_and_path();
                let time = SystemTime::now()
                    .duration_since(UNIX_EPOCH)
                    .map_or(0, |d| d.as_secs());
                let unsigned = Unsigned {
                    method,
                    host: &host,
                    path: &path,
                    body,
                    headers: &headers,
                    time,
                };
                let signed = key.headers(&unsigned);
                return Ok(signed.into_iter().fold(request, |request, (name, value)| {
                    request.header(name, value)
                }));
            }
            Asker::Known(credential) => {
                request = request.header("Authorization", credential.header())
            }
            Asker::Anybody => {}
        }
        Ok(headers.into_iter().fold(request, |request, (name, value)| {
            request.header(name, value)
        }))
    }

    fn send(&self, request: request::Builder, bytes: &[u8]) -> Result<transport::Head, Trouble> {
        let request = request
            .body(bytes)
            .map_err(|e| Trouble::failed(e.to_string()))?;
        transport::send(self.agent()?, request, patience(bytes.len() as u64))
    }
}

impl ObjectStore for ServerObjects {
    fn get(
        &self,
        name: &str,
        part: Option<&Range<u64>>,
        limit: u64,
        until: Option<Instant>,
    ) -> Result<Vec<u8>, Trouble> {
        // What comes compressed would have another length.
        let request = self
            .request("GET", name, b"", part)?
            .header("Accept-Encoding", "identity");
        let request = request
            .body(())
            .map_err(|e| Trouble::failed(e.to_string()))?;
        let answer = transport::ask(self.agent()?, request);
        let mut pace = Pace::new(MEASURED, SLOWEST, Instant::now());
        let mut bytes: Vec<u8> = Vec::new();
        // Servers may give the whole where a part was asked for.
        let mut part_of_whole = None;
        loop {
            let came = match next_of(&answer, until)? {
                Heard::Head(head) => {
                    if let Some(trouble) = head.refusal() {
                        return Err(trouble);
                    }
                    match head.status {
                        200 => part_of_whole = part,
                        206 => {}
                        status => {
                            return Err(Trouble::failed(format!(
                                "it answers with status {status}"
                            )));
                        }
                    }
                    0
                }
                Heard::Piece(piece) => {
                    bytes.extend(&piece);
                    piece.len()
                }
                Heard::End => break,
            };
            if bytes.len() as u64 > part_of_whole.map_or(limit, |part| part.end) {
                break;
            }
            if pace.is_too_slow(came, Instant::now()) {
                return Err(Trouble::Hangs(pace.words()));
            }
        }
        match part_of_whole {
            Some(part) => {
                bytes.truncate(part.end as usize);
                Ok(bytes.split_off(bytes.len().min(part.start as usize)))
            }
            None if bytes.len() as u64 > limit => Err(too_large(limit)),
            None => Ok(bytes),
        }
    }

    fn put(&self, name: &str, bytes: &[u8]) -> Result<(), Trouble> {
        let request = self.request("PUT", name, bytes, None)?;
        let head = self.send(
            request.header("Content-Type", "application/octet-stream"),
            bytes,
        )?;
        match head.status {
            // It only gives.
            status @ (405 | 501) => Err(Trouble::Denied(format!(
                "it takes no objects (status {status})"
            ))),
            _ => head.refusal().map_or(Ok(()), Err),
        }
    }

    fn remove(&self, name: &str) -> Result<(), Trouble> {
        match self
            .send(self.request("DELETE", name, b"", None)?, b"")?
            .refusal()
        {
            None | Some(Trouble::NotThere) => Ok(()),
            Some(trouble) => Err(trouble),
        }
    }

    /// A server decides by itself which of two changes is the last.
    fn turn_of(&self, _: &str) -> Result<Option<Box<dyn ObjectTurn>>, Trouble> {
        Ok(None)
    }

    /// Not all servers say what they have.
    fn remove_older(&self, _: &str, _: u64) -> Result<usize, Trouble> {
        Ok(0)
    }
}

/// Waits for what comes next of an answer, no longer than `until` if it is given.
fn next_of(answer: &ServerAnswer, until: Option<Instant>) -> Result<Heard, Trouble> {
    let left = until.map_or(PATIENCE, |until| {
        until.saturating_duration_since(Instant::now())
    });
    answer
        .next(left.min(PATIENCE), &|| false)
        .map_err(|why| match why {
            Unanswered::Silent if left < PATIENCE => Trouble::Late,
            Unanswered::Silent => {
                Trouble::Hangs(format!("said nothing for {} seconds", PATIENCE.as_secs()))
            }
            Unanswered::Stopped => Trouble::Stopped,
            Unanswered::BrokeOff => Trouble::failed("the transfer broke off"),
            Unanswered::NotAsked(error) => Trouble::failed(error.to_string()),
        })
}
