"""Lists the public items of the library in api.txt, from the pages of `cargo doc`.

`cargo doc --no-deps -p jembric --all-features && python3 .ci/api.py` writes the list, and
`--check` compares it with the one in the repository: a change of the surface shows in its diff.
"""
import difflib
import html
import pathlib
import re
import sys

TAGS = re.compile(r"<[^>]+>")
# The sections of a page that only say which traits of other crates an item has.
OTHERS = re.compile(r'id="(trait-implementations|synthetic-implementations|blanket-implementations'
                    r'|implementors|foreign-impls)"')


def plain(text):
    return " ".join(html.unescape(TAGS.sub("", text)).replace("§", "").split())


def items(root):
    for page in sorted(root.rglob("*.html")):
        kind, _, name = page.stem.partition(".")
        if not name:
            continue
        parts = page.relative_to(root).parts[:-1]
        text = page.read_text()
        # Arrow's items are those of Arrow, and a page may only lead to another one.
        if parts[:1] == ("arrow",) or 'http-equiv="refresh"' in text:
            continue
        module = "::".join(parts)
        path = "::".join(part for part in ("jembric", module, name) if part)
        text = OTHERS.split(text)[0]
        declared = re.search(r'<pre class="rust item-decl"><code>(.*?)</code></pre>', text, re.S)
        if kind in ("fn", "constant", "type", "macro") and declared:
            yield f"{path}: {plain(declared.group(1))}"
            continue
        yield f"{kind} {path}"
        for variant in re.findall(r'<section id="variant\.(\w+)"', text):
            yield f"{path}::{variant}"
        for field in re.findall(r'id="structfield\.(\w+)"[^>]*>.*?<code>(.*?)</code>', text, re.S):
            yield f"{path}.{plain(field[1])}"
        for method in re.findall(r'<h4 class="code-header">(.*?)</h4>', text, re.S):
            yield f"{path}: {plain(method)}"


def main():
    repository = pathlib.Path(__file__).resolve().parent.parent
    given = [argument for argument in sys.argv[1:] if argument != "--check"]
    target = pathlib.Path(next(iter(given), repository / "target"))
    listed = "".join(f"{line}\n" for line in sorted(set(items(target / "doc" / "jembric"))))
    file = repository / "api.txt"
    if "--check" not in sys.argv:
        file.write_text(listed)
        return
    known = file.read_text()
    if known != listed:
        difference = difflib.unified_diff(known.splitlines(), listed.splitlines(), "api.txt", "now")
        sys.exit("\n".join(difference) + "\nthe public items have changed: run .ci/api.py")


main()
