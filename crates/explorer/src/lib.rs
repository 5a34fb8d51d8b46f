//! Pages about a workspace: what is there, what it consists of, what happened, what words mean.
//! They are made from the same graph, history and texts that commands tell of, and know nothing of
//! their own. Each page is whole without scripts.

mod drawn;
mod known;
mod links;
mod live;
mod look;
mod pages;
mod picture;
mod query;
mod report;
mod search;
mod serve;
mod site;
mod text_lines;
mod write;

pub use drawn::{DrawnNode, GraphNodeEvent, Shape};
pub use live::{LiveTold, LiveWaiting};
pub use look::PagesFor;
pub use picture::svg;
pub use report::{ReportOf, tests_as_markdown};
pub use serve::{MakeSite, PageServer, connect};
pub use site::{Site, everything};
pub use write::NotWritten;

use links::About;
use look::SitePage;

/// Something that is asked for by its name, as it is sent or written.
pub struct PageAnswer {
    /// Its media type.
    pub media: &'static str,
    /// Its bytes.
    pub body: String,
}

const HTML: &str = "text/html; charset=utf-8";

impl Site {
    /// What a name and a query (the part behind `?`) ask for; nothing where there is no such page.
    pub fn answer(&self, name: &str, query: &str) -> Option<PageAnswer> {
        let plain = |media: &'static str, body: String| Some(PageAnswer { media, body });
        match name {
            "look.css" => return plain("text/css; charset=utf-8", look::STYLE.to_owned()),
            "quick.js" => return plain("text/javascript; charset=utf-8", look::SCRIPT.to_owned()),
            "names.js" => {
                return plain(
                    "text/javascript; charset=utf-8",
                    pages::finding::index(self).script(),
                );
            }
            "found.json" => {
                let words = query::read(query).remove("words").unwrap_or_default();
                return plain("application/json", pages::finding::found_json(self, &words));
            }
            _ => {}
        }
        let page = self.page(name, query)?;
        plain(HTML, page.document(&self.name, self.reading))
    }

    fn page(&self, name: &str, query: &str) -> Option<SitePage> {
        let query = query::read(query);
        match name {
            "" | "index.html" => Some(pages::overview::overview(self)),
            "kinds.html" => Some(pages::targets::kinds(self)),
            "graph.html" => Some(pages::graphs::all(self)),
            "external.html" => Some(pages::external::external(self)),
            "builds.html" => Some(pages::builds::builds(self)),
            "tests.html" => Some(pages::tests::tests(self)),
            "options.html" => Some(pages::options::options(self)),
            "words.html" => Some(pages::words::words(self)),
            "way.html" => Some(pages::graphs::way(self, &query)),
            "search.html" => Some(pages::finding::search_page(
                self,
                query.get("words").map_or("", String::as_str),
            )),
            _ => {
                let (about, what) = links::about(name, || self.cut_names())?;
                match about {
                    About::Target => pages::target::target(self, &what),
                    About::Package => pages::targets::package(self, &what),
                    About::Kind => pages::targets::kind(self, &what),
                    About::Graph => pages::graphs::focus(self, &what, &query),
                    About::File => pages::sources::file(self, &what),
                    About::Build => pages::builds::build(self, &what),
                    About::Compared => pages::compared::compared(self, &what),
                    About::Topic => pages::words::topic(self, &what),
                }
            }
        }
    }

    /// The page for an address that has none.
    pub(crate) fn missing(&self) -> String {
        let body = maud::html! {
            h1 { "There is no such page" }
            p { "Page not found. Try the search." }
        };
        let page = SitePage {
            title: "No such page".to_owned(),
            part: "index.html",
            body,
        };
        page.document(&self.name, self.reading)
    }

    /// Everything of a kind that has a page.
    pub(crate) fn names(&self, about: About) -> Vec<String> {
        match about {
            About::Target | About::Graph => self
                .declared()
                .map(|(_, target)| target.address.to_string())
                .collect(),
            About::Package => {
                let mut all: Vec<String> = Vec::new();
                for (_, target) in self.declared() {
                    let path = target.package.as_str();
                    let ends = path
                        .match_indices('/')
                        .map(|(at, _)| at)
                        .chain([path.len(), 0]);
                    all.extend(ends.map(|end| path[..end].to_owned()));
                }
                all.sort_unstable();
                all.dedup();
                all
            }
            About::Kind => self
                .kinds()
                .into_iter()
                .map(|(kind, _)| kind.to_string())
                .collect(),
            About::File => self.paths().iter().cloned().collect(),
            About::Build => self
                .builds()
                .iter()
                .map(|build| build.build.to_string())
                .collect(),
            About::Compared => {
                let pairs = self.builds().windows(2);
                pairs
                    .map(|pair| format!("{}-{}", pair[1].build, pair[0].build))
                    .collect()
            }
            About::Topic => {
                let mut names: Vec<String> =
                    self.topics.iter().map(|topic| topic.name.clone()).collect();
                names.sort_unstable();
                names.dedup();
                names
            }
        }
    }
}
