# Archive bombs: a 1 KB archive fills the disk, and what it wrote stays there after the failure.
. "$(cd "$(dirname "$0")" && pwd)/lib"
mkdir $T/small; cat > $T/in.sh <<S
mount -t tmpfs -o size=300m none $T/small; cd $T/small; touch nubrik.toml; export XDG_CACHE_HOME=$T/small/c
python3 - <<'P'
import tarfile,struct,gzip,io
# GNU sparse: one entry that claims 1 TiB of nothing
h=bytearray(512); h[0:1]=b'a'; h[100:107]=b'0000644'; h[108:115]=b'0000000'; h[116:123]=b'0000000'
h[124:136]=b'00000000000\0'; h[136:148]=b'00000000000\0'; h[156:157]=b'S'; h[257:265]=b'ustar  \0'
def num(n): return b'\x80'+n.to_bytes(11,'big')
h[386:398]=num(1<<40); h[398:410]=num(0)
h[483:495]=num(1<<40)
h[148:156]=b'        '; s=sum(h); h[148:156]=b'%06o\0 '%s
open('sparse.tar','wb').write(bytes(h)+bytes(1024))
z=io.BytesIO(); g=gzip.GzipFile(fileobj=z,mode='wb')
ti=tarfile.TarInfo('z'); ti.size=3<<30; g.write(ti.tobuf())
for _ in range(3<<10): g.write(bytes(1<<20))
g.close(); open('bomb.tar.gz','wb').write(z.getvalue())
P
ls -l sparse.tar bomb.tar.gz | awk '{print "  " \$5, \$9}'
for a in sparse.tar bomb.tar.gz; do echo "target u = unpack { archive = \"\$a\", path = \"d\" }" > targets.nub
timeout 60 $NB build > $T/log 2>&1; echo "  \$a: exit \$?: \$(head -2 $T/log | tr '\n' ' ')"; df -h $T/small | tail -1 | sed 's/^/  afterwards: /'; du -sh .nubrik | sed 's/^/    /'
timeout 60 $NB list > $T/log 2>&1; echo "  list afterwards: exit \$?: \$(head -1 $T/log)"
rm -rf .nubrik out; done
S
unshare -m bash $T/in.sh | tee $T/o; grep -q '100%' $T/o && verdict 1 || verdict 0
