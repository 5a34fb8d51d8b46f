# The packs of a shared cache are gone (a rule of the storage removed what is old, a backup came back without them). Heads and segments are there, so results are known and none can be had:
# who builds is not told, the machine that has the results never gives them again, and `why --shared` says that the system is another one.
. "$(cd "$(dirname "$0")" && pwd)/lib"
as() { local w=$1; shift; mkdir -p "$T/h/$w"; HOME=$T/h/$w XDG_CACHE_HOME=$T/h/$w/c XDG_STATE_HOME=$T/h/$w/s XDG_CONFIG_HOME=$T/h/$w/f "$NB" "$@"; }
cd $T; mkdir ci; root=$(as root shared create $T/team --root-key $T/root.key | grep -o 'ed25519:[^ "]*' | head -1); printf '[shared]\nat = "%s"\nroot_key = "%s"\n' $T/team "$root" > ci/nubrik.toml
as root shared new-key $T/ci.key | grep -o 'ed25519:[^ ]*' | head -1 > $T/ci.pub; (cd ci; as root shared add ci $(cat $T/ci.pub) --root-key $T/root.key > /dev/null)
echo 'target t = {each n in ["high", "low", "slack"] give n: step { say = n, run = sh`cat {in "tides.txt"}; echo {n} > {out "o"}` }}' > ci/targets.nub; echo 06:12 > ci/tides.txt
export NUBRIK_SHARED_ROOT_KEY=$root; for w in reader later; do cp -r ci $w; done
give() { (cd ci; NUBRIK_SHARED_KEY=$T/ci.key as ci build > $T/l 2>&1; grep '^shared' $T/l); }
give; find team -path '*/packs/*' -type f -delete
(cd reader; as reader build > $T/l 2>&1); grep -q '^shared.*3 that could not be had' $T/l || { echo "the reader is told nothing: $(cat $T/l)"; bad=1; }
(cd reader; as reader why --shared t > $T/l 2>&1); grep -q 'is not on this machine' $T/l && ! grep -q 'another one here' $T/l || { echo "why says: $(cat $T/l)"; bad=1; }
give > $T/l2; grep -q '3 results uploaded' $T/l2 || { echo "who has the results gives nothing: $(cat $T/l2)"; bad=1; }
(cd later; as later build > $T/l 2>&1); grep -q '^shared *3 results taken' $T/l || { echo "a later reader takes nothing: $(cat $T/l)"; bad=1; }
end
