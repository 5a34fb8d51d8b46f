//! What commands that only read take from what is kept: after an edit only what it reaches is
//! evaluated, and the answer is the one that an evaluation of everything gives.

#![allow(clippy::unwrap_used)] // A test that panics has failed, which is right.

mod described;

use std::collections::BTreeSet;
use std::fs;
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use nubrik_confine::CancelSwitch;
use nubrik_engine::{Event, Listener, Options};
use nubrik_lang::{AddressPattern, Evaluation, Wanted};
use nubrik_session::Session;
use nubrik_source::WsPath;
use proptest::prelude::*;

use described::described;

const FILES: [(&str, &str); 9] = [
    ("nubrik.toml", ""),
    (
        "kit/copies.nub",
        "option loud: bool = false\n\
         kind copy(from: file): { files: files } { give { files = step { run = `cp {from} {out \"{self.name}\"}` } } }\n",
    ),
    (
        "a/targets.nub",
        "use { copy } from \"/kit/copies.nub\"\n\
         target one = copy { from = \"src/one.txt\" }\n\
         target each_text = {each f in glob(\"src/*.txt\") give f.stem: step { run = `rev {f} > {out \"r\"}` }}\n\
         private target hidden = write { path = \"h\", text = \"h\" }\n\
         test fine = check { run = `true` }\n",
    ),
    ("a/src/one.txt", "one"),
    ("a/src/two.txt", "two"),
    (
        "b/targets.nub",
        "let made = write { path = \"m\", text = \"ebb\" }\n\
         target both = step { run = `sort {&a/one} {made} > {out \"both\"}` }\n\
         target alone = step { run = `sort {in \"b.txt\"} > {out \"alone\"}` }\n\
         ## Shows the tide.\n\
         job show = effect { run = `cat {alone}` }\n",
    ),
    ("b/b.txt", "b"),
    (
        "c/targets.nub",
        "target deep = step { run = `sort {&b/both} > {out \"deep\"}` }\n",
    ),
    (
        "d/targets.nub",
        "target apart = write { path = \"t\", text = \"t\" }\n",
    ),
];

struct Quiet;

impl Listener for Quiet {
    fn hear(&self, _: &Event) {}
}

/// A workspace, and what reading commands know of it.
struct Reading {
    folder: tempfile::TempDir,
}

impl Reading {
    fn new() -> Reading {
        let reading = Reading {
            folder: tempfile::tempdir().unwrap(),
        };
        FILES
            .iter()
            .for_each(|(path, text)| reading.write(path, text));
        // Commands that only read make no folder to keep something in.
        assert!(reading.open().lock(|| {}).unwrap().is_some());
        reading.settle();
        reading.ask();
        // What is taken from where is noted from the first edit on.
        reading.edit("d/targets.nub", "t", "t");
        reading.settle();
        reading.ask();
        reading
    }

    fn write(&self, path: &str, text: &str) {
        let path = self.folder.path().join(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, text).unwrap();
    }

    /// Changes a file that is there.
    fn edit(&self, path: &str, from: &str, to: &str) {
        let text = fs::read_to_string(self.folder.path().join(path)).unwrap();
        assert!(text.contains(from), "{path}: {text}");
        self.write(path, &text.replace(from, to));
    }

    /// Waits until files are so old that they cannot change without a trace.
    fn settle(&self) {
        std::thread::sleep(Duration::from_millis(25));
    }

    fn open(&self) -> Session {
        let path: &Path = self.folder.path();
        let mut session = Session::open(path, Arc::new(CancelSwitch::new().unwrap())).unwrap();
        session.keep_evaluations_from(Duration::ZERO);
        session
    }

    fn ask(&self) -> Evaluation {
        let pattern = AddressPattern::below(&WsPath::root()).wanting(Wanted::Everything);
        self.open().evaluate_to_read(&[pattern])
    }

    /// The packages that were evaluated for an answer, which is the one of an evaluation of
    /// everything.
    fn read(&self) -> Vec<String> {
        let pattern = AddressPattern::below(&WsPath::root()).wanting(Wanted::Everything);
        let (answer, whole) = (self.ask(), self.open().evaluate(&[pattern]));
        assert!(described(&whole).is_some(), "{:#?}", whole.diagnostics);
        assert_eq!(described(&answer), described(&whole));
        let definitions = |evaluation: &Evaluation| {
            let all: BTreeSet<String> = evaluation.definitions().map(ToString::to_string).collect();
            assert_eq!(all.len(), evaluation.definitions().count(), "each once");
            all
        };
        assert_eq!(definitions(&answer), definitions(&whole));
        let packages = answer
            .read
            .iter()
            .filter_map(|file| file.as_str().strip_suffix("/targets.nub"));
        let mut read: Vec<String> = packages.map(str::to_owned).collect();
        read.sort();
        read
    }
}

#[test]
fn only_what_an_edit_reaches_is_evaluated() {
    let reading = Reading::new();
    assert!(reading.read().is_empty(), "all of it was kept");
    reading.edit("d/targets.nub", "text = \"t\"", "text = \"u\"");
    assert_eq!(reading.read(), ["d"]);
    // What was edited back has another time, and the same text.
    reading.edit("d/targets.nub", "text = \"u\"", "text = \"t\"");
    assert_eq!(reading.read(), ["d"]);
    let reading = Reading::new();
    reading.edit(
        "c/targets.nub",
        "target deep =",
        "## The deep one.\ntarget deeper =",
    );
    assert_eq!(
        reading.read(),
        ["a", "b", "c"],
        "what it needs is evaluated, too"
    );
}

#[test]
fn what_uses_something_edited_is_evaluated_in_its_place() {
    let reading = Reading::new();
    // What a value of another package is made of.
    reading.edit("a/targets.nub", "src/one.txt", "src/two.txt");
    assert_eq!(reading.read(), ["a", "b", "c"]);
    let reading = Reading::new();
    reading.edit("kit/copies.nub", "`cp {from}", "`cp -p {from}");
    assert_eq!(reading.read(), ["a", "b", "c"]);
    let reading = Reading::new();
    reading.write("a/src/three.txt", "three");
    assert_eq!(reading.read(), ["a"]);
    reading.edit("b/targets.nub", "## Shows the tide.", "## Shows the moon.");
    assert_eq!(reading.read(), ["a", "b", "c"]);
}

#[test]
fn what_is_only_counted_is_evaluated_and_not_taken() {
    let reading = Reading::new();
    let counted = "target counted = write { path = \"n\", text = \"{[&c/deep].len} of {1}\" }\n";
    reading.write("d/targets.nub", counted);
    assert_eq!(reading.read(), ["a", "b", "c", "d"]);
    reading.edit("d/targets.nub", "{1}", "{2}");
    assert_eq!(reading.read(), ["a", "b", "c", "d"]);
    reading.edit("c/targets.nub", "sort {&b/both}", "sort -r {&b/both}");
    reading.read();
}

#[test]
fn who_evaluates_more_has_the_answers_of_probes() {
    let reading = Reading::new();
    reading.write(
        "d/targets.nub",
        "let place = probe { run = `echo ardle` }\n\
         let height = probe { run = `echo {place.lines.first}` }\n\
         target apart = write { path = \"t\", text = \"at {height.lines.first}\" }\n",
    );
    reading.settle();
    let pattern = AddressPattern::below(&WsPath::root()).wanting(Wanted::Everything);
    let asked = std::slice::from_ref(&pattern);
    // One probe waits for the other.
    let answered = |count: usize| {
        let mut session = reading.open();
        let mut workshop = session.lock(|| {}).unwrap().unwrap();
        for _ in 0..count {
            let waits = workshop.evaluate(asked);
            assert!(
                waits.waiting && waits.probes.len() == 1,
                "{:?}",
                waits.diagnostics
            );
            workshop.answer(&waits, &Quiet, Options::plain()).unwrap();
        }
        drop(workshop);
        reading.settle();
        session
    };
    assert!(!answered(2).evaluate_to_read(asked).waiting);
    // A part that is evaluated again is not kept, and what the probe wrote may change without a
    // trace at first.
    fs::remove_dir_all(reading.folder.path().join(".nubrik/reads")).unwrap();
    assert!(!answered(2).evaluate_to_read(asked).waiting);
    // Who only reads gets what was kept; what is evaluated after it has no answer.
    let other = reading.open();
    let kept = other.evaluate_to_read(asked);
    assert_eq!((kept.waiting, kept.read.len(), kept.answers), (false, 0, 2));
    assert!(other.evaluate(asked).waiting);
    for count in [0, 1] {
        assert!(
            answered(count).evaluate_to_go_on(asked).waiting,
            "answers are to be found first"
        );
    }
    assert!(!answered(2).evaluate_to_go_on(asked).waiting);
}

#[test]
fn targets_come_and_go() {
    let reading = Reading::new();
    let old = FILES[5].1;
    reading.write(
        "b/targets.nub",
        &format!("target first = write {{ path = \"f\", text = \"f\" }}\n{old}"),
    );
    reading.read();
    // A value that is needed no more takes its steps with it.
    reading.edit("b/targets.nub", "{&a/one} {made}", "{&a/one}");
    assert_eq!(reading.read(), ["a", "b", "c"]);
    let kept = reading.ask();
    assert!(
        !kept
            .graph
            .files
            .iter()
            .any(|file| file.path.as_str().ends_with("/m"))
    );
    reading.write(
        "c/targets.nub",
        "target deep = write { path = \"d\", text = \"d\" }\n",
    );
    reading.read();
    reading.write("d/targets.nub", "");
    reading.read();
    reading.write(
        "d/targets.nub",
        "target apart = write { path = \"t\", text = \"t\" }\n",
    );
    reading.read();
    fs::remove_dir_all(reading.folder.path().join("d")).unwrap();
    reading.read();
}

#[test]
fn what_is_wrong_is_reported_whatever_was_kept() {
    let reading = Reading::new();
    let wrong = [
        (
            "d/targets.nub",
            "target apart = write { path = \"t\", text = nothing }\n",
        ),
        (
            "d/targets.nub",
            "target apart = write { path = \"t\", text = &c/deep }\n",
        ),
        (
            "c/targets.nub",
            "target deep = &c/deeper\ntarget deeper = &c/deep\n",
        ),
        (
            "a/targets.nub",
            "target other = write { path = \"t\", text = \"t\" }\n",
        ),
        // A folder on the way to another package's results is a result now.
        (
            "targets.nub",
            "target d = step { run = `touch {out \"apart\"}` }\n",
        ),
    ];
    for (path, text) in wrong {
        let before = fs::read_to_string(reading.folder.path().join(path)).ok();
        reading.write(path, text);
        let pattern = AddressPattern::below(&WsPath::root()).wanting(Wanted::Everything);
        let (answer, whole) = (reading.ask(), reading.open().evaluate(&[pattern]));
        let said = |evaluation: &Evaluation| -> Vec<String> {
            evaluation
                .diagnostics
                .iter()
                .map(|d| format!("{} {}", d.code, d.message))
                .collect()
        };
        assert_eq!(said(&answer), said(&whole), "{path}: {text}");
        assert_eq!(described(&answer), described(&whole));
        match before {
            Some(before) => reading.write(path, &before),
            None => fs::remove_file(reading.folder.path().join(path)).unwrap(),
        }
    }
}

#[test]
fn damaged_files_are_no_answer() {
    let reading = Reading::new();
    let folder = reading.folder.path().join(".nubrik/reads");
    reading.edit("d/targets.nub", "text = \"t\"", "text = \"u\"");
    let files: Vec<_> = fs::read_dir(&folder)
        .unwrap()
        .map(|entry| entry.unwrap().path())
        .collect();
    assert!(files.len() >= 3, "{files:?}");
    for file in files {
        let whole = fs::read(&file).unwrap();
        for at in (0..whole.len()).step_by(1 + whole.len() / 40) {
            let mut damaged = whole.clone();
            damaged[at] ^= 1 << (at % 8);
            fs::write(&file, &damaged).unwrap();
            reading.read();
            fs::write(&file, &whole[..at]).unwrap();
            reading.read();
        }
        fs::write(&file, &whole).unwrap();
    }
}

/// What a file may hold; `None` where it is not there.
const VARIANTS: [(&str, &[Option<&str>]); 6] = [
    (
        "kit/copies.nub",
        &[
            Some(
                "option loud: bool = true\nkind copy(from: file): { files: files } { give { files = step { run = `cp {from} {out \"{self.name}\"}` } } }\n",
            ),
            Some(
                "option loud: bool = false\nlet how = if loud then \"-v\" else \"-p\"\nkind copy(from: file): { files: files } { give { files = step { run = `cp {how} {from} {out \"{self.name}\"}` } } }\n",
            ),
            Some(
                "option loud: bool = false\nkind copy(from: file): { files: files } {\n    let apart = write { path = \"apart\", text = \"{self.name}\" }\n    give { files = step { run = `sort {from} {apart} > {out \"{self.name}\"}` } }\n}\n",
            ),
        ],
    ),
    (
        "a/targets.nub",
        &[
            Some(
                "use { copy } from \"/kit/copies.nub\"\ntarget other = write { path = \"o\", text = \"o\" }\ntarget one = copy { from = \"src/one.txt\" }\ntarget each_text = {each f in glob(\"src/*.txt\") give f.stem: step { run = `rev {f} > {out \"r\"}` }}\n",
            ),
            Some(
                "use { copy } from \"/kit/copies.nub\"\ntarget one = copy { from = \"src/two.txt\" }\nprivate target hidden = copy { from = one }\n",
            ),
            Some(
                "use { copy } from \"/kit/copies.nub\"\ntarget one = copy { from = \"src/none.txt\" }\n",
            ),
            Some(
                "target one = write { path = \"w\", text = \"w\" }\ntest fine = { \"a\": check { run = `true` }, \"b\": check { run = `test -f {one}` } }\n",
            ),
        ],
    ),
    (
        "b/targets.nub",
        &[
            Some(
                "let made = write { path = \"m\", text = \"ebb\" }\ntarget both = step { run = `sort {&a/one} {made} > {out \"both\"}` }\n",
            ),
            Some(
                "use \"/kit/copies.nub\" as copies\ntarget both = step { run = `sort {&a/one} > {out \"both\"}` }\ntarget loud = &a/one under { copies.loud = true }\n",
            ),
            Some(
                "let lines = { \"x\": write { path = \"x\", text = \"1\" }, \"y\": write { path = \"y\", text = \"2\" } }\ntarget both = lines.x\n## Does nothing.\njob show = effect { run = `cat {both}` }\n",
            ),
            Some("target both = \n"),
        ],
    ),
    (
        "c/targets.nub",
        &[
            Some("target deep = &b/both\n"),
            Some("target deep = write { path = \"n\", text = \"{[&b/both, &a/one].len}\" }\n"),
            Some(""),
            Some("target b = step { run = `touch {out \"x\"}` }\n"),
            None,
        ],
    ),
    ("a/src/two.txt", &[Some("2"), None]),
    (
        "targets.nub",
        &[
            None,
            Some("target b = step { run = `touch {out \"both/both\"}` }\n"),
            Some("target top = [&c/deep, &a/one]\n"),
        ],
    ),
];

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, cases: 40, ..Default::default() })]

    #[test]
    fn whatever_was_edited_the_answer_is_that_of_an_evaluation(
        edits in prop::collection::vec((0..VARIANTS.len(), any::<prop::sample::Index>(), any::<bool>(), 0..4usize), 1..12)
    ) {
        let reading = Reading::new();
        for (file, variant, settles, request) in edits {
            let (path, variants) = VARIANTS[file];
            match variants[variant.index(variants.len())] {
                Some(text) => reading.write(path, text),
                None => drop(fs::remove_file(reading.folder.path().join(path))),
            }
            if settles {
                reading.settle();
            }
            let folder = |name: &str| AddressPattern::below(&WsPath::from_normal(name));
            let pattern = match request {
                0 | 1 => folder(""),
                2 => folder("b"),
                _ => AddressPattern::new("c/deep", &WsPath::root()).unwrap(),
            };
            let asked = [pattern.wanting(Wanted::Everything)];
            let whole = reading.open().evaluate(&asked);
            for _ in 0..2 {
                let answer = reading.open().evaluate_to_read(&asked);
                prop_assert_eq!(described(&answer), described(&whole));
            }
        }
    }
}

#[test]
fn a_result_that_gets_the_name_of_another_targets_result_is_an_error_as_in_a_whole_evaluation() {
    let reading = Reading::new();
    reading.write(
        "d/far/targets.nub",
        "target off = write { path = \"t\", text = \"t\" }\n",
    );
    reading.write(
        "d/targets.nub",
        "target far = write { path = \"off/u\", text = \"t\" }\n",
    );
    for (from, to) in [("\"t\" }", "\"v\" }"), ("\"v\" }", "\"w\" }")] {
        reading.settle();
        assert!(described(&reading.ask()).is_some());
        reading.edit("d/targets.nub", from, to);
    }
    reading.settle();
    assert_eq!(reading.read(), ["d"]);
    reading.edit("d/targets.nub", "off/u", "off/t");
    reading.settle();
    let told = |evaluation: &Evaluation| -> Vec<String> {
        evaluation
            .diagnostics
            .iter()
            .map(|one| one.message.clone())
            .collect()
    };
    let pattern = AddressPattern::below(&WsPath::root()).wanting(Wanted::Everything);
    let (answer, whole) = (reading.ask(), reading.open().evaluate(&[pattern]));
    assert!(!told(&whole).is_empty());
    assert_eq!(told(&answer), told(&whole));
}
