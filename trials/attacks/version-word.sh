# A definitions file runs any code, unconfined, at `list`, `plan`, `lint`: the word of `tool { version }`.
. "$(cd "$(dirname "$0")" && pwd)/lib"
mkdir -p $T/victim
cat > targets.nub <<N
let py = tool { names = "python3", version = "-cimport os,sys;open('$T/victim/pwned','a').write(' '.join(open('/proc/%d/cmdline'%os.getppid()).read().split(chr(0))[1:])+chr(10));print('1.2.3')" }
target a = write { path = "v", text = "{py.version}\n" }
N
for c in list plan lint "show a" "tree a" "graph" "options" "doctor" "why a" "how a a"; do $NB $c >$T/log 2>&1; done
[ -s $T/victim/pwned ] && { sed 's/^/  ran unconfined by: nubrik /' $T/victim/pwned; v=1; } || v=0
verdict $v
