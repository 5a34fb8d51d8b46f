# `list/test/build --since REV` "skips what no change since a revision of git can affect": it skips targets that did change: files moved to another
# folder (git names only where they went), ignore files, a new package below, links, new files in submodules and repositories inside, numbers of files.
. "$(cd "$(dirname "$0")" && pwd)/lib"
export HOME=$T; git config --global user.email a@b; git config --global user.name a; git config --global init.defaultBranch main; git config --global protocol.file.allow always
new() { cd $T; rm -rf $T/ws; mkdir $T/ws; cd $T/ws; git init -q .; : > nubrik.toml; printf '/.nubrik\n/out\n' > .gitignore; }
com() { git add -A >/dev/null 2>&1; git commit -qm x; }
say() { # what, package (or -), target [revision]: is the target listed?
  o=$("$NB" --json list --since ${3:-HEAD} 2>&1); if echo "$o" | grep -q "\"target\":\"$2\""; then echo "listed   $1"; else echo "SKIPPED  $1"; bad=1; fi; }
g='step { run = `cat {glob("*.x", or_none = true)} /dev/null > {out "o"}` }'
new; mkdir p q; echo "target t = $g" > p/targets.nub; echo "target u = $g" > q/targets.nub; echo a > p/a.x; echo b > p/b.x; com
echo a2 > p/a.x; say "control: an edited file" p/t; git checkout -q .
rm p/b.x; say "control: a deleted file" p/t; git checkout -q .
echo b.x > p/.gitignore; say "a new .gitignore hides a file" p/t; rm p/.gitignore
echo b.x >> .gitignore; say "an edited .gitignore hides a file" p/t; git checkout -q .
git mv p/b.x q/b.x; say "a file moved away to another package" p/t; git commit -qm mv; say "the same, committed" p/t HEAD~1
new; mkdir -p p/sub; echo "target t = ${g/\"*.x/\"**/*.x}" > p/targets.nub; sed -i 's#glob("[^"]*"#glob("**/*.x"#' p/targets.nub; echo a > p/a.x; echo b > p/sub/b.x; com
echo 'target s = write { path = "s", text = "s" }' > p/sub/targets.nub; say "a new package below takes files away" p/t
git init -q $T/lib 2>/dev/null; (cd $T/lib; echo one > l.x; git add -A; git commit -qm 1) >/dev/null
new; git submodule -q add $T/lib ext 2>/dev/null; echo 'target t = step { run = `cat {glob("ext/*.x")} > {out "o"}` }' > targets.nub; com
echo two > ext/l.x; say "control: an edited file in a submodule" t; (cd ext; git checkout -q .); echo new > ext/n.x; say "a new file in a submodule" t
new; echo 'target t = step { run = `cat {glob("ext/*.x", or_none = true)} /dev/null > {out "o"}` }' > targets.nub; com; git init -q ext; echo one > ext/l.x; say "a new file in a repository inside" t
new; mkdir v1 v2; echo 1 > v1/a.x; echo 2 > v2/a.x; ln -s v1/a.x l.x; ln -s v1 cur; echo 'target t = step { run = `cat {in "l.x"} > {out "o"}` }
target u = step { run = `cat {in "cur/a.x"} > {out "o"}` }' > targets.nub; com
echo 3 > v1/a.x; say "what a link leads to is edited" t; say "a file behind a linked folder is edited" u; git checkout -q .; ln -sfn v2 cur; say "a link to a folder leads elsewhere" u
new; mkdir d; echo 1 > d/x; echo 'target t = write { path = "o", text = "{glob("d/*").len}" }' > targets.nub; com; echo 1 > d/y; say "one file more where only their number counts" t
new; echo 1 > rev; echo 'let s = sample { run = `cat rev` }
target t = write { path = "o", text = s.text }' > targets.nub; com; echo 2 > rev; say "a file of the workspace that a sample reads" t
end
