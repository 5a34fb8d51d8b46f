# A program that stays (`answered_by`) ends without an answer in its second request, and has written something: a new one gets the
# request in the same folder, which is not made anew: what the first one left is part of the result.
. "$(cd "$(dirname "$0")" && pwd)/lib"
cat > srv.py <<'S'
import sys,json,os
n=0
for line in sys.stdin:
    w=json.loads(line)
    if w:
        n+=1; t=open(w[1]).read().strip()
        if n==2: open(w[2]+"/half-of-"+t,"w"); os._exit(3)
        open(w[2]+"/x","w").write(t)
    print(json.dumps({"code":0}),flush=True)
S
mkdir d; echo 1 > d/1; echo 2 > d/2; echo 'jobs = 1' > nubrik.toml
echo 'target r = {each t in glob("d/*") give t.stem: step { run = `draw {t} {outfolder "o"}`, answered_by = `python3 {in "srv.py"}` }}' > targets.nub
"$NB" build > $T/l 2>&1; echo "exit $?; r/1 holds: $(ls out/default/r/1/o | tr '\n' ' '); r/2 holds: $(ls out/default/r/2/o | tr '\n' ' ') (expected: x alone)"
rm -rf .nubrik out; XDG_CACHE_HOME=$T/c2 "$NB" build r/2 > $T/l 2>&1; echo "built alone, from nothing, r/2 holds: $(find out/default -type f ! -name .gitignore -printf '%f ')"
rm -rf .nubrik out; "$NB" build > $T/l 2>&1; [ "$(ls out/default/r/2/o)" = x ] || { echo "the store has it, too"; bad=1; }
end
