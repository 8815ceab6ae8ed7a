"""Take the pictures of this folder anew, from the demo data; run with ``make screenshots``."""

import subprocess
import sys
import tempfile
from pathlib import Path

from matplotlib.figure import Figure

from barn_owl.files import whole_file

HERE = Path(__file__).parent
LINES = 40


def terminal_picture(command: str, text: str, path: Path) -> None:
    """Draw the last lines that a command said, as a terminal shows them."""
    lines = [f"$ {command}", *text.rstrip().splitlines()]
    if len(lines) > LINES:
        lines = [lines[0], "...", *lines[2 - LINES :]]
    figure = Figure(figsize=(12.8, 8.0), dpi=100, facecolor="#16202b")
    style = {"family": "DejaVu Sans Mono", "fontsize": 10.5, "color": "#fdf6e6", "va": "top", "parse_math": False}
    figure.text(0.012, 0.985, "\n".join(lines), linespacing=1.28, **style)
    with whole_file(path) as beside:
        figure.savefig(beside)


def said_by(*arguments: str, folder: Path) -> str:
    script = "from barn_owl.cli.main import main; main()"
    done = subprocess.run(  # noqa: S603 - our own command line
        [sys.executable, "-c", script, *arguments], cwd=folder, capture_output=True, text=True, check=True
    )
    return done.stdout


def main() -> None:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        terminal_picture("make demo", said_by("demo", folder=folder), HERE / "demo.png")
        quay = folder / "saltmarsh-quay"
        for source, target in (
            (quay / "night.png", "night.png"),
            (quay / "run/figures/confusion.png", "confusion.png"),
        ):
            (HERE / target).write_bytes(source.read_bytes())


if __name__ == "__main__":
    main()
