# A foreign checkout with links: `out`, `.nubrik`, `.nubrik/made`, `.nubrik/tmp`, `.nubrik/serve/*.log` point elsewhere: what does a plain `nubrik build` (or `list`, `clean`) overwrite or delete outside of the workspace?
. "$(cd "$(dirname "$0")" && pwd)/lib"
v=0
fresh() { rm -rf $T/ws $T/home; mkdir -p $T/ws $T/home/Documents $T/home/base/a; cd $T/ws; touch nubrik.toml; echo precious > $T/home/Documents/thesis; echo precious > $T/home/base/a/keep; echo precious > $T/home/base/t; echo precious > $T/home/.bashrc; printf 'target t = write { path = "t", text = "evil\\n" }\ntarget a = stage { "x": "nubrik.toml" }\n' > targets.nub; find $T/home -type f -exec sha1sum {} + | sort > $T/before; }
after() { find $T/home -type f -exec sha1sum {} + | sort > $T/after; d=$(diff $T/before $T/after | grep '^[<]' | awk '{print $3}' | sed "s#$T/##" | tr '\n' ' '); n=$(diff $T/before $T/after | grep '^>' | wc -l); if [ -n "$d" ]; then echo "  $1: destroyed or changed: $d"; v=1; else echo "  $1: nothing destroyed ($n new files outside)"; fi; }
fresh; ln -s $T/home out; $NB build >$T/log 2>&1; after "out -> home, build"
fresh; mkdir out; ln -s $T/home/base out/default; $NB build >$T/log 2>&1; after "out/default -> home/base, build"
fresh; ln -s $T/home out; $NB clean >$T/log 2>&1; after "out -> home, clean"
fresh; ln -s $T/home .nubrik; $NB build >$T/log 2>&1; after ".nubrik -> home, build"
fresh; ln -s $T/home .nubrik; $NB clean >$T/log 2>&1; after ".nubrik -> home, clean"; 
fresh; mkdir -p .nubrik; mkdir -p $T/home/Documents/@t; echo precious > $T/home/Documents/@t/x;  find $T/home -type f -exec sha1sum {} + | sort > $T/before; ln -s $T/home .nubrik/made; sed -i 's/target t /target t2 /' targets.nub; mkdir Documents; echo 'target t = write { path = "t", text = "e" }' > Documents/targets.nub; rm -rf Documents; mkdir x; $NB build >$T/log 2>&1;  after ".nubrik/made -> home, build"
fresh; mkdir -p .nubrik/made $T/home/t/@t; echo precious > $T/home/t/@t/x; find $T/home -type f -exec sha1sum {} + | sort > $T/before; ln -s $T/home/t .nubrik/made/t; $NB build >$T/log 2>&1; after ".nubrik/made/t -> home/t, build"
fresh; mkdir -p .nubrik; ln -s $T/home/.bashrc .nubrik/state.new; ln -s $T/home/.bashrc .nubrik/tools.new;  $NB build >$T/log 2>&1; after ".nubrik/state.new, tools.new -> ~/.bashrc, build"
fresh; mkdir -p .nubrik; ln -s $T/home/.bashrc .nubrik/lock; $NB build >$T/log 2>&1; after ".nubrik/lock -> ~/.bashrc, build"
fresh; mkdir -p .nubrik; ln -s $T/home/.bashrc .nubrik/state.log; $NB build >$T/log 2>&1; sed -i s/evil/evil2/ targets.nub; $NB build >$T/log 2>&1;  after ".nubrik/state.log -> ~/.bashrc, build"
fresh; mkdir -p .nubrik/history; ln -s $T/home/.bashrc .nubrik/history/1.json; $NB build >$T/log 2>&1; after ".nubrik/history/1.json -> ~/.bashrc, build"
fresh; mkdir -p .nubrik; mkdir $T/home/tmpx; ln -s $T/home/Documents .nubrik/tmp; $NB list >$T/log 2>&1; $NB build >$T/log 2>&1; after ".nubrik/tmp -> home/Documents, build"
fresh; mkdir -p .nubrik/serve; echo "1 1" > .nubrik/serve/x.claim; ln -s $T/home .nubrik/serve/x; $NB list >$T/log 2>&1; after ".nubrik/serve/x.claim with x -> home, list"
fresh; mkdir -p .nubrik; ln -s $T/home/Documents .nubrik/seals; $NB build >$T/log 2>&1; after ".nubrik/seals -> Documents (seal files are pruned by age), build"
for i in $(seq 1 30); do echo x > $T/home/Documents/old$i; done; find $T/home -type f -exec sha1sum {} + | sort > $T/before; sed -i s/evil/evil3/ targets.nub; $NB build >$T/log 2>&1; after "  the same with 30 files without ending there"
fresh; mkdir -p .nubrik; mkdir $T/home/n; for i in $(seq 1 150); do echo x > $T/home/n/$i.jpg; done; find $T/home -type f -exec sha1sum {} + | sort > $T/before; ln -s $T/home/n .nubrik/history; $NB build >$T/log 2>&1; after ".nubrik/history -> folder with 150 numbered photographs, build"
verdict $v
