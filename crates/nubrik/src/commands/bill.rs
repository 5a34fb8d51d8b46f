//! `nubrik bill`: what other people's code is in a target, in open formats.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use nubrik_graph::{Closure, Native};
use nubrik_pins::{Pin, Registry, Shelf};
use nubrik_session::Session;
use serde_json::{Value, json};

use super::pin::say;
use super::{CommandResult, evaluate, open, patterns, say_wrong, started_in};
use crate::arguments::{BillFormat, Choice};
use crate::exit::Exit;
use crate::ui::console::{Console, outln};

/// A package that is in a target.
struct BillPart<'a> {
    registry: Registry,
    pin: &'a Pin,
    needs: Vec<String>,
}

impl BillPart<'_> {
    /// Its name as an address of a package (purl).
    fn address(&self) -> String {
        address(self.registry, &self.pin.name, &self.pin.version)
    }
}

fn address(registry: Registry, name: &str, version: &str) -> String {
    let kind = match registry {
        Registry::Python => "pypi",
        Registry::Js => "npm",
        Registry::Rust => "cargo",
        Registry::Go => "golang",
        Registry::Java | Registry::Archive => "generic",
    };
    format!("pkg:{kind}/{}@{version}", name.replace('@', "%40").replace(':', "/"))
}

pub fn bill(
    console: Console,
    choice: &Choice,
    target: &str,
    format: BillFormat,
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
    let parts = parts_of(&pins.shelves, &fetched);
    let document = match format {
        BillFormat::Cyclonedx => cyclonedx(target, &parts),
        BillFormat::Spdx => spdx(target, &parts),
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
fn parts_of<'a>(shelves: &'a BTreeMap<Registry, Shelf>, fetched: &BTreeSet<&str>) -> Vec<BillPart<'a>> {
    let own = Session::own_system();
    let is_in = |pin: &Pin| pin.archives.iter().any(|archive| fetched.contains(archive.digest.as_str()));
    let mut parts = Vec::new();
    for (registry, shelf) in shelves {
        for pin in shelf.pins.values().filter(|pin| is_in(pin)) {
            let here = pin.needs.iter().filter(|need| need.on.is_empty() || need.on.contains(&own));
            let needed = here.filter_map(|need| shelf.pins.get(&need.pin)).filter(|need| is_in(need));
            let needs = needed.map(|need| address(*registry, &need.name, &need.version)).collect();
            parts.push(BillPart { registry: *registry, pin, needs });
        }
    }
    parts
}

/// The digests of the archives that are in the target, as hexadecimal digits.
fn hashes(pin: &Pin) -> Vec<(&'static str, String)> {
    let hex = |digest: &str| {
        let (method, value) = digest.split_once(':')?;
        let name = if method == "sha512" { "SHA-512" } else { "SHA-256" };
        Some((name, nubrik_pins::hex_of(value)?))
    };
    pin.archives.iter().filter_map(|archive| hex(&archive.digest)).collect()
}

/// CycloneDX 1.5. It holds no time and no random number: the same pins give the same bytes.
fn cyclonedx(target: &str, parts: &[BillPart<'_>]) -> Value {
    let component = |part: &BillPart<'_>| {
        let Pin { name, version, licence, .. } = part.pin;
        let hashes: Vec<Value> = hashes(part.pin)
            .into_iter()
            .map(|(alg, content)| json!({ "alg": alg, "content": content }))
            .collect();
        let mut component = json!({
            "type": "library", "bom-ref": part.address(), "name": name, "version": version,
            "purl": part.address(), "hashes": hashes,
        });
        if let Some(licence) = licence {
            component["licenses"] = json!([{ "license": { "name": licence } }]);
        }
        component
    };
    let components: Vec<Value> = parts.iter().map(component).collect();
    let dependencies: Vec<Value> =
        parts.iter().map(|part| json!({ "ref": part.address(), "dependsOn": part.needs })).collect();
    json!({
        "bomFormat": "CycloneDX", "specVersion": "1.5", "version": 1,
        "metadata": { "component": { "type": "application", "bom-ref": target, "name": target } },
        "components": components, "dependencies": dependencies,
    })
}

/// SPDX 2.3. Its time is the first one that there is, so that the same pins give the same bytes.
fn spdx(target: &str, parts: &[BillPart<'_>]) -> Value {
    let id = |text: &str| {
        let fine = |c: char| if c.is_ascii_alphanumeric() || matches!(c, '.' | '-') { c } else { '-' };
        format!("SPDXRef-{}", text.chars().map(fine).collect::<String>())
    };
    let package = |part: &BillPart<'_>| {
        let Pin { name, version, licence, .. } = part.pin;
        let checksums: Vec<Value> = hashes(part.pin)
            .into_iter()
            .map(|(alg, value)| json!({ "algorithm": alg.replace('-', ""), "checksumValue": value }))
            .collect();
        json!({
            "SPDXID": id(&part.address()), "name": name, "versionInfo": version,
            "downloadLocation": "NOASSERTION", "filesAnalyzed": false, "checksums": checksums,
            "licenseConcluded": "NOASSERTION", "licenseDeclared": "NOASSERTION", "copyrightText": "NOASSERTION",
            "licenseComments": licence.as_deref().unwrap_or("not said"),
            "externalRefs": [{ "referenceCategory": "PACKAGE-MANAGER", "referenceType": "purl", "referenceLocator": part.address() }],
        })
    };
    let root = id(target);
    let mut packages = vec![json!({
        "SPDXID": root, "name": target, "downloadLocation": "NOASSERTION", "filesAnalyzed": false,
        "licenseConcluded": "NOASSERTION", "licenseDeclared": "NOASSERTION", "copyrightText": "NOASSERTION",
    })];
    packages.extend(parts.iter().map(package));
    let relation = |from: &str, kind: &str, to: &str| json!({ "spdxElementId": from, "relationshipType": kind, "relatedSpdxElement": to });
    let mut relations = vec![relation("SPDXRef-DOCUMENT", "DESCRIBES", &root)];
    for part in parts {
        relations.push(relation(&root, "CONTAINS", &id(&part.address())));
        relations
            .extend(part.needs.iter().map(|need| relation(&id(&part.address()), "DEPENDS_ON", &id(need))));
    }
    json!({
        "spdxVersion": "SPDX-2.3", "dataLicense": "CC0-1.0", "SPDXID": "SPDXRef-DOCUMENT", "name": target,
        "documentNamespace": format!("https://nubrik.invalid/{}", target.trim_start_matches('/')),
        "creationInfo": { "created": "1970-01-01T00:00:00Z", "creators": [concat!("Tool: nubrik-", env!("CARGO_PKG_VERSION"))] },
        "packages": packages, "relationships": relations,
    })
}
