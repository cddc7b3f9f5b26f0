"""Lists lines of more than 100 columns in Rust and in the documents.

What a test expects word for word (the inside of a raw or multi-line string) may be wider, because
a line of output cannot be broken.
"""

import re
import subprocess
import sys

LIMIT = 100
STRING = re.compile(r'(?<![A-Za-z0-9_])b?r(#*)"|"|//|\'(?:\\\\.[^\']*|[^\\\\\'])\'')


def inside_strings(text):
    """The numbers of the lines that begin inside a string."""
    lines, at = set(), 0
    while found := STRING.search(text, at):
        start, token = found.start(), found.group(0)
        if token == "//":
            at = text.find("\n", start)
            if at < 0:
                break
            continue
        if token.startswith("'"):
            at = found.end()
            continue
        if token.endswith('"') and "r" in token:
            end = text.index('"' + found.group(1), found.end())
        else:
            end = found.end()
            while text[end] != '"':
                end += 2 if text[end] == "\\" else 1
        first = text.count("\n", 0, start) + 1
        lines.update(range(first + 1, first + text.count("\n", start, end) + 1))
        at = end + 1
    return lines


def main():
    files = subprocess.check_output(["git", "ls-files", "*.rs", "*.md"], text=True).split()
    wide = []
    for file in files:
        if "/cookbook/" in file:
            continue
        with open(file, encoding="utf-8") as source:
            text = source.read()
        is_test = file.endswith("tests.rs") or "/tests/" in file
        expected = inside_strings(text) if is_test else set()
        for number, line in enumerate(text.split("\n"), 1):
            if len(line) > LIMIT and number not in expected:
                wide.append(f"{file}:{number}: {len(line)} columns")
    print("\n".join(wide))
    sys.exit(1 if wide else 0)


main()
