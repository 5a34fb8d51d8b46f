//! The server: on this machine only, for who has the token.

use std::fs;
use std::io::{self, BufRead, BufReader};
use std::net::SocketAddr;
use std::os::fd::AsRawFd;
use std::os::unix::fs::{FileTypeExt, PermissionsExt};
use std::os::unix::net::UnixListener;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant, SystemTime};

use nubrik_web::{Caller, HttpAnswer, HttpRequest, Listener, is_only_late};
use parking_lot::RwLock;

use crate::live::{LiveBoard, SOCKET};
use crate::site::Site;

/// How often it is looked whether to end, and whether files changed.
const LOOK: Duration = Duration::from_millis(300);

/// When nobody asked anything for so long, it is not looked whether files changed.
const IDLE: Duration = Duration::from_secs(20);

/// How often a page that waits for news hears that there are none.
const BEAT: Duration = Duration::from_secs(10);

/// So many pages may wait for news at once.
const WAITING: u64 = 64;

/// What answers need in their heads: nothing is loaded from elsewhere, nobody else shows the pages,
/// nothing is kept.
const HEADS: [(&str, &str); 4] = [
    (
        "Content-Security-Policy",
        "default-src 'none'; style-src 'self'; script-src 'self'; connect-src 'self'; img-src 'self' data:; form-action 'self'; base-uri 'none'; frame-ancestors 'none'",
    ),
    ("X-Content-Type-Options", "nosniff"),
    ("Referrer-Policy", "no-referrer"),
    ("Cache-Control", "no-store"),
];

/// A server of pages.
pub struct PageServer {
    listener: Listener,
    token: String,
    site: RwLock<Arc<Site>>,
    live: LiveBoard,
    asked: RwLock<Instant>,
    waiting: AtomicU64,
    is_over: AtomicBool,
}

/// Makes the pages anew; nothing where that cannot be done now.
pub type MakeSite<'m> = dyn Fn() -> Option<Site> + Sync + 'm;

impl PageServer {
    /// Listens at a port of this machine, or at a free one. `token` is what addresses begin with.
    ///
    /// # Errors
    /// When the port cannot be had.
    pub fn open(site: Site, port: u16, token: String) -> io::Result<PageServer> {
        let listener = Listener::open(SocketAddr::from(([127, 0, 0, 1], port)))?;
        let site = RwLock::new(Arc::new(site));
        let (live, asked) = (LiveBoard::default(), RwLock::new(Instant::now()));
        let (waiting, is_over) = (AtomicU64::new(0), AtomicBool::new(false));
        Ok(PageServer {
            listener,
            token,
            site,
            live,
            asked,
            waiting,
            is_over,
        })
    }

    /// Where the first page is.
    pub fn address(&self) -> String {
        format!("http://{}/{}/", self.host(), self.token)
    }

    fn host(&self) -> String {
        self.listener
            .address()
            .map_or_else(String::new, |address| address.to_string())
    }

    fn site(&self) -> Arc<Site> {
        self.site.read().clone()
    }

    /// Answers until `is_stopped`; `make` makes the pages anew after files changed.
    pub fn serve(&self, is_stopped: &(dyn Fn() -> bool + Sync), make: &MakeSite<'_>) {
        let is_over = || self.is_over.load(Ordering::Relaxed);
        let answer = |request: &HttpRequest, caller: &mut Caller| self.receive(request, caller);
        let (is_over, answer) = (&is_over, &answer);
        std::thread::scope(|scope| {
            scope.spawn(move || self.listener.serve(scope, is_over, answer));
            scope.spawn(|| self.hear_builds(scope));
            scope.spawn(|| self.keep_fresh(make));
            while !is_stopped() {
                std::thread::sleep(LOOK / 3);
            }
            self.is_over.store(true, Ordering::Relaxed);
        });
    }

    /// Makes the pages anew when what they are of changed.
    fn keep_fresh(&self, make: &MakeSite<'_>) {
        // Whoever searches first does not wait until all names are put together.
        let warm = |site: &Site| {
            let _index = crate::pages::finding::index(site);
            site.look_ahead();
        };
        let mut before = Fingerprint::of(&self.site());
        warm(&self.site());
        while !self.is_over.load(Ordering::Relaxed) {
            std::thread::sleep(LOOK);
            if self.asked.read().elapsed() > IDLE {
                continue;
            }
            let old = self.site();
            let now = Fingerprint::of(&old);
            if (now != before || now.is_after(old.looked))
                && let Some(site) = make()
            {
                // Of the new ones: they may be made of other files.
                before = Fingerprint::of(&site);
                warm(&site);
                *self.site.write() = Arc::new(site);
            }
        }
    }

    /// Hears what builds tell of themselves.
    fn hear_builds<'s>(&'s self, scope: &'s std::thread::Scope<'s, '_>) {
        let own = self.site().session.workspace.root.join(".nubrik");
        let Some((listener, _at)) = listen(&own) else {
            return;
        };
        while !self.is_over.load(Ordering::Relaxed) {
            let Ok((stream, _)) = listener.accept() else {
                std::thread::sleep(LOOK / 3);
                continue;
            };
            // It must not keep this program from ending.
            let _ = stream.set_nonblocking(false);
            let _ = stream.set_read_timeout(Some(LOOK));
            scope.spawn(move || {
                let mut lines = BufReader::new(stream);
                let mut line = Vec::new();
                loop {
                    match lines.read_until(b'\n', &mut line) {
                        Ok(0) => break,
                        Ok(_) => {
                            self.live.hear(&String::from_utf8_lossy(&line));
                            line.clear();
                        }
                        // What came of a line so far is kept.
                        Err(e) if is_only_late(&e) && !self.is_over.load(Ordering::Relaxed) => {}
                        Err(_) => break,
                    }
                }
                self.live.is_over();
            });
        }
    }

    fn receive(&self, request: &HttpRequest, caller: &mut Caller) {
        *self.asked.write() = Instant::now();
        let (path, query) = request.url.split_once('?').unwrap_or((&request.url, ""));
        let with_body = request.method != "HEAD";
        let respond = |caller: &mut Caller, code: u16, media: &'static str, body: Vec<u8>| {
            caller.respond(with_body, &HttpAnswer { code, media, body }, &HEADS);
        };
        let refused = |caller: &mut Caller, code: u16, text: &str| {
            let body = text.as_bytes().to_vec();
            respond(caller, code, "text/plain; charset=utf-8", body);
        };
        // A page of elsewhere can have its name lead here, but not change who is asked.
        if request.hosts != [self.host()] {
            let text = "This server answers to its own address only.\n";
            return refused(caller, 403, text);
        }
        if !matches!(&*request.method, "GET" | "HEAD") {
            return refused(caller, 405, "Pages are only read.\n");
        }
        let Some(name) = self.name_of(path) else {
            let text =
                "There is nothing here. The whole address is what `nubrik explore` printed.\n";
            return refused(caller, 404, text);
        };
        if name == "events" {
            if self.waiting.fetch_add(1, Ordering::Relaxed) >= WAITING {
                refused(caller, 503, "Too many pages wait for news.\n");
            } else {
                self.tell_news(caller);
            }
            self.waiting.fetch_sub(1, Ordering::Relaxed);
            return;
        }
        let site = self.site();
        let html = "text/html; charset=utf-8";
        let (code, media, body) = match name {
            "live.html" => (
                200,
                html,
                self.live
                    .page(&site)
                    .document(&site.name, site.reading)
                    .into_bytes(),
            ),
            "live.part" => (200, html, self.live.part(&site).into_string().into_bytes()),
            name => match site.answer(name, query) {
                Some(answer) => (200, answer.media, answer.body.into_bytes()),
                None => (404, html, site.missing().into_bytes()),
            },
        };
        respond(caller, code, media, body);
    }

    /// The name of a page in a path that begins with the token.
    fn name_of<'p>(&self, path: &'p str) -> Option<&'p str> {
        let (token, name) = path.strip_prefix('/')?.split_once('/')?;
        // The time that this takes tells nothing of the token.
        let differing = token
            .bytes()
            .zip(self.token.bytes())
            .fold(0, |sum, (a, b)| sum | (a ^ b));
        (differing == 0 && token.len() == self.token.len()).then_some(name)
    }

    /// Tells a page whenever something happened in a build.
    fn tell_news(&self, caller: &mut Caller) {
        let mut head = String::from(
            "HTTP/1.1 200 OK\r\nContent-Type: text/event-stream\r\nConnection: close\r\n",
        );
        HEADS
            .iter()
            .for_each(|(name, value)| head.push_str(&format!("{name}: {value}\r\n")));
        let mut seen = 0;
        let mut said = Instant::now();
        let mut is_well = caller.say(&(head + "\r\n")).is_ok();
        while is_well && !self.is_over.load(Ordering::Relaxed) {
            let now = self.live.wait(seen, LOOK);
            let text = match now != seen {
                true => "data: changed\n\n",
                false if said.elapsed() > BEAT => ": nothing\n\n",
                false => continue,
            };
            (seen, said) = (now, Instant::now());
            is_well = caller.say(text).is_ok();
        }
    }
}

/// A socket that is removed in the end.
struct OwnSocket(PathBuf);

impl Drop for OwnSocket {
    fn drop(&mut self) {
        let _ = fs::remove_file(&self.0);
    }
}

/// Listens at the socket in a folder. Nothing where that cannot be, or another explorer does so
/// already.
fn listen(own: &Path) -> Option<(UnixListener, OwnSocket)> {
    let at = own.join(SOCKET);
    if connect(own).is_some() {
        return None;
    }
    let _ = fs::remove_file(&at);
    let folder = fs::File::open(own).ok()?;
    let listener = UnixListener::bind(short_path(&folder)).ok()?;
    // Whatever the person's mask is: builds of others have nothing to tell here.
    fs::set_permissions(&at, fs::Permissions::from_mode(0o600)).ok()?;
    listener.set_nonblocking(true).ok()?;
    Some((listener, OwnSocket(at)))
}

/// The path of the socket by way of its open folder: its own path may be longer than an address of
/// a socket can be.
fn short_path(folder: &fs::File) -> PathBuf {
    PathBuf::from(format!("/proc/self/fd/{}/{SOCKET}", folder.as_raw_fd()))
}

/// Connects to an explorer that looks at the workspace with some folder of its own, if there is
/// one.
pub fn connect(own: &Path) -> Option<std::os::unix::net::UnixStream> {
    // The usual case: nobody looks. What is there must be the socket itself: a checkout may have
    // put a link to another one in its place.
    let found = fs::symlink_metadata(own.join(SOCKET)).ok()?;
    if !found.file_type().is_socket() {
        return None;
    }
    let folder = fs::File::open(own).ok()?;
    std::os::unix::net::UnixStream::connect(short_path(&folder)).ok()
}

/// What tells whether pages are out of date: the metadata of definitions, of their folders, and of
/// what is remembered.
#[derive(PartialEq, Eq)]
struct Fingerprint(Vec<Option<(SystemTime, u64)>>);

/// The clock of files goes in steps: what is written now may seem to be written so much earlier.
const FILE_CLOCK: Duration = Duration::from_millis(20);

impl Fingerprint {
    /// Whether something was written since a moment: pages that were begun to be made then may be
    /// of what was before.
    fn is_after(&self, moment: SystemTime) -> bool {
        // A file of the future says nothing, and would each time.
        let now = SystemTime::now();
        self.0
            .iter()
            .flatten()
            .any(|(written, _)| *written <= now && *written + FILE_CLOCK >= moment)
    }

    fn of(site: &Site) -> Fingerprint {
        let root = &site.session.workspace.root;
        let of_path = |path: PathBuf| {
            fs::metadata(path)
                .ok()
                .and_then(|meta| Some((meta.modified().ok()?, meta.len())))
        };
        let own = [
            "nubrik.toml",
            "pins.toml",
            ".nubrik/state",
            ".nubrik/history",
        ]
        .map(|name| root.join(name));
        let mut folders: Vec<&str> = Vec::new();
        for path in site.evaluation.definitions() {
            let path = path.as_str();
            folders.extend(path.match_indices('/').map(|(at, _)| &path[..at]));
        }
        folders.sort_unstable();
        folders.dedup();
        let read = site
            .evaluation
            .definitions()
            .map(|path| root.join(path.as_str()));
        let folders = folders.iter().map(|folder| root.join(folder));
        Fingerprint(
            own.into_iter()
                .chain(read)
                .chain(folders)
                .chain([root.clone()])
                .map(of_path)
                .collect(),
        )
    }
}
