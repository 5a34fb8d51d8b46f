//! The third-party packages in a target, as CycloneDX and SPDX list them. Neither list holds a time
//! or a random number: the same packages give the same bytes.

use serde_json::{Value, json};

/// A package that is in a target.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct ThirdPartyPackage {
    /// Its name in its registry.
    pub name: String,
    /// Its version, exactly.
    pub version: String,
    /// Its licence, as its registry says.
    pub licence: Option<String>,
    /// Its address as a package URL (purl).
    pub address: String,
    /// Digests of its archives: the method (`SHA-256`, `SHA-512`) and hexadecimal digits.
    pub digests: Vec<(&'static str, String)>,
    /// The addresses of packages that it needs and that are in the target as well.
    pub needs: Vec<String>,
}

/// A package URL (purl) of a kind of registry: `pkg:pypi/tides@1.2`.
pub fn package_url(kind: &str, name: &str, version: &str) -> String {
    format!(
        "pkg:{kind}/{}@{version}",
        name.replace('@', "%40").replace(':', "/")
    )
}

/// The packages of a target, as CycloneDX 1.5.
pub fn cyclonedx(target: &str, packages: &[ThirdPartyPackage]) -> Value {
    let component = |package: &ThirdPartyPackage| {
        let ThirdPartyPackage {
            name,
            version,
            licence,
            address,
            digests,
            ..
        } = package;
        let hashes = digests
            .iter()
            .map(|(alg, content)| json!({ "alg": alg, "content": content }));
        let mut component = json!({
            "type": "library", "bom-ref": address, "name": name, "version": version,
            "purl": address, "hashes": hashes.collect::<Vec<Value>>(),
        });
        if let Some(licence) = licence {
            component["licenses"] = json!([{ "license": { "name": licence } }]);
        }
        component
    };
    let needs =
        |package: &ThirdPartyPackage| json!({ "ref": package.address, "dependsOn": package.needs });
    json!({
        "bomFormat": "CycloneDX", "specVersion": "1.5", "version": 1,
        "metadata": { "component": { "type": "application", "bom-ref": target, "name": target } },
        "components": packages.iter().map(component).collect::<Vec<Value>>(),
        "dependencies": packages.iter().map(needs).collect::<Vec<Value>>(),
    })
}

/// The packages of a target, as SPDX 2.3. Its time is 1970-01-01; `tool` is who wrote it, with its
/// version.
pub fn spdx(target: &str, packages: &[ThirdPartyPackage], tool: &str) -> Value {
    let id = |text: &str| {
        let fine = |c: char| {
            if c.is_ascii_alphanumeric() || matches!(c, '.' | '-') {
                c
            } else {
                '-'
            }
        };
        format!("SPDXRef-{}", text.chars().map(fine).collect::<String>())
    };
    let entry = |package: &ThirdPartyPackage| {
        let ThirdPartyPackage {
            name,
            version,
            licence,
            address,
            digests,
            ..
        } = package;
        let checksums = digests.iter().map(
            |(alg, value)| json!({ "algorithm": alg.replace('-', ""), "checksumValue": value }),
        );
        json!({
            "SPDXID": id(address), "name": name, "versionInfo": version,
            "downloadLocation": "NOASSERTION", "filesAnalyzed": false,
            "checksums": checksums.collect::<Vec<Value>>(),
            "licenseConcluded": "NOASSERTION", "licenseDeclared": "NOASSERTION", "copyrightText": "NOASSERTION",
            "licenseComments": licence.as_deref().unwrap_or("not said"),
            "externalRefs": [{
                "referenceCategory": "PACKAGE-MANAGER", "referenceType": "purl", "referenceLocator": address,
            }],
        })
    };
    let root = id(target);
    let mut entries = vec![json!({
        "SPDXID": root, "name": target, "downloadLocation": "NOASSERTION", "filesAnalyzed": false,
        "licenseConcluded": "NOASSERTION", "licenseDeclared": "NOASSERTION", "copyrightText": "NOASSERTION",
    })];
    entries.extend(packages.iter().map(entry));
    let relation = |from: &str, kind: &str, to: &str| json!({ "spdxElementId": from, "relationshipType": kind, "relatedSpdxElement": to });
    let mut relations = vec![relation("SPDXRef-DOCUMENT", "DESCRIBES", &root)];
    for ThirdPartyPackage { address, needs, .. } in packages {
        relations.push(relation(&root, "CONTAINS", &id(address)));
        relations.extend(
            needs
                .iter()
                .map(|need| relation(&id(address), "DEPENDS_ON", &id(need))),
        );
    }
    json!({
        "spdxVersion": "SPDX-2.3", "dataLicense": "CC0-1.0", "SPDXID": "SPDXRef-DOCUMENT", "name": target,
        "documentNamespace": format!("https://nubrik.invalid/{}", target.trim_start_matches('/')),
        "creationInfo": { "created": "1970-01-01T00:00:00Z", "creators": [format!("Tool: {tool}")] },
        "packages": entries, "relationships": relations,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn package(name: &str, needs: &[&str]) -> ThirdPartyPackage {
        ThirdPartyPackage {
            name: name.to_owned(),
            version: "1.2".to_owned(),
            licence: (name == "flow").then(|| "MIT".to_owned()),
            address: package_url("pypi", name, "1.2"),
            digests: vec![("SHA-256", "0f".to_owned())],
            needs: needs
                .iter()
                .map(|need| package_url("pypi", need, "1.2"))
                .collect(),
        }
    }

    #[test]
    fn names_are_written_as_package_urls_demand() {
        assert_eq!(
            package_url("npm", "@isles/tide", "3.0.1"),
            "pkg:npm/%40isles/tide@3.0.1"
        );
        assert_eq!(
            package_url("generic", "isles:tide", "3"),
            "pkg:generic/isles/tide@3"
        );
    }

    #[test]
    fn both_formats_name_each_package_and_what_it_needs() {
        let packages = [package("flow", &["moon"]), package("moon", &[])];
        let cyclonedx = cyclonedx("tide/cast", &packages);
        assert_eq!(
            cyclonedx["components"][0]["licenses"][0]["license"]["name"],
            "MIT"
        );
        assert_eq!(cyclonedx["components"][1]["licenses"], Value::Null);
        assert_eq!(
            cyclonedx["dependencies"][0]["dependsOn"][0],
            "pkg:pypi/moon@1.2"
        );
        let spdx = spdx("tide/cast", &packages, "nubrik-1");
        assert_eq!(spdx["packages"][1]["checksums"][0]["algorithm"], "SHA256");
        let relations = spdx["relationships"].as_array().unwrap();
        let needs = relations
            .iter()
            .find(|r| r["relationshipType"] == "DEPENDS_ON")
            .unwrap();
        assert_eq!(needs["relatedSpdxElement"], "SPDXRef-pkg-pypi-moon-1.2");
    }
}
