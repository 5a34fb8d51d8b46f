//! Names of hosts, looked up once: name servers drop questions that come all at the same time, and
//! what is dropped is asked again only seconds later.

use std::collections::HashMap;
use std::net::SocketAddr;

use parking_lot::Mutex;
use ureq::config::Config;
use ureq::http::Uri;
use ureq::unversioned::resolver::{DefaultResolver, ResolvedSocketAddrs, Resolver};
use ureq::unversioned::transport::NextTimeout;

/// Looks names up, one after another, and remembers what they led to.
#[derive(Debug, Default)]
pub(crate) struct KnownNames {
    inner: DefaultResolver,
    known: Mutex<HashMap<String, Vec<SocketAddr>>>,
}

impl Resolver for KnownNames {
    fn resolve(
        &self,
        uri: &Uri,
        config: &Config,
        timeout: NextTimeout,
    ) -> Result<ResolvedSocketAddrs, ureq::Error> {
        let name = format!(
            "{}://{}",
            uri.scheme_str().unwrap_or_default(),
            uri.authority().map_or("", |a| a.as_str())
        );
        // The lock is held while a name is looked up, so that others who want the same one wait for
        // it.
        let mut known = self.known.lock();
        if let Some(addresses) = known.get(&name) {
            let mut found = self.empty();
            addresses.iter().for_each(|address| found.push(*address));
            return Ok(found);
        }
        let found = self.inner.resolve(uri, config, timeout)?;
        known.insert(name, found.iter().copied().collect());
        Ok(found)
    }
}
