//! What is where in a repository, and what is known of it.

use std::collections::{BTreeMap, HashMap};
use std::rc::Rc;

use nubrik_web::Address;

use super::descriptor::{Coordinates, Dependency, Descriptor};
use super::versions::ArchiveVersion;
use crate::desk::Desk;
use crate::links::links;
use crate::origin::Origin;
use crate::{PinProblem, Registry};

/// How many descriptors may inherit from one another.
const DEPTH: usize = 64;

/// Digests that stand beside archives, the best first: the ending, and the name of the method.
const BESIDE: [(&str, &str); 3] = [
    (".sha512", "sha512"),
    (".sha256", "sha256"),
    (".sha1", "sha1"),
];

/// Whether a part of coordinates may be one: what a repository is asked for by it stays below it.
pub(crate) fn is_part(part: &str) -> bool {
    let fine = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.' | '+');
    !part.is_empty() && !part.starts_with('.') && !part.contains("..") && part.chars().all(fine)
}

/// The path of an archive below a repository.
pub(crate) fn path_of(
    (group, artifact, version): &Coordinates,
    classifier: &str,
    ending: &str,
) -> String {
    let classifier = if classifier.is_empty() {
        String::new()
    } else {
        format!("-{classifier}")
    };
    format!(
        "{}/{artifact}/{version}/{artifact}-{version}{classifier}.{ending}",
        group.replace('.', "/")
    )
}

/// Descriptors of a repository, each read once.
pub(crate) struct JavaRepository<'a> {
    pub desk: &'a Desk<'a>,
    read: HashMap<Coordinates, Option<Rc<Descriptor>>>,
}

impl<'a> JavaRepository<'a> {
    pub(crate) fn new(desk: &'a Desk<'a>) -> JavaRepository<'a> {
        JavaRepository {
            desk,
            read: HashMap::new(),
        }
    }

    /// The descriptor of something, with all that it inherits; `None` if no repository has it.
    pub(crate) fn descriptor(
        &mut self,
        at: &Coordinates,
        depth: usize,
    ) -> Result<Option<Rc<Descriptor>>, PinProblem> {
        if let Some(known) = self.read.get(at) {
            return Ok(known.clone());
        }
        let name = format!("{}:{} {}", at.0, at.1, at.2);
        if depth > DEPTH {
            return Err(PinProblem::new(format!("{name} inherits from itself")));
        }
        if ![&at.0, &at.1, &at.2].into_iter().all(|part| is_part(part)) {
            return Ok(None);
        }
        let page = self.desk.page(
            Registry::Java,
            &path_of(at, "", "pom"),
            None,
            &format!("{}:{}", at.0, at.1),
        )?;
        let descriptor = match page {
            None => None,
            Some(page) => {
                let text = String::from_utf8_lossy(&page.document.bytes).into_owned();
                let mut descriptor = Descriptor::read(&text)
                    .map_err(|what| PinProblem::new(format!("{name}: {what}")))?;
                if let Some(parent) = descriptor.parent.clone() {
                    match self.descriptor(&parent, depth + 1)? {
                        Some(parent) => descriptor.inherit(&parent),
                        None => {
                            let (group, artifact, version) = parent;
                            let problem = PinProblem::new(format!(
                                "{name} inherits from {group}:{artifact} {version}, which no repository has"
                            ));
                            return Err(problem);
                        }
                    }
                }
                // Its texts stay as they are: those who inherit them fill them with their own
                // values.
                let mut filled = descriptor.clone();
                filled.fill();
                descriptor.managed.extend(self.imported(&filled, depth)?);
                Some(Rc::new(descriptor))
            }
        };
        self.read.insert(at.clone(), descriptor.clone());
        Ok(descriptor)
    }

    /// What descriptors manage that this one imports.
    fn imported(
        &mut self,
        filled: &Descriptor,
        depth: usize,
    ) -> Result<Vec<Dependency>, PinProblem> {
        let imports = filled
            .managed
            .iter()
            .filter(|d| d.scope == "import" && d.kind == "pom");
        let mut managed = Vec::new();
        for import in imports {
            let at = (
                import.group.clone(),
                import.artifact.clone(),
                import.version.clone(),
            );
            if let Some(found) = self.descriptor(&at, depth + 1)? {
                let mut found = (*found).clone();
                found.fill();
                managed.extend(found.managed);
            }
        }
        Ok(managed)
    }

    /// The descriptor of something as those see it who need it: filled, with what it imports.
    pub(crate) fn whole(&mut self, at: &Coordinates) -> Result<Option<Descriptor>, PinProblem> {
        let Some(found) = self.descriptor(at, 0)? else {
            return Ok(None);
        };
        let mut found = (*found).clone();
        found.fill();
        Ok(Some(found))
    }

    /// The versions that there are of something.
    pub(crate) fn versions(
        &self,
        group: &str,
        artifact: &str,
    ) -> Result<Vec<ArchiveVersion>, PinProblem> {
        let folder = format!("{}/{artifact}", group.replace('.', "/"));
        let what = format!("{group}:{artifact}");
        let origins = self.desk.origins_for(Registry::Java, &what)?;
        let mut found: BTreeMap<String, ()> = BTreeMap::new();
        for origin in &origins {
            let listed = origin
                .address
                .below(&folder)
                .and_then(|address| address.file())
                .map(std::fs::read_dir);
            for entry in listed.into_iter().flatten().flatten().flatten() {
                if entry.path().is_dir() {
                    found.extend(entry.file_name().into_string().ok().map(|name| (name, ())));
                }
            }
        }
        // A server that lists its folders says the same as a folder.
        if origins.iter().any(|origin| origin.address.is_far()) {
            let page = self.desk.page(
                Registry::Java,
                &format!("{folder}/"),
                Some("text/html"),
                &what,
            )?;
            for link in page
                .iter()
                .flat_map(|page| links(&page.document.bytes, &page.document.address))
            {
                let name = link.file_name();
                let is_inside = page
                    .as_ref()
                    .is_some_and(|page| link.is_directly_below(&page.document.address));
                found.extend((is_inside && is_part(&name)).then_some((name, ())));
            }
        }
        let mut versions: Vec<ArchiveVersion> =
            found.keys().map(|text| ArchiveVersion::new(text)).collect();
        versions.sort();
        Ok(versions)
    }

    /// The digest that is beside an archive.
    pub(crate) fn digest(
        &self,
        address: &Address,
        origin: &Origin,
    ) -> Result<Option<String>, PinProblem> {
        for (ending, method) in BESIDE {
            let Some(beside) = address.beside(ending) else {
                continue;
            };
            if let Some(bytes) = self.desk.beside(Registry::Java, &beside, origin)? {
                // Some write the name of the file behind it.
                let text = String::from_utf8_lossy(&bytes).to_lowercase();
                if let Some(hex) = text.split_whitespace().next() {
                    return Ok(Some(format!("{method}:{hex}")));
                }
            }
        }
        Ok(None)
    }
}

/// Where the archive of a path is: where its descriptor is.
pub(crate) fn locate(desk: &Desk<'_>, path: &str) -> Result<Option<(Address, Origin)>, PinProblem> {
    let parts: Vec<&str> = path.rsplitn(4, '/').collect();
    let [_, version, artifact, group] = parts.as_slice() else {
        return Ok(None);
    };
    let at = (
        group.replace('/', "."),
        (*artifact).to_owned(),
        (*version).to_owned(),
    );
    let page = desk.page(
        Registry::Java,
        &path_of(&at, "", "pom"),
        None,
        &format!("{}:{}", at.0, at.1),
    )?;
    Ok(page.and_then(|page| Some((page.origin.address.below(path)?, page.origin.clone()))))
}

/// The newest version that is not an early one.
pub(crate) fn newest(desk: &Desk<'_>, name: &str) -> Result<Option<String>, PinProblem> {
    let Some((group, artifact)) = name.split_once(':') else {
        return Ok(None);
    };
    let versions = JavaRepository::new(desk).versions(group, artifact)?;
    Ok(versions
        .into_iter()
        .rev()
        .find(|version| !version.is_early())
        .map(|version| version.text))
}
