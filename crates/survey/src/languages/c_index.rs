//! Where included files are.

use std::collections::{BTreeMap, BTreeSet};

use super::c_places::is_sample_or_test;
use super::c_scan::{C_SOURCES, HEADERS, SourceScan, is_header, is_source};
use super::c_system::other_system_of;
use super::holes;
use crate::tree::{SourceTree, folder_of, joined, name_of, stem_of};

/// All sources and headers, and where included files are.
pub(super) struct IncludeIndex<'a> {
    pub tree: &'a SourceTree,
    pub scans: &'a BTreeMap<&'a str, SourceScan>,
    names: BTreeMap<&'a str, Vec<&'a str>>,
    /// Names of configuration headers of which templates are in the tree: files of their names with
    /// a further ending.
    templated: BTreeSet<&'a str>,
    /// Names of headers of which there are templates.
    made: BTreeSet<&'a str>,
    /// Who includes each file; found once for all questions about it.
    includers: BTreeMap<&'a str, BTreeSet<&'a str>>,
    /// Names without endings of all headers that are included.
    included_stems: BTreeSet<&'a str>,
    /// The configuration header that a file wants, or that something wants which it includes.
    configs: BTreeMap<&'a str, &'a str>,
    /// Names by which sources ask for this system, and that nothing in the tree defines.
    pub systems: BTreeSet<&'a str>,
}

/// Where an included file is.
pub(super) struct IncludedFile<'a> {
    pub path: &'a str,
    /// The folder to search for it; `None` where it is found beside its includer.
    pub searched: Option<String>,
}

impl<'a> IncludeIndex<'a> {
    pub fn of(tree: &'a SourceTree, scans: &'a BTreeMap<&'a str, SourceScan>) -> IncludeIndex<'a> {
        let includes = || {
            scans
                .values()
                .flat_map(|scan| &scan.includes)
                .map(|include| include.path.as_str())
        };
        let definitions = scans.values().flat_map(|scan| &scan.defined);
        let defined: BTreeSet<&str> = definitions.map(String::as_str).collect();
        let systems = scans.values().flat_map(|scan| &scan.systems);
        let systems = systems.map(String::as_str);
        let names = tree.by_name();
        let template = |name: &&'a str| name.rsplit_once('.').map(|(stem, _)| stem);
        let leaves_open = |files: &[&str]| {
            files.iter().any(|file| {
                tree.text(file)
                    .is_some_and(|text| holes::leaves_many_open(&text))
            })
        };
        let config = |(name, files): (&&'a str, &Vec<&'a str>)| {
            let stem = template(name).filter(|stem| is_header(stem))?;
            (stem.contains("conf") || leaves_open(files)).then_some(stem)
        };
        let templated = names.iter().filter_map(config).collect();
        // `tide.h.ENDING`, whatever the ending is: what it says tells.
        let made = |(name, files): (&&'a str, &Vec<&'a str>)| {
            let stem = template(name).filter(|stem| is_header(stem))?;
            let is_template =
                |file: &&str| tree.text(file).is_some_and(|text| holes::has_holes(&text));
            files.iter().any(is_template).then_some(stem)
        };
        let made = names.iter().filter_map(made).collect();
        let mut index = IncludeIndex {
            tree,
            scans,
            names,
            templated,
            made,
            includers: BTreeMap::new(),
            configs: BTreeMap::new(),
            included_stems: includes()
                .filter(|path| is_header(path))
                .map(stem_of)
                .collect(),
            systems: systems.filter(|name| !defined.contains(name)).collect(),
        };
        let mut includers: BTreeMap<&str, BTreeSet<&str>> = BTreeMap::new();
        for (file, scan) in scans {
            for include in &scan.includes {
                if let Some(found) = index.included(file, &include.path, include.is_quoted) {
                    includers.entry(found.path).or_default().insert(file);
                }
            }
        }
        index.includers = includers;
        index.configs = index.configs();
        index
    }

    /// Which files want a configuration header: from those that include one, to all who include
    /// them.
    fn configs(&self) -> BTreeMap<&'a str, &'a str> {
        let mut configs: BTreeMap<&str, &str> = BTreeMap::new();
        let mut queue = Vec::new();
        for (file, scan) in self.scans.iter().filter(|(_, scan)| scan.wants_config) {
            let config = scan.includes.iter().find(|one| one.path.contains("config"));
            if let Some(config) =
                config.filter(|one| self.included(file, &one.path, one.is_quoted).is_none())
            {
                configs.insert(file, &config.path);
                queue.push(*file);
            }
        }
        while let Some(file) = queue.pop() {
            let config = configs[file];
            for user in self.includers.get(file).into_iter().flatten() {
                if !configs.contains_key(user) {
                    configs.insert(user, config);
                    queue.push(user);
                }
            }
        }
        configs
    }

    /// The configuration header that a file wants, or that something wants which it includes.
    pub fn wanted_config(&self, file: &str) -> Option<&'a str> {
        self.configs.get(file).copied()
    }

    /// Whether a template in the tree becomes a header of this name: then the machine's own, of an
    /// installed copy of the same project, is not meant.
    pub fn is_made(&self, path: &str) -> bool {
        let is_named = self.made.contains(name_of(path)) && !STANDARD_HEADERS.contains(&path);
        // Where a folder is named, the template is in it.
        is_named
            && (!path.contains('/')
                || self
                    .tree
                    .files()
                    .iter()
                    .any(|file| is_template_of(file, path)))
    }

    /// The file that a file includes by this path; the nearest one, where there are several.
    pub fn included(&self, from: &str, path: &str, is_quoted: bool) -> Option<IncludedFile<'a>> {
        let candidates = self.names.get(name_of(path))?;
        if is_quoted
            && let Some(beside) = joined(folder_of(from), path)
            && let Ok(at) = candidates.binary_search(&beside.as_str())
        {
            return Some(IncludedFile {
                path: candidates[at],
                searched: None,
            });
        }
        // Where one is made for each machine, those that lie somewhere are for others.
        if path.starts_with("..") || self.templated.contains(path) {
            return None;
        }
        let fits = |candidate: &&&'a str| {
            candidate
                .strip_suffix(path)
                .is_some_and(|before| before.is_empty() || before.ends_with('/'))
        };
        // What the machine has is meant rather than a file of the tree that happens to have its
        // name.
        let is_standard = !is_quoted && !path.contains('/') && STANDARD_HEADERS.contains(&path);
        let near = |candidate: &&&'a str| {
            let common = candidate
                .bytes()
                .zip(from.bytes())
                .take_while(|(a, b)| a == b)
                .count();
            let in_include = folder_of(candidate)
                .split('/')
                .any(|part| matches!(part, "include" | "inc"));
            (
                is_sample_or_test(candidate),
                std::cmp::Reverse(common),
                !in_include,
                candidate.len(),
            )
        };
        // What another system has in place of this one's is not meant.
        let is_ours = |candidate: &&&'a str| {
            other_system_of(candidate).is_none() || other_system_of(from).is_some()
        };
        let best = candidates
            .iter()
            .filter(fits)
            .filter(is_ours)
            .min_by_key(near)
            .filter(|_| !is_standard)?;
        let folder = best
            .strip_suffix(path)
            .unwrap_or_default()
            .trim_end_matches('/');
        Some(IncludedFile {
            path: best,
            searched: Some(folder.to_owned()),
        })
    }

    /// The headers of a library that its users may include, and those that only it does. Where a
    /// folder is called `include`, the first ones are in it; others of its users' includes are
    /// added.
    pub fn parted(
        &self,
        headers: &BTreeSet<String>,
        used: &BTreeSet<&str>,
        sources: &BTreeSet<String>,
    ) -> (BTreeSet<String>, BTreeSet<String>) {
        let is_public = |header: &str| {
            folder_of(header)
                .split('/')
                .any(|part| matches!(part, "include" | "inc"))
        };
        if !headers.iter().any(|header| is_public(header)) {
            return (headers.clone(), BTreeSet::new());
        }
        let reached = |queue: Vec<&'a str>, seen: &mut BTreeSet<&'a str>| {
            let mut queue = queue;
            while let Some(file) = queue.pop() {
                if seen.insert(file) {
                    let includes = self
                        .scans
                        .get(file)
                        .into_iter()
                        .flat_map(|scan| &scan.includes);
                    queue.extend(
                        includes
                            .filter_map(|one| self.included(file, &one.path, one.is_quoted))
                            .map(|found| found.path),
                    );
                }
            }
        };
        let known = |file: &str| self.scans.get_key_value(file).map(|(file, _)| *file);
        let open = headers
            .iter()
            .filter(|header| is_public(header) || used.contains(header.as_str()));
        let mut public = BTreeSet::new();
        reached(
            open.filter_map(|header| known(header)).collect(),
            &mut public,
        );
        let mut own = BTreeSet::new();
        reached(
            sources.iter().filter_map(|source| known(source)).collect(),
            &mut own,
        );
        let of = |set: &BTreeSet<&str>| {
            headers
                .iter()
                .filter(|header| set.contains(header.as_str()))
                .cloned()
                .collect::<BTreeSet<String>>()
        };
        let internal = of(&own).difference(&of(&public)).cloned().collect();
        (of(&public), internal)
    }

    /// The only header of a name that is included below a folder in which it does not lie: building
    /// lays it there.
    pub fn laid(&self, path: &str) -> Option<(&'a str, String)> {
        let (place, name) = path
            .rsplit_once('/')
            .filter(|(place, _)| !place.split('/').any(|part| part == ".."))?;
        let is_meant = |file: &&&str| {
            is_header(file) && !is_sample_or_test(file) && other_system_of(file).is_none()
        };
        let mut found = self.names.get(name)?.iter().filter(is_meant);
        let header = found.next()?;
        found.next().is_none().then(|| (*header, place.to_owned()))
    }

    /// Each file that is included, with who includes it.
    pub fn includers(&self) -> &BTreeMap<&'a str, BTreeSet<&'a str>> {
        &self.includers
    }

    /// Sources that include a file in which a program begins.
    pub fn begun_by_others(&self) -> BTreeSet<&'a str> {
        let begins = |file: &str| self.scans.get(file).is_some_and(|scan| scan.has_main);
        self.includers
            .iter()
            .filter(|(file, _)| begins(file))
            .flat_map(|(_, users)| users)
            .copied()
            .collect()
    }

    /// Sources that others than tests and samples include: they are a part of these, unless they
    /// have a header that further ones include.
    pub fn included_sources(&self) -> BTreeSet<&'a str> {
        let is_used = |users: &BTreeSet<&str>| users.iter().any(|user| !is_sample_or_test(user));
        let stands_alone = |file: &str, users: &BTreeSet<&str>| {
            let headers = self
                .names
                .get(format!("{}.h", stem_of(file)).as_str())
                .into_iter()
                .flatten();
            let mut wanted = headers
                .filter_map(|header| self.includers.get(header))
                .flatten();
            wanted.any(|user| *user != file && !users.contains(user) && is_source(user))
        };
        let included = self.includers.iter().filter(|(file, users)| {
            is_source(file) && is_used(users) && !stands_alone(file, users)
        });
        included.map(|(file, _)| *file).collect()
    }

    /// The source beside a header with the same name, if it is part of no program by itself.
    pub fn twin(&self, header: &str) -> Option<&'a str> {
        C_SOURCES.iter().find_map(|ext| {
            let path = joined(folder_of(header), &format!("{}.{ext}", stem_of(header)))?;
            let (file, scan) = self.scans.get_key_value(path.as_str())?;
            (!scan.has_main).then_some(*file)
        })
    }

    /// Whether a header of a source's name is included from somewhere.
    pub fn has_included_header(&self, source: &str) -> bool {
        self.included_stems.contains(stem_of(source))
    }

    /// Whether a header of a source's name is included from other folders.
    pub fn used_from_elsewhere(&self, source: &str) -> bool {
        let headers = HEADERS.iter().filter_map(|ext| {
            self.names
                .get(format!("{}.{ext}", stem_of(source)).as_str())
        });
        let users = headers
            .flatten()
            .filter_map(|header| self.includers.get(header))
            .flatten();
        users
            .into_iter()
            .any(|user| folder_of(user) != folder_of(source))
    }

    /// The components of which something is included from other ones.
    pub fn used_components<'o>(&self, owners: &'o BTreeMap<&'a str, String>) -> BTreeSet<&'o str> {
        let mut used = BTreeSet::new();
        for (file, users) in &self.includers {
            let Some(owner) = owners.get(file) else {
                continue;
            };
            if users.iter().any(|user| owners.get(user) != Some(owner)) {
                used.insert(owner.as_str());
            }
        }
        used
    }
}

/// Headers of the standard library of C: files of these names in a tree stand in for them on other
/// systems.
const STANDARD_HEADERS: [&str; 24] = [
    "assert.h",
    "ctype.h",
    "errno.h",
    "fcntl.h",
    "float.h",
    "inttypes.h",
    "limits.h",
    "locale.h",
    "math.h",
    "setjmp.h",
    "signal.h",
    "stdarg.h",
    "stdbool.h",
    "stddef.h",
    "stdint.h",
    "stdio.h",
    "stdlib.h",
    "string.h",
    "strings.h",
    "time.h",
    "unistd.h",
    "wchar.h",
    "wctype.h",
    "getopt.h",
];

/// Whether a file is called as a header that is included by this path, with a further ending.
fn is_template_of(file: &str, path: &str) -> bool {
    let stem = file.rsplit_once('.').map_or(file, |(stem, _)| stem);
    stem.strip_suffix(path)
        .is_some_and(|before| before.is_empty() || before.ends_with('/'))
}
