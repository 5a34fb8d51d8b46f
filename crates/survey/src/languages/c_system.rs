//! Which libraries of a machine headers belong to, and which sources are for other systems.

/// What a program is linked with that includes a header.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(super) enum SystemPart {
    /// A word for the linker.
    Link(&'static str),
    /// A word for the linker, where the header is there.
    Installed(&'static str),
    /// A library, by the name under which machines describe it.
    Library(&'static str),
}

use SystemPart::{Installed, Library, Link};

/// Headers, or folders of headers where the name ends with `/`, and what belongs to them.
const PARTS: [(&str, SystemPart); 60] = [
    ("math.h", Link("-lm")),
    ("cmath", Link("-lm")),
    ("complex.h", Link("-lm")),
    ("fenv.h", Link("-lm")),
    ("tgmath.h", Link("-lm")),
    ("pthread.h", Link("-pthread")),
    ("thread", Link("-pthread")),
    ("mutex", Link("-pthread")),
    ("future", Link("-pthread")),
    ("condition_variable", Link("-pthread")),
    ("semaphore.h", Link("-pthread")),
    ("dlfcn.h", Link("-ldl")),
    ("aio.h", Link("-lrt")),
    ("mqueue.h", Link("-lrt")),
    ("crypt.h", Link("-lcrypt")),
    ("resolv.h", Link("-lresolv")),
    ("alsa/", Library("alsa")),
    ("archive.h", Library("libarchive")),
    (
        "boost/program_options",
        Installed("-lboost_program_options"),
    ),
    ("boost/filesystem", Installed("-lboost_filesystem")),
    ("bzlib.h", Installed("-lbz2")),
    ("cairo.h", Library("cairo")),
    ("check.h", Library("check")),
    ("cmocka.h", Library("cmocka")),
    ("curl/", Library("libcurl")),
    ("curses.h", Library("ncurses")),
    ("ncurses.h", Library("ncurses")),
    ("CUnit/", Library("cunit")),
    ("event.h", Library("libevent")),
    ("event2/", Library("libevent")),
    ("expat.h", Library("expat")),
    ("ffi.h", Library("libffi")),
    ("fftw3.h", Library("fftw3")),
    ("ft2build.h", Library("freetype2")),
    ("fuse.h", Library("fuse")),
    ("GL/", Library("gl")),
    ("GLFW/", Library("glfw3")),
    ("gio/", Library("gio-2.0")),
    ("glib.h", Library("glib-2.0")),
    ("gmock/", Library("gmock")),
    ("gmp.h", Library("gmp")),
    ("gtest/", Library("gtest")),
    ("gtk/", Library("gtk+-3.0")),
    ("hiredis/", Library("hiredis")),
    ("jansson.h", Library("jansson")),
    ("jpeglib.h", Library("libjpeg")),
    ("libxml/", Library("libxml-2.0")),
    ("lz4.h", Library("liblz4")),
    ("lzma.h", Library("liblzma")),
    ("openssl/", Library("openssl")),
    ("pcre2.h", Library("libpcre2-8")),
    ("png.h", Library("libpng")),
    ("readline/", Library("readline")),
    ("SDL2/", Library("sdl2")),
    ("sqlite3.h", Library("sqlite3")),
    ("uv.h", Library("libuv")),
    ("X11/", Library("x11")),
    ("yaml.h", Library("yaml-0.1")),
    ("zlib.h", Library("zlib")),
    ("zstd.h", Library("libzstd")),
];

/// What belongs to a header of the machine.
pub(super) fn part_of(header: &str) -> Option<SystemPart> {
    let fits = |name: &str| {
        header == name || (!name.ends_with(".h") && name.contains('/') && header.starts_with(name))
    };
    PARTS
        .iter()
        .find(|(name, _)| fits(name))
        .map(|(_, part)| *part)
}

/// Whether a header is one of C's standard library or of POSIX, which sources may name between
/// quotes, too.
pub(super) fn is_standard(header: &str) -> bool {
    const STANDARD: [&str; 24] = [
        "assert",
        "complex",
        "ctype",
        "errno",
        "fenv",
        "float",
        "inttypes",
        "limits",
        "locale",
        "math",
        "setjmp",
        "signal",
        "stdalign",
        "stdarg",
        "stdatomic",
        "stdbool",
        "stddef",
        "stdint",
        "stdio",
        "stdlib",
        "string",
        "strings",
        "time",
        "unistd",
    ];
    header
        .strip_suffix(".h")
        .is_some_and(|name| STANDARD.contains(&name))
}

/// Headers that only other systems have.
pub(super) fn is_of_another_system(header: &str) -> bool {
    let folders = [
        "CoreFoundation/",
        "Cocoa/",
        "AvailabilityMacros",
        "TargetConditionals",
        "mach/",
        "libkern/",
    ];
    let names = [
        "windows.h",
        "winsock.h",
        "winsock2.h",
        "ws2tcpip.h",
        "conio.h",
        "io.h",
        "direct.h",
        "process.h",
        "tchar.h",
        "dos.h",
        "crtdbg.h",
        "iphlpapi.h",
        "shlobj.h",
        "winbase.h",
        "sys/event.h",
        "kstat.h",
        "proto/dos.h",
        "os2.h",
        "procinfo.h",
        "sys/sysctl.h",
        "port.h",
        "unixio.h",
        "starlet.h",
    ];
    let lower = header.to_lowercase();
    names.contains(&lower.as_str()) || folders.iter().any(|folder| header.starts_with(folder))
}

/// The system for which a source is, if its path names another one than this.
pub(super) fn other_system_of(path: &str) -> Option<&'static str> {
    const SYSTEMS: [(&str, &[&str]); 9] = [
        (
            "Windows",
            &[
                "win", "win32", "win64", "windows", "w32", "msvc", "mingw", "wince", "cygwin",
                "vcnet", "visualc",
            ],
        ),
        (
            "macOS",
            &[
                "mac", "macos", "macosx", "darwin", "osx", "ios", "apple", "cocoa",
            ],
        ),
        (
            "BSD",
            &["bsd", "freebsd", "openbsd", "netbsd", "dragonfly", "kqueue"],
        ),
        ("Solaris", &["solaris", "sunos", "illumos", "haiku"]),
        (
            "OS/2 and DOS",
            &[
                "os2", "dos", "msdos", "djgpp", "amiga", "atari", "riscos", "vms", "watcom",
            ],
        ),
        (
            "AIX and HP-UX",
            &[
                "aix", "hpux", "irix", "qnx", "os400", "os390", "zos", "ibmi",
            ],
        ),
        ("Android", &["android"]),
        ("browsers", &["emscripten", "wasm", "wasi"]),
        (
            "small devices",
            &[
                "arduino", "esp32", "freertos", "zephyr", "lwip", "stm32", "nuttx",
            ],
        ),
    ];
    let lower = path.to_lowercase();
    let stem = lower
        .rsplit_once('.')
        .map_or(lower.as_str(), |(stem, _)| stem);
    let (folder, name) = stem.rsplit_once('/').unwrap_or(("", stem));
    let words = folder.split('/').chain(name.split(['_', '-', '.']));
    let words: Vec<&str> = words.collect();
    let is_name = |word: &str, names: &[&str]| {
        // Names such as `win32files` begin so.
        names.contains(&word)
            || names
                .iter()
                .any(|name| name.len() > 4 && word.starts_with(name))
    };
    SYSTEMS
        .iter()
        .find(|(_, names)| words.iter().any(|word| is_name(word, names)))
        .map(|(system, _)| *system)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn headers_and_sources_are_known_by_their_names() {
        assert_eq!(part_of("math.h"), Some(Link("-lm")));
        assert_eq!(part_of("gtest/gtest.h"), Some(Library("gtest")));
        assert_eq!(part_of("tide/math.h"), None);
        assert!(is_of_another_system("Windows.h") && !is_of_another_system("stdio.h"));
        assert_eq!(other_system_of("src/win32/io.c"), Some("Windows"));
        assert_eq!(other_system_of("src/poll_kqueue.c"), Some("BSD"));
        assert_eq!(other_system_of("src/win32filemap.c"), Some("Windows"));
        assert_eq!(other_system_of("vcnet/config.h"), Some("Windows"));
        for ours in [
            "src/window.c",
            "src/macros.h",
            "src/iostream.h",
            "src/dosage.c",
            "src/androgyne.c",
        ] {
            assert_eq!(other_system_of(ours), None, "{ours}");
        }
    }
}
