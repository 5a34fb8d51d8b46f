# Inherited descriptors: what is open in the shell (without close-on-exec) is open in every confined step: undeclared files, and the network through an open socket.
. "$(cd "$(dirname "$0")" && pwd)/lib"
echo private-key-1 > $T/key
python3 -c "
import socket
s=socket.socket(); s.bind(('127.0.0.1',0)); s.listen(1); open('$T/port','w').write(str(s.getsockname()[1]))
c,_=s.accept(); print('  a server on the network heard:',c.recv(100))" & S=$!
while [ ! -s $T/port ]; do sleep 0.1; done
echo 'target a = step { run = sh`cat <&8 > {out "o"}; echo hello from a confined step >&9` }' > targets.nub
exec 8<$T/key 9<>/dev/tcp/127.0.0.1/$(cat $T/port)
$NB build >$T/log 2>&1; exec 8<&- 9<&-; wait $S
echo "  undeclared file read: $(cat out/default/a/o)"
grep -qs private-key out/default/a/o && verdict 1 || verdict 0
