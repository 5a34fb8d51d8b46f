//! Names that earlier versions had for what has another one now: a definition that still has one
//! gets the new one.

use nubrik_diagnostic::nearest;

/// Names before, with those of today.
const RENAMED: [(&str, &str); 27] = [
    ("bound", "merged"),
    ("check_program", "test_program"),
    ("compiles", "code_compiles"),
    ("dependency", "linked"),
    ("dir", "folder"),
    ("foreign", "third_party"),
    ("has_function", "function_exists"),
    ("has_header", "header_exists"),
    ("has_symbol", "symbol_links"),
    ("language", "go_version"),
    ("line_counter", "coverage_tool"),
    ("linkable", "linked"),
    ("links", "link_flags"),
    ("made", "generated"),
    ("manual", "man_page"),
    ("may_fail", "or_none"),
    ("of", "module"),
    ("offers", "exported_flags"),
    ("optimise", "tuning"),
    ("outdir", "outfolder"),
    ("point", "entry_point"),
    ("prefix", "precompiled"),
    ("prefix_header", "precompiled_header"),
    ("requires", "install_requires"),
    ("scan", "probe"),
    ("size_of", "type_size"),
    ("whole_program", "lto"),
];

/// Names that other tools and languages have for what a field is called here.
const HABITS: [(&str, &[&str]); 22] = [
    ("cflags", &["flags"]),
    ("cmd", &["run"]),
    ("command", &["run"]),
    ("commands", &["run"]),
    ("copts", &["flags"]),
    ("cwd", &["folder"]),
    ("dependencies", &["needs"]),
    ("deps", &["needs"]),
    ("description", &["say"]),
    ("directory", &["folder"]),
    ("environment", &["env"]),
    ("hdrs", &["headers", "internal"]),
    ("includes", &["include"]),
    ("inputs", &["reads"]),
    ("ldflags", &["link_flags"]),
    ("libs", &["link_flags"]),
    ("message", &["say"]),
    ("outputs", &["makes"]),
    ("sha256", &["digest"]),
    ("src", &["sources", "source"]),
    ("srcs", &["sources"]),
    ("workdir", &["folder"]),
];

/// The name that was probably meant: the one that it has today, or that is meant by habit, or else
/// the nearest one.
pub(crate) fn meant<'a>(
    word: &str,
    names: impl IntoIterator<Item = &'a str> + Clone,
) -> Option<&'a str> {
    let now = RENAMED
        .iter()
        .find(|(before, _)| *before == word)
        .map(|(_, now)| *now);
    let renamed = now.and_then(|now| names.clone().into_iter().find(|name| *name == now));
    let by_habit = || {
        let (_, here) = HABITS.iter().find(|(habit, _)| *habit == word)?;
        names.clone().into_iter().find(|name| here.contains(name))
    };
    renamed
        .or_else(by_habit)
        .or_else(|| nearest(word, names.clone()))
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

    #[test]
    fn habits_count_where_there_is_such_a_name() {
        assert_eq!(meant("srcs", ["sources", "flags"]), Some("sources"));
        assert_eq!(meant("hdrs", ["internal", "flags"]), Some("internal"));
        assert_eq!(meant("cmd", ["flags"]), None);
    }
}
