# A source changes while two steps run that read it: the first one to end notices, and has the file looked at again; the second one then finds it as it was seen last, and its
# result is kept under the key of the contents before. When these come back, the wrong result does, too.
. "$(cd "$(dirname "$0")" && pwd)/lib"
for i in 1 2 3 4; do echo "target t$i = step { run = sh\`sleep 0.$((4 + 2 * i)); cat {in \"src\"} > {out \"o\"}\` }"; done > targets.nub
echo right > src; "$NB" build -k -j 4 > $T/l 2>&1 & sleep 0.3; echo wrong > src; wait
echo right > src; both "it is as it was before"
echo wrong > src; both "it is as it was in between"
end
