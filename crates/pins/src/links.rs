//! Where a page leads to.

use html5gum::{Token, Tokenizer};
use nubrik_web::Address;

/// The addresses that a page of HTML leads to, in its order.
pub(crate) fn links(bytes: &[u8], address: &Address) -> Vec<Address> {
    let text = String::from_utf8_lossy(bytes);
    let mut found = Vec::new();
    for Ok(token) in Tokenizer::new(text.as_ref()) {
        let Token::StartTag(tag) = token else {
            continue;
        };
        let target = tag.attributes.get(b"href".as_slice());
        let target = target.map(|value| String::from_utf8_lossy(value).into_owned());
        found.extend(target.and_then(|target| address.join(&target)));
    }
    found
}
