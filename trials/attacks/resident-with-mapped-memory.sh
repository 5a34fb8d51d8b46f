# A program that stays changes an output of an earlier request by memory that it still has mapped: no time changes. The step behind is
# kept under the key of the right content with the result of the other (as late writes of steps once did).
. "$(cd "$(dirname "$0")" && pwd)/lib"
cat > srv.py <<'S'
import sys,json,mmap
n=0
for line in sys.stdin:
    w=json.loads(line)
    if w:
        n+=1; f=open(w[2],"w+b"); f.truncate(4096); m=mmap.mmap(f.fileno(),4096); m[:6]=b"first\n"
        if n==1: keep=m
        else: keep[:6]=b"later\n"
    print(json.dumps({"code":0}),flush=True)
S
mkdir d; echo 1 > d/1; echo 2 > d/2; echo 'jobs = 1' > nubrik.toml
cat > targets.nub <<'N'
target r = {each t in glob("d/*") give t.stem: step { run = `draw {t} {out "x"}`, answered_by = `python3 {in "srv.py"}` }}
target u = {each t in glob("d/*") give t.stem: step { run = sh`head -1 {r[t.stem]} > {out "o"}` }}
N
"$NB" build > $T/l 2>&1; echo "exit $?"; f() { find out/default/$1 -type f ! -name .gitignore -exec head -qn1 {} +; }
echo "here:                 r/1: $(f r/1)  u/1 (its first line): $(f u/1)"
rm -rf .nubrik out; "$NB" build > $T/l 2>&1; echo "from the same store:  r/1: $(f r/1)  u/1 (its first line): $(f u/1)"
[ "$(f r/1)" = "$(f u/1)" ] || bad=1
end
