//! One reader for each language.

mod c;
mod c_index;
mod c_names;
mod c_parts;
mod c_places;
mod c_scan;
mod c_system;
mod c_writing;
mod config_header;
mod documents;
mod fortran;
mod fortran_in_c;
mod fortran_scan;
mod go;
mod holes;
mod java;
mod js;
mod js_manifest;
mod makers;
mod node_scripts;
mod python;
mod python_facts;
mod python_names;
mod python_tests;
mod rust;
mod rust_manifest;
mod templates;
mod tsconfig;
mod usual_headers;

use crate::Survey;
use crate::tree::name_of;
pub(crate) use c_scan::{
    Include, is_header as is_c_header, is_source as is_c_source, scan as scan_c,
};
pub(crate) use config_header::version_value;
pub(crate) use fortran::is_source as is_fortran_source;
pub(crate) use python_names::package_of as python_package_of;

/// Looks for every language. Those whose packages have manifests come first: sources of C may be
/// part of these.
pub(crate) fn look(survey: &mut Survey<'_>) {
    rust::look(survey);
    go::look(survey);
    js::look(survey);
    java::look(survey);
    python::look(survey);
    fortran::look(survey);
    documents::look(survey);
    c::look(survey);
    fortran_in_c::look(survey);
}

/// The folders of files of this name, sorted.
fn folders_of(survey: &Survey<'_>, name: &str) -> Vec<String> {
    let files = survey
        .tree
        .files()
        .iter()
        .filter(|file| name_of(file) == name);
    files
        .map(|file| crate::tree::folder_of(file).to_owned())
        .collect()
}

/// Folders in which examples, tests of manifests and the like are, which are no packages of the
/// project.
fn is_sample(folder: &str) -> bool {
    let samples = [
        "testdata",
        "fixtures",
        "fixture",
        "__fixtures__",
        "test-fixtures",
    ];
    folder.split('/').any(|part| samples.contains(&part))
}

/// Whether a path goes through a folder of one of these names.
fn goes_through(path: &str, names: &[&str]) -> bool {
    crate::tree::folder_of(path)
        .split('/')
        .any(|part| names.contains(&part.to_lowercase().as_str()))
}
