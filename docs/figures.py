"""Write the figures of `figures.toml` into all pages that quote them.

usage: python docs/figures.py [--check]

A text of `figures.toml` stands for its page's text with the measured values in place of the names in braces. After a
new measurement, change the value and run this; `--check` only reports pages that differ.
"""

import re
import sys
import tomllib
from pathlib import Path
from typing import Any

ROOT = Path(__file__).parents[1]
NUMBER = r"[-+]?\d[\d.,]*"
"""A value in a page: a number, also with a sign or thousands."""


def differing(*, write: bool = False) -> list[str]:
    """Return what the pages say otherwise than the file, ``page: text``; correct it with `write`.

    Raises ValueError when a page has no such text.
    """
    content = tomllib.loads((ROOT / "docs/figures.toml").read_text("utf-8"))
    found = []
    for page, texts in content["pages"].items():
        path = ROOT / page
        before = after = path.read_text("utf-8")
        for text in texts:
            parts = re.split(r"{([\w.]+)}", text)
            pattern = "".join(re.escape(part) if n % 2 == 0 else NUMBER for n, part in enumerate(parts))
            wanted = "".join(part if n % 2 == 0 else value_of(part, content) for n, part in enumerate(parts))
            matches = re.findall(pattern, after)
            if not matches:
                raise ValueError(f"{page} has no text like: {text}")
            found += [f"{page}: {match}, measured: {wanted}" for match in matches if match != wanted]
            after = re.sub(pattern, lambda _: wanted, after)  # noqa: B023 - called at once
        if write and after != before:
            path.write_text(after, "utf-8")
    return found


def value_of(name: str, content: dict[str, Any]) -> str:
    """Return a figure by its dotted name."""
    value: Any = content
    for key in name.split("."):
        value = value[key]
    return str(value)


def main() -> int:
    """Correct the pages, or report what differs."""
    check = "--check" in sys.argv[1:]
    lines = differing(write=not check)
    print("\n".join(lines) or "all pages agree")
    return int(check and bool(lines))


if __name__ == "__main__":
    raise SystemExit(main())
