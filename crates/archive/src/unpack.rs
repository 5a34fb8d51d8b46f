//! Unpacking: files and folders only, never outside of the folder that was asked for.

use std::fs::{self, File, OpenOptions};
use std::io::{self, BufReader, Read};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Component, Path, PathBuf};

use nubrik_graph::ArchiveFormat;

/// Unpacks an archive into a folder that is there and empty, dropping `strip` leading folders of each
/// name. Links inside the archive become copies of nothing: they are refused, as is a name that leads out.
///
/// # Errors
/// When the archive is damaged, of another format, or holds what cannot be unpacked safely.
pub fn unpack(format: ArchiveFormat, archive: &Path, to: &Path, strip: usize) -> io::Result<()> {
    let file = BufReader::new(File::open(archive)?);
    match format {
        ArchiveFormat::Tar => from_tar(file, to, strip),
        ArchiveFormat::TarGz => from_tar(flate2::read::MultiGzDecoder::new(file), to, strip),
        ArchiveFormat::TarZst => {
            let decoder = ruzstd::decoding::StreamingDecoder::new(file)
                .map_err(|e| damaged(&format!("it is not Zstandard: {e}")))?;
            from_tar(decoder, to, strip)
        }
        ArchiveFormat::Zip => from_zip(file, to, strip),
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
            _ => return Err(damaged(&format!("the name {} leads out of the archive", name.display()))),
        }
    }
    if parts.len() <= strip {
        return Ok(None);
    }
    Ok(Some(parts[strip..].iter().fold(to.to_owned(), |path, part| path.join(part))))
}

fn new_file(path: &Path, executable: bool) -> io::Result<File> {
    if let Some(folder) = path.parent() {
        fs::create_dir_all(folder)?;
    }
    let mode = if executable { 0o755 } else { 0o644 };
    OpenOptions::new().write(true).create_new(true).mode(mode).open(path).map_err(|e| match e.kind() {
        io::ErrorKind::AlreadyExists => damaged(&format!("{} is there twice", path.display())),
        _ => e,
    })
}

fn from_tar(reader: impl Read, to: &Path, strip: usize) -> io::Result<()> {
    let mut archive = tar::Archive::new(reader);
    let mut links = Vec::new();
    for entry in archive.entries()? {
        let mut entry = entry?;
        let name = entry.path()?.into_owned();
        let kind = entry.header().entry_type();
        let Some(path) = place(&name, to, strip)? else { continue };
        match kind {
            tar::EntryType::Directory => fs::create_dir_all(&path)?,
            tar::EntryType::Regular | tar::EntryType::Continuous | tar::EntryType::GNUSparse => {
                let executable = entry.header().mode()? & 0o100 != 0;
                io::copy(&mut entry, &mut new_file(&path, executable)?)?;
            }
            tar::EntryType::Symlink | tar::EntryType::Link => {
                let target = entry.link_name()?.map(|t| t.into_owned()).unwrap_or_default();
                links.push((name, path, target, kind));
            }
            tar::EntryType::XGlobalHeader | tar::EntryType::XHeader => {}
            _ => return Err(damaged(&format!("{} is neither a file nor a folder", name.display()))),
        }
    }
    links.into_iter().try_for_each(|(name, path, target, kind)| {
        // A link becomes a copy of what it names in the archive: results hold files only.
        let from_root = match kind {
            tar::EntryType::Link => target.clone(),
            _ => name.parent().unwrap_or(Path::new("")).join(&target),
        };
        let clean = clean(&from_root).and_then(|p| place(&p, to, strip).ok().flatten());
        let source = clean.filter(|s| s.is_file()).ok_or_else(|| {
            damaged(&format!(
                "the link {} names nothing in the archive: {}",
                name.display(),
                target.display()
            ))
        })?;
        if let Some(folder) = path.parent() {
            fs::create_dir_all(folder)?;
        }
        fs::copy(source, path).map(drop)
    })
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

fn from_zip(reader: BufReader<File>, to: &Path, strip: usize) -> io::Result<()> {
    let mut archive = zip::ZipArchive::new(reader).map_err(|e| damaged(&e.to_string()))?;
    for i in 0..archive.len() {
        let mut entry = archive.by_index(i).map_err(|e| damaged(&e.to_string()))?;
        let name = PathBuf::from(entry.name().map_err(|e| damaged(&e.to_string()))?.into_owned());
        let Some(path) = place(&name, to, strip)? else { continue };
        if entry.is_dir() {
            fs::create_dir_all(&path)?;
        } else if entry.is_symlink() {
            return Err(damaged(&format!("{} is a link", name.display())));
        } else {
            let executable = entry.unix_mode().is_some_and(|m| m & 0o100 != 0);
            io::copy(&mut entry, &mut new_file(&path, executable)?)?;
        }
    }
    Ok(())
}
