//! What is said where this program itself has a fault.

use crate::arguments::{Color, Face};
use crate::exit::Exit;
use crate::ui::console::{Console, errln};

/// What the machine lacks, where that is the reason: no thread can be started, or no memory be had.
fn lack(panic: &std::panic::PanicHookInfo<'_>) -> Option<String> {
    let payload = panic.payload();
    if let Some(nubrik_session::MachineLacks(lack)) = payload.downcast_ref() {
        return Some(lack.clone());
    }
    // So the standard library words it.
    let text = payload.downcast_ref::<String>()?;
    ["failed to spawn thread", "cannot start a thread"]
        .iter()
        .any(|words| text.starts_with(words))
        .then(|| text.clone())
}

/// Says what a fault of this program means, should there be one.
pub fn say_what_to_do_about_them() {
    let console = Console::new(Face {
        plain: true,
        json: false,
        color: Color::Never,
    });
    std::panic::set_hook(Box::new(move |panic| {
        if let Some(lack) = lack(panic) {
            errln!(
                console,
                "error: this machine lets nubrik do no more: {lack}"
            );
            errln!(
                console,
                "  try: more memory or threads (`ulimit -v`, `ulimit -u`), or fewer steps at once (-j 1)"
            );
            std::process::exit(Exit::Machine.code().into());
        }
        errln!(console, "nubrik has a fault and must stop: {panic}");
        errln!(
            console,
            "the workspace and the cache are safe; please report this with the command that led here"
        );
        std::process::exit(5);
    }));
}
