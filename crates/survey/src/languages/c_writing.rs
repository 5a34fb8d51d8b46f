//! Definitions of what the parts of C and C++ are.

use std::collections::{BTreeMap, BTreeSet};

use super::c_index::IncludeIndex;
use super::c_parts::{CPart, CRole, Included, Parts};
use super::c_places::is_part;
use super::c_scan::is_header;
use super::{config_header, makers, templates, usual_headers};
use crate::Survey;
use crate::proposal::{
    Body, Definition, DefinitionAddress, Expression, FieldValue, FormCall, Keyword, KindCall, Kit,
};
use crate::tree::{ext_of, folder_of, is_below, name_of};

/// What all is compiled with.
const FLAGS: &str = "-O2";

/// Writes what all parts are, in the order in which they need one another.
pub(super) fn write(
    survey: &mut Survey<'_>,
    index: &IncludeIndex<'_>,
    owners: &BTreeMap<&str, String>,
    parts: &Parts,
) {
    let resolved: Vec<Included> = parts
        .all
        .iter()
        .map(|part| parts.reach(index, owners, part, survey.machine))
        .collect();
    let mut writing = PartWriter {
        survey,
        index,
        owners,
        searched: BTreeMap::new(),
        laid: BTreeMap::new(),
        open: BTreeSet::new(),
        made: BTreeMap::new(),
    };
    for reach in &resolved {
        for (address, folders) in &reach.searched {
            writing
                .searched
                .entry(address.clone())
                .or_default()
                .extend(folders.iter().cloned());
        }
        for (owner, place, folder) in &reach.laid {
            writing
                .laid
                .entry(owner.clone())
                .or_default()
                .insert((place.clone(), folder.clone()));
        }
        writing
            .open
            .extend(reach.used_headers.iter().map(String::as_str));
    }
    let mut alone: Vec<(Definition, String)> = Vec::new();
    for (part, reach) in parts.all.iter().zip(&resolved) {
        let Some(definition) = writing.definition(part, reach) else {
            continue;
        };
        match (part.place.role, &part.main) {
            (CRole::Test | CRole::Sample, Some(main)) if part.sources.len() == 1 => {
                alone.push((definition, main.clone()));
            }
            _ => writing.survey.define(definition),
        }
    }
    for group in alike(alone) {
        define_alike(survey, group);
    }
}

/// What is known of all parts while each is written.
struct PartWriter<'w, 's> {
    survey: &'w mut Survey<'s>,
    index: &'w IncludeIndex<'w>,
    owners: &'w BTreeMap<&'w str, String>,
    /// By which folders the headers of each library are found, whoever includes them.
    searched: BTreeMap<DefinitionAddress, BTreeSet<String>>,
    /// Below which folders headers of each are laid, and where they lie.
    laid: BTreeMap<DefinitionAddress, BTreeSet<(String, String)>>,
    /// Headers of libraries that others include.
    open: BTreeSet<&'w str>,
    /// Headers that are made, by component; `None` where nothing is known that makes one.
    made: BTreeMap<(String, String), Option<DefinitionAddress>>,
}

/// What makes a header, and the files that include it.
type MadeHeader = (FieldValue, BTreeSet<String>);

/// Headers that are not in the tree.
struct MadeHeaders {
    /// Those that are included by their names alone.
    beside: Vec<MadeHeader>,
    /// Folders with those that are included by a path.
    laid: Vec<FieldValue>,
    /// What is to be said of those that nothing makes.
    lacking: Vec<String>,
}

impl PartWriter<'_, '_> {
    fn definition(&mut self, part: &CPart, reach: &Included) -> Option<Definition> {
        let address = part.address.clone()?;
        let role = part.place.role;
        self.claim_folders(&reach.more_sources);
        let (sources, generated) = self.sources(part, reach);
        let mut call = KindCall::new(Kit::C, role.kind()).with("sources", sources);
        let MadeHeaders {
            beside: mut made_headers,
            laid,
            lacking: reasons,
        } = self.made_headers(part, reach, &generated);
        let generated = generated
            .into_values()
            .map(|value| (value, BTreeSet::new()));
        made_headers.splice(0..0, generated);
        self.headers(&mut call, part, reach, made_headers);
        let own_folders = self.searched.get(&address).cloned().unwrap_or_default();
        call.set("include", folders(&own_folders, &reach.own_headers));
        for (place, folder) in self.laid.remove(&address).into_iter().flatten() {
            let name = laid_headers(
                self.survey,
                self.index,
                &part.place.component,
                &place,
                &folder,
            );
            call.add_item("include", FieldValue::Of(name));
        }
        for folder in laid {
            call.add_item("include", folder);
        }
        if role != CRole::Test {
            call.set("reads", FieldValue::Files(reach.reads.clone()));
        }
        self.flags(&mut call, role, reach);
        let mut own = part.sources.iter();
        if role == CRole::Helpers && own.any(|source| self.registers_itself(source)) {
            call.set("whole", FieldValue::Bool(true));
        }
        let libraries = reach.libraries.iter().cloned();
        let needs = reach.needs.iter().cloned().map(FieldValue::Of);
        let needs = needs.chain(libraries.map(FieldValue::SystemLibrary));
        call.set("needs", FieldValue::List(needs.collect()));
        let keyword = if role == CRole::Test {
            Keyword::Test
        } else {
            Keyword::Target
        };
        let documentation = part.documentation(self.survey, &address);
        let definition =
            Definition::new(keyword, &address, documentation, Body::Kind(call)).because(reasons);
        let is_private = role == CRole::Helpers;
        Some(Definition {
            is_private,
            assumed: reach.assumed.clone(),
            ..definition
        })
    }

    /// Takes the folders of sources that a definition uses out of what is left out.
    fn claim_folders(&mut self, sources: &BTreeSet<String>) {
        let used: BTreeSet<&str> = sources.iter().map(|source| folder_of(source)).collect();
        let left_out = &mut self.survey.proposal.left_out;
        left_out.retain(|left| !used.contains(left.what.as_str()));
    }

    /// Whether nobody can refer to what is in a source, for no header in the tree is named like it:
    /// a test in it registers itself when the program starts, and of an archive a linker would not
    /// take it.
    fn registers_itself(&self, source: &str) -> bool {
        let stem = |path: &str| {
            name_of(path)
                .rsplit_once('.')
                .map_or("", |(stem, _)| stem)
                .to_owned()
        };
        let own = stem(source);
        let mut files = self.survey.tree.files().iter();
        ext_of(source) != "c"
            && !files.any(|file| is_header(file) && stem(file).eq_ignore_ascii_case(&own))
    }

    /// The sources of a part with those that are made of descriptions beside them, and the headers
    /// that are made with these, by their names.
    fn sources(
        &mut self,
        part: &CPart,
        reach: &Included,
    ) -> (FieldValue, BTreeMap<String, FieldValue>) {
        let files = FieldValue::Files(part.sources.union(&reach.more_sources).cloned().collect());
        let mut headers = BTreeMap::new();
        if !matches!(part.place.role, CRole::Library | CRole::Program) {
            return (files, headers);
        }
        let mut all = vec![files.clone()];
        for (address, header) in
            makers::generated(self.survey, &part.place.component, &part.sources)
        {
            let output = |name: &str| FieldValue::Expression(Expression::of(&address).then(name));
            all.push(output(".source"));
            headers.extend(header.map(|header| (header, output(".header"))));
        }
        (
            if all.len() == 1 {
                files
            } else {
                FieldValue::List(all)
            },
            headers,
        )
    }

    /// What makes headers that are not in the tree.
    fn made_headers(
        &mut self,
        part: &CPart,
        reach: &Included,
        generated: &BTreeMap<String, FieldValue>,
    ) -> MadeHeaders {
        let component = &part.place.component;
        let (mut headers, mut laid): (Vec<MadeHeader>, Vec<FieldValue>) = Default::default();
        let mut nowhere: BTreeMap<&String, Vec<&String>> = BTreeMap::new();
        for (header, includer) in reach
            .missing
            .iter()
            .filter(|(header, _)| !generated.contains_key(header))
        {
            let key = (component.clone(), header.clone());
            let known = match self.made.get(&key) {
                Some(known) => known.clone(),
                None => {
                    let found = self.maker_of(component, header, reach.wants_config);
                    self.made.insert(key, found.clone());
                    found
                }
            };
            match known {
                Some(address) if header.contains('/') => {
                    let folder = FieldValue::Of(address);
                    if !laid.contains(&folder) {
                        laid.push(folder);
                    }
                }
                Some(address) => {
                    let made = FieldValue::Of(address);
                    match headers.iter_mut().find(|(known, _)| *known == made) {
                        Some((_, includers)) => drop(includers.insert(includer.clone())),
                        None => headers.push((made, BTreeSet::from([includer.clone()]))),
                    }
                }
                None if !includer.is_empty() => nowhere.entry(header).or_default().push(includer),
                None => {}
            }
        }
        let reason = |(header, includers): (&String, Vec<&String>)| match &*includers {
            [first] => format!("{first} includes {header}, which is not here."),
            [first, more @ ..] => {
                format!(
                    "{first} and {} more include {header}, which is not here.",
                    more.len()
                )
            }
            [] => String::new(),
        };
        MadeHeaders {
            beside: headers,
            laid,
            lacking: nowhere.into_iter().map(reason).collect(),
        }
    }

    /// Proposes a definition that makes a header, if there is a way.
    fn maker_of(
        &mut self,
        component: &str,
        header: &str,
        wants_config: bool,
    ) -> Option<DefinitionAddress> {
        let asks = (self.index.scans, self.owners, wants_config);
        let usual = |survey: &mut _| usual_headers::propose(survey, self.owners, component, header);
        let found = config_header::propose(self.survey, asks, component, header)
            .or_else(|| templates::propose(self.survey, component, header))
            .or_else(|| usual(self.survey))
            .or_else(|| makers::propose(self.survey, component, header));
        found.map(|made| laid_below(self.survey, component, folder_of(header), made))
    }

    fn headers(&self, call: &mut KindCall, part: &CPart, reach: &Included, made: Vec<MadeHeader>) {
        let mut internal: Vec<FieldValue> = Vec::new();
        let own: BTreeSet<String> = match part.place.role {
            CRole::Library | CRole::Helpers => {
                let (public, own) =
                    self.index
                        .parted(&reach.own_headers, &self.open, &part.sources);
                // What headers for users include, users need, too.
                let is_open = |(_, includers): &MadeHeader| !includers.is_disjoint(&public);
                let (open, inner): (Vec<MadeHeader>, Vec<MadeHeader>) =
                    made.into_iter().partition(is_open);
                internal.extend(inner.into_iter().map(|(made, _)| made));
                let mut headers: Vec<FieldValue> = open.into_iter().map(|(made, _)| made).collect();
                if headers.is_empty() {
                    call.set("headers", FieldValue::Files(public));
                } else {
                    headers.push(FieldValue::Files(public));
                    call.set("headers", FieldValue::List(headers));
                }
                own
            }
            // What a test program `reads`, it reads when it runs: what its sources include is among
            // its headers.
            CRole::Test => {
                internal.extend(made.into_iter().map(|(made, _)| made));
                reach.own_headers.union(&reach.reads).cloned().collect()
            }
            CRole::Program | CRole::Sample => {
                internal.extend(made.into_iter().map(|(made, _)| made));
                reach.own_headers.clone()
            }
        };
        if !own.is_empty() {
            internal.push(FieldValue::Files(own));
        }
        call.set("internal", FieldValue::List(internal));
    }

    fn flags(&self, call: &mut KindCall, role: CRole, reach: &Included) {
        let mut flags = vec![FLAGS.to_owned()];
        if reach.wants_config && !reach.missing.is_empty() {
            flags.push("-DHAVE_CONFIG_H".to_owned());
        }
        flags.extend(self.index.systems.iter().map(|name| format!("-D{name}=1")));
        if call.field("sources").is_some() {
            call.set("flags", FieldValue::texts(flags));
        }
        if reach.links.contains("-pthread") && role == CRole::Library {
            call.set("exported_flags", FieldValue::texts(["-pthread"]));
        }
        call.set("link_flags", FieldValue::texts(reach.links.iter().copied()));
    }
}

/// Folders to search, without those that are searched anyway because headers lie in them.
fn folders(folders: &BTreeSet<String>, headers: &BTreeSet<String>) -> FieldValue {
    let deep = folders.iter().filter(|folder| {
        headers
            .iter()
            .any(|header| is_below(header, folder) && folder_of(header) != folder.as_str())
    });
    let deep: BTreeSet<&String> = deep.collect();
    let is_needed = |folder: &&String| {
        deep.contains(folder) || deep.iter().any(|other| is_below(folder, other))
    };
    FieldValue::List(
        folders
            .iter()
            .filter(is_needed)
            .map(|folder| FieldValue::Folder(folder.clone()))
            .collect(),
    )
}

/// Tests of one source each that are otherwise the same, in groups.
fn alike(tests: Vec<(Definition, String)>) -> Vec<Vec<(Definition, String)>> {
    let mut groups: Vec<Vec<(Definition, String)>> = Vec::new();
    // What all have besides their own source counts, too.
    let shape = |(definition, own): &(Definition, String)| {
        let keyword = definition.keyword;
        let mut beside: BTreeSet<String> = definition
            .body
            .calls()
            .iter()
            .flat_map(|call| call.files("sources"))
            .collect();
        beside.remove(own);
        let calls: Vec<KindCall> = definition.body.calls().into_iter().cloned().collect();
        let fields: Vec<(&'static str, FieldValue)> = calls
            .into_iter()
            .flat_map(|call| call.fields)
            .filter(|(name, _)| *name != "sources")
            .collect();
        (
            keyword,
            definition.address.package.clone(),
            definition.reasons.clone(),
            beside,
            fields,
        )
    };
    for test in tests {
        let same = groups.iter_mut().find(|group| {
            shape(&group[0]) == shape(&test) && folder_of(&group[0].1) == folder_of(&test.1)
        });
        match same {
            Some(group) => group.push(test),
            None => groups.push(vec![test]),
        }
    }
    groups
}

/// Defines tests, or samples, that are the same but for their source.
fn define_alike(survey: &mut Survey<'_>, mut group: Vec<(Definition, String)>) {
    let endings: BTreeSet<&str> = group.iter().map(|(_, source)| ext_of(source)).collect();
    if group.len() <= 2 || endings.len() > 1 {
        group
            .into_iter()
            .for_each(|(definition, _)| survey.define(definition));
        return;
    }
    let files: BTreeSet<String> = group.iter().map(|(_, source)| source.clone()).collect();
    let (first, own) = group.remove(0);
    let Body::Kind(mut call) = first.body else {
        return;
    };
    let mut beside = call.files("sources");
    beside.remove(&own);
    call.set("sources", FieldValue::Files(beside));
    let folder = files.first().map_or("", |file| folder_of(file));
    let wish = if is_part(name_of(folder)) {
        "unit"
    } else {
        name_of(folder)
    };
    let is_test = first.keyword == Keyword::Test;
    let (wish, or_else) = match (is_test, is_part(name_of(folder))) {
        (true, _) => (wish, "tests"),
        (false, true) => (name_of(folder), "programs"),
        (false, false) => (name_of(folder), "samples"),
    };
    let address = survey.names.give(&first.address.package, wish, or_else);
    let what = if is_test { "test" } else { "program" };
    let documentation = format!(
        "A {what} for each source in {}.",
        if folder.is_empty() {
            "this folder"
        } else {
            folder
        }
    );
    survey.define(
        Definition::new(
            first.keyword,
            &address,
            documentation,
            Body::Each(files, "sources", call),
        )
        .because(first.reasons),
    );
}

/// A definition of a folder in which a header that is made lies where it is included: below
/// `place`. Without a place it is the header.
fn laid_below(
    survey: &mut Survey<'_>,
    component: &str,
    place: &str,
    made: DefinitionAddress,
) -> DefinitionAddress {
    if place.is_empty() {
        return made;
    }
    let address = survey
        .names
        .give(component, &format!("{}_folder", made.name), "folder");
    let files = FieldValue::Map(vec![(format!("{place}/"), FieldValue::Of(made))]);
    let fields = vec![("path", FieldValue::text("include")), ("files", files)];
    let stage = FormCall {
        form: "stage",
        fields,
        takes: BTreeSet::new(),
    };
    let documentation = format!("The header as it is included: below {place}.");
    survey.define(
        Definition::new(Keyword::Target, &address, documentation, Body::Form(stage)).private(),
    );
    address
}

/// A definition of a folder in which headers lie where they are included, which is not where they
/// lie in the tree.
fn laid_headers(
    survey: &mut Survey<'_>,
    index: &IncludeIndex<'_>,
    component: &str,
    place: &str,
    folder: &str,
) -> DefinitionAddress {
    let files: BTreeSet<String> = index
        .scans
        .keys()
        .filter(|file| is_header(file) && folder_of(file) == folder)
        .map(|file| (*file).to_owned())
        .collect();
    let exts: BTreeSet<&str> = files.iter().map(|file| crate::tree::ext_of(file)).collect();
    let exts = exts.into_iter().collect::<Vec<_>>().join(",");
    let ending = if exts.contains(',') {
        format!("{{{exts}}}")
    } else {
        exts
    };
    let pattern = match crate::tree::below(folder, component) {
        _ if folder == component => format!("*.{ending}"),
        _ if !component.is_empty() && !crate::tree::is_below(&format!("{folder}/x"), component) => {
            format!("/{folder}/*.{ending}")
        }
        inside => format!("{inside}/*.{ending}"),
    };
    let pattern = crate::writing::quoted(&pattern);
    let address = survey
        .names
        .give(component, &format!("{place}_headers"), "folder");
    survey.define(
        Definition::new(
            Keyword::Target,
            &address,
            format!("The headers as they are included: below {place}."),
            Body::Code(
                format!(
                    "stage {{ path = \"include\", files = {{ \"{place}/\": glob({pattern}) }} }}"
                ),
                files,
            ),
        )
        .private(),
    );
    address
}
