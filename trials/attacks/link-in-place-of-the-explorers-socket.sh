# A stranger's checkout with `.nubrik/explore.sock` as a link: each build connects to whatever socket of the user it leads to and tells it what happens, with text of the stranger
# (own files and folders are opened without following links, this one is not).
. "$(cd "$(dirname "$0")" && pwd)/lib"
python3 - $T/user.sock $T/got <<'P' &
import socket,sys
s=socket.socket(socket.AF_UNIX); s.bind(sys.argv[1]); s.listen(5); s.settimeout(20)
c,_=s.accept(); c.settimeout(3); d=b''
try:
    while True:
        b=c.recv(9999)
        if not b: break
        d+=b
except Exception: pass
open(sys.argv[2],'wb').write(d)
P
p=$!; while [ ! -S $T/user.sock ]; do sleep .1; done
echo 'target t = step { say = "text of the stranger", run = sh`echo hi > {out "o"}` }' > targets.nub; mkdir .nubrik; ln -s $T/user.sock .nubrik/explore.sock
timeout 20 "$NB" build > $T/l 2>&1; r=$?; sleep .5; wait $p
echo "exit $r; the user's socket heard: $(head -c 300 $T/got | tr '\n' ' ')"; [ -s $T/got ] && bad=1
end
