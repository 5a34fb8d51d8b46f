# Archives: names that lead out, links, bombs.
. "$(cd "$(dirname "$0")" && pwd)/lib"
v=0
python3 - <<'P'
import tarfile,io,zipfile,struct,gzip
def tar(name,items):
    t=tarfile.open(name,'w')
    for i in items:
        ti=tarfile.TarInfo(i[0]); ti.type=i[1]; 
        if i[1]==tarfile.REGTYPE: ti.size=len(i[2]); t.addfile(ti,io.BytesIO(i[2]))
        else: ti.linkname=i[2]; t.addfile(ti)
    t.close()
R,S,L,D=tarfile.REGTYPE,tarfile.SYMTYPE,tarfile.LNKTYPE,tarfile.DIRTYPE
tar('dots.tar',[('../../../../escaped',R,b'x')])
tar('abs.tar',[('$SCRATCH/escaped-abs',R,b'x')])
tar('link.tar',[('d',S,'$SCRATCH'),('d/escaped-link',R,b'x')])
tar('link2.tar',[('d',S,'..'),('d/escaped-link2',R,b'x')])
tar('hard.tar',[('h',L,'/etc/hostname')])
tar('sym.tar',[('h',S,'/etc/hostname')])
tar('symrel.tar',[('h',S,'../../../../../nubrik.toml')])
tar('ok.tar',[('a',R,b'1'),('l',S,'a'),('k',L,'a')])
tar('over.tar',[('a',R,b'1'),('b',R,b'2'),('b',S,'a')])
tar('twice.tar',[('a',R,b'1'),('a',R,b'2')])
tar('fifo.tar',[('p',tarfile.FIFOTYPE,'')])
tar('dev.tar',[('p',tarfile.CHRTYPE,'')])
tar('filedir.tar',[('a',R,b'1'),('a/b',R,b'2')])
tar('nul.tar',[('a\0b',R,b'1')])
tar('loop.tar',[('a',S,'b'),('b',S,'a')])
tar('self.tar',[('a',R,b'data'),('a',S,'a')])
tar('dotn.tar',[('.nubrik/x',R,b'1'),('./././y',R,b'2')])
tar('nonutf.tar',[('n\udcff',R,b'1'),('a',R,b'1')])
z=zipfile.ZipFile('dots.zip','w'); z.writestr('../../../../escaped-zip','x'); z.close()
z=zipfile.ZipFile('back.zip','w'); z.writestr('..\\..\\escaped-zip','x'); z.close()
z=zipfile.ZipFile('abs.zip','w'); z.writestr('$SCRATCH/escaped-zip','x'); z.close()
z=zipfile.ZipFile('sym.zip','w'); zi=zipfile.ZipInfo('l'); zi.external_attr=0o120777<<16; z.writestr(zi,'/etc/hostname'); z.close()
P
for a in dots.tar abs.tar link.tar link2.tar hard.tar sym.tar symrel.tar ok.tar over.tar twice.tar fifo.tar dev.tar filedir.tar nul.tar loop.tar self.tar dotn.tar nonutf.tar dots.zip back.zip abs.zip sym.zip; do
 rm -rf .nubrik out; echo "target u = unpack { archive = \"$a\", path = \"d\" }" > targets.nub
 timeout 20 $NB build >$T/log 2>&1; r=$?; echo "  $a: exit $r: $(head -1 $T/log | cut -c30-150) $(find out -path '*/d/*' 2>/dev/null | sed 's/.*\/d\///' | tr '\n' ' ')"
 [ $r = 101 -o $r = 134 -o $r = 124 ] && v=1
done
ls -d $T/*escaped* $SCRATCH/escaped* ../escaped* 2>/dev/null && v=1
verdict $v
