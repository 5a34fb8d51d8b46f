//! A workspace in a temporary folder, and the built program run in it with a cleared environment.

#![allow(dead_code)] // Each test program uses its part.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use serde_json::Value;

pub struct Sandbox {
    root: tempfile::TempDir,
    /// The workspace.
    pub folder: PathBuf,
    cache: PathBuf,
    /// Whether the program has to do without sandboxes.
    pub without_sandboxes: bool,
}

/// What a run of the program gave.
pub struct Run {
    pub code: i32,
    pub stdout: String,
    pub stderr: String,
}

impl Run {
    /// The values printed with `--json`.
    pub fn events(&self) -> Vec<Value> {
        self.stdout
            .lines()
            .map(|l| serde_json::from_str(l).unwrap_or_else(|e| panic!("{l}: {e}")))
            .collect()
    }

    /// What steps of a state did, sorted.
    pub fn said(&self, state: &str) -> Vec<String> {
        let steps = self
            .events()
            .into_iter()
            .filter(|e| e["event"] == "step" && e["state"] == state);
        let mut said: Vec<String> = steps
            .map(|e| e["say"].as_str().unwrap().to_owned())
            .collect();
        said.sort();
        said
    }

    pub fn ran(&self) -> Vec<String> {
        self.said("ran")
    }

    /// The reason of the step that says so.
    pub fn reason(&self, say: &str) -> String {
        let step = self
            .events()
            .into_iter()
            .find(|e| e["event"] == "step" && e["say"] == say);
        step.unwrap_or_else(|| panic!("no step says {say}: {}", self.stdout))["reason"]
            .as_str()
            .unwrap()
            .to_owned()
    }

    pub fn summary(&self) -> Value {
        let last = self.events().pop().expect("a summary");
        assert_eq!(last["event"], "summary");
        last
    }

    /// Panics unless these words were printed.
    pub fn says(self, words: &str) -> Run {
        let said = self.stdout.contains(words) || self.stderr.contains(words);
        assert!(
            said,
            "{words}\n--- stdout\n{}\n--- stderr\n{}",
            self.stdout, self.stderr
        );
        self
    }

    /// Panics with everything printed unless the program ended with this code.
    pub fn expect(self, code: i32) -> Run {
        assert_eq!(
            self.code, code,
            "\n--- stdout\n{}\n--- stderr\n{}",
            self.stdout, self.stderr
        );
        self
    }
}

/// The program that is tested: the one that Cargo built, or another one that a variable names.
pub fn program() -> PathBuf {
    std::env::var_os("NUBRIK_PROGRAM")
        .map_or_else(|| env!("CARGO_BIN_EXE_nubrik").into(), PathBuf::from)
}

/// Whether steps are in sandboxes here.
pub fn has_sandboxes() -> bool {
    std::env::var_os("NUBRIK_TEST_WITHOUT_SANDBOX").is_none()
        && nubrik_confine::Sandboxes::new(&std::env::temp_dir()).is_ok()
}

impl Sandbox {
    /// A workspace with these files.
    pub fn new(files: &[(&str, &str)]) -> Sandbox {
        let root = tempfile::tempdir().unwrap();
        let folder = root.path().canonicalize().unwrap().join("work");
        fs::create_dir(&folder).unwrap();
        let cache = root.path().join("cache");
        let without_sandboxes = std::env::var_os("NUBRIK_TEST_WITHOUT_SANDBOX").is_some();
        let sandbox = Sandbox {
            root,
            folder,
            cache,
            without_sandboxes,
        };
        for (path, text) in [("nubrik.toml", "")].iter().chain(files) {
            sandbox.write(path, text);
        }
        sandbox
    }

    /// A second workspace with the same sources, and a store of its own.
    pub fn copy_from_nothing(&self) -> Sandbox {
        let other = Sandbox::new(&[]);
        for (path, bytes) in self.files_below("") {
            if !path.starts_with("out/") && !path.starts_with(".nubrik/") {
                let to = other.folder.join(&path);
                fs::create_dir_all(to.parent().unwrap()).unwrap();
                fs::write(to, bytes).unwrap();
            }
        }
        other
    }

    /// A second workspace in another place that uses the same store.
    pub fn sharing_store(&self, name: &str) -> Sandbox {
        let mut other = self.copy_from_nothing();
        let elsewhere = other.root.path().join(name);
        fs::rename(&other.folder, &elsewhere).unwrap();
        other.folder = elsewhere;
        other.cache = self.cache.clone();
        other.without_sandboxes = self.without_sandboxes;
        other
    }

    pub fn write(&self, path: &str, text: &str) {
        let path = self.folder.join(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, text).unwrap();
    }

    pub fn read(&self, path: &str) -> String {
        fs::read_to_string(self.folder.join(path)).unwrap_or_else(|e| panic!("{path}: {e}"))
    }

    pub fn exists(&self, path: &str) -> bool {
        self.folder.join(path).exists()
    }

    /// All files below a folder, with their contents.
    pub fn files_below(&self, folder: &str) -> BTreeMap<String, Vec<u8>> {
        let mut files = BTreeMap::new();
        collect(&self.folder, &self.folder.join(folder), &mut files);
        files
    }

    /// Where the program remembers something of the person who runs it.
    #[allow(dead_code)] // Not all tests ask.
    pub fn state(&self) -> PathBuf {
        self.root.path().join(".local/state")
    }

    /// The program, ready to run in a folder of the workspace.
    pub fn command_in(&self, folder: &str, args: &[&str]) -> Command {
        let mut command = Command::new(program());
        command
            .args(args)
            .current_dir(self.folder.join(folder))
            .env_clear()
            .env("PATH", std::env::var_os("PATH").unwrap())
            .env("HOME", self.root.path())
            .env("XDG_CACHE_HOME", &self.cache)
            .env("LANG", "C.UTF-8")
            // Tests know the registries that they made, and no others.
            .env("NUBRIK_ASK_CLIENTS", "off")
            .stdin(Stdio::null());
        if self.without_sandboxes {
            command.env("NUBRIK_SANDBOX", "off");
        }
        command
    }

    pub fn command(&self, args: &[&str]) -> Command {
        self.command_in("", args)
    }

    pub fn run_in(&self, folder: &str, args: &[&str]) -> Run {
        finish(self.command_in(folder, args))
    }

    pub fn run(&self, args: &[&str]) -> Run {
        self.run_in("", args)
    }

    /// Runs with more variables in the environment.
    pub fn run_with(&self, args: &[&str], variables: &[(&str, &str)]) -> Run {
        let mut command = self.command_in("", args);
        command.envs(variables.iter().copied());
        finish(command)
    }

    /// All files of the store and whatever else is kept for all workspaces, with their contents.
    pub fn cached_files(&self) -> BTreeMap<String, Vec<u8>> {
        let mut files = BTreeMap::new();
        collect(&self.cache, &self.cache, &mut files);
        files
    }

    /// Builds everything, which must succeed.
    pub fn build(&self) -> Run {
        self.run(&["build", "--json"]).expect(0)
    }
}

fn collect(root: &Path, at: &Path, files: &mut BTreeMap<String, Vec<u8>>) {
    for entry in fs::read_dir(at).into_iter().flatten().flatten() {
        let path = entry.path();
        if path.is_dir() {
            collect(root, &path, files);
        } else {
            let name = path
                .strip_prefix(root)
                .unwrap()
                .to_str()
                .unwrap()
                .to_owned();
            files.insert(name, fs::read(&path).unwrap());
        }
    }
}

pub fn finish(mut command: Command) -> Run {
    let output = command.output().unwrap();
    Run {
        code: output.status.code().unwrap_or(-1),
        stdout: String::from_utf8(output.stdout).unwrap(),
        stderr: String::from_utf8(output.stderr).unwrap(),
    }
}

/// Waits until something holds, for at most ten seconds.
pub fn wait_until(what: &str, mut test: impl FnMut() -> bool) {
    for _ in 0..1000 {
        if test() {
            return;
        }
        std::thread::sleep(std::time::Duration::from_millis(10));
    }
    panic!("waited in vain: {what}");
}

/// The text with times, and paths of the sandbox, taken out.
pub fn without_times(text: &str, sandbox: &Sandbox) -> String {
    let text = text.replace(sandbox.folder.to_str().unwrap(), "WORK");
    let mut out = String::new();
    for (i, line) in text.lines().enumerate() {
        if i > 0 {
            out.push('\n');
        }
        let words = line.split(' ').map(|word| {
            let bare = word.trim_end_matches([',', '.', ':']);
            let number = bare
                .strip_suffix("ms")
                .or(bare.strip_suffix('s'))
                .unwrap_or("x");
            let is_time =
                !number.is_empty() && number.chars().all(|c| c.is_ascii_digit() || c == '.');
            if is_time {
                word.replace(bare, "TIME")
            } else {
                word.to_owned()
            }
        });
        let line = words.collect::<Vec<_>>().join(" ");
        // How many spaces are before a time depends on its width.
        let mut parts = line.split(" TIME").map(str::to_owned).collect::<Vec<_>>();
        let last = parts.len() - 1;
        parts[..last]
            .iter_mut()
            .for_each(|part| part.truncate(part.trim_end().len()));
        out.push_str(&parts.join(" TIME"));
    }
    out
}
