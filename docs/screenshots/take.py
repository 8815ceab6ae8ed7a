"""Take the pictures of this folder anew, from the demo data; run with ``make screenshots``."""

import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

from matplotlib.figure import Figure
from playwright.sync_api import sync_playwright

from barn_owl.audio import read_audio, write_audio
from barn_owl.files import whole_file

HERE = Path(__file__).parent
LINES, WIDTH = 40, 138
PICTURES = {
    "saltmarsh-quay/night.png": "night.png",
    "clip.png": "clip.png",
    "overview.png": "overview.png",
    "look/gallery.png": "gallery.png",
    "ranking/distributions.png": "distributions.png",
    "check.png": "check.png",
    "cuts.png": "cuts.png",
    "adjust.png": "adjust.png",
    "hours.png": "hours.png",
    "score.png": "score.png",
    "saltmarsh-quay/run/figures/curves.png": "curves.png",
    "saltmarsh-quay/run/figures/rehearsal.png": "rehearsal.png",
    "small/shrink.png": "shrink.png",
    "found/search.png": "search.png",
}


def terminal_picture(command: str, text: str, path: Path) -> None:
    """Draw the last lines that a command said, as a terminal shows them."""
    lines = [f"$ {command}"]
    for line in text.rstrip().splitlines():  # a terminal goes on in the next line
        lines += [line[first : first + WIDTH] for first in range(0, max(len(line), 1), WIDTH)]
    if len(lines) > LINES:
        lines = [lines[0], "...", *lines[2 - LINES :]]
    figure = Figure(figsize=(12.8, 8.0), dpi=100, facecolor="#16202b")
    style = {"family": "DejaVu Sans Mono", "fontsize": 10.5, "color": "#fdf6e6", "va": "top", "parse_math": False}
    figure.text(0.012, 0.985, "\n".join(lines), linespacing=1.28, **style)
    with whole_file(path) as beside:
        figure.savefig(beside)


def said_by(*arguments: str, folder: Path, code: int = 0) -> str:
    script = "from barn_owl.cli.main import main; main()"
    done = subprocess.run(  # noqa: S603 - our own command line
        [sys.executable, "-c", script, *arguments], cwd=folder, capture_output=True, text=True, check=False
    )
    if done.returncode != code:
        raise RuntimeError(done.stderr)
    return done.stdout


def page_picture(page: Path, path: Path, place: str = "") -> None:
    """Take a picture of a page as it opens, or at one of its headings."""
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=shutil.which("chromium"), args=["--no-sandbox"])
        opened = browser.new_page(viewport={"width": 1280, "height": 800})
        opened.goto(page.as_uri())
        if place:
            opened.evaluate(f"document.querySelector('{place}').scrollIntoView()")
        opened.screenshot(path=path)
        browser.close()


def main() -> None:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        terminal_picture("make demo", said_by("demo", folder=folder), HERE / "demo.png")
        clip = "saltmarsh-quay/clips/foghorn/crane_002.wav"
        said_by("look", clip, "-o", "clip.png", folder=folder)
        said_by("look", "saltmarsh-quay/night.flac", "-o", "overview.png", folder=folder)
        said_by("look", "saltmarsh-quay/clips.csv", "-o", "look", folder=folder)
        rank = ("features", "saltmarsh-quay/clips.csv", "--features", "mfcc,shape,level", "-o", "features.csv")
        rank += ("--rank", "ranking.csv", "--figures", "ranking")
        said_by(*rank, folder=folder)
        check = ("check", "saltmarsh-quay/clips.csv", "--figure", "check.png")
        said_by(*check, folder=folder, code=1)  # the demo has errors on purpose
        plan = ("plan", "saltmarsh-quay/clips.csv", "-o", "plan.toml")
        terminal_picture(f"barn-owl {' '.join(plan)}", said_by(*plan, folder=folder), HERE / "plan.png")
        (folder / "demo.toml").write_text('background = ["water"]\n')
        families = ("--run", "families", "--family", "all", "--plan", "demo.toml")
        said_by("train", "saltmarsh-quay/clips.csv", *families, folder=folder)
        knocks = ("--microphone", "simulated:hull-knock", "--speed", "1000", "--count-down", "0", "--keep-all")
        said_by(
            "record", "takes", "--label", "hull-knock", "--takes", "1", "--length-s", "80", *knocks, folder=folder
        )
        takes = "takes/hull-knock/hull-knock_0001.wav"
        said_by("cut", takes, "--gap-s", "0.4", "-o", "knocks.csv", "--figure", "cuts.png", folder=folder)
        page_picture(folder / "saltmarsh-quay/run/report.html", HERE / "report.png")
        page_picture(folder / "saltmarsh-quay/run/report.html", HERE / "report-mistakes.png", "#mistakes")
        runs = [f"families/{family}" for family in ("cnn", "mlp", "trees", "nearest")]
        said_by("compare", *runs, "-o", "comparison.html", folder=folder)
        page_picture(folder / "comparison.html", HERE / "compare.png")
        said_by("demo", "another", "--clips", "12", "--minutes", "15", "--seed", "1", folder=folder)
        adjust = ("adjust", "saltmarsh-quay/run", "another/truth.csv", "--figure", "adjust.png")
        said_by(*adjust, folder=folder)
        (folder / "archive").mkdir()
        for night, first_hour in (("saltmarsh-quay", 19), ("another", 0)):
            for part in range(5):
                samples, rate_hz = read_audio(
                    folder / night / "night.flac", start_s=120 * part, end_s=120 * part + 120
                )
                write_audio(folder / "archive" / f"quay_20260314_{first_hour + part:02d}1500.wav", samples, rate_hz)
        said_by("tag", "saltmarsh-quay/run", "archive", "-o", "all.csv", "--hours", "hours.png", folder=folder)
        said_by("tag", "saltmarsh-quay/run", "saltmarsh-quay/night.flac", "-o", "events.csv", folder=folder)
        score = ("score", "events.csv", "saltmarsh-quay/truth.csv", "--figure", "score.png")
        said_by(*score, folder=folder)
        said_by("shrink", "saltmarsh-quay/run", "--share", "0.33", "--int8", "--run", "small", folder=folder)
        search = ("search", "saltmarsh-quay/clips.csv", "--device", "core-256k", "--minutes", "7", "--run", "found")
        said_by(*search, folder=folder)
        for source, target in PICTURES.items():
            (HERE / target).write_bytes((folder / source).read_bytes())


if __name__ == "__main__":
    main()
