//! Services: started for who needs them, stopped after the last, and never left behind.

use std::fs;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::{TcpListener, TcpStream};
use std::process::{Child, Stdio};
use std::time::{Duration, Instant};

use crate::sandbox::Sandbox;
use nubrik_testing::{Need, skip};

/// A board as in the demo: a service and who asks it.
const BOARD: &str = r#"
target boardd = step { run = `cc -o {out "boardd"} {in "boardd.c"}`, reads = "wire.h" }
target ask = step { run = `cc -o {out "ask"} {in "ask.c"}`, reads = "wire.h" }
"#;

fn workspace(definitions: &str) -> Sandbox {
    let sandbox = Sandbox::new(&[
        ("boardd.c", include_str!("../../../../demo/board/boardd.c")),
        ("ask.c", include_str!("../../../../demo/board/ask.c")),
        ("wire.h", include_str!("../../../../demo/board/wire.h")),
        ("first.txt", "4.82\n"),
    ]);
    sandbox.write("targets.nub", &format!("{BOARD}{definitions}"));
    sandbox
}

/// How often a word is in a text.
fn count(text: &str, word: &str) -> usize {
    text.matches(word).count()
}

/// Whether a process with this in its command line runs.
fn runs(word: &str) -> bool {
    fs::read_dir("/proc").unwrap().flatten().any(|entry| {
        let line = fs::read(entry.path().join("cmdline")).unwrap_or_default();
        // The one that asks is not meant.
        entry.file_name().to_str() != Some(&std::process::id().to_string())
            && String::from_utf8_lossy(&line).contains(word)
    })
}

/// Waits until something holds.
fn eventually(what: &str, mut holds: impl FnMut() -> bool) {
    let began = Instant::now();
    while !holds() {
        assert!(began.elapsed() < Duration::from_secs(30), "{what}");
        std::thread::sleep(Duration::from_millis(20));
    }
}

/// A program that was started and says on its standard error where a service is.
fn serving(sandbox: &Sandbox, address: &str) -> (Child, String) {
    let mut command = sandbox.command(&["run", address, "--plain"]);
    let mut child = command
        .stderr(Stdio::piped())
        .stdout(Stdio::null())
        .spawn()
        .unwrap();
    let mut lines = BufReader::new(child.stderr.take().unwrap()).lines();
    let at = lines.find_map(|line| {
        let line = line.unwrap();
        let (_, at) = line.strip_prefix("serves")?.split_once(" at ")?;
        Some(at.split(';').next().unwrap().to_owned())
    });
    // What else it says must not stop it.
    std::thread::spawn(move || lines.for_each(drop));
    (child, at.expect("it says where it serves"))
}

fn signal(child: &Child, signal: rustix::process::Signal) {
    rustix::process::kill_process(rustix::process::Pid::from_child(child), signal).unwrap();
}

fn ask(at: &str, line: &str) -> String {
    let mut stream = TcpStream::connect(at).unwrap();
    stream.write_all(line.as_bytes()).unwrap();
    let mut answer = String::new();
    stream.read_to_string(&mut answer).unwrap();
    answer
}

#[test]
fn fresh_ones_are_each_ones_own_and_shared_ones_are_not() {
    let sandbox = workspace(
        r#"
kind board(shared: bool): service {
    give serve { run = `{boardd} {self.address} {self.port}`, shared = shared }
}
service own = board { shared = false }
service common = board { shared = true }
let asked(at: service, line: text): command = `{ask} {at.address} {at.port} {line.split(" ")} > {out "answer"}`
target writes = { "own": step { run = asked(own, "put moon 3") }, "common": step { run = asked(common, "put moon 3") } }
target reads = {
    "own": step { run = asked(own, "height moon"), reads = writes["own"] }
    "common": step { run = asked(common, "height moon"), reads = writes["common"] }
}
"#,
    );
    sandbox.run(&["build"]).expect(0);
    assert_eq!(
        sandbox.read("out/default/reads/own/answer"),
        "nothing known\n"
    );
    assert_eq!(sandbox.read("out/default/reads/common/answer"), "3\n");
    let text = sandbox.run(&["show", "own", "--plain"]).expect(0).stdout;
    assert!(
        text.contains("a fresh one for each user") && text.contains("{own.address}"),
        "{text}"
    );
    assert!(text.contains("used by   reads, writes"), "{text}");
    // Nothing is left of them but what they printed.
    let left: Vec<String> = sandbox.files_below(".nubrik/serve").into_keys().collect();
    assert_eq!(left, [".nubrik/serve/common.log", ".nubrik/serve/own.log"]);
}

const FILLED: &str = r#"
service board = serve {
    run = `{boardd} {self.address} {self.port}`
    fill = sh`{ask} {self.address} {self.port} put moon $(cat {in "first.txt"})`
}
target height = step { run = `{ask} {board.address} {board.port} height moon > {out "height"}` }
target place = step { run = `echo {board.address} {board.port} > {out "place"}` }
target doubled = step { run = `cat {height} {height} > {out "doubled"}` }
test answers = check { run = sh`{ask} {board.address} {board.port} height moon | grep -q 4.82` }
"#;

#[test]
fn results_are_kept_though_addresses_are_in_no_key() {
    let sandbox = workspace(FILLED);
    assert_eq!(
        sandbox.run(&["build", "--json"]).expect(0).summary()["ran"],
        5
    );
    assert_eq!(sandbox.read("out/default/doubled"), "4.82\n4.82\n");
    assert_eq!(
        sandbox.run(&["build", "--json"]).expect(0).summary()["ran"],
        0
    );
    assert_eq!(
        sandbox.run(&["test", "--json"]).expect(0).summary()["tests"]["ran"],
        1
    );
    assert_eq!(
        sandbox.run(&["test", "--json"]).expect(0).summary()["tests"]["current"],
        1
    );
    // What the service is filled with counts; what comes after the same answer does not run.
    sandbox.write("first.txt", "4.82\n\n");
    let ran = sandbox
        .run(&["build", "height", "doubled", "--json"])
        .expect(0);
    assert_eq!(ran.ran(), ["make height"]);
    sandbox.write("first.txt", "4.8200\n");
    let ran = sandbox
        .run(&["build", "height", "doubled", "--json"])
        .expect(0);
    assert_eq!(ran.ran(), ["make doubled", "make height"]);
    assert_eq!(ran.reason("make height"), "first.txt changed");
    // How it is defined counts, and how long it may take does not.
    let text = sandbox.read("targets.nub");
    sandbox.write(
        "targets.nub",
        &text.replace("    fill =", "    timeout = 20s\n    fill ="),
    );
    assert_eq!(
        sandbox.run(&["build", "--json"]).expect(0).summary()["ran"],
        1,
        "place, for first.txt"
    );
    sandbox.write(
        "targets.nub",
        &text.replace("    fill =", "    env = { \"TIDE\": \"high\" }\n    fill ="),
    );
    let plan = sandbox.run(&["plan", "height", "--plain"]).expect(0).stdout;
    assert!(plan.contains("its command changed"), "{plan}");
    let why = sandbox.run(&["why", "height", "--plain"]).expect(0).stdout;
    assert!(
        why.contains("service") && why.contains("board, run: TIDE=high .nubrik"),
        "{why}"
    );
}

#[test]
fn a_service_stands_at_the_same_place_in_every_run_and_workspace() {
    let sandbox = workspace(FILLED);
    sandbox.run(&["build", "place"]).expect(0);
    let other = sandbox.copy_from_nothing();
    other.run(&["build", "place"]).expect(0);
    let place = sandbox.read("out/default/place");
    assert_eq!(place, other.read("out/default/place"));
    assert!(place.starts_with("127."), "{place}");
    assert_ne!(
        place.split_whitespace().next(),
        Some("127.0.0.1"),
        "{place}"
    );
}

#[test]
fn one_that_does_not_come_up_says_why_with_its_last_output() {
    let definitions = |service: &str| {
        format!(
            "service board = {service}\ntest answers = check {{ run = `{{ask}} {{board.address}} {{board.port}} height moon` }}\n"
        )
    };
    let of = |service: &str, code: i32| {
        let sandbox = workspace(&definitions(service));
        let run = sandbox.run(&["test", "--plain"]).expect(code);
        assert!(
            sandbox
                .files_below(".nubrik/serve")
                .keys()
                .all(|f| f.ends_with(".log")),
            "{service}"
        );
        run.stdout
    };
    let text = of(
        "serve { run = sh`echo I sleep; exec sleep 987650`, timeout = 300ms }",
        1,
    );
    assert!(
        text.contains("the service board was not ready within 0.30s"),
        "{text}"
    );
    assert!(text.contains("  printed   \n    I sleep\n"), "{text}");
    assert!(!runs("987650"), "it was ended");
    let text = of("serve { run = sh`echo no room >&2; exit 3` }", 1);
    assert!(
        text.contains("the service board exited with code 3 before it was ready"),
        "{text}"
    );
    assert!(text.contains("    no room\n"), "{text}");
    let text = of(
        "serve { run = `{boardd} {self.address} {self.port}`, fill = sh`echo full; exit 4` }",
        1,
    );
    assert!(
        text.contains("in `fill` of the service board, `sh …` exited with code 4"),
        "{text}"
    );
    assert!(
        text.contains("    full\n") && text.contains("[the service printed at the end]"),
        "{text}"
    );
    let text = of("serve { prepare = `false`, run = `true` }", 1);
    assert!(
        text.contains("in `prepare` of the service board, `false …` exited with code 1"),
        "{text}"
    );
    let text = of("serve { run = `no_such_server` }", 4);
    assert!(text.contains("there is no tool `no_such_server`"), "{text}");
    let text = of("serve { address = secret(\"BOARD_HOST\"), port = 1 }", 4);
    assert!(
        text.contains("needs the secret `BOARD_HOST`, and that variable is not set"),
        "{text}"
    );
    let text = of(
        "serve { address = \"localhost\", port = 1, timeout = 100ms }",
        1,
    );
    assert!(
        text.contains("the service board did not answer within 0.10s"),
        "{text}"
    );
}

#[test]
fn a_failing_user_shows_what_its_service_printed_and_a_shared_failure_is_told_once() {
    let sandbox = workspace(
        r#"
service board = serve { run = `{boardd} {self.address} {self.port}` }
test fails = check { run = sh`{ask} {board.address} {board.port} height moon; exit 7` }
service gone = serve { run = sh`echo broken; exit 1`, shared = true }
test several = {each n in ["a", "b", "c"] give n: check { run = `{ask} {gone.address} {gone.port} {n}` }}
"#,
    );
    let text = sandbox.run(&["test", "fails", "--plain"]).expect(1).stdout;
    assert!(text.contains("exited with code 7"), "{text}");
    assert!(
        text.contains("[board printed at the end]\n    the board is at 127."),
        "{text}"
    );
    let text = sandbox
        .run(&["test", "several", "--plain"])
        .expect(1)
        .stdout;
    assert_eq!(count(&text, "    broken\n"), 1, "{text}");
    assert_eq!(
        count(&text, "the service gone did not come up"),
        2,
        "{text}"
    );
}

#[test]
fn run_serves_until_it_is_interrupted() {
    let sandbox = workspace(FILLED);
    let (mut child, at) = serving(&sandbox, "board");
    assert_eq!(ask(&at, "height moon"), "4.82\n");
    // Others build at the same time, and have one of their own.
    assert_eq!(
        sandbox.run(&["build", "--json"]).expect(0).summary()["ok"],
        true
    );
    assert_eq!(ask(&at, "height moon"), "4.82\n");
    // A second one is beside it.
    let (mut second, beside) = serving(&sandbox, "board");
    assert_ne!(at, beside);
    assert_eq!(ask(&beside, "height moon"), "4.82\n");
    for child in [&mut child, &mut second] {
        signal(child, rustix::process::Signal::INT);
        assert_eq!(child.wait().unwrap().code(), Some(0));
    }
    assert!(TcpStream::connect(&at).is_err());
    let wrong = sandbox.run(&["build", "board", "--plain"]).expect(2);
    assert!(
        wrong.stderr.contains("`board` is a service") && wrong.stderr.contains("nubrik run board")
    );
}

#[test]
fn what_was_left_by_a_killed_run_is_ended_by_the_next_command() {
    let sandbox = workspace(
        r#"
service board = serve {
    run = sh`(setsid sleep 987651 &) ; (cd /; sleep 987652 &) ; exec {boardd} {self.address} {self.port}`
}
test waits = check { run = `sleep 987653`, env = { "AT": board.address } }
"#,
    );
    let mut child = sandbox
        .command(&["test"])
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    eventually("the test runs", || {
        runs("987653") && runs("987651") && runs("987652")
    });
    signal(&child, rustix::process::Signal::KILL);
    child.wait().unwrap();
    // Processes that share the killed program's files end a moment after it, and with them its
    // locks.
    eventually("its folders go", || {
        sandbox.run(&["list"]).expect(0);
        sandbox.files_below(".nubrik/serve").is_empty()
    });
    eventually("all are ended", || {
        !runs("987651") && !runs("987652") && !runs("987653")
    });
    // An interrupt leaves nothing in the first place.
    let mut child = sandbox
        .command(&["test"])
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    eventually("the test runs again", || runs("987653") && runs("987651"));
    signal(&child, rustix::process::Signal::INT);
    assert_eq!(child.wait().unwrap().code(), Some(130));
    assert!(!runs("987651") && !runs("987652") && !runs("987653"));
}

/// Answers each line with a height, at a port of this machine; gives the port.
fn board_elsewhere() -> u16 {
    let listener = TcpListener::bind(("localhost", 0)).unwrap();
    let port = listener.local_addr().unwrap().port();
    std::thread::spawn(move || {
        for stream in listener.incoming().flatten() {
            let mut stream = stream;
            let mut line = [0; 100];
            // A caller that only looks whether someone is there says nothing.
            if stream.read(&mut line).is_ok_and(|n| n > 0) {
                let _ = stream.write_all(b"9.99\n");
            }
        }
    });
    port
}

#[test]
fn one_face_for_a_service_here_and_one_elsewhere() {
    let sandbox = workspace(
        r#"
option board_at: "here" | "elsewhere" = "here"
service board = match board_at {
    "here": serve { run = `{boardd} {self.address} {self.port}` }
    "elsewhere": serve { address = secret("BOARD_HOST"), port = secret("BOARD_PORT") }
}
target height = step { run = `{ask} {board.address} {board.port} height moon > {out "height"}` }
target tells = step { run = `echo {board.address} > {out "tells"}` }
test says = check { run = sh`echo it is at {board.address}; {ask} {board.address} {board.port} height moon; exit 1` }
job tell = effect { run = `{ask} {board.address} {board.port} height moon` }
"#,
    );
    let port = board_elsewhere().to_string();
    // Written as nobody else does, so that it can be searched for.
    let host = "LocAlHosT";
    let elsewhere = |args: &[&str]| {
        let args = [args, &["--set", "board_at=elsewhere"]].concat();
        sandbox.run_with(&args, &[("BOARD_HOST", host), ("BOARD_PORT", &port)])
    };
    sandbox.run(&["build", "height"]).expect(0);
    assert_eq!(sandbox.read("out/default/height"), "nothing known\n");
    elsewhere(&["build", "height"]).expect(0);
    assert_eq!(sandbox.read("out/default/height"), "9.99\n");
    // What answers elsewhere is not known: it is asked each time, and nothing of it is kept.
    let again = elsewhere(&["build", "height", "--json"]).expect(0);
    assert_eq!(again.ran(), ["make height"]);
    assert_eq!(
        again.reason("make height"),
        "board runs somewhere else, and may answer anything"
    );
    assert_eq!(
        sandbox.run(&["build", "height", "--json"]).expect(0).ran(),
        [""; 0]
    );
    assert_eq!(elsewhere(&["run", "tell"]).expect(0).stdout, "9.99\n");
    assert_eq!(
        sandbox.run(&["run", "tell"]).expect(0).stdout,
        "nothing known\n"
    );
    // A secret stays one: in what is printed and kept, and in what a step writes.
    let run = elsewhere(&["test", "says", "--plain"]).expect(1);
    assert!(
        run.stdout.contains("it is at [secret BOARD_HOST]"),
        "{}",
        run.stdout
    );
    let run = elsewhere(&["build", "tells", "--plain"]).expect(1);
    assert!(
        run.stdout
            .contains("it wrote the secret `BOARD_HOST` into tells"),
        "{}",
        run.stdout
    );
    assert!(!sandbox.exists("out/default/tells"));
    for (path, bytes) in sandbox
        .files_below("")
        .into_iter()
        .chain(sandbox.cached_files())
    {
        assert!(
            !String::from_utf8_lossy(&bytes).contains(host),
            "{path} holds the secret"
        );
    }
}

#[test]
fn what_begins_to_use_a_service_elsewhere_runs_each_time() {
    let port = board_elsewhere();
    let service = |serving: &str| {
        format!(
            "service board = serve {{ {serving} }}\ntarget height = step {{ run = `{{ask}} {{board.address}} {{board.port}} height moon > {{out \"height\"}}` }}\n"
        )
    };
    let sandbox = workspace(&service("run = `{boardd} {self.address} {self.port}`"));
    // Twice, so that it is known that nothing is to be done.
    for _ in 0..2 {
        std::thread::sleep(Duration::from_millis(50));
        sandbox.run(&["build"]).expect(0);
    }
    let elsewhere = service(&format!("address = \"localhost\", port = {port}"));
    sandbox.write("targets.nub", &format!("{BOARD}{elsewhere}"));
    for _ in 0..4 {
        std::thread::sleep(Duration::from_millis(50));
        assert_eq!(
            sandbox.run(&["build", "--json"]).expect(0).ran(),
            ["make height"]
        );
    }
    assert_eq!(sandbox.read("out/default/height"), "9.99\n");
}

#[test]
fn services_may_need_services() {
    let sandbox = workspace(
        r#"
service first = serve { run = `{boardd} {self.address} {self.port}`, fill = `{ask} {self.address} {self.port} put moon 3` }
service second = serve {
    run = `{boardd} {self.address} {self.port}`
    fill = sh`{ask} {self.address} {self.port} put sun $({ask} {first.address} {first.port} height moon)`
}
target height = step { run = `{ask} {second.address} {second.port} height sun > {out "height"}` }
"#,
    );
    sandbox.run(&["build"]).expect(0);
    assert_eq!(sandbox.read("out/default/height"), "3\n");
}

#[test]
fn whoever_uses_a_service_reaches_nothing_else() {
    let sandbox = workspace(FILLED);
    let doctor = sandbox.run(&["doctor", "--json"]);
    let apart = doctor
        .events()
        .into_iter()
        .find(|e| e["name"] == "private network for services")
        .unwrap();
    if apart["ok"] != true {
        skip(
            Need::Confinement,
            "this machine has no networks of services' own",
        );
        return;
    }
    let port = board_elsewhere();
    let text = sandbox.read("targets.nub");
    sandbox.write(
        "targets.nub",
        &format!(
            "{text}\ntest reaches = check {{ run = sh`{{ask}} {{board.address}} {{board.port}} height moon; ! {{ask}} 127.0.0.1 {port} height moon` }}\n"
        ),
    );
    sandbox.run(&["test", "reaches"]).expect(0);
    // The listener is there: a job, which is not confined, hears from it.
    sandbox.write(
        "targets.nub",
        &format!("{text}\njob asks = effect {{ run = `{{ask}} 127.0.0.1 {port} height moon` }}\n"),
    );
    assert_eq!(sandbox.run(&["run", "asks"]).expect(0).stdout, "9.99\n");
}

#[test]
fn nothing_runs_that_nobody_needs() {
    let sandbox = workspace(FILLED);
    // Only what the request needs is started: the service has printed nothing.
    sandbox.run(&["build", "ask"]).expect(0);
    assert!(!sandbox.exists(".nubrik/serve"));
}

#[test]
fn one_that_does_not_stop_as_it_should_is_told() {
    let sandbox = workspace(
        r#"
service stubborn = serve { run = `{boardd} {self.address} {self.port}`, stop = `sh {in "refuse.sh"}` }
target height = step { run = `{ask} {stubborn.address} {stubborn.port} height moon > {out "height"}` }
"#,
    );
    sandbox.write("refuse.sh", "echo first\necho not today\nexit 3\n");
    let told = sandbox.run(&["build", "--plain"]).expect(0).stdout;
    let expected = "notice    `stop` of the service stubborn exited with code 3; signals ended the service. \
                    It printed: not today";
    assert_eq!(count(&told, expected), 1, "{told}");
    assert_eq!(sandbox.read("out/default/height"), "nothing known\n");
    // The same where someone runs it.
    let mut command = sandbox.command(&["run", "stubborn", "--plain"]);
    let mut child = command
        .stderr(Stdio::piped())
        .stdout(Stdio::null())
        .spawn()
        .unwrap();
    let mut said = BufReader::new(child.stderr.take().unwrap());
    let mut line = String::new();
    while !line.starts_with("serves") {
        line.clear();
        assert!(
            said.read_line(&mut line).unwrap() > 0,
            "it ended before it served"
        );
    }
    signal(&child, rustix::process::Signal::INT);
    let mut rest = String::new();
    said.read_to_string(&mut rest).unwrap();
    assert!(child.wait().unwrap().success());
    assert_eq!(count(&rest, expected), 1, "{rest}");
}
