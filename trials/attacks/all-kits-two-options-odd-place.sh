# Packages of Go, Java, JavaScript, Python and documents cannot be made, tested or counted with two options set, in a folder with a blank, a comma, a
# quote, `=`, `;`, `%` and `@`.
. "$(cd "$(dirname "$0")" && pwd)/lib"
odd="$T/ws/@it's a,b=c;d %e"; mkdir -p "$odd"; mv nubrik.toml "$odd"; cd "$odd"
try() { # $1 = package, then options
  local package=$1; shift
  { "$NB" build "$@" "$package" && "$NB" test "$@" "$package"; } > $T/log 2>&1 || { echo "$package with $*:"; tail -n 40 $T/log; bad=1; }
}
has() { for tool in "$@"; do command -v "$tool" > /dev/null || { echo "skipped: there is no $tool"; return 1; }; done; }

mkdir go java js py doc
cat > go/targets.nub <<'N'
use "nub:go" as go
use "nub:c" as c
target gauge = c.library { sources = "gauge.c", headers = "gauge.h" }
target tides = go.library { path = "tides", root = "tides", needs_c = gauge, sources = "tides/**/*.go", assets = "tides/a b.csv" }
target show = go.program { package = "tides/show", module = tides, flags = ["-X=main.version=1.2"] }
test unit = go.tests { package = "tides", module = tides }
N
mkdir -p go/tides/show
echo 'int gauge(void);' > go/gauge.h; echo 'int gauge(void) { return 7; }' > go/gauge.c; echo 7 > 'go/tides/a b.csv'
cat > go/tides/tides.go <<'N'
package tides

// #include "gauge.h"
import "C"
import _ "embed"

//go:embed "a b.csv"
var Table string

func High() int { return int(C.gauge()) }
N
printf 'package tides\n\nimport "testing"\n\nfunc TestHigh(t *testing.T) {\n\tif High() != 7 || Table != "7\\n" {\n\t\tt.Fatal(High(), Table)\n\t}\n}\n' > go/tides/tides_test.go
printf 'package main\n\nimport "tides"\n\nvar version string\n\nfunc main() { println(tides.High(), version) }\n' > go/tides/show/main.go

cat > java/targets.nub <<'N'
use "nub:java" as java
target board = java.library { sources = "main/**/*.java", resource_folder = "resources" }
target show = java.program { main = "isles.Board", needs = board }
test unit = java.tests { sources = "test/**/*.java", classes = "test/**/*Test.java", root = "test", needs = board, junit = java.installed_junit }
N
mkdir -p 'java/main/is les' java/test/isles java/resources/isles; echo Skerrin > 'java/resources/isles/a b.txt'
cat > 'java/main/is les/Board.java' <<'N'
package isles;

public class Board {
    public static String name() throws Exception {
        return new String(Board.class.getResourceAsStream("/isles/a b.txt").readAllBytes()).trim();
    }

    public static void main(String[] a) throws Exception { System.out.println(name()); }
}
N
cat > java/test/isles/BoardTest.java <<'N'
package isles;

import static org.junit.jupiter.api.Assertions.assertEquals;

class BoardTest {
    @org.junit.jupiter.api.Test
    void named() throws Exception { assertEquals("Skerrin", Board.name()); }
}
N
cat > js/targets.nub <<'N'
use "nub:js" as js
target page = js.library { name = "@skerrin/page", root = "src", sources = "src/*.mjs", manifest = "package.json" }
target show = js.program { main = "@skerrin/page/page.mjs", needs = page }
test shown = js.tests { sources = "tests/*.test.mjs", needs = page }
N
mkdir js/src js/tests; echo '{"name": "@skerrin/page", "version": "1.0.0", "type": "module", "exports": "./page.mjs"}' > js/package.json
echo 'export const high = () => 7;' > js/src/page.mjs
printf "import test from 'node:test';\nimport assert from 'node:assert';\nimport { high } from '@skerrin/page';\ntest('high', () => assert.equal(high(), 7));\n" > js/tests/page.test.mjs

cat > py/targets.nub <<'N'
use "nub:python" as py
target isles = py.package { name = "isles", version = "1.2", root = "src", sources = "src/isles/*.py", scripts = { "isles": "isles.main:run" } }
test unit = py.tests { sources = "tests/test_*.py", needs = isles }
N
mkdir -p py/src/isles py/tests; touch py/src/isles/__init__.py; printf 'def run():\n    print(7)\n    return 0\n' > py/src/isles/main.py
printf 'from isles.main import run\n\ndef test_run():\n    assert run() == 0\n' > py/tests/test_run.py

cat > doc/targets.nub <<'N'
use "nub:documents" as documents
target tides = documents.document { main = "tides.tex", sources = "chapters/*.tex" }
target guide = documents.page { source = "guide.md", title = "Reading & writing" }
target manual = documents.man_page { source = "tidecast.1", to = "pdf" }
target printed = documents.merged { parts = [tides.pdf, manual.files.first] }
N
mkdir doc/chapters; echo 'Springs.' > doc/chapters/moon.tex; printf '\\documentclass{article}\n\\begin{document}\n\\input{chapters/moon}\n\\end{document}\n' > doc/tides.tex
echo '# Tides' > doc/guide.md; printf '.TH TIDECAST 1\n.SH NAME\ntidecast \\- prints tides\n' > doc/tidecast.1

for sandboxes in on off; do
  export NUBRIK_SANDBOX=$sandboxes; [ $sandboxes = on ] && unset NUBRIK_SANDBOX
  has go && { try go; try go --set go.coverage=true --set go.tags=a,b; try go --set go.coverage=true --set c.tuning=release --set c.coverage=true; }
  [ -e /usr/share/java/junit-platform-launcher.jar ] && has javac unzip zip && { try java; try java --set java.coverage=true --set java.coverage_tool=installed; }
  has node && { try js; try js --set js.coverage=true --set c.tuning=debug; }
  # Without sandboxes pytest may not list the folder of the tests, and finds none.
  [ $sandboxes = on ] && PATH=/usr/bin:/bin python3 -c 'import pytest, coverage' 2> /dev/null && has python3 && { export PATH=/usr/bin:/bin; try py; try py --set python.coverage=true --set c.tuning=debug; }
  has pdflatex cmark groff qpdf && { try doc; try doc --set documents.engine=lualatex --set c.tuning=debug; }
done
find .nubrik/made -type d -name '*[,=:;%" ]*' | grep . && { echo "odd names are left"; bad=1; }
end
