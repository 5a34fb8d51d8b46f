//! What definitions looked for on the machine.

use std::sync::Arc;

use nubrik_engine::OutsideSystem;

use super::Session;

/// What definitions looked for on the machine.
#[derive(Clone, Default, Debug)]
pub struct LookedFor {
    /// Tools, as they were asked for, with what was found.
    pub tools: Vec<(nubrik_lang::ToolRequest, nubrik_lang::ToolSearch)>,
    /// Libraries, the same.
    pub libraries: Vec<(nubrik_lang::LibraryRequest, nubrik_lang::LibrarySearch)>,
}

impl Session {
    /// Tools and libraries that the last evaluation looked for, with what was found.
    pub fn looked_for(&self) -> LookedFor {
        let seen = self.seen.lock();
        let mut looked_for = LookedFor {
            tools: seen.tools.clone(),
            libraries: seen.libraries.clone(),
        };
        looked_for.tools.sort_by(|a, b| a.0.names.cmp(&b.0.names));
        looked_for.tools.dedup();
        looked_for
            .libraries
            .sort_by(|a, b| a.0.names.cmp(&b.0.names));
        looked_for.libraries.dedup();
        looked_for
    }

    /// Looks for a tool by its name, and asks for its version.
    pub fn find_tool(
        &self,
        name: &Arc<str>,
    ) -> Result<(nubrik_engine::FoundTool, Option<Arc<str>>), nubrik_engine::ToolProblem> {
        let tool = self.machine.tool(name)?;
        let version = self.machine.tool_version(name, &"--version".into());
        Ok((tool, version))
    }
}
