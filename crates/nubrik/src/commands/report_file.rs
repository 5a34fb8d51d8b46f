//! `nubrik report`: what became of a build, or how tests stand, to be kept.

use std::io::IsTerminal;
use std::path::{Path, PathBuf};

use nubrik_answers::{ReportEvent, trace_of};
use nubrik_explorer::{PagesFor, ReportOf, Site, everything};
use nubrik_session::Session;

use super::history::{find, history};
use super::{CommandResult, labelled, open, say_wrong, write_whole};
use crate::arguments::{Choice, ReportFiles};
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, out, outln};
use crate::ui::paint::Ink;

/// The files of one document each, by their forms.
fn documents(files: &ReportFiles) -> impl Iterator<Item = (&'static str, &Option<PathBuf>)> {
    let ReportFiles {
        html,
        markdown,
        junit,
        sarif,
        trace,
        pages: _,
    } = files;
    let all = [
        ("html", html),
        ("markdown", markdown),
        ("junit", junit),
        ("sarif", sarif),
        ("trace", trace),
    ];
    all.into_iter()
}

/// What a report is to be of, as it was typed.
fn asked_for(console: Console, session: &Session, what: Option<&str>) -> CommandResult<ReportOf> {
    match what {
        Some("tests") => Ok(ReportOf::Tests),
        None => Ok(ReportOf::Build(find(console, session, None)?.build)),
        Some(word) => match word.parse() {
            Ok(number) => Ok(ReportOf::Build(find(console, session, Some(number))?.build)),
            Err(_) => {
                let message = format!("`{word}` is no number of a build");
                let mends = ["nubrik report tests", "nubrik history   lists builds"];
                Err(say_wrong(console, Exit::Usage, &message, &mends))
            }
        },
    }
}

fn trace_of_report(console: Console, session: &Session, what: &ReportOf) -> CommandResult<String> {
    match what {
        ReportOf::Build(number) => Ok(trace_of(&find(console, session, Some(*number))?)),
        ReportOf::Tests => {
            let message = "a trace is of one build, and tests are of many";
            Err(say_wrong(
                console,
                Exit::Usage,
                message,
                &["nubrik report --trace FILE"],
            ))
        }
    }
}

/// Writes reports; without any file, prints one.
pub fn report(
    console: Console,
    choice: &Choice,
    what: Option<&str>,
    files: &ReportFiles,
) -> CommandResult<Exit> {
    let session = open(console, choice)?;
    let is_alone = what.is_none() && documents(files).all(|(_, file)| file.is_none());
    if let (Some(folder), true) = (&files.pages, is_alone) {
        return super::explore::write(console, session, folder);
    }
    let what = asked_for(console, &session, what)?;
    let trace = match files.trace {
        Some(_) => Some(trace_of_report(console, &session, &what)?),
        None => None,
    };
    let site = Site::of(
        session,
        |s| super::as_far_as_known(console, s, everything),
        Vec::new(),
        PagesFor::Written,
    );
    // The build was found a moment ago.
    let gone = || {
        say_wrong(
            console,
            Exit::Own,
            "what is kept of the build is gone",
            &["nubrik history"],
        )
    };
    let mut is_any = files.pages.is_some();
    for (form, file) in documents(files) {
        let Some(file) = file else { continue };
        is_any = true;
        let text = match form {
            "html" => site.report_html(what),
            "markdown" => site.report_markdown(what),
            "trace" => trace.clone(),
            "sarif" => site.report_sarif(what, env!("CARGO_PKG_VERSION")),
            _ => Some(site.report_junit()),
        };
        write(console, form, file, &text.ok_or_else(gone)?)?;
    }
    if !is_any {
        let text = site.report_markdown(what).ok_or_else(gone)?;
        if let (ReportOf::Build(number), true) = (what, is_read_here(console)) {
            return history(console, choice, Some(number));
        }
        show(console, what, &text);
    }
    match &files.pages {
        Some(folder) => super::explore::write(console, open(console, choice)?, folder),
        None => Ok(Exit::Done),
    }
}

/// Whether a person reads what is printed, in a terminal: Markdown is for pages of other programs.
fn is_read_here(console: Console) -> bool {
    let is_terminal = std::io::stdout().is_terminal();
    !console.is_json() && is_terminal && !console.paint(OutputStream::Output).plain
}

/// Prints a report: as Markdown, or without its marks for a person.
fn show(console: Console, what: ReportOf, text: &str) {
    if what != ReportOf::Tests || !is_read_here(console) {
        return print(console, "markdown", text);
    }
    let tags = ["<details>", "</details>", "<summary>", "</summary>"];
    let without = |text: String, tag: &&str| text.replace(*tag, "");
    let plain = tags.iter().fold(text.replace('`', ""), without);
    out!(console, "{plain}");
}

/// Prints a report.
pub fn print(console: Console, form: &'static str, text: &str) {
    if console.is_json() {
        console.event(&ReportEvent::printed(form, text));
    } else {
        out!(console, "{text}");
    }
}

/// Writes a report to a file; `-` is standard output.
pub fn write(console: Console, form: &'static str, file: &Path, text: &str) -> CommandResult<()> {
    if file == Path::new("-") {
        print(console, form, text);
        return Ok(());
    }
    let to = file.display().to_string();
    write_whole(file, text).map_err(|e| {
        let mend = "name a file in a folder that can be written";
        say_wrong(
            console,
            Exit::Own,
            &format!("cannot write the report {to}: {e}"),
            &[mend],
        )
    })?;
    if console.is_json() {
        console.event(&ReportEvent::written(form, &to));
    } else {
        let paint = console.paint(OutputStream::Output);
        outln!(console, "{}", labelled(paint, Ink::Found, "written", &to));
    }
    Ok(())
}
