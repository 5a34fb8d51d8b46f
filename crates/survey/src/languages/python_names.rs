//! Names of Python: which modules come with the interpreter, and how the packages of others are
//! called.

/// The modules of the standard library of the versions in use, as `sys.stdlib_module_names` lists
/// them.
const STANDARD: &str = "\
abc aifc antigravity argparse array ast asynchat asyncio asyncore atexit audioop base64 bdb binascii bisect \
builtins bz2 cProfile calendar cgi cgitb chunk cmath cmd code codecs codeop collections colorsys compileall \
concurrent configparser contextlib contextvars copy copyreg crypt csv ctypes curses dataclasses datetime dbm \
decimal difflib dis distutils doctest email encodings ensurepip enum errno faulthandler fcntl filecmp fileinput \
fnmatch fractions ftplib functools gc genericpath getopt getpass gettext glob graphlib grp gzip hashlib heapq hmac \
html http idlelib imaplib imghdr imp importlib inspect io ipaddress itertools json keyword lib2to3 linecache \
locale logging lzma mailbox mailcap marshal math mimetypes mmap modulefinder msilib msvcrt multiprocessing netrc \
nis nntplib nt ntpath nturl2path numbers opcode operator optparse os ossaudiodev pathlib pdb pickle pickletools \
pipes pkgutil platform plistlib poplib posix posixpath pprint profile pstats pty pwd py_compile pyclbr pydoc \
pydoc_data pyexpat queue quopri random re readline reprlib resource rlcompleter runpy sched secrets select \
selectors shelve shlex shutil signal site smtpd smtplib sndhdr socket socketserver spwd sqlite3 sre_compile \
sre_constants sre_parse ssl stat statistics string stringprep struct subprocess sunau symtable sys sysconfig \
syslog tabnanny tarfile telnetlib tempfile termios textwrap this threading time timeit tkinter token tokenize \
tomllib trace traceback tracemalloc tty turtle turtledemo types typing unicodedata unittest urllib uu uuid venv \
warnings wave weakref webbrowser winreg winsound wsgiref xdrlib xml xmlrpc zipapp zipfile zipimport zlib zoneinfo \
";

/// Packages whose name is another one than that of what is imported.
const OTHERWISE_NAMED: [(&str, &str); 18] = [
    ("attr", "attrs"),
    ("bs4", "beautifulsoup4"),
    ("cv2", "opencv-python"),
    ("dateutil", "python-dateutil"),
    ("docx", "python-docx"),
    ("dotenv", "python-dotenv"),
    ("fitz", "pymupdf"),
    ("git", "gitpython"),
    ("jwt", "pyjwt"),
    ("magic", "python-magic"),
    ("OpenSSL", "pyopenssl"),
    ("pkg_resources", "setuptools"),
    ("PIL", "pillow"),
    ("serial", "pyserial"),
    ("skimage", "scikit-image"),
    ("sklearn", "scikit-learn"),
    ("yaml", "pyyaml"),
    ("zmq", "pyzmq"),
];

/// Whether a module comes with the interpreter.
pub(crate) fn is_standard(module: &str) -> bool {
    module.starts_with('_') || STANDARD.split_whitespace().any(|name| name == module)
}

/// The package that a module is most likely from, in the spelling of registries.
pub(crate) fn package_of(module: &str) -> String {
    let other = OTHERWISE_NAMED
        .iter()
        .find(|(name, _)| *name == module)
        .map(|(_, package)| *package);
    nubrik_pins::python_name(other.unwrap_or(module))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn modules_are_known_by_their_names() {
        assert!(
            is_standard("os")
                && is_standard("zoneinfo")
                && is_standard("_thread")
                && !is_standard("click")
        );
        assert_eq!(
            (
                package_of("yaml").as_str(),
                package_of("Tide_Table").as_str()
            ),
            ("pyyaml", "tide-table")
        );
    }
}
