//! C and C++: which sources make a library, a program or a test, by folder, and what they include.

use std::collections::{BTreeMap, BTreeSet};

use regex::Regex;

use super::c_index::IncludeIndex;
use super::c_parts::{CPlace, CRole, Parts};
use super::c_places::{
    component_of, has_test_name, is_brought_along, is_of_tests, is_sample, is_sample_or_test,
};
use super::c_scan::{SourceScan, is_header, is_source, scan, without_comments};
use super::c_system::{is_of_another_system, other_system_of};
use crate::Survey;
use crate::proposal::Kit;
use crate::tree::{ext_of, folder_of, joined, name_of, stem_of};

pub(super) fn look(survey: &mut Survey<'_>) {
    let tree = survey.tree;
    let files = tree
        .files()
        .iter()
        .filter(|file| (is_source(file) || is_header(file)) && !survey.is_claimed(file));
    let mut scans: BTreeMap<&str, SourceScan> = files
        .map(|file| {
            (
                file.as_str(),
                scan(file, &tree.text(file).unwrap_or_default()),
            )
        })
        .collect();
    // What is included may bring `main`, as small frameworks of tests do, and sources that are
    // compiled in two languages.
    let begun: BTreeSet<String> = IncludeIndex::of(tree, &scans)
        .begun_by_others()
        .into_iter()
        .map(str::to_owned)
        .collect();
    for (file, scan) in scans.iter_mut().filter(|(file, _)| begun.contains(**file)) {
        scan.has_main |= is_source(file);
    }
    let sources: Vec<&str> = scans
        .keys()
        .copied()
        .filter(|file| is_source(file))
        .collect();
    survey.count(Kit::C, sources.len());
    if sources.is_empty() {
        return;
    }
    let index = IncludeIndex::of(tree, &scans);
    let owners = components(&index);
    let mut parts = Parts::default();
    let used = index.used_components(&owners);
    let included = index.included_sources();
    let mut components: BTreeMap<&str, BTreeSet<&str>> = BTreeMap::new();
    for (file, owner) in &owners {
        components.entry(owner).or_default().insert(file);
    }
    for (folder, mine) in components {
        let component = Component {
            folder,
            mine: &mine,
            included: &included,
            is_used: used.contains(folder),
        };
        sort(survey, &component, &index, &mut parts);
    }
    super::c_names::name(survey, &mut parts);
    parts.settle();
    super::c_writing::write(survey, &index, &owners, &parts);
}

/// The component that each file belongs to: the folder above the first one that only says what is
/// in it. Components that include one another become one.
fn components<'a>(index: &IncludeIndex<'a>) -> BTreeMap<&'a str, String> {
    let mut owners: BTreeMap<&str, String> = index
        .scans
        .keys()
        .map(|file| (*file, component_of(folder_of(file))))
        .collect();
    loop {
        let mut edges: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
        for (file, users) in index.includers() {
            let Some(owner) = owners.get(file) else {
                continue;
            };
            for user in users.iter().filter(|user| owners[**user] != *owner) {
                edges
                    .entry(owners[*user].clone())
                    .or_default()
                    .insert(owner.clone());
            }
        }
        let Some((one, other)) = circle(&edges) else {
            return owners;
        };
        let top = crate::covers::common_folder(&BTreeSet::from([
            format!("{one}/x").trim_start_matches('/'),
            format!("{other}/x").trim_start_matches('/'),
        ]));
        for owner in owners
            .values_mut()
            .filter(|owner| **owner == one || **owner == other)
        {
            owner.clone_from(&top);
        }
    }
}

/// Two that reach each other, if any do.
fn circle(edges: &BTreeMap<String, BTreeSet<String>>) -> Option<(String, String)> {
    let reach = |from: &String| {
        let mut seen: BTreeSet<&String> = BTreeSet::new();
        let mut queue: Vec<&String> = edges.get(from).into_iter().flatten().collect();
        while let Some(next) = queue.pop() {
            if seen.insert(next) {
                queue.extend(edges.get(next).into_iter().flatten());
            }
        }
        seen
    };
    edges.keys().find_map(|one| {
        let seen = reach(one);
        if !seen.contains(one) {
            return None;
        }
        let other = seen
            .into_iter()
            .find(|other| *other != one && reach(other).contains(one))?;
        Some((one.clone(), other.clone()))
    })
}

/// What lies in a folder and belongs together.
struct Component<'c> {
    folder: &'c str,
    /// Its sources and headers.
    mine: &'c BTreeSet<&'c str>,
    /// Sources that others include.
    included: &'c BTreeSet<&'c str>,
    /// Whether other components include something of it.
    is_used: bool,
}

/// Files by the folders that they are in.
fn by_folder(files: &BTreeSet<&str>) -> BTreeMap<String, BTreeSet<String>> {
    let mut folders: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
    for file in files {
        folders
            .entry(folder_of(file).to_owned())
            .or_default()
            .insert((*file).to_owned());
    }
    folders
}

/// The sources of a component that are to be compiled here; the others are left out, each for a
/// reason.
fn own_sources<'c>(
    survey: &mut Survey<'_>,
    component: &Component<'c>,
    index: &IncludeIndex<'_>,
) -> BTreeSet<&'c str> {
    let Component {
        folder,
        mine,
        included,
        ..
    } = *component;
    let mut sources: BTreeSet<&'c str> = BTreeSet::new();
    for file in mine
        .iter()
        .copied()
        .filter(|file| is_source(file) && !included.contains(file))
    {
        let inside = crate::tree::below(file, folder);
        let is_fuzz = index
            .tree
            .text(file)
            .is_some_and(|text| text.contains("LLVMFuzzerTestOneInput"))
            && !index.has_included_header(file);
        if is_brought_along(inside) {
            survey.leave_out(
                folder_of(file),
                "it belongs to something that the tests bring along",
            );
        } else if let Some(system) = other_system_of(inside) {
            survey.leave_out(file, format!("its name says that it is for {system}"));
        } else if let Some(header) = other_systems_header(index, file) {
            survey.leave_out(
                file,
                format!("it includes {header}, which this system does not have"),
            );
        } else if is_fuzz {
            survey.leave_out(
                file,
                "it is started by a fuzzer, which is no part of a build",
            );
        } else if let Some(function) = replaced_function(survey, file) {
            survey.leave_out(
                file,
                format!("this system has a function {function} of its own"),
            );
        } else if let Some(other) = numbered_version_of(file, mine) {
            survey.leave_out(file, format!("it is another version of {}", name_of(other)));
        } else {
            sources.insert(file);
        }
    }
    sources
}

/// The function that a source is called after and defines for systems that lack it, where this
/// system has it.
fn replaced_function<'f>(survey: &Survey<'_>, file: &'f str) -> Option<&'f str> {
    let function = stem_of(file);
    if !survey.machine.has_function(function) {
        return None;
    }
    let text = survey.tree.text(file)?;
    let defines = Regex::new(&format!(
        r"(?m)^[A-Za-z_][\w\s*]*\b{}\s*\([^;]*$",
        regex::escape(function)
    ))
    .ok()?;
    let is_defined = without_comments(&text)
        .lines()
        .any(|line| defines.is_match(line) && !line.starts_with("static"));
    // Somebody asks whether the system has it.
    let asked = Regex::new(&format!(r"\bHAVE_(?:DECL_)?{}\b", function.to_uppercase())).ok()?;
    let asks = |file: &&String| {
        (is_source(file) || is_header(file) || file.ends_with(".in"))
            && survey
                .tree
                .text(file)
                .is_some_and(|text| asked.is_match(&text))
    };
    (is_defined && survey.tree.files().iter().any(|file| asks(&file))).then_some(function)
}

/// The source beside another one of which it is a numbered version: `tide.2.c` of `tide.c`.
fn numbered_version_of<'m>(file: &str, files: &BTreeSet<&'m str>) -> Option<&'m str> {
    let (stem, number) = stem_of(file).rsplit_once('.')?;
    let other = joined(folder_of(file), &format!("{stem}.{}", ext_of(file)))?;
    let is_number = !number.is_empty() && number.bytes().all(|byte| byte.is_ascii_digit());
    is_number
        .then(|| files.get(other.as_str()).copied())
        .flatten()
}

/// Takes the sources beside the only program of a folder out of the library, if that lies somewhere
/// else: they are that program's.
fn companions_of<'f>(
    mains: &[&'f str],
    library: &mut BTreeSet<&'f str>,
    index: &IncludeIndex<'_>,
) -> BTreeMap<&'f str, BTreeSet<&'f str>> {
    let mut companions = BTreeMap::new();
    for main in mains {
        let beside: BTreeSet<&str> = library
            .iter()
            .copied()
            .filter(|file| folder_of(file) == folder_of(main))
            .collect();
        let is_alone = mains
            .iter()
            .filter(|other| folder_of(other) == folder_of(main))
            .count()
            == 1;
        let is_used = beside.iter().any(|file| index.used_from_elsewhere(file));
        if is_alone && beside.len() < library.len() && !is_used {
            library.retain(|file| !beside.contains(file));
            companions.insert(*main, beside);
        }
    }
    companions
}

/// Sorts the sources of a component into a library, programs and tests.
fn sort(
    survey: &mut Survey<'_>,
    component: &Component<'_>,
    index: &IncludeIndex<'_>,
    parts: &mut Parts,
) {
    let Component {
        folder,
        mine,
        is_used,
        ..
    } = *component;
    let sources = own_sources(survey, component, index);
    let has_main = |file: &&&str| index.scans[**file].has_main;
    let is_test = |file: &str| {
        is_of_tests(file)
            || (has_test_name(file) && (index.scans[file].has_main || index.scans[file].has_cases))
    };
    let of_kind = |is: &dyn Fn(&str) -> bool| -> BTreeSet<&str> {
        sources.iter().copied().filter(|file| is(file)).collect()
    };
    let tests = of_kind(&is_test);
    let samples = of_kind(&|file| !is_test(file) && is_sample(file));
    let rest = of_kind(&|file| !tests.contains(file) && !samples.contains(file));
    let mains: Vec<&str> = rest.iter().filter(has_main).copied().collect();
    let mut library: BTreeSet<&str> = rest;
    library.retain(|file| !index.scans[file].has_main);
    let place = |role, place: &str| CPlace {
        component: folder.to_owned(),
        role,
        folder: place.to_owned(),
    };
    let others_use_it = is_used || !tests.is_empty() || !samples.is_empty();
    if let ([main], false) = (&*mains, others_use_it || has_public_headers(mine, folder)) {
        let all = library.iter().chain([main]);
        let all = all.map(|file| (*file).to_owned()).collect();
        parts.add(place(CRole::Program, ""), all, Some((*main).to_owned()));
        return;
    }
    let mut companions = companions_of(&mains, &mut library, index);
    // Headers alone are a library, too, where others are there to use them.
    let is_open = |file: &&str| is_header(file) && !is_sample_or_test(file);
    let is_headers_alone = library.is_empty() && others_use_it && mine.iter().any(is_open);
    if !library.is_empty() || is_headers_alone {
        let sources = library.iter().map(|file| (*file).to_owned()).collect();
        parts.add(place(CRole::Library, ""), sources, None);
    }
    for main in mains {
        let own = companions.remove(main).unwrap_or_default();
        let own = own.into_iter().chain([main]).map(str::to_owned).collect();
        parts.add(place(CRole::Program, ""), own, Some(main.to_owned()));
    }
    for (role, files) in [(CRole::Sample, samples), (CRole::Test, tests)] {
        for (inside, files) in by_folder(&files) {
            sort_programs(survey, &files, index, parts, &place(role, &inside));
        }
    }
}

/// Whether headers of a component are in a folder for others.
fn has_public_headers<'f>(files: impl IntoIterator<Item = &'f &'f str>, folder: &str) -> bool {
    files.into_iter().any(|file| {
        let inside = folder_of(crate::tree::below(file, folder));
        is_header(file) && inside.split('/').any(|part| part == "include")
    })
}

/// A header of another system that a source includes, whatever is asked about.
fn other_systems_header<'i>(index: &'i IncludeIndex<'_>, source: &str) -> Option<&'i str> {
    let includes = index.scans[source]
        .includes
        .iter()
        .filter(|include| !include.is_conditional);
    let mut others = includes.filter(|include| is_of_another_system(&include.path));
    others
        .find(|one| index.included(source, &one.path, one.is_quoted).is_none())
        .map(|one| one.path.as_str())
}

/// The programs in a folder of tests or samples: one for each `main`. Sources with cases and no
/// `main` are one program with the `main` beside them, or with that of their framework.
fn sort_programs(
    survey: &mut Survey<'_>,
    files: &BTreeSet<String>,
    index: &IncludeIndex<'_>,
    parts: &mut Parts,
    place: &CPlace,
) {
    let scan = |file: &String| &index.scans[file.as_str()];
    let mains: Vec<&String> = files.iter().filter(|file| scan(file).has_main).collect();
    let cases: BTreeSet<String> = files
        .iter()
        .filter(|file| scan(file).has_cases && !scan(file).has_main)
        .cloned()
        .collect();
    let helpers: BTreeSet<String> = files
        .iter()
        .filter(|file| !scan(file).has_main && !scan(file).has_cases)
        .cloned()
        .collect();
    match (mains.as_slice(), cases.is_empty()) {
        ([], true) => {
            survey.leave_out(&place.folder, "no program begins in its sources");
        }
        ([], false) => {
            for case in cases {
                let own = helpers.iter().cloned().chain([case.clone()]).collect();
                parts.add(place.clone(), own, Some(case));
            }
        }
        ([main], _) => {
            let main = (*main).clone();
            let own = [main.clone()];
            let all = helpers.into_iter().chain(cases).chain(own).collect();
            parts.add(place.clone(), all, Some(main));
        }
        (mains, _) => {
            let mut folders = place.folder.split('/');
            // What is no program in a manual is a part of its text.
            let helpers = match folders.any(|part| matches!(part, "doc" | "docs")) {
                true => BTreeSet::new(),
                false => helpers,
            };
            let shared: BTreeSet<String> = helpers.into_iter().chain(cases).collect();
            if !shared.is_empty() {
                let role = CRole::Helpers;
                let place = CPlace {
                    role,
                    ..place.clone()
                };
                parts.add(place, shared, None);
            }
            for main in mains {
                let main = (*main).clone();
                parts.add(place.clone(), BTreeSet::from([main.clone()]), Some(main));
            }
        }
    }
}
