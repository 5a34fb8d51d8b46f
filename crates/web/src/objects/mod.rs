//! Whole objects below one address: taken, or a part of them, and put. Each has a deadline for all of it, so that a server
//! that says little for long is given up.

use std::fs;
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::ops::Range;
use std::sync::OnceLock;
use std::sync::mpsc::{SyncSender, sync_channel};
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

use nubrik_disk::Below;
use ureq::Agent;
use ureq::http::{Request, StatusCode};

use crate::client::{TlsFiles, agent};
use crate::pace::Pace;
use crate::request::too_large;
use crate::signing::{StorageKey, Unsigned};
use crate::transfer::PIECE;
use crate::{Address, Credential, Trouble};

/// How long a server may say nothing.
const PATIENCE: Duration = Duration::from_secs(3);

/// Fewer bytes a second than this, over so long at least, are none.
const SLOWEST: u64 = 32 << 10;
const MEASURED: Duration = Duration::from_secs(10);

/// The longest that anything is waited for.
const LONGEST: Duration = Duration::from_secs(24 * 3600);

/// A place with objects by their names: a folder, or a server that knows GET and PUT.
#[derive(Debug)]
pub struct Objects {
    base: Address,
    asker: Asker,
    tls: TlsFiles,
    agent: OnceLock<Result<Agent, Trouble>>,
}

/// So long somebody may take to change an object: reading what it leads to, and putting it.
const LONGEST_TURN: Duration = Duration::from_secs(30);

/// The turn to change an object of a folder. Dropping it gives it to the next one.
#[derive(Debug)]
pub struct ObjectTurn {
    folder: Below,
    name: String,
}

impl Drop for ObjectTurn {
    fn drop(&mut self) {
        let _ = self.folder.remove_file(&self.name);
    }
}

/// Who asks for objects.
#[derive(Clone, Debug)]
pub enum Asker {
    /// Nobody in particular.
    Anybody,
    /// Someone with a credential.
    Known(Credential),
    /// Someone whose requests are signed, as object storage with the S3 protocol wants it.
    Signing(StorageKey),
}

/// What the thread says that waits for a server.
enum Heard {
    Status(StatusCode),
    Piece(Vec<u8>),
    End,
    Failed(String),
}

/// How long putting so many bytes may take.
fn patience(bytes: u64) -> Duration {
    MEASURED + Duration::from_secs(bytes / SLOWEST)
}

/// Why nothing was changed there in a time.
fn not_done(error: ureq::Error, limit: Duration) -> Trouble {
    match error {
        ureq::Error::Timeout(_) => {
            Trouble::Hangs(format!("did not take what was sent within {} seconds", limit.as_secs()))
        }
        other => Trouble::failed(other.to_string()),
    }
}

/// Whether a change of an object was accepted.
fn put_or_not(status: StatusCode) -> Result<(), Trouble> {
    match status {
        status if status.is_success() => Ok(()),
        StatusCode::UNAUTHORIZED | StatusCode::FORBIDDEN => Err(Trouble::Refused(status.as_u16())),
        status => Err(Trouble::failed(format!("it answered with status {status}"))),
    }
}

impl Objects {
    /// The objects below an address.
    pub fn new(base: Address, asker: Asker, tls: TlsFiles) -> Objects {
        Objects { base, asker, tls, agent: OnceLock::new() }
    }

    /// Where they are.
    pub fn base(&self) -> &Address {
        &self.base
    }

    /// The bytes of an object, or some of them; `None` where there is no such object.
    ///
    /// # Errors
    /// When they cannot be had in time, or there are more than `limit`, or fewer than a part has.
    pub fn get(&self, name: &str, part: Option<Range<u64>>, limit: u64) -> Result<Option<Vec<u8>>, Trouble> {
        self.get_until(name, part, limit, None)
    }

    /// The same, if that does not take until a time.
    ///
    /// # Errors
    /// As there, and when it takes longer.
    pub fn get_until(
        &self,
        name: &str,
        part: Option<Range<u64>>,
        limit: u64,
        until: Option<Instant>,
    ) -> Result<Option<Vec<u8>>, Trouble> {
        let address = self.address(name)?;
        let got = match address.file() {
            Some(_) => self.read_file(name, part.as_ref(), limit),
            None => self.ask(&address, part.as_ref(), limit, until),
        };
        let bytes = match got {
            Ok(bytes) => bytes,
            Err(Trouble::NotThere) => return Ok(None),
            Err(trouble) => return Err(trouble),
        };
        match &part {
            Some(part) if bytes.len() as u64 != part.end - part.start => {
                Err(Trouble::failed("it gave another number of bytes than asked for"))
            }
            _ => Ok(Some(bytes)),
        }
    }

    /// Puts an object, in place of what was there.
    ///
    /// # Errors
    /// When it cannot be put in time.
    pub fn put(&self, name: &str, bytes: &[u8]) -> Result<(), Trouble> {
        let address = self.address(name)?;
        if address.file().is_some() {
            let write = |file: &mut fs::File| file.write_all(bytes).and_then(|()| file.sync_all());
            return self.folder(true).and_then(|folder| folder.replace(name, write)).map_err(failed);
        }
        let request =
            self.request("PUT", &address, bytes, None).header("Content-Type", "application/octet-stream");
        let request = request.body(bytes).map_err(|e| Trouble::failed(e.to_string()))?;
        let agent = self.agent()?;
        let request =
            agent.configure_request(request).timeout_global(Some(patience(bytes.len() as u64))).build();
        let answer = agent.run(request).map_err(|e| not_done(e, patience(bytes.len() as u64)))?;
        put_or_not(answer.status())
    }

    /// Waits until nobody else has the turn to change an object, where they lie in a folder, and takes it; nothing elsewhere.
    ///
    /// # Errors
    /// When that takes too long, or nothing can be written there.
    pub fn turn_of(&self, name: &str) -> Result<Option<ObjectTurn>, Trouble> {
        if self.address(name)?.file().is_none() {
            return Ok(None);
        }
        let folder = self.folder(true).map_err(failed)?;
        let above = name.rsplit_once('/').map_or("", |(above, _)| above);
        folder.ready_folder(above).map_err(failed)?;
        let name = format!("{name}.turn");
        let began = Instant::now();
        loop {
            match folder.new_file(&name, 0o644) {
                Ok(_) => return Ok(Some(ObjectTurn { folder, name })),
                Err(e) if e.kind() != io::ErrorKind::AlreadyExists => return Err(failed(e)),
                Err(_) if began.elapsed() > LONGEST_TURN * 2 => {
                    return Err(Trouble::failed(format!(
                        "{name} is there all the time: somebody writes, or was killed"
                    )));
                }
                Err(_) => {}
            }
            // Who was killed does not give it back.
            let age = folder.look_at(&name).ok().map(|found| {
                UNIX_EPOCH + Duration::from_secs(u64::try_from(found.st_mtime).unwrap_or_default())
            });
            if age.and_then(|since| since.elapsed().ok()).is_some_and(|age| age > LONGEST_TURN) {
                let _ = folder.remove_file(&name);
            }
            std::thread::sleep(Duration::from_millis(10));
        }
    }

    /// Removes an object, if it is there.
    ///
    /// # Errors
    /// When it cannot be removed in time.
    pub fn remove(&self, name: &str) -> Result<(), Trouble> {
        let address = self.address(name)?;
        if address.file().is_some() {
            return self.folder(false).and_then(|folder| folder.remove_file(name)).map_err(failed);
        }
        let request = self.request("DELETE", &address, b"", None);
        let request = request.body(()).map_err(|e| Trouble::failed(e.to_string()))?;
        let agent = self.agent()?;
        let request = agent.configure_request(request).timeout_global(Some(patience(0))).build();
        let answer = agent.run(request).map_err(|e| not_done(e, patience(0)))?;
        match answer.status() {
            StatusCode::NOT_FOUND | StatusCode::GONE => Ok(()),
            status => put_or_not(status),
        }
    }

    /// Removes the objects below a name that nobody put anew since a time, in seconds since 1970, where they lie in a folder; elsewhere
    /// nothing is removed, since not all servers tell what they have. Gives how many there were.
    ///
    /// # Errors
    /// When one of them cannot be removed.
    pub fn remove_older(&self, name: &str, than: u64) -> Result<usize, Trouble> {
        if self.address(name)?.file().is_none() {
            return Ok(0);
        }
        // Whatever else lies there is somebody's.
        let is_digest = |name: &str| name.len() >= 32 && name.bytes().all(|b| b.is_ascii_hexdigit());
        let is_old = |name: &str, changed: i64| is_digest(name) && changed < than as i64;
        self.folder(false).and_then(|folder| folder.remove_files(name, &is_old)).map_err(failed)
    }

    /// The folder that holds them, where one does: those who may write there may be others than the person who builds, and links that
    /// they put there are not followed.
    fn folder(&self, is_made: bool) -> io::Result<Below> {
        let top = self.base.file().ok_or(io::ErrorKind::Unsupported)?;
        if is_made {
            fs::create_dir_all(&top)?;
        }
        Below::new(&top)
    }

    fn read_file(&self, name: &str, part: Option<&Range<u64>>, limit: u64) -> Result<Vec<u8>, Trouble> {
        let opened = self.folder(false).and_then(|folder| folder.open_to_read(name));
        let mut file = opened.map_err(|e| match e.kind() {
            io::ErrorKind::NotFound | io::ErrorKind::NotADirectory => Trouble::NotThere,
            _ => failed(e),
        })?;
        let mut bytes = Vec::new();
        match part {
            Some(part) => {
                file.seek(SeekFrom::Start(part.start)).map_err(failed)?;
                file.take(part.end.saturating_sub(part.start)).read_to_end(&mut bytes).map_err(failed)?;
            }
            None => drop(file.take(limit.saturating_add(1)).read_to_end(&mut bytes).map_err(failed)?),
        }
        if bytes.len() as u64 > limit { Err(too_large(limit)) } else { Ok(bytes) }
    }

    fn address(&self, name: &str) -> Result<Address, Trouble> {
        self.base.below(name).ok_or_else(|| Trouble::failed(format!("`{name}` is no name of an object")))
    }

    fn agent(&self) -> Result<&Agent, Trouble> {
        let agent = self.agent.get_or_init(|| agent(&self.tls));
        agent.as_ref().map_err(Trouble::clone)
    }

    fn request(
        &self,
        method: &str,
        address: &Address,
        body: &[u8],
        part: Option<&Range<u64>>,
    ) -> ureq::http::request::Builder {
        let mut request = Request::builder().method(method).uri(address.as_sent());
        let range =
            part.map(|part| ("range", format!("bytes={}-{}", part.start, part.end.saturating_sub(1))));
        let headers: Vec<(&str, String)> = range.into_iter().collect();
        if let Asker::Signing(key) = &self.asker {
            let (host, path) = address.host_and_path();
            let time = SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |d| d.as_secs());
            let unsigned = Unsigned { method, host: &host, path: &path, body, headers: &headers, time };
            for (name, value) in key.headers(&unsigned) {
                request = request.header(name, value);
            }
            return request;
        }
        if let Asker::Known(credential) = &self.asker {
            request = request.header("Authorization", credential.header());
        }
        headers.into_iter().fold(request, |request, (name, value)| request.header(name, value))
    }

    fn ask(
        &self,
        address: &Address,
        part: Option<&Range<u64>>,
        limit: u64,
        until: Option<Instant>,
    ) -> Result<Vec<u8>, Trouble> {
        // What comes compressed would have another length.
        let request = self.request("GET", address, b"", part).header("Accept-Encoding", "identity");
        let request = request.body(()).map_err(|e| Trouble::failed(e.to_string()))?;
        let agent = self.agent()?.clone();
        let request = agent.configure_request(request).timeout_global(Some(LONGEST)).build();
        let (sender, heard) = sync_channel(4);
        // A server that says nothing is left alone: the thread ends with its connection.
        std::thread::spawn(move || tell(&agent, request, &sender));
        let mut pace = Pace::new(MEASURED, SLOWEST, Instant::now());
        let mut status = None;
        let mut bytes: Vec<u8> = Vec::new();
        loop {
            let left = until.map_or(PATIENCE, |until| until.saturating_duration_since(Instant::now()));
            let said = heard.recv_timeout(left.min(PATIENCE));
            let came = if let Ok(Heard::Piece(piece)) = &said { piece.len() } else { 0 };
            match said {
                Ok(Heard::Status(told)) => status = Some(with_bytes(told)?),
                Ok(Heard::Piece(piece)) => bytes.extend(piece),
                Ok(Heard::End) => break,
                Ok(Heard::Failed(problem)) => return Err(Trouble::failed(problem)),
                Err(_) if left < PATIENCE => return Err(Trouble::Late),
                Err(_) => {
                    return Err(Trouble::Hangs(format!("said nothing for {} seconds", PATIENCE.as_secs())));
                }
            }
            // Servers may give the whole where a part was asked for.
            let enough = match part.filter(|_| status == Some(StatusCode::OK)) {
                Some(part) => part.end,
                None => limit,
            };
            if bytes.len() as u64 > enough {
                break;
            }
            if pace.is_too_slow(came, Instant::now()) {
                return Err(Trouble::Hangs(pace.words()));
            }
        }
        match part.filter(|_| status == Some(StatusCode::OK)) {
            Some(part) => {
                bytes.truncate(part.end as usize);
                Ok(bytes.split_off(bytes.len().min(part.start as usize)))
            }
            None if bytes.len() as u64 > limit => Err(too_large(limit)),
            None => Ok(bytes),
        }
    }
}

/// Asks, and tells what comes, until nobody listens any more.
/// A status with which a server gives what was asked for.
fn with_bytes(status: StatusCode) -> Result<StatusCode, Trouble> {
    match status {
        StatusCode::OK | StatusCode::PARTIAL_CONTENT => Ok(status),
        StatusCode::NOT_FOUND | StatusCode::GONE => Err(Trouble::NotThere),
        StatusCode::UNAUTHORIZED | StatusCode::FORBIDDEN => Err(Trouble::Refused(status.as_u16())),
        _ => Err(Trouble::failed(format!("it answered with status {}", status.as_u16()))),
    }
}

fn tell(agent: &Agent, request: Request<()>, heard: &SyncSender<Heard>) {
    let mut answer = match agent.run(request) {
        Ok(answer) => answer,
        Err(e) => return drop(heard.send(Heard::Failed(e.to_string()))),
    };
    if heard.send(Heard::Status(answer.status())).is_err() {
        return;
    }
    let mut reader = answer.body_mut().as_reader();
    let mut buffer = vec![0; PIECE];
    loop {
        let said = match reader.read(&mut buffer) {
            Ok(0) => Heard::End,
            Ok(count) => Heard::Piece(buffer[..count].to_vec()),
            Err(e) => Heard::Failed(e.to_string()),
        };
        let is_last = !matches!(said, Heard::Piece(_));
        if heard.send(said).is_err() || is_last {
            return;
        }
    }
}

fn failed(e: io::Error) -> Trouble {
    Trouble::failed(e.to_string())
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use super::*;

    #[test]
    fn a_folder_has_objects() {
        let folder = tempfile::tempdir().unwrap();
        let objects =
            Objects::new(Address::of_folder(folder.path()).unwrap(), Asker::Anybody, TlsFiles::default());
        assert_eq!(objects.get("a/b", None, 10).unwrap(), None);
        objects.put("a/b", b"high water").unwrap();
        assert_eq!(objects.get("a/b", None, 10).unwrap().unwrap(), b"high water");
        assert_eq!(objects.get("a/b", Some(5..10), 10).unwrap().unwrap(), b"water");
        assert!(objects.get("a/b", None, 9).is_err());
        assert!(objects.get("a/b", Some(5..11), 10).is_err());
        assert!(objects.put("../b", b"").is_err() && objects.get("/etc/passwd", None, 10).is_err());
        assert_eq!(fs::read_dir(folder.path().join("a")).unwrap().count(), 1);
    }

    #[test]
    fn links_in_a_folder_of_objects_lead_nowhere() {
        let (folder, home) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
        let objects =
            Objects::new(Address::of_folder(folder.path()).unwrap(), Asker::Anybody, TlsFiles::default());
        let name = "ab".repeat(32);
        fs::create_dir(home.path().join("deep")).unwrap();
        for precious in [name.clone(), format!("deep/{name}")] {
            fs::write(home.path().join(precious), "precious").unwrap();
        }
        std::os::unix::fs::symlink(home.path(), folder.path().join("jobs")).unwrap();
        let (in_link, new) = (format!("jobs/{name}"), u64::MAX >> 2);
        assert!(
            objects.put(&in_link, b"x").is_err() && !matches!(objects.get(&in_link, None, 10), Ok(Some(_)))
        );
        assert!(objects.remove(&in_link).is_err());
        assert!(objects.remove_older("jobs", new).is_err());
        fs::remove_file(folder.path().join("jobs")).unwrap();
        objects.put(&format!("jobs/ab/{name}"), b"old").unwrap();
        objects.put("jobs/notes", b"of somebody").unwrap();
        std::os::unix::fs::symlink(home.path(), folder.path().join("jobs/link")).unwrap();
        assert_eq!(objects.remove_older("jobs", new).unwrap(), 1);
        assert_eq!(objects.get("jobs/notes", None, 20).unwrap().unwrap(), b"of somebody");
        assert_eq!(fs::read(home.path().join(format!("deep/{name}"))).unwrap(), b"precious");
        assert_eq!(fs::read(home.path().join(name)).unwrap(), b"precious");
    }
}
