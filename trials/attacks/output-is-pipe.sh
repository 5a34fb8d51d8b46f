# Hang or endless reading: a step's output is a named pipe, or a link to an endless device; a redirect opens a named pipe.
. "$(cd "$(dirname "$0")" && pwd)/lib"
v=0
try() { # label, definitions
  rm -rf .nubrik out; printf '%s\n' "$2" > targets.nub
  $NB build >$T/log 2>&1 & p=$!
  for i in 1 2 3 4 5 6 7 8; do sleep 1; kill -0 $p 2>/dev/null || break; done
  if kill -0 $p 2>/dev/null; then
    v=1; kill -INT $p; sleep 2
    kill -TERM $p 2>/dev/null; sleep 1
    if kill -0 $p 2>/dev/null; then echo "  $1: runs for ever (the step's timeout does not help), a first SIGINT and a SIGTERM do not end it (a third signal does)"; kill -9 $p
    else echo "  $1: runs for ever; SIGINT ends it"; fi
  else wait $p; echo "  $1: exit $?"; fi
}
try "named pipe as output" 'target a = step { run = `mkfifo {out "o"}`, timeout = 3s }'
try "link to /dev/zero as output" 'target a = step { run = `ln -s /dev/zero {out "o"}`, timeout = 3s }'
try "redirect from a named pipe" 'target a = step { run = [`mkfifo {scratch "s"}`, `cat < {scratch "s"} > {out "o"}`], timeout = 3s }'
try "listing is a named pipe" 'target a = step { run = [`mkfifo {depfile "s"}`, `touch {out "o"}`], timeout = 3s }'
try "pipe in an output folder" 'target a = step { run = [`mkfifo {outfolder "d"}/p`], timeout = 3s }'
verdict $v
