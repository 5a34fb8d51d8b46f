# Results of targets that are gone stay in out/ for ever once .nubrik (or its state) was lost or damaged; with the state they are removed.
. "$(cd "$(dirname "$0")" && pwd)/lib"
printf 'target a = write { path = "a", text = "1" }\ntarget b = write { path = "b", text = "1" }\n' > targets.nub
$NB build >$T/log 2>&1; rm -rf .nubrik; sed -i '/target b/d' targets.nub; $NB build >$T/log 2>&1; $NB build >$T/log 2>&1
echo "  out has: $(ls out/default | tr '\n' ' ')"; [ -e out/default/b ] && verdict 1 || verdict 0
