# An `observed` step that lists .nubrik/made (find, os.walk from the root), or another folder around its own one: names that appear
# there (made files that it reads now) are not noticed.
. "$(cd "$(dirname "$0")" && pwd)/lib"
mkdir src; echo 1 > src/n; echo 'find . -name "*.gen" -type f | sort; cat src/n' > t.sh
cat > targets.nub <<'N'
target a = write { path = "a.gen", text = "A" }
target b = write { path = "b.gen", text = "B" }
target t = step { run = `sh {in "t.sh"} > {out "o"}`, reads = ["src/n", a], observed = true }
N
both "reads a"; sed -i 's/"src\/n", a\]/"src\/n", a, b]/' targets.nub; grep -q 'a, b' targets.nub || exit 2; both "reads a and b"
rm -rf .nubrik out; touch src/u.x
cat > targets.nub <<'N'
let xs = glob("src/*.x", or_none = true)
target g = { "t": step { run = `sh {in "t.sh"} > {out "o"}`, reads = ["src/n", h], observed = true }, "u": write { path = "u.gen", text = "u" }, "v": write { path = "v.gen", text = "v" } }
let h = [each x in xs give if x.stem == "u" then g["u"] else g["v"]]
N
both "made files beside it in one map: one"; touch src/v.x; both "made files beside it in one map: two"
end
