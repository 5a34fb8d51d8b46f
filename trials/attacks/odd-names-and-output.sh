# JSON and terminal: odd names (escape sequences, newlines, non-UTF-8, 255 bytes, leading dash), odd step output.
. "$(cd "$(dirname "$0")" && pwd)/lib"
v=0
E=$(printf '\033]0;pwned\007\033[2J')
mkdir src; echo 1 > "src/${E}x.txt"; echo 1 > "src/-rf.txt"; echo 1 > "src/$(printf 'n\377').txt"; echo 1 > "src/$(printf 'a\nb').txt"; echo 1 > "src/$(printf 'q"\\{}$`'"'"' z').txt"; echo 1 > "src/$(python3 -c 'print("é"*120)').txt"; echo 1 > "src/$(printf 'e\xcc\x81').txt"; echo 1 > "src/$(printf '\xc3\xa9').txt"; echo 1 > "src/$(printf 'rtl\xe2\x80\xae')txt.txt"; echo 1 > "src/$(printf 'tab\tcr\r').txt"; echo 1 > "src/$(printf 'c1\xc2\x9b31m').txt"; echo 1 > "src/$(printf 'del\177')".txt
cat > p.sh <<'S'
printf '\033]0;pwned\007\033[2Jbad \377\000\n\033]52;c;aGk=\007 \302\2330m'; cp "$1" "$2"
S
python3 - > targets.nub <<'P'
print('let fs = glob("src/*.txt")')
print('target t = {'+', '.join('"k%d": step { say = "copy {fs[%d].stem}", run = `sh {in "p.sh"} {fs[%d]} {out "o"}` }'%(i,i,i) for i in range(8))+'}')
print('target bad = {'+', '.join('"k%d": step { say = "fail {fs[%d].stem}", run = `sh {in "p.sh"} /nonexistent {fs[%d]} {out "o"}` }'%(i,i,i) for i in range(8))+'}')
P
cat > chk.py <<'P'
import sys,json
bad=0
for n,l in enumerate(open(sys.argv[1],'rb')):
    try: json.loads(l.decode())
    except Exception as e: bad+=1; print('    line',n,e,l[:100])
print('   ',n+1 if 'n' in dir() else 0,'lines,',bad,'bad')
sys.exit(bad>0)
P
for c in "build -k" plan list "show t" "why bad" "tree t" "history" "graph" "report" "lint" "options" "doctor" "explain step" "cache" "build --reasons t" "build --observe t" "test" "fmt --check" "build nosuch" "list --count" "show --printed t" "why t t" "plan --if-changed src/-rf.txt" "clean"; do
  $NB --json $c >$T/j 2>$T/err; r=$?; if [ "$c" = report ] ; then python3 -c "import json,sys; json.load(open('$T/j'))" 2>$T/e2 || { echo "  trace: not JSON"; v=1; }; continue; fi
  python3 chk.py $T/j > $T/o || { echo "  --json $c: exit $r"; cat $T/o; v=1; }
  [ -s $T/err ] && { echo "  --json $c: exit $r, on stderr: $(head -c 200 $T/err | cat -v)"; }
done
# what reaches the terminal
rm -rf .nubrik out $T/cache
for c in "build -k" plan list "list **" "show t" "tree t" "why bad" history "graph" "show --printed t" "--plain build -k" "--plain show t" "lint" "inside t" "report" "run t"; do
  script -qec "$NB $(printf '%q ' $c)" $T/tty >/dev/null 2>&1 </dev/null
  python3 - "$T/tty" "$c" <<'P' || v=1
import sys,re
b=open(sys.argv[1],'rb').read().split(b'\n',1)[1]
b=b.rsplit(b'\nScript done',1)[0]
hits=[k for k in (b'\x1b]0;',b'\x1b]52;',b'\x1b[2J',b'\xc2\x9b',b'\xe2\x80\xae') if k in b]
if hits: print('  terminal,',sys.argv[2].encode('ascii','replace'),': lets through',hits); sys.exit(1)
P
done
verdict $v
