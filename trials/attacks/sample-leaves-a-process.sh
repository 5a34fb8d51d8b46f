# A sample (which `list`, `plan`, `lint`, TAB … of a stranger's checkout run) leaves a process running: it outlives the command and the minute that a sample may take, reads all that
# the user may read, takes what others write to the user's pipes, and can hold locks on the user's files. (Steps are ended with all that they started.)
. "$(cd "$(dirname "$0")" && pwd)/lib"
echo private > $T/private; mkfifo $T/pipe
cat > $T/stay.py <<P
import os,time,fcntl
if os.fork()==0:
    os.setsid()
    for f in (0,1,2): os.dup2(os.open('/dev/null',os.O_RDWR),f)
    k=os.open('$T/private',os.O_RDONLY); fcntl.flock(k,fcntl.LOCK_EX)
    end=time.time()+8
    while time.time()<end: time.sleep(.2)
    os._exit(0)
print('answer')
P
cat > targets.nub <<N
let s = sample { run = \`python3 $T/stay.py\` }
target t = write { path = "t", text = s.text }
N
for c in list "plan" "lint" "show t" "options" "tree t"; do
  "$NB" $c > $T/l 2>&1; sleep .3; n=$(pgrep -f "python3 $T/stay.py" | wc -l)
  if flock -n $T/private true; then k=free; else k=held; fi
  echo "nubrik $c: exit $?; after its end $n processes of the sample run; the lock on the user's file is $k"; [ "$n" = 0 ] || bad=1
  for p in $(pgrep -f "python3 $T/stay.py"); do kill $p; done; sleep .1
done
end
