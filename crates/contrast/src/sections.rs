//! Sections of objects and programs.

use std::ops::Range;

use object::{Object, ObjectSection};

/// The section that a byte of a file is in: its name, and where it begins.
pub(crate) fn section_at(bytes: &[u8], at: usize) -> Option<(String, usize)> {
    let found = sections(bytes)
        .into_iter()
        .find(|(_, range)| range.contains(&at));
    found.map(|(name, range)| (name, range.start))
}

fn sections(bytes: &[u8]) -> Vec<(String, Range<usize>)> {
    let Ok(file) = object::File::parse(bytes) else {
        return Vec::new();
    };
    let section = |section: object::Section<'_, '_>| {
        let (start, length) = section.file_range()?;
        let (start, end) = (
            usize::try_from(start).ok()?,
            usize::try_from(start.checked_add(length)?).ok()?,
        );
        Some((section.name().ok()?.to_owned(), start..end))
    };
    file.sections().filter_map(section).collect()
}

#[cfg(test)]
pub(crate) fn range_of(bytes: &[u8], name: &str) -> Option<Range<usize>> {
    sections(bytes)
        .into_iter()
        .find(|(known, _)| known == name)
        .map(|(_, range)| range)
}
