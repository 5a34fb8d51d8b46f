//! What a step is made of, in words, and what differs from the time when it last ran.

use std::collections::HashMap;
use std::sync::Arc;

use nubrik_bytes::Digest;
use nubrik_graph::{
    FileId, Graph, ImageSearch, ImageSource, Native, NewLayer, Program, Step, StepId, WorkFolder,
    is_variant, options_of, shown_marks, shown_service, without_variant,
};
use nubrik_source::FilePath;

use crate::build::Build;
use crate::comparison::{Comparison, Difference, Part};
use crate::reason::Reason;
use crate::state::StepMemory;

/// A description longer than this is not kept, in bytes: of a step with so many words only the
/// digest is compared.
const LONGEST: usize = 16 << 10;

/// A text that is written is described by its lines up to this length, in bytes, and by its digest
/// from there on.
const SHORT_TEXT: usize = 4 << 10;

/// Stands between the parts of a description; words cannot hold it.
const BETWEEN: char = '\0';

impl Build<'_> {
    /// What a step's words, variables and names are, as one text: parts with their signs, divided
    /// by NUL bytes.
    pub(crate) fn describe(&self, id: StepId) -> Arc<str> {
        let graph = self.graph;
        let step = graph.step(id);
        let mut text = String::new();
        let mut add = |part: Part, what: &str| {
            text.push(part.sign());
            // Marks hold the very character that is between parts.
            text.push_str(&shown_marks(what, &step.services));
            text.push(BETWEEN);
        };
        describe_commands(graph, step, &mut add);
        step.env
            .iter()
            .for_each(|(name, value)| add(Part::Variable, &format!("{name}={value}")));
        step.outputs
            .iter()
            .for_each(|output| add(Part::Output, &output.name));
        describe_native(graph, step, &mut add);
        for list in &step.lists {
            list.text
                .lines()
                .for_each(|line| add(Part::Text, &line.replace(BETWEEN, " ")));
        }
        match &step.work {
            WorkFolder::Root => {}
            WorkFolder::Source(folder) => add(Part::Folder, folder.as_str()),
            WorkFolder::Private { copy_of, .. } => add(
                Part::Folder,
                copy_of.map_or("of its own", |f| graph.file(f).path.as_str()),
            ),
        }
        if let Some(root) = step.root {
            add(Part::Image, &self.image_name(root));
        }
        if step.limits.network {
            add(Part::Network, "allowed");
        }
        let mut services = Vec::new();
        step.services
            .iter()
            .for_each(|service| service.add_to(&mut services));
        for service in &services {
            for (field, command) in shown_service(service) {
                add(
                    Part::Service,
                    &format!("{}, {field}: {command}", service.address),
                );
            }
        }
        self.describe_tools(step, &mut add);
        if text.len() > LONGEST {
            text.clear();
        }
        text.into()
    }

    /// The tools that a step's commands start on this machine.
    fn describe_tools(&self, step: &Step, add: &mut dyn FnMut(Part, &str)) {
        for tool in step.tools.iter().filter(|_| step.root.is_none()) {
            let name = &self.graph.tools[tool.index()];
            if let Ok(found) = self.tool(*tool) {
                let version = self.outside.version_told(name);
                let version = version.map_or(String::new(), |v| format!(" {v}"));
                let path = found.path.display();
                add(Part::Tool, &format!("{name}={path}{version}"));
            }
        }
    }

    /// Holds a step against what is remembered of it, or of the variant of it that is most like it.
    pub(crate) fn compare(&self, id: StepId) -> Option<Comparison> {
        let step = self.graph.step(id);
        let described = self.describe(id);
        let own = self
            .before
            .steps
            .get(step.folder.shared())
            .filter(|m| !m.outputs.is_empty());
        if let Some(memory) = own {
            let differences = self.differences(id, &memory, &described);
            return Some(Comparison {
                variant: "".into(),
                build: memory.build,
                differences,
            });
        }
        let base = without_variant(step.folder.as_str());
        let others = self
            .before
            .steps
            .names()
            .into_iter()
            .filter(|name| without_variant(name) == base);
        let compared = others.filter_map(|name| {
            let memory = self
                .before
                .steps
                .get(&name)
                .filter(|m| !m.outputs.is_empty())?;
            let differences = self.differences(id, &memory, &described);
            let variant = readable_variant(&name).into();
            Some(Comparison {
                variant,
                build: memory.build,
                differences,
            })
        });
        compared.min_by_key(|c| {
            (
                c.differences.len(),
                std::cmp::Reverse(c.build),
                c.variant.clone(),
            )
        })
    }

    /// That what a step does changed: where it was edited, or what differs.
    pub(crate) fn edit_of(&self, id: StepId, memory: &StepMemory) -> Reason {
        let step = self.graph.step(id);
        let what = match step.native.as_deref() {
            None => "command",
            Some(Native::Write { .. }) => "text",
            Some(_) => "definition",
        };
        let cores: Vec<_> = between(&memory.described, &self.describe(id))
            .iter()
            .map(core)
            .collect();
        let words: Vec<String> = cores.iter().filter_map(|(_, now)| now.clone()).collect();
        // What it made when it last ran is as old as that run, or older where it was kept from an
        // earlier one.
        let since = memory
            .signatures
            .iter()
            .map(|s| s.changed)
            .max()
            .unwrap_or(i64::MAX);
        if let Some(place) = self.edited(&words, since) {
            return Reason::CommandChanged {
                what,
                place,
                instead: None,
            };
        }
        // A line of a kit that comes with the tool is none that people edit: they edit what they
        // give to it.
        let owner = &self.graph.owner(id).place;
        let place = if step.place.file.starts_with(KIT_MARK) {
            owner
        } else {
            &step.place
        };
        let instead = cores.first().map(|core| in_words(core).into());
        Reason::CommandChanged {
            what,
            place: place.to_string().into(),
            instead,
        }
    }

    pub(crate) fn differences(
        &self,
        id: StepId,
        memory: &StepMemory,
        described: &str,
    ) -> Vec<Difference> {
        let step = self.graph.step(id);
        let mut differences = Vec::new();
        let mut input = |before: Option<&Arc<str>>, now: Option<&Arc<str>>| {
            let named = |path: &Arc<str>| self.named(path).into();
            differences.push(Difference {
                part: Part::Input,
                before: before.map(named),
                now: now.map(named),
            });
        };
        for file in &step.inputs {
            let path = self.graph.file(*file).path.shared();
            match (
                memory.inputs.iter().find(|(p, _)| p.shared() == path),
                self.content(*file),
            ) {
                (None, _) => input(None, Some(path)),
                (Some((_, before)), Ok(now)) if now != *before => input(Some(path), Some(path)),
                // What a step will make shows only when that has run.
                _ => {}
            }
        }
        let known = |path: &FilePath| memory.inputs.iter().any(|(p, _)| p == path);
        for (path, digest) in memory.found.iter().filter(|(path, _)| !known(path)) {
            if self
                .listed_content(id, path)
                .is_some_and(|now| now != *digest)
            {
                input(Some(&path.told()), Some(&path.told()));
            }
        }
        let is_input = |path: &FilePath| {
            step.inputs
                .iter()
                .any(|f| self.graph.file(*f).path.shared() == path.shared())
        };
        // What the words name of the machine is said by the words.
        let gone = memory
            .inputs
            .iter()
            .filter(|(p, _)| p.is_of_workspace() && !is_input(p));
        gone.for_each(|(path, _)| input(Some(path.shared()), None));
        differences.extend(between(&memory.described, described));
        self.add_other_tools(step, memory, &mut differences);
        differences
    }

    /// Tools that are other ones than before, where no difference says so yet.
    fn add_other_tools(&self, step: &Step, memory: &StepMemory, differences: &mut Vec<Difference>) {
        for id in step.tools.iter().filter(|_| step.root.is_none()) {
            let name = &self.graph.tools[id.index()];
            let known = differences.iter().any(|d| {
                d.part == Part::Tool
                    && d.now
                        .as_ref()
                        .is_some_and(|n| n.starts_with(&format!("{name}=")))
            });
            let identity = self.tool(*id).ok().map(|found| found.identity);
            let other = memory
                .tools
                .iter()
                .any(|(n, before)| n == name && Some(*before) != identity);
            if other && !known {
                let name = Some(name.clone());
                differences.push(Difference {
                    part: Part::Tool,
                    before: name.clone(),
                    now: name,
                });
            }
        }
    }

    /// A file as people know it.
    fn named(&self, path: &str) -> String {
        match self.maker_of(path) {
            Some(target) => format!("{} of {target}", path.rsplit('/').next().unwrap_or(path)),
            None => path.to_owned(),
        }
    }
}

/// What names of kits that come with the tool begin with.
const KIT_MARK: &str = "nub:";

/// Among so many new parts the one is looked for that took the place of another one.
const MOST_ALIKE: usize = 64;

/// A core is cut to so many characters where it is shown.
const TOLD_CORE: usize = 32;

/// What is left of a difference when the beginning and the end that both have are taken away, as
/// whole words: before and now.
fn core(difference: &Difference) -> (Option<String>, Option<String>) {
    let (before, now) = match (&difference.before, &difference.now) {
        (Some(before), Some(now)) => (before, now),
        (before, now) => {
            return (
                before.as_deref().map(str::to_owned),
                now.as_deref().map(str::to_owned),
            );
        }
    };
    let is_word = |c: &char| c.is_alphanumeric() || "_-.".contains(*c);
    let (old, new): (Vec<char>, Vec<char>) = (before.chars().collect(), now.chars().collect());
    let mut start = old.iter().zip(&new).take_while(|(a, b)| a == b).count();
    let most = old.len().min(new.len()) - start;
    let mut end = old
        .iter()
        .rev()
        .zip(new.iter().rev())
        .take(most)
        .take_while(|(a, b)| a == b)
        .count();
    while start > 0 && is_word(&new[start - 1]) {
        start -= 1;
    }
    while end > 0 && is_word(&new[new.len() - end]) {
        end -= 1;
    }
    let part = |chars: &[char]| Some(chars[start..chars.len() - end].iter().collect());
    (part(&old), part(&new))
}

/// A core as it is shown.
fn in_words(core: &(Option<String>, Option<String>)) -> String {
    let cut = |text: &str| match text.char_indices().nth(TOLD_CORE) {
        Some((at, _)) => format!("{}…", &text[..at]),
        None => text.to_owned(),
    };
    match core {
        (Some(before), Some(now)) if before.is_empty() => format!("{} is new", cut(now)),
        (Some(before), Some(now)) if now.is_empty() => format!("{} is gone", cut(before)),
        (Some(before), Some(now)) => format!("{} instead of {}", cut(now), cut(before)),
        (None, Some(now)) => format!("{} is new", cut(now)),
        (Some(before), None) => format!("{} is gone", cut(before)),
        (None, None) => String::new(),
    }
}

fn short_digest(bytes: &[u8]) -> String {
    Digest::of(bytes).hex()[..8].to_owned()
}

/// The options that the name of a step's folder says, as people set them, or that it does not say
/// them.
fn readable_variant(folder: &str) -> String {
    match folder.split('/').find(|part| is_variant(part)) {
        None => "the options' defaults".to_owned(),
        Some(variant) => {
            let written = |options: Vec<(&str, &str)>| {
                let each: Vec<String> = options
                    .iter()
                    .map(|(name, value)| format!("{name}={value}"))
                    .collect();
                each.join(", ")
            };
            options_of(variant).map_or("other options".to_owned(), written)
        }
    }
}

/// What differs between two descriptions. Parts that only name the step's own folder do not count.
fn between(before: &str, now: &str) -> Vec<Difference> {
    if before.is_empty() || now.is_empty() {
        return Vec::new();
    }
    let parts = |text: &str| -> Vec<(Part, Arc<str>)> {
        let parts = text.split(BETWEEN).filter_map(|part| {
            let mut chars = part.chars();
            Some((Part::of_sign(chars.next()?)?, chars.as_str().into()))
        });
        parts.collect()
    };
    let (before, now) = (parts(before), parts(now));
    let plain = |part: &(Part, Arc<str>)| (part.0, without_made(&part.1));
    let missing_in = |these: &[(Part, Arc<str>)], those: &[(Part, Arc<str>)]| {
        let mut left: HashMap<(Part, String), usize> = HashMap::new();
        those
            .iter()
            .for_each(|part| *left.entry(plain(part)).or_default() += 1);
        let is_missing = |part: &&(Part, Arc<str>)| match left.get_mut(&plain(part)) {
            Some(count) if *count > 0 => {
                *count -= 1;
                false
            }
            _ => true,
        };
        these.iter().filter(is_missing).cloned().collect::<Vec<_>>()
    };
    let (gone, mut new) = (missing_in(&before, &now), missing_in(&now, &before));
    let mut differences = Vec::new();
    for (part, text) in gone {
        // What took its place is the likest of what is new, among not too many.
        let like = new
            .iter()
            .enumerate()
            .take(MOST_ALIKE)
            .filter(|(_, (p, _))| *p == part);
        let best = like
            .map(|(at, (_, other))| (alike(&text, other), at))
            .max_by_key(|(likeness, at)| (*likeness, std::cmp::Reverse(*at)));
        let successor = best
            .filter(|(likeness, _)| *likeness > 0 || part == Part::Text)
            .map(|(_, at)| new.remove(at).1);
        differences.push(Difference {
            part,
            before: Some(text),
            now: successor,
        });
    }
    differences.extend(new.into_iter().map(|(part, text)| Difference {
        part,
        before: None,
        now: Some(text),
    }));
    differences.sort_by_key(|d| d.part);
    differences
}

/// A text without the options that a made file's folder names: they differ between variants in any
/// case.
fn without_made(text: &str) -> String {
    if !text.contains("/~") {
        return text.to_owned();
    }
    without_variant(text)
}

/// How many bytes two texts begin with in common. Flags that belong together begin alike.
fn alike(a: &str, b: &str) -> usize {
    a.bytes().zip(b.bytes()).take_while(|(a, b)| a == b).count()
}

/// The commands of a step, word by word.
fn describe_commands(graph: &Graph, step: &Step, add: &mut dyn FnMut(Part, &str)) {
    let path = |file: FileId| graph.file(file).path.as_str();
    for (number, pipeline) in step.commands.iter().enumerate() {
        for (stage, process) in pipeline.stages.iter().enumerate() {
            match (number, stage) {
                (0, 0) => {}
                (_, 0) => add(Part::Word, ";"),
                _ => add(Part::Word, "|"),
            }
            if let Program::File(file) = process.program
                && process.words.first().is_none_or(|w| **w != *path(file))
            {
                add(Part::Word, path(file));
            }
            process.words.iter().for_each(|word| add(Part::Word, word));
            for (sign, file) in [
                ("<", &process.stdin),
                (">", &process.stdout),
                ("2>", &process.stderr),
            ] {
                if let Some(file) = file {
                    add(Part::Redirect, &format!("{sign} {}", file.as_str()));
                }
            }
        }
    }
}

/// What the tool does itself in a step.
fn describe_native(graph: &Graph, step: &Step, add: &mut dyn FnMut(Part, &str)) {
    let path = |file: FileId| graph.file(file).path.as_str();
    match step.native.as_deref() {
        Some(Native::Write { text, .. }) if text.len() <= SHORT_TEXT => {
            text.lines()
                .for_each(|line| add(Part::Text, &line.replace(BETWEEN, " ")));
        }
        Some(Native::Write { text, .. }) => {
            add(
                Part::Text,
                &format!("{} bytes, {}", text.len(), short_digest(text.as_bytes())),
            );
        }
        Some(Native::Stage { files } | Native::Pack { files, .. }) => {
            files
                .iter()
                .for_each(|p| add(Part::Text, &format!("{} from {}", p.to, path(p.from))));
        }
        Some(Native::Extract { file, patterns }) => {
            add(Part::Text, path(*file));
            patterns
                .iter()
                .for_each(|(name, pattern)| add(Part::Text, &format!("{name}: {pattern}")));
        }
        Some(Native::Part {
            folder, path: part, ..
        }) => {
            add(Part::Text, &format!("{part} of {}", path(*folder)));
        }
        Some(Native::Fetch { digest, .. }) => add(Part::Text, digest),
        Some(Native::Image(image)) => add(Part::Text, &described_image(image, &path)),
        Some(Native::MakeImage(new)) => {
            match &new.layer {
                NewLayer::Files(files) => {
                    files
                        .iter()
                        .for_each(|p| add(Part::Text, &format!("{} from {}", p.to, path(p.from))));
                }
                NewLayer::Tar(layer) => add(Part::Text, path(*layer)),
            }
            new.env
                .iter()
                .for_each(|(name, value)| add(Part::Variable, &format!("{name}={value}")));
            new.start.iter().for_each(|word| add(Part::Word, word));
            new.folder
                .iter()
                .for_each(|folder| add(Part::Folder, folder));
        }
        Some(Native::Find(
            ImageSearch::Tools { names, .. } | ImageSearch::Libraries { names, .. },
        )) => {
            names.iter().for_each(|name| add(Part::Text, name));
        }
        Some(Native::Unpack { .. }) | None => {}
    }
}

/// An image from its files, in words.
fn described_image<'g>(image: &ImageSource, path: &dyn Fn(FileId) -> &'g str) -> String {
    let ImageSource {
        files: _,
        name,
        platform: (system, processor),
    } = image;
    let layout = image.each_file().next();
    let layout = layout.map_or("nothing", |file| path(*file));
    let called = name.as_deref().unwrap_or("its only image");
    format!("{called} of {layout}, for {system} on {processor}")
}

#[cfg(test)]
mod tests {
    use super::*;

    fn shown(before: &str, now: &str) -> Vec<String> {
        let text = |t: &Option<Arc<str>>| t.as_deref().unwrap_or("-").to_owned();
        let all = between(before, now);
        all.iter()
            .map(|d| format!("{} {} {}", d.part.word(), text(&d.before), text(&d.now)))
            .collect()
    }

    #[test]
    fn words_that_took_each_others_place_are_told_together() {
        assert_eq!(
            shown("wcc\0w-O0\0wa.c\0", "wcc\0w-O2\0wa.c\0w-g\0"),
            ["word -O0 -O2", "word - -g"]
        );
        assert_eq!(shown("wcc\0w-g\0", "wcc\0"), ["word -g -"]);
        assert_eq!(shown("eA=1\0wcc\0", "eA=2\0wcc\0"), ["variable A=1 A=2"]);
        assert_eq!(shown("wx\0", "wy\0"), ["word x -", "word - y"]);
        assert_eq!(shown("wa\0wa\0", "wa\0"), ["word a -"]);
    }

    #[test]
    fn variants_differ_in_their_folders_and_that_is_not_said() {
        let made = |variant: &str| format!("wcc\0w.nubrik/made/t/h{variant}/@fit.o/fit.o\0");
        assert_eq!(shown(&made(""), &made("/~a.mode~release")), [""; 0]);
        assert_eq!(
            readable_variant(".nubrik/made/t/~kit+flags.mode~x++kit.b~1/@a"),
            "mode=x, b=1"
        );
        assert_eq!(
            readable_variant(".nubrik/made/t/~0123abcd/@a"),
            "other options"
        );
    }

    #[test]
    fn the_core_of_a_difference_is_what_people_edited() {
        let told = |before: &str, now: &str| {
            let text = |t: &str| (!t.is_empty()).then(|| t.into());
            in_words(&core(&Difference {
                part: Part::Word,
                before: text(before),
                now: text(now),
            }))
        };
        assert_eq!(told("-O0", "-O2"), "-O2 instead of -O0");
        assert_eq!(
            told("<p>gauge at 185 cm</p>", "<p>gauge at 190 cm</p>"),
            "190 instead of 185"
        );
        assert_eq!(told("r41, draft", "r42, draft"), "r42 instead of r41");
        assert_eq!(told("a b", "a b c"), "b c instead of b");
        assert_eq!(
            (told("", "-g"), told("-g", "")),
            ("-g is new".to_owned(), "-g is gone".to_owned())
        );
        assert_eq!(told("aaa", "aaaa"), "aaaa instead of aaa");
    }

    #[test]
    fn order_alone_and_what_is_not_known_say_nothing() {
        assert_eq!(shown("wa\0wb\0", "wb\0wa\0"), [""; 0]);
        assert_eq!(shown("", "wb\0"), [""; 0]);
    }
}
