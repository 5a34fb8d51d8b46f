//! How values are called when they are listed and published.

use std::sync::Arc;

use nubrik_source::WsPath;

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
    let mut names: Vec<&str> = parts.iter().flat_map(|p| p.split('/')).collect();
    let last = names.last().copied().unwrap_or("");
    let stem = written.split('.').next().unwrap_or(written);
    if alone && !written.contains('/') && (stem == last || stem.strip_prefix("lib") == Some(last)) {
        names.pop();
    }
    let mut path = String::with_capacity(package.as_str().len() + written.len() + 16);
    path.push_str(package.as_str());
    for name in names.into_iter().chain([written]) {
        if !path.is_empty() {
            path.push('/');
        }
        path.push_str(name);
    }
    WsPath::from_normal(&path)
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
