//! One transfer over the network: redirects, what is asked again, and going on where it broke off.

use std::io;
use std::time::{Duration, Instant};

use ureq::Agent;
use ureq::http::Request;

use crate::pace::Pace;
use crate::request::{WebRequest, too_large};
use crate::tokens::{Challenge, Tokens};
use crate::transport::{self, Head, Heard, ServerAnswer, Unanswered};
use crate::{Address, Credential, Trouble};

/// How long a server may say nothing.
pub(crate) const PATIENCE: Duration = Duration::from_secs(30);

/// Fewer bytes a second than this, over [`PATIENCE`], are none.
const SLOWEST: u64 = 1 << 10;

/// How often a server may lead to another address.
const REDIRECTS: usize = 8;

/// How often something is asked for that failed for a reason which may pass.
const TRIES: usize = 4;

/// How long is waited before something is asked for again: this, then twice that, and so on.
const PAUSE: Duration = Duration::from_millis(300);

/// How often a pause looks whether it is to end.
const ATTENTION: Duration = Duration::from_millis(100);

/// How many tokens are tried in one transfer: one that is known may hold no more.
const TOKENS: u32 = 2;

/// The longest answer with a token, in bytes.
const TOKEN_LIMIT: u64 = 1 << 20;

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
    tokens: &'a Tokens,
    /// The token for a host, once it was asked for.
    token: Option<(String, String)>,
    /// How much is in the sink, in bytes.
    taken: u64,
    /// Of the whole of which that is a part.
    validator: Option<String>,
    /// Whether a token is what is asked for.
    asks_for_token: bool,
    /// How often one was sent for.
    tokens_taken: u32,
}

impl<'a> Transfer<'a> {
    pub(crate) fn new(
        agent: &'a Agent,
        request: &'a WebRequest,
        stopped: &'a dyn Fn() -> bool,
        tokens: &'a Tokens,
    ) -> Self {
        Transfer {
            agent,
            request,
            stopped,
            tokens,
            token: None,
            taken: 0,
            validator: None,
            asks_for_token: false,
            tokens_taken: 0,
        }
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
            let credential = self
                .request
                .credential
                .clone()
                .filter(|_| address.host() == self.request.address.host());
            let credential = match &self.token {
                Some((host, token)) if *host == address.host() => {
                    Some(Credential::Bearer(token.clone()))
                }
                _ => credential,
            };
            let answer = self.ask(&address, credential)?;
            let head = answer.head(PATIENCE, self.stopped).map_err(ended)?;
            if head.status == 401
                && let Some(challenge) = head
                    .text("www-authenticate")
                    .and_then(|header| Challenge::of(&address, header))
                && let Some(token) = self.token_for(&address, &challenge)?
            {
                self.token = Some((address.host(), token));
                continue;
            }
            if matches!(head.status, 301 | 302 | 303 | 307 | 308) {
                address = led_to(&address, &head)?;
                continue;
            }
            self.begin(&head, sink)?;
            self.take(&answer, &head, sink)?;
            return Ok((address, media_type(&head)));
        }
        Err(TryEnd::ForGood(Trouble::failed(format!(
            "it leads on more than {REDIRECTS} times"
        ))))
    }

    /// The token that a server sends for; `None` where the last one was refused.
    fn token_for(
        &mut self,
        address: &Address,
        challenge: &Challenge,
    ) -> Result<Option<String>, TryEnd> {
        if self.asks_for_token || self.tokens_taken >= TOKENS {
            return Ok(None);
        }
        self.tokens_taken += 1;
        let refused = self
            .token
            .as_ref()
            .filter(|(host, _)| *host == address.host())
            .map(|(_, token)| token);
        let known = self.tokens.known(challenge);
        match (known, refused) {
            (Some(known), None) => return Ok(Some(known)),
            // It was given before, and holds no more.
            (Some(known), Some(refused)) if known != *refused => return Ok(Some(known)),
            (Some(_), Some(_)) => self.tokens.forget(challenge),
            (None, None) => {}
            (None, Some(_)) => return Ok(None),
        }
        let request = WebRequest {
            credential: challenge
                .credential(&self.request.address, self.request.credential.as_ref()),
            limit: TOKEN_LIMIT,
            compressed: true,
            ..WebRequest::new(challenge.address())
        };
        let mut answer = Vec::new();
        // A server of tokens that wants one itself gives none.
        let none = Tokens::default();
        let asking = Transfer::new(self.agent, &request, self.stopped, &none);
        let asked = Transfer {
            asks_for_token: true,
            ..asking
        }
        .run(&mut answer);
        asked.map_err(|trouble| match trouble {
            Trouble::Stopped => TryEnd::ForGood(Trouble::Stopped),
            other => TryEnd::ForGood(Trouble::failed(format!(
                "no token is given at {}: {other}",
                challenge.realm
            ))),
        })?;
        match self.tokens.take(challenge, &answer) {
            Some(token) => Ok(Some(token)),
            None => Err(TryEnd::ForGood(Trouble::failed(format!(
                "{} gives no token",
                challenge.realm
            )))),
        }
    }

    /// Asks for all of it, or for what is not in the sink yet.
    fn ask(
        &self,
        address: &Address,
        credential: Option<Credential>,
    ) -> Result<ServerAnswer, TryEnd> {
        let mut request = Request::get(address.as_sent());
        // Only what comes as it is has a length that can be checked, and parts that can be asked
        // for.
        if !self.request.compressed {
            request = request.header("Accept-Encoding", "identity");
        }
        if let Some(credential) = credential {
            request = request.header("Authorization", credential.header());
        }
        if let Some(accept) = &self.request.accept {
            request = request.header("Accept", accept);
        }
        if let Some(validator) = self.validator.as_ref().filter(|_| self.taken > 0) {
            request = request
                .header("Range", format!("bytes={}-", self.taken))
                .header("If-Range", validator);
        }
        let request = request
            .body(())
            .map_err(|e| TryEnd::ForGood(Trouble::failed(e.to_string())))?;
        Ok(transport::ask(self.agent, request))
    }

    /// Whether what follows is wanted, and goes on where the sink ends.
    fn begin(&mut self, head: &Head, sink: &mut dyn Sink) -> Result<(), TryEnd> {
        match head.status {
            200 => {
                if self.taken > 0 {
                    sink.restart().map_err(not_taken)?;
                }
                self.taken = 0;
                self.validator = validator(head).filter(|_| !self.request.compressed);
            }
            206 if self.taken > 0 && begins(head) == Some(self.taken) => {}
            // It cannot go on there: all of it again.
            206 | 416 if self.taken > 0 => {
                self.validator = None;
                return Err(TryEnd::MayPass(
                    Trouble::failed("it answers with another part"),
                    None,
                ));
            }
            status => {
                let trouble = head.refusal();
                let trouble = trouble
                    .unwrap_or_else(|| Trouble::failed(format!("it answers with status {status}")));
                return Err(match status {
                    408 | 425 | 429 | 500 | 502 | 503 | 504 => {
                        TryEnd::MayPass(trouble, pause(head))
                    }
                    _ => TryEnd::ForGood(trouble),
                });
            }
        }
        let limit = self.request.limit;
        match length(head).is_some_and(|length| length.saturating_add(self.taken) > limit) {
            true => Err(TryEnd::ForGood(too_large(limit))),
            false => Ok(()),
        }
    }

    fn take(
        &mut self,
        answer: &ServerAnswer,
        head: &Head,
        sink: &mut dyn Sink,
    ) -> Result<(), TryEnd> {
        let whole = length(head)
            .map(|length| length + self.taken)
            .filter(|_| !self.request.compressed);
        let mut pace = Pace::new(PATIENCE, SLOWEST, Instant::now());
        loop {
            match answer.next(PATIENCE, self.stopped).map_err(ended)? {
                // To ask again would only begin another drip.
                Heard::Piece(piece) if pace.is_too_slow(piece.len(), Instant::now()) => {
                    return Err(TryEnd::ForGood(Trouble::Hangs(pace.words())));
                }
                Heard::Piece(piece) => {
                    let taken = self.taken + piece.len() as u64;
                    if taken > self.request.limit {
                        return Err(TryEnd::ForGood(too_large(self.request.limit)));
                    }
                    sink.take(&piece).map_err(not_taken)?;
                    self.taken = taken;
                }
                Heard::End if whole.is_none_or(|whole| whole == self.taken) => return Ok(()),
                Heard::End => return Err(broke_off()),
                Heard::Head(_) => return Err(broke_off()),
            }
        }
    }
}

fn broke_off() -> TryEnd {
    TryEnd::MayPass(Trouble::failed("the transfer broke off"), None)
}

fn led_to(address: &Address, head: &Head) -> Result<Address, TryEnd> {
    let wrong = |what: String| Err(TryEnd::ForGood(Trouble::Failed(what)));
    let Some(next) = head
        .text("location")
        .and_then(|location| address.join(location))
    else {
        return wrong("it leads on to no address".to_owned());
    };
    match address.may_lead_to(&next) {
        true => Ok(next),
        false => wrong(format!(
            "it leads on to {next}, and that is less safe than {address}"
        )),
    }
}

fn silent() -> TryEnd {
    TryEnd::MayPass(
        Trouble::failed(format!("it said nothing for {} s", PATIENCE.as_secs())),
        None,
    )
}

/// Whether asking again may help after this.
fn ended(why: Unanswered) -> TryEnd {
    use ureq::Error;
    let error = match why {
        Unanswered::Silent => return silent(),
        Unanswered::Stopped => return TryEnd::ForGood(Trouble::Stopped),
        Unanswered::BrokeOff => return broke_off(),
        Unanswered::NotAsked(error) => error,
    };
    match error {
        Error::HostNotFound => TryEnd::ForGood(Trouble::failed("its host is not known")),
        Error::ConnectionFailed => TryEnd::MayPass(Trouble::failed("it cannot be reached"), None),
        Error::Timeout(_) => silent(),
        Error::Io(e) => match e.kind() {
            io::ErrorKind::ConnectionRefused => TryEnd::ForGood(Trouble::failed(
                "it cannot be reached: nothing listens there",
            )),
            // What is wrong with a certificate stays so.
            _ if e.to_string().contains("UnknownIssuer") => TryEnd::ForGood(Trouble::failed(
                "its certificate is by nobody whom this machine trusts",
            )),
            io::ErrorKind::InvalidData | io::ErrorKind::Other => {
                TryEnd::ForGood(Trouble::failed(e.to_string()))
            }
            _ => TryEnd::MayPass(Trouble::failed(e.to_string()), None),
        },
        other => TryEnd::ForGood(Trouble::failed(other.to_string())),
    }
}

/// Its media type without parameters, in small letters.
fn media_type(head: &Head) -> String {
    let whole = head.text("content-type").unwrap_or_default();
    whole
        .split(';')
        .next()
        .unwrap_or_default()
        .trim()
        .to_lowercase()
}

/// How many bytes follow, if the server says so.
fn length(head: &Head) -> Option<u64> {
    head.text("content-length")?.parse().ok()
}

/// Where the first of them is in the whole, for a part.
fn begins(head: &Head) -> Option<u64> {
    head.text("content-range")?
        .strip_prefix("bytes ")?
        .split('-')
        .next()?
        .parse()
        .ok()
}

/// What says whether the whole is still the same. A weak tag says nothing of single bytes.
fn validator(head: &Head) -> Option<String> {
    let tag = head.text("etag").filter(|tag| tag.starts_with('"'));
    tag.or(head.text("last-modified")).map(str::to_owned)
}

/// How long the server wants to be left alone.
fn pause(head: &Head) -> Option<Duration> {
    head.text("retry-after")?
        .parse()
        .ok()
        .map(Duration::from_secs)
}
