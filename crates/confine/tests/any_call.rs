//! Every system call that there is, tried against the recorder: a call whose result depends on a
//! path must be one of which the recorder notes that path, or it must be refused. The calls are not
//! taken from the recorder's tables but are all numbers there are, with paths and folders in the
//! places where calls take them, so that a call that a newer kernel adds is tried, too.

#![allow(clippy::unwrap_used)] // A test that panics has failed, which is right.

use std::collections::{BTreeMap, BTreeSet};
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::Duration;

use nubrik_confine::{
    Access, CancelSwitch, Capture, Confinement, Ended, PipelineSpec, Recorder, RuleSet, StageSpec,
    SystemFolders, can_record, run,
};
use nubrik_testing::{Need, skip};

/// The first and the last number that is tried; kernels have some 470 calls now.
const NUMBERS: (i64, i64) = (0, 520);

const SHAPES: i64 = 10;

/// These make something of the machine that outlasts the test, or take as long as its disks are
/// busy, and take no path.
#[cfg(target_arch = "x86_64")]
const NOT_TRIED: [i64; 4] = [
    libc_number::SHMGET,
    libc_number::SEMGET,
    libc_number::MSGGET,
    libc_number::SYNC,
];

#[cfg(not(target_arch = "x86_64"))]
const NOT_TRIED: [i64; 0] = [];

/// These say how much is left of the time that the probe gives each call: `getitimer` and
/// `setitimer`.
#[cfg(target_arch = "x86_64")]
const TIME_LEFT: [&str; 2] = ["36-", "38-"];

#[cfg(not(target_arch = "x86_64"))]
const TIME_LEFT: [&str; 2] = ["102-", "103-"];

/// What the probe prints of a call that took too long: on a busy machine that is no answer.
const NO_ANSWER: &str = "ended";

#[cfg(target_arch = "x86_64")]
mod libc_number {
    pub const SHMGET: i64 = 29;
    pub const SEMGET: i64 = 64;
    pub const MSGGET: i64 = 68;
    pub const SYNC: i64 = 162;
}

/// What is at each path of a world.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
enum World {
    Nothing,
    File,
    LongerFile,
    Folder,
}

/// What a run printed by call and shape, which of them were noted, and whether something was
/// refused that nobody understands.
struct Tried {
    printed: BTreeMap<String, String>,
    noted: BTreeSet<String>,
    is_listed: bool,
}

fn make(folder: &Path, world: World) {
    std::fs::create_dir(folder).unwrap();
    for call in NUMBERS.0..=NUMBERS.1 {
        for shape in 0..SHAPES {
            let at = folder.join(format!("{call}-{shape}"));
            match world {
                World::Nothing => {}
                World::File => std::fs::write(&at, "high 06:12\n").unwrap(),
                World::LongerFile => {
                    std::fs::write(&at, "low 12:30, then slack\n").unwrap();
                    std::fs::set_permissions(&at, std::fs::Permissions::from_mode(0o755)).unwrap();
                }
                World::Folder => std::fs::create_dir(&at).unwrap(),
            }
        }
    }
}

/// Runs the probe in a world, for numbers of calls from one to another.
fn try_all(root: &Path, world: &Path, (first, last): (i64, i64)) -> Tried {
    let rules = RuleSet::new(&SystemFolders::open(root)).unwrap();
    rules.allow(&root.join("probe"), Access::Read).unwrap();
    rules.allow(world, Access::Write).unwrap();
    let words = [
        "probe",
        world.to_str().unwrap(),
        &first.to_string(),
        &last.to_string(),
    ]
    .map(Into::into);
    let stage = StageSpec {
        program: root.join("probe"),
        words: words.to_vec(),
        stdin: None,
        stdout: None,
        stderr: None,
    };
    let recorder = Recorder::new();
    let spec = PipelineSpec {
        stages: vec![stage],
        folder: root,
        work: root,
        environment: &[],
        confinement: Confinement::Rules {
            rules: &rules,
            network: false,
            apart: None,
        },
        timeout: Some(Duration::from_secs(300)),
        memory: None,
        recorder: Some(&recorder),
        attached: false,
    };
    let mut capture = Capture::new(4 << 20);
    let ended = run(&spec, &mut capture, &CancelSwitch::new().unwrap());
    let text = String::from_utf8_lossy(&capture.bytes).into_owned();
    assert!(matches!(ended, Ended::Well), "{ended:?}: {text}");
    let line = |line: &str| {
        line.split_once(' ')
            .map(|(key, rest)| (key.to_owned(), rest.to_owned()))
    };
    let own = world.canonicalize().unwrap();
    let below = |path: &PathBuf| {
        path.strip_prefix(&own)
            .ok()
            .map(|inner| inner.display().to_string())
    };
    let touched = recorder.touched().into_iter().map(|used| used.path);
    let written = recorder.written().into_iter().map(|written| written.path);
    let noted: BTreeSet<String> = touched
        .chain(written)
        .filter_map(|path| below(&path))
        .collect();
    // Its own listing is the empty path.
    let is_listed = noted.contains("");
    Tried {
        printed: text.lines().filter_map(line).collect(),
        noted,
        is_listed,
    }
}

#[test]
fn what_depends_on_a_path_is_noted_or_refused() {
    if !can_record() {
        return skip(Need::Confinement, "this kernel cannot record");
    }
    let folder = tempfile::tempdir().unwrap();
    let root = folder.path().canonicalize().unwrap();
    std::fs::write(root.join("probe.c"), include_str!("any_call/probe.c")).unwrap();
    let compiled = Command::new("cc")
        .args(["-O1", "-w", "-o", "probe", "probe.c"])
        .current_dir(&root)
        .status();
    assert!(
        compiled.is_ok_and(|status| status.success()),
        "a C compiler compiles the probe"
    );
    let world = |name: &str, world: Option<World>| {
        let at = root.join(name);
        world.into_iter().for_each(|world| make(&at, world));
        let mut all = Tried {
            printed: BTreeMap::new(),
            noted: BTreeSet::new(),
            is_listed: false,
        };
        let mut first = NUMBERS.0;
        for last in NOT_TRIED
            .into_iter()
            .map(|number| number - 1)
            .chain([NUMBERS.1])
        {
            let tried = try_all(&root, &at, (first, last));
            all.printed.extend(tried.printed);
            all.noted.extend(tried.noted);
            all.is_listed |= tried.is_listed;
            first = last + 2;
        }
        all
    };
    let (file, other) = (
        world("file", Some(World::File)),
        world("longer", Some(World::LongerFile)),
    );
    let (nothing, folders) = (
        world("nothing", Some(World::Nothing)),
        world("folders", Some(World::Folder)),
    );
    // What differs for another reason, such as the time, differs in the same folder.
    let again = world("file", None);
    let mut unnoted = BTreeSet::new();
    let mut noted = 0;
    for (key, printed) in &file.printed {
        if printed == NO_ANSWER || TIME_LEFT.iter().any(|call| key.starts_with(call)) {
            continue;
        }
        let differs = |tried: &Tried| {
            let other = tried.printed.get(key);
            other != Some(printed) && other.is_none_or(|other| other != NO_ANSWER)
        };
        if differs(&again) && !file.noted.contains(key) {
            // The number of the process, the time: it is looked at in no world.
            continue;
        }
        for tried in [&other, &nothing, &folders] {
            if differs(tried) && !(file.noted.contains(key) && tried.noted.contains(key)) {
                unnoted.insert(format!("{key}: {printed} or {:?}", tried.printed.get(key)));
            }
        }
        noted += usize::from(file.noted.contains(key));
    }
    assert!(unnoted.is_empty(), "{unnoted:#?}");
    assert!(
        noted > 60 && file.is_listed,
        "only {noted} calls reached the recorder"
    );
    // What no kernel of today has is refused, and not only unknown.
    let newest = format!("{}-0", NUMBERS.1);
    assert!(
        file.printed[&newest].starts_with("-1 "),
        "{}",
        file.printed[&newest]
    );
}
