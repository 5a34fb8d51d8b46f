# A source is changed by a program that has it mapped (databases, some editors): the kernel tells the time only of the first write to a page. A build in between takes the earlier
# content; the later one has the same times and size, and is never noticed.
. "$(cd "$(dirname "$0")" && pwd)/lib"
head -c 4096 /dev/zero | tr '\0' a > src
echo 'target t = step { run = sh`head -c 5 {in "src"} > {out "o"}` }' > targets.nub
cat > $T/m.py <<'P'
import mmap,sys,time,os
f=open('src','r+b'); m=mmap.mmap(f.fileno(),4096)
m[:5]=b'first'; print('first',flush=True); sys.stdin.readline()
m[:5]=b'later'; print('later',flush=True); sys.stdin.readline()
P
mkfifo $T/in; python3 $T/m.py < $T/in > $T/said & p=$!; exec 7> $T/in; while ! grep -q first $T/said; do sleep .05; done; sleep .1
both "after the first write"; echo >&7; while ! grep -q later $T/said; do sleep .05; done; sleep .1; both "after the second one"; echo >&7; exec 7>&-; wait $p
both "when the program has ended"
end
