//! What trying a script of a manifest shows: whether it ends, whether it makes files, whether it
//! makes the same again.

use crate::proposal::{Body, DefinitionAddress, FieldValue, Keyword, Kit, Proposal};
use crate::tried::Mended;

/// A script that was only tried, and does not end, is a job.
pub(crate) fn endless(proposal: &mut Proposal, address: &DefinitionAddress) -> Mended {
    let Some(definition) = proposal.definition_mut(address) else {
        return Mended::Nothing;
    };
    let Body::Kind(call) = &mut definition.body else {
        return Mended::Nothing;
    };
    if call.kind != "script" || call.field("timeout").is_none() {
        return Mended::Nothing;
    }
    call.kind = "script_job";
    call.set("timeout", FieldValue::List(Vec::new()));
    definition.keyword = Keyword::Job;
    Mended::Changed("it does not end by itself, so it is a job".to_owned())
}

/// What a try of a script shows that ended well.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct ScriptSeen {
    /// Whether it wrote any file.
    pub makes_files: bool,
    /// Whether a second run made the same; `None` where there was none.
    pub is_same_again: Option<bool>,
}

/// Changes the definition of a script after what a try showed. Says how, if it is another one now.
pub fn settle_script(
    proposal: &mut Proposal,
    address: &DefinitionAddress,
    seen: ScriptSeen,
) -> Option<String> {
    let definition = proposal.definition_mut(address)?;
    let Body::Kind(call) = &mut definition.body else {
        return None;
    };
    if call.kit != Kit::Js || call.kind != "script" {
        return None;
    }
    let mut how = Vec::new();
    if call.field("timeout").is_some() {
        call.set("timeout", FieldValue::List(Vec::new()));
        how.push("it ends");
    }
    if !seen.makes_files {
        call.kind = "script_check";
        definition.keyword = Keyword::Test;
        how.push("it writes nothing, so it is a test");
    }
    if seen.makes_files && seen.is_same_again == Some(false) {
        let reason = "What it makes differs from run to run: nothing that depends on it stays current after it ran again.";
        if !definition.reasons.iter().any(|known| known == reason) {
            definition.reasons.push(reason.to_owned());
            how.push("what it makes differs from run to run");
        }
    }
    (!how.is_empty()).then(|| how.join("; "))
}
