//! Other machines at work: what they make is what would be made here, and whatever happens to them,
//! nothing is lost or wrong.
//!
//! They take a server: `NUBRIK_NATS` names the program of NATS 2.10 or later. Without one these
//! tests are left out, unless `NUBRIK_TESTS_NEED` names `jobs`.

use std::fs;
use std::io::{BufRead, BufReader, Read, Write};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use crate::sandbox::{Run, Sandbox, has_sandboxes};
use nubrik_testing::{Need, skip};

/// Ends with the test; its folders are there until then.
struct Ended {
    child: Child,
    _folders: Option<Sandbox>,
}

impl Drop for Ended {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// A team with a server for jobs, a store, and keys.
struct Team {
    folder: tempfile::TempDir,
    root: String,
    port: u16,
    server: Option<Ended>,
}

fn public_key(run: &Run) -> String {
    let start = run.stdout.find("ed25519:").unwrap();
    run.stdout[start..]
        .split(|c: char| c.is_whitespace() || c == '"')
        .next()
        .unwrap()
        .to_owned()
}

/// The program of the server; nothing where the test is to be left out.
fn server_program() -> Option<String> {
    if !has_sandboxes() {
        skip(
            Need::Confinement,
            "without sandboxes nobody works for others",
        );
        return None;
    }
    match std::env::var("NUBRIK_NATS") {
        Ok(program) => Some(program),
        Err(_) => {
            skip(Need::Jobs, "NUBRIK_NATS names no server of NATS");
            None
        }
    }
}

/// Waits until something is so.
fn until(what: &str, is_so: impl Fn() -> bool) {
    until_in(Duration::from_secs(30), what, is_so);
}

fn until_in(time: Duration, what: &str, is_so: impl Fn() -> bool) {
    let began = Instant::now();
    while !is_so() {
        assert!(began.elapsed() < time, "it does not come: {what}");
        std::thread::sleep(Duration::from_millis(20));
    }
}

/// Has the person of a folder of states agree to something.
fn agreed(state: &std::path::Path, rows: &str) {
    fs::create_dir_all(state.join("nubrik")).unwrap();
    fs::write(state.join("nubrik/agreed"), rows).unwrap();
}

/// The last part of a program's path.
fn name_of(program: &str) -> &str {
    program.rsplit('/').next().unwrap()
}

/// The port in a file that a server wrote about itself; nothing while it is not there or not whole.
fn port_in(listed: &std::path::Path) -> Option<u16> {
    let text = fs::read_to_string(listed).ok()?;
    let address = serde_json::from_str::<serde_json::Value>(&text).ok()?["nats"][0]
        .as_str()?
        .to_owned();
    address.rsplit(':').next()?.parse().ok()
}

impl Team {
    fn new() -> Option<Team> {
        let program = server_program()?;
        let folder = tempfile::tempdir().unwrap();
        let mut team = Team {
            folder,
            root: String::new(),
            port: 0,
            server: None,
        };
        team.start(&program);
        let sandbox = Sandbox::new(&[]);
        let made = sandbox
            .run(&[
                "shared",
                "create",
                &team.path("store"),
                "--root-key",
                &team.path("root"),
            ])
            .expect(0);
        team.root = public_key(&made);
        for (name, line) in [("boss", "jobs"), ("hand", "workers"), ("stranger", "other")] {
            let seat = team.sandbox(&[]);
            let key = public_key(&seat.run(&["shared", "new-key", &team.path(name)]));
            seat.run(&[
                "shared",
                "add",
                name,
                &key,
                "--channel",
                line,
                "--root-key",
                &team.path("root"),
            ])
            .expect(0);
        }
        Some(team)
    }

    fn start(&mut self, program: &str) {
        self.start_with(program, &[]);
    }

    fn start_with(&mut self, program: &str, more: &[&str]) {
        // The first server takes a free port itself: one that was free a moment ago may be another
        // test's now.
        let port = if self.port == 0 {
            "-1".to_owned()
        } else {
            self.port.to_string()
        };
        let child = Command::new(program)
            .args([
                "-js",
                "-a",
                "127.0.0.1",
                "-p",
                &port,
                "-sd",
                &self.path("jobs"),
            ])
            .args(["--ports_file_dir", &self.path("")])
            .args(more)
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        let listed = self
            .folder
            .path()
            .join(format!("{}_{}.ports", name_of(program), child.id()));
        self.server = Some(Ended {
            child,
            _folders: None,
        });
        if self.port == 0 {
            until("the server's port", || port_in(&listed).is_some());
            self.port = port_in(&listed).unwrap();
        }
        until("the server", || {
            std::net::TcpStream::connect(("127.0.0.1", self.port)).is_ok()
        });
    }

    fn path(&self, name: &str) -> String {
        self.folder.path().join(name).display().to_string()
    }

    fn sandbox(&self, files: &[(&str, &str)]) -> Sandbox {
        let sandbox = Sandbox::new(files);
        let (store, root, port) = (self.path("store"), &self.root, self.port);
        let settings = format!(
            "[shared]\nat = \"{store}\"\nroot_key = \"{root}\"\n[workers]\nat = \"nats://127.0.0.1:{port}\"\n"
        );
        sandbox.write("nubrik.toml", &settings);
        // Who only asks who works agreed to the server, and to no store.
        agreed(
            &sandbox.state(),
            &format!("give and take jobs at nats://127.0.0.1:{port}\n"),
        );
        sandbox
    }

    /// Begins to work for others.
    fn worker(&self, name: &str, key: &str) -> Ended {
        self.worker_with(name, key, &[])
    }

    fn worker_with(&self, name: &str, key: &str, variables: &[(&str, &str)]) -> Ended {
        self.worker_that_is(name, key, &[], variables)
    }

    fn worker_that_is(
        &self,
        name: &str,
        key: &str,
        labels: &[&str],
        variables: &[(&str, &str)],
    ) -> Ended {
        let sandbox = self.sandbox(&[]);
        let mut args = vec!["workers", "serve", "--slots", "2", "--name", name];
        labels
            .iter()
            .for_each(|label| args.extend(["--label", label]));
        let mut command = sandbox.command_in("", &args);
        command
            .env("NUBRIK_SHARED_ROOT_KEY", &self.root)
            .env("NUBRIK_WORKER_KEY", self.path(key));
        command.env("XDG_STATE_HOME", self.path(&format!("{name}-state")));
        command.envs(variables.iter().copied());
        let mut child = command
            .stdout(Stdio::piped())
            .stderr(Stdio::inherit())
            .spawn()
            .unwrap();
        let mut said = BufReader::new(child.stdout.take().unwrap());
        let mut line = String::new();
        said.read_line(&mut line).unwrap();
        assert!(line.contains("runs 2 steps at once"), "{line}");
        // What it says later goes nowhere, and must not stop it.
        std::thread::spawn(move || for _ in said.lines() {});
        Ended {
            child,
            _folders: Some(sandbox),
        }
    }

    /// Begins a build whose only step goes to a worker, and waits until one has it. Gives how many
    /// jobs workers have.
    fn begin_build<'s>(&self, sandbox: &'s Sandbox) -> (Child, impl Fn() -> Option<u64> + 's) {
        let mut command = sandbox.command_in("", &["build"]);
        command
            .env("NUBRIK_SHARED_ROOT_KEY", &self.root)
            .env("NUBRIK_JOBS_KEY", self.path("boss"));
        let child = command
            .env("XDG_STATE_HOME", self.path("s"))
            .stdout(Stdio::null())
            .spawn()
            .unwrap();
        let busy = || {
            let run = sandbox.run(&["workers", "--json"]).expect(0);
            run.events()
                .first()
                .map(|event| event["busy"].as_u64().unwrap())
        };
        until("the job is taken", || busy() == Some(1));
        (child, busy)
    }

    fn build(&self, sandbox: &Sandbox, args: &[&str]) -> Run {
        self.run(sandbox, &[&["build"], args].concat())
    }

    fn run(&self, sandbox: &Sandbox, args: &[&str]) -> Run {
        let state = self.path("boss-state");
        let key = self.path("boss");
        let variables = [
            ("NUBRIK_SHARED_ROOT_KEY", self.root.as_str()),
            ("NUBRIK_JOBS_KEY", &key),
            ("XDG_STATE_HOME", &state),
        ];
        sandbox.run_with(args, &variables)
    }
}

/// What a build says of workers.
fn ran_elsewhere(run: &Run) -> u64 {
    let event = run
        .events()
        .into_iter()
        .find(|event| event["event"] == "workers");
    event.unwrap_or_else(|| panic!("{}", run.stdout))["ran"]
        .as_u64()
        .unwrap()
}

/// A generated program, a library of it, and something that reads a made folder.
const FILES: [(&str, &str); 5] = [
    (
        "targets.nub",
        "use \"nub:c\" as c\n\
         target table = step { run = sh`sleep 0.1; echo 'int table = 7;' > {out \"table.c\"}` }\n\
         target fit = c.library { sources = [\"fit.c\", table], headers = \"fit.h\", include = \".\" }\n\
         target show = c.program { sources = \"show.c\", needs = fit }\n\
         target pages = step { run = sh`mkdir -p {outfolder \"pages\"}/in; cp {in \"table.txt\"} {outfolder \"pages\"}/in/a; echo ran` }\n\
         target sums = step { run = sh`cat {in pages}/in/a > {out \"sum\"}; {in show} >> {out \"sum\"}` }\n",
    ),
    (
        "fit.c",
        "#include \"fit.h\"\nextern int table;\nint fit(void) { return table; }\n",
    ),
    ("fit.h", "int fit(void);\n"),
    (
        "show.c",
        "#include \"fit.h\"\n#include <stdio.h>\nint main(void) { printf(\"%d\\n\", fit()); return 0; }\n",
    ),
    ("table.txt", "high 06:12\n"),
];

#[test]
fn what_others_make_is_what_would_be_made_here() {
    let Some(team) = Team::new() else { return };
    let _one = team.worker("one", "hand");
    let _two = team.worker("two", "hand");
    let sandbox = team.sandbox(&FILES);
    let run = team.build(&sandbox, &["--json"]).expect(0);
    // Definitions that never ran count as longer than what is worth sending.
    assert!(ran_elsewhere(&run) >= 3, "{}", run.stdout);
    let events = run.events();
    let on_hand = events
        .iter()
        .filter(|event| event["machine"] == "one" || event["machine"] == "two");
    assert_eq!(on_hand.count() as u64, ran_elsewhere(&run));
    let history = sandbox.run(&["history", "1"]).expect(0).stdout;
    assert!(
        ["on one: never built", "on two: never built"]
            .iter()
            .any(|text| history.contains(text))
    );
    sandbox.run(&["report", "--trace", "t.json"]).expect(0);
    assert!(sandbox.read("t.json").contains("\"pid\":2"));
    fs::remove_file(sandbox.folder.join("t.json")).unwrap();
    let here = team.sandbox(&FILES);
    here.run(&["build"]).expect(0);
    assert_eq!(
        sandbox.files_below("out/default"),
        here.files_below("out/default")
    );
    assert_eq!(sandbox.read("out/default/sums/sum"), "high 06:12\n7\n");
    // All of it counts as made here: nothing runs, and after an edit only what it concerns.
    assert!(
        team.build(&sandbox, &[])
            .expect(0)
            .stdout
            .starts_with("nothing to run")
    );
    sandbox.write("table.txt", "low 12:20\n");
    team.build(&sandbox, &[]).expect(0);
    assert_eq!(sandbox.read("out/default/sums/sum"), "low 12:20\n7\n");
    // What they made and nobody fetched is found by a later build, without them: an edit links, and
    // compiles nothing else.
    let main = sandbox.read("show.c").replace("return 0", "return 7 - 7");
    sandbox.write("show.c", &main.replace("%d\\n", "%d \\n"));
    let later = [
        ("NUBRIK_SHARED_ROOT_KEY", team.root.clone()),
        ("XDG_STATE_HOME", team.path("boss-state")),
    ];
    let later: Vec<(&str, &str)> = later
        .iter()
        .map(|(name, value)| (*name, value.as_str()))
        .collect();
    let run = sandbox
        .run_with(&["build", "show", "--json"], &later)
        .expect(0);
    assert_eq!(run.ran(), ["compile show.c", "link show"], "{}", run.stdout);
    // Who writes gives what workers made as well: someone else makes nothing of it.
    let seat = team.sandbox(&[]);
    let key = public_key(&seat.run(&["shared", "new-key", &team.path("ci")]));
    seat.run(&[
        "shared",
        "add",
        "ci",
        &key,
        "--root-key",
        &team.path("root"),
    ])
    .expect(0);
    let ci = team.sandbox(&FILES);
    let (state, boss, writer) = (team.path("ci-state"), team.path("boss"), team.path("ci"));
    let variables = [
        ("NUBRIK_SHARED_ROOT_KEY", team.root.as_str()),
        ("NUBRIK_JOBS_KEY", &boss),
        ("NUBRIK_SHARED_KEY", &writer),
        ("XDG_STATE_HOME", &state),
    ];
    let run = ci.run_with(&["build", "--json"], &variables).expect(0);
    let given = run
        .events()
        .into_iter()
        .find(|event| event["event"] == "shared")
        .unwrap()["uploaded"]
        .clone();
    assert_eq!(
        (ran_elsewhere(&run) > 0, given.as_u64()),
        (true, Some(8)),
        "{}",
        run.stdout
    );
    fs::remove_dir_all(std::path::Path::new(&team.path("store")).join("nubrik1/jobs")).unwrap();
    let person = team.sandbox(&FILES);
    let run = person
        .run_with(&["build", "--json"], &variables[..1])
        .expect(0);
    assert_eq!(run.ran(), Vec::<String>::new(), "{}", run.stdout);
    let listed = sandbox.run(&["workers"]).expect(0).stdout;
    assert!(listed.contains("one") && listed.contains("two"), "{listed}");
}

#[test]
fn a_worker_that_lacks_an_image_puts_it_together() {
    use nubrik_testing::layouts::{ImageLayout, LayerEntry, LayerPacking, programs_of_machine};

    let Some(team) = Team::new() else { return };
    if !has_sandboxes() {
        return skip(Need::Confinement, "steps in images need sandboxes");
    }
    let _board = team.worker_that_is("board-1", "hand", &["tide-board"], &[]);
    let text = "let base = image { layout = \"base\" }
        target many = {each n in [\"a\", \"b\", \"c\"] give n: step { run = sh`sleep 0.2; cat /etc/tide {in \"own.txt\"} > {out \"x\"}`, root = base } }
        target bound = step { run = sh`cat /etc/tide > {out \"level\"}`, root = base, machine = [\"tide-board\"] }
        target made = image_of { path = \"made.tar\", base = base, run = sh`sleep 0.3; cat /etc/tide > /etc/made; : > /new` }\n";
    let sandbox = team.sandbox(&[("targets.nub", text), ("own.txt", "own\n")]);
    let programs = programs_of_machine(&["sh", "cat", "sleep"]);
    let mut entries: Vec<_> = programs
        .iter()
        .map(|(path, content)| LayerEntry::File(path, 0o755, content))
        .collect();
    entries.push(LayerEntry::File("etc/tide", 0o644, b"ebb\n"));
    ImageLayout::of(&[&entries], LayerPacking::Gzip).write(&sandbox.folder.join("base"));
    // Somebody looks on, as pages do.
    fs::create_dir_all(sandbox.folder.join(".nubrik")).unwrap();
    let socket =
        std::os::unix::net::UnixListener::bind(sandbox.folder.join(".nubrik/explore.sock"))
            .unwrap();
    let heard = std::thread::spawn(move || {
        let (mut stream, mut text) = (socket.accept().unwrap().0, String::new());
        std::io::Read::read_to_string(&mut stream, &mut text).unwrap();
        text
    });
    // Only this target, so that no other step has the worker put the image together before.
    let bound = team.build(&sandbox, &["--json", "bound"]).expect(0);
    let heard = heard.join().unwrap();
    fs::remove_file(sandbox.folder.join(".nubrik/explore.sock")).unwrap();
    let said = |what: &str| {
        let lines = heard
            .lines()
            .filter(|line| line.contains("@level") && line.contains(what));
        lines.count()
    };
    assert_eq!(said("\"elsewhere\""), 3, "{heard}");
    assert_eq!(
        (said("\"is_over\":false"), said("\"is_over\":true")),
        (1, 1),
        "{heard}"
    );
    let run = team.build(&sandbox, &["--json"]).expect(0);
    assert!(
        ran_elsewhere(&bound) + ran_elsewhere(&run) >= 2,
        "{}",
        run.stdout
    );
    let on_board = |run: &Run| {
        let events = run
            .events()
            .into_iter()
            .filter(|event| event["machine"] == "board-1");
        events
            .map(|event| event["target"].as_str().unwrap().to_owned())
            .collect::<Vec<_>>()
    };
    assert!(
        on_board(&bound).contains(&"bound".to_owned()),
        "{}",
        bound.stdout
    );
    assert_eq!(sandbox.read("out/default/many/b/x"), "ebb\nown\n");
    assert_eq!(sandbox.read("out/default/bound/level"), "ebb\n");
    // What its commands changed there is the layer, as here.
    let made = fs::read(sandbox.folder.join("out/default/made.tar")).unwrap();
    let here = sandbox.copy_from_nothing();
    here.run(&["build", "made"]).expect(0);
    assert_eq!(
        made,
        fs::read(here.folder.join("out/default/made.tar")).unwrap()
    );
    assert!(
        team.build(&sandbox, &[])
            .expect(0)
            .stdout
            .starts_with("nothing to run")
    );
    // Another image: the worker takes the new one.
    entries.pop();
    entries.push(LayerEntry::File("etc/tide", 0o644, b"flood\n"));
    fs::remove_dir_all(sandbox.folder.join("base")).unwrap();
    ImageLayout::of(&[&entries], LayerPacking::Zstandard).write(&sandbox.folder.join("base"));
    let run = team.build(&sandbox, &["--json"]).expect(0);
    assert!(
        on_board(&run).contains(&"bound".to_owned()),
        "{}",
        run.stdout
    );
    assert_eq!(sandbox.read("out/default/bound/level"), "flood\n");
    assert_eq!(sandbox.read("out/default/many/c/x"), "flood\nown\n");
}

#[test]
fn what_fails_there_fails_here_with_all_its_words() {
    let Some(team) = Team::new() else { return };
    let _one = team.worker("one", "hand");
    let files = [(
        "targets.nub",
        "target bad = step { run = sh`sleep 0.1; echo no water >&2; exit 3 > {out \"x\"}` }\n",
    )];
    let run = team.build(&team.sandbox(&files), &[]).expect(1);
    assert!(
        run.stdout.contains("no water") && run.stdout.contains("exited with code 3"),
        "{}",
        run.stdout
    );
}

#[test]
fn workers_that_die_hang_or_may_not_work_cost_time_and_nothing_else() {
    let Some(mut team) = Team::new() else { return };
    let slow = "target slow = step { run = sh`sleep 1; echo done > {out \"x\"}` }\n\
                target next = step { run = sh`cat {in slow} > {out \"y\"}; sleep 0.1` }\n";
    // Nobody is there.
    let run = team
        .build(&team.sandbox(&[("targets.nub", slow)]), &[])
        .expect(0);
    assert!(
        run.stdout.contains("no worker is in this pool now"),
        "{}",
        run.stdout
    );
    // One who may not work hears so, and one whose answers nobody may sign is not believed.
    let stranger = team.sandbox(&[]);
    let variables = [
        ("NUBRIK_SHARED_ROOT_KEY", team.root.clone()),
        ("NUBRIK_WORKER_KEY", team.path("stranger")),
    ];
    let variables: Vec<(&str, &str)> = variables
        .iter()
        .map(|(name, value)| (*name, value.as_str()))
        .collect();
    let run = stranger
        .run_with(&["workers", "serve"], &variables)
        .expect(2);
    assert!(run.stderr.contains("--channel workers"), "{}", run.stderr);
    // It dies in the middle.
    let worker = team.worker("one", "hand");
    let sandbox = team.sandbox(&[("targets.nub", slow)]);
    let run = std::thread::scope(|scope| {
        scope.spawn(|| {
            std::thread::sleep(Duration::from_millis(700));
            drop(worker);
        });
        team.build(&sandbox, &["-j1"])
    });
    assert_eq!(run.expect(0).code, 0);
    assert_eq!(sandbox.read("out/default/next/y"), "done\n");
    // The server dies in the middle, and is not there for the next build.
    let worker = team.worker("two", "hand");
    let sandbox = team.sandbox(&[("targets.nub", &slow.replace("done", "again"))]);
    let server = team.server.take();
    let run = std::thread::scope(|scope| {
        scope.spawn(|| {
            std::thread::sleep(Duration::from_millis(700));
            drop(server);
        });
        team.build(&sandbox, &["-j1"])
    });
    assert_eq!(run.expect(0).code, 0);
    assert_eq!(sandbox.read("out/default/next/y"), "again\n");
    let sandbox = team.sandbox(&[("targets.nub", &slow.replace("done", "once more"))]);
    let run = team.build(&sandbox, &[]).expect(0);
    assert!(
        run.stdout.contains("no worker is available"),
        "{}",
        run.stdout
    );
    drop(worker);
}

#[test]
fn who_stops_stops_those_who_work_for_them() {
    let Some(team) = Team::new() else { return };
    let _one = team.worker("one", "hand");
    let sandbox = team.sandbox(&[(
        "targets.nub",
        "target long = step { run = sh`sleep 60 > {out \"x\"}` }\n",
    )]);
    let (mut child, busy) = team.begin_build(&sandbox);
    Command::new("kill")
        .args(["-INT", &child.id().to_string()])
        .status()
        .unwrap();
    assert_eq!(child.wait().unwrap().code(), Some(130));
    until("the worker is free", || busy() == Some(0));
    assert!(!fs::exists(sandbox.folder.join("out/default/long/x")).unwrap());
}

#[test]
fn who_is_killed_is_waited_for_by_nobody() {
    let Some(team) = Team::new() else { return };
    let _one = team.worker("one", "hand");
    let sandbox = team.sandbox(&[(
        "targets.nub",
        "target long = step { run = sh`sleep 300 > {out \"x\"}` }\n",
    )]);
    let (mut child, busy) = team.begin_build(&sandbox);
    child.kill().unwrap();
    child.wait().unwrap();
    until_in(Duration::from_secs(60), "the worker is free", || {
        busy() == Some(0)
    });
}

#[test]
fn a_worker_that_hangs_is_not_waited_for() {
    let Some(team) = Team::new() else { return };
    let hung = team.worker("hung", "hand");
    let files = [(
        "targets.nub",
        "target a = step { run = sh`sleep 1; echo done > {out \"x\"}` }\n",
    )];
    let sandbox = team.sandbox(&files);
    let signal = |name: &str| {
        Command::new("kill")
            .args([name, &hung.child.id().to_string()])
            .status()
            .unwrap();
    };
    // It is seen, and hangs before it takes a job.
    let run = std::thread::scope(|scope| {
        scope.spawn(|| {
            std::thread::sleep(Duration::from_millis(400));
            signal("-STOP");
        });
        team.build(&sandbox, &["-j1"])
    });
    assert_eq!(run.expect(0).code, 0);
    assert_eq!(sandbox.read("out/default/a/x"), "done\n");
    // It goes on, and what it says then harms nobody.
    signal("-CONT");
    sandbox.write("targets.nub", &files[0].1.replace("done", "again"));
    team.build(&sandbox, &["-j1"]).expect(0);
    assert_eq!(sandbox.read("out/default/a/x"), "again\n");
    assert!(
        team.build(&sandbox, &[])
            .expect(0)
            .stdout
            .starts_with("nothing to run")
    );
}

#[test]
fn a_job_that_nobody_ends_comes_back() {
    let Some(team) = Team::new() else { return };
    let place = nubrik_workers::ExchangePlace {
        at: format!("nats://127.0.0.1:{}", team.port),
        user: None,
        client: None,
        pool: "default".to_owned(),
    };
    let boss = nubrik_workers::Boss::open(&place, "b7").unwrap();
    let labels = ["board", "linux"].map(str::to_owned).to_vec();
    let hand = nubrik_workers::Hand::open(&place, "one", 1, ("a machine", labels)).unwrap();
    let number = boss.send("board+linux", b"poison".to_vec()).unwrap();
    let second = Duration::from_secs(1);
    for _ in 0..3 {
        let job = hand.take(second).unwrap().unwrap();
        assert_eq!((job.build.as_str(), &*job.bytes), ("b7.0", &b"poison"[..]));
        job.begins(12, "one", true);
        let begun = nubrik_workers::BossNews::Begun {
            number: 12,
            name: "one".to_owned(),
            unpacks: true,
        };
        assert_eq!(boss.receive(second), Some(begun));
        job.pass_on();
    }
    assert!(hand.take(second).unwrap().is_none());
    assert_eq!(
        boss.receive(second),
        Some(nubrik_workers::BossNews::Undone(number))
    );
    // Who leaves says why, and takes nothing.
    hand.leave("no room", second * 9);
    boss.send("board+linux", b"more".to_vec()).unwrap();
    assert!(hand.take(Duration::ZERO).unwrap().is_none());
    until("it is heard", || {
        boss.present()
            .first()
            .is_some_and(|alive| alive.open_slots() == 0)
    });
    assert_eq!(boss.present()[0].away.as_deref(), Some("no room"));
}

#[test]
fn what_is_taken_back_is_done_by_nobody() {
    let Some(team) = Team::new() else { return };
    let at = format!("nats://127.0.0.1:{}", team.port);
    let place = nubrik_workers::ExchangePlace {
        at,
        user: None,
        client: None,
        pool: "default".to_owned(),
    };
    let boss = nubrik_workers::Boss::open(&place, "b7").unwrap();
    let hand =
        nubrik_workers::Hand::open(&place, "one", 1, ("a machine", vec!["linux".to_owned()]))
            .unwrap();
    let (second, build) = (Duration::from_secs(1), boss.build());
    let numbers = [1, 2, 3].map(|job: u8| boss.send("linux", vec![job]).unwrap());
    let begun = hand.take(second).unwrap().unwrap();
    assert_eq!(
        (&*begun.bytes, hand.is_withdrawn(&build, 1)),
        (&[1][..], false)
    );
    // Who does one of them hears it, and nobody gets the other one.
    boss.withdraw(1, &numbers[..1]);
    boss.withdraw(2, &numbers[1..2]);
    until("it is heard", || {
        hand.is_withdrawn(&build, 1) && hand.is_withdrawn(&build, 2)
    });
    assert!(!hand.is_withdrawn(&build, 3) && !hand.is_stopped(&build));
    begun.close();
    until("the server has only the third", || {
        let job = hand.take(second).unwrap().unwrap();
        let is_third = *job.bytes == [3];
        job.close();
        is_third
    });
    assert_eq!(boss.receive(second / 2), None);
    // The same number in the next build is another job.
    boss.next_build();
    assert!(boss.build() != build && !hand.is_withdrawn(&boss.build(), 1));
}

#[test]
fn who_has_other_tools_does_nothing_and_is_named() {
    let Some(team) = Team::new() else { return };
    let path = std::env::var("PATH").unwrap();
    let tool = |name: &str, text: &str| {
        let folder = team.path(name);
        fs::create_dir_all(&folder).unwrap();
        let at = format!("{folder}/millstone");
        fs::write(&at, format!("#!/bin/sh\necho {text}\n")).unwrap();
        Command::new("chmod").args(["+x", &at]).status().unwrap();
        format!("{folder}:{path}")
    };
    let (here, there) = (tool("here", "fine"), tool("there", "coarse"));
    let _other = team.worker_with("other", "hand", &[("PATH", &there)]);
    let text = "target flour = step { run = [`millstone > {out \"x\"}`, `sleep 0.1`] }\n";
    let sandbox = team.sandbox(&[("targets.nub", text)]);
    let (state, boss) = (team.path("boss-state"), team.path("boss"));
    let variables = [
        ("NUBRIK_SHARED_ROOT_KEY", team.root.as_str()),
        ("NUBRIK_JOBS_KEY", &boss),
        ("XDG_STATE_HOME", &state),
        ("PATH", &here),
    ];
    let doctor = sandbox.run_with(&["doctor"], &variables).expect(0).stdout;
    assert!(
        doctor.contains("differs") && doctor.contains("another millstone"),
        "{doctor}"
    );
    let run = sandbox.run_with(&["build"], &variables).expect(0);
    assert_eq!(sandbox.read("out/default/flour/x"), "fine\n");
    assert!(
        run.stdout.contains("`millstone` is another one"),
        "{}",
        run.stdout
    );
    let listed = sandbox.run_with(&["workers"], &variables).expect(0).stdout;
    assert!(listed.contains("takes no steps for a while"), "{listed}");
    // The same tool does it.
    let _same = team.worker_with("same", "hand", &[("PATH", &here)]);
    let doctor = sandbox.run_with(&["doctor"], &variables).expect(0).stdout;
    assert!(doctor.contains("has the same tools"), "{doctor}");
    // A tool that changes while its machine works for others counts as it is then.
    tool("here", "finer");
    sandbox.write("targets.nub", &text.replace("sleep 0.1", "sleep 0.2"));
    let run = sandbox.run_with(&["build", "--json"], &variables).expect(0);
    assert_eq!(sandbox.read("out/default/flour/x"), "finer\n");
    assert_eq!(ran_elsewhere(&run), 1, "{}", run.stdout);
}

/// A thousand steps of several kinds: what each makes depends on what others made.
fn thousand() -> String {
    let mut text = String::new();
    for number in 0..1_000 {
        let before = match number {
            0..100 => "sed s/^/0/ {in \"table.txt\"}".to_owned(),
            _ => format!(
                "cat {{in s{}}} {{in s{}}} | sort -u | tail -n 40",
                number - 100,
                number / 2
            ),
        };
        text.push_str(&format!(
            "target s{number} = step {{ run = sh`{before} > {{out \"x\"}}; echo {number} >> {{out \"x\"}}` }}\n"
        ));
    }
    text
}

#[test]
fn a_thousand_steps_are_the_same_here_and_elsewhere() {
    let Some(team) = Team::new() else { return };
    let (_one, _two) = (team.worker("one", "hand"), team.worker("two", "hand"));
    let text = thousand();
    let files = [
        ("targets.nub", text.as_str()),
        ("table.txt", "06:12\n12:20\n"),
    ];
    let there = team.sandbox(&files);
    let run = team.build(&there, &["--json"]).expect(0);
    // How many depends on how busy the machine is.
    assert!(ran_elsewhere(&run) > 50, "{}", ran_elsewhere(&run));
    let here = team.sandbox(&files);
    here.run(&["build"]).expect(0);
    assert_eq!(
        there.files_below("out/default"),
        here.files_below("out/default")
    );
    // What is recorded of them is the same as well: nothing runs again, and an edit concerns the
    // same steps.
    assert!(
        there
            .run(&["build"])
            .expect(0)
            .stdout
            .starts_with("nothing to run")
    );
    for sandbox in [&there, &here] {
        sandbox.write("table.txt", "06:12\n12:20\n18:31\n");
    }
    let (after, alone) = (
        there.run(&["build", "--json"]).expect(0),
        here.run(&["build", "--json"]).expect(0),
    );
    let sorted = |run: &Run| {
        let mut ran = run.ran();
        ran.sort();
        ran
    };
    assert_eq!(sorted(&after), sorted(&alone));
    assert_eq!(
        there.files_below("out/default"),
        here.files_below("out/default")
    );
}

#[test]
fn what_only_a_board_can_run_runs_on_the_board() {
    let Some(team) = Team::new() else { return };
    let path = std::env::var("PATH").unwrap();
    let gauge = |text: &str| {
        let at = format!("{}/gauge", team.path("tools"));
        fs::create_dir_all(team.path("tools")).unwrap();
        fs::write(&at, format!("#!/bin/sh\n{text}\n")).unwrap();
        Command::new("chmod").args(["+x", &at]).status().unwrap();
    };
    gauge("echo measured; cat $1");
    let with_tools = format!("{}:{path}", team.path("tools"));
    let text = "target spring = step { run = `gauge {in \"tide.txt\"} > {out \"level\"}`, machine = [\"tide-board\"] }\n\
                target page = step { run = sh`cat {in spring} > {out \"text\"}` }\n";
    let sandbox = team.sandbox(&[("targets.nub", text), ("tide.txt", "high\n")]);
    // Nobody is there who is one.
    let other = team.worker("other", "hand");
    let run = team.build(&sandbox, &[]).expect(1);
    assert!(
        run.stdout
            .contains("no worker that is `tide-board` ran it: workers in this pool: other"),
        "{}",
        run.stdout
    );
    assert!(
        run.stdout
            .contains("nubrik workers serve --label tide-board"),
        "{}",
        run.stdout
    );
    let board = team.worker_that_is("board-1", "hand", &["tide-board"], &[("PATH", &with_tools)]);
    let listed = team.run(&sandbox, &["workers"]).expect(0).stdout;
    assert!(listed.contains("is tide-board"), "{listed}");
    let run = team.build(&sandbox, &["--json"]).expect(0);
    let on: Vec<_> = run
        .events()
        .into_iter()
        .filter(|e| e["machine"] == "board-1")
        .collect();
    assert!(
        on.iter().any(|event| event["target"] == "spring"),
        "{}",
        run.stdout
    );
    assert_eq!(sandbox.read("out/default/page/text"), "measured\nhigh\n");
    // A tool that only the board has is none that this machine lacks.
    let doctor = team.run(&sandbox, &["doctor"]).expect(0).stdout;
    assert!(!doctor.contains("gauge"), "{doctor}");
    assert!(
        team.build(&sandbox, &[])
            .expect(0)
            .stdout
            .contains("nothing to run")
    );
    // What the board's own tool makes of it counts as it is now.
    gauge("echo measured anew; cat $1");
    let run = team.build(&sandbox, &[]).expect(0);
    assert!(
        run.stdout.contains("the tool gauge changed"),
        "{}",
        run.stdout
    );
    assert_eq!(
        sandbox.read("out/default/page/text"),
        "measured anew\nhigh\n"
    );
    // It fails there with its own words.
    gauge("echo no water >&2; exit 4");
    let run = team.build(&sandbox, &[]).expect(1);
    assert!(
        run.stdout.contains("no water") && run.stdout.contains("exited with code 4"),
        "{}",
        run.stdout
    );
    gauge("echo measured anew; cat $1");
    team.build(&sandbox, &[]).expect(0);
    // Without the board what it made stays true, which is reported; what it would have to make
    // fails.
    drop((board, other));
    until("nobody is there", || {
        team.run(&sandbox, &["workers", "--json"]).stdout.is_empty()
    });
    let run = team.build(&sandbox, &[]).expect(0);
    assert!(
        run.stdout
            .contains("no worker that is `tide-board` could be asked"),
        "{}",
        run.stdout
    );
    sandbox.write("tide.txt", "low\n");
    let run = team.build(&sandbox, &[]).expect(1);
    assert!(
        run.stdout.contains("no worker that is `tide-board` ran it"),
        "{}",
        run.stdout
    );
    // Where this machine is one, it runs here.
    let here = [("NUBRIK_LABELS", "tide-board"), ("PATH", &*with_tools)];
    sandbox.run_with(&["build"], &here).expect(0);
    assert_eq!(
        sandbox.read("out/default/page/text"),
        "measured anew\nlow\n"
    );
    assert!(
        sandbox
            .run_with(&["doctor"], &here)
            .expect(0)
            .stdout
            .contains("tide-board")
    );
}

#[test]
fn what_is_said_of_a_machine_is_checked() {
    let check = |machine: &str| {
        let text =
            format!("target a = step {{ run = `touch {{out \"x\"}}`, machine = {machine} }}\n");
        Sandbox::new(&[("targets.nub", &text)]).run(&["build"])
    };
    assert!(check("[\"a b\"]").expect(3).stderr.contains("is no label"));
    assert!(
        check("[\"aarch64\", \"x86_64\"]")
            .expect(3)
            .stderr
            .contains("no machine has both processors")
    );
    let run = check("\"sparc64\"").expect(1);
    assert!(
        run.stdout.contains("no worker that is `sparc64` ran it"),
        "{}",
        run.stdout
    );
    let own = format!(
        "[\"{}\", \"{}\"]",
        std::env::consts::OS,
        std::env::consts::ARCH
    );
    check(&own).expect(0);
    let sandbox = Sandbox::new(&[]);
    assert!(
        sandbox
            .run(&["workers", "serve", "--label", "a b"])
            .expect(2)
            .stderr
            .contains("[workers]")
    );
}

#[test]
fn roles_of_the_server_are_enough_for_who_has_work_and_who_works() {
    let Some(mut team) = Team::new() else { return };
    team.server = None;
    let roles = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/nats-roles.conf");
    let roles = fs::read_to_string(roles).unwrap();
    let roles = roles
        .replace("$BOSS_PASSWORD", "flood")
        .replace("$HAND_PASSWORD", "ebb");
    fs::write(team.path("roles.conf"), roles).unwrap();
    team.start_with(
        &server_program().unwrap(),
        &["-c", &team.path("roles.conf")],
    );
    let text = "target a = step { run = sh`sleep 0.2; echo done > {out \"x\"}` }\n";
    let sandbox = team.sandbox(&[("targets.nub", text)]);
    let settings = |sandbox: &Sandbox| {
        sandbox.write(
            "nubrik.toml",
            &(sandbox.read("nubrik.toml") + "secret = \"JOBS_USER\"\n"),
        );
    };
    settings(&sandbox);
    for state in ["boss-state", "one-state"] {
        let row = format!("send JOBS_USER to nats://127.0.0.1:{}\n", team.port);
        agreed(std::path::Path::new(&team.path(state)), &row);
    }
    let (state, boss) = (team.path("boss-state"), team.path("boss"));
    let with = |user: &'static str| {
        let variables = [
            ("NUBRIK_SHARED_ROOT_KEY", team.root.as_str()),
            ("NUBRIK_JOBS_KEY", &boss),
            ("XDG_STATE_HOME", &state),
            ("JOBS_USER", user),
        ];
        sandbox.run_with(&["build", "--json"], &variables).expect(0)
    };
    // A wrong password is reported, and a first build makes the pool.
    let refused = with("boss:wrong").stdout;
    assert!(
        refused.contains("no worker is available") && refused.contains("uthorization"),
        "{refused}"
    );
    sandbox.write("targets.nub", &text.replace("0.2", "0.3"));
    let first = with("boss:flood");
    assert!(
        !first.stdout.contains("no worker is available"),
        "{}",
        first.stdout
    );
    let seat = team.sandbox(&[]);
    settings(&seat);
    let mut command = seat.command_in("", &["workers", "serve", "--slots", "1", "--name", "one"]);
    command
        .env("NUBRIK_SHARED_ROOT_KEY", &team.root)
        .env("NUBRIK_WORKER_KEY", team.path("hand"));
    command
        .env("JOBS_USER", "hand:ebb")
        .env("XDG_STATE_HOME", team.path("one-state"));
    let _worker = Ended {
        child: command.stdout(Stdio::null()).spawn().unwrap(),
        _folders: Some(seat),
    };
    until("it runs there", || {
        sandbox.write(
            "targets.nub",
            &text.replace("0.2", &format!("0.2{}", fastrand())),
        );
        ran_elsewhere(&with("boss:flood")) == 1
    });
    assert_eq!(sandbox.read("out/default/a/x"), "done\n");
    // Who works puts no jobs.
    let place = |user: &str, password: &str| nubrik_workers::ExchangePlace {
        at: format!("nats://127.0.0.1:{}", team.port),
        user: Some((user.to_owned(), password.to_owned())),
        client: None,
        pool: "default".to_owned(),
    };
    let hand = nubrik_workers::Boss::open(&place("hand", "ebb"), "b9").unwrap();
    assert!(hand.send("linux", b"a job".to_vec()).is_err());
    // Who has work takes none.
    let labels = vec!["linux".to_owned()];
    assert!(nubrik_workers::Hand::open(&place("boss", "flood"), "two", 1, ("m", labels)).is_err());
}

/// Runs a program that makes keys and certificates in a folder.
fn openssl(folder: &std::path::Path, args: &str) {
    let mut command = Command::new("openssl");
    let run = command
        .current_dir(folder)
        .args(args.split_whitespace())
        .output()
        .unwrap();
    assert!(
        run.status.success(),
        "{args}: {}",
        String::from_utf8_lossy(&run.stderr)
    );
}

#[test]
fn a_server_that_asks_for_certificates_knows_who_has_one() {
    let Some(mut team) = Team::new() else { return };
    if Command::new("openssl").arg("version").output().is_err() {
        return skip(Need::Certificates, "there is no openssl");
    }
    let folder = team.folder.path().to_owned();
    let new = "-newkey rsa:2048 -nodes -batch";
    openssl(
        &folder,
        &format!("req -x509 {new} -days 2 -subj /CN=team -keyout ca.key -out ca.pem"),
    );
    fs::write(folder.join("names"), "subjectAltName=IP:127.0.0.1\n").unwrap();
    for name in ["server", "person"] {
        openssl(
            &folder,
            &format!("req {new} -subj /CN={name} -keyout {name}.key -out {name}.csr"),
        );
        let signed =
            format!("x509 -req -in {name}.csr -CA ca.pem -CAkey ca.key -CAcreateserial -days 2");
        openssl(&folder, &format!("{signed} -extfile names -out {name}.pem"));
    }
    let both = fs::read_to_string(folder.join("person.pem")).unwrap()
        + &fs::read_to_string(folder.join("person.key")).unwrap();
    fs::write(folder.join("both.pem"), both).unwrap();
    let of = |name: &str| folder.join(name).display().to_string();
    let (certificate, key, ca) = (of("server.pem"), of("server.key"), of("ca.pem"));
    team.server = None;
    let args = [
        "--tls",
        "--tlscert",
        &certificate,
        "--tlskey",
        &key,
        "--tlsverify",
        "--tlscacert",
        &ca,
    ];
    team.start_with(&server_program().unwrap(), &args);

    let sandbox = team.sandbox(&[]);
    sandbox.write(
        "nubrik.toml",
        &sandbox.read("nubrik.toml").replace("nats://", "tls://"),
    );
    agreed(
        &sandbox.state(),
        &format!("give and take jobs at tls://127.0.0.1:{}\n", team.port),
    );
    let ask = |own: &str| {
        let variables = [
            ("SSL_CERT_FILE", ca.as_str()),
            ("NUBRIK_CLIENT_CERTIFICATE", own),
        ];
        sandbox.run_with(&["workers"], &variables)
    };
    assert!(ask("").expect(1).stderr.contains("cannot be reached"));
    assert!(
        ask(&of("person.pem"))
            .expect(1)
            .stderr
            .contains("private key")
    );
    assert!(ask(&of("both.pem")).expect(0).stdout.contains("no worker"));
}

/// A number that is another one each time.
fn fastrand() -> u32 {
    std::time::SystemTime::now()
        .duration_since(std::time::UNIX_EPOCH)
        .unwrap()
        .subsec_nanos()
}

/// The variables of a program on a machine whose clock is wrong by so much; nothing where there is
/// no such program here.
fn with_clock(by: &str, command: &mut Command) -> bool {
    // A process of its own between would be ended in place of the program.
    let said = Command::new("faketime")
        .args(["-f", by, "sh", "-c", "echo \"$LD_PRELOAD\""])
        .output();
    let Ok(said) = said else { return false };
    let library = String::from_utf8(said.stdout).unwrap();
    command
        .env("LD_PRELOAD", library.trim())
        .env("FAKETIME", by);
    // Only the time of the day is wrong: clocks that measure how long something takes are not.
    command
        .env("DONT_FAKE_MONOTONIC", "1")
        .env("FAKETIME_DONT_FAKE_MONOTONIC", "1");
    true
}

#[test]
fn a_wrong_clock_makes_nothing_wrong() {
    if !with_clock("+1d", &mut Command::new("true")) {
        return skip(Need::Clocks, "there is no faketime on this machine");
    }
    let Some(team) = Team::new() else { return };
    let worker = |by: &str, name: &str| {
        let sandbox = team.sandbox(&[]);
        let mut command =
            sandbox.command_in("", &["workers", "serve", "--slots", "2", "--name", name]);
        command
            .env("NUBRIK_SHARED_ROOT_KEY", &team.root)
            .env("NUBRIK_WORKER_KEY", team.path("hand"));
        command.env("XDG_STATE_HOME", team.path(&format!("{name}-state")));
        with_clock(by, &mut command);
        (command, sandbox)
    };
    // After the list of members counts no more, nobody works.
    let (mut command, _folders) = worker("+800d", "late");
    let run = command.output().unwrap();
    let said = String::from_utf8_lossy(&run.stderr).into_owned();
    assert!(
        run.status.code() == Some(2) && said.contains("expired"),
        "{said}"
    );
    // As long as it counts, a clock that is a month behind or ahead, there or here, changes
    // nothing.
    let files = [
        (
            "targets.nub",
            "target a = step { run = sh`sleep 0.3; cat {in \"t\"} > {out \"x\"}` }\n",
        ),
        ("t", "6\n"),
    ];
    for (there, here) in [("+30d", "+0d"), ("-30d", "+0d"), ("+0d", "-30d")] {
        let name = there.replace(['+', '-'], "by-");
        let (mut command, folders) = worker(there, &name);
        let _worker = Ended {
            child: command.stdout(Stdio::null()).spawn().unwrap(),
            _folders: Some(folders),
        };
        let seat = team.sandbox(&[]);
        until("it is there", || {
            seat.run(&["workers"]).expect(0).stdout.contains(&name)
        });
        let sandbox = team.sandbox(&files);
        let mut command = sandbox.command_in("", &["build", "--json"]);
        command
            .env("NUBRIK_SHARED_ROOT_KEY", &team.root)
            .env("NUBRIK_JOBS_KEY", team.path("boss"));
        command.env("XDG_STATE_HOME", team.path("boss-state"));
        with_clock(here, &mut command);
        let said = String::from_utf8(command.output().unwrap().stdout).unwrap();
        assert!(
            said.contains("\"ran\":1,\"machines\":1"),
            "{there} {here} {said}"
        );
        assert_eq!(sandbox.read("out/default/a/x"), "6\n");
        // The same clock, and then the right one: nothing runs again, and an edit is seen.
        for by in [here, "+0d"] {
            let mut command = sandbox.command_in("", &["build"]);
            with_clock(by, &mut command);
            let said = command.output().unwrap().stdout;
            assert!(
                String::from_utf8_lossy(&said).starts_with("nothing to run"),
                "{by}"
            );
        }
        sandbox.write("t", "7\n");
        sandbox.run(&["build"]).expect(0);
        assert_eq!(sandbox.read("out/default/a/x"), "7\n");
    }
}

#[test]
fn a_worker_cut_off_at_any_point_loses_and_doubles_nothing() {
    let Some(team) = Team::new() else { return };
    let text: String = (0..6)
        .map(|n| format!("target s{n} = step {{ run = sh`sleep 0.1; cat {{in \"t\"}} > {{out \"x\"}}; echo {n} >> {{out \"x\"}}` }}\n"))
        .collect();
    let _stays = team.worker("stays", "hand");
    let sandbox = team.sandbox(&[("targets.nub", &text), ("t", "0\n")]);
    // Taking a job, bringing what it reads, running it, giving what it made, answering: it ends
    // somewhere among these.
    for moment in 0..8u64 {
        let dies = team.worker("dies", "hand");
        sandbox.write("t", &format!("{moment}\n"));
        let run = std::thread::scope(|scope| {
            scope.spawn(move || {
                std::thread::sleep(Duration::from_millis(250 + 45 * moment));
                drop(dies);
            });
            team.build(&sandbox, &["--json"])
        });
        let run = run.expect(0);
        assert_eq!(run.ran().len(), 6, "{}", run.stdout);
        for number in 0..6 {
            assert_eq!(
                sandbox.read(&format!("out/default/s{number}/x")),
                format!("{moment}\n{number}\n")
            );
        }
        assert!(
            team.build(&sandbox, &[])
                .expect(0)
                .stdout
                .starts_with("nothing to run")
        );
    }
}

#[test]
fn what_is_too_long_for_a_message_goes_by_the_store() {
    let Some(team) = Team::new() else { return };
    let _one = team.worker("one", "hand");
    // A job and an answer that cannot be compressed to what one message takes.
    let mut state = 7u64;
    let noise: String = (0..60_000)
        .map(|_| {
            state = state
                .wrapping_mul(6_364_136_223_846_793_005)
                .wrapping_add(1);
            format!("{:08x}", state >> 32)
        })
        .collect();
    let text = format!(
        "target table = step {{ run = sh`sleep 0.1; cat {{textfile \"t\" \"{noise}\"}} > {{out \"x\"}}` }}\n\
         target loud = step {{ run = sh`sleep 0.1; head -c 500000 /dev/urandom | od -An -tx1 | tee {{out \"x\"}}` }}\n"
    );
    let sandbox = team.sandbox(&[("targets.nub", &text)]);
    let run = |target: &str| {
        let run = team.build(&sandbox, &[target, "--json"]).expect(0);
        assert_eq!(ran_elsewhere(&run), 1, "{target}");
        sandbox.read(&format!("out/default/{target}/x"))
    };
    assert!(run("table") == noise);
    assert_eq!(run("loud").lines().count(), 31_250);
}

#[test]
fn a_worker_that_is_to_end_gives_back_what_it_runs() {
    let Some(team) = Team::new() else { return };
    let mut leaves = team.worker("leaves", "hand");
    let text = "target slow = step { run = sh`sleep 4; echo done > {out \"x\"}` }\n";
    let sandbox = team.sandbox(&[("targets.nub", text)]);
    let (mut build, _) = team.begin_build(&sandbox);
    let end = |child: &Child| {
        Command::new("kill")
            .args(["-TERM", &child.id().to_string()])
            .status()
            .unwrap();
    };
    end(&leaves.child);
    // It says so, and takes nothing more.
    let asked = || sandbox.run(&["workers", "--json"]).expect(0).events();
    until("it says that it ends", || {
        asked()
            .first()
            .is_none_or(|event| event["away"] == "it ends")
    });
    end(&leaves.child);
    leaves.child.wait().unwrap();
    assert!(build.wait().unwrap().success());
    assert_eq!(sandbox.read("out/default/slow/x"), "done\n");
}

#[test]
fn what_a_worker_that_is_gone_had_begun_is_begun_again() {
    let Some(team) = Team::new() else { return };
    let gone = team.worker("gone", "hand");
    let text = "target slow = step { run = sh`sleep 30; echo done > {out \"x\"}` }\n";
    let sandbox = team.sandbox(&[("targets.nub", text)]);
    let (build, _) = team.begin_build(&sandbox);
    // Its lease is kept by nobody, and another one is there.
    drop(gone);
    let _other = team.worker("other", "hand");
    let runs = || {
        let run = sandbox.run(&["workers", "--json"]).expect(0);
        run.events()
            .iter()
            .any(|event| event["name"] == "other" && event["busy"] == 1)
    };
    until("the other one has it", runs);
    let mut build = build;
    build.kill().unwrap();
    build.wait().unwrap();
}

/// What somebody answers at an address: the status and the body.
fn asked(at: &str, method: &str, path: &str) -> (u16, String) {
    let mut stream = std::net::TcpStream::connect(at).unwrap();
    write!(
        stream,
        "{method} {path} HTTP/1.1\r\nHost: {at}\r\nConnection: close\r\n\r\n"
    )
    .unwrap();
    let mut answer = String::new();
    stream.read_to_string(&mut answer).unwrap();
    let (head, body) = answer.split_once("\r\n\r\n").unwrap();
    (
        head.split(' ').nth(1).unwrap().parse().unwrap(),
        body.to_owned(),
    )
}

#[test]
fn monitoring_reads_what_a_worker_does() {
    let Some(team) = Team::new() else { return };
    let own = team.sandbox(&[]);
    let args = [
        "workers",
        "serve",
        "--slots",
        "2",
        "--name",
        "mill",
        "--metrics",
        "0",
        "--grace",
        "30",
    ];
    let variables = [
        ("NUBRIK_SHARED_ROOT_KEY", team.root.clone()),
        ("NUBRIK_WORKER_KEY", team.path("hand")),
    ];
    let mut command = own.command_in("", &args);
    command
        .envs(variables.clone())
        .env("XDG_STATE_HOME", team.path("mill-state"));
    let mut child = command.stdout(Stdio::piped()).spawn().unwrap();
    let mut said = BufReader::new(child.stdout.take().unwrap()).lines();
    let line = said.nth(1).unwrap().unwrap();
    let at = line
        .split("http://")
        .nth(1)
        .unwrap()
        .split('/')
        .next()
        .unwrap()
        .to_owned();
    std::thread::spawn(move || for _ in said {});
    let worker = Ended {
        child,
        _folders: Some(own),
    };
    let number = |name: &str| -> f64 {
        let (status, text) = asked(&at, "GET", "/metrics");
        assert!(status == 200 && text.ends_with("# EOF\n"), "{text}");
        let line = text
            .lines()
            .find_map(|line| line.strip_prefix(name)?.strip_prefix(' '));
        line.unwrap_or_else(|| panic!("no {name} in {text}"))
            .parse()
            .unwrap()
    };
    assert_eq!(
        (
            number("nubrik_worker_slots"),
            number("nubrik_worker_jobs_total{end=\"ran\"}")
        ),
        (2.0, 0.0)
    );
    assert_eq!(
        asked(&at, "GET", "/health"),
        (200, "takes jobs\n".to_owned())
    );
    assert_eq!(
        (
            asked(&at, "GET", "/").0,
            asked(&at, "HEAD", "/metrics").1.len()
        ),
        (404, 0)
    );
    assert_eq!(asked(&at, "DELETE", "/metrics").0, 405);

    // A job that runs, and one that fails.
    let files = [(
        "targets.nub",
        "target good = step { run = sh`sleep 0.1; echo low > {out \"x\"}` }\n\
         target bad = step { run = sh`sleep 0.1; exit 3 > {out \"x\"}` }\n",
    )];
    let sandbox = team.sandbox(&files);
    assert_eq!(
        ran_elsewhere(&team.build(&sandbox, &["good", "--json"]).expect(0)),
        1
    );
    team.build(&sandbox, &["bad"]).expect(1);
    let counted = |end: &str| number(&format!("nubrik_worker_jobs_total{{end=\"{end}\"}}"));
    until("both ended", || {
        (counted("ran"), counted("failed")) == (1.0, 1.0)
    });
    assert!(number("nubrik_worker_job_seconds_total") >= 0.2);
    assert!(
        number("nubrik_shared_requests_total") > 0.0
            && number("nubrik_shared_received_bytes_total") > 0.0
    );
    assert!(number("nubrik_worker_last_job_timestamp_seconds") > 1.6e9);
    let text = asked(&at, "GET", "/metrics").1;
    assert!(
        text.contains("nubrik_worker_info{name=\"mill\",version=\"")
            && text.contains("nubrik_pool_waiting{")
    );
    // Keys, users, and what steps say and are called are none of the numbers.
    for hidden in [
        "ed25519",
        team.root.as_str(),
        "sleep",
        "targets",
        "good",
        "bad",
        &team.path(""),
    ] {
        assert!(!text.contains(hidden), "{hidden} is in {text}");
    }

    // A port belongs to one.
    let other = team.sandbox(&[]);
    let wrong = |place: &str| {
        let variables: Vec<(&str, &str)> = variables
            .iter()
            .map(|(name, value)| (*name, value.as_str()))
            .collect();
        other
            .run_with(&["workers", "serve", "--metrics", place], &variables)
            .expect(2)
            .stderr
    };
    let refused = wrong(&at);
    assert!(
        refused.contains("cannot be listened at") && refused.contains("--metrics 0"),
        "{refused}"
    );
    assert!(wrong("mill:9464").contains("an IP address and a port"));

    // One that is to end says so until its last job ended.
    let slow = team.sandbox(&[(
        "targets.nub",
        "target slow = step { run = sh`sleep 2; echo done > {out \"x\"}` }\n",
    )]);
    let (mut build, _) = team.begin_build(&slow);
    assert_eq!(number("nubrik_worker_busy"), 1.0);
    Command::new("kill")
        .args(["-TERM", &worker.child.id().to_string()])
        .status()
        .unwrap();
    until("it says that it ends", || {
        asked(&at, "GET", "/health") == (503, "takes no jobs for a while: it ends\n".to_owned())
    });
    assert_eq!(number("nubrik_worker_away"), 1.0);
    assert!(build.wait().unwrap().success());
}
