//! Small workspaces and graphs to measure with; the measurements are in `benches/`.

use std::fs;
use std::path::Path;
use std::sync::Arc;

use nubrik_graph::{
    FileId, FileNode, Graph, OutputNode, Pipeline, Program, Stage, Step, StepId, Tables, Target,
    ToolId,
};
use nubrik_source::WsPath;

/// The program's allocator, so that what is measured here is what happens there.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// A graph with one step that compiles a file with 40 words and reads 60 others.
///
/// # Panics
/// When its numbers do not hold together, which the measurements would not notice.
pub fn compiling_step() -> Graph {
    let mut graph = Tables::default();
    graph.targets.push(Target::plain("tide/harmonics"));
    graph.tools.push("cc".into());
    for i in 0..60 {
        let path = WsPath::from_normal(&format!("tide/include/part{i}/header{i}.h"));
        graph.files.push(FileNode {
            path,
            maker: None,
            folder: false,
        });
    }
    let folder = WsPath::from_normal(".nubrik/made/tide/harmonics/@fit.o");
    let out = WsPath::from_normal(".nubrik/made/tide/harmonics/@fit.o/fit.o");
    graph.files.push(FileNode {
        path: out,
        maker: Some(StepId(0)),
        folder: false,
    });
    let words: Vec<Arc<str>> = (0..40)
        .map(|i| format!("-Itide/include/part{i}").into())
        .collect();
    let program = Program::Tool(ToolId(0));
    let stage = Stage {
        program,
        words,
        stdin: None,
        stdout: None,
        stderr: None,
        answers: false,
    };
    graph.steps.push(Box::new(Step {
        commands: vec![Pipeline {
            stages: vec![stage],
        }],
        inputs: (0..60).map(FileId).collect(),
        outputs: vec![OutputNode::new(FileId(60), "fit.o")],
        tools: vec![ToolId(0)],
        ..Step::empty(folder)
    }));
    graph
        .finish()
        .expect("each number is of a row that is there")
}

/// A workspace of 100 packages with 20 targets each.
pub fn write_packages(root: &Path) -> std::io::Result<()> {
    fs::create_dir_all(root.join("kit"))?;
    fs::write(root.join("nubrik.toml"), "")?;
    fs::write(
        root.join("kit/pages.nub"),
        "kind page(title: text, needs: list[file] = []): { files: files } {\n    \
         let made = step { run = `sh -c 'echo \"$@\"' sh {title} {needs} > {out \"{self.name}.html\"}` }\n    \
         give { files = made }\n}\n",
    )?;
    for package in 0..100 {
        let mut text = String::from("use { page } from \"/kit/pages.nub\"\n");
        for target in 0..20 {
            let needs = if target > 0 {
                format!("[page{}]", target - 1)
            } else {
                "[]".to_owned()
            };
            text.push_str(&format!(
                "target page{target} = page {{ title = \"Tides {target}\", needs = {needs} }}\n"
            ));
        }
        let folder = root.join(format!("place{package}"));
        fs::create_dir_all(&folder)?;
        fs::write(folder.join("targets.nub"), text)?;
    }
    Ok(())
}
