//! How values are called when they are listed and published.

use std::sync::Arc;

use nubrik_source::{WsPath, shared_text};

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
/// A lone result that already bears the name of its target or key (`tidecast`, `libtidecast.a`,
/// `ardle.html`) stands beside it; others stand in a folder of that name.
pub(crate) fn published_name(package: &WsPath, parts: &[Arc<str>], written: &str, alone: bool) -> WsPath {
    let last = parts.last().map_or("", |p| p.rsplit('/').next().unwrap_or(p));
    let stem = written.split('.').next().unwrap_or(written);
    let beside = alone && !written.contains('/') && (stem == last || stem.strip_prefix("lib") == Some(last));
    let names = package.parts().chain(parts.iter().flat_map(|p| p.split('/')));
    let count = names.clone().count() - usize::from(beside);
    let folders = names.take(count).flat_map(|name| [name, "/"]);
    WsPath::from_normal_text(shared_text(folders.chain([written])))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lone_results_stand_beside_their_target() {
        let tide = WsPath::from_normal("tide");
        let name = |parts: &[&str], written: &str, alone| {
            let parts: Vec<Arc<str>> = parts.iter().map(|p| (*p).into()).collect();
            published_name(&tide, &parts, written, alone).as_str().to_owned()
        };
        assert_eq!(name(&["tidecast"], "tidecast", true), "tide/tidecast");
        assert_eq!(name(&["harmonics"], "libharmonics.a", true), "tide/libharmonics.a");
        assert_eq!(name(&["pages", "ardle"], "ardle.html", true), "tide/pages/ardle.html");
        assert_eq!(name(&["codes"], "station_codes.h", true), "tide/codes/station_codes.h");
        assert_eq!(name(&["pages"], "pages.html", false), "tide/pages/pages.html");
    }
}
