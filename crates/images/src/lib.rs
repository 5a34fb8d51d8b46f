//! Images: file systems by their contents, in which steps run.
//!
//! An image comes in layers, as the OCI image specification 1.1 has them. Each layer is read once
//! on a machine: its files are kept by their contents, what it changes in a list. The lists of an
//! image, one laid over the other, are a [`RootTree`], whose digest says all that a step can see of
//! it. A root with that digest is put together once, as further names of the files that are kept,
//! and is never changed.
//!
//! ```
//! use nubrik_images::{LayerChange, Layer, TreeNode, RootTree};
//!
//! let folder = |path: &str| (path.as_bytes().to_vec(), LayerChange::Is(TreeNode::Folder { mode: 0o755, time: 0 }));
//! let mut tree = RootTree::default();
//! tree.lay_over(&Layer { changes: vec![folder("tide"), folder("tide/ebb")] })?;
//! tree.lay_over(&Layer { changes: vec![(b"tide/ebb".to_vec(), LayerChange::Gone)] })?;
//! assert_eq!(tree.nodes().count(), 1);
//! # Ok::<(), nubrik_images::ImageProblem>(())
//! ```

mod blobs;
mod cache;
mod changes;
mod checked;
mod files;
mod layer;
mod make;
mod manifest;
mod names;
mod problem;
mod statement;
mod tree;

pub use blobs::{BlobFiles, Blobs, LayoutArchive, LayoutFolder, layout_at};
pub use cache::{HeldRoot, ImageCache};
pub use changes::RootCopy;
pub use checked::BlobDigest;
pub use layer::UnpackListener;
pub use make::{ImageContent, ImageSettings, image_content, make_image};
pub use manifest::{
    BlobDescriptor, DOCUMENT_LIMIT, ImageChoice, ImageContents, ImageDocument, ImagePlatform,
    LIST_KINDS, MANIFEST_KINDS, PlatformDocument, check_platform, image_document,
};
pub use names::{is_image_name, is_image_tag};
pub use problem::{ImageProblem, ImageResult};
pub use statement::{RootStatement, USUAL_PATH};
pub use tree::{ImageAmount, ImageFile, Layer, LayerChange, RootPath, RootTree, TreeNode};
