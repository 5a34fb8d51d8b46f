# Calls that tell an `observed` step whether a path is there, and are not recorded: chdir (cd, os.chdir, cwd of a subprocess), statfs,
# xattrs, utime, chmod, chown, mknod, inotify, name_to_handle_at, open_tree. getdents (the old one) lists unseen; a folder's number
# of links and size tell how many are in it; /proc/self/mountinfo names what is declared.
. "$(cd "$(dirname "$0")" && pwd)/lib"
mkdir -p src d/x; echo 1 > src/n; echo 1 > d/x/1
try() { # name, program, body
  rm -rf .nubrik out d/e d/f; echo 1 > src/n; printf '%s\n' "$3" > t.x
  echo "target t = step { run = \`$2 {in \"t.x\"} > {out \"o\"}\`, reads = [glob(\"src/*\"), glob(\"d/**/*\")], observed = true }" > targets.nub
  both "$1: first" >/dev/null; echo 2 > src/n; both "$1: again" > /dev/null; mkdir -p d/e; echo 1 > d/e/1; both "$1: d/e appeared"
}
P='import os,sys
sys.stdout.write(open("src/n").read())
o=os.getcwd()'
py() { try "$1" python3 "$P
try: print($2)
except OSError as e: print('error',e.errno)
os.chdir(o)"; }
try 'cd in sh' sh 'cat src/n; (cd d/e 2>/dev/null && echo there || echo not)'
py os.chdir 'os.chdir("d/e")'
py 'subprocess with cwd' '__import__("subprocess").run(["true"],cwd="d/e").returncode'
py os.statvfs 'bool(os.statvfs("d/e"))'
py os.listxattr 'os.listxattr("d/e")'
py os.utime 'os.utime("d/e")'
py os.chmod 'os.chmod("d/e",0o755)'
py os.chown 'os.chown("d/e",-1,-1)'
py os.mknod 'os.mknod("d/e")'
py 'links of a folder' 'os.stat("d").st_nlink'
py 'size of a folder' 'os.stat("d").st_size'
py 'getdents, the old one' '__import__("ctypes").CDLL(None).syscall(78,os.open("d",os.O_RDONLY|os.O_DIRECTORY),__import__("ctypes").create_string_buffer(4096),4096)'
py '/proc/self/mountinfo' 'open("/proc/self/mountinfo").read().count("/nubrik")'
py 'control: os.stat' 'bool(os.stat("d/e"))'
end
