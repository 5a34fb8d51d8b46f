# Services: a step reaches the service of another step of the same build (documentation: "nobody else reaches them").
. "$(cd "$(dirname "$0")" && pwd)/lib"
cat > targets.nub <<'N'
service s = serve { run = `python3 {in "srv.py"} {self.address} {self.port} private-to-a` }
service s2 = serve { run = `python3 {in "srv.py"} {self.address} {self.port} of-b` }
target a = step { run = `python3 {in "a.py"} {s.address} {s.port} {out "o"}` }
target b = step { run = `python3 {in "b.py"} {s2.address} {s2.port} {out "o"}` }
N
cat > srv.py <<'P'
import socket,sys
s=socket.socket(); s.setsockopt(1,2,1); s.bind((sys.argv[1],int(sys.argv[2]))); s.listen(5)
while True:
    c,_=s.accept(); c.sendall(sys.argv[3].encode()); c.close()
P
cat > a.py <<'P'
import time,sys
time.sleep(4); open(sys.argv[3],'w').write('x')
P
cat > b.py <<'P'
import socket,sys,time,struct
own=(sys.argv[1],int(sys.argv[2])); found=[]
for _ in range(20):
    for l in open('/proc/net/tcp').read().split('\n')[1:]:
        f=l.split()
        if len(f)>3 and f[3]=='0A':
            a,p=f[1].split(':'); a=socket.inet_ntoa(struct.pack('<I',int(a,16))); p=int(p,16)
            if (a,p)!=own:
                try: found.append((a,p,socket.create_connection((a,p)).recv(100).decode()))
                except OSError as e: found.append((a,p,str(e)))
    if found: break
    time.sleep(0.1)
open(sys.argv[3],'w').write(repr(found))
P
$NB build -j2 >$T/l 2>&1; head -4 $T/l | sed 's/^/  /'; echo "  b got: $(cat out/default/b/o)"; grep -q private-to-a out/default/b/o && verdict 1 || verdict 0
