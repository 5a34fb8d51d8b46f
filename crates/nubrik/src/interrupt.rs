//! Signals: the first one stops all steps and lets the program tidy up, a third one ends it at once.

use std::io::IsTerminal;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, OnceLock};

use nubrik_confine::CancelSwitch;
use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
use signal_hook::iterator::Signals;

/// Whether what runs in the terminal hears the terminal's interrupts itself.
static LEFT_TO_CHILDREN: AtomicBool = AtomicBool::new(false);

/// While something else runs in this terminal, an interrupt from the keyboard is its own business: it gets
/// it, too.
pub fn leave_to_children(leave: bool) {
    LEFT_TO_CHILDREN.store(leave && std::io::stdin().is_terminal(), Ordering::Relaxed);
}

/// How many signals end the program at once.
const IMPATIENCE: usize = 3;

/// A switch that signals throw. Without signals (which no machine refuses) it is just never thrown.
pub fn cancel_switch() -> std::io::Result<Arc<CancelSwitch>> {
    static SWITCH: OnceLock<Arc<CancelSwitch>> = OnceLock::new();
    match SWITCH.get() {
        Some(switch) => Ok(switch.clone()),
        None => {
            let switch = new_switch()?;
            Ok(SWITCH.get_or_init(|| switch).clone())
        }
    }
}

fn new_switch() -> std::io::Result<Arc<CancelSwitch>> {
    let switch = Arc::new(CancelSwitch::new()?);
    let heard = Arc::new(AtomicUsize::new(0));
    let mut signals = Signals::new([SIGINT, SIGTERM, SIGHUP])?;
    let thrown = switch.clone();
    std::thread::spawn(move || {
        for signal in signals.forever() {
            if signal == SIGINT && LEFT_TO_CHILDREN.load(Ordering::Relaxed) {
                continue;
            }
            thrown.throw();
            if heard.fetch_add(1, Ordering::Relaxed) + 1 >= IMPATIENCE {
                std::process::exit(130);
            }
        }
    });
    Ok(switch)
}

/// Printing to a closed pipe ends the program without a message.
pub fn end_quietly_when_output_closes() {
    std::panic::set_hook(Box::new(|panic| {
        let text = panic.payload().downcast_ref::<String>().map_or("", String::as_str);
        if text.contains("Broken pipe") {
            std::process::exit(0);
        }
        eprintln!("nubrik has a fault and must stop: {panic}");
        eprintln!("the workspace and the store are safe; please report this with the command that led here");
        std::process::exit(5);
    }));
}
