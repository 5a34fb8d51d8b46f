# Not the superuser: a step that leaves a read-only or closed folder (package caches do that in HOME) can never run again, and `clean` cannot help.
. "$(cd "$(dirname "$0")" && pwd)/lib"
v=0; chmod 755 $HERE $SCRATCH
cat > targets.nub <<'N'
target a = step { run = `sh {in "a.sh"} {outfolder "d"}` }
target b = step { run = `sh {in "b.sh"} {out "o"}` }
target c = step { run = `sh {in "c.sh"} {outfolder "e"}` }
N
echo 'mkdir -p $1/x; echo 1 > $1/x/f; chmod 555 $1/x' > a.sh
echo 'mkdir -p $HOME/cache/m; echo 1 > $HOME/cache/m/f; chmod 555 $HOME/cache/m; echo 1 > $1' > b.sh
echo 'mkdir -p $1/x; echo 1 > $1/x/f; chmod 000 $1/x' > c.sh
chown -R 12345:12345 $T; U="setpriv --reuid 12345 --regid 12345 --clear-groups env HOME=$T XDG_CACHE_HOME=$XDG_CACHE_HOME"
$U $NB build -k >$T/l 2>&1; sed 's/^/  first: /' $T/l | grep -e ran -e failed -e cannot | cut -c1-170
for f in a b c; do echo 'echo new' > $f.sh; case $f in b) echo 'echo 2 > $1' >> b.sh;; *) echo 'echo 2 > $1/n' >> $f.sh;; esac; done
$U $NB build -k >$T/l 2>&1; r=$?; sed 's/^/  after mending the scripts: /' $T/l | grep -e 'ran  ' -e failed -e annot | cut -c1-210; [ $r = 0 ] || v=1
$U $NB clean >$T/l 2>&1; echo "  clean: exit $? $(head -2 $T/l | tr '\n' ' ' | cut -c1-150)"; $U $NB build -k >$T/l 2>&1; echo "  build after clean: exit $? $(grep -m1 failed $T/l | cut -c1-150)"
ls -d /dev/shm/nubrik-12345-* 2>/dev/null | while read d; do echo "  left in memory: $(find $d -type f | wc -l) files"; chmod -R u+w $d; rm -rf $d; done
verdict $v
