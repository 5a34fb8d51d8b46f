//! `nubrik image`: images and registries.

use std::path::Path;

use nubrik_answers::PushedEvent;
use nubrik_pins::{ImageAddress, NotPushed, PushedImage, push_image};
use nubrik_wording::counted;

use super::{CommandResult, labelled, say_wrong, started_in};
use crate::arguments::ImageWork;
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, outln};
use crate::ui::paint::Ink;

pub fn image(console: Console, work: &ImageWork) -> CommandResult<Exit> {
    let ImageWork::Push {
        archive,
        to,
        secret,
    } = work;
    push(console, archive, to, secret.as_deref())
}

fn push(console: Console, archive: &Path, to: &str, secret: Option<&str>) -> CommandResult<Exit> {
    let Some(address) = ImageAddress::parse(to) else {
        // It may hold a password.
        let message = "the address of an image names a host, a name and a tag, and no user";
        return Err(say_wrong(
            console,
            Exit::Usage,
            message,
            &["https://HOST/NAME:TAG"],
        ));
    };
    if secret.is_some() && address.is_open() {
        let message = "without encryption, others on the way could read the secret";
        return Err(say_wrong(
            console,
            Exit::Usage,
            message,
            &[&to.replacen("http:", "https:", 1)],
        ));
    }
    let secret = secret.map(|name| secret_in(console, name)).transpose()?;
    let path = started_in().join(archive);
    let PushedImage {
        digest,
        sent,
        known,
    } = match push_image(&path, &address, secret.as_deref()) {
        Ok(pushed) => pushed,
        Err(why) => {
            let text = why.to_string();
            let first = text.lines().next().unwrap_or_default();
            let message = format!("the image is not pushed: {first}");
            let mend = "--secret VARIABLE, which holds USER:PASSWORD or a token";
            let mends: &[&str] = match why {
                NotPushed::Registry(_) if secret.is_none() => &[mend],
                _ => &[],
            };
            return Err(say_wrong(console, Exit::Failed, &message, mends));
        }
    };
    if console.is_json() {
        console.event(&PushedEvent::of(&digest, sent, known));
        return Ok(Exit::Done);
    }
    let paint = console.paint(OutputStream::Output);
    let what = format!(
        "{digest}, {} sent, {known} there before",
        counted(sent, "blob")
    );
    outln!(console, "{}", labelled(paint, Ink::Found, "pushed", &what));
    Ok(Exit::Done)
}

/// The secret that a variable holds.
fn secret_in(console: Console, name: &str) -> CommandResult<String> {
    std::env::var(name).map_err(|_| {
        let message = format!("the variable {name}, which holds the secret, is not set");
        let mend = format!("export {name}=USER:PASSWORD");
        say_wrong(console, Exit::Usage, &message, &[&mend])
    })
}
