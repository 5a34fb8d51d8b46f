//! Names that earlier versions had for what has another one now: a definition that still has one is told the new one.

use nubrik_diagnostic::nearest;

/// Names before, with those of today.
const RENAMED: [(&str, &str); 8] = [
    ("check_program", "test_program"),
    ("dir", "folder"),
    ("linkable", "dependency"),
    ("links", "link_flags"),
    ("may_fail", "or_none"),
    ("offers", "exported_flags"),
    ("outdir", "outfolder"),
    ("scan", "probe"),
];

/// The name that was probably meant: the one that it has today, or else the nearest one.
pub(crate) fn meant<'a>(word: &str, names: impl IntoIterator<Item = &'a str> + Clone) -> Option<&'a str> {
    let now = RENAMED.iter().find(|(before, _)| *before == word).map(|(_, now)| *now);
    let renamed = now.and_then(|now| names.clone().into_iter().find(|name| *name == now));
    renamed.or_else(|| nearest(word, names))
}

#[cfg(test)]
mod tests {
    use super::meant;

    #[test]
    fn a_name_of_before_is_told_by_the_one_of_today_where_there_is_such() {
        assert_eq!(meant("links", ["lines", "link_flags"]), Some("link_flags"));
        assert_eq!(meant("links", ["lines"]), Some("lines"));
        assert_eq!(meant("offers", ["flags"]), None);
    }
}
