//! What is done again after a change: as little as the change reaches.

#![allow(clippy::unwrap_used)] // A test that panics has failed, which is right.

use std::fs;
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use nubrik_confine::CancelSwitch;
use nubrik_engine::{Event, Listener, Options};
use nubrik_lang::AddressPattern;
use nubrik_session::{Session, Standing, Workshop};

struct Quiet;

impl Listener for Quiet {
    fn hear(&self, _: &Event) {}
}

const OPTIONS: Options = Options {
    jobs: 2,
    ..Options::plain()
};

/// Two packages and a kit; the second takes a result of the first.
fn workspace() -> tempfile::TempDir {
    let folder = tempfile::tempdir().unwrap();
    let files = [
        ("nubrik.toml", ""),
        (
            "kit/copies.nub",
            "let note = \"copied\"\nkind copy(from: file): { files: files } { give { files = step { run = `cp {from} {out \"{self.name}\"}` } } }\n",
        ),
        (
            "a/targets.nub",
            "use { copy } from \"/kit/copies.nub\"\ntarget one = copy { from = \"src/one.txt\" }\ntarget each_text = {each f in glob(\"src/*.txt\") give f.stem: step { run = `rev {f} > {out \"r\"}` }}\ntarget lines = {each line in load_lines(\"lines\") give line: write { path = \"l\", text = line }}\n",
        ),
        ("a/src/one.txt", "one"),
        ("a/src/two.txt", "two"),
        ("a/lines", "ebb\nflow\n"),
        (
            "b/targets.nub",
            "target both = step { run = `sort {&a/one} {in \"b.txt\"} > {out \"both\"}` }\ntarget alone = step { run = `sort {in \"b.txt\"} > {out \"alone\"}` }\n",
        ),
        ("b/b.txt", "b"),
    ];
    for (path, text) in files {
        write(folder.path(), path, text);
    }
    folder
}

fn write(folder: &Path, path: &str, text: &str) {
    let path = folder.join(path);
    fs::create_dir_all(path.parent().unwrap()).unwrap();
    fs::write(path, text).unwrap();
}

fn locked<T>(folder: &Path, work: impl FnOnce(Workshop<'_>) -> T) -> T {
    let mut session = Session::open(folder, Arc::new(CancelSwitch::new().unwrap())).unwrap();
    session.keep_results_in(folder.join(".store"));
    work(session.lock(|| {}).unwrap().unwrap())
}

fn all() -> Vec<AddressPattern> {
    vec![AddressPattern::below(&nubrik_source::WsPath::root())]
}

/// What holds of the request for everything: how many steps a change reaches, `None` where
/// everything is evaluated again.
fn reached(folder: &Path) -> Option<usize> {
    locked(folder, |workshop| match workshop.standing(&all()) {
        Standing::Holds(_) => Some(0),
        Standing::Reached(reached) => Some(reached.steps()),
        Standing::Unknown => None,
    })
}

fn holds(folder: &Path) -> bool {
    reached(folder) == Some(0)
}

/// One build at a time: each ends what processes it finds left over, and all tests are one process.
static BUILDING: parking_lot::Mutex<()> = parking_lot::Mutex::new(());

/// Builds as little as can be; gives how many steps ran and how many there are.
fn build(folder: &Path) -> (usize, usize) {
    let _alone = BUILDING.lock();
    // What is younger than this could change again without a trace, and is not sealed.
    std::thread::sleep(Duration::from_millis(30));
    locked(folder, |mut workshop| {
        let report = match workshop.standing(&all()) {
            Standing::Holds(sealed) => return (0, sealed.steps),
            Standing::Reached(reached) => {
                assert!(workshop.remembers(&reached));
                workshop
                    .build_reached(&all(), *reached, &Quiet, OPTIONS)
                    .unwrap()
                    .unwrap()
            }
            Standing::Unknown => {
                let evaluation = workshop.evaluate(&all());
                workshop
                    .build(&all(), &evaluation, &Quiet, OPTIONS)
                    .unwrap()
            }
        };
        assert_eq!(report.summary.counts.failed, 0);
        (report.summary.counts.ran, report.summary.counts.steps)
    })
}

/// A workspace whose request is sealed.
fn sealed() -> tempfile::TempDir {
    let folder = workspace();
    assert_eq!(build(folder.path()), (7, 7));
    assert!(holds(folder.path()));
    folder
}

#[test]
fn a_source_reaches_the_steps_that_use_it() {
    let folder = sealed();
    write(folder.path(), "a/src/one.txt", "ONE");
    assert_eq!(reached(folder.path()), Some(3));
    assert_eq!(build(folder.path()), (3, 7));
    assert!(holds(folder.path()));
    assert_eq!(
        fs::read_to_string(folder.path().join("out/default/b/both")).unwrap(),
        "ONE\nb\n"
    );
    // Editors put a new file in the place of the old one: no name is new.
    write(folder.path(), "a/src/.two.new", "TWO");
    fs::rename(
        folder.path().join("a/src/.two.new"),
        folder.path().join("a/src/two.txt"),
    )
    .unwrap();
    assert_eq!(reached(folder.path()), Some(1));
    assert_eq!(build(folder.path()), (1, 7));
    // The same content once more: looked at, and nothing runs.
    write(folder.path(), "b/b.txt", "b");
    assert_eq!(reached(folder.path()), Some(2));
    assert_eq!(build(folder.path()), (0, 7));
    assert!(holds(folder.path()));
}

#[test]
fn definitions_reach_what_takes_from_them() {
    let folder = sealed();
    let text = fs::read_to_string(folder.path().join("b/targets.nub")).unwrap();
    write(
        folder.path(),
        "b/targets.nub",
        &format!("{text}# A word more.\n"),
    );
    assert_eq!(reached(folder.path()), Some(0), "nothing but a comment");
    assert_eq!(build(folder.path()), (0, 7));
    assert!(holds(folder.path()));
    write(
        folder.path(),
        "b/targets.nub",
        &format!("{text}target more = step {{ run = `cp {{alone}} {{out \"more\"}}` }}\n"),
    );
    assert_eq!(build(folder.path()), (1, 8));
    assert!(folder.path().join("out/default/b/more").exists());
    write(
        folder.path(),
        "b/targets.nub",
        &text.replace("sort {in", "sort -r {in"),
    );
    assert_eq!(reached(folder.path()), Some(1));
    assert_eq!(build(folder.path()), (1, 7));
    assert!(
        !folder.path().join("out/default/b/more").exists(),
        "a result that nobody makes any more"
    );
    // A kit reaches those who use it, and what is made from that.
    let kit = fs::read_to_string(folder.path().join("kit/copies.nub")).unwrap();
    write(
        folder.path(),
        "kit/copies.nub",
        &kit.replace("cp {from}", "cp -p {from}"),
    );
    assert_eq!(build(folder.path()), (1, 7));
    assert!(holds(folder.path()));
}

#[test]
fn folders_and_data_reach_who_looked_at_them() {
    let folder = sealed();
    write(folder.path(), "a/src/notes.bak", "matched by no glob");
    assert_eq!(reached(folder.path()), Some(0));
    assert_eq!(build(folder.path()), (0, 7));
    assert!(holds(folder.path()));
    write(folder.path(), "a/src/three.txt", "three");
    assert_eq!(build(folder.path()), (1, 8));
    write(folder.path(), "a/lines", "ebb\nslack\nflow\n");
    assert_eq!(build(folder.path()), (1, 9));
    fs::remove_file(folder.path().join("a/src/two.txt")).unwrap();
    assert_eq!(build(folder.path()), (0, 8));
    assert!(holds(folder.path()));
    assert!(!folder.path().join("out/default/a/each_text/two").exists());
}

#[test]
fn results_are_put_back_and_what_was_made_is_made_again() {
    let folder = sealed();
    fs::remove_file(folder.path().join("out/default/b/both")).unwrap();
    assert_eq!(reached(folder.path()), Some(1));
    assert_eq!(build(folder.path()), (0, 7));
    assert!(folder.path().join("out/default/b/both").exists());
    fs::remove_dir_all(folder.path().join(".nubrik/made/b/alone")).unwrap();
    assert_eq!(reached(folder.path()), Some(1));
    build(folder.path());
    assert!(holds(folder.path()));
}

#[test]
fn what_may_change_everything_is_evaluated_as_a_whole() {
    for (path, text) in [
        ("nubrik.toml", "jobs = 2\n"),
        (
            "c/targets.nub",
            "target new = write { path = \"n\", text = \"n\" }\n",
        ),
        (".gitignore", "*.txt\n"),
        ("b/targets.nub", "target both = nowhere\n"),
    ] {
        let folder = sealed();
        std::thread::sleep(Duration::from_millis(30));
        write(folder.path(), path, text);
        assert_eq!(reached(folder.path()), None, "{path}");
    }
}

#[test]
fn what_is_damaged_is_evaluated_as_a_whole() {
    let folder = sealed();
    write(folder.path(), "b/b.txt", "B");
    let seals: Vec<_> = fs::read_dir(folder.path().join(".nubrik/seals"))
        .unwrap()
        .flatten()
        .collect();
    for file in seals.iter().map(fs::DirEntry::path) {
        let bytes = fs::read(&file).unwrap();
        for at in (0..bytes.len()).step_by(1 + bytes.len() / 40) {
            let mut damaged = bytes.clone();
            damaged[at] ^= 0x20;
            fs::write(&file, &damaged).unwrap();
            assert!(
                matches!(reached(folder.path()), None | Some(2)),
                "{} at {at}",
                file.display()
            );
        }
        fs::write(&file, &bytes[..bytes.len() / 2]).unwrap();
        assert_eq!(reached(folder.path()).unwrap_or(2), 2, "{}", file.display());
        fs::write(&file, &bytes).unwrap();
    }
    assert_eq!(build(folder.path()), (2, 7));
}

#[test]
fn old_seals_are_forgotten() {
    let folder = workspace();
    for number in 0..20 {
        let _alone = BUILDING.lock();
        std::thread::sleep(Duration::from_millis(30));
        // Each order of the same addresses is another request.
        let words: Vec<&str> = (0..=number).map(|_| "b").collect();
        let root = nubrik_source::WsPath::root();
        let asked: Vec<AddressPattern> = words
            .iter()
            .map(|w| AddressPattern::new(w, &root).unwrap())
            .collect();
        locked(folder.path(), |mut workshop| {
            let evaluation = workshop.evaluate(&asked);
            workshop
                .build(&asked, &evaluation, &Quiet, OPTIONS)
                .unwrap();
        });
    }
    let files = fs::read_dir(folder.path().join(".nubrik/seals"))
        .unwrap()
        .flatten();
    let seals = files.filter(|f| f.path().extension().is_none()).count();
    assert_eq!(seals, 16);
}

#[test]
fn a_folder_that_becomes_a_target_is_another_request() {
    let folder = workspace();
    write(
        folder.path(),
        "targets.nub",
        "target other = write { path = \"o\", text = \"o\" }\n",
    );
    let asked = vec![AddressPattern::new("a", &nubrik_source::WsPath::root()).unwrap()];
    {
        let _alone = BUILDING.lock();
        std::thread::sleep(Duration::from_millis(30));
        locked(folder.path(), |mut workshop| {
            let evaluation = workshop.evaluate(&asked);
            workshop
                .build(&asked, &evaluation, &Quiet, OPTIONS)
                .unwrap();
            assert!(matches!(workshop.standing(&asked), Standing::Holds(_)));
        });
    }
    write(
        folder.path(),
        "targets.nub",
        "target a = write { path = \"o\", text = \"o\" }\n",
    );
    locked(folder.path(), |workshop| {
        assert!(matches!(workshop.standing(&asked), Standing::Unknown))
    });
}
