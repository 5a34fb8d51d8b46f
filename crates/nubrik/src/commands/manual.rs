//! `nubrik setup manual`

use std::fs;
use std::io;
use std::path::Path;

use clap_mangen::Man;
use nubrik_answers::ManualEvent;

use super::{CommandResult, say_wrong};
use crate::exit::Exit;
use crate::help;
use crate::ui::console::{Console, outln};

/// Writes a manual page for the program and for each command: the texts are those of `--help`.
pub fn manual(console: Console, to: &Path) -> CommandResult<Exit> {
    let written = write_pages(to).map_err(|(path, problem)| {
        say_wrong(
            console,
            Exit::Own,
            &format!("cannot write {path}: {problem}"),
            &[],
        )
    })?;
    let folder = to.display().to_string();
    if console.is_json() {
        console.event(&ManualEvent::of(&folder, written));
    } else {
        outln!(console, "{written} pages in {folder}");
    }
    Ok(Exit::Done)
}

fn write_pages(to: &Path) -> Result<usize, (String, io::Error)> {
    let at = |path: &Path| path.display().to_string();
    fs::create_dir_all(to).map_err(|e| (at(to), e))?;
    let all = help::all();
    for (name, command) in &all {
        let title = format!("nubrik {name}").trim_end().replace(' ', "-");
        let command = command
            .clone()
            .display_name(title.clone())
            .bin_name(format!("nubrik {name}").trim_end().to_owned());
        let mut page = Vec::new();
        let path = to.join(format!("{title}.1"));
        Man::new(command)
            .title(title.to_uppercase())
            .render(&mut page)
            .map_err(|e| (at(&path), e))?;
        fs::write(&path, page).map_err(|e| (at(&path), e))?;
    }
    Ok(all.len())
}
