//! What is asked of registries in one run: each document once, each archive compared with its
//! digest.

use std::collections::{BTreeMap, HashMap};
use std::fs::File;
use std::io::{self, BufWriter, Read, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use base64::prelude::*;
use nubrik_disk::{Below, open_file};
use nubrik_web::{
    Address, Checksum, ChecksumMethod, Client, Credential, Document, Sink, Trouble, WebRequest,
};
use parking_lot::Mutex;

use crate::bindings::{Bindings, BoundPackages};
use crate::file::Shelf;
use crate::locked::LockedVersions;
use crate::origin::Origin;
use crate::origins::Origins;
use crate::{PinProblem, Registry};

/// The most that an archive may hold, in bytes.
const ARCHIVE_LIMIT: u64 = 16 << 30;

/// How many archives are fetched at once.
pub(crate) const AT_ONCE: usize = 16;

/// Below a workspace, where archives are kept that were fetched to look into them.
pub const ARCHIVES_FOLDER: &str = ".nubrik/archives";

/// A document, and which origin it is from.
#[derive(Clone, Debug)]
pub(crate) struct Page {
    pub document: Document,
    pub origin: Origin,
}

/// An archive that is here.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct HeldArchive {
    /// Where.
    pub path: PathBuf,
    /// Its digest by a strong function.
    pub digest: String,
    /// Its size in bytes.
    pub size: u64,
}

/// What is known of an archive that is pinned already.
#[derive(Clone, Debug)]
pub(crate) struct PinnedArchive {
    pub digest: String,
    /// What was found out about what is in it.
    pub facts: BTreeMap<String, String>,
}

/// An archive that is wanted.
#[derive(Clone, Debug)]
pub(crate) struct WantedArchive {
    /// What it is, for people: `click 8.1.7`.
    pub what: String,
    pub address: Address,
    pub credential: Option<Credential>,
    /// As it is published, by whatever function.
    pub digest: Option<String>,
    /// As it is published.
    pub size: Option<u64>,
}

/// What is said while registries are asked.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum DeskNews {
    /// A document was read.
    Asked {
        /// From which registry.
        registry: Registry,
        /// Of what, such as the name of a package.
        what: String,
    },
    /// An archive is being fetched.
    Fetching {
        /// Which.
        what: String,
        /// Its size in bytes, if the registry says it.
        size: Option<u64>,
    },
    /// A release is not taken, though it is the one to take: something that it needs is not there.
    PassedOver {
        /// Its name and version.
        release: String,
        /// What it needs, as it asks for it.
        needs: String,
    },
}

/// Documents by where they are below a registry; `None` where nothing is.
type Pages = HashMap<(Registry, String), Option<Arc<Page>>>;

/// Asks registries.
pub struct Desk<'a> {
    client: &'a Client,
    origins: &'a Origins,
    pub(crate) archives: PathBuf,
    stopped: &'a (dyn Fn() -> bool + Sync),
    tell: &'a (dyn Fn(DeskNews) + Sync),
    pages: Mutex<Pages>,
    pub(crate) bindings: Bindings,
    /// Archives that are pinned already, by registry and path.
    known: Mutex<HashMap<(Registry, String), PinnedArchive>>,
    pub(crate) root: PathBuf,
    /// What the workspace's own clients locked, by registry, once somebody asked.
    locked: Mutex<HashMap<Registry, Arc<LockedVersions>>>,
}

impl<'a> Desk<'a> {
    /// A desk that keeps archives below a workspace's root, and asks for packages at the origins to
    /// which they are bound.
    pub fn new(
        (client, origins): (&'a Client, &'a Origins),
        bound: Arc<BoundPackages>,
        root: &Path,
        stopped: &'a (dyn Fn() -> bool + Sync),
        tell: &'a (dyn Fn(DeskNews) + Sync),
    ) -> Desk<'a> {
        let archives = root.join(ARCHIVES_FOLDER);
        Desk {
            client,
            origins,
            archives,
            stopped,
            tell,
            pages: Mutex::default(),
            bindings: Bindings::new(bound),
            known: Mutex::default(),
            root: root.to_owned(),
            locked: Mutex::default(),
        }
    }

    /// What lock files in the workspace say of a registry.
    ///
    /// # Errors
    /// When one in its root cannot be read.
    pub fn locked(&self, registry: Registry) -> Result<Arc<LockedVersions>, PinProblem> {
        if let Some(known) = self.locked.lock().get(&registry) {
            return Ok(known.clone());
        }
        let found = Arc::new(LockedVersions::below(&self.root, registry)?);
        self.locked.lock().insert(registry, found.clone());
        Ok(found)
    }

    /// Takes the digests of what is pinned already: a registry that has another archive of such a
    /// version has changed it.
    pub(crate) fn know(&self, registry: Registry, shelf: &Shelf) {
        let mut known = self.known.lock();
        for pin in shelf.pins.values() {
            self.bindings.know(registry, pin);
            for archive in &pin.archives {
                let pinned = PinnedArchive {
                    digest: archive.digest.clone(),
                    facts: pin.facts.clone(),
                };
                known.insert((registry, archive.path.clone()), pinned);
            }
        }
    }

    /// An archive that is pinned already.
    pub(crate) fn known_archive(&self, registry: Registry, path: &str) -> Option<PinnedArchive> {
        let known = self.known.lock();
        known.get(&(registry, path.to_owned())).cloned()
    }

    /// A fact of something that is pinned already, by how it begins.
    pub(crate) fn known_fact(
        &self,
        registry: Registry,
        fact: &str,
        begins: &str,
    ) -> Option<String> {
        let known = self.known.lock();
        let facts = known
            .iter()
            .filter(|(of, _)| of.0 == registry)
            .filter_map(|(_, pin)| pin.facts.get(fact));
        facts
            .into_iter()
            .find(|value| value.starts_with(begins))
            .cloned()
    }

    /// The pattern by which a module of Go is kept from proxies.
    pub(crate) fn keeps_private(&self, module: &str) -> Option<&str> {
        self.origins.private_modules.pattern(module)
    }

    /// The file of a path, in a folder that is an origin.
    pub(crate) fn near(&self, registry: Registry, path: &str) -> Option<Address> {
        self.origins.near(registry, path)
    }

    /// The addresses of a registry.
    pub(crate) fn origins(&self, registry: Registry) -> Result<Vec<Origin>, PinProblem> {
        self.origins.of(registry)
    }

    /// A document of one origin, such as what it says of itself; `None` if it has none.
    pub(crate) fn page_at(
        &self,
        registry: Registry,
        origin: &Origin,
        path: &str,
    ) -> Result<Option<Arc<Page>>, PinProblem> {
        let Some(address) = origin.address.below(path) else {
            return Err(PinProblem::new(format!(
                "`{path}` is no path below a registry"
            )));
        };
        let key = (registry, address.to_string());
        if let Some(known) = self.pages.lock().get(&key) {
            return Ok(known.clone());
        }
        let found = self.ask(registry, origin, (&address, None))?.map(Arc::new);
        self.pages.lock().insert(key, found.clone());
        Ok(found)
    }

    fn ask(
        &self,
        registry: Registry,
        origin: &Origin,
        (address, accept): (&Address, Option<&str>),
    ) -> Result<Option<Page>, PinProblem> {
        let request = WebRequest {
            credential: origin.credential.clone(),
            accept: accept.map(str::to_owned),
            compressed: true,
            ..WebRequest::new(address.clone())
        };
        match self.client.document(&request, self.stopped) {
            Ok(document) => Ok(Some(Page {
                document,
                origin: origin.clone(),
            })),
            Err(Trouble::NotThere) => Ok(None),
            Err(trouble) => Err(unreachable(registry, address, origin, &trouble)),
        }
    }

    /// The origins that may be asked for a package.
    pub(crate) fn origins_for(
        &self,
        registry: Registry,
        package: &str,
    ) -> Result<Vec<Origin>, PinProblem> {
        let mirror = self.origins.mirror.as_deref();
        self.bindings
            .origins(registry, package, (self.origins(registry)?, mirror))
    }

    /// Says that a release is not taken because something that it needs is not there.
    pub(crate) fn pass_over(&self, release: String, needs: String) {
        (self.tell)(DeskNews::PassedOver { release, needs });
    }

    /// A document of a registry that says something of a package, from the first origin that has
    /// it. It is asked for once.
    pub(crate) fn page(
        &self,
        registry: Registry,
        path: &str,
        accept: Option<&str>,
        package: &str,
    ) -> Result<Option<Arc<Page>>, PinProblem> {
        let key = (registry, path.to_owned());
        if let Some(known) = self.pages.lock().get(&key) {
            return Ok(known.clone());
        }
        (self.tell)(DeskNews::Asked {
            registry,
            what: package.to_owned(),
        });
        let mut found = None;
        for origin in self.origins_for(registry, package)? {
            let Some(address) = origin.address.below(path) else {
                return Err(PinProblem::new(format!(
                    "`{path}` is no path below a registry"
                )));
            };
            if let Some(page) = self.ask(registry, &origin, (&address, accept))? {
                self.bindings.given(registry, package, &origin);
                found = Some(Arc::new(page));
                break;
            }
        }
        self.pages.lock().insert(key, found.clone());
        Ok(found)
    }

    /// The page of a site.
    pub(crate) fn site_page(&self, origin: &Origin) -> Result<Document, Trouble> {
        let credential = origin.credential.clone();
        let request = WebRequest {
            credential,
            compressed: true,
            ..WebRequest::new(origin.address.clone())
        };
        self.client.document(&request, self.stopped)
    }

    /// A small document at an address, such as the metadata beside an archive; `None` if nothing is
    /// there.
    pub(crate) fn beside(
        &self,
        registry: Registry,
        address: &Address,
        origin: &Origin,
    ) -> Result<Option<Vec<u8>>, PinProblem> {
        let request = WebRequest {
            credential: origin
                .credential
                .clone()
                .filter(|_| address.host() == origin.address.host()),
            compressed: true,
            ..WebRequest::new(address.clone())
        };
        match self.client.document(&request, self.stopped) {
            Ok(document) => Ok(Some(document.bytes)),
            Err(Trouble::NotThere) => Ok(None),
            Err(trouble) => Err(unreachable(registry, address, origin, &trouble)),
        }
    }

    /// An archive, compared with what is published of it before anything else is done with it. It
    /// is kept, so that it is fetched once.
    pub(crate) fn archive(&self, wanted: &WantedArchive) -> Result<HeldArchive, PinProblem> {
        let cannot = |e: io::Error| PinProblem::new(format!("cannot keep {}: {e}", wanted.what));
        if let Some(digest) = wanted.digest.as_ref().filter(|digest| is_strong(digest))
            && let Some(size) = held(&self.archives, digest)
        {
            return Ok(HeldArchive {
                path: self.archives.join(held_name(digest)),
                digest: digest.clone(),
                size,
            });
        }
        // Nothing that a checkout brings along is in the way, a link to somebody's folder neither.
        let kept = Below::new(&self.root)
            .and_then(|root| root.made_folder(ARCHIVES_FOLDER))
            .map(Below::of);
        let kept = kept.map_err(cannot)?;
        (self.tell)(DeskNews::Fetching {
            what: wanted.what.clone(),
            size: wanted.size,
        });
        let part = format!(
            "{}.part",
            held_name(&Checksum::of(
                ChecksumMethod::Sha256,
                wanted.address.as_sent().as_bytes()
            ))
        );
        let request = WebRequest {
            credential: wanted.credential.clone(),
            limit: wanted.size.unwrap_or(ARCHIVE_LIMIT),
            ..WebRequest::new(wanted.address.clone())
        };
        let came = self.fetch_into(wanted, &request, (&kept, &part));
        let done = came.and_then(|(digest, size)| {
            let name = held_name(&digest);
            kept.rename(&part, &name).map_err(cannot)?;
            Ok(HeldArchive {
                path: self.archives.join(name),
                digest,
                size,
            })
        });
        if done.is_err() {
            // What it holds is not what was wanted.
            let _ = kept.remove(&part);
        }
        done
    }

    fn fetch_into(
        &self,
        wanted: &WantedArchive,
        request: &WebRequest,
        (kept, part): (&Below, &str),
    ) -> Result<(String, u64), PinProblem> {
        let wrong = |what: String| {
            PinProblem::new(format!("{}: {what}", wanted.what))
                .note(format!("from {}", wanted.address))
        };
        let mut sink = ArchiveSink::new(kept, part, wanted.digest.as_deref())
            .map_err(|e| wrong(e.to_string()))?;
        self.client
            .copy(request, &mut sink, self.stopped)
            .map_err(|trouble| wrong(trouble.to_string()))?;
        let (found, strong, size) = sink.finish().map_err(|e| wrong(e.to_string()))?;
        if let Some(expected) = wanted.size.filter(|expected| *expected != size) {
            return Err(wrong(format!(
                "it has {size} bytes, and its registry says {expected}"
            )));
        }
        match (&wanted.digest, found) {
            (Some(published), Some(found)) if *published != found => Err(wrong(
                "its digest is not the one that its registry says".to_owned(),
            )
            .note(format!("published  {published}"))
            .note(format!("found      {found}"))),
            (Some(published), None) => {
                let method = published.split(':').next().unwrap_or_default();
                Err(wrong(format!(
                    "its registry publishes a digest by `{method}`, which cannot be compared"
                )))
            }
            (Some(published), Some(_)) if is_strong(published) => Ok((published.clone(), size)),
            _ => Ok((strong, size)),
        }
    }

    /// Removes kept archives that have none of these digests.
    pub fn forget_others<'d>(&self, digests: impl Iterator<Item = &'d str>) {
        let names: Vec<String> = digests.map(held_name).collect();
        // Where a link is in its place the folder is somebody else's, with all that it holds.
        let Ok(folder) = Below::new(&self.root).and_then(|root| root.folder(ARCHIVES_FOLDER))
        else {
            return;
        };
        let kept = nubrik_disk::names_in(&folder).unwrap_or_default();
        let folder = Below::of(folder);
        for name in kept.iter().filter(|name| !names.contains(name)) {
            // What cannot be removed takes room, and nothing else.
            let _ = folder.remove(name);
        }
    }
}

/// Fetches archives, several at once.
pub(crate) fn held_archives(
    desk: &Desk<'_>,
    wanted: &[WantedArchive],
) -> Result<Vec<HeldArchive>, PinProblem> {
    let mut held = Vec::new();
    for some in wanted.chunks(AT_ONCE) {
        let found: Vec<_> = std::thread::scope(|scope| {
            let asked: Vec<_> = some
                .iter()
                .map(|one| scope.spawn(move || desk.archive(one)))
                .collect();
            asked.into_iter().map(|asking| asking.join()).collect()
        });
        for one in found {
            held.push(one.map_err(|_| PinProblem::new("fetching an archive broke off"))??);
        }
    }
    Ok(held)
}

fn unreachable(
    registry: Registry,
    address: &Address,
    origin: &Origin,
    trouble: &Trouble,
) -> PinProblem {
    let problem = PinProblem::new(format!("cannot ask the registry `{registry}`: {trouble}"))
        .note(format!("asked {address}"))
        .note(format!("its address comes from {}", origin.said_by));
    match trouble {
        Trouble::Refused(_) => problem.mend(format!(
            "{registry} = {{ url = \"…\", secret = \"VARIABLE\" }}   below [origins] in nubrik.toml"
        )),
        Trouble::Failed(what) if what.starts_with("its certificate") => {
            problem.mend("certificates = \"FILE.pem\"   below [origins] in nubrik.toml")
        }
        _ => problem,
    }
}

/// Whether a digest is by a function that nobody can cheat.
pub(crate) fn is_strong(digest: &str) -> bool {
    digest.starts_with("sha256:") || digest.starts_with("sha512:")
}

/// The hexadecimal digits of the value of a digest, which may be written in base64; `None` if it is
/// neither.
pub fn hex_of(value: &str) -> Option<String> {
    if value.chars().all(|c| c.is_ascii_hexdigit()) {
        return Some(value.to_owned());
    }
    let bytes = BASE64_STANDARD.decode(value).ok()?;
    Some(bytes.iter().map(|byte| format!("{byte:02x}")).collect())
}

/// The name of a kept archive.
pub(crate) fn held_name(digest: &str) -> String {
    // Base64 has `/` in it.
    digest.replace(':', "-").replace('/', "_")
}

/// The size of a kept archive with a digest, if its bytes still have it.
pub(crate) fn held(folder: &Path, digest: &str) -> Option<u64> {
    has_digest(&folder.join(held_name(digest)), digest)
}

/// The size of a file, if its bytes have a digest.
pub(crate) fn has_digest(path: &Path, digest: &str) -> Option<u64> {
    let mut file = open_file(path).ok()?;
    let (mut sum, in_base64) = Checksum::like(digest)?;
    let mut buffer = vec![0; 128 << 10];
    let mut size = 0;
    loop {
        match file.read(&mut buffer) {
            Ok(0) => return (sum.written(in_base64) == digest).then_some(size),
            Ok(count) => {
                sum.take(&buffer[..count]);
                size += count as u64;
            }
            Err(e) if e.kind() == io::ErrorKind::Interrupted => {}
            Err(_) => return None,
        }
    }
}

/// A kept archive of a workspace with a digest, if it is whole.
pub fn held_archive(root: &Path, digest: &str) -> Option<PathBuf> {
    let folder = root.join(ARCHIVES_FOLDER);
    held(&folder, digest).map(|_| folder.join(held_name(digest)))
}

/// Writes an archive, and computes its digests: the published kind, and a strong one.
struct ArchiveSink<'a> {
    kept: &'a Below,
    part: &'a str,
    published: Option<&'a str>,
    file: BufWriter<File>,
    sum: Option<(Checksum, bool)>,
    strong: Checksum,
    size: u64,
}

impl<'a> ArchiveSink<'a> {
    fn new(
        kept: &'a Below,
        part: &'a str,
        published: Option<&'a str>,
    ) -> io::Result<ArchiveSink<'a>> {
        Ok(ArchiveSink {
            kept,
            part,
            published,
            file: BufWriter::new(kept.fresh_file(part, 0o644)?),
            sum: published.and_then(Checksum::like),
            strong: Checksum::new(ChecksumMethod::Sha256),
            size: 0,
        })
    }

    fn finish(mut self) -> io::Result<(Option<String>, String, u64)> {
        self.file.flush()?;
        Ok((
            self.sum.map(|(sum, in_base64)| sum.written(in_base64)),
            self.strong.written(false),
            self.size,
        ))
    }
}

impl Sink for ArchiveSink<'_> {
    fn take(&mut self, piece: &[u8]) -> io::Result<()> {
        if let Some((sum, _)) = &mut self.sum {
            sum.take(piece);
        }
        self.strong.take(piece);
        self.size += piece.len() as u64;
        self.file.write_all(piece)
    }

    fn restart(&mut self) -> io::Result<()> {
        *self = ArchiveSink::new(self.kept, self.part, self.published)?;
        Ok(())
    }
}
