//! Commands in sandboxes, run for real: what they see, and what they cannot do.

#![allow(clippy::unwrap_used)] // A test that panics has failed, which is right.

use std::cell::RefCell;
use std::fs;
use std::os::unix::fs::{PermissionsExt, symlink};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use nubrik_confine::{
    CancelSwitch, Capture, CommonPlaces, Confinement, Ended, PipelineSpec, ROOT, Reach, Sandbox,
    SandboxKind, SandboxPlace, Sandboxes, StageSpec, run,
};
use nubrik_testing::{Need, skip};

/// A workspace with files that are declared, and others.
struct Fixture {
    folder: tempfile::TempDir,
    sandboxes: Sandboxes,
}

const STEP: SandboxKind = SandboxKind {
    own_processes: true,
    own_memory: false,
};

fn fixture() -> Option<Fixture> {
    let folder = tempfile::Builder::new()
        .prefix("nubrik-sandboxes")
        .tempdir()
        .unwrap();
    let at = folder.path().join("work");
    for (path, text) in [
        ("src/declared", "yes"),
        ("src/secret", "no"),
        ("own/x", ""),
        ("whole/a", "a"),
        ("whole/b/c", "c"),
    ] {
        let path = at.join(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, text).unwrap();
    }
    fs::write(folder.path().join("outside"), "outside").unwrap();
    match Sandboxes::new(&at.canonicalize().unwrap()) {
        Ok(sandboxes) => Some(Fixture { folder, sandboxes }),
        Err(e) => {
            skip(Need::Confinement, format_args!("no sandboxes: {e}"));
            None
        }
    }
}

fn shell(script: &str) -> StageSpec {
    StageSpec {
        program: PathBuf::from("/bin/sh"),
        words: vec!["sh".into(), "-c".into(), script.into()],
        stdin: None,
        stdout: None,
        stderr: None,
    }
}

impl Fixture {
    fn work(&self) -> PathBuf {
        self.folder.path().join("work")
    }

    fn places(&self) -> Vec<SandboxPlace<'static>> {
        vec![
            SandboxPlace::File("src/declared"),
            SandboxPlace::File("src/gone"),
            SandboxPlace::Folder("whole"),
            SandboxPlace::File("whole/a"),
            SandboxPlace::File("whole/gone"),
            SandboxPlace::Empty("whole/none"),
            SandboxPlace::Link("link", "src/declared"),
            SandboxPlace::Empty("empty"),
            SandboxPlace::Own("own"),
        ]
    }

    fn sandbox(&self) -> Sandbox {
        self.sandboxes
            .sandbox((None, &self.places()), STEP)
            .unwrap()
    }

    fn run_in(&self, sandbox: &Sandbox, stages: Vec<StageSpec>) -> (Ended, String) {
        let environment = [("PATH".to_owned(), "/usr/local/bin:/usr/bin:/bin".to_owned())];
        let spec = PipelineSpec {
            stages,
            folder: Path::new(ROOT),
            work: Path::new(""),
            environment: &environment,
            confinement: Confinement::Sandbox {
                sandbox,
                network: Reach::Loopback,
            },
            timeout: Some(Duration::from_secs(20)),
            memory: None,
            recorder: None,
            attached: false,
        };
        let mut capture = Capture::new(10_000);
        let ended = run(&spec, &mut capture, &CancelSwitch::new().unwrap());
        (ended, String::from_utf8_lossy(&capture.bytes).into_owned())
    }

    fn says(&self, script: &str) -> String {
        let (ended, output) = self.run_in(&self.sandbox(), vec![shell(script)]);
        format!(
            "{output}{}",
            if matches!(ended, Ended::Well) {
                ""
            } else {
                "failed"
            }
        )
    }
}

#[test]
fn a_sandbox_shows_what_was_put_there_and_nothing_else() {
    let Some(fixture) = fixture() else { return };
    for (script, said) in [
        ("pwd", "/nubrik\n"),
        (
            "find . | LC_ALL=C sort | tr '\\n' ' '",
            ". ./empty ./link ./own ./own/x ./src ./src/declared ./whole ./whole/a ./whole/b ./whole/b/c ",
        ),
        ("cat src/declared link whole/b/c", "yesyesc"),
        ("test -e src/secret || echo no", "no\n"),
        ("test -e src/gone || echo no", "no\n"),
        (
            "ls /tmp /tmp/own /tmp/home",
            "/tmp:\nhome\nown\nshm\n\n/tmp/home:\n\n/tmp/own:\n",
        ),
        ("ls / | grep -c -e home -e root -e nubrik -e srv", "1\n"),
        ("id -u; hostname", "65534\nnubrik\n"),
        (
            "echo $$; test $(ls -d /proc/[0-9]* | wc -l) -lt 9 && echo few",
            "2\nfew\n",
        ),
    ] {
        assert_eq!(fixture.says(script), said, "{script}");
    }
    assert!(
        !fixture.work().join("whole/gone").exists() && !fixture.work().join("whole/none").exists()
    );
    let outside = fixture.folder.path().join("outside");
    assert!(
        fixture
            .says(&format!("cat {}", outside.display()))
            .ends_with("failed")
    );
    assert!(
        fixture
            .says(&format!("cat {}/src/declared", fixture.work().display()))
            .ends_with("failed")
    );
}

#[test]
fn only_a_sandboxes_own_folder_can_be_changed() {
    let Some(fixture) = fixture() else { return };
    for (script, works) in [
        ("echo x > own/new", true),
        ("rm own/x", true),
        (
            "echo x > /tmp/own/new; echo x > /dev/shm/new; echo x > /var/tmp/new",
            true,
        ),
        ("echo x > src/declared", false),
        ("echo x > src/new", false),
        ("chmod 755 src/declared", false),
        ("touch -d 2001-01-01 src/declared", false),
        ("mv src/declared own/taken", false),
        ("ln src/declared own/hard", false),
        ("mkdir new", false),
        ("echo x > empty/new", false),
        ("echo x > whole/b/new", false),
        ("chmod 4755 own/new", false),
        ("echo x > /usr/new", false),
        ("echo 1 > /proc/sys/kernel/randomize_va_space", false),
        ("mount -t tmpfs none own", false),
        ("umount /nubrik", false),
    ] {
        let (ended, output) = fixture.run_in(
            &fixture.sandbox(),
            vec![shell(&format!("exec 2>&1; {script}"))],
        );
        assert_eq!(
            matches!(ended, Ended::Well),
            works,
            "{script}: {ended:?} {output}"
        );
    }
    assert_eq!(
        fs::read_to_string(fixture.work().join("own/new")).unwrap(),
        "x\n"
    );
    assert_eq!(
        fs::read_to_string(fixture.work().join("src/declared")).unwrap(),
        "yes"
    );
}

#[test]
fn a_new_user_in_a_sandbox_gains_nothing() {
    let Some(fixture) = fixture() else { return };
    for script in [
        "unshare -rm sh -c 'mount -o remount,rw /nubrik && echo x > src/declared'",
        "unshare -rm sh -c 'umount /.in && ls /.in'",
        "unshare -rm sh -c 'umount -R /nubrik && ls /nubrik/src/secret'",
        "unshare -rm sh -c 'mount --bind /.in/workspace own && cat own/src/secret'",
        "unshare -rmp --fork sh -c 'cat /.in/workspace/src/secret'",
        "nsenter -t 1 -m cat /.in/workspace/src/secret",
        "cat /proc/1/root/.in/workspace/src/secret",
        "cat /proc/1/environ",
        "cat /proc/1/mem",
        "kill -9 1 && sleep 1 && kill -0 1 && exit 1",
    ] {
        let (ended, output) = fixture.run_in(
            &fixture.sandbox(),
            vec![shell(&format!("exec 2>&1; {script}"))],
        );
        let holds =
            !matches!(ended, Ended::Well) && !output.contains("no\n") && !output.starts_with("no");
        assert!(holds, "{script}: {ended:?} {output}");
    }
    assert_eq!(
        fs::read_to_string(fixture.work().join("src/declared")).unwrap(),
        "yes"
    );
}

#[test]
fn redirects_lead_no_further_than_the_command_could() {
    let Some(fixture) = fixture() else { return };
    let outside = fixture.folder.path().join("outside");
    fs::set_permissions(&outside, fs::Permissions::from_mode(0o666)).unwrap();
    symlink(&outside, fixture.work().join("own/link")).unwrap();
    let redirect = |stdin: Option<&str>, stdout: Option<&str>| {
        let stage = StageSpec {
            stdin: stdin.map(Into::into),
            stdout: stdout.map(Into::into),
            ..shell("cat")
        };
        fixture.run_in(&fixture.sandbox(), vec![stage])
    };
    assert!(
        matches!(redirect(None, Some("own/link")).0, Ended::NotStarted(path, _) if path == Path::new("own/link"))
    );
    assert!(matches!(
        redirect(Some("own/link"), None).0,
        Ended::NotStarted(..)
    ));
    assert_eq!(fs::read_to_string(&outside).unwrap(), "outside");
    let (ended, output) = redirect(Some("src/declared"), Some("own/result"));
    assert!(matches!(ended, Ended::Well), "{output}");
    assert_eq!(
        fs::read_to_string(fixture.work().join("own/result")).unwrap(),
        "yes"
    );
    assert!(matches!(
        redirect(None, Some("src/declared")).0,
        Ended::NotStarted(..)
    ));
    // Nobody ever opens the other end.
    let made = std::process::Command::new("mkfifo")
        .arg(fixture.work().join("own/pipe"))
        .status()
        .unwrap();
    assert!(made.success());
    assert!(matches!(
        redirect(Some("own/pipe"), None).0,
        Ended::NotStarted(..)
    ));
    assert!(matches!(
        redirect(None, Some("own/pipe")).0,
        Ended::NotStarted(..)
    ));
}

#[test]
fn what_is_left_behind_ends_with_the_sandbox() {
    let Some(fixture) = fixture() else { return };
    let sandbox = fixture.sandbox();
    let (ended, _) = fixture.run_in(
        &sandbox,
        vec![shell(
            "setsid sh -c 'sleep 0.4; echo late > own/late' >/dev/null 2>&1 &",
        )],
    );
    assert!(matches!(ended, Ended::Well), "{ended:?}");
    drop(sandbox);
    std::thread::sleep(Duration::from_millis(600));
    assert!(!fixture.work().join("own/late").exists());
    // Commands of one sandbox find what the one before left running.
    let sandbox = fixture.sandbox();
    let (ended, _) = fixture.run_in(
        &sandbox,
        vec![shell(
            "setsid sleep 30 >/dev/null 2>&1 & echo $! > own/pid; sleep 0.3",
        )],
    );
    assert!(matches!(ended, Ended::Well), "{ended:?}");
    let (ended, output) = fixture.run_in(&sandbox, vec![shell("kill -0 $(cat own/pid)")]);
    assert!(matches!(ended, Ended::Well), "{ended:?} {output}");
}

#[test]
fn pipelines_and_signals_work_as_elsewhere() {
    let Some(fixture) = fixture() else { return };
    let sandbox = fixture.sandbox();
    let (ended, output) =
        fixture.run_in(&sandbox, vec![shell("echo a; echo b"), shell("tr a-z A-Z")]);
    assert!(matches!(ended, Ended::Well), "{ended:?}");
    assert_eq!(output, "A\nB\n");
    let (ended, _) = fixture.run_in(&sandbox, vec![shell("yes"), shell("head -n 1 > /dev/null")]);
    assert!(matches!(ended, Ended::Well), "{ended:?}");
    let (ended, _) = fixture.run_in(&sandbox, vec![shell("exit 3"), shell("cat")]);
    assert!(matches!(ended, Ended::Code(3)), "{ended:?}");
    let (ended, _) = fixture.run_in(&sandbox, vec![shell("kill -TERM $$")]);
    assert!(matches!(ended, Ended::Signal(15)), "{ended:?}");
    let (ended, _) = fixture.run_in(&sandbox, vec![shell("kill -ABRT $$")]);
    assert!(matches!(ended, Ended::Signal(6)), "{ended:?}");
    let mut missing = shell("");
    missing.program = "/nowhere/tool".into();
    let (ended, _) = fixture.run_in(&sandbox, vec![shell("sleep 9"), missing]);
    assert!(matches!(ended, Ended::NotStarted(path, _) if path == Path::new("/nowhere/tool")));
}

#[test]
fn files_of_the_machine_are_seen_where_they_are() {
    let Some(fixture) = fixture() else { return };
    let tools = fixture.folder.path().join("tools/bin");
    fs::create_dir_all(&tools).unwrap();
    fs::write(tools.join("gauge"), "#!/bin/sh\necho high\n").unwrap();
    fs::set_permissions(tools.join("gauge"), fs::Permissions::from_mode(0o755)).unwrap();
    let gauge = tools.join("gauge");
    let outside = fixture.folder.path().join("outside");
    let mut places = fixture.places();
    places.extend([
        SandboxPlace::Machine(&tools),
        SandboxPlace::Outside("ext/data", &outside),
    ]);
    for _ in 0..2 {
        let sandbox = fixture.sandboxes.sandbox((None, &places), STEP).unwrap();
        let script = format!(
            "{}; cat ext/data; echo; touch {}/new || echo no",
            gauge.display(),
            tools.display()
        );
        let (ended, output) = fixture.run_in(
            &sandbox,
            vec![shell(&format!("exec 2>/dev/null; {script}"))],
        );
        assert!(matches!(ended, Ended::Well), "{ended:?}");
        assert_eq!(output, "high\noutside\nno\n");
    }
    // Those who do not take them do not see them.
    assert!(
        fixture
            .says(&format!("exec 2>/dev/null; {}", gauge.display()))
            .ends_with("failed")
    );
}

#[test]
fn sandboxes_have_networks_of_their_own_where_they_want_them() {
    let Some(fixture) = fixture() else { return };
    if !Path::new("/usr/bin/python3").exists() {
        return skip(Need::Python, "no python3 to open sockets with");
    }
    let sandbox = RefCell::new(Some(fixture.sandbox()));
    let in_network = |network: Reach<'_>, script: &str| {
        let sandbox = sandbox.borrow();
        let Some(sandbox) = &*sandbox else {
            panic!("a sandbox is there between two commands")
        };
        let environment = [("PATH".to_owned(), "/usr/bin:/bin".to_owned())];
        let stage = StageSpec {
            program: "/usr/bin/python3".into(),
            words: vec!["python3".into(), "-c".into(), script.into()],
            stdin: None,
            stdout: None,
            stderr: None,
        };
        let spec = PipelineSpec {
            stages: vec![stage],
            folder: Path::new(ROOT),
            work: Path::new(""),
            environment: &environment,
            confinement: Confinement::Sandbox { sandbox, network },
            timeout: Some(Duration::from_secs(20)),
            memory: None,
            recorder: None,
            attached: false,
        };
        let mut capture = Capture::new(10_000);
        let ended = run(&spec, &mut capture, &CancelSwitch::new().unwrap());
        (
            matches!(ended, Ended::Well),
            String::from_utf8_lossy(&capture.bytes).into_owned(),
        )
    };
    let connects = "import socket; s = socket.socket(); s.bind(('127.3.4.5', 20001)); s.listen(); \
                    c = socket.create_connection(('127.3.4.5', 20001)); print('connected')";
    let own = fixture.sandboxes.network().unwrap();
    assert_eq!(
        in_network(Reach::Own(&own), connects),
        (true, "connected\n".to_owned())
    );
    // The end that hangs up first keeps the port for a minute; who comes after finds nothing of
    // that.
    let hangs_up = format!("{connects}; a = s.accept()[0]; a.close(); c.close()");
    for _ in 0..2 {
        assert_eq!(
            in_network(Reach::Loopback, &hangs_up),
            (true, "connected\n".to_owned())
        );
        let used = sandbox.take().unwrap();
        assert_eq!(fixture.sandboxes.put_back(used), 0);
        sandbox.replace(Some(fixture.sandbox()));
    }
    // Only TCP, UDP and questions about routes: family, kind and protocol of each. Of other
    // questions to the kernel it is said that there is no such protocol.
    let refused = "import socket\nfor of in ((16, 3, 16), (16, 3, 12), (2, 3, 1), (2, 2, 1), (2, 1, 132), (2, 1, 262), (10, 1, 132)):\n  \
                   try: socket.socket(*of); print('let', of)\n  except OSError as e: assert e.errno == (93 if of[0] == 16 else 13), (of, e)\n\
                   for family, level in ((2, 0), (10, 41)):\n  \
                   try: socket.socket(family).setsockopt(level, 64, b'x' * 96); print('let', level)\n  \
                   except OSError as e: assert e.errno == 13, (level, e)\n\
                   for of in ((2, 1, 0), (2, 2, 17), (10, 1, 6), (16, 3, 0)): socket.socket(*of)";
    assert_eq!(in_network(Reach::Loopback, refused), (true, String::new()));
    let sent = "print(open('/proc/net/dev').read().split('lo:')[1].split()[0])";
    assert_eq!(in_network(Reach::Loopback, sent), (true, "0\n".to_owned()));
    assert!(
        !in_network(
            Reach::Own(&own),
            "import socket; socket.socket(socket.AF_UNIX)"
        )
        .0
    );
    // Devices are the machine's: nobody changes them, the superuser's steps neither.
    let changes = "import os\nfor d in ('null', 'zero', 'full', 'random', 'urandom'):\n  for f in (os.open('/dev/' + d, os.O_RDONLY), 0):\n    \
                   try: os.fchmod(f, 0o600); print('changed', d)\n    except OSError: pass\nopen('/dev/null', 'w').write('x')";
    assert_eq!(in_network(Reach::Loopback, changes), (true, String::new()));
    let listens = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listens.local_addr().unwrap().port();
    // Who has no network learns nothing of the machine's, either.
    let looks = format!(
        "print(':{port:04X} ' in open('/proc/net/tcp').read(), len(open('/proc/net/unix').readlines()))"
    );
    assert_eq!(
        in_network(Reach::Loopback, &looks),
        (true, "False 1\n".to_owned())
    );
    assert!(in_network(Reach::Machine, &looks).1.starts_with("True "));
    let reaches = format!("import socket; socket.create_connection(('127.0.0.1', {port}))");
    assert!(!in_network(Reach::Own(&own), &reaches).0);
    assert!(in_network(Reach::Machine, &reaches).0);
    let nobody = fixture.sandboxes.answers(
        &own,
        "127.3.4.5".parse().unwrap(),
        20002,
        Duration::from_millis(200),
    );
    assert!(!nobody.unwrap());
}

/// Numbers that look random and are the same each time.
struct Dice(u64);

impl Dice {
    fn roll(&mut self, sides: usize) -> usize {
        self.0 = self
            .0
            .wrapping_mul(6_364_136_223_846_793_005)
            .wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) as usize % sides
    }
}

/// What a sandbox is to show of some places, as `find` tells it: each path with its kind.
fn expected(places: &[SandboxPlace<'_>], work: &Path) -> String {
    let mut seen: std::collections::BTreeMap<String, char> = std::collections::BTreeMap::new();
    let mut add = |path: &str, kind: char| {
        for (at, _) in path.match_indices('/') {
            seen.insert(path[..at].to_owned(), 'd');
        }
        seen.insert(path.to_owned(), kind);
    };
    let whole: Vec<&str> = places
        .iter()
        .filter_map(|p| {
            if let SandboxPlace::Folder(path) = p {
                Some(*path)
            } else {
                None
            }
        })
        .collect();
    for place in places {
        let covered = |path: &str| {
            whole
                .iter()
                .any(|folder| path.starts_with(&format!("{folder}/")))
        };
        match *place {
            SandboxPlace::File(path) if work.join(path).is_file() && !covered(path) => {
                add(path, 'f')
            }
            SandboxPlace::Link(path, _) if !covered(path) => add(path, 'l'),
            SandboxPlace::Empty(path) if !covered(path) => add(path, 'd'),
            SandboxPlace::Folder(folder) | SandboxPlace::Own(folder)
                if work.join(folder).is_dir() =>
            {
                add(folder, 'd');
                for file in ["a", "b/c", "d", "e"]
                    .iter()
                    .filter(|file| work.join(folder).join(file).is_file())
                {
                    add(&format!("{folder}/{file}"), 'f');
                }
            }
            _ => {}
        }
    }
    seen.iter()
        .map(|(path, kind)| format!("{kind} {path}\n"))
        .collect()
}

/// Three folders with the same four names in each.
fn fill(work: &Path) {
    for name in ["one", "two", "three"] {
        fs::create_dir_all(work.join(name).join("b")).unwrap();
        for file in ["a", "b/c", "d", "e"] {
            fs::write(work.join(name).join(file), format!("{name}/{file}")).unwrap();
        }
    }
}

#[test]
fn a_sandbox_that_is_used_again_shows_what_a_new_one_would() {
    let Some(fixture) = fixture() else { return };
    let work = fixture.work();
    fill(&work);
    for name in ["one", "two", "three"] {
        fs::remove_file(work.join(name).join("d")).unwrap();
    }
    for own in ["own1", "deep/own2"] {
        fs::create_dir_all(work.join(own)).unwrap();
    }
    let choices = [
        SandboxPlace::File("one/a"),
        SandboxPlace::File("one/b/c"),
        SandboxPlace::File("one/d"),
        SandboxPlace::File("two/a"),
        SandboxPlace::File("two/e"),
        SandboxPlace::Folder("two"),
        SandboxPlace::Folder("three"),
        SandboxPlace::Link("one/l", "a"),
        SandboxPlace::Link("link", "one"),
        SandboxPlace::Empty("empty/deep"),
        SandboxPlace::Empty("one/b/empty"),
        SandboxPlace::File("src/declared"),
    ];
    let mut dice = Dice(2031);
    for round in 0..120 {
        let mut places: Vec<SandboxPlace<'_>> =
            choices.into_iter().filter(|_| dice.roll(2) == 0).collect();
        places.push(SandboxPlace::Own(if dice.roll(2) == 0 {
            "own1"
        } else {
            "deep/own2"
        }));
        match dice.roll(6) {
            // Another file in its place, in the way of editors.
            0 => {
                fs::write(work.join("new"), format!("edited {round}")).unwrap();
                fs::rename(work.join("new"), work.join("one/a")).unwrap();
            }
            1 if work.join("one/d").exists() => fs::remove_file(work.join("one/d")).unwrap(),
            1 => fs::write(work.join("one/d"), "d").unwrap(),
            _ => {}
        }
        let sandbox = fixture.sandboxes.sandbox((None, &places), STEP).unwrap();
        let leaves = if dice.roll(3) == 0 {
            "echo x > /tmp/own/left; chmod 700 /tmp/home;"
        } else {
            ""
        };
        let script = format!(
            "stat -c '%a %n' /tmp /tmp/* >&2; find . -mindepth 1 -printf '%y %P\n' | LC_ALL=C sort -k 2; \
             test ! -e one/a || cat one/a >&2; {leaves}"
        );
        let environment = [("PATH".to_owned(), "/usr/bin:/bin".to_owned())];
        let spec = PipelineSpec {
            stages: vec![shell(&script)],
            folder: Path::new(ROOT),
            work: Path::new(""),
            environment: &environment,
            confinement: Confinement::Sandbox {
                sandbox: &sandbox,
                network: Reach::Loopback,
            },
            timeout: None,
            memory: None,
            recorder: None,
            attached: false,
        };
        let mut capture = Capture::with_errors_apart(10_000);
        let ended = run(&spec, &mut capture, &CancelSwitch::new().unwrap());
        assert!(
            matches!(ended, Ended::Well),
            "{round}: {ended:?} {places:?}"
        );
        assert_eq!(
            String::from_utf8(capture.bytes).unwrap(),
            expected(&places, &work),
            "{round}: {places:?}"
        );
        let told = String::from_utf8(capture.errors.unwrap()).unwrap();
        let shows_a = places.contains(&SandboxPlace::File("one/a"));
        let a = if shows_a {
            fs::read_to_string(work.join("one/a")).unwrap()
        } else {
            String::new()
        };
        let temporary = "1777 /tmp\n755 /tmp/home\n755 /tmp/own\n755 /tmp/shm\n";
        assert_eq!(told, format!("{temporary}{a}"), "{round}");
        assert_eq!(fixture.sandboxes.put_back(sandbox), 0);
    }
    // Nothing was made in the workspace on the way.
    assert!(
        !work.join("one/l").exists()
            && !work.join("empty").exists()
            && !work.join("two/d").exists()
    );
}

#[test]
fn what_many_sandboxes_show_is_as_it_is_when_each_begins() {
    let Some(fixture) = fixture() else { return };
    let work = fixture.work();
    fill(&work);
    fs::create_dir_all(work.join("own1")).unwrap();
    // Folders that changed a moment ago are looked at each time; these are remembered.
    std::thread::sleep(Duration::from_millis(3_200));
    let common = |files: &[&str], folders: &[&str], links: &[(&str, &str)]| {
        let all = |paths: &[&str]| paths.iter().map(|path| Arc::from(*path)).collect();
        CommonPlaces::new(
            all(files),
            all(folders),
            links
                .iter()
                .map(|(at, to)| (Arc::from(*at), Arc::from(*to)))
                .collect(),
        )
    };
    let many = [
        common(&["two/a", "two/e", "three/b/c"], &[], &[("link", "two")]),
        common(&["two/a", "one/a", "one/gone"], &["three"], &[]),
        common(&["two/b/c", "two/d"], &[], &[]),
    ];
    let own = [
        SandboxPlace::File("one/b/c"),
        SandboxPlace::File("two/a"),
        SandboxPlace::File("three/d"),
        SandboxPlace::Folder("three"),
        SandboxPlace::Folder("two"),
        SandboxPlace::Empty("three/none"),
        SandboxPlace::Empty("two/none"),
        SandboxPlace::Link("one/l", "a"),
    ];
    let mut dice = Dice(77);
    for round in 0..160 {
        let mut places: Vec<SandboxPlace<'_>> =
            own.into_iter().filter(|_| dice.roll(4) == 0).collect();
        places.push(SandboxPlace::Own("own1"));
        let common = match dice.roll(4) {
            3 => None,
            which => Some(&many[which]),
        };
        match dice.roll(10) {
            0 => {
                fs::write(work.join("new"), format!("edited {round}")).unwrap();
                fs::rename(work.join("new"), work.join("two/a")).unwrap();
            }
            1 if work.join("two/d").exists() => fs::remove_file(work.join("two/d")).unwrap(),
            1 => fs::write(work.join("two/d"), "d").unwrap(),
            _ => {}
        }
        let all: Vec<SandboxPlace<'_>> = common
            .into_iter()
            .flat_map(|common| common.places())
            .chain(places.iter().copied())
            .collect();
        let sandbox = fixture.sandboxes.sandbox((common, &places), STEP).unwrap();
        let script = "find . -mindepth 1 -printf '%y %P\n' | LC_ALL=C sort -k 2; test ! -e two/a || cat two/a";
        let (ended, output) = fixture.run_in(&sandbox, vec![shell(script)]);
        assert!(matches!(ended, Ended::Well), "{round}: {ended:?} {output}");
        let shows_a = all
            .iter()
            .any(|p| matches!(p, SandboxPlace::File("two/a") | SandboxPlace::Folder("two")));
        let a = if shows_a {
            fs::read_to_string(work.join("two/a")).unwrap()
        } else {
            String::new()
        };
        assert_eq!(
            output,
            format!("{}{a}", expected(&all, &work)),
            "{round}: {all:?}"
        );
        assert_eq!(fixture.sandboxes.put_back(sandbox), 0);
    }
}

#[test]
fn a_sandbox_in_which_something_runs_is_not_used_again() {
    let Some(fixture) = fixture() else { return };
    for (left, count) in [
        (":", 0),
        ("setsid sleep 30 > /dev/null 2>&1 & sleep 0.1", 1),
        (
            "setsid sh -c 'sleep 30 & sleep 31 & wait' > /dev/null 2>&1 & sleep 0.1",
            3,
        ),
        // What is about to end is given its moment.
        ("setsid sleep 0.105 > /dev/null 2>&1 & sleep 0.1", 0),
    ] {
        let sandbox = fixture.sandbox();
        fixture.run_in(&sandbox, vec![shell(left)]);
        assert_eq!(fixture.sandboxes.put_back(sandbox), count, "{left}");
    }
}

/// The processes whose parent is this one, which have not ended.
fn children() -> Vec<i32> {
    let processes = fs::read_dir("/proc").unwrap().flatten();
    let ids = processes.filter_map(|entry| entry.file_name().to_str()?.parse::<i32>().ok());
    let is_child = |id: &i32| {
        let stat = fs::read_to_string(format!("/proc/{id}/stat")).unwrap_or_default();
        let after = stat
            .rsplit_once(')')
            .map(|(_, rest)| rest.split_whitespace().collect::<Vec<_>>());
        after.is_some_and(|words| words[0] != "Z" && words[1] == std::process::id().to_string())
    };
    ids.filter(is_child).collect()
}

/// Runs by itself, since it ends all children of this program.
#[test]
fn helpers_that_are_killed_leave_nothing_that_a_sandbox_waits_for() {
    const ALONE: &str = "NUBRIK_TEST_ALONE";
    if std::env::var_os(ALONE).is_none() {
        let name = "helpers_that_are_killed_leave_nothing_that_a_sandbox_waits_for";
        let mut alone = std::process::Command::new(std::env::current_exe().unwrap());
        let alone = alone
            .args(["--exact", name, "--nocapture"])
            .env(ALONE, "1")
            .spawn()
            .unwrap();
        let ended = wait_within(alone, Duration::from_secs(40));
        assert!(ended.is_some_and(|status| status.success()), "{ended:?}");
        return;
    }
    let Some(fixture) = fixture() else { return };
    let sandbox = fixture.sandbox();
    // A process that has not begun yet: its program is lent to somebody who does not give it back.
    let program = fixture.work().join("src/declared");
    fs::write(&program, "#!/bin/sh\n").unwrap();
    fs::set_permissions(&program, fs::Permissions::from_mode(0o755)).unwrap();
    let mut holder = std::process::Command::new("python3");
    let holder = holder
        .args(["-c", LEASE])
        .arg(&program)
        .stdout(std::process::Stdio::piped())
        .spawn();
    let Ok(mut holder) = holder else {
        skip(Need::Python, "helpers that are killed");
        return;
    };
    let mut said = [0];
    std::io::Read::read_exact(holder.stdout.as_mut().unwrap(), &mut said).unwrap();
    let before = children();
    std::thread::scope(|scope| {
        let run = scope.spawn(|| {
            let program = Path::new(ROOT).join("src/declared");
            fixture
                .run_in(
                    &sandbox,
                    vec![StageSpec {
                        program,
                        ..shell("")
                    }],
                )
                .0
        });
        let started = || {
            children()
                .into_iter()
                .filter(|id| !before.contains(id))
                .collect::<Vec<_>>()
        };
        while started().len() < 2 && !run.is_finished() {
            std::thread::sleep(Duration::from_millis(2));
        }
        // The helper is the older one of the two.
        let helper = started().into_iter().min().unwrap();
        let kill = std::process::Command::new("kill")
            .args(["-9", &helper.to_string()])
            .status();
        assert!(kill.unwrap().success());
        let ended = run.join().unwrap();
        assert!(matches!(ended, Ended::NotStarted(..)), "{ended:?}");
    });
    assert_eq!(children(), before);
    holder.kill().unwrap();
    holder.wait().unwrap();
    // It waits for all that is in it.
    drop(sandbox);
}

/// Takes a file so that whoever opens it waits, and says so.
const LEASE: &str = "\
import fcntl, os, signal, sys, time
signal.signal(signal.SIGIO, signal.SIG_IGN)
fcntl.fcntl(os.open(sys.argv[1], os.O_RDWR), fcntl.F_SETLEASE, fcntl.F_WRLCK)
print('x', flush=True)
time.sleep(60)
";

fn wait_within(
    mut child: std::process::Child,
    patience: Duration,
) -> Option<std::process::ExitStatus> {
    let began = std::time::Instant::now();
    while began.elapsed() < patience {
        if let Some(status) = child.try_wait().unwrap() {
            return Some(status);
        }
        std::thread::sleep(Duration::from_millis(20));
    }
    child.kill().unwrap();
    None
}
