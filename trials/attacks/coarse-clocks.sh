# Wrong result for ever on a file system whose times tick in seconds (128-byte inodes, FAT, some network file systems): an edit of the same size within the same second, more than 20 ms after the last, is never noticed.
. "$(cd "$(dirname "$0")" && pwd)/lib"
truncate -s 64M $T/img; mkdir $T/mnt
cat > $T/in.sh <<S
if mkfs.ext4 -q -I 128 $T/img 2>/dev/null && mount -o loop $T/img $T/mnt 2>/dev/null; then k="ext4, 128-byte inodes"; elif mkfs.vfat $T/img >/dev/null 2>&1 && mount -o loop $T/img $T/mnt; then k=vfat; else echo "  no loop mount here"; exit; fi
cd $T/mnt; touch nubrik.toml; echo 'target t = step { run = \`cp {in "a"} {out "o"}\` }' > targets.nub; echo AAAA > a; sleep 1.1; $NB build >/dev/null 2>&1
# at the beginning of a second
python3 -c "import time; time.sleep(1-time.time()%1+0.02)"
echo BBBB > a; sleep 0.1; $NB build >$T/l 2>&1; echo CCCC > a; b=\$(cat out/default/t/o); sleep 2; $NB build >$T/l 2>&1; $NB build >$T/l 2>&1; c=\$(cat out/default/t/o); echo "  \$k: a holds \$(cat a), result \$c (\$(head -1 $T/l))"; [ \$c = CCCC ] || touch $T/bad; cd /; umount $T/mnt
S
unshare -m bash $T/in.sh; [ -e $T/bad ] && verdict 1 || verdict 0
