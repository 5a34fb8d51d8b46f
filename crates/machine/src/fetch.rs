//! Fetching by digest: the network is used here and nowhere else.

use std::fs::File;
use std::io::{self, BufWriter, Read, Write};
use std::path::Path;
use std::sync::Arc;
use std::sync::mpsc::{Receiver, RecvTimeoutError, SyncSender, sync_channel};
use std::time::{Duration, Instant};

use base64::prelude::*;
use nubrik_archive::listing_digest;
use nubrik_confine::CancelSwitch;
use nubrik_disk::{open_file, sized};
use sha2::Digest as _;

/// How long a mirror may say nothing.
const PATIENCE: Duration = Duration::from_secs(30);

/// How often a transfer looks whether it is to stop.
const ATTENTION: Duration = Duration::from_millis(100);

/// The most that is fetched, in bytes.
const LIMIT: u64 = 64 << 30;

/// How much is read at once, in bytes.
const PIECE: usize = 128 << 10;

/// A file into which something is fetched.
pub(crate) struct FetchTarget<'a> {
    /// Makes it again, empty.
    pub fresh: &'a dyn Fn() -> io::Result<File>,
    /// Where it is.
    pub path: &'a Path,
}

/// Fetches what has a digest from the first mirror that has it, into a file that is made again for each. Errors are
/// for people: what each mirror said, and both digests where one gave something else.
pub(crate) fn fetch(
    urls: &[Arc<str>],
    digest: &str,
    target: &FetchTarget<'_>,
    cancel: &CancelSwitch,
) -> Result<(), String> {
    let mut problems = Vec::new();
    for url in urls {
        match fetch_from(url, digest, target, cancel) {
            Ok(()) => return Ok(()),
            Err(problem) => problems.push(format!("{url}: {problem}")),
        }
        if cancel.is_thrown() {
            break;
        }
    }
    Err(problems.join("\n"))
}

fn fetch_from(
    url: &str,
    digest: &str,
    target: &FetchTarget<'_>,
    cancel: &CancelSwitch,
) -> Result<(), String> {
    let mut sink = Sink::new(BufWriter::new((target.fresh)().map_err(|e| e.to_string())?), digest);
    match url.strip_prefix("file://") {
        Some(path) => copy_file(path, &mut sink, cancel),
        None => copy_answer(url, &mut sink, cancel),
    }?;
    let found = sink.finish().map_err(|e| e.to_string())?;
    let found = match found {
        Some(found) => found,
        None => format!("h1:{}", listing_digest(target.path).map_err(|e| e.to_string())?),
    };
    if found == digest {
        return Ok(());
    }
    Err(format!("its digest is another one\n  wanted  {digest}\n  found   {found}"))
}

fn copy_file(path: &str, sink: &mut Sink, cancel: &CancelSwitch) -> Result<(), String> {
    let mut file = open_file(path.as_ref()).map_err(|e| e.to_string())?;
    let mut buffer = vec![0; PIECE];
    loop {
        if cancel.is_thrown() {
            return Err("it was stopped".to_owned());
        }
        match file.read(&mut buffer) {
            Ok(0) => return Ok(()),
            Ok(count) => sink.take(&buffer[..count])?,
            Err(e) if e.kind() == io::ErrorKind::Interrupted => {}
            Err(e) => return Err(e.to_string()),
        }
    }
}

/// A piece of an answer; an empty one ends it.
type BodyPiece = Result<Vec<u8>, String>;

/// Takes what a mirror answers. A thread of its own waits for the mirror, so that this one can stop waiting.
fn copy_answer(url: &str, sink: &mut Sink, cancel: &CancelSwitch) -> Result<(), String> {
    let (sender, pieces) = sync_channel(4);
    let url = url.to_owned();
    std::thread::spawn(move || {
        if let Err(problem) = ask(&url, &sender) {
            let _ = sender.send(Err(problem));
        }
    });
    take_pieces(&pieces, sink, cancel, PATIENCE)
}

fn take_pieces(
    pieces: &Receiver<BodyPiece>,
    sink: &mut Sink,
    cancel: &CancelSwitch,
    patience: Duration,
) -> Result<(), String> {
    let mut heard = Instant::now();
    loop {
        match pieces.recv_timeout(ATTENTION) {
            Ok(Ok(piece)) if piece.is_empty() => return Ok(()),
            Ok(Ok(piece)) => {
                heard = Instant::now();
                sink.take(&piece)?;
            }
            Ok(Err(problem)) => return Err(problem),
            Err(RecvTimeoutError::Disconnected) => return Err("the transfer broke off".to_owned()),
            Err(RecvTimeoutError::Timeout) if heard.elapsed() > patience => {
                return Err(format!("it said nothing for {} s", patience.as_secs()));
            }
            Err(RecvTimeoutError::Timeout) => {}
        }
        if cancel.is_thrown() {
            return Err("it was stopped".to_owned());
        }
    }
}

/// Asks a mirror, and hands on what it answers. Ends when no one takes it any more.
fn ask(url: &str, sender: &SyncSender<BodyPiece>) -> Result<(), String> {
    let agent = ureq::Agent::new_with_config(
        ureq::Agent::config_builder()
            .timeout_connect(Some(PATIENCE))
            .timeout_recv_response(Some(PATIENCE))
            .build(),
    );
    let mut response = agent.get(url).call().map_err(|e| e.to_string())?;
    let mut body = response.body_mut().with_config().limit(LIMIT + 1).reader();
    loop {
        let mut piece = vec![0; PIECE];
        let count = match body.read(&mut piece) {
            Ok(count) => count,
            Err(e) if e.kind() == io::ErrorKind::Interrupted => continue,
            Err(e) => return Err(e.to_string()),
        };
        piece.truncate(count);
        if sender.send(Ok(piece)).is_err() || count == 0 {
            return Ok(());
        }
    }
}

/// Writes what comes, and computes its digest by the same method as the one that is wanted.
struct Sink {
    file: BufWriter<File>,
    hasher: ChecksumHasher,
    left: u64,
}

enum ChecksumHasher {
    Sha256(sha2::Sha256),
    /// Whether the digest is wanted in base64, too.
    Sha512(sha2::Sha512, bool),
    Blake3(Box<blake3::Hasher>),
    /// It is of the files in the archive, and computed when all of it is there.
    Listing,
}

impl Sink {
    fn new(file: BufWriter<File>, like: &str) -> Sink {
        let hasher = match like.split_once(':') {
            Some(("sha256", _)) => ChecksumHasher::Sha256(sha2::Sha256::new()),
            Some(("sha512", digest)) => ChecksumHasher::Sha512(sha2::Sha512::new(), digest.ends_with('=')),
            Some(("h1", _)) => ChecksumHasher::Listing,
            _ => ChecksumHasher::Blake3(Box::default()),
        };
        Sink { file, hasher, left: LIMIT }
    }

    fn take(&mut self, piece: &[u8]) -> Result<(), String> {
        let left = self.left.checked_sub(piece.len() as u64);
        self.left = left.ok_or_else(|| format!("it has more than {}", sized(LIMIT)))?;
        match &mut self.hasher {
            ChecksumHasher::Sha256(hasher) => hasher.update(piece),
            ChecksumHasher::Sha512(hasher, _) => hasher.update(piece),
            ChecksumHasher::Blake3(hasher) => drop(hasher.update(piece)),
            ChecksumHasher::Listing => {}
        }
        self.file.write_all(piece).map_err(|e| e.to_string())
    }

    /// The digest of all that came; `None` if it is not one of the bytes.
    fn finish(mut self) -> io::Result<Option<String>> {
        self.file.flush()?;
        let hex = |bytes: &[u8]| bytes.iter().map(|byte| format!("{byte:02x}")).collect::<String>();
        Ok(match self.hasher {
            ChecksumHasher::Sha256(hasher) => Some(format!("sha256:{}", hex(&hasher.finalize()))),
            ChecksumHasher::Sha512(hasher, true) => {
                Some(format!("sha512:{}", BASE64_STANDARD.encode(hasher.finalize())))
            }
            ChecksumHasher::Sha512(hasher, false) => Some(format!("sha512:{}", hex(&hasher.finalize()))),
            ChecksumHasher::Blake3(hasher) => Some(format!("blake3:{}", hasher.finalize().to_hex())),
            ChecksumHasher::Listing => None,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sink() -> Sink {
        Sink::new(BufWriter::new(tempfile::tempfile().unwrap()), "blake3:")
    }

    #[test]
    fn a_mirror_that_says_nothing_is_left() {
        let (sender, pieces) = sync_channel(4);
        let never = CancelSwitch::new().unwrap();
        sender.send(Ok(b"abc".to_vec())).unwrap();
        let said = take_pieces(&pieces, &mut sink(), &never, Duration::from_millis(50)).unwrap_err();
        assert!(said.starts_with("it said nothing for"), "{said}");
        drop(sender);
        let said = take_pieces(&pieces, &mut sink(), &never, PATIENCE).unwrap_err();
        assert_eq!(said, "the transfer broke off");
    }

    #[test]
    fn a_transfer_can_be_stopped() {
        let (sender, pieces) = sync_channel(4);
        let cancel = CancelSwitch::new().unwrap();
        cancel.throw();
        sender.send(Ok(b"abc".to_vec())).unwrap();
        assert_eq!(take_pieces(&pieces, &mut sink(), &cancel, PATIENCE).unwrap_err(), "it was stopped");
        let stopped = copy_file("/dev/null", &mut sink(), &cancel);
        assert_eq!(stopped.unwrap_err(), "it is not a file");
    }

    #[test]
    fn digests_are_computed_as_they_are_wanted() {
        for (like, digest) in [
            ("sha256:", "sha256:2d711642b726b04401627ca9fbac32f5c8530fb1903cc4db02258717921a4881"),
            ("blake3:", &format!("blake3:{}", blake3::hash(b"x").to_hex())),
            (
                "sha512:a",
                "sha512:a4abd4448c49562d828115d13a1fccea927f52b4d5459297f8b43e42da89238bc13626e43dcb38ddb082488927ec904fb42057443983e88585179d50551afe62",
            ),
            (
                "sha512:a=",
                "sha512:pKvURIxJVi2CgRXROh/M6pJ/UrTVRZKX+LQ+QtqJI4vBNibkPcs43bCCSIkn7JBPtCBXRDmD6IWFF51QVRr+Yg==",
            ),
        ] {
            let mut sink = Sink::new(BufWriter::new(tempfile::tempfile().unwrap()), like);
            sink.take(b"x").unwrap();
            assert_eq!(sink.finish().unwrap().as_deref(), Some(digest));
        }
    }
}
