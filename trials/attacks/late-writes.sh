# The store is poisoned: a process that a step leaves behind changes the output after it was hashed (through memory it mapped before: no time of the file changes), and is ended only when the whole build is done. Steps behind it read the other content under the key of the first.
. "$(cd "$(dirname "$0")" && pwd)/lib"
cat > leave.py <<'P'
import os,sys,mmap,time
p=sys.argv[1]
open(p,'wb').write(b'A'*4096)
f=open(p,'r+b'); m=mmap.mmap(f.fileno(),4096)
m[0:1]=b'A'   # the page is dirty and writable now
f.close()
if os.fork()==0:
    os.setsid()
    for fd in (0,1,2): os.close(fd)
    time.sleep(0.6); m[0:4096]=b'B'*4096; time.sleep(10); os._exit(0)
P
cat > targets.nub <<'N'
let py = tool { names = "python3" }
target a = step { run = `{py} {in "leave.py"} {out "o"}` }
target wait = step { run = [`sleep 1`, `touch {out "w"}`], reads = a }
target b = step { run = `cat {a} > {out "p"}`, reads = wait }
N
$NB build >$T/log 2>&1 ; sed 's/^/  /' $T/log
A=$(head -c1 out/default/b/p); 
# An honest user of the same store
mkdir $T/w2; cp targets.nub nubrik.toml leave.py $T/w2; cd $T/w2
sed -i '/os.fork/,$d' leave.py; printf '#%.0s' $(seq 1 10) >> leave.py
$NB build >$T/log 2>&1; sed 's/^/  /' $T/log; B=$(head -c1 out/default/b/p)
rm -rf .nubrik out; XDG_CACHE_HOME=$T/c2 $NB build >$T/log 2>&1; C=$(head -c1 out/default/b/p)
echo "  first workspace b = $A..., an honest second workspace b = $B..., the same from nothing = $C..."
[ "$B" = "$C" ] && verdict 0 || verdict 1
