//! `nubrik options`

use std::collections::BTreeMap;

use nubrik_answers::{OptionEvent, ProfileEvent, options_with};
use nubrik_lang::{OptionInfo, SettingValue};

use super::{CommandResult, evaluate_with, open, say_wrong};
use crate::arguments::Choice;
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, out, outln};
use crate::ui::paint::{Ink, Paint};

/// How many readers are named; more of them are only counted.
const NAMED_READERS: usize = 6;

pub fn options(console: Console, choice: &Choice, word: Option<&str>) -> CommandResult<Exit> {
    let mut session = open(console, choice)?;
    let evaluation = evaluate_with(
        console,
        &mut session,
        None,
        nubrik_session::Session::options_to_read,
    )?;
    let options = options_with(&evaluation.options, word);
    if let Some(word) = word.filter(|_| options.is_empty()) {
        let names: Vec<&str> = evaluation.options.iter().map(|o| o.name.as_str()).collect();
        let mends: Vec<String> = if names.is_empty() {
            Vec::new()
        } else {
            vec![format!("there is: {}", names.join(", "))]
        };
        let mends: Vec<&str> = mends.iter().map(String::as_str).collect();
        return Err(say_wrong(
            console,
            Exit::Usage,
            &format!("no option has the word `{word}`"),
            &mends,
        ));
    }
    let profiles = session.workspace.settings.profiles.clone();
    if console.is_json() {
        options
            .iter()
            .for_each(|option| console.event(&OptionEvent::of(option)));
        profiles
            .iter()
            .for_each(|(name, set)| console.event(&ProfileEvent::of(name, set)));
        return Ok(Exit::Done);
    }
    let paint = console.paint(OutputStream::Output);
    if options.is_empty() {
        outln!(console, "these definitions declare no options");
        return Ok(Exit::Done);
    }
    for (i, option) in options.iter().enumerate() {
        if i > 0 {
            outln!(console);
        }
        out!(console, "{}", render(option, paint));
    }
    if word.is_none() && !profiles.is_empty() {
        show_profiles(console, paint, &profiles);
    }
    Ok(Exit::Done)
}

/// Shows what the settings set together under a name.
fn show_profiles(
    console: Console,
    paint: Paint,
    profiles: &BTreeMap<String, Vec<(String, SettingValue)>>,
) {
    let title = paint.ink(Ink::Strong, "profiles of nubrik.toml");
    outln!(console, "\n{title}");
    let widest = profiles.keys().map(String::len).max().unwrap_or(0);
    for (name, set) in profiles {
        let set = set
            .iter()
            .map(|(option, value)| format!("{option} = {value}"));
        let set = set.collect::<Vec<_>>().join(", ");
        let name = paint.ink(Ink::Calm, &format!("{name:<widest$}"));
        outln!(console, "  {name}  {set}");
    }
}

fn render(option: &OptionInfo, paint: Paint) -> String {
    let unknown = "?".to_owned();
    let default = option.default.as_ref().unwrap_or(&unknown);
    let value = option.value.as_ref().unwrap_or(&unknown);
    let mut out = format!(
        "{}  {}\n",
        paint.ink(Ink::Strong, &option.name),
        paint.ink(Ink::Faint, &option.ty)
    );
    let mut line = |label: &str, text: &str| {
        let text = paint.in_lines(12, text, str::to_owned);
        out.push_str(&format!(
            "  {}  {text}\n",
            paint.ink(Ink::Calm, &format!("{label:<8}"))
        ));
    };
    if !option.documentation.is_empty() {
        line("about", &option.documentation);
    }
    match value == default {
        true => line("value", &format!("{value}, its default")),
        false => line("value", &format!("{value}; its default is {default}")),
    }
    line(
        "declared",
        &format!("{} as {}", option.place, option.full_name),
    );
    let readers = &option.readers;
    let named: Vec<&str> = readers.iter().take(NAMED_READERS).map(|r| &**r).collect();
    let text = match readers.len() {
        0 => "no target: setting it changes nothing".to_owned(),
        n if n > NAMED_READERS => format!("{} and {} more", named.join(", "), n - NAMED_READERS),
        _ => named.join(", "),
    };
    line("read by", &text);
    out
}
