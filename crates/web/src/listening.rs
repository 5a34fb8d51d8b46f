//! Answers whoever asks this machine over HTTP/1.1: requests without bodies, whose heads are
//! bounded in size and in time, on so many connections at once. Whoever reaches the port can make
//! it neither grow nor stop.

use std::io::{self, Read, Write};
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use rustix::net::sockopt::{Timeout, set_socket_timeout};

/// The most bytes that the head of a request may have.
const HEAD_LIMIT: usize = 16 << 10;

/// The most fields that it may have.
const FIELDS: usize = 64;

/// A connection on which no whole head comes for so long is closed.
const PATIENCE: Duration = Duration::from_secs(5);

/// A client that takes nothing for so long is given up.
const WRITING: Duration = Duration::from_secs(10);

/// How often who waits looks whether to end.
const LOOK: Duration = Duration::from_millis(250);

/// So many connections are open at once; more are closed when they come.
const CONNECTIONS: usize = 128;

/// A listener at a port of this machine.
#[derive(Debug)]
pub struct Listener {
    listener: TcpListener,
    open: AtomicUsize,
}

/// A request, as far as it is of use here.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct HttpRequest {
    /// Such as `GET`.
    pub method: String,
    /// What is asked for, as it was sent.
    pub url: String,
    /// All that it says of the host that it is for.
    pub hosts: Vec<String>,
    /// Whether the connection is for one request.
    is_last: bool,
}

/// An answer.
pub struct HttpAnswer {
    /// Its status.
    pub code: u16,
    /// The media type of its body.
    pub media: &'static str,
    /// What is sent.
    pub body: Vec<u8>,
}

/// Who asks: a connection that stays for further requests.
pub struct Caller {
    stream: TcpStream,
    /// What came and was not read yet.
    ahead: Vec<u8>,
    is_closed: bool,
}

/// Why there is no request.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
enum NoRequest {
    /// It is over, or says nothing.
    Gone,
    /// What came is none: the status to answer with.
    Wrong(u16),
}

/// Takes a place among open connections, and gives it back.
struct ConnectionPlace<'l>(&'l AtomicUsize);

impl Drop for ConnectionPlace<'_> {
    fn drop(&mut self) {
        self.0.fetch_sub(1, Ordering::Relaxed);
    }
}

/// A request in the bytes that came, and how many of them it takes; nothing where it is not whole
/// yet.
fn parse(bytes: &[u8]) -> Result<Option<(HttpRequest, usize)>, u16> {
    let mut fields = [httparse::EMPTY_HEADER; FIELDS];
    let mut request = httparse::Request::new(&mut fields);
    let length = match request.parse(bytes) {
        Ok(httparse::Status::Complete(length)) => length,
        Ok(httparse::Status::Partial) if bytes.len() < HEAD_LIMIT => return Ok(None),
        Ok(httparse::Status::Partial) | Err(httparse::Error::TooManyHeaders) => return Err(431),
        Err(_) => return Err(400),
    };
    let (Some(method), Some(url), Some(version)) = (request.method, request.path, request.version)
    else {
        return Err(400);
    };
    let values = |name: &str| -> Vec<String> {
        let own = request
            .headers
            .iter()
            .filter(|field| field.name.eq_ignore_ascii_case(name));
        own.map(|field| String::from_utf8_lossy(field.value).into_owned())
            .collect()
    };
    // Nothing is read but heads.
    let has_body = values("content-length")
        .iter()
        .any(|length| length.trim() != "0");
    if has_body || !values("transfer-encoding").is_empty() {
        return Err(413);
    }
    let closes = values("connection")
        .iter()
        .any(|text| text.to_ascii_lowercase().contains("close"));
    let (method, url, hosts) = (method.to_owned(), url.to_owned(), values("host"));
    Ok(Some((
        HttpRequest {
            method,
            url,
            hosts,
            is_last: closes || version == 0,
        },
        length,
    )))
}

impl Listener {
    /// Listens at a port of an address of this machine; at a free one where it is 0.
    ///
    /// # Errors
    /// When it cannot be had.
    pub fn open(at: SocketAddr) -> io::Result<Listener> {
        let listener = TcpListener::bind(at)?;
        set_socket_timeout(&listener, Timeout::Recv, Some(LOOK))?;
        Ok(Listener {
            listener,
            open: AtomicUsize::new(0),
        })
    }

    /// Where it listens.
    pub fn address(&self) -> Option<SocketAddr> {
        self.listener.local_addr().ok()
    }

    /// Has `answer` answer all who call, each on a thread of its own, until `is_over`.
    pub fn serve<'s>(
        &'s self,
        scope: &'s std::thread::Scope<'s, '_>,
        is_over: &'s (dyn Fn() -> bool + Sync),
        answer: &'s (dyn Fn(&HttpRequest, &mut Caller) + Sync),
    ) {
        while !is_over() {
            let stream = match self.listener.accept() {
                Ok((stream, _)) => stream,
                Err(e) if is_only_late(&e) => continue,
                // Too many files are open, or so: it passes.
                Err(_) => {
                    std::thread::sleep(LOOK);
                    continue;
                }
            };
            if self.open.fetch_add(1, Ordering::Relaxed) >= CONNECTIONS {
                self.open.fetch_sub(1, Ordering::Relaxed);
                continue;
            }
            let seat = ConnectionPlace(&self.open);
            let listens = std::thread::Builder::new().spawn_scoped(scope, move || {
                let _seat = seat;
                if let Ok(mut caller) = Caller::new(stream) {
                    caller.attend(is_over, answer);
                }
            });
            // Without a thread the connection is closed: whoever asks asks again.
            drop(listens);
        }
    }
}

impl Caller {
    fn new(stream: TcpStream) -> io::Result<Caller> {
        stream.set_nodelay(true)?;
        stream.set_read_timeout(Some(LOOK))?;
        stream.set_write_timeout(Some(WRITING))?;
        Ok(Caller {
            stream,
            ahead: Vec::new(),
            is_closed: false,
        })
    }

    /// Answers one request after the other.
    fn attend(&mut self, is_over: &dyn Fn() -> bool, answer: &dyn Fn(&HttpRequest, &mut Caller)) {
        while !self.is_closed {
            match self.next(is_over) {
                Ok(request) => {
                    self.is_closed = request.is_last;
                    answer(&request, self);
                }
                Err(NoRequest::Gone) => return,
                Err(NoRequest::Wrong(code)) => {
                    self.is_closed = true;
                    let media = "text/plain; charset=utf-8";
                    let body = b"This is no request that is answered here.\n".to_vec();
                    self.respond(true, &HttpAnswer { code, media, body }, &[]);
                }
            }
        }
    }

    fn next(&mut self, is_over: &dyn Fn() -> bool) -> Result<HttpRequest, NoRequest> {
        let until = Instant::now() + PATIENCE;
        loop {
            if let Some((request, length)) = parse(&self.ahead).map_err(NoRequest::Wrong)? {
                self.ahead.drain(..length);
                return Ok(request);
            }
            let mut buffer = [0; 4096];
            let room = HEAD_LIMIT
                .saturating_sub(self.ahead.len())
                .min(buffer.len());
            match self.stream.read(&mut buffer[..room]) {
                Ok(0) => return Err(NoRequest::Gone),
                Ok(count) => self.ahead.extend_from_slice(&buffer[..count]),
                Err(e) if is_only_late(&e) => {}
                Err(_) => return Err(NoRequest::Gone),
            }
            if is_over() || Instant::now() > until {
                return Err(NoRequest::Gone);
            }
        }
    }

    /// Sends an answer, and without its body where only the head is wanted.
    pub fn respond(&mut self, with_body: bool, answer: &HttpAnswer, fields: &[(&str, &str)]) {
        let HttpAnswer { code, media, body } = answer;
        let mut head = format!(
            "HTTP/1.1 {code} {}\r\nContent-Type: {media}\r\nContent-Length: {}\r\n",
            words_of(*code),
            body.len()
        );
        fields
            .iter()
            .for_each(|(name, value)| head.push_str(&format!("{name}: {value}\r\n")));
        if self.is_closed {
            head.push_str("Connection: close\r\n");
        }
        head.push_str("\r\n");
        let mut bytes = head.into_bytes();
        if with_body {
            bytes.extend_from_slice(body);
        }
        self.is_closed |= self.stream.write_all(&bytes).is_err();
    }

    /// Sends bytes of an answer that goes on; the connection is closed after it.
    ///
    /// # Errors
    /// When nobody takes them.
    pub fn say(&mut self, text: &str) -> io::Result<()> {
        self.is_closed = true;
        self.stream.write_all(text.as_bytes())
    }
}

/// Whether nothing came in the time that was waited.
pub fn is_only_late(problem: &io::Error) -> bool {
    matches!(
        problem.kind(),
        io::ErrorKind::WouldBlock | io::ErrorKind::TimedOut | io::ErrorKind::Interrupted
    )
}

fn words_of(code: u16) -> &'static str {
    match code {
        200 => "OK",
        400 => "Bad Request",
        403 => "Forbidden",
        404 => "Not Found",
        405 => "Method Not Allowed",
        413 => "Content Too Large",
        431 => "Request Header Fields Too Large",
        503 => "Service Unavailable",
        _ => "Other",
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use super::*;

    #[test]
    fn requests_are_read_and_what_is_none_is_refused() {
        let (request, length) = parse(b"GET /t/a?b HTTP/1.1\r\nHost: x\r\nHOST: y\r\n\r\nGET")
            .unwrap()
            .unwrap();
        assert_eq!(
            (
                request.method.as_str(),
                request.url.as_str(),
                request.is_last
            ),
            ("GET", "/t/a?b", false)
        );
        assert_eq!(
            (request.hosts, length),
            (vec!["x".to_owned(), "y".to_owned()], 41)
        );
        assert!(parse(b"GET / HTTP/1.0\r\n\r\n").unwrap().unwrap().0.is_last);
        assert!(
            parse(b"GET / HTTP/1.1\r\nConnection: Close\r\n\r\n")
                .unwrap()
                .unwrap()
                .0
                .is_last
        );
        assert_eq!(parse(b"GET / HTTP/1.1\r\nHost: x\r\n"), Ok(None));
        assert_eq!(parse(b"\x16\x03\x01\x02"), Err(400));
        assert_eq!(
            parse(b"POST / HTTP/1.1\r\nContent-Length: 3\r\n\r\nabc"),
            Err(413)
        );
        assert_eq!(
            parse(b"GET / HTTP/1.1\r\nTransfer-Encoding: chunked\r\n\r\n"),
            Err(413)
        );
        assert_eq!(
            parse(&[b"GET / HTTP/1.1\r\nX: ".to_vec(), vec![b'a'; HEAD_LIMIT]].concat()),
            Err(431)
        );
        let many = format!("GET / HTTP/1.1\r\n{}\r\n", "X: y\r\n".repeat(FIELDS + 1));
        assert_eq!(parse(many.as_bytes()), Err(431));
    }

    #[test]
    fn no_more_are_served_than_there_are_seats() {
        let listener = Listener::open(SocketAddr::from(([127, 0, 0, 1], 0))).unwrap();
        let at = listener.address().unwrap();
        let is_done = std::sync::atomic::AtomicBool::new(false);
        let is_over = || is_done.load(Ordering::Relaxed);
        let answer = |_: &HttpRequest, caller: &mut Caller| {
            caller.respond(
                true,
                &HttpAnswer {
                    code: 200,
                    media: "text/plain",
                    body: b"high".to_vec(),
                },
                &[],
            );
        };
        std::thread::scope(|scope| {
            scope.spawn(|| std::thread::scope(|inner| listener.serve(inner, &is_over, &answer)));
            let quiet: Vec<TcpStream> = (0..CONNECTIONS + 40)
                .map(|_| TcpStream::connect(at).unwrap())
                .collect();
            while listener.open.load(Ordering::Relaxed) < CONNECTIONS {
                std::thread::sleep(Duration::from_millis(5));
            }
            assert!(listener.open.load(Ordering::Relaxed) <= CONNECTIONS);
            drop(quiet);
            while listener.open.load(Ordering::Relaxed) > 0 {
                std::thread::sleep(Duration::from_millis(5));
            }
            let mut stream = TcpStream::connect(at).unwrap();
            stream
                .write_all(b"GET / HTTP/1.1\r\nHost: x\r\n\r\nGET / HTTP/1.0\r\n\r\n")
                .unwrap();
            let mut heard = String::new();
            stream.read_to_string(&mut heard).unwrap();
            assert_eq!(heard.matches("high").count(), 2, "{heard}");
            is_done.store(true, Ordering::Relaxed);
        });
    }
}
