//! What names of folders and files say of sources in C and C++.

use crate::Survey;
use crate::tree::{folder_of, stem_of};

/// Folders of tests.
const TEST_FOLDERS: [&str; 9] = [
    "test",
    "tests",
    "t",
    "testing",
    "unittest",
    "unittests",
    "unit_tests",
    "unit-tests",
    "check",
];

/// Folders that show or measure something, or that others have added.
const SAMPLE_FOLDERS: [&str; 15] = [
    "example",
    "examples",
    "sample",
    "samples",
    "demo",
    "demos",
    "bench",
    "benchmark",
    "benchmarks",
    "perf",
    "fuzz",
    "fuzzing",
    "contrib",
    "doc",
    "docs",
];

/// Folders with other parts of a component.
const PART_FOLDERS: [&str; 15] = [
    "src", "source", "sources", "lib", "include", "inc", "tools", "tool", "programs", "progs",
    "app", "bin", "cmd", "util", "utils",
];

/// Whether a folder's name says what is in it, not to whom it belongs.
pub(super) fn is_part(folder: &str) -> bool {
    let name = folder.to_lowercase();
    [&TEST_FOLDERS[..], &SAMPLE_FOLDERS, &PART_FOLDERS]
        .iter()
        .any(|names| names.contains(&name.as_str()))
}

/// The component that a folder belongs to: what is above the first folder that only says what is in
/// it.
pub(super) fn component_of(folder: &str) -> String {
    let parts: Vec<&str> = folder.split('/').collect();
    let cut = parts.iter().position(|part| is_part(part));
    parts[..cut.unwrap_or(parts.len())].join("/")
}

/// Whether a file is for tests, by its folders or its name.
pub(super) fn is_of_tests(file: &str) -> bool {
    let named = |part: &str| {
        part.starts_with("test_")
            || part.starts_with("test-")
            || part.ends_with("_test")
            || part.ends_with("_tests")
    };
    super::goes_through(file, &TEST_FOLDERS) || folder_of(file).split('/').any(named)
}

/// Whether a file is called like a test.
pub(super) fn has_test_name(file: &str) -> bool {
    let stem = stem_of(file).to_lowercase();
    let ends = ["_test", "-test", "_tests", "-tests", "_unittest", "_check"];
    stem.starts_with("test_")
        || stem.starts_with("test-")
        || ends.iter().any(|end| stem.ends_with(end))
        || stem == "test"
        || stem == "tests"
}

/// Whether a file shows or measures something, by its folders.
pub(super) fn is_sample(file: &str) -> bool {
    super::goes_through(file, &SAMPLE_FOLDERS)
}

/// Whether a file is for tests, or shows something.
pub(super) fn is_sample_or_test(file: &str) -> bool {
    is_of_tests(file) || is_sample(file)
}

/// Whether a source is a test or sample of what lies among the tests itself.
pub(super) fn is_brought_along(file: &str) -> bool {
    let parts: Vec<&str> = folder_of(file).split('/').collect();
    let is_of_tests = |part: &&str| ["test", "tests", "testing"].contains(part);
    let Some(first) = parts.iter().position(is_of_tests) else {
        return false;
    };
    let inner = [
        "test",
        "tests",
        "example",
        "examples",
        "extras",
        "docs",
        "sample",
        "samples",
        "benchmark",
        "benchmarks",
    ];
    parts
        .iter()
        .skip(first + 2)
        .any(|part| inner.contains(part))
}

/// The name of a component: that of its folder, without the version that unpacked archives have
/// behind it.
pub(super) fn plain_name(survey: &Survey<'_>, component: &str) -> String {
    crate::without_version(&survey.name_of_folder(component)).to_owned()
}
