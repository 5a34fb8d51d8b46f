//! `nubrik run`

use std::os::unix::fs::PermissionsExt;
use std::os::unix::process::CommandExt;
use std::path::Path;

use super::build::{build_standing, exit_of, lock};
use nubrik_session::Standing;

use super::{Outcome, open, patterns, say_wrong};
use crate::arguments::{Choice, Face, How};
use crate::exit::Exit;
use crate::ui::screen::Stream;

pub fn run(face: Face, choice: &Choice, address: &str, args: &[String], how: How) -> Outcome<Exit> {
    let mut session = open(face, choice)?;
    lock(face, &mut session)?;
    let patterns = patterns(face, &mut session, &[address.to_owned()])?;
    let results = match session.standing(&patterns) {
        Standing::Holds(sealed) => sealed.results,
        standing => {
            // What is built goes to standard error: standard output is the program's.
            let report = build_standing(face, &mut session, &patterns, standing, how, Stream::Error)?;
            let exit = exit_of(&report);
            if exit != Exit::Done {
                super::build::show(
                    face,
                    &report.summary,
                    &report.results,
                    0,
                    report.cancelled,
                    Stream::Error,
                );
                return Ok(exit);
            }
            report.results
        }
    };
    let root = session.workspace.root.clone();
    let programs: Vec<&str> = results.iter().filter(|path| is_program(&root.join(path))).collect();
    let program = match programs.as_slice() {
        [program] => root.join(program),
        [] => {
            let message = format!("`{address}` makes no program");
            let makes = results.iter().next().map(|r| format!("it makes {r}"));
            let mends: Vec<&str> = makes.as_deref().into_iter().collect();
            return Err(say_wrong(face, Exit::Usage, &message, &mends));
        }
        several => {
            let message = format!("`{address}` makes {} programs", several.len());
            return Err(say_wrong(
                face,
                Exit::Usage,
                &message,
                &["name one of them, such as tools/tidecast"],
            ));
        }
    };
    drop(session);
    // The program takes this one's place: terminal, signals and exit code are its own.
    let problem = std::process::Command::new(&program).args(args).exec();
    Err(say_wrong(face, Exit::Machine, &format!("cannot start {}: {problem}", program.display()), &[]))
}

fn is_program(path: &Path) -> bool {
    path.metadata().is_ok_and(|m| m.is_file() && m.permissions().mode() & 0o100 != 0)
}
