# `adopt` (also `init`, `adopt --update` where they look at sources) in a stranger's folder hangs for ever where an ignore file is a pipe; `fmt` takes files of any size and kind: it hangs with
# a pipe of the name of a definition file, and takes minutes for 40 MB of nonsense (`list` refuses both at once, and its limit is 16 MiB).
. "$(cd "$(dirname "$0")" && pwd)/lib"
t() { timeout -k 2 8 "$@" > $T/l 2>&1 < /dev/null; r=$?; [ $r = 124 -o $r = 137 ] && { echo "HANGS ($r)  ${*:2} ($w)"; bad=1; } || echo "exit $r  ${*:2} ($w): $(head -1 $T/l | cut -c1-80)"; }
echo 'int main(void){return 0;}' > main.c
w=".gitignore is a pipe"; mkfifo .gitignore; t "$NB" adopt; t "$NB" list; rm .gitignore
w="sub/.gitignore is a pipe"; mkdir sub; echo 'int f(void){return 0;}' > sub/f.c; mkfifo sub/.gitignore; t "$NB" adopt; t "$NB" adopt --update; rm -r sub
w="targets.nub is a pipe"; mkfifo targets.nub; t "$NB" fmt --check targets.nub;  t "$NB" fmt targets.nub; t "$NB" fmt; t "$NB" list; rm targets.nub
w="targets.nub has 40 MB"; head -c 40000000 /dev/zero | tr '\0' a > targets.nub; t "$NB" fmt --check; t "$NB" list; rm targets.nub
end
