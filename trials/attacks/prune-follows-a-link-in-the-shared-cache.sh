# Who may write to the folder of a shared cache (not to the machines that use it) puts a link in the place of `nubrik1/jobs`: the daily `nubrik shared prune` of the machine that writes
# removes all files below where it leads that are older than a week. ("write access to the store's place: delete and fill it, read what is in it, withhold heads".) What is written follows
# links of folders as well.
. "$(cd "$(dirname "$0")" && pwd)/lib"
cd $T; mkdir a; cd a; : > nubrik.toml; ci() { XDG_CACHE_HOME=$T/ca XDG_STATE_HOME=$T/sa "$NB" "$@"; }
root=$(ci shared create $T/team --root-key $T/root.key | grep -o 'ed25519:[^ "]*' | head -1); printf '[shared]\nat = "%s"\nroot_key = "%s"\n' $T/team "$root" > nubrik.toml
ci shared new-key $T/ci.key | grep -o 'ed25519:[^ ]*' | head -1 > $T/ci.pub; ci shared add ci $(cat $T/ci.pub) --root-key $T/root.key >/dev/null
echo 'target t = step { run = sh`echo hi > {out "o"}` }' > targets.nub
export NUBRIK_SHARED_ROOT_KEY=$root NUBRIK_SHARED_KEY=$T/ci.key; ci build > $T/l 2>&1; grep shared $T/l
mkdir -p $T/home/thesis/old; echo precious > $T/home/thesis/old/chapter; echo precious > $T/home/notes; find $T/home -type f -exec touch -d '20 days ago' {} +
find $T/team -maxdepth 2 | sed "s#$T/##" | tr '\n' ' '; echo
rm -rf $T/team/nubrik1/jobs; ln -s $T/home $T/team/nubrik1/jobs
ci shared prune > $T/l 2>&1; echo "nubrik shared prune: exit $?: $(tail -2 $T/l | tr '\n' ' ')"
n=$(find $T/home -type f | wc -l); echo "of 2 old files in the person's home $n are left"; [ $n = 2 ] || bad=1
rm $T/team/nubrik1/jobs; mkdir $T/home2; for d in $T/team/nubrik1/*/; do d=${d%/}; mv $d $T/moved-$(basename $d); cp -r $T/moved-$(basename $d) $T/home2/$(basename $d); ln -s $T/home2/$(basename $d) $d; done; b=$(find $T/home2 -type f | wc -l)
echo 'target u = step { run = sh`echo ho > {out "o"}` }' >> targets.nub; ci build > $T/l 2>&1; a=$(find $T/home2 -type f | wc -l); echo "a build wrote $((a-b)) files to where links of folders lead"
end
