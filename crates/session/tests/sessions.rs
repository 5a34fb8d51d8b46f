//! Sessions on workspaces on disk: finding them, locks, seals, tools, and what is remembered.

#![allow(clippy::unwrap_used)] // A test that panics has failed, which is right.

use std::ffi::OsString;
use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use nubrik_confine::CancelSwitch;
use nubrik_engine::{Event, Job, JobEnd, Listener, OutsideFiles, OutsideSystem, OutsideWork};
use nubrik_session::{Machine, OpenProblem, Session, Workspace};
use nubrik_source::{FilePath, WsPath};
use parking_lot::Mutex;

fn folder_with(files: &[(&str, &str)]) -> tempfile::TempDir {
    let folder = tempfile::tempdir().unwrap();
    for (path, text) in files {
        let path = folder.path().join(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, text).unwrap();
    }
    folder
}

fn switch() -> Arc<CancelSwitch> {
    Arc::new(CancelSwitch::new().unwrap())
}

#[test]
fn a_workspace_is_found_from_any_folder_in_it() {
    let folder = folder_with(&[
        ("nubrik.toml", "jobs = 3"),
        ("tide/deep/x", ""),
        ("inner/nubrik.toml", ""),
    ]);
    let root = folder.path().canonicalize().unwrap();
    let found = Workspace::find(&root.join("tide/deep")).unwrap();
    assert_eq!(
        (found.root, found.folder.as_str()),
        (root.clone(), "tide/deep")
    );
    assert_eq!(found.settings.jobs, Some(3));
    assert_eq!(
        Workspace::find(&root.join("inner")).unwrap().root,
        root.join("inner")
    );
    let outside = tempfile::tempdir().unwrap();
    assert!(matches!(
        Workspace::find(outside.path()),
        Err(OpenProblem::NoWorkspace(_))
    ));
    fs::write(root.join("nubrik.toml"), "speed = 1").unwrap();
    assert!(matches!(
        Workspace::find(&root),
        Err(OpenProblem::Settings { .. })
    ));
}

#[test]
fn own_folders_hide_themselves_from_git() {
    let folder = folder_with(&[("nubrik.toml", "")]);
    let workspace = Workspace::find(folder.path()).unwrap();
    workspace.make_folders().unwrap();
    for own in [".nubrik/.gitignore", "out/.gitignore"] {
        assert_eq!(fs::read_to_string(folder.path().join(own)).unwrap(), "*\n");
    }
}

#[test]
fn one_session_at_a_time_changes_a_workspace() {
    let folder = folder_with(&[("nubrik.toml", "")]);
    let mut first = Session::open(folder.path(), switch()).unwrap();
    let held = first
        .lock(|| panic!("nobody else is here"))
        .unwrap()
        .unwrap();
    let waited = Arc::new(Mutex::new(false));
    let (other, path) = (waited.clone(), folder.path().to_owned());
    let second = std::thread::spawn(move || {
        let mut session = Session::open(&path, switch()).unwrap();
        session.lock(|| *other.lock() = true).unwrap().unwrap();
    });
    while !*waited.lock() {
        std::thread::sleep(std::time::Duration::from_millis(5));
    }
    assert!(!second.is_finished());
    drop(held);
    second.join().unwrap();
}

/// A search path of one folder with a tool in it, and a machine that searches there.
fn machine_with_tool(script: &str) -> (tempfile::TempDir, Machine, PathBuf) {
    let folder = folder_with(&[("bin/plot", script), ("work/in", "tide")]);
    let tool = folder.path().join("bin/plot");
    fs::set_permissions(&tool, fs::Permissions::from_mode(0o755)).unwrap();
    let machine = machine_at(folder.path(), &[]);
    (folder, machine, tool)
}

fn machine_at(folder: &Path, remembered: &[u8]) -> Machine {
    let root = folder.join("work").canonicalize().unwrap();
    let search = OsString::from(folder.canonicalize().unwrap().join("bin"));
    Machine::new(&root, search, remembered, switch()).unwrap()
}

#[test]
fn tools_are_known_by_their_content() {
    let (folder, machine, path) = machine_with_tool("#!/bin/sh\necho one\n");
    let name: Arc<str> = "plot".into();
    let found = machine.tool(&name).unwrap();
    assert_eq!(found, machine.tool(&name).unwrap());
    // Touched, but the same: the same tool.
    fs::write(&path, "#!/bin/sh\necho one\n").unwrap();
    assert_eq!(found.identity, machine.tool(&name).unwrap().identity);
    fs::write(&path, "#!/bin/sh\necho two\n").unwrap();
    assert_ne!(found.identity, machine.tool(&name).unwrap().identity);
    fs::set_permissions(&path, fs::Permissions::from_mode(0o644)).unwrap();
    let problem = machine.tool(&name).unwrap_err();
    assert_eq!(
        problem.searched,
        [folder
            .path()
            .canonicalize()
            .unwrap()
            .join("bin")
            .display()
            .to_string()]
    );
    assert_eq!(problem.mend, None);
    assert!(
        machine
            .tool(&"cc".into())
            .unwrap_err()
            .mend
            .unwrap()
            .contains("a C compiler")
    );
}

fn path(path: &str) -> WsPath {
    WsPath::from_normal(path)
}

fn file(text: &str) -> FilePath {
    FilePath::from(&path(text))
}

#[test]
fn files_and_folders_are_seen_and_made() {
    let (_folder, machine, _) = machine_with_tool("");
    assert_eq!(machine.read(&file("in")).unwrap(), b"tide");
    assert!(machine.check(&file("nowhere")).is_none());
    assert!(machine.check(&file(".")).unwrap().is_folder());
    machine
        .fresh_folder(&path("made/a"), &["deep/er".to_owned()])
        .unwrap();
    assert!(machine.check(&file("made/a/deep/er")).unwrap().is_folder());
    fs::write(machine.locate(&path("made/a/deep/x")), "x").unwrap();
    fs::write(machine.locate(&path("made/a/y")), "y").unwrap();
    let tree: Vec<String> = machine
        .tree(&path("made/a"))
        .unwrap()
        .into_iter()
        .map(|f| f.path)
        .collect();
    assert_eq!(tree, ["deep/er", "deep/x", "y"]);
    machine.publish(&path("made/a"), &path("out/a")).unwrap();
    machine
        .publish(&path("made/a/y"), &path("out/deep/y"))
        .unwrap();
    assert_eq!(machine.read(&file("out/a/deep/x")).unwrap(), b"x");
    // Published again: what was there is replaced whole, files by folders and the other way round.
    fs::remove_file(machine.locate(&path("made/a/y"))).unwrap();
    machine.publish(&path("made/a"), &path("out/a")).unwrap();
    assert!(machine.check(&file("out/a/y")).is_none());
    machine
        .publish(&path("made/a"), &path("out/deep/y"))
        .unwrap();
    machine
        .publish(&path("made/a/deep/x"), &path("out/a"))
        .unwrap();
    assert_eq!(machine.read(&file("out/a")).unwrap(), b"x");
    machine.fresh_folder(&path("made/a"), &[]).unwrap();
    assert!(machine.tree(&path("made/a")).unwrap().is_empty());
    machine.discard(&path("made"));
    machine.discard(&path("made"));
    assert!(machine.check(&file("made")).is_none());
}

#[test]
fn a_tool_outside_the_systems_folders_can_run() {
    let (_folder, machine, _) =
        machine_with_tool("#!/bin/sh\ncat in; echo \"$DEPTH\"; ls \"$TMPDIR\"\n");
    machine.fresh_folder(&path("made"), &[]).unwrap();
    fs::create_dir_all(machine.locate(&path(".nubrik"))).unwrap();
    let tool = machine.tool(&"plot".into()).unwrap();
    let stage = nubrik_graph::Stage {
        program: nubrik_graph::Program::Tool(nubrik_graph::ToolId(0)),
        words: vec!["plot".into()],
        stdin: None,
        stdout: None,
        stderr: None,
        answers: false,
    };
    let own = vec![nubrik_engine::Readable {
        path: path("in"),
        folder: false,
        made: false,
    }];
    let readable = nubrik_engine::Readables {
        own,
        shared: Vec::new(),
    };
    let job = Job {
        root: None,
        lent: None,
        stages: vec![(tool.path.clone(), &stage)],
        env: &[("DEPTH".into(), "7".into())],
        folder: &path("made"),
        readable: &readable,
        tools: &[tool],
        work: &path(""),
        limits: nubrik_graph::Limits::default(),
    };
    let mut printed = Vec::new();
    let ended = machine.run(&job, &mut printed);
    assert!(
        matches!(ended, JobEnd::Well),
        "{ended:?} {}",
        String::from_utf8_lossy(&printed)
    );
    assert_eq!(String::from_utf8(printed).unwrap(), "tide7\n");
    assert!(machine.has_started_commands());
}

struct Quiet;

impl Listener for Quiet {
    fn hear(&self, _: &Event) {}
}

#[test]
fn plans_need_neither_lock_nor_store() {
    let folder = folder_with(&[
        ("nubrik.toml", ""),
        (
            "targets.nub",
            "target a = step { run = `date > {out \"a\"}` }\ntarget b = step { run = `cp {a} {out \"b\"}` }\n",
        ),
    ]);
    let session = Session::open(folder.path(), switch()).unwrap();
    let pattern = nubrik_lang::AddressPattern::below(&session.workspace.folder);
    let evaluation = session.evaluate(&[pattern]);
    assert!(evaluation.diagnostics.is_empty());
    assert_eq!(
        session
            .plan(&evaluation, &Quiet, nubrik_engine::Supposed::default())
            .len(),
        2
    );
    assert!(!folder.path().join(".nubrik").exists());
}
