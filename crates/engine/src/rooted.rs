//! Steps that run in an image: which root they see, and where their programs are in it.

use std::cell::Cell;
use std::collections::HashSet;
use std::path::PathBuf;
use std::sync::Arc;

use nubrik_bytes::Digest;
use nubrik_graph::{FileId, Native, Step, StepId, ToolId};
use nubrik_source::WsPath;

use crate::build::Build;
use crate::event::{Event, Failure};
use crate::outside::{OpenRoot, WorkProblem};

/// Stands among the tools of steps that run in an image, with the digest of its statement. No tool
/// has a name with a space.
pub const ROOT: &str = "the image";

impl Build<'_> {
    /// What stands among a step's tools for the image that it runs in: the image decides what all
    /// tools in it are.
    pub(crate) fn root_part(&self, root: FileId) -> Result<(Arc<str>, Digest), Failure> {
        Ok((ROOT.into(), self.content(root)?))
    }

    /// Whether a step sees an image in place of this machine's system.
    pub(crate) fn is_in_image(&self, id: StepId) -> bool {
        self.graph.step(id).root.is_some()
    }

    /// The target that an image is.
    pub(crate) fn image_name(&self, root: FileId) -> Arc<str> {
        let maker = self.graph.file(root).maker;
        let owner = maker.map(|maker| self.graph.owner(maker).address.clone());
        owner.unwrap_or_else(|| self.graph.file(root).path.shared().clone())
    }

    /// The image that a step runs in; `None` where that is the machine's own system.
    pub(crate) fn image_of(&self, id: StepId) -> Option<Arc<str>> {
        self.graph.step(id).root.map(|root| self.image_name(root))
    }

    /// The root that a step runs in, on this machine: put together where it is not there. Nothing
    /// for one that runs in the machine's own.
    pub(crate) fn open_root(&self, id: StepId) -> Result<Option<Arc<OpenRoot>>, Option<Failure>> {
        let Some(root) = self.graph.step(id).root else {
            return Ok(None);
        };
        let place = self.known.roots.lock().entry(root).or_default().clone();
        let opened = place.get_or_init(|| self.open_new_root(id, root));
        match opened {
            Ok(opened) => Ok(Some(opened.clone())),
            Err(_) if self.outside.is_cancelled() => Err(None),
            Err(why) => Err(Some(Failure::NoRoot {
                image: self.image_name(root),
                problem: why.to_string(),
            })),
        }
    }

    fn open_new_root(&self, id: StepId, root: FileId) -> Result<Arc<OpenRoot>, WorkProblem> {
        let maker = self
            .graph
            .file(root)
            .maker
            .map(|maker| self.graph.step(maker));
        let Some(Native::Image(image)) = maker.and_then(|maker| maker.native.as_deref()) else {
            return Err(WorkProblem::Input(
                "nothing says which image it is".to_owned(),
            ));
        };
        let image = image.with_files(|file| self.plain_file(*file));
        let unpacks = Cell::new(false);
        let bring = || {
            unpacks.set(true);
            self.listener.hear(&Event::Unpacks {
                step: id,
                is_over: false,
            });
            image
                .each_file()
                .for_each(|file| self.bring_path(file.path.as_str()));
        };
        let opened = self
            .outside
            .open_root(&self.graph.file(root).path, &image, &bring);
        if unpacks.get() {
            self.listener.hear(&Event::Unpacks {
                step: id,
                is_over: true,
            });
        }
        opened.map(Arc::new)
    }

    /// Does something with the root that a step's commands see: nothing where that is the machine's
    /// own; where they change it, a copy. Once `work` gives that all went well, its changes are
    /// written as a layer, with a path for that.
    pub(crate) fn with_root<T>(
        &self,
        id: StepId,
        layer: Option<&WsPath>,
        work: impl FnOnce(Option<&OpenRoot>) -> Result<T, Option<Failure>>,
    ) -> Result<T, Option<Failure>> {
        let root = self.open_root(id)?;
        let (Some(root), Some(_)) = (&root, self.graph.step(id).changes) else {
            return work(root.as_deref());
        };
        let failed = |why: WorkProblem| match self.outside.is_cancelled() {
            true => None,
            false => Some(Failure::of_native(why)),
        };
        let copy = self.outside.open_copy(root).map_err(failed)?;
        let done = work(Some(&copy));
        let closed = self
            .outside
            .close_copy(&copy, layer.filter(|_| done.is_ok()))
            .map_err(failed);
        done.and_then(|done| closed.map(|()| done))
    }

    /// The tools of this machine that a step starts: in an image only those of its services that
    /// run in none.
    pub(crate) fn tools_of_machine(&self, step: &Step) -> Vec<ToolId> {
        if step.root.is_none() {
            return step.tools.clone();
        }
        let mut services = Vec::new();
        step.services
            .iter()
            .for_each(|service| service.add_to(&mut services));
        let here = services.iter().filter(|service| service.root.is_none());
        let names: HashSet<&Arc<str>> = here.flat_map(|service| &service.tools).collect();
        let is_one = |tool: &&ToolId| names.contains(&self.graph.tools[tool.index()]);
        step.tools.iter().filter(is_one).copied().collect()
    }

    /// Where a program of an image is, as commands in it see that.
    pub(crate) fn program_in(
        &self,
        id: StepId,
        root: &OpenRoot,
        name: &Arc<str>,
    ) -> Result<PathBuf, Failure> {
        self.outside.program_in(root, name).map_err(|mut why| {
            why.image = self.graph.step(id).root.map(|root| self.image_name(root));
            Failure::NoTool(why)
        })
    }
}
