//! What the tool does itself: files written, put together, packed, unpacked, fetched and copied.

use std::fs;
use std::io;
use std::os::unix::fs::{OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};

use nubrik_archive::{Item, pack, unpack};
use nubrik_engine::{Placed, Work};
use nubrik_graph::ArchiveFormat;

use crate::fetch::fetch;

/// Does a piece of work below a workspace's root. Error texts are for people.
pub(crate) fn work(root: &Path, work: &Work, to: &str) -> Result<(), String> {
    let path = root.join(to);
    let io = |e: io::Error| format!("cannot make {to}: {e}");
    match work {
        Work::Write { text, executable } => write(&path, text.as_bytes(), *executable).map_err(io),
        Work::Stage(files) => {
            for item in items(root, files).map_err(io)? {
                copy(&item.file, &path.join(&item.name)).map_err(io)?;
            }
            Ok(())
        }
        Work::Pack(format, files) => {
            let items = items(root, files).map_err(io)?;
            pack(*format, items, &path).map_err(|e| format!("cannot pack {to}: {e}"))
        }
        Work::Unpack { archive, strip } => {
            let name = archive.rsplit('/').next().unwrap_or(archive);
            unpacked(name, &root.join(&**archive), &path, *strip)
        }
        Work::Fetch { urls, digest, unpack, executable } => {
            let Some(strip) = unpack else {
                fetch(urls, digest, &path)?;
                let mode = if *executable { 0o755 } else { 0o644 };
                return fs::set_permissions(&path, fs::Permissions::from_mode(mode)).map_err(io);
            };
            let name = urls[0].split(['?', '#']).next().unwrap_or("").rsplit('/').next().unwrap_or("");
            let archive = path.with_extension("fetched");
            fetch(urls, digest, &archive)?;
            let result = unpacked(name, &archive, &path, *strip);
            let _ = fs::remove_file(&archive);
            result
        }
        Work::Copy(from) => {
            fs::create_dir_all(&path).map_err(io)?;
            let Some(from) = from else { return Ok(()) };
            let files = all_files(&root.join(&**from)).map_err(io)?;
            files.iter().try_for_each(|(name, file)| copy(file, &path.join(name))).map_err(io)
        }
        Work::Take(from) => {
            if let Ok(there) = path.symlink_metadata() {
                let _ = if there.is_dir() { fs::remove_dir_all(&path) } else { fs::remove_file(&path) };
            }
            if let Some(folder) = path.parent() {
                fs::create_dir_all(folder).map_err(io)?;
            }
            fs::rename(root.join(&**from), &path).map_err(io)
        }
    }
}

fn unpacked(name: &str, archive: &Path, to: &Path, strip: u32) -> Result<(), String> {
    let Some(format) = ArchiveFormat::of_file(name) else {
        return Err(format!("the name {name} tells of no archive"));
    };
    fs::create_dir_all(to).map_err(|e| format!("cannot make {}: {e}", to.display()))?;
    unpack(format, archive, to, strip as usize).map_err(|e| format!("cannot unpack {name}: {e}"))?;
    let empty = fs::read_dir(to).is_ok_and(|mut entries| entries.next().is_none());
    if empty && strip > 0 {
        return Err(format!("nothing is left of {name} when {strip} leading folders are dropped"));
    }
    Ok(())
}

fn write(path: &Path, bytes: &[u8], executable: bool) -> io::Result<()> {
    if let Some(folder) = path.parent() {
        fs::create_dir_all(folder)?;
    }
    let mode = if executable { 0o755 } else { 0o644 };
    let mut file = fs::OpenOptions::new().write(true).create(true).truncate(true).mode(mode).open(path)?;
    io::Write::write_all(&mut file, bytes)
}

/// Copies a file to a new one of the step's own, which its owner may write.
fn copy(from: &Path, to: &Path) -> io::Result<()> {
    if let Some(folder) = to.parent() {
        fs::create_dir_all(folder)?;
    }
    fs::copy(from, to)?;
    let executable = fs::metadata(from)?.permissions().mode() & 0o100 != 0;
    let mode = if executable { 0o755 } else { 0o644 };
    fs::set_permissions(to, fs::Permissions::from_mode(mode))
}

/// What goes where, with made folders spread out.
fn items(root: &Path, files: &[Placed]) -> io::Result<Vec<Item>> {
    let mut items = Vec::new();
    for placed in files {
        let from = root.join(&*placed.from);
        if !placed.folder {
            items.push(Item { name: placed.to.to_string(), file: from });
            continue;
        }
        for (name, file) in all_files(&from)? {
            let name = if placed.to.is_empty() { name } else { format!("{}/{name}", placed.to) };
            items.push(Item { name, file });
        }
    }
    items.sort();
    Ok(items)
}

/// All files in and below a folder: path below it, and where it is. Sorted.
fn all_files(folder: &Path) -> io::Result<Vec<(String, PathBuf)>> {
    let mut files = Vec::new();
    let mut open = vec![String::new()];
    while let Some(below) = open.pop() {
        for entry in fs::read_dir(folder.join(&below))? {
            let entry = entry?;
            let name = entry.file_name().to_string_lossy().into_owned();
            let name = if below.is_empty() { name } else { format!("{below}/{name}") };
            if entry.file_type()?.is_dir() {
                open.push(name);
            } else {
                files.push((name, entry.path()));
            }
        }
    }
    files.sort();
    Ok(files)
}
