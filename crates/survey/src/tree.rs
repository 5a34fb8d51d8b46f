//! The files of a folder, as a survey sees them: without what is hidden, ignored, made or somebody
//! else's.

use std::cell::{OnceCell, RefCell};
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::rc::Rc;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use ignore::WalkBuilder;
use ignore::gitignore::Gitignore;
use nubrik_disk::{ignored_in, read_file, read_text};
use parking_lot::Mutex;

/// A larger file is data, in bytes: nothing in it is read.
const TEXT_LIMIT: u64 = 4 << 20;

/// Folders that hold what tools made or fetched, wherever they are.
const MADE_FOLDERS: [&str; 2] = ["node_modules", "__pycache__"];

/// The ignore files of a folder and those below it, each read once.
struct IgnoreFiles {
    root: PathBuf,
    known: Mutex<HashMap<PathBuf, Arc<Gitignore>>>,
}

impl IgnoreFiles {
    fn of(root: &Path) -> IgnoreFiles {
        IgnoreFiles {
            root: root.to_owned(),
            known: Mutex::default(),
        }
    }

    fn of_folder(&self, folder: &Path) -> Arc<Gitignore> {
        let mut known = self.known.lock();
        if let Some(patterns) = known.get(folder) {
            return patterns.clone();
        }
        // What cannot be read says nothing here; evaluation refuses it.
        let patterns = Arc::new(ignored_in(folder).unwrap_or_else(|_| Gitignore::empty()));
        known.insert(folder.to_owned(), patterns.clone());
        patterns
    }

    /// Whether something in a folder that is not hidden itself is: the nearest ignore file that
    /// knows its name decides.
    fn hide(&self, path: &Path, is_folder: bool) -> bool {
        let folders = path
            .ancestors()
            .skip(1)
            .take_while(|folder| folder.starts_with(&self.root));
        let found =
            folders.map(|folder| self.of_folder(folder).matched(path, is_folder).map(|_| ()));
        found
            .into_iter()
            .find(|found| !found.is_none())
            .is_some_and(|found| found.is_ignore())
    }
}

/// The files below a folder. Paths go from there, with `/`; the empty one is the folder itself.
pub struct SourceTree {
    root: PathBuf,
    files: Vec<String>,
    folders: BTreeSet<String>,
    executable: BTreeSet<String>,
    ignored: usize,
    texts: RefCell<HashMap<String, Option<Rc<str>>>>,
    build_words: OnceCell<BTreeMap<String, String>>,
}

impl SourceTree {
    /// Looks at a folder. What cannot be read counts as not there, and so does what git ignores.
    pub fn look(root: &Path) -> SourceTree {
        let mut files = Vec::new();
        let mut executable = BTreeSet::new();
        let top = root.to_owned();
        let is_made = move |path: &Path| {
            let name = path
                .file_name()
                .and_then(|name| name.to_str())
                .unwrap_or_default();
            let beside = |other: &str| path.with_file_name(other).is_file();
            MADE_FOLDERS.contains(&name)
                || (name == "target" && beside("Cargo.toml"))
                || (name == "out" && beside("nubrik.toml"))
                || (path != top && path.join("nubrik.toml").is_file())
        };
        let mut walk = WalkBuilder::new(root);
        // The same files that globs of definitions see: ignored is what `.gitignore` of the
        // workspace says, nothing else.
        walk.git_global(false)
            .git_exclude(false)
            .git_ignore(false)
            .ignore(false)
            .parents(false);
        let ignored = IgnoreFiles::of(root);
        let ignored_entries = Arc::new(AtomicUsize::new(0));
        let count = ignored_entries.clone();
        let walk = walk.filter_entry(move |entry| {
            let is_folder = entry.file_type().is_some_and(|kind| kind.is_dir());
            let is_ignored = ignored.hide(entry.path(), is_folder);
            count.fetch_add(usize::from(is_ignored), Ordering::Relaxed);
            !(is_ignored || (is_folder && is_made(entry.path())))
        });
        for entry in walk
            .build()
            .flatten()
            .filter(|e| e.file_type().is_some_and(|kind| kind.is_file()))
        {
            let Ok(below) = entry.path().strip_prefix(root) else {
                continue;
            };
            let Some(path) = below.to_str() else { continue };
            let Ok(metadata) = entry.metadata() else {
                continue;
            };
            if metadata.mode() & 0o100 != 0 {
                executable.insert(path.to_owned());
            }
            files.push(path.to_owned());
        }
        files.extend(settings_of_tools(root, &files));
        let tree = SourceTree::with(root.to_owned(), files, executable, HashMap::new());
        SourceTree {
            ignored: ignored_entries.load(Ordering::Relaxed),
            ..tree
        }
    }

    /// A tree that is only thought of: paths with their texts.
    pub fn of(files: &[(&str, &str)]) -> SourceTree {
        let texts = files
            .iter()
            .map(|(path, text)| ((*path).to_owned(), Some(Rc::from(*text))))
            .collect();
        let paths = files.iter().map(|(path, _)| (*path).to_owned()).collect();
        SourceTree::with(
            PathBuf::from("/nowhere/sample"),
            paths,
            BTreeSet::new(),
            texts,
        )
    }

    fn with(
        root: PathBuf,
        mut files: Vec<String>,
        executable: BTreeSet<String>,
        texts: HashMap<String, Option<Rc<str>>>,
    ) -> SourceTree {
        files.sort_unstable();
        let mut folders = BTreeSet::from([String::new()]);
        for file in &files {
            let mut folder = folder_of(file);
            while !folder.is_empty() && folders.insert(folder.to_owned()) {
                folder = folder_of(folder);
            }
        }
        SourceTree {
            root,
            files,
            folders,
            executable,
            ignored: 0,
            texts: RefCell::new(texts),
            build_words: OnceCell::new(),
        }
    }

    /// The name of the folder itself, for what is named after it.
    pub fn name(&self) -> String {
        self.root
            .file_name()
            .map(|name| name.to_string_lossy().into_owned())
            .unwrap_or_default()
    }

    /// How many files and folders were not looked at, since an ignore file hides them; what is in
    /// such a folder is not counted.
    pub fn ignored(&self) -> usize {
        self.ignored
    }

    /// All files, sorted.
    pub fn files(&self) -> &[String] {
        &self.files
    }

    /// All folders with files in or below them, sorted.
    pub fn folders(&self) -> &BTreeSet<String> {
        &self.folders
    }

    /// Whether there is such a file.
    pub fn has(&self, path: &str) -> bool {
        self.files
            .binary_search_by(|file| file.as_str().cmp(path))
            .is_ok()
    }

    /// Whether there is such a folder.
    pub fn has_folder(&self, path: &str) -> bool {
        self.folders.contains(path)
    }

    /// Whether a file may be started.
    pub fn is_executable(&self, path: &str) -> bool {
        self.executable.contains(path)
    }

    /// The files in and below a folder.
    pub fn below<'t>(&'t self, folder: &'t str) -> impl Iterator<Item = &'t str> {
        // They are sorted: those of a folder follow one another, with at most some of its
        // neighbours among them.
        let start = match folder {
            "" => 0,
            folder => self.files.partition_point(|file| file.as_str() < folder),
        };
        let like = self.files[start..]
            .iter()
            .map(String::as_str)
            .take_while(move |file| file.starts_with(folder));
        like.filter(move |file| is_below(file, folder))
    }

    /// The files directly in a folder.
    pub fn inside<'t>(&'t self, folder: &'t str) -> impl Iterator<Item = &'t str> {
        self.below(folder)
            .filter(move |file| folder_of(file) == folder)
    }

    /// What a file says; `None` where it is not there or is no text.
    pub fn text(&self, path: &str) -> Option<Rc<str>> {
        if let Some(known) = self.texts.borrow().get(path) {
            return known.clone();
        }
        let read = || {
            let file = self.has(path).then(|| self.root.join(path))?;
            let bytes = read_file(&file, TEXT_LIMIT).ok()?;
            (!bytes.contains(&0)).then(|| Rc::from(String::from_utf8_lossy(&bytes).as_ref()))
        };
        let text: Option<Rc<str>> = read();
        self.texts
            .borrow_mut()
            .insert(path.to_owned(), text.clone());
        text
    }

    /// What files of the build define, read once.
    pub(crate) fn build_words(
        &self,
        read: impl FnOnce(&SourceTree) -> BTreeMap<String, String>,
    ) -> &BTreeMap<String, String> {
        self.build_words.get_or_init(|| read(self))
    }

    /// Files by their names without folders.
    pub fn by_name(&self) -> BTreeMap<&str, Vec<&str>> {
        let mut names: BTreeMap<&str, Vec<&str>> = BTreeMap::new();
        for file in &self.files {
            names.entry(name_of(file)).or_default().push(file);
        }
        names
    }
}

/// Hidden files beside manifests, in which tools of JavaScript keep their settings. All other
/// hidden files are nobody's sources.
fn settings_of_tools(root: &Path, files: &[String]) -> Vec<String> {
    let manifests = files.iter().filter(|file| name_of(file) == "package.json");
    let mut found = Vec::new();
    for folder in manifests.map(|file| folder_of(file)) {
        for entry in std::fs::read_dir(root.join(folder))
            .into_iter()
            .flatten()
            .flatten()
        {
            let name = entry.file_name().to_string_lossy().into_owned();
            let is_settings = name.starts_with('.')
                && name
                    .split('.')
                    .nth(1)
                    .is_some_and(|word| word.ends_with("rc"));
            if !is_settings || !entry.file_type().is_ok_and(|kind| kind.is_file()) {
                continue;
            }
            // Where packages come from, and with whose name, is nobody's input. What cannot be read
            // may say that, too.
            let text = read_text(&entry.path());
            let words = ["registry", "_auth", "token", "password"];
            let is_of_registry = text.map_or(true, |text| {
                words.iter().any(|word| text.to_lowercase().contains(word))
            });
            if !is_of_registry {
                found.extend(joined(folder, &name));
            }
        }
    }
    found
}

/// The folder that a path is in; empty for the top.
pub fn folder_of(path: &str) -> &str {
    path.rsplit_once('/').map_or("", |(folder, _)| folder)
}

/// A path without its folders.
pub fn name_of(path: &str) -> &str {
    path.rsplit_once('/').map_or(path, |(_, name)| name)
}

/// The ending of a name without its dot; empty where there is none.
pub fn ext_of(path: &str) -> &str {
    name_of(path)
        .rsplit_once('.')
        .map_or("", |(stem, ext)| if stem.is_empty() { "" } else { ext })
}

/// A name without folders and ending.
pub fn stem_of(path: &str) -> &str {
    let name = name_of(path);
    name.rsplit_once('.')
        .map_or(name, |(stem, _)| if stem.is_empty() { name } else { stem })
}

/// Whether a path is a folder or below it.
pub fn is_below(path: &str, folder: &str) -> bool {
    folder.is_empty()
        || path == folder
        || (path.starts_with(folder) && path.as_bytes().get(folder.len()) == Some(&b'/'))
}

/// A path from a folder that it is below.
pub fn below<'p>(path: &'p str, folder: &str) -> &'p str {
    path.strip_prefix(folder)
        .map_or(path, |rest| rest.strip_prefix('/').unwrap_or(rest))
}

/// Two parts of a path, put together and with `.` and `..` resolved; `None` where it leaves the
/// top.
pub fn joined(folder: &str, path: &str) -> Option<String> {
    let mut parts: Vec<&str> = folder.split('/').filter(|part| !part.is_empty()).collect();
    for part in path.split('/') {
        match part {
            "" | "." => {}
            ".." => {
                parts.pop()?;
            }
            _ => parts.push(part),
        }
    }
    Some(parts.join("/"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_come_apart_and_together() {
        assert_eq!(
            (
                folder_of("a/b.c"),
                name_of("a/b.c"),
                ext_of("a/b.c"),
                stem_of("a/b.c")
            ),
            ("a", "b.c", "c", "b")
        );
        assert_eq!(
            (ext_of("a/.profile"), stem_of(".profile"), ext_of("LICENSE")),
            ("", ".profile", "")
        );
        assert_eq!(joined("a/b", "../c/./d.h").as_deref(), Some("a/c/d.h"));
        assert_eq!(joined("a", "../../x"), None);
        assert!(is_below("src/a.c", "src") && !is_below("srcs/a.c", "src") && is_below("x", ""));
        assert_eq!(below("src/a.c", "src"), "a.c");
    }

    #[test]
    fn a_tree_shows_neither_hidden_nor_ignored_nor_made_files() {
        let folder = tempfile::tempdir().expect("a folder");
        let root = folder.path();
        for (path, text) in [
            (".gitignore", "*.log\n/local\n"),
            ("a.c", "int a;"),
            ("b.log", ""),
            ("local/x.c", ""),
            (".hidden/y.c", ""),
            ("node_modules/z/index.js", ""),
            ("Cargo.toml", ""),
            ("target/debug/a.c", ""),
            ("other/nubrik.toml", ""),
            ("other/w.c", ""),
            ("docs/target/page.md", "words"),
        ] {
            let path = root.join(path);
            std::fs::create_dir_all(path.parent().expect("a parent")).expect("made");
            std::fs::write(path, text).expect("written");
        }
        std::fs::write(root.join("data.bin"), [0u8, 1, 2]).expect("written");
        let tree = SourceTree::look(root);
        assert_eq!(
            tree.files(),
            ["Cargo.toml", "a.c", "data.bin", "docs/target/page.md"]
        );
        assert_eq!(tree.text("a.c").as_deref(), Some("int a;"));
        assert_eq!(tree.text("data.bin"), None);
        assert!(tree.has_folder("docs/target") && !tree.has_folder("local"));
    }
}
