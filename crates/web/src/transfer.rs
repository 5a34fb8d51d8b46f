//! One transfer over the network: redirects, what is asked again, and going on where it broke off.

use std::io::{self, Read};
use std::sync::mpsc::{Receiver, RecvTimeoutError, SyncSender, sync_channel};
use std::time::{Duration, Instant};

use ureq::Agent;
use ureq::http::Response;

use crate::pace::Pace;
use crate::request::{WebRequest, too_large};
use crate::{Address, Credential, Trouble};

/// How long a server may say nothing.
pub(crate) const PATIENCE: Duration = Duration::from_secs(30);

/// Fewer bytes a second than this, over [`PATIENCE`], are none.
const SLOWEST: u64 = 1 << 10;

/// How often a transfer looks whether it is to stop.
const ATTENTION: Duration = Duration::from_millis(100);

/// How much is read at once, in bytes.
pub(crate) const PIECE: usize = 128 << 10;

/// How often a server may lead to another address.
const REDIRECTS: usize = 8;

/// How often something is asked for that failed for a reason which may pass.
const TRIES: usize = 4;

/// How long is waited before something is asked for again: this, then twice that, and so on.
const PAUSE: Duration = Duration::from_millis(300);

/// The longest pause that a server may ask for.
const LONGEST_PAUSE: Duration = Duration::from_secs(10);

/// Takes what comes.
pub trait Sink {
    /// Takes the next piece.
    ///
    /// # Errors
    /// When it cannot.
    fn take(&mut self, piece: &[u8]) -> io::Result<()>;

    /// Drops all that came: it comes again from the beginning.
    ///
    /// # Errors
    /// When it cannot.
    fn restart(&mut self) -> io::Result<()>;
}

impl Sink for Vec<u8> {
    fn take(&mut self, piece: &[u8]) -> io::Result<()> {
        self.extend_from_slice(piece);
        Ok(())
    }

    fn restart(&mut self) -> io::Result<()> {
        self.clear();
        Ok(())
    }
}

/// What a server says before the bytes.
#[derive(Debug)]
struct Head {
    status: u16,
    location: Option<String>,
    media_type: String,
    /// How many bytes follow, if it says so.
    length: Option<u64>,
    /// Where the first of them is in the whole, for a part.
    begins: Option<u64>,
    /// What says whether the whole is still the same.
    validator: Option<String>,
    pause: Option<Duration>,
}

/// What the thread says that waits for a server.
enum Said {
    Head(Head),
    Piece(Vec<u8>),
    End,
}

/// Why one try ended.
enum TryEnd {
    /// Asking again may help; after this time, if the server said one.
    MayPass(Trouble, Option<Duration>),
    ForGood(Trouble),
}

/// That a sink does not take what came.
fn not_taken(e: io::Error) -> TryEnd {
    TryEnd::ForGood(Trouble::failed(e.to_string()))
}

/// A transfer, over several tries.
pub(crate) struct Transfer<'a> {
    agent: &'a Agent,
    request: &'a WebRequest,
    stopped: &'a dyn Fn() -> bool,
    /// How much is in the sink, in bytes.
    taken: u64,
    /// Of the whole of which that is a part.
    validator: Option<String>,
}

impl<'a> Transfer<'a> {
    pub(crate) fn new(agent: &'a Agent, request: &'a WebRequest, stopped: &'a dyn Fn() -> bool) -> Self {
        Transfer { agent, request, stopped, taken: 0, validator: None }
    }

    /// Takes all of it.
    pub(crate) fn run(mut self, sink: &mut dyn Sink) -> Result<(Address, String), Trouble> {
        let mut tries = 0;
        loop {
            let before = self.taken;
            let (trouble, pause) = match self.once(sink) {
                Ok(done) => return Ok(done),
                Err(TryEnd::ForGood(trouble)) => return Err(trouble),
                Err(TryEnd::MayPass(trouble, pause)) => (trouble, pause),
            };
            // What makes way may go on.
            tries = if self.taken > before { 1 } else { tries + 1 };
            if tries >= TRIES {
                return Err(trouble);
            }
            let pause = pause.unwrap_or(PAUSE * (1 << tries)).min(LONGEST_PAUSE);
            let until = Instant::now() + pause;
            while Instant::now() < until {
                if (self.stopped)() {
                    return Err(Trouble::Stopped);
                }
                std::thread::sleep(ATTENTION.min(pause));
            }
        }
    }

    /// One try, with all redirects.
    fn once(&mut self, sink: &mut dyn Sink) -> Result<(Address, String), TryEnd> {
        let mut address = self.request.address.clone();
        for _ in 0..=REDIRECTS {
            // Who asks is sent to nobody else.
            let credential =
                self.request.credential.clone().filter(|_| address.host() == self.request.address.host());
            let said = self.ask(&address, credential);
            let head = match receive(&said, self.stopped)? {
                Said::Head(head) => head,
                _ => return Err(broke_off()),
            };
            if matches!(head.status, 301 | 302 | 303 | 307 | 308) {
                address = led_to(&address, &head)?;
                continue;
            }
            self.begin(&head, sink)?;
            self.take(&said, &head, sink)?;
            return Ok((address, head.media_type));
        }
        Err(TryEnd::ForGood(Trouble::failed(format!("it leads on more than {REDIRECTS} times"))))
    }

    /// Has a thread ask, so that this one can stop waiting.
    fn ask(&self, address: &Address, credential: Option<Credential>) -> Receiver<Result<Said, TryEnd>> {
        let (sender, said) = sync_channel(4);
        // Only what comes as it is has a length that can be checked, and parts that can be asked for.
        let mut headers = Vec::new();
        if !self.request.compressed {
            headers.push(("Accept-Encoding", "identity".to_owned()));
        }
        headers.extend(credential.map(|credential| ("Authorization", credential.header())));
        headers.extend(self.request.accept.clone().map(|accept| ("Accept", accept)));
        if let Some(validator) = self.validator.as_ref().filter(|_| self.taken > 0) {
            headers.push(("Range", format!("bytes={}-", self.taken)));
            headers.push(("If-Range", validator.clone()));
        }
        let (agent, url) = (self.agent.clone(), address.as_sent());
        std::thread::spawn(move || {
            if let Err(ended) = answer(&agent, &url, &headers, &sender) {
                let _ = sender.send(Err(ended));
            }
        });
        said
    }

    /// Whether what follows is wanted, and goes on where the sink ends.
    fn begin(&mut self, head: &Head, sink: &mut dyn Sink) -> Result<(), TryEnd> {
        match head.status {
            200 => {
                if self.taken > 0 {
                    sink.restart().map_err(not_taken)?;
                }
                self.taken = 0;
                self.validator = head.validator.clone().filter(|_| !self.request.compressed);
            }
            206 if self.taken > 0 && head.begins == Some(self.taken) => {}
            // It cannot go on there: all of it again.
            206 | 416 if self.taken > 0 => {
                self.validator = None;
                return Err(TryEnd::MayPass(Trouble::failed("it answers with another part"), None));
            }
            404 | 410 => return Err(TryEnd::ForGood(Trouble::NotThere)),
            status @ (401 | 403 | 407) => return Err(TryEnd::ForGood(Trouble::Refused(status))),
            status @ (408 | 425 | 429 | 500 | 502 | 503 | 504) => {
                return Err(TryEnd::MayPass(Trouble::failed(format!("it answers {status}")), head.pause));
            }
            status => return Err(TryEnd::ForGood(Trouble::failed(format!("it answers {status}")))),
        }
        let limit = self.request.limit;
        match head.length.is_some_and(|length| length.saturating_add(self.taken) > limit) {
            true => Err(TryEnd::ForGood(too_large(limit))),
            false => Ok(()),
        }
    }

    fn take(
        &mut self,
        said: &Receiver<Result<Said, TryEnd>>,
        head: &Head,
        sink: &mut dyn Sink,
    ) -> Result<(), TryEnd> {
        let whole = head.length.map(|length| length + self.taken).filter(|_| !self.request.compressed);
        let mut pace = Pace::new(PATIENCE, SLOWEST, Instant::now());
        loop {
            match receive(said, self.stopped)? {
                // To ask again would only begin another drip.
                Said::Piece(piece) if pace.is_too_slow(piece.len(), Instant::now()) => {
                    return Err(TryEnd::ForGood(Trouble::Hangs(pace.words())));
                }
                Said::Piece(piece) => {
                    let taken = self.taken + piece.len() as u64;
                    if taken > self.request.limit {
                        return Err(TryEnd::ForGood(too_large(self.request.limit)));
                    }
                    sink.take(&piece).map_err(not_taken)?;
                    self.taken = taken;
                }
                Said::End if whole.is_none_or(|whole| whole == self.taken) => return Ok(()),
                Said::End => return Err(broke_off()),
                Said::Head(_) => return Err(broke_off()),
            }
        }
    }
}

fn broke_off() -> TryEnd {
    TryEnd::MayPass(Trouble::failed("the transfer broke off"), None)
}

fn led_to(address: &Address, head: &Head) -> Result<Address, TryEnd> {
    let wrong = |what: String| Err(TryEnd::ForGood(Trouble::Failed(what)));
    let Some(next) = head.location.as_deref().and_then(|location| address.join(location)) else {
        return wrong("it leads on to no address".to_owned());
    };
    match address.may_lead_to(&next) {
        true => Ok(next),
        false => wrong(format!("it leads on to {next}, and that is less safe than {address}")),
    }
}

/// The next thing that the waiting thread says.
fn receive(said: &Receiver<Result<Said, TryEnd>>, stopped: &dyn Fn() -> bool) -> Result<Said, TryEnd> {
    let since = Instant::now();
    loop {
        match said.recv_timeout(ATTENTION) {
            Ok(said) => return said,
            Err(RecvTimeoutError::Disconnected) => return Err(broke_off()),
            Err(RecvTimeoutError::Timeout) if since.elapsed() > PATIENCE => {
                let trouble = Trouble::failed(format!("it said nothing for {} s", PATIENCE.as_secs()));
                return Err(TryEnd::MayPass(trouble, None));
            }
            Err(RecvTimeoutError::Timeout) if stopped() => return Err(TryEnd::ForGood(Trouble::Stopped)),
            Err(RecvTimeoutError::Timeout) => {}
        }
    }
}

/// Asks a server, and hands on what it answers. Ends when no one takes it any more.
fn answer(
    agent: &Agent,
    url: &str,
    headers: &[(&str, String)],
    sender: &SyncSender<Result<Said, TryEnd>>,
) -> Result<(), TryEnd> {
    let request = headers.iter().fold(agent.get(url), |request, (name, value)| request.header(*name, value));
    let mut response = request.call().map_err(ended)?;
    if sender.send(Ok(Said::Head(head_of(&response)))).is_err() {
        return Ok(());
    }
    let mut body = response.body_mut().with_config().limit(u64::MAX).reader();
    loop {
        let mut piece = vec![0; PIECE];
        let count = match body.read(&mut piece) {
            Ok(count) => count,
            Err(e) if e.kind() == io::ErrorKind::Interrupted => continue,
            Err(_) => return Err(broke_off()),
        };
        piece.truncate(count);
        let said = if count == 0 { Said::End } else { Said::Piece(piece) };
        if sender.send(Ok(said)).is_err() || count == 0 {
            return Ok(());
        }
    }
}

/// Whether asking again may help after this.
fn ended(error: ureq::Error) -> TryEnd {
    use ureq::Error;
    match error {
        Error::HostNotFound => TryEnd::ForGood(Trouble::failed("its host is not known")),
        Error::ConnectionFailed => TryEnd::MayPass(Trouble::failed("it cannot be reached"), None),
        Error::Timeout(_) => {
            let words = format!("it said nothing for {} s", PATIENCE.as_secs());
            TryEnd::MayPass(Trouble::failed(words), None)
        }
        Error::Io(e) => match e.kind() {
            io::ErrorKind::ConnectionRefused => {
                TryEnd::ForGood(Trouble::failed("it cannot be reached: nothing listens there"))
            }
            // What is wrong with a certificate stays so.
            _ if e.to_string().contains("UnknownIssuer") => {
                TryEnd::ForGood(Trouble::failed("its certificate is by nobody whom this machine trusts"))
            }
            io::ErrorKind::InvalidData | io::ErrorKind::Other => {
                TryEnd::ForGood(Trouble::failed(e.to_string()))
            }
            _ => TryEnd::MayPass(Trouble::failed(e.to_string()), None),
        },
        other => TryEnd::ForGood(Trouble::failed(other.to_string())),
    }
}

fn head_of<B>(response: &Response<B>) -> Head {
    let text = |name: &str| response.headers().get(name).and_then(|value| value.to_str().ok());
    let media_type = text("content-type").unwrap_or_default().split(';').next().unwrap_or_default().trim();
    // A weak one says nothing of single bytes.
    let tag = text("etag").filter(|tag| tag.starts_with('"'));
    let begins = text("content-range").and_then(|range| range.strip_prefix("bytes "));
    Head {
        status: response.status().as_u16(),
        location: text("location").map(str::to_owned),
        media_type: media_type.to_lowercase(),
        length: text("content-length").and_then(|length| length.parse().ok()),
        begins: begins.and_then(|range| range.split('-').next()?.parse().ok()),
        validator: tag.or(text("last-modified")).map(str::to_owned),
        pause: text("retry-after").and_then(|s| s.parse().ok()).map(Duration::from_secs),
    }
}
