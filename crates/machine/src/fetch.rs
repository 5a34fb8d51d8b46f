//! Fetching by digest: what comes is compared with it before anything else is done with it.

use std::fmt;
use std::fs::File;
use std::io::{self, BufWriter, Write};
use std::path::Path;
use std::sync::Arc;

use nubrik_archive::listing_digest;
use nubrik_confine::CancelSwitch;
use nubrik_engine::WorkProblem;
use nubrik_pins::{Desk, PinProblem, Registry, held_archive};
use nubrik_web::{Address, AddressProblem, Checksum, Credential, Sink, Trouble, WebRequest};

use crate::web_access::WebAccess;

/// The most that is fetched, in bytes.
const LIMIT: u64 = 64 << 30;

/// A file into which something is fetched.
pub(crate) struct FetchTarget<'a> {
    /// Makes it again, empty.
    pub fresh: &'a dyn Fn() -> io::Result<File>,
    /// Where it is.
    pub path: &'a Path,
}

/// What fetching needs of the machine.
pub(crate) struct Fetcher<'a> {
    /// The workspace's root.
    pub root: &'a Path,
    pub web: &'a WebAccess,
    pub cancel: &'a CancelSwitch,
}

impl Fetcher<'_> {
    /// Whether what has a digest is on this machine at a place from which it is to be fetched.
    pub(crate) fn is_near(&self, place: &str, digest: &str) -> bool {
        let Some(place) = place.strip_prefix(ORIGIN) else {
            return place.starts_with("file://");
        };
        let parts = place
            .split_once('/')
            .and_then(|(name, path)| Some((Registry::named(name)?, path)));
        let Some((registry, path)) = parts else {
            return false;
        };
        held_archive(self.root, digest).is_some()
            || self.web.origins().near(registry, path).is_some()
    }
}

/// What begins an address that is a path below a registry, wherever that is:
/// `origin://python/click/click-8.1.7.whl`.
const ORIGIN: &str = "origin://";

/// Fetches what has a digest from the first mirror that has it, into a file that is made again for
/// each.
///
/// # Errors
/// What each mirror said, and both digests where one gave something else.
pub(crate) fn fetch(
    fetcher: &Fetcher<'_>,
    urls: &[Arc<str>],
    digest: &str,
    target: &FetchTarget<'_>,
) -> Result<(), WorkProblem> {
    let (mut said, mut is_another) = (Vec::new(), false);
    for url in urls {
        match fetch_from(fetcher, url, digest, target) {
            Ok(()) => return Ok(()),
            Err(trouble) => {
                is_another |= matches!(trouble, MirrorTrouble::Another { .. });
                said.push(trouble.to_string());
            }
        }
        if fetcher.cancel.is_thrown() {
            break;
        }
    }
    Err(WorkProblem::NotFetched { said, is_another })
}

/// Why one mirror did not give what has the digest. Its text is for people.
enum MirrorTrouble {
    /// The definition's address cannot be read.
    Unreadable(AddressProblem),
    /// It is below a registry that does not exist, of this address.
    NoRegistry(String),
    /// The place below a registry is not known.
    Unlocated(PinProblem),
    /// It did not come from an address.
    NotCopied(Address, Trouble),
    /// It could not be kept or read on this machine.
    NotKept(Address, io::Error),
    /// An address gave something else, of another digest.
    Another {
        at: Address,
        wanted: String,
        found: String,
    },
}

impl fmt::Display for MirrorTrouble {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            MirrorTrouble::Unreadable(problem) => write!(f, "an address: {problem}"),
            MirrorTrouble::NoRegistry(url) => write!(f, "{url}: there is no such registry"),
            MirrorTrouble::Unlocated(PinProblem {
                message,
                notes,
                mends,
            }) => {
                f.write_str(message)?;
                notes.iter().try_for_each(|note| write!(f, "\n  {note}"))?;
                mends.iter().try_for_each(|mend| {
                    write!(f, "\ntry     {}", mend.replace('\n', "\n        "))
                })
            }
            MirrorTrouble::NotCopied(at, trouble) => write!(f, "{at}: {trouble}"),
            MirrorTrouble::NotKept(at, error) => write!(f, "{at}: {error}"),
            MirrorTrouble::Another { at, wanted, found } => {
                write!(
                    f,
                    "{at}: digest mismatch\n  wanted  {wanted}\n  found   {found}"
                )
            }
        }
    }
}

fn fetch_from(
    fetcher: &Fetcher<'_>,
    url: &str,
    digest: &str,
    target: &FetchTarget<'_>,
) -> Result<(), MirrorTrouble> {
    let (address, credential) = match url.strip_prefix(ORIGIN) {
        Some(place) => {
            match held_archive(fetcher.root, digest).and_then(|path| Address::of_file(&path)) {
                Some(held) => (held, None),
                None => of_registry(fetcher, place)?,
            }
        }
        // What cannot be read as an address may hold a password.
        None => Address::parse(url).map_err(MirrorTrouble::Unreadable)?,
    };
    let request = WebRequest {
        credential,
        limit: LIMIT,
        ..WebRequest::new(address)
    };
    take(fetcher, &request, digest, target)
}

/// Where a registry has what is at a path below it.
fn of_registry(
    fetcher: &Fetcher<'_>,
    place: &str,
) -> Result<(Address, Option<Credential>), MirrorTrouble> {
    let parts = place
        .split_once('/')
        .and_then(|(name, path)| Some((Registry::named(name)?, path)));
    let Some((registry, path)) = parts else {
        return Err(MirrorTrouble::NoRegistry(format!("{ORIGIN}{place}")));
    };
    let stopped = || fetcher.cancel.is_thrown();
    let located = fetcher.web.bound_packages().and_then(|bound| {
        let asked = (fetcher.web.client(), fetcher.web.origins());
        Desk::new(asked, bound, fetcher.root, &stopped, &|_| {}).locate(registry, path)
    });
    located.map_err(MirrorTrouble::Unlocated)
}

fn take(
    fetcher: &Fetcher<'_>,
    request: &WebRequest,
    digest: &str,
    target: &FetchTarget<'_>,
) -> Result<(), MirrorTrouble> {
    let at = || request.address.clone();
    let not_kept = |error| MirrorTrouble::NotKept(at(), error);
    let mut sink = FileSink::new(target.fresh, digest).map_err(not_kept)?;
    let stopped = || fetcher.cancel.is_thrown();
    let copied = fetcher.web.client().copy(request, &mut sink, &stopped);
    copied.map_err(|trouble| MirrorTrouble::NotCopied(at(), trouble))?;
    let found = match sink.finish().map_err(not_kept)? {
        Some(found) => found,
        None => format!("h1:{}", listing_digest(target.path).map_err(not_kept)?),
    };
    if found == digest {
        return Ok(());
    }
    Err(MirrorTrouble::Another {
        at: at(),
        wanted: digest.to_owned(),
        found,
    })
}

/// Writes what comes, and computes its digest by the same method as the one that is wanted.
struct FileSink<'a> {
    fresh: &'a dyn Fn() -> io::Result<File>,
    file: BufWriter<File>,
    like: &'a str,
    /// And whether it is wanted in base64; `None` where it is of the files in the archive, and
    /// computed in the end.
    sum: Option<(Checksum, bool)>,
}

impl<'a> FileSink<'a> {
    fn new(fresh: &'a dyn Fn() -> io::Result<File>, like: &'a str) -> io::Result<FileSink<'a>> {
        Ok(FileSink {
            fresh,
            file: BufWriter::new(fresh()?),
            like,
            sum: Checksum::like(like),
        })
    }

    /// The digest of all that came; `None` if it is not one of the bytes.
    fn finish(mut self) -> io::Result<Option<String>> {
        self.file.flush()?;
        Ok(self.sum.map(|(sum, in_base64)| sum.written(in_base64)))
    }
}

impl Sink for FileSink<'_> {
    fn take(&mut self, piece: &[u8]) -> io::Result<()> {
        if let Some((sum, _)) = &mut self.sum {
            sum.take(piece);
        }
        self.file.write_all(piece)
    }

    fn restart(&mut self) -> io::Result<()> {
        self.file = BufWriter::new((self.fresh)()?);
        self.sum = Checksum::like(self.like);
        Ok(())
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use super::*;

    /// A digest of the kind that is wanted, of nothing that is there.
    const NOWHERE: &str = "sha256:0000000000000000000000000000000000000000000000000000000000000000";

    /// Fetches into a file; gives what is in it, or what each mirror said.
    fn fetched(urls: &[&str], digest: &str, cancel: &CancelSwitch) -> Result<Vec<u8>, Vec<String>> {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        std::fs::write(at("ebb"), "ebb\n").unwrap();
        std::fs::write(at("flow"), "flow\n").unwrap();
        let urls: Vec<Arc<str>> = urls
            .iter()
            .map(|url| {
                Arc::from(url.replace("HERE", &format!("file://{}", folder.path().display())))
            })
            .collect();
        let web = WebAccess::new(folder.path());
        let fetcher = Fetcher {
            root: folder.path(),
            web: &web,
            cancel,
        };
        let target = FetchTarget {
            fresh: &|| File::create(at("taken")),
            path: &at("taken"),
        };
        match fetch(&fetcher, &urls, digest, &target) {
            Ok(()) => Ok(std::fs::read(at("taken")).unwrap()),
            Err(WorkProblem::NotFetched { said, is_another }) => {
                assert_eq!(
                    is_another,
                    said.iter().any(|line| line.contains("digest mismatch")),
                    "{said:?}"
                );
                let here = folder.path().display().to_string();
                Err(said
                    .iter()
                    .map(|line| line.replace(&here, "HERE"))
                    .collect())
            }
            Err(other) => panic!("{other}"),
        }
    }

    fn digest_of(bytes: &[u8]) -> String {
        let mut sum = Checksum::like(NOWHERE).unwrap();
        sum.0.take(bytes);
        sum.0.written(sum.1)
    }

    #[test]
    fn the_first_mirror_that_has_it_is_taken() {
        let ebb = digest_of(b"ebb\n");
        let go_on = CancelSwitch::new().unwrap();
        let taken = |urls: &[&str]| fetched(urls, &ebb, &go_on);
        assert_eq!(taken(&["HERE/ebb"]).unwrap(), b"ebb\n");
        // What another one gave leaves nothing behind.
        assert_eq!(
            taken(&["HERE/none", "HERE/flow", "HERE/ebb"]).unwrap(),
            b"ebb\n"
        );
    }

    #[test]
    fn each_mirror_that_has_it_not_says_why() {
        let ebb = digest_of(b"ebb\n");
        let go_on = CancelSwitch::new().unwrap();
        let said = fetched(
            &["HERE/none", "HERE/flow", "origin://tides/a.tgz"],
            &ebb,
            &go_on,
        )
        .unwrap_err();
        assert_eq!(said.len(), 3);
        assert!(said[0].starts_with("file://HERE/none: "), "{said:?}");
        let found = digest_of(b"flow\n");
        let mismatch =
            format!("file://HERE/flow: digest mismatch\n  wanted  {ebb}\n  found   {found}");
        assert_eq!(said[1], mismatch);
        assert_eq!(said[2], "origin://tides/a.tgz: there is no such registry");
    }

    #[test]
    fn an_address_that_cannot_be_read_is_not_shown() {
        let go_on = CancelSwitch::new().unwrap();
        for url in ["ftp://ann:low-water@x/a", "ann:low-water@x"] {
            let said = fetched(&[url], NOWHERE, &go_on).unwrap_err();
            assert!(
                said[0].starts_with("an address: ") && !said[0].contains("low-water"),
                "{said:?}"
            );
        }
    }

    #[test]
    fn who_stops_is_asked_nothing_more() {
        let stopped = CancelSwitch::new().unwrap();
        stopped.throw();
        let said = fetched(&["HERE/none", "HERE/ebb"], &digest_of(b"ebb\n"), &stopped).unwrap_err();
        assert_eq!(said.len(), 1);
    }
}
