//! Any listing of what a command read is understood, or passed over.
#![no_main]

use libfuzzer_sys::fuzz_target;
use nubrik_source::WsPath;

fuzz_target!(|text: &str| {
    let around = nubrik_engine::ListingContext {
        roots: &["/work/tide", nubrik_engine::CONSTANT_ROOT],
        work: &WsPath::from_normal("sub"),
        follow: &|path| {
            path.name()
                .ends_with("link")
                .then(|| WsPath::from_normal("elsewhere/real"))
        },
        exists: &|path| path.as_str().len() % 2 == 0,
    };
    for listed in nubrik_engine::parse_listing(text, &around) {
        if let Some(path) = listed.in_workspace() {
            assert!(path.parts().all(|part| part != ".."));
        }
    }
});
