# A confined step ends processes outside of its box though signals are refused: prlimit(2) on the user's other processes.
. "$(cd "$(dirname "$0")" && pwd)/lib"
python3 -c "
while True: pass" & V=$!
cat > p.py <<'P'
import resource,sys,time
p=int(sys.argv[1]); resource.prlimit(p,resource.RLIMIT_CPU,(0,0)); time.sleep(1.5); open(sys.argv[2],'w').write('x')
P
echo "target a = step { run = \`python3 {in \"p.py\"} \"$V\" {out \"o\"}\` }" > targets.nub
$NB build >$T/log 2>&1; sleep 0.2
if kill -0 $V 2>/dev/null; then echo "  the bystander lives"; kill $V; v=0; else echo "  a bystander (process $V, not nubrik's) was killed by a confined step"; v=1; fi; wait 2>/dev/null
verdict $v
