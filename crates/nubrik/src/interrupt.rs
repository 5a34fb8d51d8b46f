//! Signals: the first one stops all steps and lets the program tidy up, a third one ends it at once.

use std::io::IsTerminal;
use std::sync::atomic::{AtomicBool, AtomicI32, AtomicUsize, Ordering};
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

/// The signal that was heard first; 0 for none.
static FIRST: AtomicI32 = AtomicI32::new(0);

/// The exit code of a program that was interrupted: as the shell reports one that a signal ended.
pub fn exit_code() -> u8 {
    match FIRST.load(Ordering::Relaxed) {
        0 => 128 + SIGINT as u8,
        signal => 128 + signal as u8,
    }
}

/// Stops everything in order, as a signal does.
pub fn stop() {
    if let Some(switch) = SWITCH.get() {
        switch.throw();
    }
}

static SWITCH: OnceLock<Arc<CancelSwitch>> = OnceLock::new();

/// How many signals end the program at once.
const IMPATIENCE: usize = 3;

/// A switch that signals throw. Without signals (which no machine refuses) it is just never thrown.
pub fn cancel_switch() -> std::io::Result<Arc<CancelSwitch>> {
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
            let _ = FIRST.compare_exchange(0, signal, Ordering::Relaxed, Ordering::Relaxed);
            thrown.throw();
            if heard.fetch_add(1, Ordering::Relaxed) + 1 >= IMPATIENCE {
                std::process::exit(i32::from(exit_code()));
            }
        }
    });
    Ok(switch)
}
