//! `nubrik init`

use std::fs;
use std::io::Write;
use std::path::Path;

use nubrik_session::SETTINGS_FILE;

use super::{CommandResult, say_wrong};
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, outln};
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

pub fn init(console: Console) -> CommandResult<Exit> {
    let failed =
        |what: &str, e: std::io::Error| say_wrong(console, Exit::Own, &format!("cannot {what}: {e}"), &[]);
    let here = std::env::current_dir().map_err(|e| failed("find this folder", e))?;
    let targets = here.join("targets.nub");
    let root = here.ancestors().find(|folder| folder.join(SETTINGS_FILE).exists());
    if let Some(root) = root.filter(|_| targets.exists()) {
        let message = format!(
            "this folder has a targets.nub and belongs to a workspace already: {}",
            root.join(SETTINGS_FILE).display()
        );
        return Err(say_wrong(console, Exit::Usage, &message, &["nubrik list   shows what it makes"]));
    }
    let paint = console.paint(OutputStream::Output);
    let wrote = |path: &str| outln!(console, "{}", super::labelled(paint, Ink::Busy, "wrote", path));
    let kept = |what: &str| outln!(console, "{}", super::labelled(paint, Ink::Calm, "kept", what));
    // Files are created, never written over: someone else may be quicker.
    match root {
        None => {
            create(&here.join(SETTINGS_FILE), SETTINGS).map_err(|e| failed("write nubrik.toml", e))?;
            wrote(SETTINGS_FILE);
        }
        Some(root) => kept(&root.join(SETTINGS_FILE).display().to_string()),
    }
    if targets.exists() {
        kept("targets.nub, which was there");
    } else {
        create(&targets, &proposal(&here)).map_err(|e| failed("write targets.nub", e))?;
        wrote("targets.nub");
    }
    outln!(console, "\nnow: nubrik list, then nubrik build");
    Ok(Exit::Done)
}

fn create(path: &Path, text: &str) -> std::io::Result<()> {
    fs::File::create_new(path)?.write_all(text.as_bytes())
}

/// The name by which a first definition uses the kit for C.
const KIT: &str = "c";

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
            "# What this folder makes. Build it with `nubrik build`.\nuse \"nub:c\" as {KIT}\n\n\
             ## {what} from the C sources in {}.\n\
             target {name} = {KIT}.{kind} {{\n    sources = \"{below}*.c\"\n{internal}{include}    flags = [\"-O2\", \"-Wall\"]\n}}\n",
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
    let usable = nubrik_lang::is_free_name(&name) && name != KIT;
    if usable { name } else { "app".to_owned() }
}
