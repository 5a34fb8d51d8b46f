# Secrets: where do their values turn up?
. "$(cd "$(dirname "$0")" && pwd)/lib"
export MYTOKEN=s3cr3t-value-98765
cat > targets.nub <<'N'
job pub = effect { run = `sh {in "j.sh"} {secret("MYTOKEN")}` }
job pub2 = effect { run = `sh {in "j.sh"}`, env = { "TOK": secret("MYTOKEN") } }
job nf = effect { run = `./no-such-{secret("MYTOKEN")}` }
service s = serve { run = `python3 {in "srv.py"} {self.address} {self.port}`, env = { "KEY": secret("MYTOKEN") }, ready = `python3 {in "ask.py"} {self.address} {self.port}` }
target t = step { run = `python3 {in "ask.py"} {s.address} {s.port} {out "o"}` }
target u = step { run = `python3 {in "ask2.py"} {s.address} {s.port} {out "o"}` }
target lnk = step { run = `sh {in "lnk.sh"} {s.address} {s.port} {out "o"}` }
target b64 = step { run = `python3 {in "b64.py"} {s.address} {s.port} {out "o"}` }
target nm = step { run = `python3 {in "nm.py"} {s.address} {s.port} {outfolder "o"}` }
N
cat > j.sh <<'S'
tr '\0' ' ' < /proc/self/cmdline; echo; for p in /proc/[0-9]*/cmdline; do if tr '\0' ' ' < $p 2>/dev/null | grep -q s3cr3t; then echo "seen in $p"; fi; done; exit 3
S
cat > srv.py <<'P'
import socket,sys,os
s=socket.socket(); s.setsockopt(1,2,1); s.bind((sys.argv[1],int(sys.argv[2]))); s.listen(5)
print('starting with',os.environ['KEY'],flush=True)
while True:
    c,_=s.accept(); c.sendall(os.environ['KEY'].encode()); c.close()
P
cat > ask.py <<'P'
import socket,sys
s=socket.create_connection((sys.argv[1],int(sys.argv[2]))); d=s.recv(1000)
if len(sys.argv)>3: open(sys.argv[3],'wb').write(d); print('asked',d)
P
sed 's/open(sys.argv\[3\].*$/print("told",d, flush=True); sys.exit(4)/' ask.py > ask2.py
sed "s/open(sys.argv\[3\].*\$/import base64; open(sys.argv[3],'wb').write(base64.b64encode(d))/" ask.py > b64.py
sed "s/open(sys.argv\[3\].*\$/import os; open(os.path.join(sys.argv[3],d.decode()),'w').write('x')/" ask.py > nm.py
cat > lnk.sh <<'S'
ln -s . $(dirname $3)/aaa
python3 ask.py $1 $2 $3
S
sed -i 's/{in "lnk.sh"} {s.address}/{in "lnk.sh"} {s.address}/; s/target lnk = step { run = \(.*\) }$/target lnk = step { run = \1, reads = "ask.py" }/' targets.nub
found() { grep -rlaF "s3cr3t-value-98765" .nubrik out $T/cache $T/state 2>/dev/null | sed "s#$T/##" | tr '\n' ' '; find .nubrik out $T/cache -name '*s3cr3t*' 2>/dev/null | sed "s#$T/##" | tr '\n' ' '; }
v=0
for c in "run pub" "run pub2" "run nf" "build t" "build u" "build lnk" "build b64" "build nm" "--json build u" "plan" "why t" "show pub" "show s" "history" "report" "graph" "tree t" "list" "build --reasons t" "build --observe t" "inside t"; do
  case $c in "build --observe t"|"build --reasons t") ;; esac
  $NB $c >$T/log 2>&1 </dev/null; r=$?; p=$(grep -c s3cr3t-value $T/log); f=$(found); echo "  $c: exit $r; printed by nubrik: $p; kept in: $f"; [ -n "$f" ] && v=1
  [ $p -gt 0 ] && grep s3cr3t-value $T/log | head -3 | sed 's/^/      /'
  [ -n "$f" ] && { rm -rf .nubrik out $T/cache; }
done
verdict $v
