# A tar with a link to itself empties the file before it, or replaces it without a word.
. "$(cd "$(dirname "$0")" && pwd)/lib"
python3 - <<'P'
import tarfile,io
t=tarfile.open('s.tar','w'); ti=tarfile.TarInfo('a'); ti.size=4; t.addfile(ti,io.BytesIO(b'data')); l=tarfile.TarInfo('a'); l.type=tarfile.SYMTYPE; l.linkname='a'; t.addfile(l); t.close()
P
echo 'target u = unpack { archive = "s.tar", path = "d" }' > targets.nub; $NB build >$T/l 2>&1; r=$?
f=$(find out -name a -type f); echo "  exit $r: $(head -1 $T/l); 4 bytes were packed, '$(cat $f /dev/null)' is there"
{ [ $r = 1 ] && [ -z "$f" ] && grep -q "the link a" $T/l; } || [ -s "${f:-/nothing}" ] && verdict 0 || verdict 1
