# Confinement samples, one after another, in a step (no network). Each line says what got through.
. "$(cd "$(dirname "$0")" && pwd)/lib"
mkdir -p $T/home; echo secret-file > $T/home/secret; echo und > und.txt; chmod 644 $T/home/secret
ln $T/home/secret $T/home/hard
cat > listener.py <<'P'
import socket,os,sys,threading,time
T=sys.argv[1]
d=socket.socket(socket.AF_UNIX,socket.SOCK_DGRAM); d.bind(T+'/dgram.sock'); os.chmod(T+'/dgram.sock',0o777)
a=socket.socket(socket.AF_UNIX,socket.SOCK_DGRAM); a.bind('\0nb-attack-'+os.path.basename(T))
s=socket.socket(socket.AF_UNIX,socket.SOCK_STREAM); s.bind(T+'/stream.sock'); s.listen(5)
def rd(k,n):
    while True:
        m,anc,fl,ad=k.recvmsg(4096,4096)
        open(T+'/got','a').write(n+':'+m.decode()+' from %r fds %d\n'%(ad,len(anc)))
        if ad:
            try: k.sendto(b'reply: '+open(T+'/home/secret','rb').read(),ad)
            except Exception as e: open(T+'/got','a').write('reply failed %s\n'%e)
i=socket.socket(); i.bind(('127.0.0.1',0)); i.listen(5); open(T+'/port','w').write(str(i.getsockname()[1])); os.chmod(T+'/port',0o644)
for k,n in((d,'dgram'),(a,'abstract')): threading.Thread(target=rd,args=(k,n),daemon=True).start()
time.sleep(60)
P
python3 listener.py $T & L=$!
for wait in 1 2 3 4 5 6 7 8 9; do [ -s $T/port ] || sleep 0.2; done
cp $HERE/probe.py p.py || { echo "the program of this attack is gone"; verdict 1; }
cat > targets.nub <<N
let py = tool { names = "python3" }
target a = step { run = \`{py} {in "p.py"} $T {outfolder "d"} $(cat $T/port)\`, timeout = 60s }
N
python3 -c "import ctypes; ctypes.CDLL(None).syscall(248,b'user',b'nbattack',b'key-secret',10,-4)"
sleep 300 & V=$!; echo $V > $T/victim.pid
export NBSECRET=env-secret-value
# What is there already was made by nobody in the step.
there=$(ls -d /tmp/nbx /dev/shm/nbx 2>/dev/null)
sleep 0.3
$NB build >$T/log 2>&1; r=$?; sed 's/^/  /' $T/log | head -60; cat out/default/a/d/log 2>/dev/null | sed 's/^/  /'
[ -s $T/got ] && sed 's/^/  received outside: /' $T/got
grep -q ESCAPE out/default/a/d/log 2>/dev/null && v=1 || v=0
# It must have tried all of them.
[ "$(grep -c . out/default/a/d/log 2>/dev/null)" -gt 100 ] || { echo "  the program of this attack did not run to its end"; v=1; }
for made in /tmp/nbx /dev/shm/nbx; do case $there in *$made*) continue;; esac; [ ! -e $made ] || { echo "  ESCAPE $made was made outside"; rm -rf $made; v=1; }; done
kill -0 $V 2>/dev/null || echo "  the bystander was killed"
ls -l $T/home $T/victimfile 2>/dev/null | sed 's/^/  /'
python3 - <<'K'
import ctypes
l=ctypes.CDLL(None)
for n in (b'nbattack',b'nbleft'):
    k=l.syscall(250,10,-4,b'user',n,0)
    if k>0: l.syscall(250,3,k)
K
for i in $(ipcs -m | awk '$1=="0x00004e42"{print $2}'); do ipcrm -m $i; done; for i in $(ipcs -q | awk '$1=="0x00004e42"{print $2}'); do ipcrm -q $i; done
kill $L $V 2>/dev/null; wait 2>/dev/null; verdict $v
