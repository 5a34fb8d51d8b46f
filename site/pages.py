"""Makes pages of converted documents, and checks each link between them.

    pages.py OUTPUT STYLE MORE-STYLE SEARCH DOCUMENT=BODY...

DOCUMENT is the path of a document in the repository without its ending, BODY a file with its HTML. Links to other files of the
repository, which are not on the pages, become text.
"""

import collections
import html
import html.parser
import json
import os
import posixpath
import re
import shutil
import sys

output, style, more_style, search, *pairs = sys.argv[1:]
bodies = {}
for pair in pairs:
    document, _, path = pair.partition("=")
    with open(path, encoding="utf-8") as file:
        bodies[document] = file.read()

SCREENSHOTS = "docs/screenshots"
NAMES = {"README": "Start", "ARCHITECTURE": "Architecture", "CHANGELOG": "Changes", "docs/ci": "CI", "editors/README": "Editors"}
FIRST = ["README", "docs/concepts", "docs/commands", "docs/handbook", "docs/language", "docs/kits", "docs/reference"]
ORDER = [*FIRST, *sorted(document for document in bodies if document not in FIRST)]


def name_of(document):
    return NAMES.get(document, document.rsplit("/", 1)[-1].capitalize())


def address_of(document):
    return "index.html" if document == "README" else f"{document}.html"


def anchor(text, used):
    """The name of a heading, as links in Markdown have it."""
    base = re.sub(r"[^\w\- ]", "", text.strip().lower()).replace(" ", "-")
    used[base] += 1
    return base if used[base] == 1 else f"{base}-{used[base] - 1}"


def text_of(markup):
    return html.unescape(re.sub(r"<[^>]*>", "", markup))


class Text(html.parser.HTMLParser):
    def __init__(self):
        super().__init__()
        self.parts = []

    def handle_data(self, data):
        self.parts.append(data)


def plain(markup):
    parser = Text()
    parser.feed(markup)
    return " ".join("".join(parser.parts).split())


# Names of headings first: links lead to them from all pages.
headings, anchors = {}, {}
for document, body in bodies.items():
    used, found = collections.Counter(), []

    def named(match):
        level, inner = match.groups()
        place = anchor(text_of(inner), used)
        found.append((int(level), place, text_of(inner)))
        return f'<h{level} id="{place}">{inner} <a class="here" href="#{place}" aria-label="Link to this section">#</a></h{level}>'

    bodies[document] = re.sub(r"<h([1-6])>(.*?)</h\1>", named, body, flags=re.S)
    headings[document], anchors[document] = found, {place for _, place, _ in found}

broken, pictures = [], set()


def link(document, match):
    target, inner = html.unescape(match.group(1)), match.group(2)
    if re.match(r"[a-z]+:", target):
        return match.group(0)
    path, _, place = target.partition("#")
    path = posixpath.normpath(posixpath.join(posixpath.dirname(document), path)) if path else f"{document}.md"
    other = path.removesuffix(".md")
    if path.endswith(".md") and other in bodies:
        if place and place not in anchors[other]:
            broken.append(f"{document}.md: {target}: there is no such heading")
        to = posixpath.relpath(address_of(other), posixpath.dirname(address_of(document)) or ".")
        return f'<a href="{html.escape(to + ("#" + place if place else ""))}">{inner}</a>'
    if path.startswith(SCREENSHOTS + "/"):
        pictures.add(path)
        to = posixpath.relpath(path, posixpath.dirname(address_of(document)) or ".")
        return f'<a href="{html.escape(to)}">{inner}</a>'
    if path.endswith(".md"):
        broken.append(f"{document}.md: {target}: there is no page of it")
    # What is not on the pages is in the repository.
    return inner


def picture(document, match):
    path = posixpath.normpath(posixpath.join(posixpath.dirname(document), html.unescape(match.group(1))))
    pictures.add(path)
    to = posixpath.relpath(path, posixpath.dirname(address_of(document)) or ".")
    return f'<img loading="lazy" src="{html.escape(to)}"'


def contents(document):
    rows, open_list = [], False
    for level, place, title in headings[document]:
        if level not in (2, 3):
            continue
        if level == 3 and not open_list:
            rows.append("<li><ul>")
            open_list = True
        if level == 2 and open_list:
            rows.append("</ul></li>")
            open_list = False
        rows.append(f'<li><a href="#{place}">{html.escape(title)}</a></li>')
    if open_list:
        rows.append("</ul></li>")
    return f"<ul>{''.join(rows)}</ul>"


def page(document):
    top = "../" * address_of(document).count("/")
    body = re.sub(r'<a href="([^"]*)">(.*?)</a>', lambda match: link(document, match), bodies[document], flags=re.S)
    body = re.sub(r'<img src="([^"]*)"', lambda match: picture(document, match), body)
    body = body.replace("<table>", '<div class="scroll"><table>').replace("</table>", "</table></div>")
    body = body.replace("<!-- raw HTML omitted -->\n", "")
    mark = lambda other: ' aria-current="page"' if other == document else ""
    pages = "".join(
        f'<a href="{top}{address_of(other)}"{mark(other)}>{html.escape(name_of(other))}</a>' for other in ORDER
    )
    return f"""<!doctype html>
<html lang="en" data-top="{top}">
<head>
<meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
<title>{html.escape(name_of(document))} – Nubrik</title>
<link rel="stylesheet" href="{top}look.css">
</head>
<body>
<a class="skip" href="#main">To the text</a>
<header>
<a class="home" href="{top}index.html">Nubrik</a>
<nav aria-label="Documents">{pages}</nav>
<div class="search"><input id="search" type="search" placeholder="Search ( / )" aria-label="Search in all documents" aria-controls="found" autocomplete="off"><div id="found" role="listbox" aria-label="Sections" hidden></div></div>
</header>
<div class="page">
<nav class="contents" aria-label="This page"><details open><summary>On this page</summary>{contents(document)}</details></nav>
<main id="main" tabindex="-1">
{body}
</main>
</div>
<script src="{top}sections.js"></script>
<script src="{top}search.js"></script>
</body>
</html>
"""


def sections():
    """Each section: its title, its address, its page, its text."""
    rows = []
    for document in ORDER:
        parts = re.split(r'<h[1-6] id="([^"]*)">(.*?)</h[1-6]>', bodies[document], flags=re.S)
        for place, title, text in zip(parts[1::3], parts[2::3], parts[3::3]):
            title = text_of(title).removesuffix(" #").strip()
            rows.append([title, f"{address_of(document)}#{place}", name_of(document), plain(text)])
    return rows


os.makedirs(output, exist_ok=True)
for document in bodies:
    path = os.path.join(output, address_of(document))
    os.makedirs(os.path.dirname(path), exist_ok=True)
    text = page(document)
    with open(path, "w", encoding="utf-8") as file:
        file.write(text)
for path in sorted(pictures):
    if not os.path.exists(path):
        broken.append(f"{path}: there is no such picture")
        continue
    os.makedirs(os.path.join(output, posixpath.dirname(path)), exist_ok=True)
    shutil.copyfile(path, os.path.join(output, path))
with open(os.path.join(output, "look.css"), "w", encoding="utf-8") as file:
    for part in (style, more_style):
        with open(part, encoding="utf-8") as source:
            file.write(source.read())
shutil.copyfile(search, os.path.join(output, "search.js"))
with open(os.path.join(output, "sections.js"), "w", encoding="utf-8") as file:
    file.write(f"const SECTIONS = {json.dumps(sections(), ensure_ascii=False)};\n")
if broken:
    sys.exit("\n".join(broken))
