//! `nubrik sbom`: what other people's code is in a target, in open formats.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use nubrik_graph::{Closure, Native};
use nubrik_pins::{Pin, Registry, Shelf};
use nubrik_reports::packages::{ThirdPartyPackage, cyclonedx, package_url, spdx};
use nubrik_session::Session;

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
    let pins = session.pins().map_err(|problem| say(console, Exit::Definitions, &problem))?;
    let patterns = patterns(console, &mut session, &[target.to_owned()])?;
    let evaluation = evaluate(console, &mut session, &patterns)?;
    let graph = &evaluation.graph;
    let closure = Closure::of(graph, evaluation.requested.iter().copied());
    let natives = closure.steps.iter().filter_map(|step| graph.steps[step.index()].native.as_deref());
    let fetched: BTreeSet<&str> = natives
        .filter_map(|native| match native {
            Native::Fetch { digest, .. } => Some(&**digest),
            _ => None,
        })
        .collect();
    let packages = packages_of(&pins.shelves, &fetched);
    let document = match format {
        SbomFormat::Cyclonedx => cyclonedx(target, &packages),
        SbomFormat::Spdx => spdx(target, &packages, concat!("nubrik-", env!("CARGO_PKG_VERSION"))),
    };
    let text = serde_json::to_string_pretty(&document).unwrap_or_default();
    match output {
        None => outln!(console, "{text}"),
        Some(path) => {
            let path = started_in().join(path);
            super::write_whole(&path, &(text + "\n")).map_err(|e| {
                say_wrong(console, Exit::Usage, &format!("cannot write {}: {e}", path.display()), &[])
            })?;
        }
    }
    Ok(Exit::Done)
}

/// The pins whose archives are fetched, by registry and name.
fn packages_of(shelves: &BTreeMap<Registry, Shelf>, fetched: &BTreeSet<&str>) -> Vec<ThirdPartyPackage> {
    let own = Session::own_system();
    let is_in = |pin: &Pin| pin.archives.iter().any(|archive| fetched.contains(archive.digest.as_str()));
    let mut packages = Vec::new();
    for (registry, shelf) in shelves {
        let address =
            |pin: &Pin| package_url(registry.description().package_url_kind, &pin.name, &pin.version);
        for pin in shelf.pins.values().filter(|pin| is_in(pin)) {
            let here = pin.needs.iter().filter(|need| need.on.is_empty() || need.on.contains(&own));
            let needed = here.filter_map(|need| shelf.pins.get(&need.pin)).filter(|need| is_in(need));
            packages.push(ThirdPartyPackage {
                name: pin.name.clone(),
                version: pin.version.clone(),
                licence: pin.licence.clone(),
                address: address(pin),
                digests: digests(pin),
                needs: needed.map(address).collect(),
            });
        }
    }
    packages
}

/// The digests of the archives that are in the target, as hexadecimal digits.
fn digests(pin: &Pin) -> Vec<(&'static str, String)> {
    let hex = |digest: &str| {
        let (method, value) = digest.split_once(':')?;
        let name = if method == "sha512" { "SHA-512" } else { "SHA-256" };
        Some((name, nubrik_pins::hex_of(value)?))
    };
    pin.archives.iter().filter_map(|archive| hex(&archive.digest)).collect()
}
