//! Signals: the first one stops all steps and lets the program tidy up, a third one ends it at
//! once. What stops it for a while waits until the view is wiped.

use std::io::IsTerminal;
use std::sync::atomic::{AtomicBool, AtomicI32, AtomicUsize, Ordering};
use std::sync::{Arc, OnceLock};

use nubrik_confine::CancelSwitch;
use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM, SIGTSTP};
use signal_hook::iterator::Signals;

/// Whether what runs in the terminal hears the terminal's interrupts itself.
static LEFT_TO_CHILDREN: AtomicBool = AtomicBool::new(false);

/// While something else runs in this terminal, an interrupt from the keyboard is its own business:
/// it gets it, too.
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

/// How many views are drawn now that are to be wiped before the program stops for a while.
static VIEWS: AtomicUsize = AtomicUsize::new(0);

/// Whether the program is to stop for a while as soon as its view is wiped.
static SUSPENDING: AtomicBool = AtomicBool::new(false);

/// Whether Ctrl-Z is heard here, and does not just stop the program.
static HEARS_SUSPENSION: OnceLock<bool> = OnceLock::new();

/// A view that is drawn, as long as this lives: before Ctrl-Z stops the program, who draws it wipes
/// it.
pub struct DrawnView(());

impl DrawnView {
    pub fn begin() -> DrawnView {
        VIEWS.fetch_add(1, Ordering::SeqCst);
        HEARS_SUSPENSION.get_or_init(|| hear_suspension().is_ok());
        DrawnView(())
    }

    /// Whether the program is to stop: who draws wipes then, and calls `suspend`.
    pub fn is_suspending(&self) -> bool {
        SUSPENDING.swap(false, Ordering::SeqCst)
    }

    /// Stops the program until it gets the signal to go on.
    pub fn suspend(&self) {
        suspend();
    }
}

impl Drop for DrawnView {
    fn drop(&mut self) {
        VIEWS.fetch_sub(1, Ordering::SeqCst);
        // It was asked for after the view was drawn for the last time.
        if SUSPENDING.swap(false, Ordering::SeqCst) {
            suspend();
        }
    }
}

fn suspend() {
    // As if nobody had heard the signal; it cannot fail for this one.
    let _ = signal_hook::low_level::emulate_default_handler(SIGTSTP);
}

fn hear_suspension() -> std::io::Result<()> {
    let mut signals = Signals::new([SIGTSTP])?;
    std::thread::spawn(move || {
        for _ in signals.forever() {
            SUSPENDING.store(true, Ordering::SeqCst);
            // Without a view nobody looks, and there is nothing to wipe.
            if VIEWS.load(Ordering::SeqCst) == 0 && SUSPENDING.swap(false, Ordering::SeqCst) {
                suspend();
            }
        }
    });
    Ok(())
}

static SWITCH: OnceLock<Arc<CancelSwitch>> = OnceLock::new();

/// How many signals end the program at once.
const IMPATIENCE: usize = 3;

/// How many signals came that end the program.
static HEARD: AtomicUsize = AtomicUsize::new(0);

/// How often somebody wanted this program to end.
pub fn times_wanted_to_end() -> usize {
    HEARD.load(Ordering::Relaxed)
}

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
    let mut signals = Signals::new([SIGINT, SIGTERM, SIGHUP])?;
    let thrown = switch.clone();
    std::thread::spawn(move || {
        for signal in signals.forever() {
            if signal == SIGINT && LEFT_TO_CHILDREN.load(Ordering::Relaxed) {
                continue;
            }
            let _ = FIRST.compare_exchange(0, signal, Ordering::Relaxed, Ordering::Relaxed);
            thrown.throw();
            if HEARD.fetch_add(1, Ordering::Relaxed) + 1 >= IMPATIENCE {
                std::process::exit(i32::from(exit_code()));
            }
        }
    });
    Ok(switch)
}
