//! `nubrik demo`

use std::fs;
use std::path::Path;

use nubrik_lang::Wanted;

use super::build::{build_evaluated, exit_of, lock, show};
use super::{CommandResult, open_at, say_wrong};
use crate::arguments::{How, WhichTests};
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, outln};
use crate::ui::paint::Ink;

/// The files of the demo workspace, by path.
const FILES: &[(&str, &str)] = &include!(concat!(env!("OUT_DIR"), "/demo_files.rs"));

pub fn demo(console: Console, folder: &Path) -> CommandResult<Exit> {
    let paint = console.paint(OutputStream::Output);
    unpack(console, folder)?;
    if !console.is_json() {
        let text = format!("{} files in {}", FILES.len(), folder.display());
        outln!(
            console,
            "{}\n",
            super::labelled(paint, Ink::Busy, "unpacked", &text)
        );
    }
    let mut session = open_at(console, folder)?;
    session.let_reach(nubrik_engine::Outreach::Everything);
    let mut workshop = lock(console, &mut session)?;
    let everything = super::patterns(console, &mut workshop, &[])?;
    let patterns = super::wanting(everything.clone(), Wanted::Targets);
    let how = How {
        keep_going: true,
        ..How::default()
    };
    let (_, report) = build_evaluated(
        console,
        &mut workshop,
        &patterns,
        how,
        OutputStream::Output,
        false,
    )?;
    show(console, &report, how, OutputStream::Output);
    let exit = exit_of(&report);
    if exit != Exit::Done {
        return Ok(exit);
    }
    if !console.is_json() {
        outln!(
            console,
            "\n{}\n",
            super::labelled(paint, Ink::Busy, "tests", "nubrik test")
        );
    }
    let tested = super::test::run(
        console,
        &mut workshop,
        &super::wanting(everything, Wanted::Tests),
        how,
        &WhichTests::default(),
        false,
    )?;
    if tested != Exit::Done || console.is_json() {
        return Ok(tested);
    }
    run_tidecast(console, &workshop.workspace.root)?;
    say_what_to_try(console, folder);
    Ok(Exit::Done)
}

/// Runs what was built.
fn run_tidecast(console: Console, root: &Path) -> CommandResult<()> {
    let paint = console.paint(OutputStream::Output);
    let program = root.join("out/default/tide/tidecast");
    let readings = root.join("tide/stations/ardle.csv");
    let shown = "tidecast --day 2031-03-21 tide/stations/ardle.csv";
    outln!(
        console,
        "\n{}",
        super::labelled(paint, Ink::Busy, "runs", shown)
    );
    let output = std::process::Command::new(program)
        .args(["--day", "2031-03-21"])
        .arg(readings)
        .output();
    match output {
        Ok(output) => {
            for line in String::from_utf8_lossy(&output.stdout).lines() {
                outln!(console, "    {line}");
            }
        }
        Err(e) => {
            return Err(say_wrong(
                console,
                Exit::Machine,
                &format!("cannot start tidecast: {e}"),
                &[],
            ));
        }
    }
    Ok(())
}

fn say_what_to_try(console: Console, folder: &Path) {
    let paint = console.paint(OutputStream::Output);
    outln!(console, "\n{}", paint.ink(Ink::Strong, "what to try next"));
    for (command, what) in [
        (format!("cd {}", folder.display()), ""),
        ("nubrik build".into(), "nothing runs: everything is current"),
        (
            "nubrik test".into(),
            "all tests are up to date: nothing they depend on changed",
        ),
        ("nubrik list".into(), "what there is"),
        (
            "nubrik tree almanac/almanac".into(),
            "what the almanac is made from",
        ),
        (
            "touch tide/src/fit.c; nubrik build".into(),
            "nothing runs: the content is the same",
        ),
        (
            "echo >> tide/src/fit.c; nubrik plan".into(),
            "what would run, and why",
        ),
        (
            "nubrik build; nubrik why almanac/almanac".into(),
            "what ran, back to the first cause",
        ),
        (
            "nubrik test".into(),
            "all are still up to date: the object is the same as before",
        ),
        (
            "nubrik run almanac/install".into(),
            "puts it into /tmp/skerrin-almanac",
        ),
        (
            "nubrik run board/height -- ardle".into(),
            "asks a server that is started on demand",
        ),
        ("nubrik options".into(), "what can be set"),
        (
            "nubrik report --pages pages".into(),
            "all of it on pages; the first is pages/index.html",
        ),
        (
            "nubrik build --profile ship".into(),
            "the same with other options, in out/ship",
        ),
    ] {
        outln!(console, "  {:<42}{}", command, paint.ink(Ink::Faint, what));
    }
}

fn unpack(console: Console, folder: &Path) -> CommandResult<()> {
    let taken = fs::read_dir(folder).is_ok_and(|mut entries| entries.next().is_some());
    if taken || folder.is_file() {
        let message = format!("{} is there already, and is not empty", folder.display());
        return Err(say_wrong(
            console,
            Exit::Usage,
            &message,
            &["nubrik demo another-folder"],
        ));
    }
    for (path, text) in FILES {
        let path = folder.join(path);
        let written = path
            .parent()
            .map_or(Ok(()), fs::create_dir_all)
            .and_then(|()| fs::write(&path, text));
        written.map_err(|e| {
            say_wrong(
                console,
                Exit::Own,
                &format!("cannot write {}: {e}", path.display()),
                &[],
            )
        })?;
    }
    Ok(())
}
