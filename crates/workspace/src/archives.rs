//! Kits in archives: `nubrik.toml` names them, their digests say what they are, and they are
//! unpacked below `.nubrik/kits`.

use std::io::{self, Read};
use std::sync::Arc;

use nubrik_bytes::{Digest, Encoder};
use nubrik_disk::{Below, OwnFolder, TreeFileKind, entries_below};
use nubrik_graph::Unpacking;
use nubrik_lang::{KITS_FOLDER, KitPlace};
use nubrik_source::WsPath;

/// A kit in an archive.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct KitArchive {
    /// Where it can be had, the first one that answers: addresses, or one path from the workspace's
    /// root.
    pub urls: Vec<Arc<str>>,
    /// Its digest, as it is written.
    pub digest: Arc<str>,
    /// Its format, and how many leading folders of each name are dropped.
    pub unpacking: Unpacking,
}

impl KitArchive {
    /// The path of an archive in the workspace, if it is there and nowhere else.
    pub fn own_file(&self) -> Option<&str> {
        self.urls
            .first()
            .map(|url| &**url)
            .filter(|url| !url.contains("://"))
    }

    /// Whether the network is needed to have it.
    pub fn is_far(&self) -> bool {
        self.urls
            .iter()
            .all(|url| url.starts_with("http://") || url.starts_with("https://"))
    }

    /// The name of the folder into which it is unpacked: another one for other contents.
    pub fn folder(&self, name: &str) -> String {
        let KitArchive {
            urls: _,
            digest,
            unpacking: Unpacking { format, strip },
        } = self;
        let mut out = Encoder::new();
        out.text(digest);
        out.text(format.name());
        out.u32(*strip);
        format!("{name}-{}", &Digest::of(&out.bytes).hex()[..16])
    }

    /// Where its files are, if they are there as they were unpacked. `root` is the workspace's.
    pub fn place(&self, name: &str, root: &Below) -> KitPlace {
        let folder = self.folder(name);
        let mut noted = Vec::new();
        let read = root
            .open_to_read(&noted_path(&folder))
            .and_then(|mut file| file.read_to_end(&mut noted));
        match (read, unpacked(root, &folder)) {
            (Ok(_), Some((found, mut files)))
                if note_of(&found).is_ok_and(|own| noted == own.as_bytes()) =>
            {
                files.retain(|path| !path.contains('/') && path.ends_with(".nub"));
                KitPlace::Here(
                    WsPath::from_normal(&format!("{KITS_FOLDER}/{folder}")),
                    files,
                )
            }
            (Ok(_), Some(_)) => KitPlace::NotHere(
                "its files are not what they were when it was unpacked".to_owned(),
            ),
            _ => KitPlace::NotHere("it was not fetched yet".to_owned()),
        }
    }
}

/// What says of an unpacked folder that the tool unpacked it for this user on this machine: a
/// checkout may bring a folder along, but cannot say that.
///
/// # Errors
/// When there is no place for the secret that this needs.
pub fn note_of(unpacked: &Digest) -> io::Result<String> {
    let mut out = Encoder::new();
    out.digest(&own_secret()?);
    out.digest(unpacked);
    Ok(Digest::of(&out.bytes).hex())
}

/// A secret of this user on this machine, made when it is first wanted.
fn own_secret() -> io::Result<Digest> {
    const FILE: &str = "secret";
    let folder = OwnFolder::State.find()?;
    let problem = |e: io::Error| {
        io::Error::new(
            e.kind(),
            format!("cannot keep a secret in {}: {e}", folder.display()),
        )
    };
    std::fs::create_dir_all(&folder).map_err(problem)?;
    let below = Below::new(&folder).map_err(problem)?;
    let read = || {
        let mut bytes = Vec::new();
        below
            .open_to_read(FILE)
            .and_then(|file| file.take(64).read_to_end(&mut bytes))
            .map(|_| bytes)
    };
    let mut bytes = read().unwrap_or_default();
    if bytes.len() != 32 {
        let random = nubrik_shared::random_bytes().map_err(io::Error::other)?;
        // Who is quicker wins: the file is there whole, or not at all.
        below.keep_private(FILE, &random).map_err(problem)?;
        bytes = read().map_err(problem)?;
    }
    let no_secret =
        |_| io::Error::other(format!("{} holds no secret", folder.join(FILE).display()));
    bytes.try_into().map(Digest).map_err(no_secret)
}

/// Where the digest of an unpacked folder is kept.
pub fn noted_path(folder: &str) -> String {
    format!("{KITS_FOLDER}/{folder}.digest")
}

/// The digest of all files of an unpacked kit with their paths, and these; `None` where they cannot
/// be read.
pub fn unpacked(root: &Below, folder: &str) -> Option<(Digest, Vec<String>)> {
    let top = format!("{KITS_FOLDER}/{folder}");
    let mut out = Encoder::new();
    let mut paths = Vec::new();
    for entry in entries_below(&root.folder(&top).ok()?).ok()? {
        out.text(&entry.path);
        match entry.kind {
            TreeFileKind::Link(target) => out.text(&target),
            TreeFileKind::EmptyFolder => out.u32(0),
            TreeFileKind::File => {
                let mut bytes = Vec::new();
                let mut file = root.open_to_read(&format!("{top}/{}", entry.path)).ok()?;
                file.read_to_end(&mut bytes).ok()?;
                out.digest(&Digest::of(&bytes));
            }
            TreeFileKind::Odd(_) => return None,
        }
        paths.push(entry.path);
    }
    Some((Digest::of(&out.bytes), paths))
}
