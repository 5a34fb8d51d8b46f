//! What older programs left on disk is read, or put aside: whatever becomes of it, the results are
//! right.
//!
//! `tests/older/VERSION.tar.gz` has a workspace, a cache, a shared cache and a file of results as a
//! program of that version left them (`scripts/keep-older`). When a format changes, this program
//! gets a file of its own, and those that are there stay.

use std::fs;
use std::path::{Path, PathBuf};

use crate::sandbox::{Run, Sandbox};

/// The folders of an older program, unpacked.
struct Older {
    _place: tempfile::TempDir,
    sandbox: Sandbox,
    folder: PathBuf,
    root_key: String,
}

/// One for each kept archive.
fn all() -> Vec<(String, Older)> {
    let kept = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/older");
    let mut files: Vec<PathBuf> = fs::read_dir(kept)
        .unwrap()
        .map(|entry| entry.unwrap().path())
        .collect();
    files.sort();
    assert!(!files.is_empty());
    let unpacked = |file: &PathBuf| {
        let place = tempfile::tempdir().unwrap();
        let bytes = flate2::read::GzDecoder::new(fs::File::open(file).unwrap());
        tar::Archive::new(bytes).unpack(place.path()).unwrap();
        let folder = place.path().to_owned();
        let mut sandbox = Sandbox::new(&[]);
        sandbox.folder = folder.join("workspace");
        let root_key = fs::read_to_string(folder.join("root.pub"))
            .unwrap()
            .trim()
            .to_owned();
        // One before these commands shares nothing that is read any more.
        let shared = folder.join("shared");
        let settings = match root_key.as_str() {
            "" => String::new(),
            key => format!(
                "[shared]\nat = \"{}\"\nroot_key = \"{key}\"\n",
                shared.display()
            ),
        };
        fs::write(sandbox.folder.join("nubrik.toml"), settings).unwrap();
        let name = file.file_name().unwrap().to_str().unwrap().to_owned();
        (
            name,
            Older {
                _place: place,
                sandbox,
                folder,
                root_key,
            },
        )
    };
    files.iter().map(unpacked).collect()
}

impl Older {
    /// Runs with the older cache and, where it is wanted, the older shared cache.
    fn run(&self, args: &[&str], has_cache: bool, has_shared: bool) -> Run {
        let empty = tempfile::tempdir().unwrap();
        let cache = if has_cache {
            self.folder.join("cache")
        } else {
            empty.path().to_owned()
        };
        let mut variables = vec![("XDG_CACHE_HOME", cache.to_str().unwrap().to_owned())];
        if has_shared {
            variables.push(("NUBRIK_SHARED_ROOT_KEY", self.root_key.clone()));
        }
        let variables: Vec<(&str, &str)> = variables
            .iter()
            .map(|(name, value)| (*name, value.as_str()))
            .collect();
        self.sandbox.run_with(args, &variables)
    }

    fn forget(&self) {
        for folder in [".nubrik", "out"] {
            fs::remove_dir_all(self.sandbox.folder.join(folder)).unwrap();
        }
    }

    /// Whether all results are what their definitions say.
    fn must_be_right(&self, name: &str, note: &str) {
        let read = |path: &str| {
            fs::read_to_string(self.sandbox.folder.join("out/default").join(path)).unwrap()
        };
        assert_eq!(read("read.txt"), "a tide\n", "{name}");
        assert_eq!(
            (read("pages/one.html"), read("pages/two.html")),
            ("one\n".to_owned(), note.to_owned()),
            "{name}"
        );
        assert_eq!(
            (read("tree/b"), read("chosen/tide.txt")),
            ("x\n".to_owned(), "ebb\n".to_owned()),
            "{name}"
        );
        assert_eq!(
            read("written/settings.json").trim(),
            "{\"tide\":\"ebb\",\"pages\":2}",
            "{name}"
        );
        let packed = fs::File::open(self.sandbox.folder.join("out/default/packed.tar.gz")).unwrap();
        let mut packed = tar::Archive::new(flate2::read::GzDecoder::new(packed));
        let names: Vec<String> = packed
            .entries()
            .unwrap()
            .map(|e| e.unwrap().path().unwrap().display().to_string())
            .collect();
        assert_eq!(names, ["in/b", "in/deep/a", "in/none/", "read"], "{name}");
    }
}

#[test]
fn a_workspace_of_an_older_program_is_built_on() {
    for (name, older) in all() {
        for command in ["history", "list", "plan"] {
            older.run(&[command], true, false).expect(0);
        }
        older.run(&["build"], true, false).expect(0);
        older.must_be_right(&name, "two\n");
        older.sandbox.write("notes/two.txt", "too\n");
        let run = older.run(&["build", "--json"], true, false).expect(0);
        assert_eq!(run.ran(), ["make two.html"], "{name}");
        older.must_be_right(&name, "too\n");
        let run = older.run(&["test"], true, false).expect(1);
        assert!(run.stdout.contains("dry"), "{name}: {}", run.stdout);
        older.run(&["report"], true, false).expect(0);
        older.run(&["why", "pages/two"], true, false).expect(0);
    }
}

#[test]
fn caches_of_an_older_program_give_nothing_wrong() {
    for (name, older) in all() {
        let is_shared = !older.root_key.is_empty();
        let choices = [(true, false), (false, true), (true, true)];
        for (has_cache, has_shared) in choices
            .into_iter()
            .filter(|(_, shared)| is_shared || !shared)
        {
            older.forget();
            older.sandbox.write("notes/two.txt", "two\n");
            older.run(&["build"], has_cache, has_shared).expect(0);
            older.must_be_right(&name, "two\n");
            older.sandbox.write("notes/two.txt", "new\n");
            older.run(&["build"], has_cache, has_shared).expect(0);
            older.must_be_right(&name, "new\n");
        }
        older.forget();
        older.sandbox.write("notes/two.txt", "two\n");
        let results = older.folder.join("results");
        if fs::metadata(&results).unwrap().len() > 0 {
            // Read, or refused; never half understood.
            let run = older.run(&["cache", "load", results.to_str().unwrap()], true, false);
            assert!(
                run.stdout.contains("loaded") || run.stderr.contains("version"),
                "{name}: {}",
                run.stderr
            );
        }
        older.run(&["build"], true, false).expect(0);
        older.must_be_right(&name, "two\n");
    }
}
