//! Commands in their confinement, run for real.

#![allow(clippy::unwrap_used)] // A test that panics has failed, which is right.

use std::path::{Path, PathBuf};
use std::time::Duration;

use nubrik_confine::{
    Access, CancelSwitch, Capture, Confinement, Ended, Found, PathUse, PipelineSpec, ProgramStream,
    Recorder, RuleSet, StageSpec, SystemFolders, can_record, run, support,
};
use nubrik_testing::{Need, skip};

fn shell(script: &str) -> StageSpec {
    StageSpec {
        program: PathBuf::from("/bin/sh"),
        words: vec!["sh".into(), "-c".into(), script.into()],
        stdin: None,
        stdout: None,
        stderr: None,
    }
}

struct Fixture {
    folder: tempfile::TempDir,
    cancel: CancelSwitch,
    timeout: Option<Duration>,
    memory: Option<u64>,
}

impl Fixture {
    fn new() -> Self {
        let folder = tempfile::tempdir().unwrap();
        for (path, text) in [("declared", "yes"), ("secret", "no"), ("own/x", "")] {
            let path = folder.path().join(path);
            std::fs::create_dir_all(path.parent().unwrap()).unwrap();
            std::fs::write(path, text).unwrap();
        }
        Fixture {
            folder,
            cancel: CancelSwitch::new().unwrap(),
            timeout: None,
            memory: None,
        }
    }

    fn run(&self, stages: Vec<StageSpec>) -> (Ended, String) {
        self.run_recorded(stages, None)
    }

    fn run_recorded(
        &self,
        stages: Vec<StageSpec>,
        recorder: Option<&Recorder<'_>>,
    ) -> (Ended, String) {
        let root = self.folder.path();
        let rules = RuleSet::new(&SystemFolders::open(root)).unwrap();
        rules.allow(&root.join("declared"), Access::Read).unwrap();
        rules.allow(&root.join("own"), Access::Write).unwrap();
        let environment = [("PATH".to_owned(), "/usr/bin:/bin".to_owned())];
        let spec = PipelineSpec {
            stages,
            folder: root,
            work: root,
            environment: &environment,
            confinement: Confinement::Rules {
                rules: &rules,
                network: false,
                apart: None,
            },
            timeout: self.timeout,
            memory: self.memory,
            recorder,
            attached: false,
        };
        let mut capture = Capture::new(1000);
        let ended = run(&spec, &mut capture, &self.cancel);
        (ended, String::from_utf8(capture.bytes).unwrap())
    }
}

fn has_path_rules() -> bool {
    let has = support().path_rules.is_some();
    if !has {
        skip(Need::Confinement, "this kernel has no path rules");
    }
    has
}

#[test]
fn runs_and_captures_in_order() {
    let (ended, output) = Fixture::new().run(vec![shell("echo a; echo b >&2; echo c")]);
    assert!(matches!(ended, Ended::Well), "{ended:?}");
    assert_eq!(output, "a\nb\nc\n");
}

#[test]
fn pipes_and_redirects() {
    let fixture = Fixture::new();
    let mut last = shell("tr a-z A-Z");
    last.stdout = Some("own/result".into());
    let mut first = shell("cat");
    first.stdin = Some("declared".into());
    let (ended, _) = fixture.run(vec![first, last]);
    assert!(matches!(ended, Ended::Well), "{ended:?}");
    assert_eq!(
        std::fs::read_to_string(fixture.folder.path().join("own/result")).unwrap(),
        "YES"
    );
    let (ended, _) = fixture.run(vec![shell("yes"), shell("head -n 1 >/dev/null")]);
    assert!(matches!(ended, Ended::Well), "{ended:?}");
    let (ended, _) = fixture.run(vec![shell("exit 3"), shell("cat")]);
    assert!(matches!(ended, Ended::Code(3)), "{ended:?}");
}

#[test]
fn refuses_what_is_not_declared() {
    if !has_path_rules() {
        return;
    }
    let fixture = Fixture::new();
    for (script, allowed) in [
        ("cat declared", true),
        ("cat secret", false),
        ("cat ./own/../secret", false),
        ("cat /proc/self/cwd/secret", false),
        ("ls .", false),
        ("echo x > own/y", true),
        ("rm own/x", true),
        ("echo x > new", false),
        ("echo x > declared", false),
        ("ln -s ../secret own/link && cat own/link", false),
        ("ln secret own/hard", false),
        ("mv own/y ./y", false),
        ("cat /etc/passwd > /dev/null", true),
    ] {
        let (ended, output) = fixture.run(vec![shell(script)]);
        assert_eq!(
            matches!(ended, Ended::Well),
            allowed,
            "{script}: {ended:?} {output}"
        );
    }
}

#[test]
fn refuses_sockets() {
    if !support().network_filter || !Path::new("/usr/bin/perl").exists() {
        skip(
            Need::Perl,
            "no system-call filter, or no perl to open a socket with",
        );
        return;
    }
    let script = "exec perl -e 'use Socket; socket(my $s, PF_INET, SOCK_DGRAM, 0) or exit 9'";
    let (ended, output) = Fixture::new().run(vec![shell(script)]);
    assert!(matches!(ended, Ended::Code(9)), "{ended:?} {output}");
}

#[test]
fn output_is_bounded() {
    let (ended, output) = Fixture::new().run(vec![shell("head -c 100000 /dev/zero | tr '\\0' x")]);
    assert!(matches!(ended, Ended::Well), "{ended:?}");
    assert_eq!(output.len(), 1000);
}

#[test]
fn does_not_wait_for_what_was_left_behind() {
    let fixture = Fixture::new();
    let (ended, output) = fixture.run(vec![shell("(sleep 60; echo late) & echo early")]);
    assert!(matches!(ended, Ended::Well), "{ended:?}");
    assert_eq!(output, "early\n");
}

#[test]
fn cancelling_ends_the_tree() {
    let fixture = Fixture::new();
    std::thread::scope(|scope| {
        scope.spawn(|| {
            std::thread::sleep(std::time::Duration::from_millis(200));
            fixture.cancel.throw();
        });
        let (ended, _) = fixture.run(vec![shell("sh -c 'sleep 61; true'; true")]);
        assert!(matches!(ended, Ended::Cancelled), "{ended:?}");
    });
    let (ended, _) = fixture.run(vec![shell("true")]);
    assert!(matches!(ended, Ended::Cancelled), "{ended:?}");
}

#[test]
fn says_what_cannot_be_started() {
    let mut stage = shell("true");
    stage.program = "/nowhere/tool".into();
    let (ended, _) = Fixture::new().run(vec![stage]);
    assert!(matches!(ended, Ended::NotStarted(path, _) if path == Path::new("/nowhere/tool")));
}

#[test]
fn ends_what_takes_too_long_with_all_that_it_started() {
    let fixture = Fixture {
        timeout: Some(Duration::from_millis(200)),
        ..Fixture::new()
    };
    let (ended, output) = fixture.run(vec![shell("echo begun; sleep 60 & sleep 60")]);
    assert!(matches!(ended, Ended::TimedOut), "{ended:?}");
    assert_eq!(output, "begun\n");
    let (ended, _) = fixture.run(vec![shell("exit 0")]);
    assert!(matches!(ended, Ended::Well));
}

#[test]
fn refuses_more_memory_than_allowed() {
    let fixture = Fixture {
        memory: Some(64 << 20),
        ..Fixture::new()
    };
    // The shell doubles a text until it may not.
    let doubling = "x=xxxxxxxxxxxxxxxx; while :; do x=$x$x; done";
    let (ended, _) = fixture.run(vec![shell(doubling)]);
    assert!(!matches!(ended, Ended::Well), "{ended:?}");
    let (ended, _) = fixture.run(vec![shell("x=small")]);
    assert!(matches!(ended, Ended::Well), "{ended:?}");
}

/// What a recorder noted below the fixture's folder.
fn noted(fixture: &Fixture, recorder: &Recorder<'_>) -> Vec<(String, PathUse, Found)> {
    let root = fixture.folder.path().canonicalize().unwrap();
    let inside = recorder.touched().into_iter().filter_map(|t| {
        let path = t.path.strip_prefix(&root).ok()?.to_str()?.to_owned();
        Some((path, t.touch, t.found))
    });
    inside.filter(|(path, ..)| !path.is_empty()).collect()
}

#[test]
fn a_recorder_notes_what_commands_touch() {
    if !can_record() {
        return skip(Need::Confinement, "this kernel cannot record");
    }
    let fixture = Fixture::new();
    let recorder = Recorder::new();
    let script =
        "cat declared; cat secret; test -e nowhere; echo x > own/new; cat /proc/self/cwd/own/x";
    let (ended, output) =
        fixture.run_recorded(vec![shell(script), shell("cat >&2")], Some(&recorder));
    assert!(matches!(ended, Ended::Well), "{ended:?} {output}");
    assert!(output.contains("yes"), "{output}");
    assert_eq!(
        noted(&fixture, &recorder),
        [
            ("declared".to_owned(), PathUse::Read, Found::File),
            ("nowhere".to_owned(), PathUse::LookedUp, Found::Nothing),
            ("own/new".to_owned(), PathUse::Written, Found::Nothing),
            ("own/x".to_owned(), PathUse::Read, Found::File),
            ("secret".to_owned(), PathUse::Read, Found::File),
        ]
    );
    assert!(!recorder.wanted_network());
    let socket = "import socket\ntry: socket.socket()\nexcept OSError: print('refused')";
    if Path::new("/usr/bin/python3").exists() {
        let (_, output) = fixture.run_recorded(
            vec![shell(&format!("python3 -c \"{socket}\""))],
            Some(&recorder),
        );
        assert_eq!(
            (output.trim(), recorder.wanted_network()),
            ("refused", true)
        );
    }
}

#[test]
fn a_recorder_can_hide_what_is_there() {
    if !can_record() {
        return skip(Need::Confinement, "this kernel cannot record");
    }
    let fixture = Fixture::new();
    let secret = fixture.folder.path().canonicalize().unwrap().join("secret");
    let hidden = |path: &Path| path == secret;
    let recorder = Recorder::new().hiding(&hidden);
    let script = "test -e secret && echo there || echo gone; ls -d declared";
    let (_, output) = fixture.run_recorded(vec![shell(script)], Some(&recorder));
    assert_eq!(output, "gone\ndeclared\n");
}

#[test]
fn what_cannot_be_started_is_said_under_a_recorder_too() {
    if !can_record() {
        return skip(Need::Confinement, "this kernel cannot record");
    }
    let mut missing = shell("");
    missing.program = "/nonexistent/program".into();
    let (ended, _) =
        Fixture::new().run_recorded(vec![shell("sleep 9"), missing], Some(&Recorder::new()));
    assert!(matches!(ended, Ended::NotStarted(..)), "{ended:?}");
    // A process that goes on in the background does not hold the recorder.
    let script = "setsid sleep 2 & echo done";
    let (ended, output) = Fixture::new().run_recorded(vec![shell(script)], Some(&Recorder::new()));
    assert!(matches!(ended, Ended::Well), "{ended:?}");
    assert_eq!(output, "done\n");
}

#[test]
fn a_recorder_notes_who_starts_whom_and_what_each_one_uses() {
    if !can_record() {
        return skip(Need::Confinement, "this kernel cannot record");
    }
    let fixture = Fixture::new();
    let root = fixture.folder.path().canonicalize().unwrap();
    let recorder = Recorder::new().noting_programs(&root);
    let script = "cat declared > own/copy; (cd own; sh -c 'tr a-z A-Z < copy > .new; mv .new \"two words\"'); nowhere 2> /dev/null; :";
    let (ended, output) = fixture.run_recorded(vec![shell(script)], Some(&recorder));
    assert!(matches!(ended, Ended::Well), "{ended:?} {output}");
    let programs = recorder.programs();
    let inside = |path: &Path| {
        path.strip_prefix(&root)
            .unwrap()
            .to_str()
            .unwrap()
            .to_owned()
    };
    let told: Vec<String> = programs
        .iter()
        .map(|program| {
            let paths = |used: &[(PathBuf, PathUse)]| -> Vec<String> {
                let opened = used.iter().filter(|(_, touch)| *touch != PathUse::LookedUp);
                opened
                    .map(|(path, touch)| format!("{} {touch:?}", inside(path)))
                    .collect()
            };
            format!(
                "{} by {:?} in {:?}: {}; {}; {}",
                program.words.join("|"),
                program.started_by,
                inside(&program.folder),
                program
                    .streams
                    .iter()
                    .map(|stream| match stream {
                        ProgramStream::File(path) => inside(path),
                        ProgramStream::Pipe(_) => "|".to_owned(),
                        ProgramStream::Other => "-".to_owned(),
                    })
                    .collect::<Vec<_>>()
                    .join(" "),
                paths(&program.used).join(", "),
                program
                    .renamed
                    .iter()
                    .map(|(from, to)| format!("{} → {}", inside(from), inside(to)))
                    .collect::<String>()
            )
        })
        .collect();
    // The shell may become its last command itself, or start it.
    assert_eq!(
        told[1..],
        [
            "cat|declared by Some(0) in \"\": - own/copy |; declared Read; ",
            "sh|-c|tr a-z A-Z < copy > .new; mv .new \"two words\" by Some(0) in \"own\": - | |; own/copy Read, own/.new Written; ",
            "tr|a-z|A-Z by Some(2) in \"own\": own/copy own/.new |; ; ",
            "mv|.new|two words by Some(2) in \"own\": - | |; own/.new Written, own/two words Written; own/.new → own/two words",
        ]
    );
    assert!(
        told[0].starts_with("sh|-c|cat declared") && told[0].contains("by None"),
        "{}",
        told[0]
    );
}
