//! Adoptions without a terminal: who is asked is played by the test.

#![allow(clippy::unwrap_used)] // A test that panics has failed, which is right.

use std::collections::BTreeMap;
use std::fs;
use std::path::Path;
use std::sync::{Arc, Mutex};

use nubrik_adopt::{
    AdoptNews, AdoptProblem, AdoptedFolder, Adoption, Attendant, KnownBuild, TimeLimit, TryResult,
    check_answers,
};
use nubrik_confine::CancelSwitch;
use nubrik_engine::{Event, Listener};
use nubrik_graph::Graph;
use nubrik_survey::{Answers, SurveyQuestion};

/// Answers what it was given beforehand, else the first choice; writes down what it hears.
#[derive(Default)]
struct Player {
    answers: BTreeMap<String, String>,
    stops_at: Option<String>,
    heard: Mutex<Vec<String>>,
}

impl Attendant for Player {
    fn answer(&self, question: &SurveyQuestion) -> Result<String, AdoptProblem> {
        if self.stops_at.as_ref() == Some(&question.id) {
            return Err(AdoptProblem::Interrupted);
        }
        self.heard
            .lock()
            .unwrap()
            .push(format!("asked {}", question.id));
        Ok(self
            .answers
            .get(&question.id)
            .unwrap_or(&question.choices[0])
            .clone())
    }

    fn hear(&self, news: AdoptNews<'_>) {
        match news {
            AdoptNews::WithoutPins(problem) => {
                self.heard
                    .lock()
                    .unwrap()
                    .push(format!("without pins: {}", problem.message));
            }
            AdoptNews::Ended {
                round: Some(round),
                counts,
            } => {
                self.heard
                    .lock()
                    .unwrap()
                    .push(format!("round {round}: {} failed", counts.failed));
            }
            _ => {}
        }
    }

    fn attend(&self, _: &Graph, work: &mut dyn FnMut(&dyn Listener)) {
        work(&Deaf);
    }
}

struct Deaf;

impl Listener for Deaf {
    fn hear(&self, _: &Event) {}
}

fn folder_with(files: &[(&str, &str)]) -> (tempfile::TempDir, AdoptedFolder) {
    let place = tempfile::tempdir().unwrap();
    for (name, text) in files {
        let path = place.path().join(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, text).unwrap();
    }
    let folder = AdoptedFolder::of(place.path()).unwrap();
    (place, folder)
}

fn adoption<'a>(folder: &'a AdoptedFolder, player: &'a Player) -> Adoption<'a> {
    let cancel = Arc::new(CancelSwitch::new().unwrap());
    Adoption {
        folder,
        attendant: player,
        cancel,
        limit: TimeLimit::default(),
        answers: Answers::new(),
        build: KnownBuild::Unknown,
        as_seen: Default::default(),
        is_offline: true,
    }
}

/// Two programs of which one does not compile, and one library that both use.
const TIDES: [(&str, &str); 4] = [
    ("tide.h", "int height(void);\n"),
    (
        "tide.c",
        "#include \"tide.h\"\nint height(void) { return 3; }\n",
    ),
    (
        "ebb.c",
        "#include \"tide.h\"\nint main(void) { return height() - 3; }\n",
    ),
    (
        "flood.c",
        "#include \"tide.h\"\nint main(void) { return height() - ; }\n",
    ),
];

#[test]
fn every_definition_gets_a_result_of_its_own() {
    let (_place, folder) = folder_with(&TIDES);
    let player = Player::default();
    let mut adoption = adoption(&folder, &player);
    let proposal = adoption.look();
    let mut proposal = adoption.ask(proposal).unwrap();
    folder.write_settings("").unwrap();
    let mut texts = adoption.write(&mut proposal).unwrap();
    let tried = adoption.try_all(&mut proposal, &mut texts).unwrap();
    assert_eq!(
        tried.results["ebb"],
        TryResult::Works,
        "{:?}",
        tried.results
    );
    assert!(
        !matches!(tried.results["flood"], TryResult::Works),
        "{:?}",
        tried.results
    );
    let rounds = player.heard.lock().unwrap();
    assert!(
        rounds
            .first()
            .is_some_and(|first| first.starts_with("round 0: ")),
        "{rounds:?}"
    );
}

#[test]
fn a_file_that_somebody_changed_meanwhile_is_left_alone() {
    let (place, folder) = folder_with(&TIDES);
    let player = Player::default();
    let adoption = adoption(&folder, &player);
    let mut proposal = adoption.look();
    fs::write(place.path().join("targets.nub"), "# mine\n").unwrap();
    let problem = adoption.write(&mut proposal).err().unwrap();
    assert!(
        matches!(&problem, AdoptProblem::ChangedBySomebody(name) if name == "targets.nub"),
        "{problem:?}"
    );
    assert_eq!(
        fs::read_to_string(place.path().join("targets.nub")).unwrap(),
        "# mine\n"
    );
    // Settings that somebody else was quicker to write stay, too.
    fs::write(place.path().join("nubrik.toml"), "jobs = 3\n").unwrap();
    let problem = folder.write_settings("").unwrap_err();
    assert!(
        matches!(&problem, AdoptProblem::ChangedBySomebody(name) if name == "nubrik.toml"),
        "{problem:?}"
    );
    assert_eq!(
        fs::read_to_string(place.path().join("nubrik.toml")).unwrap(),
        "jobs = 3\n"
    );
}

const BOARD: [(&str, &str); 2] = [
    (
        "package.json",
        "{\"name\": \"board\", \"main\": \"index.js\", \"dependencies\": {\"ebb\": \"^1\"}}",
    ),
    ("index.js", "require('ebb');\n"),
];

#[test]
fn nothing_is_written_when_who_is_asked_stops() {
    let (place, folder) = folder_with(&BOARD);
    let player = Player {
        stops_at: Some("pin.js".to_owned()),
        ..Player::default()
    };
    let mut adoption = adoption(&folder, &player);
    adoption.is_offline = false;
    folder.write_settings("").unwrap();
    let mut proposal = adoption.look();
    let problem = adoption.write(&mut proposal).err().unwrap();
    assert!(matches!(problem, AdoptProblem::Interrupted), "{problem:?}");
    assert!(!place.path().join("targets.nub").exists() && !place.path().join("pins.toml").exists());
}

#[test]
fn packages_that_nobody_agreed_to_are_not_pinned() {
    let (_place, folder) = folder_with(&BOARD);
    let player = Player {
        answers: BTreeMap::from([("pin.js".to_owned(), "no".to_owned())]),
        ..Player::default()
    };
    let mut adoption = adoption(&folder, &player);
    adoption.is_offline = false;
    folder.write_settings("").unwrap();
    let mut proposal = adoption.look();
    adoption.write(&mut proposal).unwrap();
    let why = &proposal
        .left_out
        .iter()
        .find(|left| left.what == "js ebb")
        .unwrap()
        .why;
    assert_eq!(why, "is not pinned");
    assert_eq!(*player.heard.lock().unwrap(), ["asked pin.js"]);
}

#[test]
fn answers_are_checked_before_anything_is_asked() {
    let (_place, folder) = folder_with(&BOARD);
    let player = Player::default();
    let proposal = adoption(&folder, &player).look();
    let check = |id: &str, answer: &str| {
        check_answers(
            &Answers::from([(id.to_owned(), answer.to_owned())]),
            &proposal,
            &folder,
        )
    };
    check("pin.js", "no").unwrap();
    check("network.anything", "yes").unwrap();
    assert!(
        matches!(check("pin.js", "perhaps"), Err(AdoptProblem::NoAnswer { choices, .. }) if choices == ["yes", "no"])
    );
    assert!(matches!(
        check("network.anything", "perhaps"),
        Err(AdoptProblem::NotAsked { .. })
    ));
    assert!(
        matches!(check("pin.jz", "no"), Err(AdoptProblem::NotAsked { near: Some(near), .. }) if near == "pin.js")
    );
}

#[test]
fn folders_that_cannot_be_workspaces_are_refused() {
    let problem = |path: &Path| AdoptedFolder::of(path).err().unwrap();
    assert!(matches!(
        problem(Path::new("/no/such/tide")),
        AdoptProblem::NoPlace { .. }
    ));
    assert!(matches!(problem(Path::new("/")), AdoptProblem::TooMuch(_)));
    let (place, _) = folder_with(&[
        ("nubrik.toml", ""),
        ("out/default/a.c", ""),
        ("targets.nub", ""),
    ]);
    assert!(matches!(
        problem(&place.path().join("targets.nub")),
        AdoptProblem::NoFolder(_)
    ));
    assert!(matches!(
        problem(&place.path().join("out/default")),
        AdoptProblem::OwnFolder(_)
    ));
    fs::write(place.path().join("targets.nub"), b"\xff\xfe").unwrap();
    assert!(
        matches!(problem(place.path()), AdoptProblem::NoText { name, .. } if name == "targets.nub")
    );
}

#[test]
fn paths_are_of_the_folder_or_of_none() {
    let (place, _) = folder_with(&[("nubrik.toml", ""), ("tides/a.c", "")]);
    let folder = AdoptedFolder::of(&place.path().join("tides")).unwrap();
    assert_eq!(folder.inside("tides/a.c").as_deref(), Some("a.c"));
    assert_eq!(folder.inside("tidesmith/a.c"), None);
    assert_eq!(folder.path("sub", "targets.nub"), "tides/sub/targets.nub");
    assert!(!folder.has_definitions());
    fs::write(place.path().join("targets.nub"), "").unwrap();
    assert!(folder.has_definitions());
}
