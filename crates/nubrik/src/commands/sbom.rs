//! `nubrik sbom`: what other people's code is in a target, in open formats.

use std::path::Path;

use nubrik_answers::FetchedArchives;
use nubrik_reports::packages::{cyclonedx, spdx};

use super::pins::say;
use super::{CommandResult, evaluate, open, patterns, say_wrong, started_in};
use crate::arguments::{Choice, SbomFormat};
use crate::exit::Exit;
use crate::ui::console::{Console, outln};

pub fn sbom(
    console: Console,
    choice: &Choice,
    target: &str,
    format: SbomFormat,
    output: Option<&Path>,
) -> CommandResult<Exit> {
    let mut session = open(console, choice)?;
    let pins = session
        .pins()
        .map_err(|problem| say(console, Exit::Definitions, &problem))?;
    let patterns = patterns(console, &mut session, &[target.to_owned()])?;
    let evaluation = evaluate(console, &mut session, &patterns)?;
    let graph = &evaluation.graph;
    let packages = FetchedArchives::behind(graph, &evaluation.requested).packages(&pins);
    let document = match format {
        SbomFormat::Cyclonedx => cyclonedx(target, &packages),
        SbomFormat::Spdx => spdx(
            target,
            &packages,
            concat!("nubrik-", env!("CARGO_PKG_VERSION")),
        ),
    };
    let text = serde_json::to_string_pretty(&document).unwrap_or_default();
    match output {
        None => outln!(console, "{text}"),
        Some(path) => {
            let path = started_in().join(path);
            super::write_whole(&path, &(text + "\n")).map_err(|e| {
                say_wrong(
                    console,
                    Exit::Usage,
                    &format!("cannot write {}: {e}", path.display()),
                    &[],
                )
            })?;
        }
    }
    Ok(Exit::Done)
}
