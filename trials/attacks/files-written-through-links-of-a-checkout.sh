# `nubrik fmt`, `adopt`, `init` and `pins` write a file by way of `.NAME.new` beside it, which is opened by its name and followed: where a
# stranger's checkout has a link of that name, any file of the user is overwritten with text of the stranger. Text of a definition can be a command of a shell.
. "$(cd "$(dirname "$0")" && pwd)/lib"
home() { rm -rf $T/home; mkdir $T/home; echo 'precious' > $T/home/.bashrc; }
look() { if [ "$(cat $T/home/.bashrc)" = precious ]; then echo "untouched  $1"; else echo "OVERWRITTEN by $1: ~/.bashrc is now: $(head -2 $T/home/.bashrc | tr '\n' '|')"; bad=1; fi; }
home; ln -s $T/home/.bashrc .targets.nub.new; printf 'let  a = "$(touch '$T'/pwned)"\n' > targets.nub; "$NB" fmt >$T/l 2>&1; look "nubrik fmt"
bash --norc -c '. '$T/home/.bashrc 2>/dev/null; [ -e $T/pwned ] && echo "           and the next shell runs what stands there"
rm -rf * .[a-z]*; home; : > nubrik.toml; ln -s $T/home/.bashrc .targets.nub.new; echo 'int main(void){return 0;}' > main.c; "$NB" adopt --yes >$T/l 2>&1; look "nubrik adopt --yes"
rm -rf * .[a-z]*; home; : > nubrik.toml; ln -s $T/home/.bashrc .targets.nub.new; printf 'use "nub:c" as c\ntarget p = c.program { sources = ["a.c"] }\n' > targets.nub; echo 'int main(void){return 0;}' > a.c; echo 'int f(void){return 0;}' > b.c; "$NB" adopt --update --yes >$T/l 2>&1; look "nubrik adopt --update --yes"
rm -rf * .[a-z]*; home; ln -s $T/home/.bashrc .targets.nub.new;  ln -s $T/home/.bashrc .nubrik.toml.new; "$NB" init >$T/l 2>&1; look "nubrik init"
rm -rf * .[a-z]*; home; ln -s $T/home/.bashrc .pins.toml.new; : > nubrik.toml; mkdir -p $T/index/stones; python3 - $T/index/stones <<'P'
import sys,zipfile,os,hashlib
d=sys.argv[1]; n='stones-1.0-py3-none-any.whl'; z=zipfile.ZipFile(d+'/'+n,'w'); z.writestr('stones/__init__.py',''); z.writestr('stones-1.0.dist-info/METADATA','Metadata-Version: 2.1\nName: stones\nVersion: 1.0\n'); z.writestr('stones-1.0.dist-info/WHEEL','Wheel-Version: 1.0\nTag: py3-none-any\n'); z.close()
h=hashlib.sha256(open(d+'/'+n,'rb').read()).hexdigest(); open(d+'/index.html','w').write(f'<a href="{n}#sha256={h}">{n}</a>')
P
(cd $T/index && exec python3 -m http.server 0 --bind 127.0.0.1 > $T/port 2>&1) & s=$!; for i in $(seq 50); do grep -q port $T/port && break; sleep .1; done; P=$(sed -n 's/.*port \([0-9]*\).*/\1/p' $T/port)
printf '[origins]\npython = "http://127.0.0.1:%s/"\n' $P > nubrik.toml; timeout 60 "$NB" pins add python stones >$T/l 2>&1; look "nubrik pins add ($(tail -1 $T/l | cut -c1-80))"; kill $s; wait $s 2>/dev/null
end
