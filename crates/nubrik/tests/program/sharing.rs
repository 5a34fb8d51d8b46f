//! A shared cache: what one machine made, another one takes; what is not as it should be, nobody
//! does.

use std::fs;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::{TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::Duration;

use crate::sandbox::{Run, Sandbox, has_sandboxes};
use nubrik_testing::{Need, skip};
use parking_lot::Mutex;
use serde_json::json;

/// A program of two sources, a table that a script makes, and a folder.
const FILES: [(&str, &str); 5] = [
    (
        "targets.nub",
        "use \"nub:c\" as c\n\
         target fit = c.library { sources = \"fit.c\", headers = \"fit.h\", include = \".\" }\n\
         target show = c.program { sources = \"show.c\", needs = fit }\n\
         target pages = step { run = sh`cp {in \"table.txt\"} {outfolder \"pages\"}/a; echo b > {outfolder \"pages\"}/b` }\n\
         test fits = check { run = `{show}` }\n",
    ),
    ("fit.c", "#include \"fit.h\"\nint fit(void) { return 0; }\n"),
    ("fit.h", "int fit(void);\n"),
    (
        "show.c",
        "#include \"fit.h\"\nint main(void) { return fit(); }\n",
    ),
    ("table.txt", "high 06:12\n"),
];

/// A team: a store, its root key, one that writes, and workspaces that use it.
struct Team {
    folder: tempfile::TempDir,
    at: String,
    root: String,
}

/// A machine of the team: its workspace, and what it keeps for itself.
struct Seat<'t> {
    team: &'t Team,
    sandbox: Sandbox,
    name: String,
}

fn public_key(run: &Run) -> String {
    let text = &run.stdout;
    let start = text.find("ed25519:").unwrap();
    text[start..]
        .split(|c: char| c.is_whitespace() || c == '"')
        .next()
        .unwrap()
        .to_owned()
}

impl Team {
    /// A team with a store in a folder, or at another place that leads to that folder.
    fn new(at: Option<&str>) -> Team {
        let folder = tempfile::tempdir().unwrap();
        let own = folder.path().join("store").display().to_string();
        let team = Team {
            root: String::new(),
            at: at.unwrap_or(&own).to_owned(),
            folder,
        };
        let sandbox = Sandbox::new(&[]);
        let made = sandbox
            .run(&[
                "shared",
                "create",
                &team.at,
                "--root-key",
                &team.path("root"),
            ])
            .expect(0);
        let team = Team {
            root: public_key(&made),
            ..team
        };
        team.member("ci", &[]);
        team
    }

    fn path(&self, name: &str) -> String {
        self.folder.path().join(name).display().to_string()
    }

    /// Makes a key for someone, and lets them write.
    fn member(&self, name: &str, more: &[&str]) -> String {
        let seat = self.seat("desk");
        let key = public_key(&seat.run(&["shared", "new-key", &self.path(name)]));
        let root = self.path("root");
        let words = [&["shared", "add", name, &key, "--root-key", &root], more].concat();
        seat.run(&words).expect(0);
        key
    }

    fn seat(&self, name: &str) -> Seat<'_> {
        let sandbox = Sandbox::new(&FILES);
        sandbox.write(
            "nubrik.toml",
            &format!(
                "[shared]\nat = \"{}\"\nroot_key = \"{}\"\n",
                self.at, self.root
            ),
        );
        Seat {
            team: self,
            sandbox,
            name: name.to_owned(),
        }
    }

    /// Has everything built and given to the cache.
    fn built_by_ci(&self) -> Run {
        self.seat("ci").writes(&["build", "--json"]).expect(0)
    }

    fn objects(&self, kind: &str) -> Vec<PathBuf> {
        let mut found = Vec::new();
        files_in(
            &self.folder.path().join("store/nubrik1").join(kind),
            &mut found,
        );
        found.sort();
        found
    }
}

fn files_in(folder: &Path, found: &mut Vec<PathBuf>) {
    if folder.is_file() {
        return found.push(folder.to_owned());
    }
    for entry in fs::read_dir(folder).into_iter().flatten().flatten() {
        files_in(&entry.path(), found);
    }
}

impl Seat<'_> {
    fn with(&self, args: &[&str], key: Option<&str>) -> Run {
        let state = self.team.path(&format!("{}-state", self.name));
        let mut variables = vec![
            ("XDG_STATE_HOME", state.as_str()),
            ("NUBRIK_SHARED_ROOT_KEY", &self.team.root),
        ];
        variables.extend(key.map(|key| ("NUBRIK_SHARED_KEY", key)));
        self.sandbox.run_with(args, &variables)
    }

    /// Runs as someone who takes results.
    fn run(&self, args: &[&str]) -> Run {
        self.with(args, None)
    }

    /// Runs as one who writes.
    fn writes(&self, args: &[&str]) -> Run {
        self.with(args, Some(&self.team.path(&self.name)))
    }
}

/// What a build says of the store.
fn shared(run: &Run) -> serde_json::Value {
    run.events()
        .into_iter()
        .find(|event| event["event"] == "shared")
        .unwrap_or_default()
}

/// Which steps ran that have commands.
fn ran(run: &Run) -> usize {
    run.ran()
        .iter()
        .filter(|say| !say.starts_with("write") && !say.starts_with("put"))
        .count()
}

#[test]
fn what_nobody_here_needs_stays_there_and_is_made_here_if_it_is_gone() {
    if !has_sandboxes() {
        return skip(Need::Confinement, "without sandboxes nothing is shared");
    }
    let team = Team::new(None);
    team.built_by_ci();
    let seat = team.seat("person");
    let run = seat.run(&["build", "show", "--json"]).expect(0);
    assert_eq!((ran(&run), &shared(&run)["not_downloaded"]), (0, &json!(3)));
    let objects = |seat: &Seat<'_>| {
        let made = seat.sandbox.files_below(".nubrik/made");
        made.keys()
            .filter(|path| path.ends_with(".o") || path.ends_with(".a"))
            .count()
    };
    assert_eq!(objects(&seat), 0);
    assert!(
        seat.run(&["build", "show"])
            .expect(0)
            .stdout
            .starts_with("nothing to run")
    );
    // The plan asks nobody, and knows what is away.
    assert!(
        seat.run(&["plan", "show"])
            .expect(0)
            .stdout
            .contains("nothing")
    );
    // An edit compiles one file, and the library gets linked with it.
    seat.sandbox.write(
        "show.c",
        "#include \"fit.h\"\nint main(void) { return fit() + 3; }\n",
    );
    let run = seat.run(&["build", "show", "--json"]).expect(0);
    assert_eq!(
        (ran(&run), &shared(&run)["not_used"]["unknown"]),
        (2, &json!(2))
    );
    assert_eq!(objects(&seat), 2);
    // The same where the store is gone meanwhile: what was only known is made, with what it needs.
    let other = team.seat("other");
    other.run(&["build", "show"]).expect(0);
    fs::rename(team.path("store"), team.path("gone")).unwrap();
    other.sandbox.write(
        "show.c",
        "#include \"fit.h\"\nint main(void) { return fit() + 3; }\n",
    );
    let run = other.run(&["build", "show"]).expect(0);
    assert!(
        run.stdout
            .contains("2 results of the shared cache cannot be downloaded now"),
        "{}",
        run.stdout
    );
    assert!(
        run.stdout
            .contains("its result was not downloaded before, and cannot be now"),
        "{}",
        run.stdout
    );
    assert!(
        other
            .run(&["build", "show"])
            .expect(0)
            .stdout
            .starts_with("nothing to run")
    );
    // Without the store, by request.
    fs::rename(team.path("gone"), team.path("store")).unwrap();
    let third = team.seat("third");
    third.run(&["build", "show"]).expect(0);
    third.sandbox.write(
        "show.c",
        "#include \"fit.h\"\nint main(void) { return fit() + 3; }\n",
    );
    assert_eq!(
        third
            .run(&["build", "show", "--no-shared-cache", "--json"])
            .expect(0)
            .ran()
            .len(),
        4
    );
    // Who looks into a step has what it reads.
    let fourth = team.seat("fourth");
    let run = fourth.run(&["build", "show", "--observe"]).expect(0);
    assert!(run.stdout.contains("link"), "{}", run.stdout);
}

#[test]
fn who_must_share_fails_where_the_store_is_of_no_use() {
    if !has_sandboxes() {
        return skip(Need::Confinement, "without sandboxes nothing is shared");
    }
    let team = Team::new(None);
    let ci = team.seat("ci");
    ci.writes(&["build", "--require-shared-cache"]).expect(0);
    // It is not there any more: what is made cannot be given, and a build says so by its end.
    fs::rename(team.path("store"), team.path("elsewhere")).unwrap();
    fs::write(team.path("store"), "no folder").unwrap();
    ci.sandbox.write(
        "show.c",
        "#include \"fit.h\"\nint main(void) { return fit() + 0; }\n",
    );
    let built = ci.writes(&["build", "--require-shared-cache"]).expect(5);
    assert!(
        built.stderr.contains("the shared cache was of no use"),
        "{}",
        built.stderr
    );
    let tested = ci.writes(&["test", "--require-shared-cache"]).expect(5);
    assert!(
        tested.stderr.contains("--require-shared-cache demands it"),
        "{}",
        tested.stderr
    );
    // Otherwise the work counts. That nothing is wanted of the store now does not make it one.
    ci.writes(&["build"]).expect(0);
    ci.writes(&["build", "--require-shared-cache"]).expect(5);
    // Who names none, or did not agree, reads so as well.
    let alone = Sandbox::new(&[(
        "targets.nub",
        "target a = step { run = sh`: > {out \"x\"}` }\n",
    )]);
    let run = alone.run(&["build", "--require-shared-cache"]).expect(5);
    assert!(
        run.stderr.contains("names no shared cache"),
        "{}",
        run.stderr
    );
}

#[test]
fn what_ci_made_nobody_makes_again() {
    if !has_sandboxes() {
        return skip(Need::Confinement, "without sandboxes nothing is shared");
    }
    let team = Team::new(None);
    let ci = team.seat("ci");
    let built = ci.writes(&["build", "--json"]).expect(0);
    assert_eq!(
        (ran(&built), shared(&built)["uploaded"].as_u64()),
        (5, Some(5))
    );
    let tested = ci.writes(&["test", "--json"]).expect(0);
    assert_eq!(shared(&tested)["uploaded"], 1);
    // Another machine, in another folder, with nothing of its own.
    let person = team.seat("person");
    let taken = person.run(&["build", "--json"]).expect(0);
    assert_eq!(
        (ran(&taken), shared(&taken)["downloaded"].as_u64()),
        (0, Some(5))
    );
    assert_eq!(
        ci.sandbox.files_below("out"),
        person.sandbox.files_below("out")
    );
    assert_eq!(ran(&person.run(&["test", "--json"]).expect(0)), 0);
    // A change makes only what it reaches.
    person.sandbox.write(
        "show.c",
        "#include \"fit.h\"\nint main(void) { return fit() + 0; }\n",
    );
    let changed = person.run(&["build", "--json"]).expect(0);
    assert_eq!(changed.said("ran"), ["compile show.c"]);
    let why = person.run(&["why", "show", "--shared"]).expect(0);
    let first = "3 of 4 steps of show are in the shared cache\n";
    assert!(why.stdout.starts_with(first), "{}", why.stdout);
    assert!(
        why.stdout.contains(
            "show   compile show.c   ci uploaded one to main that was made of something else\n"
        ),
        "{}",
        why.stdout
    );
    assert!(
        why.stdout
            .contains("input     show.c has another content\n"),
        "{}",
        why.stdout
    );
    // What was taken counts as kept: the store is not needed again.
    fs::remove_dir_all(team.folder.path().join("store")).unwrap();
    fs::remove_dir_all(person.sandbox.folder.join(".nubrik")).unwrap();
    person.sandbox.write("show.c", FILES[3].1);
    assert_eq!(
        ran(&person.run(&["build", "--json", "--no-cache"]).expect(0)),
        5
    );
    let again = person.run(&["build", "--json"]).expect(0);
    assert_eq!(ran(&again), 0);
}

#[test]
fn a_store_is_used_only_by_who_agreed_to_it() {
    if !has_sandboxes() {
        return skip(Need::Confinement, "without sandboxes nothing is shared");
    }
    let team = Team::new(None);
    team.built_by_ci();
    let person = team.seat("person");
    let state = team.path("person-state");
    let variables = [("XDG_STATE_HOME", state.as_str())];
    let run = person.sandbox.run_with(&["build"], &variables).expect(0);
    assert!(
        run.stderr
            .contains("which you do not trust yet: nubrik shared"),
        "{}",
        run.stderr
    );
    assert!(!run.stdout.contains("reused"), "{}", run.stdout);
    let said = person.sandbox.run_with(&["shared"], &variables).expect(0);
    assert!(
        said.stdout.contains("you do not trust it yet"),
        "{}",
        said.stdout
    );
    person
        .sandbox
        .run_with(&["shared", "trust"], &variables)
        .expect(0);
    let other = team.seat("person");
    let run = other
        .sandbox
        .run_with(&["build", "--json"], &variables)
        .expect(0);
    assert_eq!(ran(&run), 0);
    // Another root key, or another place, is another store.
    other.sandbox.write(
        "nubrik.toml",
        &format!(
            "[shared]\nat = \"{}/\"\nroot_key = \"{}\"\n",
            team.at, team.root
        ),
    );
    let run = other
        .sandbox
        .run_with(&["build", "--rerun"], &variables)
        .expect(0);
    assert!(
        run.stderr.contains("you do not trust yet"),
        "{}",
        run.stderr
    );
    for flag in ["--no-shared-cache", "--no-cache"] {
        let fresh = team.seat("person");
        let run = fresh.run(&["build", flag, "--json"]).expect(0);
        assert_eq!(
            (ran(&run), shared(&run)),
            (5, serde_json::Value::Null),
            "{flag}"
        );
    }
    // A folder is no network; a server is one.
    let fresh = team.seat("person");
    assert_eq!(
        ran(&fresh.run(&["build", "--offline", "--json"]).expect(0)),
        0
    );
    let fresh = team.seat("person");
    let away = format!(
        "[shared]\nat = \"http://127.0.0.1:9/team\"\nroot_key = \"{}\"\n",
        team.root
    );
    fresh.sandbox.write("nubrik.toml", &away);
    let run = fresh.run(&["build", "--offline", "--json"]).expect(0);
    assert_eq!((ran(&run), shared(&run)), (5, serde_json::Value::Null));
}

#[test]
fn what_came_from_one_store_does_not_count_for_another() {
    if !has_sandboxes() {
        return skip(Need::Confinement, "without sandboxes nothing is shared");
    }
    let team = Team::new(None);
    // One who writes for two teams, by one key.
    let key = team.member("twin", &[]);
    team.seat("twin").writes(&["build"]).expect(0);
    let person = team.seat("person");
    assert_eq!(ran(&person.run(&["build", "--json"]).expect(0)), 0);
    // All of it is in this machine's own store now.
    fs::remove_dir_all(person.sandbox.folder.join(".nubrik")).unwrap();
    fs::rename(team.path("store"), team.path("away")).unwrap();
    assert_eq!(ran(&person.run(&["build", "--json"]).expect(0)), 0);
    // Another root key did not vouch for it.
    let other = Team::new(None);
    other
        .seat("desk")
        .run(&[
            "shared",
            "add",
            "twin",
            &key,
            "--root-key",
            &other.path("root"),
        ])
        .expect(0);
    let settings = format!(
        "[shared]\nat = \"{}\"\nroot_key = \"{}\"\n",
        other.at, other.root
    );
    person.sandbox.write("nubrik.toml", &settings);
    fs::remove_dir_all(person.sandbox.folder.join(".nubrik")).unwrap();
    let state = team.path("person-state");
    let variables = [
        ("XDG_STATE_HOME", state.as_str()),
        ("NUBRIK_SHARED_ROOT_KEY", other.root.as_str()),
    ];
    let run = person
        .sandbox
        .run_with(&["build", "--json"], &variables)
        .expect(0);
    assert_eq!(
        (ran(&run), &run.summary()["reused"]),
        (5, &0.into()),
        "{}",
        run.stdout
    );
}

#[test]
fn what_is_given_after_a_store_was_put_back_is_believed() {
    if !has_sandboxes() {
        return skip(Need::Confinement, "without sandboxes nothing is shared");
    }
    let copy = |from: &str, to: &str| {
        assert!(
            std::process::Command::new("cp")
                .args(["-a", from, to])
                .status()
                .unwrap()
                .success()
        );
    };
    let team = Team::new(None);
    let ci = team.seat("ci");
    ci.writes(&["build"]).expect(0);
    copy(&team.path("store"), &team.path("copy"));
    let person = team.seat("person");
    for text in ["ebb", "slack"] {
        ci.sandbox.write("table.txt", text);
        ci.writes(&["build"]).expect(0);
    }
    person.sandbox.write("table.txt", "slack");
    assert_eq!(ran(&person.run(&["build", "--json"]).expect(0)), 0);
    // Who saw the third head believes none before it.
    fs::remove_dir_all(team.path("store")).unwrap();
    copy(&team.path("copy"), &team.path("store"));
    for (seat, text) in [(&ci, "flow"), (&person, "flow")] {
        seat.sandbox.write("table.txt", text);
    }
    let told = ci.writes(&["build"]).expect(0);
    assert!(
        told.stdout
            .contains("is older than the one that was seen here"),
        "{}",
        told.stdout
    );
    assert!(!ci.writes(&["build"]).expect(0).stdout.contains("older"));
    let run = person.run(&["build", "--json"]).expect(0);
    assert_eq!(ran(&run), 0, "{}{}", run.stdout, run.stderr);
}

#[test]
fn who_may_not_write_is_refused_and_what_was_revoked_counts_no_more() {
    if !has_sandboxes() {
        return skip(Need::Confinement, "without sandboxes nothing is shared");
    }
    let team = Team::new(None);
    let stranger = team.seat("stranger");
    stranger
        .run(&["shared", "new-key", &team.path("stranger")])
        .expect(0);
    let run = stranger.writes(&["build"]).expect(0);
    assert!(run.stdout.contains("may not write there"), "{}", run.stdout);
    assert!(team.objects("heads").is_empty() && team.objects("segments").is_empty());
    // One who writes another line is not believed for this one.
    let other = team.member("other", &["--channel", "wild"]);
    let seat = team.seat("other");
    assert!(
        seat.writes(&["build"])
            .expect(0)
            .stdout
            .contains("may not write there")
    );
    assert!(other.starts_with("ed25519:"));
    team.built_by_ci();
    let person = team.seat("person");
    assert_eq!(ran(&person.run(&["build", "--json"]).expect(0)), 0);
    let list_before = fs::read(team.folder.path().join("store/nubrik1/members")).unwrap();
    person
        .run(&["shared", "revoke", "ci", "--root-key", &team.path("root")])
        .expect(0);
    // Neither what is there counts, nor what was taken before.
    fs::remove_dir_all(person.sandbox.folder.join(".nubrik")).unwrap();
    assert_eq!(ran(&person.run(&["build", "--json"]).expect(0)), 5);
    // The older list is not believed by who saw the newer one.
    fs::write(
        team.folder.path().join("store/nubrik1/members"),
        list_before,
    )
    .unwrap();
    let mut fresh = team.seat("person");
    fresh.sandbox = Sandbox::new(&FILES);
    fresh.sandbox.write(
        "nubrik.toml",
        &format!(
            "[shared]\nat = \"{}\"\nroot_key = \"{}\"\n",
            team.at, team.root
        ),
    );
    let run = fresh.run(&["build", "--json"]).expect(0);
    assert_eq!(ran(&run), 5, "{}", run.stdout);
    let run = person
        .run(&[
            "shared",
            "add",
            "x",
            "ed25519:abc",
            "--root-key",
            &team.path("root"),
        ])
        .expect(2);
    assert!(run.stderr.contains("is no public key"), "{}", run.stderr);
    let run = person
        .run(&[
            "shared",
            "revoke",
            "nobody",
            "--root-key",
            &team.path("root"),
        ])
        .expect(2);
    assert!(
        run.stderr.contains("no member is called `nobody`"),
        "{}",
        run.stderr
    );
}

#[test]
fn what_a_hostile_store_gives_is_never_used() {
    if !has_sandboxes() {
        return skip(Need::Confinement, "without sandboxes nothing is shared");
    }
    let team = Team::new(None);
    team.built_by_ci();
    let right = team.seat("right").run(&["build"]).expect(0);
    drop(right);
    let expected = {
        let seat = team.seat("right");
        seat.run(&["build", "--no-shared-cache"]).expect(0);
        seat.sandbox.files_below("out")
    };
    let kinds = ["members", "heads", "manifests", "segments", "packs"];
    for kind in kinds {
        let objects = team.objects(kind);
        assert!(!objects.is_empty(), "{kind}");
        for object in objects {
            let bytes = fs::read(&object).unwrap();
            let mut flipped = bytes.clone();
            let middle = flipped.len() / 2;
            flipped[middle] ^= 1;
            let long = [bytes.clone(), vec![0; 1000]].concat();
            let others: [&[u8]; 5] = [
                &bytes[..bytes.len() / 2],
                &flipped,
                &long,
                b"",
                b"<html>sorry</html>",
            ];
            for (number, other) in others.into_iter().enumerate() {
                fs::write(&object, other).unwrap();
                let seat = team.seat(&format!("{kind}-{number}"));
                let run = seat.run(&["build", "--json"]).expect(0);
                assert_eq!(seat.sandbox.files_below("out"), expected, "{kind} {number}");
                // A pack whose end is not read may be longer.
                let harmless = kind == "packs" && number <= 2;
                assert!(ran(&run) > 0 || harmless, "{kind} {number}: {}", run.stdout);
            }
            fs::remove_file(&object).unwrap();
            let seat = team.seat(&format!("{kind}-none"));
            assert!(ran(&seat.run(&["build", "--json"]).expect(0)) > 0, "{kind}");
            fs::write(&object, bytes).unwrap();
        }
    }
    assert_eq!(
        ran(&team.seat("last").run(&["build", "--json"]).expect(0)),
        0
    );
}

#[test]
fn an_older_head_is_not_believed_by_who_saw_a_newer_one() {
    if !has_sandboxes() {
        return skip(Need::Confinement, "without sandboxes nothing is shared");
    }
    let team = Team::new(None);
    let ci = team.seat("ci");
    ci.writes(&["build"]).expect(0);
    let head = team.objects("heads").remove(0);
    let old = fs::read(&head).unwrap();
    ci.sandbox.write(
        "fit.c",
        "#include \"fit.h\"\nint fit(void) { return 1 - 1; }\n",
    );
    ci.sandbox.write("table.txt", "high 07:01\n");
    ci.writes(&["build"]).expect(0);
    let person = team.seat("person");
    person.run(&["build"]).expect(0);
    fs::write(&head, old).unwrap();
    // What was seen last is still known on that machine.
    let run = person.run(&["shared"]).expect(0);
    assert!(
        run.stdout.contains("its nubrik1/heads/main/"),
        "{}",
        run.stdout
    );
    assert!(
        run.stdout
            .contains("is older than the one that was seen here"),
        "{}",
        run.stdout
    );
    assert_eq!(
        ran(&team.seat("stranger").run(&["build", "--json"]).expect(0)),
        0
    );
    // Who writes prunes what is there, and hears that it is not the newest.
    let run = ci.writes(&["shared", "prune"]).expect(0);
    assert!(
        run.stdout
            .contains("is older than the one that was seen here"),
        "{}{}",
        run.stdout,
        run.stderr
    );
}

/// The program as on a machine whose folder of headers is another one; `None` where nothing can be
/// mounted.
fn on_another_machine(seat: &Seat<'_>, args: &[&str]) -> Option<Run> {
    let can = std::process::Command::new("unshare")
        .args(["-rm", "true"])
        .status()
        .is_ok_and(|s| s.success());
    let state = seat.team.path(&format!("{}-state", seat.name));
    let mut inside = seat.sandbox.command(args);
    inside
        .env("XDG_STATE_HOME", state)
        .env("NUBRIK_SHARED_ROOT_KEY", &seat.team.root);
    let mut command = std::process::Command::new("unshare");
    command.args([
        "-rm",
        "sh",
        "-c",
        "mount -t tmpfs none /usr/include && exec \"$0\" \"$@\"",
    ]);
    command
        .arg(inside.get_program())
        .args(inside.get_args())
        .current_dir(&seat.sandbox.folder)
        .env_clear();
    command.envs(
        inside
            .get_envs()
            .filter_map(|(name, value)| Some((name, value?))),
    );
    can.then(|| crate::sandbox::finish(command))
}

#[test]
fn what_ran_in_an_image_rests_on_the_image_alone() {
    if !has_sandboxes() {
        return skip(Need::Confinement, "without sandboxes nothing is shared");
    }
    let team = Team::new(None);
    let given_image = |seat: &Seat<'_>, packing| {
        let programs = nubrik_testing::layouts::programs_of_machine(&["sh", "cat", "ls"]);
        let mut entries: Vec<_> = programs
            .iter()
            .map(|(path, content)| nubrik_testing::layouts::LayerEntry::File(path, 0o755, content))
            .collect();
        entries.push(nubrik_testing::layouts::LayerEntry::File(
            "usr/include/tide.h",
            0o644,
            b"#define TIDE 7\n",
        ));
        nubrik_testing::layouts::ImageLayout::of(&[&entries], packing)
            .write(&seat.sandbox.folder.join("base"));
        seat.sandbox.write(
            "targets.nub",
            "let base = image { layout = \"base\" }
            target hello = step { run = sh`cat /usr/include/tide.h > {out \"hello\"}`, root = base }
            target beside_it = step { run = sh`ls /usr/include > {out \"names\"}` }
            test tide = check { run = sh`ls /usr/include`, root = base }\n",
        );
    };
    let ci = team.seat("ci");
    given_image(&ci, nubrik_testing::layouts::LayerPacking::Gzip);
    let run = ci
        .writes(&["build", "hello", "beside_it", "tide", "--json"])
        .expect(0);
    assert_eq!(
        (&shared(&run)["uploaded"], &shared(&run)["local_only"]),
        (&json!(4), &json!(0)),
        "{}",
        run.stdout
    );
    let person = team.seat("person");
    given_image(&person, nubrik_testing::layouts::LayerPacking::Gzip);
    let Some(run) = on_another_machine(&person, &["build", "hello", "beside_it", "tide", "--json"])
    else {
        return skip(Need::Superuser, "another machine cannot be played here");
    };
    let run = run.expect(0);
    // What looked at the machine's own headers is not that of the other machine; the image was not
    // even unpacked.
    assert_eq!(run.ran(), ["make names"], "{}", run.stdout);
    assert!(
        person
            .sandbox
            .cached_files()
            .keys()
            .all(|path| !path.contains("images/v1/roots"))
    );
    assert_eq!(person.sandbox.read("out/default/hello"), "#define TIDE 7\n");
    // The same contents in another packing.
    let third = team.seat("third");
    given_image(&third, nubrik_testing::layouts::LayerPacking::Zstandard);
    let run = on_another_machine(&third, &["build", "hello", "tide", "--json"])
        .unwrap()
        .expect(0);
    assert_eq!(run.ran(), ["unpack image base"], "{}", run.stdout);
    // A step of this machine alone, in the image that came from the other one.
    third.sandbox.write("own.txt", "own\n");
    let text = third
        .sandbox
        .read("targets.nub")
        .replace("cat /usr", "cat {in \"own.txt\"} /usr");
    third.sandbox.write("targets.nub", &text);
    on_another_machine(&third, &["build", "hello"])
        .unwrap()
        .expect(0);
    assert_eq!(
        third.sandbox.read("out/default/hello"),
        "own\n#define TIDE 7\n"
    );
}

#[test]
fn a_service_starts_in_an_image_whose_files_only_the_shared_cache_has() {
    use nubrik_testing::layouts::{ImageLayout, LayerEntry, LayerPacking, programs_of_machine};

    if !has_sandboxes() {
        return skip(Need::Confinement, "services in images need sandboxes");
    }
    let targets = "let base = image { layout = \"base\" }
        target made = image_of { path = \"made.tar\", base = base, files = { \"etc/tide\": write { path = \"tide\", text = \"ebb\\n\" } } }
        service board = serve {
            run = sh`cp /etc/tide {scratch \"said\"}; sleep 60`
            ready = `grep -q ebb {scratch \"said\"}`
            root = image { archive = step { run = sh`sleep 0.2; cp {made} {out \"slow.tar\"}` } }
        }
        test seen = check { run = sh`cat {in \"table.txt\"} > /dev/null; echo {board.port} > {scratch \"port\"}` }\n";
    let programs = programs_of_machine(&["sh", "cp", "sleep", "grep"]);
    let entries: Vec<_> = programs
        .iter()
        .map(|(path, content)| LayerEntry::File(path, 0o755, content))
        .collect();
    let team = Team::new(None);
    let seat = |name: &str| {
        let seat = team.seat(name);
        seat.sandbox.write("targets.nub", targets);
        ImageLayout::of(&[&entries], LayerPacking::Gzip).write(&seat.sandbox.folder.join("base"));
        seat
    };
    seat("ci").writes(&["test"]).expect(0);
    let desk = seat("desk");
    // The test runs again there; nothing else does.
    desk.sandbox.write("table.txt", "low 12:34\n");
    let run = desk.run(&["test", "--json"]).expect(0);
    assert!(
        !run.ran().contains(&"make slow.tar".to_owned()),
        "{}",
        run.stdout
    );
}

#[test]
fn results_rest_on_the_machine_as_it_was() {
    if !has_sandboxes() {
        return skip(Need::Confinement, "without sandboxes nothing is shared");
    }
    let place = format!("/usr/local/share/nubrik-test-{}", std::process::id());
    if fs::write(&place, "high\n").is_err() {
        return skip(Need::Superuser, "no file of the system can be made here");
    }
    let link = format!("{place}.link");
    std::os::unix::fs::symlink(&place, &link).unwrap();
    let missing = format!("{place}.missing");
    let targets = format!(
        "let start = \"/usr/local/share\"\n\
         target tide = step {{ run = sh`cat \"{{start}}\"/nubrik-test-{id} > {{out \"tide\"}}` }}\n\
         target way = step {{ run = sh`cat \"{{start}}\"/nubrik-test-{id}.link > {{out \"way\"}}` }}\n\
         target nothing = step {{ run = sh`cat \"{{start}}\"/nubrik-test-{id}.missing > {{out \"none\"}} 2> /dev/null || echo none > {{out \"none\"}}` }}\n\
         target count = step {{ run = sh`grep -c processor /proc/cpuinfo > {{out \"count\"}}` }}\n",
        id = std::process::id()
    );
    let team = Team::new(None);
    let seat = |name: &str| {
        let seat = team.seat(name);
        seat.sandbox.write("targets.nub", &targets);
        seat
    };
    let built = seat("ci").writes(&["build", "--json"]).expect(0);
    assert_eq!(
        (&shared(&built)["uploaded"], &shared(&built)["local_only"]),
        (&json!(3), &json!(1))
    );
    assert_eq!(
        seat("same").run(&["build", "--json"]).expect(0).ran(),
        ["make count"]
    );
    fs::write(&place, "low\n").unwrap();
    let other = seat("content");
    let mut ran = other.run(&["build", "--json"]).expect(0).ran();
    ran.sort();
    let why = other.run(&["why", "tide", "--shared"]).expect(0);
    let said = format!("it rests on {place}, which is another one here");
    assert!(why.stdout.contains(&said), "{}", why.stdout);
    let why = other.run(&["why", "count", "--shared", "--json"]).expect(0);
    assert_eq!(why.events()[0]["event"], "not_reused");
    assert_eq!(ran, ["make count", "make tide", "make way"]);
    fs::write(&place, "high\n").unwrap();
    fs::write(&missing, "here now\n").unwrap();
    let mut ran = seat("absence").run(&["build", "--json"]).expect(0).ran();
    ran.sort();
    assert_eq!(ran, ["make count", "make none"]);
    fs::remove_file(&missing).unwrap();
    let other = format!("{place}.other");
    fs::write(&other, "neap\n").unwrap();
    fs::remove_file(&link).unwrap();
    std::os::unix::fs::symlink(&other, &link).unwrap();
    let mut ran = seat("link").run(&["build", "--json"]).expect(0).ran();
    ran.sort();
    assert_eq!(ran, ["make count", "make way"]);
    let text = seat("ci2");
    team.member("ci2", &[]);
    let run = text.writes(&["build"]).expect(0);
    assert!(
        run.stdout
            .contains("it reads /proc/cpuinfo, which differs between machines"),
        "{}",
        run.stdout
    );
    for file in [&place, &link, &other] {
        fs::remove_file(file).unwrap();
    }
}

#[test]
fn what_a_tool_reads_in_its_own_folder_counts_wherever_that_is() {
    if !has_sandboxes() {
        return skip(Need::Confinement, "without sandboxes nothing is shared");
    }
    let folder = tempfile::tempdir().unwrap();
    let prefix = folder.path().join("tides");
    for below in ["bin", "lib/tides"] {
        fs::create_dir_all(prefix.join(below)).unwrap();
    }
    let program = prefix.join("bin/tides");
    fs::write(
        &program,
        "#!/bin/sh\ncat \"$(dirname \"$0\")\"/../lib/tides/table\n",
    )
    .unwrap();
    fs::set_permissions(
        &program,
        std::os::unix::fs::PermissionsExt::from_mode(0o755),
    )
    .unwrap();
    fs::write(prefix.join("lib/tides/table"), "high\n").unwrap();
    let path = format!("{}:/usr/bin:/bin", prefix.join("bin").display());
    let team = Team::new(None);
    let build = |name: &str, key: bool| {
        let seat = team.seat(name);
        seat.sandbox.write(
            "targets.nub",
            "target tide = step { run = `tides > {out \"tide\"}` }\n",
        );
        let (state, key_file) = (team.path(&format!("{name}-state")), team.path(name));
        let mut variables = vec![
            ("XDG_STATE_HOME", state.as_str()),
            ("NUBRIK_SHARED_ROOT_KEY", &team.root),
            ("PATH", &path),
        ];
        variables.extend(key.then_some(("NUBRIK_SHARED_KEY", key_file.as_str())));
        (
            seat.sandbox.run_with(&["build", "--json"], &variables),
            seat,
        )
    };
    let (run, _) = build("ci", true);
    if run.stdout.contains("No such file") {
        return skip(Need::Place, "the tool does not see its folder here");
    }
    assert_eq!(shared(&run.expect(0))["uploaded"], 1);
    assert!(build("same", false).0.expect(0).ran().is_empty());
    fs::write(prefix.join("lib/tides/table"), "low\n").unwrap();
    let (run, seat) = build("other", false);
    assert_eq!(run.expect(0).ran(), ["make tide"]);
    assert_eq!(seat.sandbox.read("out/default/tide"), "low\n");
}

#[test]
fn what_others_hold_of_a_key_is_told_to_no_other_store() {
    if !has_sandboxes() {
        return skip(Need::Confinement, "without sandboxes nothing is shared");
    }
    // Results that came from one store do not answer for a workspace that uses another one, or
    // none.
    let (one, other) = (Team::new(None), Team::new(None));
    one.built_by_ci();
    let person = one.seat("person");
    assert_eq!(ran(&person.run(&["build", "--json"]).expect(0)), 0);
    let settings = format!(
        "[shared]\nat = \"{}\"\nroot_key = \"{}\"\n",
        other.at, other.root
    );
    for settings in [settings.as_str(), ""] {
        fs::remove_dir_all(person.sandbox.folder.join(".nubrik")).unwrap();
        person.sandbox.write("nubrik.toml", settings);
        let root = if settings.is_empty() {
            &one.root
        } else {
            &other.root
        };
        let run = person.sandbox.run_with(
            &["build", "--json"],
            &[
                ("XDG_STATE_HOME", &one.path("person-state")),
                ("NUBRIK_SHARED_ROOT_KEY", root),
            ],
        );
        assert_eq!(ran(&run.expect(0)), 5, "{settings}");
        fs::remove_dir_all(person.sandbox.folder.join(".nubrik")).unwrap();
        person
            .sandbox
            .run(&["cache", "prune", "--size", "0MiB"])
            .expect(0);
        person.sandbox.write(
            "nubrik.toml",
            &format!(
                "[shared]\nat = \"{}\"\nroot_key = \"{}\"\n",
                one.at, one.root
            ),
        );
        assert_eq!(ran(&person.run(&["build", "--json"]).expect(0)), 0);
    }
}

/// How a server misbehaves.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
enum Mood {
    Well,
    /// It answers with this status.
    Status(u16),
    /// It closes in the middle of what it gives.
    Cuts,
    /// It says how long its answer is, and then nothing.
    Stalls,
    /// It gives contents a byte a second.
    Dribbles,
    /// It gives the whole where a part was asked for.
    Whole,
}

/// A server of objects in a folder, which knows GET and PUT.
struct Server {
    address: String,
    mood: Arc<Mutex<Mood>>,
    requests: Arc<AtomicUsize>,
    ends: Arc<AtomicBool>,
}

impl Server {
    fn of(folder: &Path) -> Server {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let address = format!("http://{}/team", listener.local_addr().unwrap());
        let server = Server {
            address,
            mood: Arc::new(Mutex::new(Mood::Well)),
            requests: Arc::default(),
            ends: Arc::default(),
        };
        let (mood, requests, ends) = (
            server.mood.clone(),
            server.requests.clone(),
            server.ends.clone(),
        );
        let folder = folder.to_owned();
        std::thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                if ends.load(Ordering::SeqCst) {
                    return;
                }
                let (mood, requests, folder) = (mood.clone(), requests.clone(), folder.clone());
                std::thread::spawn(move || {
                    let mut reader = BufReader::new(stream.try_clone().unwrap());
                    while answer(&mut reader, &stream, &folder, &mood, &requests).is_some() {}
                });
            }
        });
        server
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        self.ends.store(true, Ordering::SeqCst);
    }
}

/// Answers one request; nothing where the connection is to end.
fn answer(
    reader: &mut BufReader<TcpStream>,
    mut stream: &TcpStream,
    folder: &Path,
    mood: &Mutex<Mood>,
    requests: &AtomicUsize,
) -> Option<()> {
    let mut first = String::new();
    reader
        .read_line(&mut first)
        .ok()
        .filter(|count| *count > 0)?;
    let (mut length, mut range) = (0, None);
    loop {
        let mut line = String::new();
        reader.read_line(&mut line).ok()?;
        let line = line.trim().to_lowercase();
        if line.is_empty() {
            break;
        }
        if let Some(value) = line.strip_prefix("content-length:") {
            length = value.trim().parse().ok()?;
        }
        if let Some(value) = line.strip_prefix("range: bytes=") {
            let (from, to) = value.split_once('-')?;
            range = Some((from.parse::<usize>().ok()?, to.parse::<usize>().ok()?));
        }
    }
    requests.fetch_add(1, Ordering::SeqCst);
    let mut body = vec![0; length];
    reader.read_exact(&mut body).ok()?;
    let path = folder.join(first.split(' ').nth(1)?.trim_start_matches("/team/"));
    let now = *mood.lock();
    let mut send = |status: &str, body: &[u8]| {
        let head = format!(
            "HTTP/1.1 {status}\r\nContent-Length: {}\r\n\r\n",
            body.len()
        );
        stream.write_all(head.as_bytes()).ok()?;
        match now {
            Mood::Stalls => std::thread::sleep(Duration::from_secs(60)),
            Mood::Cuts => drop(stream.write_all(&body[..body.len() / 2])),
            Mood::Dribbles if path.to_string_lossy().contains("/packs/") => {
                for byte in body {
                    stream.write_all(&[*byte]).ok()?;
                    std::thread::sleep(Duration::from_secs(1));
                }
            }
            _ => return stream.write_all(body).ok(),
        }
        stream
            .shutdown(std::net::Shutdown::Both)
            .ok()
            .filter(|()| false)
    };
    match now {
        Mood::Status(status) => send(&format!("{status} No"), b""),
        _ if first.starts_with("PUT") => {
            fs::create_dir_all(path.parent()?).ok()?;
            fs::write(&path, &body).ok()?;
            send("201 Created", b"")
        }
        _ => match (fs::read(&path), range) {
            (Err(_), _) => send("404 Not Found", b""),
            (Ok(bytes), Some((from, to))) if now != Mood::Whole => {
                send("206 Partial Content", &bytes[from..=to])
            }
            (Ok(bytes), _) => send("200 OK", &bytes),
        },
    }
}

#[test]
fn servers_that_know_get_and_put_are_stores_and_bad_ones_cost_little() {
    if !has_sandboxes() {
        return skip(Need::Confinement, "without sandboxes nothing is shared");
    }
    let folder = tempfile::tempdir().unwrap();
    let server = Server::of(folder.path());
    let team = Team::new(Some(&server.address));
    assert_eq!(shared(&team.built_by_ci())["uploaded"], 5);
    server.requests.store(0, Ordering::SeqCst);
    let run = team.seat("person").run(&["build", "--json"]).expect(0);
    assert_eq!((ran(&run), shared(&run)["trouble"].as_str()), (0, None));
    // The list, a head, a manifest and a segment; then three parts and the whole of a pack.
    assert!(
        server.requests.load(Ordering::SeqCst) <= 8,
        "{}",
        server.requests.load(Ordering::SeqCst)
    );
    let moods = [
        Mood::Status(500),
        Mood::Status(403),
        Mood::Cuts,
        Mood::Stalls,
        Mood::Dribbles,
    ];
    for mood in moods {
        *server.mood.lock() = mood;
        let seat = team.seat(&format!("{mood:?}"));
        let run = seat.run(&["build", "--json"]).expect(0);
        assert_eq!(ran(&run), 5, "{mood:?}");
        assert!(
            shared(&run)["trouble"].is_string(),
            "{mood:?}: {}",
            run.stdout
        );
        // One who writes says so, and its build is as right.
        if mood == Mood::Status(500) {
            let ci = team.seat("ci");
            ci.sandbox.write("table.txt", "low 12:20\n");
            assert!(
                ci.writes(&["build"])
                    .expect(0)
                    .stdout
                    .contains("status 500")
            );
        }
    }
    *server.mood.lock() = Mood::Whole;
    assert_eq!(
        ran(&team.seat("whole").run(&["build", "--json"]).expect(0)),
        0
    );
    drop(server);
}

#[test]
fn a_build_that_was_cut_off_while_it_wrote_is_completed_by_the_next() {
    if !has_sandboxes() {
        return skip(Need::Confinement, "without sandboxes nothing is shared");
    }
    let team = Team::new(None);
    let ci = team.seat("ci");
    ci.writes(&["build"]).expect(0);
    // As if it had ended before each of the last objects was written.
    for kind in ["heads", "manifests", "segments", "packs"] {
        for object in team.objects(kind) {
            fs::remove_file(object).unwrap();
        }
        assert_eq!(
            ran(&team.seat("before").run(&["build", "--json"]).expect(0)),
            5,
            "{kind}"
        );
    }
    fs::remove_dir_all(team.path("ci-state")).unwrap();
    ci.sandbox.run(&["build"]).expect(0);
    ci.writes(&["build"]).expect(0);
    assert_eq!(
        ran(&team.seat("after").run(&["build", "--json"]).expect(0)),
        0
    );
}

/// A seat whose workspace makes a large file of a table.
fn with_large_file<'t>(team: &'t Team, name: &str) -> Seat<'t> {
    let seat = team.seat(name);
    let made = "awk 'BEGIN { srand(7) } { for (i = 0; i < 40000; i++) printf \"%s %d %d\\n\", $0, i, rand() * 1e9 }' ";
    let script = format!(
        "target tides = step {{ run = sh`{made} {{in \"table.txt\"}} > {{out \"tides.txt\"}}` }}\n"
    );
    seat.sandbox.write("targets.nub", &script);
    seat
}

#[test]
fn large_files_come_as_what_differs_from_those_that_were_here() {
    if !has_sandboxes() {
        return skip(Need::Confinement, "without sandboxes nothing is shared");
    }
    let team = Team::new(None);
    let (ci, person) = (
        with_large_file(&team, "ci"),
        with_large_file(&team, "person"),
    );
    ci.writes(&["build"]).expect(0);
    let first = shared(&person.run(&["build", "--json"]).expect(0));
    assert_eq!(first["differences"], 0);
    let tables = [
        "high 06:12\nlow 12:20\n",
        "high 06:12\nlow 12:20\nhigh 18:31\n",
    ];
    for table in tables {
        ci.sandbox.write("table.txt", table);
        ci.writes(&["build"]).expect(0);
    }
    // Two builds later: by two differences, one after the other.
    person.sandbox.write("table.txt", tables[1]);
    let run = person.run(&["build", "--json"]).expect(0);
    assert_eq!((ran(&run), &shared(&run)["differences"]), (0, &json!(1)));
    assert_eq!(
        person.sandbox.read("out/default/tides.txt"),
        ci.sandbox.read("out/default/tides.txt")
    );
    // Who has nothing takes the whole, and so does who is given something else as a difference.
    let newcomer = with_large_file(&team, "newcomer");
    newcomer.sandbox.write("table.txt", tables[1]);
    let run = newcomer.run(&["build", "--json"]).expect(0);
    assert_eq!((ran(&run), &shared(&run)["differences"]), (0, &json!(0)));
    for object in team.objects("differences") {
        fs::write(object, "something else").unwrap();
    }
    let other = with_large_file(&team, "other");
    other.run(&["build"]).expect(0);
    other.sandbox.write("table.txt", tables[0]);
    let run = other.run(&["build", "--json"]).expect(0);
    assert_eq!((ran(&run), &shared(&run)["differences"]), (0, &json!(0)));
    assert!(
        other
            .sandbox
            .read("out/default/tides.txt")
            .contains("low 12:20")
    );
}

#[test]
fn what_is_not_given_in_time_is_given_by_the_next_build() {
    if !has_sandboxes() {
        return skip(Need::Confinement, "without sandboxes nothing is shared");
    }
    let team = Team::new(None);
    let ci = team.seat("ci");
    let settings = ci.sandbox.read("nubrik.toml");
    ci.sandbox
        .write("nubrik.toml", &format!("{settings}wait = 0\n"));
    let run = ci.writes(&["build", "--json"]).expect(0);
    let (given, late) = (
        shared(&run)["uploaded"].as_u64().unwrap(),
        shared(&run)["not_uploaded"].as_u64().unwrap(),
    );
    assert_eq!(given + late, 5);
    // Another target, with time: what was late goes along.
    ci.sandbox.write("nubrik.toml", &settings);
    ci.sandbox.write("table.txt", "low 12:20\n");
    ci.writes(&["build", "pages"]).expect(0);
    let person = team.seat("person");
    assert_eq!(ran(&person.run(&["build", "--json"]).expect(0)), 0);
}

#[test]
fn many_builds_leave_few_segments() {
    if !has_sandboxes() {
        return skip(Need::Confinement, "without sandboxes nothing is shared");
    }
    let team = Team::new(None);
    let ci = team.seat("ci");
    for number in 0..20 {
        ci.sandbox
            .write("table.txt", &format!("high 06:{number:02}\n"));
        ci.writes(&["build", "pages"]).expect(0);
    }
    let person = team.seat("person");
    person.sandbox.write("table.txt", "high 06:03\n");
    let run = person.run(&["build", "pages", "--json"]).expect(0);
    assert_eq!(ran(&run), 0);
    // The list, a head, its manifest, at most a few segments, and one pack or two.
    assert!(
        shared(&run)["requests"].as_u64().unwrap() <= 14,
        "{}",
        shared(&run)
    );
}

#[test]
fn what_is_used_stays_and_what_is_wrong_is_told() {
    if !has_sandboxes() {
        return skip(Need::Confinement, "without sandboxes nothing is shared");
    }
    let team = Team::new(None);
    let ci = with_large_file(&team, "ci");
    let early = with_large_file(&team, "early");
    let tables = ["a 1\n", "b 2\n", "c 3\n"];
    for table in tables {
        ci.sandbox.write("table.txt", table);
        ci.writes(&["build"]).expect(0);
    }
    early.sandbox.write("table.txt", tables[0]);
    assert!(
        ci.run(&["shared", "prune"])
            .expect(2)
            .stderr
            .contains("only a writer of the channel can prune it")
    );
    // Everything was used today.
    let run = ci
        .writes(&["shared", "prune", "--unused-for", "1", "--json"])
        .expect(0);
    assert_eq!(
        (&run.events()[0]["kept"], &run.events()[0]["dropped"]),
        (&json!(3), &json!(0))
    );
    let person = with_large_file(&team, "person");
    person.sandbox.write("table.txt", tables[2]);
    assert_eq!(ran(&person.run(&["build", "--json"]).expect(0)), 0);
    assert_eq!(ran(&early.run(&["build", "--json"]).expect(0)), 0);
    assert!(
        person
            .run(&["shared", "verify"])
            .expect(0)
            .stdout
            .contains("every byte has the digest in its name")
    );
    // Something is lost, and something is damaged: it is reported, and who writes gives it once
    // more.
    for object in team.objects("contents") {
        fs::remove_file(object).unwrap();
    }
    let run = person.run(&["shared", "verify"]).expect(1);
    assert!(run.stdout.contains("damaged   content "), "{}", run.stdout);
    let run = person.run(&["shared", "verify", "--json"]).expect(1);
    assert_eq!(run.events()[0]["damaged"].as_array().unwrap().len(), 3);
    let other = with_large_file(&team, "other");
    other.sandbox.write("table.txt", tables[2]);
    assert_eq!(ran(&other.run(&["build", "--json"]).expect(0)), 1);
    assert!(
        ci.writes(&["shared", "verify"])
            .expect(1)
            .stdout
            .contains("try       ")
    );
    assert_eq!(
        shared(&ci.writes(&["build", "--json"]).expect(0))["uploaded"],
        1
    );
    let third = with_large_file(&team, "third");
    third.sandbox.write("table.txt", tables[2]);
    assert_eq!(ran(&third.run(&["build", "--json"]).expect(0)), 0);
}

#[test]
fn what_comes_out_otherwise_is_shown_and_given_to_nobody() {
    if !has_sandboxes() {
        return skip(Need::Confinement, "without sandboxes nothing is shared");
    }
    let team = Team::new(None);
    let stamp = "target stamp = step { run = sh`date +%N > {outfolder \"s\"}/when; echo b > {outfolder \"s\"}/b` }\n";
    let definitions = format!("{}{stamp}", FILES[0].1);
    let with_stamp = |name: &str| {
        let seat = team.seat(name);
        seat.sandbox.write("targets.nub", &definitions);
        seat
    };
    let ci = with_stamp("ci");
    let run = ci.writes(&["build", "--json"]).expect(0);
    assert_eq!(shared(&run)["uploaded"], 6);
    let person = with_stamp("person");
    let run = person.run(&["build", "--verify"]).expect(1);
    assert!(
        run.stdout
            .contains("verified  5 steps ran again and made the same bytes"),
        "{}",
        run.stdout
    );
    assert!(
        run.stdout.contains("differs   stamp")
            && run.stdout.contains("then and now, in s/when: byte "),
        "{}",
        run.stdout
    );
    // What is in place stays.
    assert!(
        person
            .run(&["build"])
            .expect(0)
            .stdout
            .starts_with("nothing to run")
    );
    // Who writes finds it before anybody is given it.
    let other = team.seat("other");
    let key = team.member("other", &[]);
    assert!(key.starts_with("ed25519:"));
    other
        .sandbox
        .write("targets.nub", &definitions.replace("echo b", "echo c"));
    let settings = other.sandbox.read("nubrik.toml");
    other
        .sandbox
        .write("nubrik.toml", &format!("{settings}verify = 1\n"));
    let run = other.writes(&["build", "stamp"]).expect(1);
    assert!(
        run.stdout
            .contains("1 result stays on this machine: came out otherwise"),
        "{}",
        run.stdout
    );
    assert!(
        other
            .run(&["build", "--verify=x"])
            .expect(2)
            .stderr
            .contains("a share is a number")
    );
}

#[test]
fn wrong_settings_are_told_with_a_mend() {
    let sandbox = Sandbox::new(&FILES);
    for (settings, said) in [
        ("[shared]\nat = \"/tmp/x\"\n", "`shared` lacks the root key"),
        (
            "[shared]\nroot_key = \"ed25519:47HhKluE8bw1TPpEvWLq3rdAO5GjzXer1VTXs7MA0zw\"\n",
            "does not say where the shared cache is",
        ),
        ("[shared]\nat = \"tmp/x\"\n", "`at` is an address"),
        (
            "[shared]\nat = \"/tmp/x\"\nroot_key = \"abc\"\n",
            "`root_key` is a public key",
        ),
        (
            "[shared]\nat = \"/tmp/x\"\nrot = \"abc\"\n",
            "`shared` has no `rot`",
        ),
        ("[shared]\nchannels = [\"a b\"]\n", "a channel is a name"),
        (
            "[shared]\nat = \"s3://isles/x\"\n",
            "does not say on which server",
        ),
        ("[shared]\nwait = -1\n", "`wait` is a number of seconds"),
        ("[shared]\nverify = 2\n", "`verify` is a number from 0 to 1"),
        (
            "[shared]\nendpoint = \"storage\"\n",
            "`endpoint` is the address of a server",
        ),
        ("shared = 3\n", "`shared` is a table"),
    ] {
        sandbox.write("nubrik.toml", settings);
        let run = sandbox.run(&["build"]).expect(3);
        assert!(run.stderr.contains(said), "{settings}: {}", run.stderr);
    }
    for (settings, said) in [
        (
            "[workers]\nat = \"nats:/x\"\n",
            "`at` is the address of a NATS server",
        ),
        ("[workers]\npool = \"a b\"\n", "`pool` is a name"),
        ("[workers]\npol = \"a\"\n", "`workers` has no `pol`"),
        ("[workers]\n", "does not say where the server is"),
        ("workers = 3\n", "`workers` is a table"),
    ] {
        sandbox.write("nubrik.toml", settings);
        let run = sandbox.run(&["workers"]).expect(3);
        assert!(run.stderr.contains(said), "{settings}: {}", run.stderr);
    }
    sandbox.write("nubrik.toml", "");
    for command in [&["workers", "serve"][..], &["workers"]] {
        assert!(
            sandbox
                .run(command)
                .expect(2)
                .stderr
                .contains("names no server for workers")
        );
    }
    sandbox.write("nubrik.toml", "[workers]\nat = \"nats://127.0.0.1:9\"\n");
    let run = sandbox.run(&["workers"]).expect(1);
    assert!(
        run.stderr
            .contains("give and take jobs at nats://127.0.0.1:9, and you did not agree"),
        "{}",
        run.stderr
    );
    sandbox
        .run(&["agree"])
        .expect(0)
        .says("asks to   give and take jobs at nats://127.0.0.1:9");
    sandbox
        .run(&["agree", "--yes"])
        .expect(0)
        .says("agreed    give and take jobs");
    assert!(
        sandbox
            .run(&["workers"])
            .expect(1)
            .stderr
            .contains("cannot be reached")
    );
    assert!(
        sandbox
            .run(&["workers", "serve"])
            .expect(2)
            .stderr
            .contains("NUBRIK_WORKER_KEY")
    );
    sandbox.write("nubrik.toml", "");
    assert!(
        sandbox
            .run(&["shared"])
            .expect(2)
            .stderr
            .contains("this workspace names no shared cache")
    );
}

#[test]
fn a_mirror_gives_to_its_site_what_came_from_far_away_once() {
    let team = Team::new(None);
    team.built_by_ci();
    let mirror = team.path("mirror, of a site");
    let seat = |name: &str| {
        let seat = team.seat(name);
        let text = format!(
            "[shared]\nat = \"{mirror}\"\nbehind = \"{}\"\nroot_key = \"{}\"\n",
            team.at, team.root
        );
        seat.sandbox.write("nubrik.toml", &text);
        seat
    };
    // The first of the site has it from far away, the second from near by.
    let first = shared(&seat("first").run(&["build", "--json"]).expect(0));
    assert_eq!(first["mirror_bytes"], 0, "{first}");
    assert!(first["copied_bytes"].as_u64() >= Some(1000), "{first}");
    let second = seat("second").run(&["build", "--json"]).expect(0);
    let (taken, of_mirror) = (
        shared(&second)["moved_bytes"].as_u64(),
        shared(&second)["mirror_bytes"].as_u64(),
    );
    assert!(
        of_mirror > Some(1000) && taken < of_mirror.map(|bytes| bytes + 1000),
        "{}",
        shared(&second)
    );
    assert_eq!(ran(&second), 0);
    let words = seat("third").run(&["build", "--plain"]).expect(0).stdout;
    assert!(words.contains(" of that from the mirror, "), "{words}");

    // Without the shared cache the site goes on with what it has; nobody else does.
    let (store, gone) = (team.path("store"), team.path("gone"));
    fs::rename(&store, &gone).unwrap();
    assert_eq!(ran(&seat("fourth").run(&["build", "--json"]).expect(0)), 0);
    assert!(ran(&team.seat("fifth").run(&["build", "--json"]).expect(0)) > 0);
    fs::rename(&gone, &store).unwrap();

    // A mirror that gives something else is seen, and what it should give comes from the shared
    // cache.
    let mut files = Vec::new();
    files_in(Path::new(&mirror), &mut files);
    files
        .iter()
        .for_each(|file| fs::write(file, "something else").unwrap());
    let sixth = seat("sixth").run(&["build", "--plain"]).expect(0).stdout;
    assert!(
        sixth.contains("the mirror at file:///") && sixth.contains(" is not that; what it did not"),
        "{sixth}"
    );
    assert!(!sixth.contains("not asked any more"), "{sixth}");
    let seventh = seat("seventh").run(&["build", "--json"]).expect(0);
    assert_eq!(
        (ran(&seventh), shared(&seventh)["mirror_trouble"].as_str()),
        (0, None)
    );

    // What is said of it, and what is asked for.
    let state = seat("eighth").run(&["shared"]).expect(0).stdout;
    assert!(state.contains(&format!("mirror    {mirror}\n")), "{state}");
    let stranger = seat("ninth");
    let variables = [("XDG_STATE_HOME", &*team.path("own-state"))];
    let trusts = |args: &[&str]| stranger.sandbox.run_with(args, &variables).expect(0);
    let refused = trusts(&["build", "--json"]);
    assert!(
        refused.stdout.contains("which you do not trust yet"),
        "{}",
        refused.stdout
    );
    trusts(&["shared", "trust"]);
    assert_eq!(
        ran(&trusts(&["build", "--rerun", "--json"])),
        ran(&trusts(&["build", "--rerun", "--json"]))
    );
    // Another mirror is another place: it is asked for again.
    let text = stranger.sandbox.read("nubrik.toml");
    stranger
        .sandbox
        .write("nubrik.toml", &text.replace(&mirror, &team.path("foreign")));
    let refused = trusts(&["build", "--rerun", "--json"]);
    assert!(
        refused.stdout.contains("which you do not trust yet"),
        "{}",
        refused.stdout
    );
}
