//! How values are called when they are listed and published.

use std::sync::Arc;

use nubrik_source::{WsPath, written_text};

use crate::value::Value;

/// What a target is, in one word: the kind that made it, or the form.
pub(crate) fn value_kind(value: &Value) -> Arc<str> {
    match value {
        Value::Record(record) => match &record.kind {
            Some(kind) => kind.clone(),
            None => "record".into(),
        },
        Value::Step(_) => "step".into(),
        Value::Effect(_) => "effect".into(),
        Value::Service(_) => "service".into(),
        Value::Map(_) => "map".into(),
        Value::List(_) => "list".into(),
        _ => "files".into(),
    }
}

/// Where a result is published, below the folder of results.
///
/// A single result that already bears the name of its target or key (`tidecast`, `libtidecast.a`,
/// `ardle.html`) is beside it; others are in a folder of that name.
pub(crate) fn published_name(
    package: &WsPath,
    parts: &[Arc<str>],
    written: &str,
    alone: bool,
) -> WsPath {
    let (last, outer) = parts
        .split_last()
        .map_or(("", parts), |(last, outer)| (&**last, outer));
    let (inner, name) = last
        .rsplit_once('/')
        .map_or((None, last), |(inner, name)| (Some(inner), name));
    let stem = written.split('.').next().unwrap_or(written);
    let beside =
        alone && !written.contains('/') && (stem == name || stem.strip_prefix("lib") == Some(name));
    let last = if beside {
        inner
    } else {
        Some(last).filter(|last| !last.is_empty())
    };
    WsPath::from_normal_text(written_text(|path| {
        path.push_str(package.as_str());
        for name in outer
            .iter()
            .map(|part| &**part)
            .chain(last)
            .chain([written])
        {
            if !path.is_empty() {
                path.push('/');
            }
            path.push_str(name);
        }
    }))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lone_results_stand_beside_their_target() {
        let tide = WsPath::from_normal("tide");
        let name = |parts: &[&str], written: &str, alone| {
            let parts: Vec<Arc<str>> = parts.iter().map(|p| (*p).into()).collect();
            published_name(&tide, &parts, written, alone)
                .as_str()
                .to_owned()
        };
        assert_eq!(name(&["tidecast"], "tidecast", true), "tide/tidecast");
        assert_eq!(
            name(&["harmonics"], "libharmonics.a", true),
            "tide/libharmonics.a"
        );
        assert_eq!(
            name(&["pages", "ardle"], "ardle.html", true),
            "tide/pages/ardle.html"
        );
        assert_eq!(
            name(&["codes"], "station_codes.h", true),
            "tide/codes/station_codes.h"
        );
        assert_eq!(
            name(&["pages"], "pages.html", false),
            "tide/pages/pages.html"
        );
        assert_eq!(
            name(&["pages", "west/ardle"], "ardle.html", true),
            "tide/pages/west/ardle.html"
        );
        assert_eq!(
            name(&["pages", "west/ardle"], "site/ardle.html", true),
            "tide/pages/west/ardle/site/ardle.html"
        );
        let root = published_name(&WsPath::root(), &["codes".into()], "codes.h", true);
        assert_eq!(root.as_str(), "codes.h");
    }
}
