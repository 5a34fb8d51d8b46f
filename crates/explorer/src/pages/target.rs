//! Everything about one target.

use maud::{Markup, html};
use nubrik_graph::{FileId, StepId, Target, TargetId, shown_command, shown_service};
use nubrik_wording::{counted, duration, size};

use crate::links::{About, page};
use crate::look::{SitePage, prose, state, when};
use crate::pages::naming::{file_link, place_link, target_link};
use crate::pages::origins::origins;
use crate::pages::sources::{definition, listing, text_of};
use crate::pages::targets::crumbs;
use crate::pages::timeline::trend;
use crate::site::{Site, kind_of};

/// More names than this are put away until somebody wants them.
const NAMED: usize = 12;

/// More steps than this are not shown in one page.
const STEPS: usize = 60;

/// Words of a command longer than this are folded, in bytes.
const COMMAND: usize = 1_200;

/// So much of a made text is shown, in bytes.
const CONTENT: usize = 4_000;

pub(crate) fn target(site: &Site, address: &str) -> Option<SitePage> {
    let graph = site.graph();
    let id = site.find(address)?;
    let target = graph.target(id);
    let steps = &site.steps[id.index()];
    let body = html! {
        (crumbs(target.package.as_str()))
        h1 { (address) }
        p { (kind_of(target)) @if target.private { ", private" } @if !target.documentation.is_empty() { ": " (prose(&target.documentation)) } }
        p {
            a href=(page(About::Graph, address)) { "Show in graph" } " · "
            code { "nubrik build " (address) }
        }
        (facts(site, id, target))
        h2 { "Definition" }
        (definition(site, &target.place))
        (values(site, address))
        @if !steps.is_empty() {
            h2 { (counted(steps.len(), "step")) }
            @for step in steps.iter().take(STEPS) { (step_part(site, *step, address)) }
            @if steps.len() > STEPS { p.lead { "and " (steps.len() - STEPS) " more: " code { "nubrik show --json " (address) } } }
        }
        (on_call(site, id))
        (runs(site, address))
    };
    Some(SitePage {
        title: address.to_owned(),
        part: "kinds.html",
        body,
    })
}

/// The values of a target's fields, those among them that came from defaults.
fn values(site: &Site, address: &str) -> Markup {
    if !site.tells_values() {
        return html! { p.lead { "The values of its fields are not shown: with so many targets it would take long to evaluate them." } };
    }
    let Some(call) = site.told(address) else {
        return html! {};
    };
    let from_default = call.fields.iter().filter(|field| !field.is_given).count();
    html! {
        details {
            summary {
                (counted(call.fields.len(), "field")) " of " code { (call.kind) }
                @if from_default > 0 { ", " (from_default) " at their defaults" }
            }
            div.scroll { table {
                thead { tr { th scope="col" { "Field" } th scope="col" { "Value" } th scope="col" { "From" } th scope="col" { "What it is for" } } }
                tbody { @for field in &call.fields {
                    tr {
                        td.name { (field.name) }
                        td { code { (field.value) } }
                        td {
                            @if field.is_given { "the definition" }
                            @else if let Some(place) = &field.default { "its default, " (place_link(site, place)) }
                            @else { "nothing" }
                        }
                        td { (prose(&field.documentation)) }
                    }
                } }
            } }
        }
    }
}

fn facts(site: &Site, id: TargetId, target: &Target) -> Markup {
    let options: Vec<_> = site.options_of(&target.address).collect();
    let cost = site.cost(id);
    html! {
        dl.facts {
            dt { "Defined" } dd { (place_link(site, &target.place)) }
            @if !target.tags.is_empty() { dt { "Tags" } dd { (target.tags.join(", ")) } }
            dt { "Needs" } dd { (targets(site, &site.needs[id.index()], "no targets")) }
            dt { "Used by" } dd { (targets(site, &declared(site, &site.users[id.index()]), "no other target")) }
            @if !options.is_empty() {
                dt { "Options" }
                dd {
                    @for (n, option) in options.iter().enumerate() {
                        @if n > 0 { ", " }
                        a.name href=(format!("options.html#{}", option.full_name.replace(['/', '.', ':'], "-"))) { (option.name) }
                        @if let Some(value) = &option.value { " = " code { (value) } }
                    }
                }
            }
            @if !target.results.is_empty() {
                dt { "Results" } dd { (results(site, target)) }
            }
            @if cost > 0 { dt { "Took" } dd { (duration(cost)) " (latest runs)" } }
        }
    }
}

fn declared(site: &Site, ids: &[TargetId]) -> Vec<TargetId> {
    ids.iter()
        .copied()
        .filter(|id| site.graph().target(*id).is_declared())
        .collect()
}

/// Links to targets; many of them put away.
fn targets(site: &Site, ids: &[TargetId], none: &str) -> Markup {
    let mut ids = ids.to_vec();
    ids.sort_by(|a, b| {
        site.graph()
            .target(*a)
            .address
            .cmp(&site.graph().target(*b).address)
    });
    many(&ids, none, |id| target_link(site, *id))
}

fn many<T>(all: &[T], none: &str, one: impl Fn(&T) -> Markup) -> Markup {
    let list = |some: &[T]| html! { @for (n, item) in some.iter().enumerate() { @if n > 0 { ", " } (one(item)) } };
    match all.len() {
        0 => html! { (none) },
        1..=NAMED => list(all),
        count => html! {
            details { summary { (list(&all[..3])) " and " (count - 3) " more" } (list(&all[3..])) }
        },
    }
}

fn results(site: &Site, target: &Target) -> Markup {
    let out = site.session.results_folder();
    many(&target.results, "", |result| {
        let path = format!("{out}/{}", result.publish);
        let length = std::fs::metadata(site.session.workspace.root.join(&path))
            .ok()
            .filter(|m| m.is_file());
        let file = site.graph().file(result.file);
        html! {
            @if file.folder { span.name { (path) "/" } }
            @else { a.name href=(page(About::File, file.path.as_str())) { (path) } }
            @if let Some(length) = length { " (" (size(length.len())) ")" }
        }
    })
}

fn step_part(site: &Site, id: StepId, address: &str) -> Markup {
    let graph = site.graph();
    let step = graph.step(id);
    let files = |files: &[FileId], none: &str| many(files, none, |file| file_link(site, *file));
    let inputs = step.inputs_besides_image();
    let outputs: Vec<FileId> = step.outputs.iter().map(|output| output.file).collect();
    let uncertain = graph.uncertain(step);
    let printed = site.session.printed(step).filter(|text| !text.is_empty());
    html! {
        div.step #(format!("step-{}", id.0)) {
            h3 { span.say { (step.say) } @if !step.variant.is_empty() { " (" (step.variant) ")" } }
            p.lead {
                @match site.micros(id) { Some(micros) => { "took " (duration(micros)) }, None => { "never ran here" } }
                ", " (place_link(site, &step.place))
            }
            @for command in shown_command(step) { (command_text(&command)) }
            (origins(site, step, address))
            @for list in &step.lists {
                details { summary { (counted(list.text.lines().count(), "line")) " given in " code { (list.path.name()) } } pre { (list.text) } }
            }
            dl.facts {
                @if let Some(image) = graph.image_of(id) {
                    dt { "Image" } dd { (target_link(site, graph.step(image).target)) }
                }
                dt { "Reads" } dd { (files(&inputs, "nothing")) }
                @if !uncertain.is_empty() { dt { "May read" } dd { (files(&uncertain, "")) } }
                @if !step.tools.is_empty() {
                    dt { "Tools" }
                    dd { @for (n, tool) in step.tools.iter().enumerate() { @if n > 0 { ", " } code { (graph.tools[tool.index()]) } } }
                }
                @if !step.env.is_empty() {
                    dt { "Variables" }
                    dd { @for (n, (name, value)) in step.env.iter().enumerate() { @if n > 0 { ", " } code { (name) "=" (value.replace('\0', "…")) } } }
                }
                @if !step.machine.is_empty() {
                    dt { "Machine" } dd { @for label in &step.machine { code { (label) } " " } }
                }
                @if !step.services.is_empty() {
                    dt { "While" } dd { @for service in &step.services { code { (service.address) } " runs " } }
                }
                dt { "Makes" } dd { (files(&outputs, "nothing")) }
            }
            @for output in outputs.iter().take(3) { (content(site, *output)) }
            @if let Some(printed) = printed {
                details { summary { "What it printed" } pre.wrap { (text_of(&printed, CONTENT)) } }
            }
        }
    }
}

fn command_text(command: &str) -> Markup {
    html! {
        @if command.len() > COMMAND {
            details { summary { code { (command.chars().take(160).collect::<String>()) "…" } } pre.wrap { (command) } }
        } @else { pre.wrap { (command) } }
    }
}

/// The beginning of a small text that was made, put away.
fn content(site: &Site, file: FileId) -> Markup {
    let node = site.graph().file(file);
    let at = site.session.workspace.root.join(node.path.as_str());
    let bytes = std::fs::metadata(&at)
        .ok()
        .filter(|meta| !node.folder && meta.is_file() && meta.len() <= CONTENT as u64)
        .and_then(|_| std::fs::read(&at).ok())
        .filter(|bytes| {
            !bytes.is_empty() && std::str::from_utf8(bytes).is_ok_and(|text| !text.contains('\0'))
        });
    html! {
        @if !node.folder { (listing(site, node.path.as_str())) }
        @if let Some(bytes) = bytes {
            details { summary { "What is in " code { (node.path.name()) } } pre { (text_of(&bytes, CONTENT)) } }
        }
    }
}

/// Services that a target is, and where they are used.
fn on_call(site: &Site, id: TargetId) -> Markup {
    html! {
        @for service in site.services_of(id) {
            h2 { "Service " code { (service.address) } }
            dl.facts { @for (label, command) in shown_service(service) { dt { (label) } dd { code { (command) } } } }
        }
    }
}

/// The last builds in which steps of a target were not current.
fn runs(site: &Site, address: &str) -> Markup {
    let mut rows = Vec::new();
    let mut times = Vec::new();
    for of_build in site
        .runs_of(address)
        .chunk_by(|one, other| one.build == other.build)
    {
        let build = &site.builds()[of_build[0].build];
        let own: Vec<_> = of_build.iter().map(|of| &build.done[of.step]).collect();
        let worst = ["failed", "ran", "reused"]
            .into_iter()
            .find(|word| own.iter().any(|step| step.state == *word));
        times.push((
            build.build,
            worst.unwrap_or("none"),
            own.iter().map(|step| step.micros).sum::<u64>(),
        ));
        rows.push((build, own));
    }
    html! {
        @if !rows.is_empty() {
            h2 { "Last runs" }
            (trend(&times))
            div.scroll { table {
                thead { tr { th scope="col" { "Build" } th scope="col" { "When" } th scope="col" { "Step" } th scope="col" { "State" } th.number scope="col" { "Took" } th scope="col" { "Why" } } }
                tbody {
                    @for (build, own) in rows.iter().rev().take(10) {
                        @for step in own.iter().take(4) {
                            tr {
                                td { a href=(page(About::Build, &build.build.to_string())) { (build.build) } }
                                td { (when(build.began, site.now())) }
                                td.say { (step.say) }
                                td { (state(&step.state)) }
                                td.number { @if step.micros > 0 { (duration(step.micros)) } }
                                td { (step.why()) }
                            }
                        }
                    }
                }
            } }
        }
    }
}
