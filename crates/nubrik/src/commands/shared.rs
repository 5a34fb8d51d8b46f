//! `nubrik shared`: the shared cache.

use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;

use nubrik_answers::{SOON, SharedHealth, SharedState, age, is_old, now, until_expiry};
use nubrik_session::{Agreement, Session, SharedCache, SharedPlace, SharedSettings};
use nubrik_shared::{
    KeyList, ListProblem, Member, NoRandomNumbers, PublicKey, SecretKey, channels_in_words,
    is_channel,
};
use nubrik_team::{
    NotChanged, TeamTrouble, asked_by_store, asked_for_team, change_members, key_in, members_at,
    put_members,
};
use nubrik_wording::{ago, counted};

use super::{CommandResult, labelled, open, say_wrong};
use crate::arguments::{Choice, RootKey, SharedWork};
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, outln};
use crate::ui::paint::Ink;

pub fn shared(console: Console, choice: &Choice, work: Option<&SharedWork>) -> CommandResult<Exit> {
    match work {
        None => status(console, choice),
        Some(SharedWork::Trust) => agree(console, choice),
        Some(SharedWork::NewKey { file }) => {
            let key = SecretKey::generate().map_err(|problem| no_key(console, problem))?;
            write_key(console, file, &key)?;
            let next = format!("nubrik shared add NAME {} --root-key FILE", key.public());
            let lines = [
                ("key", key.public().to_string()),
                ("file", file.display().to_string()),
                ("next", next),
            ];
            let state = SharedState {
                state: "new-key",
                key: Some(key.public()),
                ..SharedState::default()
            };
            tell(console, state, &lines);
            Ok(Exit::Done)
        }
        Some(SharedWork::Create {
            at,
            root,
            secret,
            endpoint,
            region,
        }) => {
            let (secret, endpoint, region) = (secret.clone(), endpoint.clone(), region.clone());
            create(
                console,
                &SharedPlace {
                    at: at.clone(),
                    secret,
                    endpoint,
                    region,
                    certificates: None,
                },
                root,
            )
        }
        Some(SharedWork::Add {
            name,
            key,
            channel,
            root,
        }) => add(console, choice, (name, key, channel), root),
        Some(SharedWork::Prune { days, at_once }) => {
            super::shared_upkeep::prune(console, choice, *days, *at_once)
        }
        Some(SharedWork::Verify) => super::shared_upkeep::verify(console, choice),
        Some(SharedWork::Revoke { who, root }) => {
            change(console, choice, root, |list| revoked(list, who))
        }
    }
}

const NEW_KEY: &str = "nubrik shared new-key FILE   makes the key of a writer";
const ADD_WRITER: &str = "nubrik shared add NAME KEY --root-key FILE   lets the writer in";
const TRUST: &str = "nubrik shared trust   on each machine that uses it";

/// Lets someone write some channels, or all.
fn add(
    console: Console,
    choice: &Choice,
    (name, key, channels): (&str, &str, &[String]),
    root: &RootKey,
) -> CommandResult<Exit> {
    let bad = |what: &str, mend: &str| Err(say_wrong(console, Exit::Usage, what, &[mend]));
    let Some(key) = PublicKey::parse(key) else {
        let mend = "nubrik shared new-key FILE   makes a key, and prints ed25519:…";
        return bad(&format!("`{key}` is no public key"), mend);
    };
    if let Some(channel) = channels.iter().find(|channel| !is_channel(channel)) {
        let mend = "letters, digits, `-`, `_`, `.` and `/`: --channel main";
        return bad(&format!("`{channel}` is no name of a channel"), mend);
    }
    change(console, choice, root, |list| {
        let done = format!("{name} may write {}", channels_in_words(channels));
        list.admit(Member {
            name: name.to_owned(),
            key,
            channels: channels.to_vec(),
        })?;
        Ok(done)
    })
}

/// Takes someone out of a list, by name or key.
fn revoked(list: &mut KeyList, who: &str) -> Result<String, ListProblem> {
    let keys = list.revoke(who)?;
    let rerun = "results that workspaces have already stay there until `nubrik build --rerun`";
    let keys = keys
        .iter()
        .map(PublicKey::to_string)
        .collect::<Vec<_>>()
        .join(", ");
    Ok(format!(
        "everything that {keys} signed is rejected from now on; {rerun}"
    ))
}

/// What the workspace proposes, or says that it proposes nothing.
fn proposed(console: Console, session: &Session) -> CommandResult<SharedSettings> {
    let settings = session.workspace.settings.shared.clone();
    settings.ok_or_else(|| {
        let mends = [
            "[shared]\nat = \"https://…\"\nroot_key = \"ed25519:…\"   in nubrik.toml",
            "nubrik shared create PLACE --root-key FILE   creates one",
        ];
        say_wrong(
            console,
            Exit::Usage,
            "this workspace names no shared cache",
            &mends,
        )
    })
}

/// Where the mirror of a shared cache is, if it has one.
fn mirror_line(settings: &SharedSettings) -> Option<(&'static str, String)> {
    settings
        .mirror
        .as_ref()
        .map(|mirror| ("mirror", mirror.at.clone()))
}

fn status(console: Console, choice: &Choice) -> CommandResult<Exit> {
    let mut session = open(console, choice)?;
    let settings = proposed(console, &session)?;
    let anew = session.ask_shared_anew();
    anew.map_err(|problem| say_wrong(console, Exit::Usage, &problem.to_string(), &[]))?;
    let place = settings.place.at.clone();
    match session.shared() {
        SharedCache::Used(store) => Ok(used_status(console, &settings, &store)),
        SharedCache::Proposed(_) | SharedCache::None => {
            let mut lines = vec![("at", place.clone())];
            lines.extend(mirror_line(&settings));
            lines.extend([
                ("root key", settings.root.to_string()),
                (
                    "state",
                    "you do not trust it yet, so no result is taken from there".to_owned(),
                ),
                (
                    "next",
                    "nubrik shared trust   if this is the root key of your team".to_owned(),
                ),
            ]);
            let (at, key) = (&*place, Some(settings.root));
            tell(
                console,
                SharedState {
                    state: "proposed",
                    at,
                    key,
                    ..SharedState::default()
                },
                &lines,
            );
            Ok(Exit::Done)
        }
    }
}

/// Shows a shared cache that is used.
fn used_status(
    console: Console,
    settings: &SharedSettings,
    store: &nubrik_shared::SharedStore,
) -> Exit {
    let place = settings.place.at.clone();
    let (keys, heads) = store.known();
    let members = store.members();
    let mut lines = vec![("at", place.clone())];
    lines.extend(mirror_line(settings));
    lines.push(("root key", settings.root.to_string()));
    for member in &members.members {
        let channels_of = channels_in_words(&member.channels);
        let text = format!("{}   {channels_of}   {}", member.name, member.key);
        lines.push(("member", text));
    }
    if members.expires > 0 {
        let days = until_expiry(members.expires);
        let soon = match days <= SOON {
            true => ": `nubrik shared add` or `revoke` with --root-key FILE signs it again",
            false => "",
        };
        lines.push(("expires", format!("in {}{soon}", counted(days, "day"))));
    }
    for (name, channel, when) in heads {
        let old = match is_old(when) {
            true => ": nothing was uploaded since, or newer heads are withheld",
            false => "",
        };
        let age = ago(age(when).as_secs());
        lines.push(("head", format!("{channel}   by {name}, {age}{old}")));
    }
    lines.push(("results", format!("{keys} keys are known here")));
    if let Some(trouble) = store.trouble() {
        lines.push(("trouble", trouble.to_string()));
    }
    if let Some((_, Some(trouble))) = store.mirror_place() {
        lines.push(("trouble", format!("of the mirror: {trouble}")));
    }
    let state = SharedState {
        state: "used",
        at: &place,
        key: Some(settings.root),
        members: KeyList::clone(&members),
        keys,
        health: Some(SharedHealth::of(store)),
    };
    tell(console, state, &lines);
    match store.is_off() {
        true => Exit::Failed,
        false => Exit::Done,
    }
}

fn agree(console: Console, choice: &Choice) -> CommandResult<Exit> {
    let session = open(console, choice)?;
    let settings = proposed(console, &session)?;
    let asked = asked_for_team(&session.workspace.settings);
    super::agree::note(console, &asked)?;
    let mut lines = vec![("at", settings.place.at.clone())];
    lines.extend(mirror_line(&settings));
    lines.push(("root key", settings.root.to_string()));
    lines.push((
        "trusted",
        "results that its members signed are used from now on".to_owned(),
    ));
    // The shared cache and its mirror are said above.
    let is_said = |asked: &&Agreement| matches!(asked, Agreement::Store { .. });
    lines.extend(
        asked
            .iter()
            .filter(|asked| !is_said(asked))
            .map(|asked| ("trusted", asked.to_string())),
    );
    let (at, key) = (&*settings.place.at, Some(settings.root));
    tell(
        console,
        SharedState {
            state: "accepted",
            at,
            key,
            ..SharedState::default()
        },
        &lines,
    );
    Ok(Exit::Done)
}

fn create(console: Console, place: &SharedPlace, root: &RootKey) -> CommandResult<Exit> {
    let at = place.at.as_str();
    let usage = |problem: TeamTrouble| say_wrong(console, Exit::Usage, &problem.to_string(), &[]);
    let key = match root.file.exists() {
        true => key_in(&root.file).map_err(usage)?,
        false => SecretKey::generate().map_err(|problem| no_key(console, problem))?,
    };
    let failed = |problem: TeamTrouble| unusable(console, at, &problem.to_string());
    let known = members_at(place, true, &key.public()).map_err(failed)?;
    if known.is_some() {
        let message = format!("there is a shared cache at {at} already");
        let mend = "nubrik shared add NAME KEY --root-key FILE   lets a member write there";
        return Err(say_wrong(console, Exit::Usage, &message, &[mend]));
    }
    if !root.file.exists() {
        write_key(console, &root.file, &key)?;
    }
    let list = KeyList {
        sequence: 1,
        expires: until(root.days),
        ..KeyList::default()
    };
    put_members(place, true, &list, &key).map_err(failed)?;
    // The person named the place: nothing is left to agree to here.
    let asked = asked_by_store(place, &key.public());
    super::agree::note(console, &asked)?;
    let settings = settings_text(place, &key.public());
    let file = root.file.display();
    let lines = [
        ("made", format!("a shared cache without members at {at}")),
        ("root key", key.public().to_string()),
        (
            "secret",
            format!("{file} holds its secret key: keep it away from machines that build"),
        ),
        (
            "write",
            format!("{settings}\nin nubrik.toml").replace('\n', "\n          "),
        ),
        ("next", NEW_KEY.to_owned()),
        ("", ADD_WRITER.to_owned()),
        ("", TRUST.to_owned()),
    ];
    let state = SharedState {
        state: "created",
        at,
        key: Some(key.public()),
        members: list,
        ..SharedState::default()
    };
    tell(console, state, &lines);
    Ok(Exit::Done)
}

/// The settings of a shared cache, as a workspace has them in its file.
fn settings_text(place: &SharedPlace, key: &PublicKey) -> String {
    let mut settings = format!("[shared]\nat = \"{}\"\nroot_key = \"{key}\"", place.at);
    let more = [
        ("secret", &place.secret),
        ("endpoint", &place.endpoint),
        ("region", &place.region),
    ];
    for (name, value) in more {
        settings.extend(value.iter().map(|value| format!("\n{name} = \"{value}\"")));
    }
    settings
}

fn no_key(console: Console, problem: NoRandomNumbers) -> Exit {
    say_wrong(console, Exit::Machine, &problem.to_string(), &[])
}

fn unusable(console: Console, at: &str, problem: &str) -> Exit {
    let message = format!("the shared cache at {at} cannot be used: {problem}");
    say_wrong(
        console,
        Exit::Failed,
        &message,
        &["look whether it is there, and can be written"],
    )
}

/// Changes the list of members, and signs it again.
fn change(
    console: Console,
    choice: &Choice,
    root: &RootKey,
    edit: impl Fn(&mut KeyList) -> Result<String, ListProblem>,
) -> CommandResult<Exit> {
    let session = open(console, choice)?;
    let settings = proposed(console, &session)?;
    let usage = |problem: String| say_wrong(console, Exit::Usage, &problem, &[]);
    let key = key_in(&root.file).map_err(|problem| usage(problem.to_string()))?;
    if key.public() != settings.root {
        let file = root.file.display();
        let message = format!(
            "{file} holds the key of {}, and nubrik.toml names {}",
            key.public(),
            settings.root
        );
        let mend = "--root-key FILE is the file that `nubrik shared create` wrote";
        return Err(say_wrong(console, Exit::Usage, &message, &[mend]));
    }
    let (at, place) = (settings.place.at.as_str(), &settings.place);
    let signed_until = |list: &mut KeyList| {
        list.expires = until(root.days);
        edit(list)
    };
    let (list, done) = change_members(place, &key, signed_until).map_err(|not| match not {
        NotChanged::Trouble(problem) => unusable(console, at, &problem.to_string()),
        NotChanged::NoList => unusable(
            console,
            at,
            "it has no list of members; `nubrik shared create` makes one",
        ),
        NotChanged::Problem(problem) => usage(problem.to_string()),
        NotChanged::Contended => {
            let message =
                format!("others change the members of the shared cache at {at} all the time");
            say_wrong(
                console,
                Exit::Failed,
                &message,
                &["try again when they are done"],
            )
        }
    })?;
    let (key, members) = (Some(settings.root), list);
    let state = SharedState {
        state: "changed",
        at,
        key,
        members,
        ..SharedState::default()
    };
    tell(console, state, &[("members", done)]);
    Ok(Exit::Done)
}

/// Days from now, in seconds since 1970.
fn until(days: u32) -> u64 {
    now() + u64::from(days) * 24 * 3600
}

/// Writes a secret key to a file that is not there yet, for its owner only.
fn write_key(console: Console, file: &Path, key: &SecretKey) -> CommandResult<()> {
    let written = std::fs::OpenOptions::new()
        .write(true)
        .create_new(true)
        .mode(0o600)
        .open(file);
    let written = written.and_then(|mut file| writeln!(file, "{}", key.to_text()));
    written.map_err(|e| {
        say_wrong(
            console,
            Exit::Own,
            &format!("cannot write the key to {}: {e}", file.display()),
            &["name a file that is not there yet"],
        )
    })
}

fn tell(console: Console, state: SharedState<'_>, lines: &[(&str, String)]) {
    if console.is_json() {
        return console.event(&state.event());
    }
    let paint = console.paint(OutputStream::Output);
    for (word, text) in lines {
        outln!(console, "{}", labelled(paint, Ink::Calm, word, text));
    }
}
