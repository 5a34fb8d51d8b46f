//! What is in a root: a tree of files, folders and links, and how a layer changes it.
//!
//! A tree says all that a step can see of a root: names, kinds, permissions, times in seconds,
//! contents, and attributes of users. It does not say whose files they are, since in a sandbox all
//! belong to the same one, and neither permissions to run as an owner nor capabilities, which no
//! sandbox grants.

use std::collections::BTreeMap;
use std::ops::Bound;

use nubrik_bytes::{Digest, Layout, layout};

use crate::problem::{ImageResult, bad};

/// A path in a root, without `/` at its beginning: names are bytes there.
pub type RootPath = Vec<u8>;

/// How many links may follow one another on the way to a place: as many as the kernel follows.
const LINKS: usize = 40;

/// Version of a tree's byte layout, which is a part of its digest.
const VERSION: u8 = 1;

/// How much there is of images.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default)]
pub struct ImageAmount {
    /// How many files.
    pub files: u64,
    /// How many bytes are in them.
    pub bytes: u64,
}

impl ImageAmount {
    /// With one file more, of so many bytes.
    pub(crate) fn with(self, bytes: u64) -> ImageAmount {
        ImageAmount {
            files: self.files + 1,
            bytes: self.bytes.saturating_add(bytes),
        }
    }
}

/// Something in a root.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum TreeNode {
    /// A folder.
    Folder {
        /// Its permissions.
        mode: u32,
        /// When it was changed, in seconds since 1970.
        time: i64,
    },
    /// A file.
    File(ImageFile),
    /// A symbolic link, and where it leads, as it is written.
    Link {
        /// Where it leads.
        target: Vec<u8>,
        /// When it was changed, in seconds since 1970.
        time: i64,
    },
}

layout!(enum TreeNode {
    0 => Folder { mode, time },
    1 => File(file),
    2 => Link { target, time },
});

/// A file in a root: all that makes two of them the same.
#[derive(Clone, PartialEq, Eq, Debug, Hash, PartialOrd, Ord)]
pub struct ImageFile {
    /// Its content.
    pub digest: Digest,
    /// Its size in bytes.
    pub size: u64,
    /// Its permissions.
    pub mode: u32,
    /// When it was changed, in seconds since 1970.
    pub time: i64,
    /// Extended attributes of users (`user.…`), sorted by name.
    pub attributes: Vec<(Vec<u8>, Vec<u8>)>,
}

layout!(ImageFile {
    digest,
    size,
    mode,
    time,
    attributes
});

/// What a layer says of a path.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum LayerChange {
    /// It is this now.
    Is(TreeNode),
    /// It is the same file as the one at another path of a layer below.
    SameAs(RootPath),
    /// It is gone.
    Gone,
    /// It is a folder, and nothing of what layers below have in it is left.
    Emptied,
}

layout!(enum LayerChange {
    0 => Is(node),
    1 => SameAs(path),
    2 => Gone,
    3 => Emptied,
});

/// What a layer changes, in its order.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct Layer {
    /// Paths, each with what is said of it.
    pub changes: Vec<(RootPath, LayerChange)>,
}

layout!(Layer { changes });

/// What is in a root, by path. Folders on the way to everything are there themselves.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct RootTree {
    nodes: BTreeMap<RootPath, TreeNode>,
}

layout!(RootTree { nodes });

impl RootTree {
    /// All that is there, in the order of paths: a folder before what is in it.
    pub fn nodes(&self) -> impl DoubleEndedIterator<Item = (&[u8], &TreeNode)> {
        self.nodes
            .iter()
            .map(|(path, node)| (path.as_slice(), node))
    }

    /// What is at a path itself.
    pub fn get(&self, path: &[u8]) -> Option<&TreeNode> {
        self.nodes.get(path)
    }

    /// The digest of all that a step can see of it.
    pub fn digest(&self) -> Digest {
        Digest::of(&self.to_version(VERSION))
    }

    /// How much it is.
    pub fn amount(&self) -> ImageAmount {
        let files = self.nodes.values().filter_map(|node| {
            if let TreeNode::File(file) = node {
                Some(file.size)
            } else {
                None
            }
        });
        files.fold(ImageAmount::default(), ImageAmount::with)
    }

    /// Changes it as a layer says.
    ///
    /// # Errors
    /// When the layer says what cannot be.
    pub fn lay_over(&mut self, layer: &Layer) -> ImageResult<()> {
        // What is gone is of the layers below, whatever this layer has at the same places.
        for (path, change) in &layer.changes {
            match change {
                LayerChange::Gone => {
                    let at = self.place_of(path)?;
                    self.remove(&at);
                }
                LayerChange::Emptied => {
                    let at = self.place_of(path)?;
                    self.remove_below(&at);
                }
                LayerChange::Is(_) | LayerChange::SameAs(_) => {}
            }
        }
        for (path, change) in &layer.changes {
            let at = match change {
                LayerChange::Is(_) => self.place_of(path)?,
                LayerChange::SameAs(_) | LayerChange::Gone | LayerChange::Emptied => continue,
            };
            if let LayerChange::Is(node) = change {
                self.put(at, node.clone());
            }
        }
        // What is the same as another file may be the same as one of this layer that comes later.
        for (path, change) in &layer.changes {
            let LayerChange::SameAs(other) = change else {
                continue;
            };
            let from = self.place_of(other)?;
            let Some(node @ (TreeNode::File(_) | TreeNode::Link { .. })) =
                self.nodes.get(&from).cloned()
            else {
                return bad(format!(
                    "{} is to be the same file as {}, which is none",
                    shown(path),
                    shown(other)
                ));
            };
            let at = self.place_of(path)?;
            self.put(at, node);
        }
        Ok(())
    }

    /// Where a path leads when the links on the way to it are followed, none of them out of the
    /// root: the last name is not.
    fn place_of(&self, path: &[u8]) -> ImageResult<RootPath> {
        let mut place: RootPath = Vec::with_capacity(path.len());
        // What is still to be gone, the next name last.
        let mut rest: Vec<Vec<u8>> = names_of(path).rev().map(<[u8]>::to_vec).collect();
        let mut links = 0;
        while let Some(name) = rest.pop() {
            match name.as_slice() {
                b"." => continue,
                b".." => {
                    let end = place.iter().rposition(|byte| *byte == b'/').unwrap_or(0);
                    place.truncate(end);
                    continue;
                }
                _ => {}
            }
            let before = place.len();
            if before > 0 {
                place.push(b'/');
            }
            place.extend_from_slice(&name);
            if rest.is_empty() {
                break;
            }
            if let Some(TreeNode::Link { target, .. }) = self.nodes.get(&place) {
                links += 1;
                if links > LINKS {
                    return bad(format!(
                        "too many links lead to one another on the way to {}",
                        shown(path)
                    ));
                }
                place.truncate(if target.starts_with(b"/") { 0 } else { before });
                rest.extend(names_of(target).rev().map(<[u8]>::to_vec));
            }
        }
        match place.is_empty() {
            true => bad(format!("{} leads to the top of the root", shown(path))),
            false => Ok(place),
        }
    }

    fn put(&mut self, at: RootPath, node: TreeNode) {
        // Folders that no layer names.
        for (end, _) in at.iter().enumerate().filter(|(_, byte)| **byte == b'/') {
            if !matches!(self.nodes.get(&at[..end]), Some(TreeNode::Folder { .. })) {
                self.remove(&at[..end]);
                self.nodes.insert(
                    at[..end].to_vec(),
                    TreeNode::Folder {
                        mode: 0o755,
                        time: 0,
                    },
                );
            }
        }
        match (self.nodes.get(&at), &node) {
            (Some(TreeNode::Folder { .. }), TreeNode::Folder { .. }) | (None, _) => {}
            _ => self.remove(&at),
        }
        self.nodes.insert(at, node);
    }

    fn remove(&mut self, at: &[u8]) {
        if let Some(TreeNode::Folder { .. }) = self.nodes.remove(at) {
            self.remove_below(at);
        }
    }

    fn remove_below(&mut self, at: &[u8]) {
        let start = [at, b"/"].concat();
        let below = (Bound::Included(start.clone()), Bound::Unbounded);
        let paths = self.nodes.range::<RootPath, _>(below).map(|(path, _)| path);
        let gone: Vec<RootPath> = paths
            .take_while(|path| path.starts_with(&start))
            .cloned()
            .collect();
        for path in gone {
            self.nodes.remove(&path);
        }
    }

    /// Where a path leads when all links are followed, the last one, too.
    fn behind(&self, path: &[u8]) -> Option<RootPath> {
        let mut at = self.place_of(path).ok()?;
        for _ in 0..LINKS {
            match self.nodes.get(&at)? {
                TreeNode::Link { target, .. } => {
                    let next = match target.starts_with(b"/") {
                        true => target.clone(),
                        false => {
                            let end = at
                                .iter()
                                .rposition(|byte| *byte == b'/')
                                .map_or(0, |end| end + 1);
                            [&at[..end], target.as_slice()].concat()
                        }
                    };
                    at = self.place_of(&next).ok()?;
                }
                TreeNode::File(_) | TreeNode::Folder { .. } => return Some(at),
            }
        }
        None
    }

    /// The file that a path of the root leads to, links followed.
    pub fn file(&self, path: &str) -> Option<&ImageFile> {
        match self
            .nodes
            .get(&self.behind(path.trim_start_matches('/').as_bytes())?)?
        {
            TreeNode::File(file) => Some(file),
            TreeNode::Folder { .. } | TreeNode::Link { .. } => None,
        }
    }
}

fn names_of(path: &[u8]) -> impl DoubleEndedIterator<Item = &[u8]> {
    path.split(|byte| *byte == b'/')
        .filter(|name| !name.is_empty())
}

/// A path as people read it.
pub(crate) fn shown(path: &[u8]) -> String {
    format!("/{}", String::from_utf8_lossy(path).escape_debug())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn file(text: &str) -> LayerChange {
        LayerChange::Is(TreeNode::File(ImageFile {
            digest: Digest::of(text.as_bytes()),
            size: text.len() as u64,
            mode: 0o644,
            time: 7,
            attributes: Vec::new(),
        }))
    }

    fn folder() -> LayerChange {
        LayerChange::Is(TreeNode::Folder {
            mode: 0o750,
            time: 1,
        })
    }

    fn link(target: &str) -> LayerChange {
        LayerChange::Is(TreeNode::Link {
            target: target.into(),
            time: 3,
        })
    }

    fn tree(layers: &[&[(&str, LayerChange)]]) -> ImageResult<RootTree> {
        let mut tree = RootTree::default();
        for changes in layers {
            let changes = changes
                .iter()
                .map(|(path, change)| (path.as_bytes().to_vec(), change.clone()));
            tree.lay_over(&Layer {
                changes: changes.collect(),
            })?;
        }
        Ok(tree)
    }

    fn paths(tree: &RootTree) -> Vec<String> {
        tree.nodes()
            .map(|(path, _)| String::from_utf8_lossy(path).into_owned())
            .collect()
    }

    #[test]
    fn what_a_layer_takes_away_is_of_the_layers_below() {
        let base: &[(&str, LayerChange)] = &[
            ("a/one", file("1")),
            ("a/two", file("2")),
            ("ab", file("3")),
            ("b/c/d", file("4")),
        ];
        let all = tree(&[
            base,
            &[
                ("a", LayerChange::Emptied),
                ("a/two", file("2")),
                ("b", LayerChange::Gone),
            ],
        ])
        .unwrap();
        assert_eq!(paths(&all), ["a", "a/two", "ab"]);
        // One that is gone and there again in the same layer is there.
        let all = tree(&[
            base,
            &[("a/one", LayerChange::Gone), ("a/one", file("new"))],
        ])
        .unwrap();
        assert_eq!(all.file("a/one").unwrap().digest, Digest::of(b"new"));
        assert_eq!(
            paths(&tree(&[base, &[("nowhere/at/all", LayerChange::Gone)]]).unwrap()),
            paths(&tree(&[base]).unwrap())
        );
    }

    #[test]
    fn kinds_take_one_anothers_places() {
        let base: &[(&str, LayerChange)] = &[("a/b", file("1")), ("c", file("2"))];
        let all = tree(&[base, &[("a", file("3")), ("c/d", file("4"))]]).unwrap();
        assert_eq!(paths(&all), ["a", "c", "c/d"]);
        let all = tree(&[base, &[("a", folder())]]).unwrap();
        assert_eq!(
            all.get(b"a"),
            Some(&TreeNode::Folder {
                mode: 0o750,
                time: 1
            })
        );
        assert_eq!(paths(&all), ["a", "a/b", "c"]);
    }

    #[test]
    fn what_lies_behind_a_link_lies_where_that_leads_and_never_outside() {
        let base: &[(&str, LayerChange)] = &[
            ("bin", link("usr/bin")),
            ("up", link("../../../usr")),
            ("usr/bin/sh", file("sh")),
        ];
        let all = tree(&[
            base,
            &[
                ("bin/ls", file("ls")),
                ("up/share", file("x")),
                ("sh", link("/bin/sh")),
            ],
        ])
        .unwrap();
        assert_eq!(
            paths(&all),
            [
                "bin",
                "sh",
                "up",
                "usr",
                "usr/bin",
                "usr/bin/ls",
                "usr/bin/sh",
                "usr/share"
            ]
        );
        assert_eq!(all.file("/sh").unwrap().digest, Digest::of(b"sh"));
        assert!(all.file("/bin").is_none());
        // A folder that a layer names takes the place of the link.
        let all = tree(&[base, &[("bin", folder()), ("bin/ls", file("ls"))]]).unwrap();
        assert_eq!(
            paths(&all),
            ["bin", "bin/ls", "up", "usr", "usr/bin", "usr/bin/sh"]
        );
        let round = tree(&[&[("a", link("b")), ("b", link("a"))], &[("a/x", file("1"))]]);
        assert!(round.unwrap_err().to_string().contains("too many links"));
    }

    #[test]
    fn a_file_may_be_the_same_as_one_of_a_layer_below() {
        let base: &[(&str, LayerChange)] = &[("a", file("1"))];
        let all = tree(&[base, &[("b", LayerChange::SameAs(b"a".to_vec()))]]).unwrap();
        assert_eq!(all.get(b"a"), all.get(b"b"));
        assert!(tree(&[base, &[("b", LayerChange::SameAs(b"none".to_vec()))]]).is_err());
    }

    #[test]
    fn the_digest_says_all_that_can_be_seen() {
        let digest = |changes: &[(&str, LayerChange)]| tree(&[changes]).unwrap().digest();
        let changed = |change: fn(&mut ImageFile)| {
            let LayerChange::Is(TreeNode::File(mut node)) = file("1") else {
                unreachable!()
            };
            change(&mut node);
            digest(&[("a", LayerChange::Is(TreeNode::File(node)))])
        };
        let plain = digest(&[("a", file("1"))]);
        for other in [
            digest(&[("b", file("1"))]),
            digest(&[("a", file("1")), ("b", folder())]),
            digest(&[("a", link("x"))]),
            changed(|node| node.mode = 0o755),
            changed(|node| node.time = 8),
            changed(|node| node.size = 8),
            changed(|node| node.digest = Digest::of(b"other")),
            changed(|node| node.attributes.push((b"user.a".to_vec(), b"b".to_vec()))),
        ] {
            assert_ne!(other, plain);
        }
        // How many layers it came in does not count.
        let one = tree(&[&[("a", file("1")), ("b", file("2"))]]).unwrap();
        let two = tree(&[
            &[("a", file("0")), ("c", file("3"))],
            &[("a", file("1")), ("b", file("2")), ("c", LayerChange::Gone)],
        ]);
        assert_eq!(one.digest(), two.unwrap().digest());
    }
}
