//! What an archive's descriptor says: what it needs, with what it inherits.

use std::collections::BTreeMap;

use roxmltree::{Document, Node};

use crate::Unreadable;

/// Where something is in a repository: group, artifact, version.
pub(crate) type Coordinates = (String, String, String);

/// A need, as it is written.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub(crate) struct Dependency {
    pub group: String,
    pub artifact: String,
    pub version: String,
    pub scope: String,
    pub kind: String,
    pub classifier: String,
    pub is_optional: bool,
    /// Groups and artifacts that are left out below it; `*` is any.
    pub exclusions: Vec<(String, String)>,
}

impl Dependency {
    /// What tells it from others among managed versions.
    pub(crate) fn key(&self) -> (&str, &str, &str, &str) {
        (&self.group, &self.artifact, &self.kind, &self.classifier)
    }
}

/// A descriptor, as far as it says what is needed.
#[derive(Clone, Debug, Default)]
pub(crate) struct Descriptor {
    pub group: String,
    pub artifact: String,
    pub version: String,
    pub packaging: String,
    pub parent: Option<Coordinates>,
    pub properties: BTreeMap<String, String>,
    /// Versions for those who name none.
    pub managed: Vec<Dependency>,
    pub dependencies: Vec<Dependency>,
    pub licences: Vec<String>,
}

impl Descriptor {
    /// Reads a descriptor.
    pub(crate) fn read(text: &str) -> Result<Descriptor, Unreadable> {
        let wrong = |e| Unreadable::Form(format!("it is no descriptor: {e}"));
        let document = Document::parse(text).map_err(wrong)?;
        let root = document.root_element();
        let parent = child(root, "parent").map(|parent| {
            (
                text_of(parent, "groupId"),
                text_of(parent, "artifactId"),
                text_of(parent, "version"),
            )
        });
        let inherited = |own: String, of_parent: Option<&String>| match own.is_empty() {
            true => of_parent.cloned().unwrap_or_default(),
            false => own,
        };
        let properties = child(root, "properties")
            .into_iter()
            .flat_map(|p| p.children().filter(Node::is_element));
        let properties = properties.map(|p| {
            (
                p.tag_name().name().to_owned(),
                p.text().unwrap_or_default().trim().to_owned(),
            )
        });
        let of = |node: Option<Node<'_, '_>>| {
            let list = node.and_then(|node| child(node, "dependencies"));
            let nodes = list
                .into_iter()
                .flat_map(|list| list.children().filter(|n| n.has_tag_name_any("dependency")));
            nodes.map(dependency).collect::<Vec<_>>()
        };
        let licences = child(root, "licenses")
            .into_iter()
            .flat_map(|l| l.children().filter(Node::is_element));
        let packaging = text_of(root, "packaging");
        Ok(Descriptor {
            group: inherited(text_of(root, "groupId"), parent.as_ref().map(|p| &p.0)),
            artifact: text_of(root, "artifactId"),
            version: inherited(text_of(root, "version"), parent.as_ref().map(|p| &p.2)),
            packaging: if packaging.is_empty() {
                "jar".to_owned()
            } else {
                packaging
            },
            properties: properties.collect(),
            managed: of(child(root, "dependencyManagement")),
            dependencies: of(Some(root)),
            licences: licences
                .map(|licence| text_of(licence, "name"))
                .filter(|name| !name.is_empty())
                .collect(),
            parent,
        })
    }

    /// Adds what is inherited from a parent, which has all that it inherits itself.
    pub(crate) fn inherit(&mut self, parent: &Descriptor) {
        for (name, value) in &parent.properties {
            self.properties
                .entry(name.clone())
                .or_insert_with(|| value.clone());
        }
        // Who comes first wins.
        self.managed.extend(parent.managed.iter().cloned());
        for dependency in &parent.dependencies {
            if !self
                .dependencies
                .iter()
                .any(|own| own.key() == dependency.key())
            {
                self.dependencies.push(dependency.clone());
            }
        }
        if self.licences.is_empty() {
            self.licences = parent.licences.clone();
        }
    }

    /// Writes the values of properties where they are named.
    pub(crate) fn fill(&mut self) {
        let known = self.clone();
        for dependency in self.managed.iter_mut().chain(&mut self.dependencies) {
            let Dependency {
                group,
                artifact,
                version,
                scope,
                kind,
                classifier,
                ..
            } = dependency;
            for text in [group, artifact, version, scope, kind, classifier] {
                *text = known.filled(text, 0);
            }
        }
        self.version = known.filled(&self.version, 0);
        self.group = known.filled(&self.group, 0);
    }

    fn filled(&self, text: &str, depth: usize) -> String {
        let Some((before, rest)) = text.split_once("${").filter(|_| depth < 32) else {
            return text.to_owned();
        };
        let Some((name, after)) = rest.split_once('}') else {
            return text.to_owned();
        };
        let parent =
            |take: fn(&Coordinates) -> &String| self.parent.as_ref().map(|p| take(p).clone());
        let own = name
            .strip_prefix("project.")
            .or_else(|| name.strip_prefix("pom."));
        let value = match (own, name) {
            (Some("version"), _) | (_, "version") => Some(self.version.clone()),
            (Some("groupId"), _) | (_, "groupId") => Some(self.group.clone()),
            (Some("artifactId"), _) | (_, "artifactId") => Some(self.artifact.clone()),
            (Some("parent.version"), _) | (_, "parent.version") => parent(|p| &p.2),
            (Some("parent.groupId"), _) | (_, "parent.groupId") => parent(|p| &p.0),
            _ => self.properties.get(name).cloned(),
        };
        let value = value.map_or_else(
            || format!("${{{name}"),
            |value| self.filled(&value, depth + 1),
        );
        // What nothing says stays as it is, without being looked at again.
        match value.starts_with("${") {
            true => format!("{before}{value}}}{}", self.filled(after, depth + 1)),
            false => format!("{before}{value}{}", self.filled(after, depth + 1)),
        }
    }

    /// A need with what is managed for it.
    pub(crate) fn managed_need(&self, need: &Dependency) -> Dependency {
        let mut need = need.clone();
        if let Some(managed) = self
            .managed
            .iter()
            .find(|managed| managed.key() == need.key())
        {
            for (own, managed) in [
                (&mut need.version, &managed.version),
                (&mut need.scope, &managed.scope),
            ] {
                if own.is_empty() {
                    own.clone_from(managed);
                }
            }
            if need.exclusions.is_empty() {
                need.exclusions.clone_from(&managed.exclusions);
            }
        }
        need
    }
}

/// Names of elements without their name space, which some descriptors have and some do not.
trait NamedNode {
    fn has_tag_name_any(&self, name: &str) -> bool;
}

impl NamedNode for Node<'_, '_> {
    fn has_tag_name_any(&self, name: &str) -> bool {
        self.is_element() && self.tag_name().name() == name
    }
}

fn child<'a, 'i>(node: Node<'a, 'i>, name: &str) -> Option<Node<'a, 'i>> {
    node.children().find(|child| child.has_tag_name_any(name))
}

pub(crate) fn text_of(node: Node<'_, '_>, name: &str) -> String {
    child(node, name)
        .and_then(|child| child.text())
        .unwrap_or_default()
        .trim()
        .to_owned()
}

fn dependency(node: Node<'_, '_>) -> Dependency {
    let exclusions = child(node, "exclusions")
        .into_iter()
        .flat_map(|e| e.children().filter(Node::is_element));
    let kind = text_of(node, "type");
    Dependency {
        group: text_of(node, "groupId"),
        artifact: text_of(node, "artifactId"),
        version: text_of(node, "version"),
        scope: text_of(node, "scope"),
        kind: if kind.is_empty() {
            "jar".to_owned()
        } else {
            kind
        },
        classifier: text_of(node, "classifier"),
        is_optional: text_of(node, "optional") == "true",
        exclusions: exclusions
            .map(|e| (text_of(e, "groupId"), text_of(e, "artifactId")))
            .collect(),
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use super::*;

    #[test]
    fn what_is_inherited_fills_what_is_not_said() {
        let parent = "<project><groupId>isles</groupId><artifactId>all</artifactId><version>3</version>\
            <properties><moon.version>1.2</moon.version></properties><licenses><license><name>MIT</name></license></licenses>\
            <dependencyManagement><dependencies><dependency><groupId>sky</groupId><artifactId>moon</artifactId><version>${moon.version}</version></dependency>\
            </dependencies></dependencyManagement></project>";
        let own = "<project><parent><groupId>isles</groupId><artifactId>all</artifactId><version>3</version></parent><artifactId>tides</artifactId>\
            <properties><moon.version>1.4</moon.version></properties><dependencies>\
            <dependency><groupId>sky</groupId><artifactId>moon</artifactId></dependency>\
            <dependency><groupId>${project.groupId}</groupId><artifactId>ebb</artifactId><version>${project.version}</version><scope>test</scope></dependency>\
            </dependencies></project>";
        let mut tides = Descriptor::read(own).unwrap();
        tides.inherit(&Descriptor::read(parent).unwrap());
        tides.fill();
        assert_eq!(
            (
                tides.group.as_str(),
                tides.version.as_str(),
                tides.licences.len()
            ),
            ("isles", "3", 1)
        );
        let needs: Vec<String> = tides
            .dependencies
            .iter()
            .map(|need| tides.managed_need(need))
            .map(|d| format!("{}:{}:{} {}", d.group, d.artifact, d.version, d.scope))
            .collect();
        assert_eq!(needs, ["sky:moon:1.4 ", "isles:ebb:3 test"]);
        assert!(Descriptor::read("<project").is_err());
    }
}
