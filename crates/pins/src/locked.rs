//! Versions that a project's own clients have locked: these are taken, where they still fit, in
//! place of newer ones.

use std::fs;
use std::path::{Path, PathBuf};

use nubrik_disk::read_file;

use crate::solved::Preferred;
use crate::{PinProblem, Registry, Unreadable};

/// The most that one file may hold, in bytes.
const LIMIT: u64 = 64 << 20;

/// What the lock files of a registry's clients say.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct LockedVersions {
    /// The files, from the root, those nearest to it first.
    pub files: Vec<String>,
    /// Versions by names, those of the nearest file first.
    pub(crate) versions: Preferred,
}

/// How a lock file is read: names with versions, or why it cannot be.
type LockReader = fn(&str) -> Result<Vec<(String, String)>, Unreadable>;

/// How a file of this name says what is locked; `None` where it does not.
fn reader(registry: Registry, name: &str) -> Option<LockReader> {
    match registry {
        Registry::Rust => (name == "Cargo.lock").then_some(packages as LockReader),
        Registry::Js => (name == "package-lock.json").then_some(tree_of_packages as LockReader),
        Registry::Python if name == "uv.lock" => Some(packages),
        Registry::Python => (name.starts_with("requirements") && name.ends_with(".txt"))
            .then_some(exact_requirements as LockReader),
        // These choose the oldest version that does, which stays the same.
        Registry::Go | Registry::Java | Registry::Images | Registry::Archive => None,
    }
}

impl LockedVersions {
    /// What is locked below a root: of all packages in it, but for what is made, hidden, or only
    /// there for tests.
    ///
    /// # Errors
    /// When a file in the root itself cannot be read. Others that cannot be are somebody else's.
    pub(crate) fn below(root: &Path, registry: Registry) -> Result<LockedVersions, PinProblem> {
        let mut locked = LockedVersions::default();
        for path in lock_files(root, registry) {
            let shown = path
                .strip_prefix(root)
                .unwrap_or(&path)
                .display()
                .to_string();
            let Some(read) = path
                .file_name()
                .and_then(|name| reader(registry, name.to_str()?))
            else {
                continue;
            };
            let text = read_file(&path, LIMIT).map_err(Unreadable::from);
            let text = text.and_then(|bytes| {
                String::from_utf8(bytes).map_err(|_| Unreadable::form("it is no text"))
            });
            match text.and_then(|text| read(&text)) {
                Ok(found) if found.is_empty() => {}
                Ok(found) => locked.add(registry, shown, found),
                Err(why) if path.parent() == Some(root) => {
                    let problem = PinProblem::new(format!("cannot read {shown}: {why}"));
                    return Err(problem.note("the versions that it locks are to be taken"));
                }
                Err(_) => {}
            }
        }
        Ok(locked)
    }

    fn add(&mut self, registry: Registry, file: String, found: Vec<(String, String)>) {
        self.files.push(file);
        for (name, version) in found {
            let versions = self
                .versions
                .entry((registry.description().spelled)(&name))
                .or_default();
            if !versions.contains(&version) {
                versions.push(version);
            }
        }
    }
}

/// The lock files of a registry's clients below a root, those nearest to it first.
fn lock_files(root: &Path, registry: Registry) -> Vec<PathBuf> {
    let (mut found, mut open) = (Vec::new(), vec![root.to_owned()]);
    while !open.is_empty() {
        let mut below = Vec::new();
        for folder in open {
            // What a person may not read is no source of theirs.
            let Ok(entries) = fs::read_dir(&folder) else {
                continue;
            };
            let mut entries: Vec<fs::DirEntry> = entries.flatten().collect();
            entries.sort_by_key(fs::DirEntry::file_name);
            for entry in entries {
                let name = entry.file_name();
                let name = name.to_string_lossy();
                let is_made = matches!(&*name, "out" | "target") && folder == root;
                let is_passed = name.starts_with('.')
                    || matches!(
                        &*name,
                        "node_modules" | "tests" | "test" | "testdata" | "fixtures" | "vendor"
                    );
                match entry.file_type() {
                    Ok(kind) if kind.is_dir() && !is_made && !is_passed => below.push(entry.path()),
                    Ok(kind) if kind.is_file() && reader(registry, &name).is_some() => {
                        found.push(entry.path())
                    }
                    _ => {}
                }
            }
        }
        open = below;
    }
    found
}

/// Packages in TOML: `[[package]]` with a name, a version, and a source where it is none of the
/// project itself.
fn packages(text: &str) -> Result<Vec<(String, String)>, Unreadable> {
    let all: toml::Table = toml::from_str(text).map_err(|e| Unreadable::form(e.message()))?;
    let packages = all
        .get("package")
        .and_then(toml::Value::as_array)
        .map(Vec::as_slice)
        .unwrap_or_default();
    let of_registry = |package: &&toml::Value| match package.get("source") {
        Some(toml::Value::String(source)) => {
            source.starts_with("registry+") || source.starts_with("sparse+")
        }
        Some(toml::Value::Table(source)) => source.contains_key("registry"),
        _ => false,
    };
    let named = |package: &toml::Value| {
        let text = |key: &str| Some(package.get(key)?.as_str()?.to_owned());
        Some((text("name")?, text("version")?))
    };
    Ok(packages
        .iter()
        .filter(of_registry)
        .filter_map(named)
        .collect())
}

/// Packages by the folders in which a client lays them, or, in older files, in one another.
fn tree_of_packages(text: &str) -> Result<Vec<(String, String)>, Unreadable> {
    let all: serde_json::Value =
        serde_json::from_str(text).map_err(|e| Unreadable::form(e.to_string()))?;
    let mut found = Vec::new();
    let version = |package: &serde_json::Value| {
        let is_link = package.get("link").is_some_and(|link| link == true);
        let version = package.get("version")?.as_str()?;
        // What is a path or an address is of no registry.
        (!is_link && version.starts_with(|c: char| c.is_ascii_digit())).then(|| version.to_owned())
    };
    if let Some(packages) = all.get("packages").and_then(serde_json::Value::as_object) {
        for (folder, package) in packages {
            let below = folder.rsplit_once("node_modules/").map(|(_, name)| name);
            let name = package
                .get("name")
                .and_then(serde_json::Value::as_str)
                .or(below);
            found.extend(
                below
                    .and(name)
                    .and_then(|name| Some((name.to_owned(), version(package)?))),
            );
        }
        return Ok(found);
    }
    let mut open: Vec<&serde_json::Value> = vec![&all];
    while let Some(package) = open.pop() {
        for (name, needed) in package
            .get("dependencies")
            .and_then(serde_json::Value::as_object)
            .into_iter()
            .flatten()
        {
            found.extend(version(needed).map(|version| (name.clone(), version)));
            open.push(needed);
        }
    }
    Ok(found)
}

/// Lines that require exactly one version.
fn exact_requirements(text: &str) -> Result<Vec<(String, String)>, Unreadable> {
    let exact = |line: &str| {
        let (name, version) = line.split_once("==")?;
        let name = name.split('[').next().unwrap_or(name).trim();
        let version = version.trim_start_matches('=');
        let version = version
            .split([' ', ';', '\\', ',', '#'])
            .next()
            .unwrap_or_default();
        let is_name = !name.is_empty()
            && name
                .chars()
                .all(|c| c.is_ascii_alphanumeric() || "-_.".contains(c));
        (is_name && !version.is_empty() && !version.contains('*'))
            .then(|| (name.to_owned(), version.to_owned()))
    };
    Ok(text.lines().filter_map(|line| exact(line.trim())).collect())
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use super::*;

    fn locked(registry: Registry, files: &[(&str, &str)]) -> Result<Vec<String>, PinProblem> {
        let folder = tempfile::tempdir().unwrap();
        for (path, text) in files {
            let path = folder.path().join(path);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, text).unwrap();
        }
        let found = LockedVersions::below(folder.path(), registry)?;
        Ok(found
            .versions
            .iter()
            .map(|(name, versions)| format!("{name} {}", versions.join(" ")))
            .collect())
    }

    #[test]
    fn each_client_says_what_it_locked() {
        let cargo = "version = 4\n[[package]]\nname = \"ebb\"\nversion = \"1.2.0\"\nsource = \"registry+https://a.example\"\n\
            [[package]]\nname = \"ebb\"\nversion = \"0.9.1\"\nsource = \"registry+https://a.example\"\n\
            [[package]]\nname = \"own\"\nversion = \"0.1.0\"\n\
            [[package]]\nname = \"forked\"\nversion = \"0.1.0\"\nsource = \"git+https://a.example\"\n";
        assert_eq!(
            locked(Registry::Rust, &[("Cargo.lock", cargo)]).unwrap(),
            ["ebb 1.2.0 0.9.1"]
        );
        let npm = r#"{"packages": {"": {"version": "1.0.0"}, "node_modules/ebb": {"version": "1.2.0"}, "own": {"version": "3.0.0"},
            "node_modules/flow/node_modules/@isles/ebb": {"version": "0.9.1"}, "node_modules/own": {"link": true, "version": "3.0.0"},
            "node_modules/other": {"name": "real", "version": "2.0.0"}}}"#;
        let of_npm = ["@isles/ebb 0.9.1", "ebb 1.2.0", "real 2.0.0"];
        assert_eq!(
            locked(Registry::Js, &[("package-lock.json", npm)]).unwrap(),
            of_npm
        );
        let older = r#"{"dependencies": {"ebb": {"version": "1.2.0", "dependencies": {"flow": {"version": "0.9.1"}}}, "x": {"version": "file:x"}}}"#;
        assert_eq!(
            locked(Registry::Js, &[("package-lock.json", older)]).unwrap(),
            ["ebb 1.2.0", "flow 0.9.1"]
        );
        let uv = "[[package]]\nname = \"Tide_Lib\"\nversion = \"2.1\"\nsource = { registry = \"https://a.example\" }\n\
            [[package]]\nname = \"own\"\nversion = \"1\"\nsource = { editable = \".\" }\n";
        assert_eq!(
            locked(Registry::Python, &[("uv.lock", uv)]).unwrap(),
            ["tide-lib 2.1"]
        );
        let lines = "# all\nebb[deep]==1.2.0 ; python_version > \"3\" \\\n    --hash=sha256:00\nflow>=1\nmoon == 2.*\nsea===3.0\n-r x==1\n";
        assert_eq!(
            locked(Registry::Python, &[("requirements.txt", lines)]).unwrap(),
            ["ebb 1.2.0", "sea 3.0"]
        );
    }

    #[test]
    fn the_nearest_file_wins_and_those_of_tests_say_nothing() {
        let files = [
            ("deep/requirements.txt", "ebb==1.0\nflow==3.0\n"),
            ("requirements-dev.txt", "ebb==2.0\n"),
            ("tests/requirements.txt", "ebb==9.0\n"),
            ("deep/uv.lock", "no [ toml"),
        ];
        assert_eq!(
            locked(Registry::Python, &files).unwrap(),
            ["ebb 2.0 1.0", "flow 3.0"]
        );
        let problem = locked(Registry::Rust, &[("Cargo.lock", "no [ toml")]).unwrap_err();
        assert!(
            problem.message.starts_with("cannot read Cargo.lock: "),
            "{problem:?}"
        );
        assert_eq!(
            locked(Registry::Go, &[("Cargo.lock", "no [ toml")]).unwrap(),
            [""; 0]
        );
    }
}
