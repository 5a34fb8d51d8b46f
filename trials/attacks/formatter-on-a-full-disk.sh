# `nubrik fmt` on a full disk: the definitions are written in place; what is left of them? And through a link.
. "$(cd "$(dirname "$0")" && pwd)/lib"
v=0; mkdir $T/s; cat > $T/in.sh <<S
mount -t tmpfs -o size=64k none $T/s; cd $T/s; touch nubrik.toml; python3 -c "
print('\n'.join('let   a%d=[%s]'%(i,','.join(str(j) for j in range(30))) for i in range(200)))" > targets.nub; ls -l targets.nub | awk '{print "  before: " \$5 " bytes"}'; dd if=/dev/zero of=fill bs=1k count=64 2>/dev/null; $NB fmt > $T/l 2>&1; echo "  fmt: exit \$?: \$(head -1 $T/l)"; ls -l targets.nub | awk '{print "  after: " \$5 " bytes"}'; stat -c %s targets.nub > $T/size
S
unshare -m bash $T/in.sh; [ $(cat $T/size) -lt 10000 ] && v=1
echo 'let   a=1' > $T/outside.nub; ln -s $T/outside.nub x.nub; $NB fmt >$T/l 2>&1; echo "  a linked file outside of the workspace: $(cat $T/outside.nub)"; verdict $v
