# inside/effects/services: files followed by name: .nubrik/serve/NAME.log as a link; the shell's terminal.
. "$(cd "$(dirname "$0")" && pwd)/lib"
v=0; echo precious > $T/victim
cat > targets.nub <<'N'
service s = serve { run = `python3 {in "srv.py"} {self.address} {self.port}` }
target t = step { run = `python3 {in "ask.py"} {s.address} {s.port} {out "o"}` }
N
cat > srv.py <<'P'
import socket,sys
s=socket.socket(); s.setsockopt(1,2,1); s.bind((sys.argv[1],int(sys.argv[2]))); s.listen(5); print('evil line',flush=True)
while True:
    c,_=s.accept(); c.sendall(b'x'); c.close()
P
cat > ask.py <<'P'
import socket,sys
s=socket.create_connection((sys.argv[1],int(sys.argv[2]))); d=s.recv(1000); open(sys.argv[3],'wb').write(d)
P
mkdir -p .nubrik/serve; ln -s $T/victim .nubrik/serve/s.log
$NB build >$T/l 2>&1; echo "  a checkout with .nubrik/serve/s.log -> victim: victim holds '$(cat $T/victim)'"; grep -q evil $T/victim && v=1
verdict $v
