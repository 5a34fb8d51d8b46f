//! Roots of images on this machine, and the sandboxes that show them.

use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, OnceLock};
use std::time::Duration;

use nubrik_confine::{CancelSwitch, OF_SANDBOXES, Sandboxes, StageSpec};
use nubrik_disk::{NoOwnFolder, OwnFolder};
use nubrik_engine::{OpenRoot, OutsideRoots, ToolProblem, WorkProblem};
use nubrik_graph::{
    ArchiveFormat, ImageFiles, ImageSearch, ImageSource, NewImage, NewLayer, PlainFile,
};
use nubrik_images::{
    BlobFiles, Blobs, HeldRoot, ImageCache, ImageChoice, ImagePlatform, ImageProblem,
    ImageSettings, RootCopy, RootStatement, USUAL_PATH, UnpackListener, layout_at, make_image,
};
use nubrik_lang::{LibraryRequest, ToolAnswer, ToolSearch};
use nubrik_source::WsPath;
use parking_lot::Mutex;

use crate::ground::Means;
use crate::libraries::{SystemView, search_library_in};
use crate::machine::Machine;
use crate::tools::first_version;

/// The longest statement of an image that is read, in bytes.
const LONGEST_STATEMENT: u64 = 4 << 20;

/// How long a program in an image may take to tell its version, and the longest file of a library
/// that is read, in bytes.
const ANSWER_TIME: Duration = Duration::from_secs(60);
const LONGEST_LIBRARY_FILE: u64 = 1 << 20;

/// Roots that are open, and where they are kept.
#[derive(Default)]
pub(crate) struct Roots {
    /// Where images are kept; `None` where a person has no folder for that.
    folder: Option<PathBuf>,
    cache: OnceLock<Result<ImageCache, String>>,
    open: Mutex<HashMap<Arc<str>, Arc<ImageRoot>>>,
}

/// A root that is open: commands can run in it.
pub(crate) struct ImageRoot {
    // First, so that nothing runs there any more when the root goes.
    pub(crate) sandboxes: Sandboxes,
    held: RootInUse,
    pub(crate) env: Vec<(Arc<str>, Arc<str>)>,
}

enum RootInUse {
    /// One that others see, too.
    Shared(HeldRoot),
    /// A copy for some commands, which they change.
    Copied(Box<RootCopy>),
}

impl ImageRoot {
    fn root(&self) -> &HeldRoot {
        match &self.held {
            RootInUse::Shared(held) => held,
            RootInUse::Copied(copy) => copy.root(),
        }
    }
}

/// The variable that says where programs are looked for.
const SEARCH: &str = "PATH";

/// Folders in which the superuser's programs are looked for: an image may say only those of others.
fn search_of_superuser(search: &[String]) -> Vec<String> {
    let missing = USUAL_PATH
        .split(':')
        .filter(|usual| search.iter().all(|known| known != usual));
    search
        .iter()
        .cloned()
        .chain(missing.map(str::to_owned))
        .collect()
}

impl Roots {
    pub fn in_folder(folder: Option<PathBuf>) -> Roots {
        Roots {
            folder,
            ..Roots::default()
        }
    }

    fn cache(&self) -> Result<&ImageCache, WorkProblem> {
        let open = || match &self.folder {
            Some(folder) => ImageCache::open(folder).map_err(|why| why.to_string()),
            None => Err(format!(
                "{}, so no image can be unpacked",
                NoOwnFolder(OwnFolder::Cache)
            )),
        };
        self.cache
            .get_or_init(open)
            .as_ref()
            .map_err(|why| WorkProblem::Machine(why.clone()))
    }
}

/// Stops when everything does.
struct UnpackingStop<'a>(&'a CancelSwitch);

impl UnpackListener for UnpackingStop<'_> {
    fn is_stopped(&self) -> bool {
        self.0.is_thrown()
    }
}

/// An image of a workspace: where its files are, and which one of them it is.
pub(crate) struct FoundImage {
    files: ImageFiles<PathBuf>,
    choice: ImageChoice,
}

impl FoundImage {
    /// The image of a workspace with this root.
    pub fn of(root: &Path, image: &ImageSource<PlainFile>) -> FoundImage {
        let ImageSource {
            files,
            name,
            platform: (system, processor),
        } = image.with_files(|file| root.join(file.path.as_str()));
        let name = name.as_deref().map(str::to_owned);
        FoundImage {
            files,
            choice: ImageChoice {
                name,
                platform: ImagePlatform::new(system.as_ref(), processor.as_ref()),
            },
        }
    }

    fn blobs(&self) -> Result<Box<dyn Blobs>, ImageProblem> {
        match &self.files {
            ImageFiles::Layout(layout) => layout_at(layout),
            ImageFiles::Blobs { manifest, blobs } => {
                Ok(Box::new(BlobFiles::of(manifest, blobs.clone())?))
            }
        }
    }
}

fn problem(why: ImageProblem) -> WorkProblem {
    match why {
        ImageProblem::Image(what) => WorkProblem::Input(what),
        ImageProblem::Machine(what) => WorkProblem::Machine(what),
        ImageProblem::Stopped => WorkProblem::Machine("it was stopped".to_owned()),
    }
}

impl Machine {
    /// Has images kept in a folder of the person's.
    #[must_use]
    pub fn with_images(mut self, folder: Option<PathBuf>) -> Machine {
        self.roots = Roots::in_folder(folder);
        self
    }

    /// What an image is, as the document that represents it.
    pub(crate) fn image_statement(&self, image: &FoundImage) -> Result<String, WorkProblem> {
        let blobs = image.blobs().map_err(problem)?;
        let unpacking = UnpackingStop(self.cancel());
        let statement = self
            .roots
            .cache()?
            .statement(&*blobs, &image.choice, &unpacking);
        statement.map(|statement| statement.text()).map_err(problem)
    }

    /// A root that was opened.
    pub(crate) fn image_root(&self, root: &OpenRoot) -> Option<Arc<ImageRoot>> {
        self.roots.open.lock().get(&root.tree).cloned()
    }

    /// Makes an image, as an archive of a layout.
    pub(crate) fn make_new_image(
        &self,
        new: &NewImage<PlainFile>,
        to: &WsPath,
    ) -> Result<(), WorkProblem> {
        let failed = |why: std::io::Error| {
            WorkProblem::Machine(format!("cannot make {}: {why}", to.as_str()))
        };
        let (system, processor) = &new.platform;
        let choice = ImageChoice {
            name: None,
            platform: ImagePlatform::new(system, processor),
        };
        let base = new
            .base
            .as_ref()
            .map(|base| FoundImage::of(self.root(), base));
        let below = base
            .as_ref()
            .map(|base| base.blobs().map(|blobs| (blobs, &base.choice)));
        let below = below.transpose().map_err(problem)?;
        let settings = settings_of(new);
        let beside = |ending: &str| format!("{}{ending}", to.as_str());
        let (files_layer, packed) = (beside(".layer"), beside(".layer.gz"));
        let place = |path: &str| self.root().join(path);
        let mut out = std::io::BufWriter::new(
            self.below()
                .fresh_file(to.as_str(), 0o644)
                .map_err(failed)?,
        );
        let layer = match &new.layer {
            NewLayer::Tar(layer) => Ok(place(layer.path.as_str())),
            NewLayer::Files(files) => crate::natives::items(self.root(), files)
                .and_then(|items| {
                    nubrik_archive::pack(ArchiveFormat::Tar, items, &place(&files_layer))
                })
                .map(|()| place(&files_layer))
                .map_err(failed),
        };
        let made = layer.and_then(|layer| {
            let below = below.as_ref().map(|(blobs, choice)| (&**blobs, *choice));
            make_image(
                below,
                &choice,
                (&layer, &place(&packed)),
                &settings,
                &mut out,
            )
            .map_err(problem)
        });
        let made = made.and_then(|()| std::io::Write::flush(&mut out).map_err(failed));
        for path in [files_layer, packed] {
            let _ = self.below().remove(&path);
        }
        made
    }

    fn open_image(
        &self,
        statement: &RootStatement,
        image: &FoundImage,
        bring: &dyn Fn(),
    ) -> Result<ImageRoot, WorkProblem> {
        let Means::Sandboxes(sandboxes) = self.means() else {
            let why = self.why_no_sandboxes().unwrap_or_default();
            let what =
                format!("steps in an image need sandboxes, and this machine makes none: {why}");
            return Err(WorkProblem::Machine(what));
        };
        let here = ImagePlatform::of_machine();
        if image.choice.platform != here {
            let (image, here) = (image.choice.platform.as_str(), here.as_str());
            return Err(WorkProblem::Input(format!(
                "it is for {image}, and this machine runs {here}"
            )));
        }
        let unpacking = UnpackingStop(self.cancel());
        let held = self.roots.cache()?.root(statement, &unpacking, || {
            bring();
            Ok((image.blobs()?, image.choice.clone()))
        });
        let held = held.map_err(problem)?;
        let shown = sandboxes.in_root(self.root(), held.path());
        let sandboxes = shown
            .map_err(|why| WorkProblem::Machine(format!("its root cannot be shown: {why}")))?;
        let env = statement
            .env
            .iter()
            .map(|(name, value)| (name.as_str().into(), value.as_str().into()));
        Ok(ImageRoot {
            held: RootInUse::Shared(held),
            sandboxes,
            env: env.collect(),
        })
    }
}

/// What a new image says of what starts from it.
fn settings_of(new: &NewImage<PlainFile>) -> ImageSettings {
    let env = new.env.iter();
    ImageSettings {
        env: env
            .map(|(name, value)| (name.to_string(), value.to_string()))
            .collect(),
        start: new.start.iter().map(|word| word.to_string()).collect(),
        folder: new.folder.as_ref().map(|folder| folder.to_string()),
    }
}

impl OutsideRoots for Machine {
    fn open_root(
        &self,
        statement: &WsPath,
        image: &ImageSource<PlainFile>,
        bring: &dyn Fn(),
    ) -> Result<OpenRoot, WorkProblem> {
        let unreadable =
            |why: String| WorkProblem::Machine(format!("{}: {why}", statement.as_str()));
        let text = nubrik_disk::read_file(&self.root().join(statement.as_str()), LONGEST_STATEMENT);
        let text = text.map_err(|why| unreadable(why.to_string()))?;
        let said = RootStatement::parse(&text).map_err(|why| unreadable(why.to_string()))?;
        let image = FoundImage::of(self.root(), image);
        let tree: Arc<str> = said.tree().into();
        // One that has the same tree and other variables is opened for itself.
        let known = self.roots.open.lock().get(&tree).cloned();
        let env = |root: &ImageRoot| root.env.clone();
        let is_known = known.is_some_and(|known| {
            env(&known)
                .iter()
                .map(|(n, v)| (&**n, &**v))
                .eq(said.env.iter().map(|(n, v)| (&**n, &**v)))
        });
        let tree = if is_known {
            tree
        } else {
            self.add_root(tree, &said, &image, bring)?
        };
        let opened = self.roots.open.lock().get(&tree).cloned();
        let Some(opened) = opened else {
            return Err(unreadable("it is not open".to_owned()));
        };
        Ok(OpenRoot {
            tree,
            env: env(&opened),
            search: said.search_path(),
        })
    }

    fn program_in(&self, root: &OpenRoot, name: &Arc<str>) -> Result<PathBuf, ToolProblem> {
        let found = self
            .image_root(root)
            .and_then(|open| open.root().program(name, &root.search));
        found.map(PathBuf::from).ok_or_else(|| ToolProblem {
            name: name.clone(),
            searched: root.search.clone(),
            mend: None,
            unanswered: None,
            image: None,
        })
    }

    fn open_copy(&self, root: &OpenRoot) -> Result<OpenRoot, WorkProblem> {
        static NEXT: AtomicU64 = AtomicU64::new(0);
        let closed = || WorkProblem::Machine("the image is not open".to_owned());
        let open = self.image_root(root).ok_or_else(closed)?;
        let unpacking = UnpackingStop(self.cancel());
        let copy = self
            .roots
            .cache()?
            .copy(open.root(), &OF_SANDBOXES, &unpacking);
        let copy = copy.map_err(problem)?;
        let sandboxes = Sandboxes::in_copy(self.root(), copy.root().path()).map_err(|why| {
            WorkProblem::Machine(format!("a copy of its root cannot be shown: {why}"))
        })?;
        let tree: Arc<str> = format!(
            "{} copy {}",
            root.tree,
            NEXT.fetch_add(1, Ordering::Relaxed)
        )
        .into();
        let held = RootInUse::Copied(Box::new(copy));
        let search = search_of_superuser(&root.search);
        let is_other = |(name, _): &&(Arc<str>, Arc<str>)| &**name != SEARCH;
        let mut env: Vec<_> = open.env.iter().filter(is_other).cloned().collect();
        env.push((SEARCH.into(), search.join(":").into()));
        let opened = Arc::new(ImageRoot {
            sandboxes,
            held,
            env: env.clone(),
        });
        self.roots.open.lock().insert(tree.clone(), opened);
        Ok(OpenRoot { tree, env, search })
    }

    fn close_copy(&self, copy: &OpenRoot, layer: Option<&WsPath>) -> Result<(), WorkProblem> {
        let opened = self.roots.open.lock().remove(&copy.tree);
        let (Some(opened), Some(layer)) = (opened, layer) else {
            return Ok(());
        };
        let RootInUse::Copied(changed) = &opened.held else {
            return Ok(());
        };
        let failed =
            |why: std::io::Error| WorkProblem::Machine(format!("{}: {why}", layer.as_str()));
        let file = self
            .below()
            .fresh_file(layer.as_str(), 0o644)
            .map_err(failed)?;
        let mut out = std::io::BufWriter::with_capacity(256 << 10, file);
        changed
            .write_changes(&mut out, &UnpackingStop(self.cancel()))
            .map_err(problem)?;
        std::io::Write::flush(&mut out).map_err(failed)
    }
}

impl Machine {
    /// Opens a root; gives the name by which it is known from now on.
    fn add_root(
        &self,
        tree: Arc<str>,
        said: &RootStatement,
        image: &FoundImage,
        bring: &dyn Fn(),
    ) -> Result<Arc<str>, WorkProblem> {
        let opened = Arc::new(self.open_image(said, image, bring)?);
        let mut open = self.roots.open.lock();
        let name: Arc<str> = match open.contains_key(&tree) {
            true => format!(
                "{tree} {}",
                nubrik_bytes::Digest::of(said.text().as_bytes()).hex()
            )
            .into(),
            false => tree,
        };
        open.insert(name.clone(), opened);
        Ok(name)
    }

    /// What there is of something in a root, as the text that definitions read.
    ///
    /// # Errors
    /// When a program there cannot be asked.
    pub(crate) fn find_in_root(
        &self,
        root: &OpenRoot,
        finding: &ImageSearch,
        to: &WsPath,
    ) -> Result<String, WorkProblem> {
        let closed = || WorkProblem::Machine("the image is not open".to_owned());
        let open = self.image_root(root).ok_or_else(closed)?;
        match finding {
            ImageSearch::Tools { names, version } => {
                let mut search = ToolSearch {
                    searched: root.search.clone(),
                    ..ToolSearch::default()
                };
                for name in names {
                    let Some(path) = open.root().program(name, &root.search) else {
                        continue;
                    };
                    let version = match version {
                        Some(word) => self.version_in_root(root, &path, word, to)?,
                        None => None,
                    };
                    search.found.push(ToolAnswer {
                        name: name.clone(),
                        path: path.into(),
                        version,
                    });
                }
                Ok(search.to_json())
            }
            ImageSearch::Libraries { names, for_static } => {
                let text = |path: &Path| {
                    let bytes = open.root().read(path.to_str()?, LONGEST_LIBRARY_FILE)?;
                    String::from_utf8(bytes).ok()
                };
                let is_folder = |path: &Path| {
                    path.to_str()
                        .is_some_and(|path| !open.root().names(path).is_empty())
                };
                let system = SystemView {
                    text: &text,
                    is_folder: &is_folder,
                };
                let request = LibraryRequest {
                    names: names.clone(),
                    for_static: *for_static,
                };
                Ok(search_library_in(&system, &request, None, &mut |_| {}).to_json())
            }
        }
    }

    /// The version that a program of a root tells.
    fn version_in_root(
        &self,
        root: &OpenRoot,
        program: &str,
        word: &Arc<str>,
        to: &WsPath,
    ) -> Result<Option<Arc<str>>, WorkProblem> {
        let folder = to.parent().unwrap_or_else(WsPath::root);
        let words = vec![program.to_owned(), word.to_string()];
        let stage = StageSpec {
            program: program.into(),
            words,
            stdin: None,
            stdout: None,
            stderr: None,
        };
        let said = self.ask_in_image(root, &folder, stage, ANSWER_TIME);
        let said = said.map_err(|why| WorkProblem::Machine(format!("{program} {word}: {why}")))?;
        Ok(first_version(&said).map(Arc::from))
    }
}
