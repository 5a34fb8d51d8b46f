//! The process that watches.

use std::fs::File;
use std::io;
use std::os::fd::{AsFd, OwnedFd};
use std::os::unix::net::UnixStream;
use std::time::{Duration, Instant};

use nubrik_bytes::Digest;
use nubrik_disk::Below;
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::fs::{AtFlags, FlockOperation, Mode, OFlags};
use rustix::io::Errno;
use rustix::net::{AddressFamily, SocketFlags, SocketType};

use crate::client::{SOCKET, address, is_of_this_user};
use crate::ground::WatchedGround;
use crate::messages::{Want, WatcherAnswer, WatcherQuestion, receive, send};

/// What the last watcher said when it ended, in the tool's own folder.
pub const WATCHER_LOG: &str = "watcher.log";

/// Only one watches a workspace: it has this file, in the tool's own folder, locked.
const LOCK: &str = "watcher.lock";

/// How long it waits for somebody's question, and for it to be read.
const PATIENCE: Duration = Duration::from_millis(200);

/// How long after a question what may have changed is looked at again: whoever asked is busy with
/// the same.
const AFTER: Duration = Duration::from_millis(150);

/// How long notes are left to the kernel, so that a thousand of them wake it once.
const GATHER: Duration = Duration::from_millis(10);

/// How often it sees to it that its workspace is still there.
const ROUND: Duration = Duration::from_secs(20);

/// How many paths are looked at between two questions.
const AT_ONCE: usize = 256;

/// Why a watcher ended.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum WatcherEnding {
    /// Another one watches the workspace.
    Other,
    /// Its life was over: nobody asked, or had it stay.
    Over,
    /// Somebody had it end.
    Asked,
    /// Another program asked.
    OtherProgram,
    /// Its workspace is gone, or the tool's own folder in it.
    Gone,
}

/// How long a watcher lives.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum WatcherLife {
    /// Until nobody has asked for so long.
    Unasked(Duration),
    /// As long as somebody has it stay; it waits so long for the first one.
    Held(Duration),
}

/// Watches a workspace with a root and a folder of the tool's own, for a program with a digest that
/// tells it from all others, and begins with a seal. Comes back when its life is over, somebody has
/// it end, its folder is gone, or another watcher is there.
///
/// # Errors
/// When the kernel gives no watches, or there is no place to listen.
pub fn serve(
    root: Below,
    own: Below,
    program: Digest,
    seal: Option<&str>,
    life: WatcherLife,
) -> io::Result<WatcherEnding> {
    let served = WatcherSocket::open(&own).and_then(|listener| match listener {
        Some(listener) => watch(&listener, root, &own, (program, seal, life)),
        None => Ok(WatcherEnding::Other),
    });
    match served {
        // Whatever went wrong, it was that.
        Err(_) if rustix::fs::fstat(own.top()).is_ok_and(|found| found.st_nlink == 0) => {
            Ok(WatcherEnding::Gone)
        }
        served => served,
    }
}

/// Where a watcher listens, which only one of a workspace does.
struct WatcherSocket {
    socket: OwnedFd,
    /// The socket's device and number in the tool's own folder.
    place: (u64, u64),
    _lock: File,
}

impl WatcherSocket {
    /// Begins to listen; `None` where another watcher does.
    fn open(own: &Below) -> io::Result<Option<WatcherSocket>> {
        let lock = own.open(LOCK, OFlags::CREATE | OFlags::WRONLY)?;
        if rustix::fs::flock(&lock, FlockOperation::NonBlockingLockExclusive).is_err() {
            return Ok(None);
        }
        own.remove(SOCKET)?;
        let flags = SocketFlags::CLOEXEC | SocketFlags::NONBLOCK;
        let socket =
            rustix::net::socket_with(AddressFamily::UNIX, SocketType::STREAM, flags, None)?;
        rustix::net::bind(&socket, &address(own)?)?;
        // Others cannot connect; one that does before this is not answered.
        rustix::fs::chmodat(
            own.top(),
            SOCKET,
            Mode::from_raw_mode(0o600),
            AtFlags::empty(),
        )?;
        rustix::net::listen(&socket, 64)?;
        let place = own.look_at(SOCKET)?;
        Ok(Some(WatcherSocket {
            socket,
            place: (place.st_dev, place.st_ino),
            _lock: lock,
        }))
    }

    /// Whether who asks still finds it.
    fn is_there(&self, own: &Below) -> bool {
        own.look_at(SOCKET)
            .is_ok_and(|now| (now.st_dev, now.st_ino) == self.place)
    }
}

fn watch(
    listener: &WatcherSocket,
    root: Below,
    own: &Below,
    (program, seal, life): (Digest, Option<&str>, WatcherLife),
) -> io::Result<WatcherEnding> {
    let mut ground = WatchedGround::new(root, Below::of(own.top().try_clone_to_owned()?))?;
    if let Some(seal) = seal {
        ground.learn(seal);
    }
    let mut service = WatcherService {
        ground,
        program,
        held: Vec::new(),
        life,
        since: Instant::now(),
        see_at: None,
        ending: None,
    };
    let mut looked = Instant::now();
    let ending = loop {
        let is_news = service.round(&listener.socket)?;
        if let Some(ending) = service.ending {
            break ending;
        }
        if service.is_over() {
            break WatcherEnding::Over;
        }
        if is_news || looked.elapsed() >= ROUND {
            looked = Instant::now();
            if !listener.is_there(own) {
                break WatcherEnding::Gone;
            }
        }
    };
    if listener.is_there(own) {
        own.remove(SOCKET)?;
    }
    Ok(ending)
}

struct WatcherService {
    ground: WatchedGround,
    program: Digest,
    /// Connections of those that have it stay.
    held: Vec<UnixStream>,
    life: WatcherLife,
    /// Since when nobody has asked, or had it stay.
    since: Instant,
    /// When what may have changed is to be looked at again.
    see_at: Option<Instant>,
    ending: Option<WatcherEnding>,
}

impl WatcherService {
    fn is_over(&self) -> bool {
        let (WatcherLife::Unasked(time) | WatcherLife::Held(time)) = self.life;
        self.held.is_empty() && self.since.elapsed() >= time
    }

    /// How long its life is at least, where nothing happens.
    fn until_over(&self) -> Duration {
        let (WatcherLife::Unasked(time) | WatcherLife::Held(time)) = self.life;
        if self.held.is_empty() {
            time.saturating_sub(self.since.elapsed())
        } else {
            Duration::MAX
        }
    }

    /// Somebody asks, which keeps a watcher of one kind.
    fn note_question(&mut self) {
        if matches!(self.life, WatcherLife::Unasked(_)) {
            self.since = Instant::now();
        }
    }

    /// Waits for what comes next, and does it. Gives whether something happened to a file.
    fn round(&mut self, listener: &OwnedFd) -> io::Result<bool> {
        let is_due = self.see_at.is_some_and(|at| at <= Instant::now());
        if is_due {
            self.see_at = None;
            self.ground.hear();
            self.ground.see_again();
        }
        let works = self.ground.is_busy() && self.see_at.is_none();
        let wait = match self.see_at {
            _ if works => Duration::ZERO,
            Some(at) => at.saturating_duration_since(Instant::now()),
            None => self.until_over().min(ROUND),
        };
        let (has_come, has_notes) = self.wait(listener, wait)?;
        if has_come {
            self.answer_all(listener);
        } else if has_notes {
            // More of them come mostly, and a question does not wait for them.
            if !self.wait_for(listener, GATHER)? {
                self.ground.hear();
                return Ok(true);
            }
        } else if works {
            self.ground.see(AT_ONCE);
        }
        Ok(false)
    }

    /// Whether somebody has come, and whether something happened, within some time.
    fn wait(&mut self, listener: &OwnedFd, time: Duration) -> io::Result<(bool, bool)> {
        let time = timespec(time);
        let watches = self.ground.watches().readable();
        let mut what = vec![
            PollFd::new(listener, PollFlags::IN),
            PollFd::from_borrowed_fd(watches, PollFlags::IN),
        ];
        what.extend(
            self.held
                .iter()
                .map(|held| PollFd::new(held, PollFlags::IN)),
        );
        match poll(&mut what, Some(&time)) {
            Ok(_) | Err(Errno::INTR) => {}
            Err(error) => return Err(error.into()),
        }
        let happened: Vec<bool> = what.iter().map(|fd| !fd.revents().is_empty()).collect();
        // Who has it stay says nothing more: what comes is the end of the connection.
        let mut gone = happened[2..].iter();
        let before = self.held.len();
        self.held.retain(|_| gone.next().is_none_or(|gone| !gone));
        if self.held.len() < before {
            self.since = Instant::now();
        }
        Ok((happened[0], happened[1]))
    }

    fn wait_for(&self, listener: &OwnedFd, time: Duration) -> io::Result<bool> {
        match poll(
            &mut [PollFd::new(listener, PollFlags::IN)],
            Some(&timespec(time)),
        ) {
            Ok(ready) => Ok(ready > 0),
            Err(Errno::INTR) => Ok(false),
            Err(error) => Err(error.into()),
        }
    }

    fn answer_all(&mut self, listener: &OwnedFd) {
        while self.ending.is_none()
            && let Ok(connection) = rustix::net::accept_with(listener.as_fd(), SocketFlags::CLOEXEC)
        {
            if is_of_this_user(&connection) {
                // Who does not listen gets no answer, and nobody is the worse for it.
                let _ = self.answer(UnixStream::from(connection));
            }
        }
    }

    fn answer(&mut self, mut connection: UnixStream) -> io::Result<()> {
        connection.set_read_timeout(Some(PATIENCE))?;
        connection.set_write_timeout(Some(PATIENCE))?;
        let question: WatcherQuestion = receive(&mut connection)?;
        if question.program != self.program {
            self.ending = Some(WatcherEnding::OtherProgram);
            return send(&mut connection, &WatcherAnswer::OtherProgram);
        }
        match question.want {
            Want::Doubtful {
                seen,
                seal,
                version,
                file,
            } => {
                self.note_question();
                let answer = self.ground.doubtful(&seen, &seal, version, file);
                send(&mut connection, &answer)?;
                self.see_at = Some(Instant::now() + AFTER);
                if matches!(answer, WatcherAnswer::All(_)) {
                    self.ground.learn(&seal);
                }
            }
            Want::Learn { seal } => {
                self.note_question();
                send(&mut connection, &WatcherAnswer::Done)?;
                self.ground.hear();
                self.ground.learn(&seal);
                // Whoever asked is done.
                self.ground.see_again();
                self.see_at = None;
            }
            Want::Status => {
                self.ground.hear();
                send(
                    &mut connection,
                    &WatcherAnswer::Status(self.ground.status()),
                )?;
            }
            Want::Stay => {
                send(&mut connection, &WatcherAnswer::Done)?;
                self.held.push(connection);
            }
            Want::End => {
                self.ending = Some(WatcherEnding::Asked);
                send(&mut connection, &WatcherAnswer::Done)?;
            }
        }
        Ok(())
    }
}

fn timespec(time: Duration) -> Timespec {
    Timespec {
        tv_sec: time.as_secs() as i64,
        tv_nsec: i64::from(time.subsec_nanos()),
    }
}
