# A result of the shared cache is taken though the machine is another one where it matters: where a link of the system leads (readlink, realpath), `[ -x ]`, `[ -s ]`, `[ -L ]`,
# sizes and permissions, kinds of what is in a folder, cd, what is read by /proc/self and /dev/fd or by a link that is pointed elsewhere, loaders. Two machines are two mount
# namespaces here with a /usr/local each (needs the superuser).
. "$(cd "$(dirname "$0")" && pwd)/lib"
cd $T; mkdir a; cd a; : > nubrik.toml
one() { XDG_CACHE_HOME=$T/ca XDG_STATE_HOME=$T/sa "$NB" "$@"; }
root=$(one shared create $T/team --root-key $T/root.key | grep -o 'ed25519:[^ "]*' | head -1); printf '[shared]\nat = "%s"\nroot_key = "%s"\n' $T/team "$root" > nubrik.toml
one shared new-key $T/ci.key | grep -o 'ed25519:[^ ]*' | head -1 > $T/ci.pub; one shared add ci $(cat $T/ci.pub) --root-key $T/root.key >/dev/null
echo 'target t = {each f in glob("steps/*.sh") give f.stem: step { run = `sh {f} > {out "o"}` }}' > targets.nub; mkdir steps; D=/usr/local/share/nbt
s() { printf '%s\n' "$2" > steps/$1.sh; }
s control-content "cat $D/conf"; s control-absent "[ -e $D/absent ] && echo there || echo not"; s control-listing "ls $D/dir"
s readlink "readlink $D/link"; s realpath "readlink -f $D/link"; s executable "[ -x $D/prog ] && echo x || echo not"; s empty "[ -s $D/sized ] && echo full || echo empty"
s is-a-link "[ -L $D/maybe ] && echo link || echo file"; s size "stat -c %s $D/sized"; s permissions "stat -c %a $D/prog"; s kinds "find $D/kinds -mindepth 1 -type d"
s cd "cd $D/folder 2>/dev/null && echo there || echo not"; s proc-self-cwd "cd $D; cat /proc/self/cwd/conf"; s dev-fd "exec 5< $D; cat /dev/fd/5/conf"
s link-that-changes "for f in x conf; do rm -f \$TMPDIR/l; ln -s $D/\$f \$TMPDIR/l; cat \$TMPDIR/l; done"; s dev-shm "ln -s $D/conf /dev/shm/l; cat /dev/shm/l"; s loader "$D/ldprog"
printf 'int puts(const char*); int main(void){puts("by the loader");return 0;}\n' > $T/m.c; gcc -o $T/ldprog $T/m.c -Wl,--dynamic-linker=$D/ld.so
echo 'static long c(long n,long a,long b,long d){long r;__asm__ volatile("syscall":"=a"(r):"a"(n),"D"(a),"S"(b),"d"(d):"rcx","r11","memory");return r;}
void _start(void){c(1,1,(long)"by another loader\n",18);c(60,0,0,0);}' > $T/state.c; gcc -static -nostdlib -o $T/other-ld $T/state.c
cat > $T/m1 <<S
mount -t tmpfs none /usr/local; mkdir -p $D/dir $D/kinds; cd $D; echo one > conf; echo x > x; echo 1 > sized; echo p > prog; chmod 755 prog; echo 1 > t1; echo 1 > t2; ln -s t1 link; echo 1 > maybe; touch dir/a kinds/a
cp $(readlink -f /lib64/ld-linux-x86-64.so.2) ld.so; cp $T/ldprog ldprog
S
cp $T/m1 $T/m2; echo 'echo two > conf; touch absent dir/b; ln -sfn t2 link; chmod 644 prog; : > sized; mv maybe m; ln -s m maybe; rm kinds/a; mkdir kinds/a folder; cp '$T'/other-ld ld.so' >> $T/m2
cat > $T/r1 <<S
. $T/m1; cd $T/a; XDG_CACHE_HOME=$T/ca XDG_STATE_HOME=$T/sa NUBRIK_SHARED_ROOT_KEY=$root NUBRIK_SHARED_KEY=$T/ci.key "$NB" build > $T/l1 2>&1; grep shared $T/l1
S
unshare -m bash $T/r1 || exit 2
cp -r $T/a $T/b; rm -rf $T/b/.nubrik $T/b/out; cp -r $T/b $T/f
cat > $T/r2 <<S
. $T/m2; cd $T/b; export XDG_CACHE_HOME=$T/cb XDG_STATE_HOME=$T/sb; "$NB" shared trust >/dev/null; "$NB" build > $T/l2 2>&1; grep shared $T/l2; cd $T/f; XDG_CACHE_HOME=$T/cf "$NB" build --no-shared-cache > $T/l3 2>&1
S
unshare -m bash $T/r2 || exit 2
for f in $T/a/steps/*.sh; do n=$(basename $f .sh); p() { find $T/$1/out/default/t/$n -type f ! -name .gitignore -exec cat {} + | tr '\n' ' '; }
  if [ "$(p b)" = "$(p f)" ]; then echo "right  $n: $(p b)"; else echo "WRONG  $n: taken from the cache: $(p b); made here: $(p f)"; bad=1; fi; done
end
