//! One request to a server, and what it answers: the only place that waits for one. A thread of its
//! own asks, so that whoever waits can give up at any moment.

use std::io::{self, Read};
use std::sync::mpsc::{Receiver, RecvTimeoutError, SyncSender, sync_channel};
use std::time::{Duration, Instant};

use ureq::Agent;
use ureq::http::{HeaderMap, Request};

use crate::Trouble;

/// How much is read at once, in bytes.
pub(crate) const PIECE: usize = 128 << 10;

/// How often who waits looks whether to stop.
const ATTENTION: Duration = Duration::from_millis(100);

/// The longest that anything is waited for.
const LONGEST: Duration = Duration::from_secs(24 * 3600);

/// What a server says before the bytes.
#[derive(Debug)]
pub(crate) struct Head {
    pub status: u16,
    headers: HeaderMap,
}

impl Head {
    /// What a response says before its bytes.
    pub fn of<B>(response: &ureq::http::Response<B>) -> Head {
        Head {
            status: response.status().as_u16(),
            headers: response.headers().clone(),
        }
    }

    /// A header, if it is text.
    pub fn text(&self, name: &str) -> Option<&str> {
        self.headers.get(name)?.to_str().ok()
    }

    /// Why the server does not do what was asked; `None` where it does.
    pub fn refusal(&self) -> Option<Trouble> {
        match self.status {
            200..=299 => None,
            404 | 410 => Some(Trouble::NotThere),
            status @ (401 | 403 | 407) => Some(Trouble::Refused(status)),
            status => Some(Trouble::failed(format!("it answers with status {status}"))),
        }
    }
}

/// What a server says, one after the other.
pub(crate) enum Heard {
    Head(Head),
    Piece(Vec<u8>),
    End,
}

/// Why nothing more is heard.
pub(crate) enum Unanswered {
    /// Nothing came in the time that who waits gave.
    Silent,
    /// Who waits does not want it any more.
    Stopped,
    /// It ended in the middle.
    BrokeOff,
    /// The server could not be asked.
    NotAsked(ureq::Error),
}

/// What a server answers to one request. Dropping it ends the transfer with its next piece.
pub(crate) struct ServerAnswer(Receiver<Result<Heard, Unanswered>>);

/// Asks for something.
pub(crate) fn ask(agent: &Agent, request: Request<()>) -> ServerAnswer {
    let (sender, heard) = sync_channel(4);
    let agent = agent.clone();
    std::thread::spawn(move || {
        if let Err(why) = listen(&agent, request, &sender) {
            let _ = sender.send(Err(why));
        }
    });
    ServerAnswer(heard)
}

/// Hands on what a server answers. Ends when no one takes it any more.
fn listen(
    agent: &Agent,
    request: Request<()>,
    sender: &SyncSender<Result<Heard, Unanswered>>,
) -> Result<(), Unanswered> {
    let request = agent
        .configure_request(request)
        .timeout_global(Some(LONGEST))
        .build();
    let mut response = agent.run(request).map_err(Unanswered::NotAsked)?;
    let head = Head::of(&response);
    if sender.send(Ok(Heard::Head(head))).is_err() {
        return Ok(());
    }
    let mut body = response.body_mut().with_config().limit(u64::MAX).reader();
    loop {
        let mut piece = vec![0; PIECE];
        let count = match body.read(&mut piece) {
            Ok(count) => count,
            Err(e) if e.kind() == io::ErrorKind::Interrupted => continue,
            Err(_) => return Err(Unanswered::BrokeOff),
        };
        piece.truncate(count);
        let heard = if count == 0 {
            Heard::End
        } else {
            Heard::Piece(piece)
        };
        if sender.send(Ok(heard)).is_err() || count == 0 {
            return Ok(());
        }
    }
}

impl ServerAnswer {
    /// The next thing that the server says, in a time.
    ///
    /// # Errors
    /// Why there is none.
    pub fn next(
        &self,
        patience: Duration,
        stopped: &dyn Fn() -> bool,
    ) -> Result<Heard, Unanswered> {
        let since = Instant::now();
        loop {
            let left = patience.saturating_sub(since.elapsed());
            match self.0.recv_timeout(left.min(ATTENTION)) {
                Ok(heard) => return heard,
                Err(RecvTimeoutError::Disconnected) => return Err(Unanswered::BrokeOff),
                Err(RecvTimeoutError::Timeout) if since.elapsed() >= patience => {
                    return Err(Unanswered::Silent);
                }
                Err(RecvTimeoutError::Timeout) if stopped() => return Err(Unanswered::Stopped),
                Err(RecvTimeoutError::Timeout) => {}
            }
        }
    }

    /// What the server says first.
    ///
    /// # Errors
    /// Why there is nothing.
    pub fn head(&self, patience: Duration, stopped: &dyn Fn() -> bool) -> Result<Head, Unanswered> {
        match self.next(patience, stopped)? {
            Heard::Head(head) => Ok(head),
            Heard::Piece(_) | Heard::End => Err(Unanswered::BrokeOff),
        }
    }
}

/// Sends something, and waits for what the server says before any bytes: in a time for all of it,
/// so that a server that takes a byte now and then is given up.
///
/// # Errors
/// When it cannot be sent in that time.
pub(crate) fn send(
    agent: &Agent,
    request: Request<&[u8]>,
    limit: Duration,
) -> Result<Head, Trouble> {
    let request = agent
        .configure_request(request)
        .timeout_global(Some(limit))
        .build();
    let response = agent.run(request).map_err(|error| match error {
        ureq::Error::Timeout(_) => Trouble::Hangs(format!(
            "did not take what was sent within {} seconds",
            limit.as_secs()
        )),
        other => Trouble::failed(other.to_string()),
    })?;
    Ok(Head::of(&response))
}
