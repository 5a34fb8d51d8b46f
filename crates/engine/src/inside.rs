//! What lies in folders that steps make: its content, through the links in the folder.

use std::sync::Arc;

use nubrik_bytes::Digest;
use nubrik_graph::FileId;
use nubrik_store::{OutputRecord, TreeEntry, TreeKind};

use crate::build::Build;
use crate::state::StepMemory;

/// So many links are followed, one after the other.
const LINKS: usize = 40;

impl Build<'_> {
    /// What is in a made folder, where its step is known.
    pub(crate) fn entries_of(&self, folder: FileId) -> Option<(Arc<StepMemory>, usize)> {
        let maker = self.graph.file(folder).maker?;
        let memory = self.known.makers[maker.index()].get()?.clone();
        let at = self
            .graph
            .step(maker)
            .outputs
            .iter()
            .position(|output| output.file == folder)?;
        matches!(memory.outputs.get(at)?, OutputRecord::Folder(_)).then_some((memory, at))
    }

    /// The content of something in a made folder. Where links are on the way, both they and that to
    /// which they lead.
    pub(crate) fn content_in(&self, folder: FileId, below: &str) -> Option<Digest> {
        let (memory, at) = self.entries_of(folder)?;
        let OutputRecord::Folder(entries) = &memory.outputs[at] else {
            return None;
        };
        content_of(entries, below)
    }
}

/// The content of what a path leads to among sorted entries.
fn content_of(entries: &[TreeEntry], below: &str) -> Option<Digest> {
    let find = |path: &str| {
        entries
            .binary_search_by(|entry| (*entry.path).cmp(path))
            .ok()
            .map(|at| &entries[at])
    };
    let mut path = below.to_owned();
    let mut links = String::new();
    for _ in 0..LINKS {
        let ends = path
            .match_indices('/')
            .map(|(end, _)| end)
            .chain([path.len()]);
        let link = ends
            .into_iter()
            .find_map(|end| match &find(&path[..end])?.kind {
                TreeKind::Link { target } => Some((end, target.clone())),
                _ => None,
            });
        let Some((end, target)) = link else {
            let TreeKind::File { digest, executable } = &find(&path)?.kind else {
                return None;
            };
            let content = OutputRecord::File {
                digest: *digest,
                executable: *executable,
            }
            .digest();
            return Some(match links.is_empty() {
                true => content,
                false => Digest::of(&[links.as_bytes(), &content.0].concat()),
            });
        };
        links.push_str(&path[..end]);
        links.push('\0');
        links.push_str(&target);
        links.push('\0');
        path = led_to(&path[..end], &target, &path[end..])?;
    }
    None
}

/// Where a link leads, with the rest of a path behind it: `.` and `..` taken out; `None` if that is
/// outside.
fn led_to(link: &str, target: &str, rest: &str) -> Option<String> {
    let above = link.rsplit_once('/').map_or("", |(above, _)| above);
    let mut parts: Vec<&str> = Vec::new();
    for part in above
        .split('/')
        .chain(target.split('/'))
        .chain(rest.split('/'))
    {
        match part {
            "" | "." => {}
            ".." => drop(parts.pop()?),
            part => parts.push(part),
        }
    }
    Some(parts.join("/"))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn entries(content: &[u8], target: &str) -> Vec<TreeEntry> {
        let file = TreeKind::File {
            digest: Digest::of(content),
            executable: false,
        };
        let link = |target: &str| TreeKind::Link {
            target: target.into(),
        };
        let mut all = vec![
            TreeEntry {
                path: "inc/port/real.h".into(),
                kind: file,
            },
            TreeEntry {
                path: "inc/link.h".into(),
                kind: link(target),
            },
            TreeEntry {
                path: "inc/again.h".into(),
                kind: link("./link.h"),
            },
            TreeEntry {
                path: "include".into(),
                kind: link("inc/port"),
            },
            TreeEntry {
                path: "round".into(),
                kind: link("round"),
            },
            TreeEntry {
                path: "out".into(),
                kind: link("../x"),
            },
        ];
        all.sort_by(|a, b| a.path.cmp(&b.path));
        all
    }

    #[test]
    fn a_link_counts_with_what_it_leads_to() {
        let first = entries(b"1", "port/real.h");
        let all = [
            "inc/port/real.h",
            "inc/link.h",
            "inc/again.h",
            "include/real.h",
        ];
        for path in all {
            let content = content_of(&first, path);
            assert!(content.is_some(), "{path}");
            assert_ne!(
                content,
                content_of(&entries(b"2", "port/real.h"), path),
                "{path}"
            );
        }
        // Another way to the same content is another link.
        assert_ne!(
            content_of(&first, all[1]),
            content_of(&entries(b"1", "../inc/port/real.h"), all[1])
        );
        assert_eq!(
            content_of(&first, all[0]),
            content_of(&entries(b"1", "elsewhere"), all[0])
        );
        for path in [
            "inc",
            "include",
            "round",
            "out",
            "out/x",
            "gone",
            "inc/link.h/x",
        ] {
            assert_eq!(content_of(&first, path), None, "{path}");
        }
    }
}
