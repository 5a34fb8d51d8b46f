//! `nubrik explore`: pages about a workspace, served on this machine or written as files.

use std::io::{Read, Write};
use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::Arc;

use nubrik_answers::{ExplorerEvent, WrittenEvent};
use nubrik_confine::CancelSwitch;
use nubrik_explorer::{NotWritten, PageServer, PagesFor, Site, everything};
use nubrik_session::Session;

use super::{CommandResult, all_topics, labelled, open, say_wrong};
use crate::arguments::Choice;
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, errln, outln};
use crate::ui::paint::Ink;

/// Serves pages until it is stopped.
pub fn explore(console: Console, choice: &Choice, port: u16, opens: bool) -> CommandResult<Exit> {
    let session = open(console, choice)?;
    serve(console, choice, session, port, opens)
}

/// The program that opens a file as the desktop does.
const OPENER: &str = "xdg-open";

/// Shows the first page in a browser. Its address holds the token, and all users of a machine see
/// the arguments of programs: the browser opens a file that leads there, which only this user can
/// read. Gives the file, which is removed in the end.
fn show_first(console: Console, address: &str) -> Option<tempfile::NamedTempFile> {
    let wrong = |problem: &std::io::Error| {
        let text = format!("no browser could be started: {OPENER}: {problem}");
        errln!(
            console,
            "{}",
            labelled(
                console.paint(OutputStream::Error),
                Ink::Doubt,
                "notice",
                &text
            )
        );
    };
    let made = tempfile::Builder::new()
        .prefix("nubrik-explore-")
        .suffix(".html")
        .tempfile();
    let started = made.and_then(|mut file| {
        writeln!(
            file,
            "<!doctype html><meta http-equiv=\"refresh\" content=\"0; url={address}\">"
        )?;
        let mut opener = Command::new(OPENER);
        opener
            .arg(file.path())
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::null());
        let mut opener = opener.spawn()?;
        // It ends at once, or stays as long as its browser.
        std::thread::spawn(move || opener.wait());
        Ok(file)
    });
    started.inspect_err(wrong).ok()
}

/// Writes all pages to a folder.
pub fn write(console: Console, session: Session, folder: &Path) -> CommandResult<Exit> {
    let site = Site::of(
        session,
        |s| super::as_far_as_known(console, s, everything),
        all_topics(),
        PagesFor::Written,
    );
    let pages = site.write(folder).map_err(|problem| match problem {
        NotWritten::Occupied => {
            let message = format!(
                "{} holds something that is no copy of these pages",
                folder.display()
            );
            say_wrong(
                console,
                Exit::Usage,
                &message,
                &["name a folder that is new or empty"],
            )
        }
        NotWritten::Problem(path, e) => say_wrong(
            console,
            Exit::Own,
            &format!("cannot write {}: {e}", path.display()),
            &[],
        ),
    })?;
    let first = folder.join("index.html").display().to_string();
    if console.is_json() {
        console.event(&WrittenEvent::of(&first, pages));
    } else {
        let paint = console.paint(OutputStream::Output);
        let text = format!("{pages} pages; the first one is {first}");
        outln!(console, "{}", labelled(paint, Ink::Found, "written", &text));
    }
    Ok(Exit::Done)
}

fn serve(
    console: Console,
    choice: &Choice,
    session: Session,
    port: u16,
    opens: bool,
) -> CommandResult<Exit> {
    let wrong =
        |message: String, mends: &[&str]| say_wrong(console, Exit::Machine, &message, mends);
    let root = session.workspace.root.clone();
    let cancel = crate::interrupt::cancel_switch()
        .map_err(|e| wrong(format!("cannot listen for signals: {e}"), &[]))?;
    // Builds look for the explorer in the tool's own folder.
    if session.workspace.make_folders().is_err() {
        return Err(wrong(
            format!("cannot write in {}", root.display()),
            &["nubrik report --pages FOLDER"],
        ));
    }
    let _watcher = super::watcher::Open::begin(&root);
    let token = token().map_err(|e| wrong(format!("cannot make a token: {e}"), &[]))?;
    let site = Site::of(
        session,
        |s| super::as_far_as_known(console, s, everything),
        all_topics(),
        PagesFor::Served,
    );
    let server = PageServer::open(site, port, token).map_err(|why| {
        let mend = "without --port a free one is taken";
        wrong(format!("cannot serve pages at port {port}: {why}"), &[mend])
    })?;
    say_address(console, &server.address());
    // The file is removed when the server ends.
    let _first = opens
        .then(|| show_first(console, &server.address()))
        .flatten();
    // A build may be at work, and a page waits for none.
    let make = || {
        Some(Site::of(
            look_again(&root, choice)?,
            |s| everything(s),
            all_topics(),
            PagesFor::Served,
        ))
    };
    server.serve(&|| cancel.is_thrown(), &make);
    Ok(Exit::Done)
}

/// Says where the pages are.
fn say_address(console: Console, address: &str) {
    if console.is_json() {
        return console.event(&ExplorerEvent::of(address));
    }
    let paint = console.paint(OutputStream::Output);
    outln!(
        console,
        "{}",
        labelled(paint, Ink::Found, "explore", address)
    );
    let text = "local only; reload a page to see changes; Ctrl-C stops it";
    let text = paint.ink(Ink::Faint, &format!("{:10}{text}", ""));
    outln!(console, "{text}");
}

/// The workspace as it is now; nothing while it cannot be opened: then the pages stay as they are.
fn look_again(root: &Path, choice: &Choice) -> Option<Session> {
    let mut session = Session::open(root, Arc::new(CancelSwitch::new().ok()?)).ok()?;
    session
        .choose(choice.profile.as_deref(), &choice.set)
        .ok()?;
    Some(session)
}

/// A word that nobody can guess.
fn token() -> std::io::Result<String> {
    let mut bytes = [0; 16];
    std::fs::File::open("/dev/urandom")?.read_exact(&mut bytes)?;
    Ok(bytes.iter().map(|byte| format!("{byte:02x}")).collect())
}
