//! The shortest globs that mean just some files, so that a new file beside them is found later.

use std::collections::{BTreeMap, BTreeSet};

use crate::tree::{ext_of, folder_of, is_below};

/// A glob, with what it does not mean.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Cover {
    /// A glob, or the path of one file.
    pub pattern: String,
    /// Globs of files that are not meant.
    pub except: Vec<String>,
}

/// Endings of files that are meant by their names: another one of the same ending is something
/// else.
const SINGLE: [&str; 9] = [
    "", "cfg", "ini", "json", "lock", "md", "toml", "yaml", "yml",
];

/// So many exceptions are still easier to read than names.
const MOST_EXCEPTIONS: usize = 6;

/// Globs for files among all files of a package; paths from the package on, none of them a
/// definition file. With a root, all below it is tried first.
pub fn covers(all: &BTreeSet<&str>, files: &BTreeSet<&str>, root: Option<&str>) -> Vec<Cover> {
    let (hidden, files): (BTreeSet<&str>, BTreeSet<&str>) =
        files.iter().copied().partition(|file| is_hidden(file));
    let named = hidden.into_iter().map(|file| Cover {
        pattern: escaped(file),
        except: Vec::new(),
    });
    let mut named: Vec<Cover> = named.collect();
    named.extend(covers_of_seen(all, &files, root));
    named
}

/// The same, where globs see all of the files.
fn covers_of_seen(all: &BTreeSet<&str>, files: &BTreeSet<&str>, root: Option<&str>) -> Vec<Cover> {
    let folders: BTreeSet<&str> = files.iter().map(|file| folder_of(file)).collect();
    let top = match root {
        Some(root) if files.iter().all(|file| is_below(file, root)) => Some(root.to_owned()),
        _ => (folders.len() > 1).then(|| common_folder(files)),
    };
    if let Some(cover) = top.and_then(|top| whole(all, files, top)) {
        return vec![cover];
    }
    let mut covers = Vec::new();
    for folder in folders {
        let here: BTreeSet<&str> = files
            .iter()
            .copied()
            .filter(|file| folder_of(file) == folder)
            .collect();
        covers.extend(in_folder(all, folder, &here));
    }
    covers
}

/// One glob for files of several folders, if there is such.
fn whole(all: &BTreeSet<&str>, files: &BTreeSet<&str>, top: String) -> Option<Cover> {
    let exts: BTreeSet<&str> = files.iter().map(|file| ext_of(file)).collect();
    let below: BTreeSet<&str> = all
        .iter()
        .copied()
        .filter(|file| is_below(file, &top))
        .collect();
    let prefix = if top.is_empty() {
        String::new()
    } else {
        format!("{}/", escaped(&top))
    };
    // At the top, this would mean the definitions, too.
    if !top.is_empty() && below == *files && (exts.len() > 2 || exts.contains("")) {
        return Some(Cover {
            pattern: format!("{prefix}**/*"),
            except: Vec::new(),
        });
    }
    if exts.contains("") {
        return None;
    }
    let like: BTreeSet<&str> = below
        .iter()
        .copied()
        .filter(|file| exts.contains(ext_of(file)))
        .collect();
    let others: BTreeSet<&str> = like.difference(files).copied().collect();
    let except = exceptions(&below, files, &others);
    let is_short = except.len() <= MOST_EXCEPTIONS && except.len() * 2 <= files.len();
    is_short.then(|| Cover {
        pattern: format!("{prefix}**/*{}", ending(&exts)),
        except,
    })
}

/// Globs for files of one folder.
fn in_folder(all: &BTreeSet<&str>, folder: &str, files: &BTreeSet<&str>) -> Vec<Cover> {
    let one = |file: &str| Cover {
        pattern: escaped(file),
        except: Vec::new(),
    };
    let (plain, ended): (BTreeSet<&str>, BTreeSet<&str>) = files
        .iter()
        .copied()
        .partition(|file| SINGLE.contains(&ext_of(file)) || is_hidden(file));
    let mut covers: Vec<Cover> = plain.into_iter().map(one).collect();
    if ended.len() < 2 {
        covers.extend(ended.into_iter().map(one));
        return covers;
    }
    let exts: BTreeSet<&str> = ended.iter().map(|file| ext_of(file)).collect();
    let inside = all.iter().copied().filter(|file| folder_of(file) == folder);
    let others: Vec<&str> = inside
        .filter(|file| exts.contains(ext_of(file)) && !ended.contains(file))
        .collect();
    if others.len() > MOST_EXCEPTIONS.min(ended.len()) {
        covers.extend(ended.into_iter().map(one));
        return covers;
    }
    let prefix = if folder.is_empty() {
        String::new()
    } else {
        format!("{}/", escaped(folder))
    };
    let except = others.into_iter().map(escaped).collect();
    covers.push(Cover {
        pattern: format!("{prefix}*{}", ending(&exts)),
        except,
    });
    covers
}

/// Globs for files that are not meant: whole folders where nothing in them is.
fn exceptions(
    below: &BTreeSet<&str>,
    files: &BTreeSet<&str>,
    others: &BTreeSet<&str>,
) -> Vec<String> {
    let mut found: BTreeMap<String, ()> = BTreeMap::new();
    let mut done: BTreeSet<&str> = BTreeSet::new();
    for other in others {
        if done.contains(other) {
            continue;
        }
        let mut top = "";
        let mut folder = folder_of(other);
        while !folder.is_empty() && !files.iter().any(|file| is_below(file, folder)) {
            top = folder;
            folder = folder_of(folder);
        }
        let is_folder = !top.is_empty() && below.iter().any(|file| is_below(file, top));
        let pattern = if is_folder {
            format!("{}/**/*", escaped(top))
        } else {
            escaped(other)
        };
        if is_folder {
            done.extend(others.iter().filter(|other| is_below(other, top)));
        }
        found.insert(pattern, ());
    }
    found.into_keys().collect()
}

fn ending(exts: &BTreeSet<&str>) -> String {
    let all: Vec<String> = exts.iter().map(|ext| escaped(ext)).collect();
    if all.len() == 1 {
        format!(".{}", all[0])
    } else {
        format!(".{{{}}}", all.join(","))
    }
}

/// Whether globs pass over a file.
fn is_hidden(file: &str) -> bool {
    crate::tree::name_of(file).starts_with('.')
}

/// The deepest folder that all files are below.
pub fn common_folder(files: &BTreeSet<&str>) -> String {
    let mut folder = files.iter().next().map_or("", |file| folder_of(file));
    while !files.iter().all(|file| is_below(file, folder)) {
        folder = folder_of(folder);
    }
    folder.to_owned()
}

/// A path as a glob that means only it.
fn escaped(path: &str) -> String {
    let mut pattern = String::with_capacity(path.len());
    for c in path.chars() {
        if matches!(c, '*' | '?' | '[' | ']' | '{' | '}' | '\\') {
            pattern.push('\\');
        }
        pattern.push(c);
    }
    pattern
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(all: &str, files: &str) -> String {
        let set = |text: &'static str| text.split(' ').collect::<BTreeSet<&str>>();
        let all: &'static str = Box::leak(all.to_owned().into_boxed_str());
        let files: &'static str = Box::leak(files.to_owned().into_boxed_str());
        let covers = covers(&set(all), &set(files), None);
        let written = covers.iter().map(|cover| match cover.except.len() {
            0 => cover.pattern.clone(),
            _ => format!("{} without {}", cover.pattern, cover.except.join(" ")),
        });
        written.collect::<Vec<_>>().join("; ")
    }

    #[test]
    fn globs_mean_just_the_files() {
        assert_eq!(of("a.c b.c a.h", "a.c b.c"), "*.c");
        assert_eq!(of("a.c b.c c.c a.h", "a.c b.c"), "*.c without c.c");
        assert_eq!(of("a.c b.c", "a.c"), "a.c");
        assert_eq!(
            of("src/a.c src/b.cc src/x.h", "src/a.c src/b.cc"),
            "src/*.{c,cc}"
        );
        assert_eq!(
            of("src/a.c src/deep/b.c t/x.c", "src/a.c src/deep/b.c"),
            "src/**/*.c"
        );
        assert_eq!(
            of("src/a.c src/deep/b src/x.h", "src/a.c src/deep/b src/x.h"),
            "src/**/*"
        );
        assert_eq!(
            of("src/a.c src/deep/b.c src/a.h", "src/a.c src/deep/b.c"),
            "src/**/*.c"
        );
        assert_eq!(
            of(
                "src/a.c src/b.c src/d/b.c src/w/x.c src/w/y.c src/a.h",
                "src/a.c src/b.c src/d/b.c"
            ),
            "src/**/*.c without src/w/**/*"
        );
        assert_eq!(of("a.c b.c c.c d.c e.c f.c", "a.c b.c"), "a.c; b.c");
        assert_eq!(
            of("LICENSE a.py b.py x/c.py", "LICENSE a.py b.py"),
            "LICENSE; *.py"
        );
        assert_eq!(of("a.toml b.toml c.py", "a.toml b.toml"), "a.toml; b.toml");
        assert_eq!(of("a[id].ts", "a[id].ts"), "a\\[id\\].ts");
    }
}
