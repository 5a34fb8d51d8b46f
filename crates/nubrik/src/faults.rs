//! What is said where this program itself has a fault.

use crate::arguments::{Color, Face};
use crate::ui::console::{Console, errln};

/// Says what a fault of this program means, should there be one.
pub fn say_what_to_do_about_them() {
    let console = Console::new(Face { plain: true, json: false, color: Color::Never });
    std::panic::set_hook(Box::new(move |panic| {
        errln!(console, "nubrik has a fault and must stop: {panic}");
        errln!(
            console,
            "the workspace and the store are safe; please report this with the command that led here"
        );
        std::process::exit(5);
    }));
}
