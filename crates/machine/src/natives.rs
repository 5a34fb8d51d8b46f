//! What the tool does itself: files written, put together, packed, unpacked, fetched and copied.

use std::fs;
use std::io::{self, Write};
use std::path::Path;

use nubrik_archive::{Item, ItemContent, pack, unpack};
use nubrik_confine::CancelSwitch;
use nubrik_disk::{Below, TreeFileKind, entries_below, open_file};
use nubrik_engine::Work;
use nubrik_graph::{ArchiveFormat, Native, Placement, PlainFile, url_name};
use rustix::fs::{Mode, OFlags};

use crate::fetch::fetch;

/// Does a piece of work in a workspace: `below` is its root. Error texts are for people.
pub(crate) fn work(
    root: &Path,
    below: &Below,
    work: &Work,
    to: &str,
    cancel: &CancelSwitch,
) -> Result<(), String> {
    let path = root.join(to);
    let io = |e: io::Error| format!("cannot make {to}: {e}");
    let native = match work {
        Work::Native(native) => native,
        Work::Copy(from) => {
            below.made_folder(to).map_err(io)?;
            let Some(from) = from else { return Ok(()) };
            let from = PlainFile { path: from.clone(), folder: true };
            let items = items(root, &[Placement { to: "".into(), from }]);
            return items.and_then(|items| put_all(below, to, &items)).map_err(io);
        }
        Work::Take(from) => return below.rename(from.as_str(), to).map_err(io),
    };
    match native {
        Native::Write { text, executable } => {
            let mode = if *executable { 0o755 } else { 0o644 };
            let file = below.fresh_file(to, mode);
            file.and_then(|mut file| file.write_all(text.as_bytes())).map_err(io)
        }
        Native::Stage { files } => {
            items(root, files).and_then(|items| put_all(below, to, &items)).map_err(io)
        }
        Native::Pack { format, files } => {
            let items = items(root, files).map_err(io)?;
            pack(*format, items, &path).map_err(|e| format!("cannot pack {to}: {e}"))
        }
        Native::Unpack { archive, strip } => {
            let name = archive.path.name();
            unpacked(name, &root.join(archive.path.as_str()), &path, *strip)
        }
        Native::Fetch { urls, digest, unpack, executable } => {
            let Some(strip) = unpack else {
                let mode = if *executable { 0o755 } else { 0o644 };
                return fetch(urls, digest, &|| below.fresh_file(to, mode), cancel);
            };
            let name = urls.first().map_or("", |url| url_name(url));
            let archive = format!("{to}.fetched");
            let result = fetch(urls, digest, &|| below.fresh_file(&archive, 0o600), cancel)
                .and_then(|()| unpacked(name, &root.join(&archive), &path, *strip));
            let _ = below.remove(&archive);
            result
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

fn put_all(below: &Below, to: &str, items: &[Item]) -> io::Result<()> {
    items.iter().try_for_each(|item| put(below, &format!("{to}/{}", item.name), item))
}

/// Puts a copy of something in a place of the step's own.
fn put(below: &Below, to: &str, item: &Item) -> io::Result<()> {
    match &item.content {
        ItemContent::Link(target) => below.fresh_link(to, target),
        ItemContent::EmptyFolder => below.made_folder(to).map(drop),
        ItemContent::File(path) => {
            let mut from = open_file(path)?;
            let executable = std::os::unix::fs::MetadataExt::mode(&from.metadata()?) & 0o100 != 0;
            let mut file = below.fresh_file(to, if executable { 0o755 } else { 0o644 })?;
            io::copy(&mut from, &mut file).map(drop)
        }
    }
}

/// What goes where, with made folders spread out.
fn items(root: &Path, files: &[Placement<PlainFile>]) -> io::Result<Vec<Item>> {
    let mut items = Vec::new();
    for placed in files {
        let from = root.join(placed.from.path.as_str());
        if !placed.from.folder {
            items.push(Item { name: placed.to.to_string(), content: ItemContent::File(from) });
            continue;
        }
        let flags = OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC;
        let folder = rustix::fs::open(&from, flags, Mode::empty())?;
        for entry in entries_below(&folder)? {
            let content = match entry.kind {
                TreeFileKind::File => ItemContent::File(from.join(&entry.path)),
                TreeFileKind::Link(target) => ItemContent::Link(target.to_string()),
                TreeFileKind::EmptyFolder => ItemContent::EmptyFolder,
                TreeFileKind::Odd(what) => return Err(io::Error::other(format!("{}: {what}", entry.path))),
            };
            let name = match placed.to.is_empty() {
                true => entry.path,
                false => format!("{}/{}", placed.to, entry.path),
            };
            items.push(Item { name, content });
        }
    }
    items.sort();
    Ok(items)
}
