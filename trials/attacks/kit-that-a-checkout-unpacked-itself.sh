# `nubrik.toml` names a kit in an archive with its digest. A stranger's archive of sources holds `.nubrik/kits` as well: other files under that name, with a note of their own digest.
# They are used, and the archive with the right digest is never looked at ("used only if the archive has the digest in nubrik.toml, and its unpacked files are as they were").
. "$(cd "$(dirname "$0")" && pwd)/lib"
mkdir k; echo 'let v = "honest"' > k/charts.nub; tar -czf kit.tar.gz k/charts.nub; d=$(sha256sum kit.tar.gz | cut -d' ' -f1); rm -r k
printf '[kits.harbour]\nurl = "kit.tar.gz"\ndigest = "sha256:%s"\nstrip = 1\n' $d > nubrik.toml
echo 'use "harbour:charts" as charts
target t = write { path = "o", text = charts.v }' > targets.nub
"$NB" build > $T/l 2>&1 || { cat $T/l; exit 2; }; f() { find out/default -type f ! -name .gitignore -exec cat {} +; }
echo "honest: $(f)"; find .nubrik/kits -type f
# The stranger makes a kit of their own in the same way, and puts its files and note in the place of the other.
n=$(basename $(ls -d .nubrik/kits/harbour-*/)); mkdir $T/state; cd $T/state; mkdir k; echo 'let v = "evil"' > k/charts.nub; tar -czf kit.tar.gz k/charts.nub; e=$(sha256sum kit.tar.gz | cut -d' ' -f1)
printf '[kits.harbour]\nurl = "kit.tar.gz"\ndigest = "sha256:%s"\nstrip = 1\n' $e > nubrik.toml; cp $T/ws/targets.nub .; XDG_CACHE_HOME=$T/sc "$NB" build > $T/l 2>&1; m=$(basename $(ls -d .nubrik/kits/harbour-*/))
mkdir $T/v; cd $T/v; cp $T/ws/nubrik.toml $T/ws/targets.nub $T/ws/kit.tar.gz .; mkdir -p .nubrik/kits; cp -r $T/state/.nubrik/kits/$m .nubrik/kits/$n; cp $T/state/.nubrik/kits/$m.digest .nubrik/kits/$n.digest
export XDG_CACHE_HOME=$T/vc XDG_STATE_HOME=$T/vs; "$NB" build > $T/l 2>&1; echo "a checkout with .nubrik/kits, the same nubrik.toml and archive: exit $?, $(f)"; [ "$(f)" = honest ] || bad=1
end
