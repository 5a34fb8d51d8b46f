//! Where the blobs of an image are: in a layout as the specification of images has it, a folder or
//! an archive of one.

use std::collections::HashMap;
use std::fs::File;
use std::io::{Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};

use rustix::fs::{Mode, OFlags};

use crate::checked::{BlobDigest, CheckedReader};
use crate::manifest::{BlobDescriptor, DOCUMENT_LIMIT, index_of_manifest};
use crate::problem::{ImageProblem, ImageResult, bad, refused};

/// The list of images of a layout.
const INDEX: &str = "index.json";

/// What a layout is known by.
const MARK: &str = "oci-layout";

/// Something that has the blobs of images.
pub trait Blobs: Sync {
    /// The list of images: the document `index.json`.
    ///
    /// # Errors
    /// When it cannot be had.
    fn index(&self) -> ImageResult<Vec<u8>>;

    /// A blob, to be read from its beginning. Nothing of it is believed yet.
    ///
    /// # Errors
    /// When it is not there.
    fn open(&self, digest: &BlobDigest) -> ImageResult<Box<dyn Read + Send>>;
}

/// A document that a descriptor leads to, checked.
pub(crate) fn document_of(blobs: &dyn Blobs, to: &BlobDescriptor) -> ImageResult<Vec<u8>> {
    let digest = to.blob()?;
    if to.size > DOCUMENT_LIMIT {
        return bad(format!(
            "the document {digest} has {} bytes, more than {DOCUMENT_LIMIT}",
            to.size
        ));
    }
    let mut bytes = Vec::new();
    let mut reader =
        CheckedReader::new(blobs.open(&digest)?, &digest, Some(to.size), DOCUMENT_LIMIT);
    match reader.read_to_end(&mut bytes) {
        Ok(_) => Ok(bytes),
        Err(why) => bad(format!("the document {digest} cannot be used: {why}")),
    }
}

/// A layout in a folder.
pub struct LayoutFolder(PathBuf);

/// A layout in a tar archive that is not compressed.
pub struct LayoutArchive {
    path: PathBuf,
    /// Where each file begins, and its size, in bytes.
    files: HashMap<String, (u64, u64)>,
}

/// Blobs in files, each called by the hexadecimal digits of its digest, and a manifest that is to
/// be theirs.
pub struct BlobFiles {
    manifest: PathBuf,
    digest: BlobDigest,
    index: Vec<u8>,
    blobs: Vec<PathBuf>,
}

impl BlobFiles {
    /// The image that a manifest describes.
    ///
    /// # Errors
    /// When the manifest cannot be read, or is none.
    pub fn of(manifest: &Path, blobs: Vec<PathBuf>) -> ImageResult<BlobFiles> {
        let mut bytes = Vec::new();
        let file = open_regular(manifest).map_err(refused(manifest))?;
        file.take(DOCUMENT_LIMIT + 1)
            .read_to_end(&mut bytes)
            .map_err(refused(manifest))?;
        let digest = BlobDigest::of(&bytes);
        let index = index_of_manifest(&bytes, &digest)?;
        Ok(BlobFiles {
            manifest: manifest.to_owned(),
            digest,
            index,
            blobs,
        })
    }
}

impl Blobs for BlobFiles {
    fn index(&self) -> ImageResult<Vec<u8>> {
        Ok(self.index.clone())
    }

    fn open(&self, digest: &BlobDigest) -> ImageResult<Box<dyn Read + Send>> {
        let digits = digest.parts().1;
        let is_it = |path: &&PathBuf| path.file_name().is_some_and(|name| name == digits);
        let path = if *digest == self.digest {
            Some(&self.manifest)
        } else {
            self.blobs.iter().find(is_it)
        };
        let Some(path) = path else {
            return Err(not_there(digest, "no file is called so"));
        };
        match open_regular(path) {
            Ok(file) => Ok(Box::new(file)),
            Err(why) => Err(not_there(digest, &why.to_string())),
        }
    }
}

/// The layout at a path, whichever it is.
///
/// # Errors
/// When none is there.
pub fn layout_at(path: &Path) -> ImageResult<Box<dyn Blobs>> {
    if path.is_dir() {
        return Ok(Box::new(LayoutFolder::at(path)?));
    }
    Ok(Box::new(LayoutArchive::at(path)?))
}

/// Opens a file, and nothing else: no pipe is waited for, no link is followed.
fn open_regular(path: &Path) -> std::io::Result<File> {
    let flags = OFlags::RDONLY | OFlags::CLOEXEC | OFlags::NONBLOCK | OFlags::NOFOLLOW;
    let file = File::from(rustix::fs::open(path, flags, Mode::empty())?);
    match file.metadata()?.is_file() {
        true => Ok(file),
        false => Err(std::io::Error::new(
            std::io::ErrorKind::InvalidInput,
            "it is no file",
        )),
    }
}

impl LayoutFolder {
    /// The layout in a folder.
    ///
    /// # Errors
    /// When the folder holds none.
    pub fn at(path: &Path) -> ImageResult<LayoutFolder> {
        match path.join(MARK).is_file() && path.join(INDEX).is_file() {
            true => Ok(LayoutFolder(path.to_owned())),
            false => bad(format!(
                "the folder holds no image: a layout has the files {MARK} and {INDEX}"
            )),
        }
    }
}

impl Blobs for LayoutFolder {
    fn index(&self) -> ImageResult<Vec<u8>> {
        let path = self.0.join(INDEX);
        let mut bytes = Vec::new();
        let file = open_regular(&path).map_err(refused(&path))?;
        file.take(DOCUMENT_LIMIT)
            .read_to_end(&mut bytes)
            .map_err(refused(&path))?;
        Ok(bytes)
    }

    fn open(&self, digest: &BlobDigest) -> ImageResult<Box<dyn Read + Send>> {
        let (method, digits) = digest.parts();
        let path = self.0.join("blobs").join(method).join(digits);
        match open_regular(&path) {
            Ok(file) => Ok(Box::new(file)),
            Err(why) => Err(not_there(digest, &why.to_string())),
        }
    }
}

fn not_there(digest: &BlobDigest, why: &str) -> ImageProblem {
    ImageProblem::Image(format!("the blob {digest} is missing: {why}"))
}

impl LayoutArchive {
    /// The layout in an archive.
    ///
    /// # Errors
    /// When it is none, or cannot be read.
    pub fn at(path: &Path) -> ImageResult<LayoutArchive> {
        let mut file = open_regular(path).map_err(refused(path))?;
        let mut head = [0; 6];
        let known = file.read(&mut head).map_err(refused(path))?;
        if head[..known].starts_with(&[0x1f, 0x8b])
            || head[..known].starts_with(&[0x28, 0xb5, 0x2f, 0xfd])
        {
            let why = "the layers in it are compressed on their own";
            return bad(format!(
                "the archive is compressed as a whole, and has to be a plain tar\n{why}"
            ));
        }
        file.seek(SeekFrom::Start(0)).map_err(refused(path))?;
        let mut files = HashMap::new();
        let mut archive = tar::Archive::new(file);
        let damaged =
            |why: std::io::Error| ImageProblem::Image(format!("the archive cannot be read: {why}"));
        for entry in archive.entries_with_seek().map_err(damaged)? {
            let entry = entry.map_err(damaged)?;
            if entry.header().entry_type().is_file()
                && let Ok(name) = entry.path()
            {
                let name = name.to_string_lossy().trim_start_matches("./").to_owned();
                files.insert(name, (entry.raw_file_position(), entry.size()));
            }
        }
        if !files.contains_key(MARK) || !files.contains_key(INDEX) {
            let files = format!("a layout has the files {MARK} and {INDEX}");
            return bad(format!("the archive holds no image: {files}"));
        }
        Ok(LayoutArchive {
            path: path.to_owned(),
            files,
        })
    }

    fn open_file(&self, name: &str) -> std::io::Result<impl Read + Send + 'static> {
        let (from, size) = self.files.get(name).ok_or(std::io::ErrorKind::NotFound)?;
        let mut file = open_regular(&self.path)?;
        file.seek(SeekFrom::Start(*from))?;
        Ok(file.take(*size))
    }
}

impl Blobs for LayoutArchive {
    fn index(&self) -> ImageResult<Vec<u8>> {
        let mut bytes = Vec::new();
        let file = self.open_file(INDEX).map_err(refused(&self.path))?;
        file.take(DOCUMENT_LIMIT)
            .read_to_end(&mut bytes)
            .map_err(refused(&self.path))?;
        Ok(bytes)
    }

    fn open(&self, digest: &BlobDigest) -> ImageResult<Box<dyn Read + Send>> {
        let (method, digits) = digest.parts();
        match self.open_file(&format!("blobs/{method}/{digits}")) {
            Ok(file) => Ok(Box::new(file)),
            Err(why) => Err(not_there(digest, &why.to_string())),
        }
    }
}
