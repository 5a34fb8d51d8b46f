//! Unpacking: files and folders only, never outside of the folder that was asked for.

use std::fs::{self, File, OpenOptions};
use std::io::{self, BufReader, Read};
use std::os::unix::fs::{OpenOptionsExt, PermissionsExt};
use std::path::{Component, Path, PathBuf};

use nubrik_graph::ArchiveFormat;

/// Unpacks an archive into a folder that is there and empty, dropping `strip` leading folders of
/// each name. A link becomes a copy of the file of the archive that it names; one that names none
/// is refused, as is a name that leads out.
///
/// # Errors
/// When the archive is damaged, of another format, holds what cannot be unpacked safely, or grows
/// beyond what an archive of its size may come to ([`largest`]).
pub fn unpack(format: ArchiveFormat, archive: &Path, to: &Path, strip: usize) -> io::Result<()> {
    let file = File::open(archive)?;
    let size = file.metadata()?.len();
    let target = &mut UnpackFolder {
        to,
        strip,
        left: largest(size),
        size,
    };
    let file = BufReader::new(file);
    match format {
        ArchiveFormat::Tar => from_tar(file, target),
        ArchiveFormat::TarGz => from_tar(flate2::read::MultiGzDecoder::new(file), target),
        ArchiveFormat::TarZst => {
            let decoder = zstd::stream::read::Decoder::with_buffer(file)?;
            from_tar(decoder, target)
        }
        ArchiveFormat::Zip => from_zip(file, target),
    }
}

/// To how many bytes an archive of this size may unpack: few hold what is packed to less than a
/// two-hundredth, and one that claims more is most often made to fill a disk.
pub fn largest(size: u64) -> u64 {
    (1u64 << 30).saturating_add(size.saturating_mul(200))
}

/// Where an archive is unpacked to, and how much more may come.
struct UnpackFolder<'a> {
    to: &'a Path,
    strip: usize,
    left: u64,
    size: u64,
}

impl UnpackFolder<'_> {
    fn place(&self, name: &Path) -> io::Result<Option<PathBuf>> {
        place(name, self.to, self.strip)
    }

    /// Copies a file's content, as far as there may be more.
    fn fill(&mut self, from: impl Read, file: &mut File) -> io::Result<()> {
        let copied = io::copy(&mut from.take(self.left.saturating_add(1)), file)?;
        self.left = self.left.checked_sub(copied).ok_or_else(|| {
            let limit = largest(self.size) >> 20;
            damaged(&format!(
                "it unpacks to more than {limit} MiB, from {} bytes",
                self.size
            ))
        })?;
        Ok(())
    }
}

fn damaged(why: &str) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, why.to_owned())
}

/// Where an entry goes; `None` for one that lies in a dropped folder.
fn place(name: &Path, to: &Path, strip: usize) -> io::Result<Option<PathBuf>> {
    let mut parts = Vec::new();
    for component in name.components() {
        match component {
            Component::Normal(part) => parts.push(part),
            Component::CurDir => {}
            _ => {
                return Err(damaged(&format!(
                    "the name {} leads out of the archive",
                    name.display()
                )));
            }
        }
    }
    if parts.len() <= strip {
        return Ok(None);
    }
    Ok(Some(
        parts[strip..]
            .iter()
            .fold(to.to_owned(), |path, part| path.join(part)),
    ))
}

fn new_file(path: &Path, executable: bool) -> io::Result<File> {
    if let Some(folder) = path.parent() {
        fs::create_dir_all(folder)?;
    }
    let mode = if executable { 0o755 } else { 0o644 };
    OpenOptions::new()
        .write(true)
        .create_new(true)
        .mode(mode)
        .open(path)
        .map_err(|e| match e.kind() {
            io::ErrorKind::AlreadyExists => damaged(&format!("{} is there twice", path.display())),
            _ => e,
        })
}

fn from_tar(reader: impl Read, target: &mut UnpackFolder<'_>) -> io::Result<()> {
    let mut archive = tar::Archive::new(reader);
    let mut links = Vec::new();
    for entry in archive.entries()? {
        let mut entry = entry?;
        let name = entry.path()?.into_owned();
        let kind = entry.header().entry_type();
        let Some(path) = target.place(&name)? else {
            continue;
        };
        match kind {
            tar::EntryType::Directory => fs::create_dir_all(&path)?,
            tar::EntryType::Regular | tar::EntryType::Continuous | tar::EntryType::GNUSparse => {
                // A file that comes again is the later one: archives are written on, and all that
                // unpack them read them so.
                // There are no links yet: whatever is there came out of this archive.
                if fs::symlink_metadata(&path).is_ok_and(|found| found.is_file()) {
                    fs::remove_file(&path)?;
                }
                let executable = entry.header().mode()? & 0o100 != 0;
                target.fill(&mut entry, &mut new_file(&path, executable)?)?;
            }
            tar::EntryType::Symlink | tar::EntryType::Link => {
                let leads = entry
                    .link_name()?
                    .map(|t| t.into_owned())
                    .unwrap_or_default();
                // Links name each other, and files that come later: they are looked at when
                // everything is there.
                let from_root = match kind {
                    tar::EntryType::Link => leads.clone(),
                    _ => name.parent().unwrap_or(Path::new("")).join(&leads),
                };
                links.push(ArchiveLink {
                    name,
                    path,
                    leads,
                    from_root,
                });
            }
            tar::EntryType::XGlobalHeader | tar::EntryType::XHeader => {}
            _ => {
                return Err(damaged(&format!(
                    "{} is neither a file nor a folder",
                    name.display()
                )));
            }
        }
    }
    copy_links(links, target)
}

/// A link of an archive.
struct ArchiveLink {
    name: PathBuf,
    /// Where it goes.
    path: PathBuf,
    /// What it names, as it is written.
    leads: PathBuf,
    /// The same from the archive's top on.
    from_root: PathBuf,
}

/// Makes each link a copy of the file that it names in the archive: results hold files only. One
/// may name another.
fn copy_links(mut links: Vec<ArchiveLink>, target: &mut UnpackFolder<'_>) -> io::Result<()> {
    while !links.is_empty() {
        let before = links.len();
        let mut waiting = Vec::new();
        for link in links {
            let place = clean(&link.from_root).and_then(|path| target.place(&path).ok().flatten());
            let Some(source) = place.filter(|s| s.is_file() && *s != link.path) else {
                waiting.push(link);
                continue;
            };
            let from = File::open(&source)?;
            let executable = from.metadata()?.permissions().mode() & 0o100 != 0;
            target.fill(from, &mut new_file(&link.path, executable)?)?;
        }
        if let Some(link) = waiting.first().filter(|_| waiting.len() == before) {
            let (name, leads) = (link.name.display(), link.leads.display());
            return Err(damaged(&format!(
                "the link {name} names no file of the archive: {leads}"
            )));
        }
        links = waiting;
    }
    Ok(())
}

/// A path with `..` taken out; `None` when it leads out.
fn clean(path: &Path) -> Option<PathBuf> {
    let mut parts = Vec::new();
    for component in path.components() {
        match component {
            Component::Normal(part) => parts.push(part),
            Component::CurDir => {}
            Component::ParentDir => drop(parts.pop()?),
            _ => return None,
        }
    }
    Some(parts.iter().collect())
}

fn from_zip(reader: BufReader<File>, target: &mut UnpackFolder<'_>) -> io::Result<()> {
    let mut archive = zip::ZipArchive::new(reader).map_err(|e| damaged(&e.to_string()))?;
    for i in 0..archive.len() {
        let mut entry = archive.by_index(i).map_err(|e| damaged(&e.to_string()))?;
        let name = PathBuf::from(
            entry
                .name()
                .map_err(|e| damaged(&e.to_string()))?
                .into_owned(),
        );
        let Some(path) = target.place(&name)? else {
            continue;
        };
        if entry.is_dir() {
            fs::create_dir_all(&path)?;
        } else if entry.is_symlink() {
            return Err(damaged(&format!("{} is a link", name.display())));
        } else {
            let executable = entry.unix_mode().is_some_and(|m| m & 0o100 != 0);
            target.fill(&mut entry, &mut new_file(&path, executable)?)?;
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn more_than_an_archive_may_come_to_is_refused() {
        let folder = tempfile::tempdir().unwrap();
        let mut target = UnpackFolder {
            to: folder.path(),
            strip: 0,
            left: 10,
            size: 1,
        };
        let mut file = File::create(folder.path().join("file")).unwrap();
        target.fill(&b"1234567"[..], &mut file).unwrap();
        let endless = io::repeat(0);
        assert!(
            target
                .fill(endless, &mut file)
                .unwrap_err()
                .to_string()
                .contains("unpacks to more than")
        );
        assert!(file.metadata().unwrap().len() <= 11);
        assert!(largest(0) >= 1 << 30 && largest(u64::MAX) == u64::MAX);
    }
}
