//! `nubrik init`

use std::fs;
use std::path::Path;

use nubrik_session::SETTINGS_FILE;

use super::{Outcome, say_wrong};
use crate::arguments::Face;
use crate::exit::Exit;
use crate::ui::out::outln;
use crate::ui::paint::Ink;

const SETTINGS: &str = "# This file marks the root of a workspace for nubrik, and holds settings of the tool.
# What is made is defined in files called targets.nub.

# How many steps run at once; as many as there are processors by default.
# jobs = 4
";

const GREETING: &str = "# What this folder makes. Build it with `nubrik build`.

## A first result.
target greeting = step {
    say = \"write a greeting\"
    run = `echo \"hello from {package}\" > {out \"greeting.txt\"}`
}

let package = \"the first target\"
";

pub fn init(face: Face) -> Outcome<Exit> {
    let failed =
        |what: &str, e: std::io::Error| say_wrong(face, Exit::Own, &format!("cannot {what}: {e}"), &[]);
    let here = std::env::current_dir().map_err(|e| failed("find this folder", e))?;
    if let Some(root) = here.ancestors().find(|folder| folder.join(SETTINGS_FILE).exists()) {
        let message =
            format!("this folder belongs to a workspace already: {}", root.join(SETTINGS_FILE).display());
        return Err(say_wrong(face, Exit::Usage, &message, &["nubrik list   shows what it makes"]));
    }
    let targets = here.join("targets.nub");
    let paint = super::paint(face);
    let wrote = |path: &str| outln!("{}", super::labelled(paint, Ink::Busy, "wrote", path));
    fs::write(here.join(SETTINGS_FILE), SETTINGS).map_err(|e| failed("write nubrik.toml", e))?;
    wrote(SETTINGS_FILE);
    if targets.exists() {
        outln!("{}", super::labelled(paint, Ink::Calm, "kept", "targets.nub, which was there"));
    } else {
        fs::write(&targets, proposal(&here)).map_err(|e| failed("write targets.nub", e))?;
        wrote("targets.nub");
    }
    outln!("\nnow: nubrik list, then nubrik build");
    Ok(Exit::Done)
}

/// A first definition: for the C sources that are here, or else a greeting.
fn proposal(folder: &Path) -> String {
    for below in ["", "src/"] {
        let Ok(entries) = fs::read_dir(folder.join(below)) else { continue };
        let mut names: Vec<String> =
            entries.flatten().filter_map(|e| e.file_name().into_string().ok()).collect();
        names.sort();
        let sources: Vec<&String> = names.iter().filter(|n| n.ends_with(".c")).collect();
        if sources.is_empty() {
            continue;
        }
        let has_main = |n: &&&String| {
            let text = fs::read_to_string(folder.join(below).join(n)).unwrap_or_default();
            text.contains("int main(") || text.contains("int main (")
        };
        let is_program = sources.iter().any(|n| has_main(&n));
        let (kind, what) = if is_program { ("program", "A program") } else { ("library", "A library") };
        let internal = if names.iter().any(|n| n.ends_with(".h")) {
            let field = if is_program { "internal" } else { "headers" };
            format!("    {field} = \"{below}*.h\"\n")
        } else {
            String::new()
        };
        let include = if folder.join("include").is_dir() { "    include = \"include\"\n" } else { "" };
        let name = target_name(folder);
        return format!(
            "# What this folder makes. Build it with `nubrik build`.\nuse \"nub:c\" as c\n\n\
             ## {what} from the C sources in {}.\n\
             target {name} = c.{kind} {{\n    sources = \"{below}*.c\"\n{internal}{include}    flags = [\"-O2\", \"-Wall\"]\n}}\n",
            if below.is_empty() { "this folder" } else { "src" }
        );
    }
    GREETING.to_owned()
}

/// The folder's name as the name of a target.
fn target_name(folder: &Path) -> String {
    let name = folder.file_name().map(|n| n.to_string_lossy().to_lowercase()).unwrap_or_default();
    let name: String =
        name.chars().map(|c| if c.is_ascii_lowercase() || c.is_ascii_digit() { c } else { '_' }).collect();
    let name = name.trim_matches('_').to_owned();
    let usable = nubrik_lang::is_free_name(&name);
    if usable { name } else { "app".to_owned() }
}
