//! What the tool does itself: files written, put together, packed, unpacked, fetched and copied.

use std::collections::HashMap;
use std::fs;
use std::io::{self, Write};
use std::path::Path;

use nubrik_archive::{Item, ItemContent, pack, unpack};
use nubrik_disk::{Below, TreeFileKind, copy_file, entries_below, open_file};
use nubrik_engine::{Work, WorkProblem};
use nubrik_graph::{Native, Placement, PlainFile, Unpacking, url_name};
use nubrik_source::{PathWithin, WsPath};
use rustix::fs::{Mode, OFlags};

use crate::fetch::{FetchTarget, Fetcher, fetch};

/// Makes a folder at `to`, with all that is in another one if there is one.
fn copy(root: &Path, below: &Below, from: Option<&WsPath>, to: &str) -> io::Result<()> {
    below.made_folder(to)?;
    let Some(from) = from else { return Ok(()) };
    let from = PlainFile {
        path: from.clone(),
        folder: true,
    };
    put_all(
        below,
        to,
        &items(
            root,
            &[Placement {
                to: PathWithin::top(),
                from,
            }],
        )?,
    )
}

/// Does a piece of work in a workspace: `below` is its root.
pub(crate) fn work(
    root: &Path,
    below: &Below,
    work: &Work,
    to: &str,
    fetcher: &Fetcher<'_>,
) -> Result<(), WorkProblem> {
    let io = |e: io::Error| WorkProblem::Machine(format!("cannot make {to}: {e}"));
    let native = match work {
        Work::Native(native) => native,
        Work::Copy(from) => return copy(root, below, from.as_ref(), to).map_err(io),
        // By the machine, which has the roots of images.
        Work::Find(..) => return Err(WorkProblem::Input("nothing is looked for here".to_owned())),
        Work::Take(from) => return below.rename(from.as_str(), to).map_err(io),
    };
    work_natively(root, below, native, to, fetcher)
}

/// Does what the tool does itself in a step.
fn work_natively(
    root: &Path,
    below: &Below,
    native: &Native<PlainFile>,
    to: &str,
    fetcher: &Fetcher<'_>,
) -> Result<(), WorkProblem> {
    let path = root.join(to);
    let io = |e: io::Error| WorkProblem::Machine(format!("cannot make {to}: {e}"));
    match native {
        Native::Write { text, executable } => {
            let mode = if *executable { 0o755 } else { 0o644 };
            let file = below.fresh_file(to, mode);
            file.and_then(|mut file| file.write_all(text.as_bytes()))
                .map_err(io)
        }
        Native::Stage { files } => items(root, files)
            .and_then(|items| put_all(below, to, &items))
            .map_err(io),
        Native::Pack { format, files } => {
            let items = items(root, files).map_err(io)?;
            pack(*format, items, &path)
                .map_err(|e| WorkProblem::Machine(format!("cannot pack {to}: {e}")))
        }
        Native::Unpack { archive, how } => {
            let name = archive.path.name();
            unpacked(name, &root.join(archive.path.as_str()), &path, *how)
        }
        Native::Extract { file, patterns } => {
            let found = crate::extract::extract(&root.join(file.path.as_str()), patterns)?;
            let answer = below.fresh_file(to, 0o644);
            answer
                .and_then(|mut answer| answer.write_all(found.as_bytes()))
                .map_err(io)
        }
        Native::Part {
            folder,
            path,
            is_folder,
        } => take_part(root, below, (folder, path, *is_folder), to),
        // By the machine, which keeps what is in images.
        Native::Image(_) | Native::MakeImage(_) | Native::Find(_) => Err(WorkProblem::Input(
            "an image is no work of this kind".to_owned(),
        )),
        Native::Fetch {
            urls,
            digest,
            unpack,
            executable,
        } => {
            let fetch = |target: &FetchTarget<'_>| fetch(fetcher, urls, digest, target);
            let Some(how) = unpack else {
                let mode = if *executable { 0o755 } else { 0o644 };
                return fetch(&FetchTarget {
                    fresh: &|| below.fresh_file(to, mode),
                    path: &path,
                });
            };
            let name = urls.first().map_or("", |url| url_name(url));
            let archive = format!("{to}.fetched");
            let fetched = root.join(&archive);
            let result = fetch(&FetchTarget {
                fresh: &|| below.fresh_file(&archive, 0o600),
                path: &fetched,
            });
            let result = result.and_then(|()| unpacked(name, &fetched, &path, *how));
            let _ = below.remove(&archive);
            result
        }
    }
}

/// Takes a file or folder out of a made folder.
fn take_part(
    root: &Path,
    below: &Below,
    (folder, part, is_folder): (&PlainFile, &PathWithin, bool),
    to: &str,
) -> Result<(), WorkProblem> {
    let whole = root.join(folder.path.as_str());
    let (within, part) = (part, part.as_str());
    let found =
        fs::metadata(whole.join(part)).map_err(|_| WorkProblem::Input(not_in(&whole, part)))?;
    let io = |e: io::Error| WorkProblem::Machine(format!("cannot make {to}: {e}"));
    let other = |what: String| Err(WorkProblem::Input(what));
    match (is_folder, found.is_dir()) {
        (true, true) => {
            let from = PlainFile {
                path: folder.path.join_within(within),
                folder: true,
            };
            let items = items(
                root,
                &[Placement {
                    to: PathWithin::top(),
                    from,
                }],
            );
            items
                .and_then(|items| put_all(below, to, &items))
                .map_err(io)
        }
        (false, false) => {
            let content = ItemContent::File(whole.join(part));
            put(
                below,
                to,
                &Item {
                    name: part.to_owned(),
                    content,
                },
            )
            .map_err(io)
        }
        (false, true) => other(format!(
            "{part} is a folder, and taken as a file\ntry     / \"{part}/\""
        )),
        (true, false) => other(format!(
            "{part} is a file, and taken as a folder\ntry     / \"{part}\""
        )),
    }
}

/// Says that a folder does not hold what is taken from it, and what it holds where the path goes
/// wrong.
fn not_in(whole: &Path, part: &str) -> String {
    let mut at = whole.to_owned();
    let mut gone = Vec::new();
    for name in part.split('/') {
        if !at.join(name).is_dir() {
            break;
        }
        at.push(name);
        gone.push(name);
    }
    let entries = fs::read_dir(&at).into_iter().flatten().flatten();
    let mut names: Vec<String> = entries
        .map(|e| e.file_name().to_string_lossy().into_owned())
        .collect();
    names.sort();
    let more = if names.len() > 8 { ", …" } else { "" };
    names.truncate(8);
    let place = if gone.is_empty() {
        "the folder".to_owned()
    } else {
        gone.join("/")
    };
    format!(
        "the folder holds no {part}\n{place} has: {}{more}",
        names.join(", ")
    )
}

fn unpacked(name: &str, archive: &Path, to: &Path, how: Unpacking) -> Result<(), WorkProblem> {
    let Unpacking { format, strip } = how;
    let not_made = |e| WorkProblem::Machine(format!("cannot make {}: {e}", to.display()));
    fs::create_dir_all(to).map_err(not_made)?;
    let not_unpacked = |e| WorkProblem::Input(format!("cannot unpack {name}: {e}"));
    unpack(format, archive, to, strip as usize).map_err(not_unpacked)?;
    let empty = fs::read_dir(to).is_ok_and(|mut entries| entries.next().is_none());
    if empty && strip > 0 {
        let what = format!("nothing is left of {name} when {strip} leading folders are dropped");
        return Err(WorkProblem::Input(what));
    }
    Ok(())
}

fn put_all(below: &Below, to: &str, items: &[Item]) -> io::Result<()> {
    items
        .iter()
        .try_for_each(|item| put(below, &format!("{to}/{}", item.name), item))
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
            copy_file(&mut from, &mut file)
        }
    }
}

/// What goes where, with made folders spread out.
pub(crate) fn items(root: &Path, files: &[Placement<PlainFile>]) -> io::Result<Vec<Item>> {
    let mut items = Vec::new();
    for placed in files {
        let from = root.join(placed.from.path.as_str());
        if !placed.from.folder {
            items.push(Item {
                name: placed.to.to_string(),
                content: ItemContent::File(from),
            });
            continue;
        }
        let flags = OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC;
        let folder = rustix::fs::open(&from, flags, Mode::empty())?;
        for entry in entries_below(&folder)? {
            let content = match entry.kind {
                TreeFileKind::File => ItemContent::File(from.join(&entry.path)),
                TreeFileKind::Link(target) => ItemContent::Link(target.to_string()),
                TreeFileKind::EmptyFolder => ItemContent::EmptyFolder,
                TreeFileKind::Odd(what) => {
                    return Err(io::Error::other(format!("{}: {what}", entry.path)));
                }
            };
            let name = match placed.to.is_top() {
                true => entry.path,
                false => format!("{}/{}", placed.to, entry.path),
            };
            items.push(Item { name, content });
        }
    }
    items.sort();
    items.dedup_by(|a, b| {
        a.name == b.name && a.content == ItemContent::EmptyFolder && b.content == a.content
    });
    check_overlap(root, &items)?;
    Ok(items)
}

/// Refuses items that cannot all be there: two have one name, or one is a file where another needs
/// a folder.
fn check_overlap(root: &Path, items: &[Item]) -> io::Result<()> {
    let mut taken: HashMap<&str, &Item> = HashMap::with_capacity(items.len());
    let from = |item: &Item| match &item.content {
        ItemContent::File(path) => path
            .strip_prefix(root)
            .unwrap_or(path)
            .to_string_lossy()
            .into_owned(),
        ItemContent::Link(target) => format!("a link to {target}"),
        ItemContent::EmptyFolder => "an empty folder".to_owned(),
    };
    for item in items {
        let mut above = item
            .name
            .match_indices('/')
            .map(|(end, _)| &item.name[..end]);
        let in_the_way = above
            .find_map(|folder| taken.get(folder))
            .filter(|other| other.content != ItemContent::EmptyFolder);
        if let Some(other) = in_the_way.or(taken.get(item.name.as_str())) {
            let (name, one, second) = (&other.name, from(other), from(item));
            let message = match *name == item.name {
                true => format!("{one} and {second} would both be {name}"),
                false => format!("{one} would be {name}, and {second} would be in it"),
            };
            return Err(io::Error::other(message));
        }
        taken.insert(&item.name, item);
    }
    Ok(())
}
