//! Links on the way to sources: where they lead, and what a path becomes when they are followed.

use std::collections::{BTreeSet, HashMap};
use std::os::fd::BorrowedFd;
use std::path::Path;
use std::sync::Arc;

use nubrik_disk::Signature;
use nubrik_source::WsPath;
use parking_lot::Mutex;

/// How many links a way may lead through; the kernel follows as many.
const MOST_LINKS: usize = 40;

/// A link, and where it leads, as it is written.
pub(crate) type Link = (WsPath, Arc<str>);

/// Where a path leads.
#[derive(Clone)]
struct LinkTrail {
    /// The links that it leads through.
    links: Vec<Link>,
    /// Where it ends, from the root; `None` outside of the workspace.
    real: Option<WsPath>,
    /// Where it is seen in a sandbox: where it ends, or where it left what a sandbox shows.
    seen: WsPath,
    /// Whether it left that: by a link that starts from the machine's root, or that leads out of
    /// the workspace.
    leaves: bool,
}

/// What a sandbox shows of a path.
pub(crate) struct SeenAt {
    /// Links that a command follows in the sandbox, with where they lead.
    pub links: Vec<Link>,
    /// Where the file itself is.
    pub path: WsPath,
    /// Whether that is only its place in the sandbox: it is somewhere else on the machine, behind a
    /// link that leads there.
    pub leaves: bool,
}

/// Ways that were looked at in this run.
#[derive(Default)]
pub(crate) struct Ways {
    folders: Mutex<HashMap<WsPath, Arc<LinkTrail>>>,
    met: Mutex<BTreeSet<WsPath>>,
}

impl Ways {
    /// The links that a path of the workspace leads through, itself among them, in the order in
    /// which they are met.
    pub fn links_to(&self, top: BorrowedFd<'_>, root: &Path, path: &WsPath) -> Vec<Link> {
        self.way(top, root, path, MOST_LINKS).links
    }

    /// Where a path ends when links are followed, if it leads through any and stays in the
    /// workspace.
    pub fn followed(&self, top: BorrowedFd<'_>, root: &Path, path: &WsPath) -> Option<WsPath> {
        let way = self.way(top, root, path, MOST_LINKS);
        if way.links.is_empty() { None } else { way.real }
    }

    /// What a sandbox shows of a path.
    pub fn seen_at(&self, top: BorrowedFd<'_>, root: &Path, path: &WsPath) -> SeenAt {
        let way = self.way(top, root, path, MOST_LINKS);
        let mut links = way.links;
        // One that starts from the machine's root leads to nothing in a sandbox, and represents
        // what it leads to.
        links.retain(|(_, target)| !target.starts_with('/'));
        if way.leaves {
            links.retain(|(at, _)| !way.seen.is_in(at));
        }
        SeenAt {
            links,
            path: way.seen,
            leaves: way.leaves,
        }
    }

    /// All links that were met, with their own metadata as it is now.
    pub fn links_met(&self, top: BorrowedFd<'_>) -> Vec<(WsPath, Option<Signature>)> {
        let met = self.met.lock();
        met.iter()
            .map(|path| {
                (
                    path.clone(),
                    Signature::at(top, path.as_str().as_bytes(), false),
                )
            })
            .collect()
    }

    fn way(&self, top: BorrowedFd<'_>, root: &Path, path: &WsPath, left: usize) -> LinkTrail {
        let folder = path.parent().unwrap_or_else(WsPath::root);
        if folder.is_root() {
            let seen = WsPath::root();
            let start = LinkTrail {
                links: Vec::new(),
                real: Some(folder),
                seen,
                leaves: false,
            };
            return self.last(top, root, &start, path.name(), left);
        }
        let known = self.folders.lock().get(&folder).cloned();
        let folder_way = known.unwrap_or_else(|| {
            let way = Arc::new(self.way(top, root, &folder, left));
            self.folders.lock().insert(folder, way.clone());
            way
        });
        self.last(top, root, &folder_way, path.name(), left)
    }

    /// The way on from a folder to a name in it.
    fn last(
        &self,
        top: BorrowedFd<'_>,
        root: &Path,
        folder: &LinkTrail,
        name: &str,
        left: usize,
    ) -> LinkTrail {
        let seen_here = if folder.leaves {
            Some(folder.seen.join(name))
        } else {
            None
        };
        let Some(real) = &folder.real else {
            return LinkTrail {
                seen: folder.seen.join(name),
                ..folder.clone()
            };
        };
        let at = real.join(name);
        let ends = |links: Vec<Link>, real: Option<WsPath>, leaves: bool| {
            let leaves = leaves || real.is_none();
            let seen = match (&seen_here, &real) {
                (Some(seen), _) => seen.clone(),
                (None, Some(real)) if !leaves => real.clone(),
                _ => at.clone(),
            };
            LinkTrail {
                links,
                real,
                seen,
                leaves: leaves || folder.leaves,
            }
        };
        let Ok(target) = rustix::fs::readlinkat(top, at.as_str(), Vec::new()) else {
            return ends(folder.links.clone(), Some(at.clone()), false);
        };
        let target = target.to_string_lossy().into_owned();
        self.met.lock().insert(at.clone());
        let mut links = folder.links.clone();
        links.push((at.clone(), target.as_str().into()));
        let from_root = target.starts_with('/');
        let start = match Path::new(&target).strip_prefix(root) {
            Ok(inside) if from_root => {
                Some((WsPath::root(), inside.to_string_lossy().into_owned()))
            }
            _ if from_root => None,
            _ => Some((real.clone(), target)),
        };
        let Some((on, rest)) = start.filter(|_| left > 0) else {
            return ends(links, None, true);
        };
        let mut leaves = from_root;
        let real = self.follow(top, root, (on, &rest), left - 1, &mut links, &mut leaves);
        ends(links, real, leaves)
    }

    /// Where the parts of a link's text lead from a folder; adds the links on the way. `None`
    /// outside of the workspace.
    fn follow(
        &self,
        top: BorrowedFd<'_>,
        root: &Path,
        (mut on, rest): (WsPath, &str),
        left: usize,
        links: &mut Vec<Link>,
        leaves: &mut bool,
    ) -> Option<WsPath> {
        for part in rest.split('/') {
            match part {
                "" | "." => {}
                ".." => on = on.parent()?,
                part => {
                    let way = self.way(top, root, &on.child(part), left);
                    for link in way.links {
                        if !links.contains(&link) {
                            links.push(link);
                        }
                    }
                    *leaves |= way.leaves;
                    on = way.real?;
                }
            }
        }
        Some(on)
    }
}

/// So many links are followed on one way, as the kernel does.
const LINKS: usize = 40;

/// The text of a link of the machine; `None` for what is none.
fn link_of_machine(path: &str) -> Option<Arc<str>> {
    let text = rustix::fs::readlink(path, Vec::new()).ok()?;
    Some(text.to_string_lossy().into_owned().into())
}

/// The links that an absolute path leads through, itself among them, each by its own path without
/// links, with its text.
pub(crate) fn links_of_machine(path: &str) -> Vec<(String, Arc<str>)> {
    let mut links: Vec<(String, Arc<str>)> = Vec::new();
    let mut at = String::new();
    let mut rest: Vec<String> = path.split('/').rev().map(str::to_owned).collect();
    while let Some(name) = rest.pop() {
        match &*name {
            "" | "." => continue,
            ".." => {
                at.truncate(at.rfind('/').unwrap_or(0));
                continue;
            }
            _ => {}
        }
        let next = format!("{at}/{name}");
        match link_of_machine(&next) {
            Some(text) if links.len() < LINKS => {
                if text.starts_with('/') {
                    at.clear();
                }
                rest.extend(text.split('/').rev().map(str::to_owned));
                links.push((next, text));
            }
            _ => at = next,
        }
    }
    links
}

#[cfg(test)]
mod tests {
    use std::fs;
    use std::os::unix::fs::symlink;

    use super::*;
    use nubrik_disk::Below;

    #[test]
    fn ways_lead_through_links() {
        let folder = tempfile::tempdir().unwrap();
        let root = folder.path().canonicalize().unwrap();
        fs::create_dir_all(root.join("other/inc")).unwrap();
        fs::create_dir_all(root.join("src")).unwrap();
        fs::write(root.join("other/inc/x.h"), "").unwrap();
        let link = |target: &str, at: &str| symlink(target, root.join(at)).unwrap();
        link("../other/inc", "src/inc");
        link("x.h", "other/inc/y.h");
        link(root.join("other").to_str().unwrap(), "whole");
        link("/etc", "out");
        link("round", "round");
        let below = Below::new(&root).unwrap();
        let ways = Ways::default();
        let links = |path: &str| -> Vec<String> {
            let links = ways.links_to(below.top(), &root, &WsPath::from_normal(path));
            links
                .iter()
                .map(|(at, text)| format!("{at} -> {text}"))
                .collect()
        };
        let followed = |path: &str| ways.followed(below.top(), &root, &WsPath::from_normal(path));
        let real = |path: &str| followed(path).map(|path| path.to_string());
        assert!(links("other/inc/x.h").is_empty() && real("other/inc/x.h").is_none());
        assert_eq!(links("src/inc/x.h"), ["src/inc -> ../other/inc"]);
        assert_eq!(real("src/inc/x.h").as_deref(), Some("other/inc/x.h"));
        assert_eq!(
            links("src/inc/y.h"),
            ["src/inc -> ../other/inc", "other/inc/y.h -> x.h"]
        );
        assert_eq!(real("whole/inc").as_deref(), Some("other/inc"));
        assert_eq!(
            (links("out/passwd"), real("out/passwd")),
            (vec!["out -> /etc".to_owned()], None)
        );
        assert!(!links("round/x").is_empty() && real("round/x").is_none());
        assert_eq!(ways.links_met(below.top()).len(), 5);
        let seen = |path: &str| {
            let seen = ways.seen_at(below.top(), &root, &WsPath::from_normal(path));
            let links: Vec<String> = seen
                .links
                .iter()
                .map(|(at, text)| format!("{at} -> {text}"))
                .collect();
            (seen.path.to_string(), seen.leaves, links.join(", "))
        };
        let plain = |path: &str| (path.to_owned(), false, String::new());
        assert_eq!(seen("other/inc/x.h"), plain("other/inc/x.h"));
        let expected = (
            "other/inc/x.h".to_owned(),
            false,
            "src/inc -> ../other/inc".to_owned(),
        );
        assert_eq!(seen("src/inc/x.h"), expected);
        // A sandbox does not know where the workspace is on the machine, and shows nothing of the
        // rest.
        assert_eq!(
            seen("whole/inc/x.h"),
            ("whole/inc/x.h".to_owned(), true, String::new())
        );
        assert_eq!(
            seen("out/passwd"),
            ("out/passwd".to_owned(), true, String::new())
        );
        link("../../../etc", "src/up");
        assert_eq!(
            seen("src/up/passwd"),
            ("src/up/passwd".to_owned(), true, String::new())
        );
    }
}
