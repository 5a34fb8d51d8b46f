//! What commands that only read take from what is kept: after an edit only what it reaches is evaluated, and the answer is the one
//! that an evaluation of everything gives.

#![allow(clippy::unwrap_used)] // A test that panics has failed, which is right.

mod described;

use std::fs;
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use nubrik_confine::CancelSwitch;
use nubrik_lang::{AddressPattern, Evaluation, Wanted};
use nubrik_session::Session;
use nubrik_source::WsPath;

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
    ("c/targets.nub", "target deep = step { run = `sort {&b/both} > {out \"deep\"}` }\n"),
    ("d/targets.nub", "target apart = write { path = \"t\", text = \"t\" }\n"),
];

/// A workspace, and what reading commands know of it.
struct Reading {
    folder: tempfile::TempDir,
}

impl Reading {
    fn new() -> Reading {
        let reading = Reading { folder: tempfile::tempdir().unwrap() };
        FILES.iter().for_each(|(path, text)| reading.write(path, text));
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

    /// The packages that were evaluated for an answer, which is the one of an evaluation of everything.
    fn read(&self) -> Vec<String> {
        let pattern = AddressPattern::below(&WsPath::root()).wanting(Wanted::Everything);
        let (answer, whole) = (self.ask(), self.open().evaluate(&[pattern]));
        assert!(described(&whole).is_some(), "{:#?}", whole.diagnostics);
        assert_eq!(described(&answer), described(&whole));
        let packages = answer.read.iter().filter_map(|file| file.as_str().strip_suffix("/targets.nub"));
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
    reading.edit("c/targets.nub", "target deep =", "## The deep one.\ntarget deeper =");
    assert_eq!(reading.read(), ["a", "b", "c"], "what it needs is evaluated, too");
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
fn targets_come_and_go() {
    let reading = Reading::new();
    let old = FILES[5].1;
    reading.write("b/targets.nub", &format!("target first = write {{ path = \"f\", text = \"f\" }}\n{old}"));
    reading.read();
    // A value that is needed no more takes its steps with it.
    reading.edit("b/targets.nub", "{&a/one} {made}", "{&a/one}");
    assert_eq!(reading.read(), ["a", "b", "c"]);
    let kept = reading.ask();
    assert!(!kept.graph.files.iter().any(|file| file.path.as_str().ends_with("/m")));
    reading.write("c/targets.nub", "target deep = write { path = \"d\", text = \"d\" }\n");
    reading.read();
    reading.write("d/targets.nub", "");
    reading.read();
    reading.write("d/targets.nub", "target apart = write { path = \"t\", text = \"t\" }\n");
    reading.read();
    fs::remove_dir_all(reading.folder.path().join("d")).unwrap();
    reading.read();
}

#[test]
fn what_is_wrong_is_reported_whatever_was_kept() {
    let reading = Reading::new();
    let wrong = [
        ("d/targets.nub", "target apart = write { path = \"t\", text = nothing }\n"),
        ("d/targets.nub", "target apart = write { path = \"t\", text = &c/deep }\n"),
        ("c/targets.nub", "target deep = &c/deeper\ntarget deeper = &c/deep\n"),
        ("a/targets.nub", "target other = write { path = \"t\", text = \"t\" }\n"),
        // A folder on the way to another package's results is a result now.
        ("targets.nub", "target d = step { run = `touch {out \"apart\"}` }\n"),
    ];
    for (path, text) in wrong {
        let before = fs::read_to_string(reading.folder.path().join(path)).ok();
        reading.write(path, text);
        let pattern = AddressPattern::below(&WsPath::root()).wanting(Wanted::Everything);
        let (answer, whole) = (reading.ask(), reading.open().evaluate(&[pattern]));
        let said = |evaluation: &Evaluation| -> Vec<String> {
            evaluation.diagnostics.iter().map(|d| format!("{} {}", d.code, d.message)).collect()
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
    let files: Vec<_> = fs::read_dir(&folder).unwrap().map(|entry| entry.unwrap().path()).collect();
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
